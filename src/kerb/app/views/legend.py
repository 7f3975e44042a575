"""The legend on the view, which is the control: drag its ends to set limits, double-click to fit what is in view."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFocusEvent,
    QFontMetrics,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
)
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from kerb.app.theme import Theme, font
from kerb.core.cloud.classes import class_words
from kerb.core.quantity import number, symbol, telling_apart
from kerb.draw.ramps import ROUND, SEQUENTIAL, SIGNED, band_table, class_table, table_between
from kerb.draw.scene import CLAMP, FADE, HIDE, Style

WIDTH, HEIGHT = 112, 216
BAR = QRectF(14, 34, 18, 164)
REACH = 9
HEAD = 28
MOST_ENTRIES = 22
BEYOND = ((CLAMP, "Clamp values outside"), (FADE, "Fade values outside"), (HIDE, "Hide values outside"))
MOST_BANDS = 11


class Legend(QWidget):
    """Ramp, limits and unit of what colours the cloud; a list of classes where classes do."""

    limits_changed = Signal(float, float)
    fit_wanted = Signal()
    style_wanted = Signal(dict)
    value_toggled = Signal(int)
    fold_changed = Signal()

    def __init__(self, theme: Theme, parent: QWidget, name: str = "Legend") -> None:
        super().__init__(parent)
        self.theme = theme
        self.style_ = Style()
        self.title, self.unit = "Elevation", "m"
        self.span = (0.0, 1.0)
        self.limits = (0.0, 1.0)
        self.entries: list[tuple[int, str, tuple[int, int, int]]] = []
        self.off: set[int] = set()
        self._dragged: int | None = None
        self._row = 0
        # Folded it shows its title only; None until the analyst chose: then the room decides.
        self.folded: bool | None = None
        self._room = True
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.resize(WIDTH, HEIGHT)
        self.setMouseTracking(True)
        self.setToolTip(
            "Click the title to fold it. Drag an end to set a limit, double-click to fit what is in view, right-click for ramps, "
            "bands and for values "
            "outside the limits; in a list, click a value to hide it or show it again"
        )
        self.setAccessibleName(name)

    def show_ramp(
        self, style: Style, title: str, unit: str, span: tuple[float, float], limits: tuple[float, float]
    ) -> None:
        """Show a ramp over the data's span with limits in it."""
        self.entries = []
        self.style_, self.title, self.unit, self.limits = style, title, unit, limits
        room = 0.08 * max(span[1] - span[0], limits[1] - limits[0], 1e-9)
        self.span = (min(span[0], limits[0]) - room, max(span[1], limits[1]) + room)
        self._fit()
        self.setVisible(True)
        self.update()

    def show_classes(self, codes: list[int], off: set[int]) -> None:
        """Show the classes that are there; those in ``off`` are hidden in the view."""
        colours = class_table()
        entries = [(c, class_words(c), tuple(int(v) for v in colours[c])) for c in codes]
        self.show_values("Class", entries, off)

    def show_values(self, title: str, entries: list[tuple[int, str, tuple]], off: set[int]) -> None:
        """Show values with their names and colours; a click on one hides it in the view or shows it again."""
        self.entries, self.off = entries[:MOST_ENTRIES], off
        self.title, self.unit = title, ""
        self._fit()
        self.setVisible(bool(entries))
        self.update()

    def show_room(self, enough: bool) -> None:
        """Say whether there is room for all of it; where there is not it folds, unless the analyst unfolds it."""
        self._room = enough
        self._fit()

    @property
    def is_folded(self) -> bool:
        """Whether it shows its title only."""
        return not self._room if self.folded is None else self.folded

    def _fit(self) -> None:
        wide, high = (WIDTH + 82, 38 + 18 * len(self.entries)) if self.entries else (WIDTH, HEIGHT)
        text = QFontMetrics(font(11, font(11).Weight.DemiBold)).horizontalAdvance(self.title)
        wide = max(wide, min(text + QFontMetrics(font(11)).horizontalAdvance(symbol(self.unit)) + 46, WIDTH + 82))
        self.resize(wide, HEAD if self.is_folded else high)
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self.theme.accent if self.hasFocus() else self.theme.hair), 1))
        back = QColor(self.theme.sheet)
        back.setAlpha(235)
        painter.setBrush(back)
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 7, 7)
        painter.setPen(QColor(self.theme.ink))
        painter.setFont(font(11, font(11).Weight.DemiBold))
        metrics = painter.fontMetrics()
        unit = metrics.horizontalAdvance(symbol(self.unit))
        title = metrics.elidedText(self.title, Qt.TextElideMode.ElideRight, self.width() - 42 - unit)
        painter.drawText(QPointF(12, 20), title)
        shift = metrics.horizontalAdvance(title) + 17
        painter.setFont(font(11))
        painter.setPen(QColor(self.theme.quiet))
        painter.drawText(QPointF(shift, 20), symbol(self.unit))
        painter.drawText(QPointF(self.width() - 20, 20), "▸" if self.is_folded else "▾")
        if self.is_folded:
            return
        if self.entries:
            self._paint_entries(painter)
        else:
            self._paint_ramp(painter)

    def _paint_entries(self, painter: QPainter) -> None:
        for row, (code, words, colour) in enumerate(self.entries):
            y = 32 + row * 18
            on = code not in self.off
            painter.setPen(Qt.PenStyle.NoPen if on else QPen(QColor(*colour), 1))
            painter.setBrush(QColor(*colour) if on else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(12, y, 11, 11), 2, 2)
            painter.setPen(QColor(self.theme.ink if on else self.theme.quiet))
            shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideMiddle, self.width() - 40)
            painter.drawText(QPointF(30, y + 10), shown)
            if self.hasFocus() and row == self._row:
                painter.setPen(QPen(QColor(self.theme.accent), 1, Qt.PenStyle.DotLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(8, y - 3, self.width() - 16, 17))

    def _paint_ramp(self, painter: QPainter) -> None:
        colours = np.ascontiguousarray(table_between(self.style_.ramp, *map(float, self.limits))[::-1])
        image = QImage(colours.data, 1, len(colours), 3, QImage.Format.Format_RGB888)
        top, bottom = self._y(self.limits[1]), self._y(self.limits[0])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.theme.wash))
        painter.drawRect(BAR)
        if self.style_.bands:
            self._paint_bands(painter)
            return
        painter.drawImage(QRectF(BAR.x(), top, BAR.width(), max(bottom - top, 1)), image)
        painter.setPen(QPen(QColor(self.theme.ink), 2))
        for value in self.limits:
            y = self._y(value)
            painter.drawLine(QPointF(BAR.left() - 5, y), QPointF(BAR.right() + 5, y))
        painter.setFont(font(11))
        for value in (*self.limits, *self._between()):
            strong = value in self.limits
            painter.setPen(QColor(self.theme.ink if strong else self.theme.quiet))
            painter.drawText(QPointF(BAR.right() + 11, self._y(value) + 4), self._words(value))

    def _paint_bands(self, painter: QPainter) -> None:
        """Even blocks, one for each band, with the edges between them: bands may be of very unequal width."""
        edges = self.style_.bands
        colours = band_table(self.style_.ramp, len(edges) + 1)
        high = BAR.height() / len(colours)
        painter.setFont(font(11))
        for place, colour in enumerate(colours.tolist()):
            top = BAR.bottom() - (place + 1) * high
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(*colour))
            painter.drawRect(QRectF(BAR.x(), top, BAR.width(), high - 1))
            if place < len(edges):
                painter.setPen(QColor(self.theme.ink))
                painter.drawText(QPointF(BAR.right() + 11, top + 4), f"{edges[place]:.4g}".replace("-", "\u2212"))

    def _ask_bands(self) -> None:
        words = f"Edges between bands, rising, with blanks between them ({symbol(self.unit)})"
        now = " ".join(f"{edge:g}" for edge in self.style_.bands)
        text, accepted = QInputDialog.getText(self, "Bands", words, text=now)
        if accepted:
            self.set_bands(text)

    def set_bands(self, text: str) -> None:
        """Colour by bands between typed edges; by the ramp where nothing is typed. What is no rising row is not taken."""
        try:
            edges = tuple(float(part.replace(",", ".")) for part in text.replace(";", " ").split())
        except ValueError:
            return
        rising = all(one < other for one, other in pairwise(edges))
        if rising and len(edges) <= MOST_BANDS and all(np.isfinite(edges)):
            self.style_wanted.emit({"bands": edges})

    def _between(self) -> list[float]:
        """Up to two values between the limits, where there is room for them."""
        if self._y(self.limits[0]) - self._y(self.limits[1]) < 70:
            return []
        low, high = self.limits
        shares = (0.25, 0.5, 0.75) if self.style_.ramp == ROUND else (1 / 3, 2 / 3)
        return [low + (high - low) * share for share in shares]

    def _words(self, value: float) -> str:
        """A value beside the ramp; directions are named."""
        if self.style_.ramp == ROUND:
            return f"{value:.0f} {'NESW'[round(value / 90.0) % 4]}"
        span = self.limits[1] - self.limits[0]
        return number(value, max(2 if span < 100 else 0, telling_apart(span / 3)))

    def _y(self, value: float) -> float:
        low, high = self.span
        return BAR.bottom() - (value - low) / (high - low) * BAR.height()

    def _value(self, y: float) -> float:
        low, high = self.span
        return low + (BAR.bottom() - y) / BAR.height() * (high - low)

    def _end_at(self, y: float) -> int | None:
        if self.entries or self.style_.bands or self.style_.ramp == ROUND:
            return None
        away = [abs(self._y(value) - y) for value in self.limits]
        nearest = int(np.argmin(away))
        return nearest if away[nearest] <= REACH else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and event.position().y() < HEAD:
            self.folded = not self.is_folded
            self._fit()
            self.fold_changed.emit()
        elif self.is_folded:
            if event.button() == Qt.MouseButton.RightButton:
                self._menu(event.globalPosition().toPoint())
        elif event.button() == Qt.MouseButton.LeftButton and self.entries:
            row = int((event.position().y() - 28) // 18)
            if 0 <= row < len(self.entries):
                self.value_toggled.emit(self.entries[row][0])
        elif event.button() == Qt.MouseButton.LeftButton:
            self._dragged = self._end_at(event.position().y())
        elif event.button() == Qt.MouseButton.RightButton:
            self._menu(event.globalPosition().toPoint())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged is None and self.is_folded:
            return
        if self._dragged is None:
            near = self._end_at(event.position().y()) is not None
            self.setCursor(Qt.CursorShape.SizeVerCursor if near else Qt.CursorShape.ArrowCursor)
            return
        y = min(max(event.position().y(), BAR.top()), BAR.bottom())
        limits = list(self.limits)
        least = 0.01 * (self.span[1] - self.span[0])
        value = self._value(y)
        if self._dragged == 0:
            limits[0] = min(value, limits[1] - least)
        else:
            limits[1] = max(value, limits[0] + least)
        self.limits = (limits[0], limits[1])
        self.limits_changed.emit(*self.limits)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragged = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if not self.entries and not self.is_folded and event.position().y() >= HEAD:
            self.fit_wanted.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """In a list arrows choose a value and Space hides it; Enter asks for the limits of a ramp."""
        key = event.key()
        if self.entries and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._row = (self._row + (1 if key == Qt.Key.Key_Down else -1)) % len(self.entries)
            self.update()
        elif self.entries and key in (Qt.Key.Key_Space, Qt.Key.Key_Return):
            self.value_toggled.emit(self.entries[min(self._row, len(self.entries) - 1)][0])
        elif not self.entries and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.ask_limits()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.update()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """The menu key, or Shift+F10; the mouse opens its menu itself."""
        if event.reason() == QContextMenuEvent.Reason.Keyboard:
            self._menu(self.mapToGlobal(self.rect().center()))

    def ask_limits(self) -> None:
        """Ask for both limits as typed numbers."""
        words = f"Lowest and highest value, with a blank between them ({symbol(self.unit)}); empty: from what is there"
        now = " ".join(f"{value:.6g}" for value in self.limits)
        text, accepted = QInputDialog.getText(self, "Limits", words, text=now)
        if accepted:
            self.set_limits(text)

    def set_limits(self, text: str) -> None:
        """Take typed limits; none where nothing is typed. What is no rising pair of numbers is not taken."""
        try:
            values = [float(part.replace(",", ".")) for part in text.replace(";", " ").split()]
        except ValueError:
            return
        if not values:
            self.style_wanted.emit({"low": None, "high": None})
        elif len(values) == 2 and values[0] < values[1] and all(np.isfinite(values)):
            self.style_wanted.emit({"low": values[0], "high": values[1]})

    def _menu(self, place: QPoint) -> None:
        menu = QMenu(self)
        if not self.entries:
            menu.addAction("Limits…", self.ask_limits)
            menu.addAction("Fit to what is in view", self.fit_wanted.emit)
            menu.addSeparator()
        for name in (*SEQUENTIAL, SIGNED):
            action = menu.addAction(f"Ramp {name}", lambda n=name: self.style_wanted.emit({"ramp": n}))
            action.setCheckable(True)
            action.setChecked(name == self.style_.ramp)
        menu.addSeparator()
        menu.addAction("Bands…", self._ask_bands)
        if self.style_.bands:
            menu.addAction("No bands", lambda: self.style_wanted.emit({"bands": ()}))
        menu.addSeparator()
        for code, words in BEYOND:
            action = menu.addAction(words, lambda c=code: self.style_wanted.emit({"beyond": c}))
            action.setCheckable(True)
            action.setChecked(code == self.style_.beyond)
        menu.popup(place)
