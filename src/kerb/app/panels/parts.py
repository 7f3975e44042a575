"""Rows for the parts of a cloud, under its row in the list of holdings."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter
from PySide6.QtWidgets import QMenu

from kerb.app.icons import pixmap
from kerb.app.panels.row import Row
from kerb.app.theme import Theme, font
from kerb.app.widgets import plain
from kerb.core.quantity import count
from kerb.job.state import Holding, Part

HEIGHT = 26


class PartRow(Row):
    """Eye, colour, name and number of points. A click selects the points, on the eye hides or shows them."""

    action_wanted = Signal(str)

    def __init__(self, theme: Theme, holding: Holding, part: Part) -> None:
        super().__init__(theme)
        self.setFixedHeight(HEIGHT)
        key = f"{holding.id}|{part.number}"
        self.show_part(holding, part)
        self.mark_clicked.connect(lambda: self.action_wanted.emit(f"toggle_part:{key}"))
        self.clicked.connect(lambda: self.action_wanted.emit(f"select_part:{key}"))
        self.menu_wanted.connect(self._menu)

    def show_part(self, holding: Holding, part: Part) -> None:
        """Show the part as it is now."""
        self.holding, self.part = holding, part
        self.mark = "shown" if part.shown else "hidden"
        words = f"Part {part.name}: a click selects its points, the eye hides or shows them, right-click for more"
        self.setToolTip(plain(words))
        self.setAccessibleName(f"Part {part.name}, {part.count} points, {'shown' if part.shown else 'hidden'}")
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.RightButton:
            self.menu_wanted.emit(event.globalPosition().toPoint())
        elif event.position().x() < 56:
            self.mark_clicked.emit()
        else:
            self.clicked.emit()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        if self._over or self.hasFocus():
            painter.fillRect(self.rect(), QColor(t.wash))
        painter.drawPixmap(QPointF(34, 5), pixmap(self.mark, t.quiet, 16, max(1, round(self.devicePixelRatioF()))))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.part.ink))
        painter.drawRoundedRect(QRectF(57, 8, 10, 10), 2, 2)
        painter.setFont(font(11))
        number = count(self.part.count)
        wide = painter.fontMetrics().horizontalAdvance(number)
        painter.setPen(QColor(t.quiet))
        painter.drawText(QRectF(self.width() - wide - 12, 0, wide, HEIGHT), Qt.AlignmentFlag.AlignVCenter, number)
        painter.setFont(font(12))
        painter.setPen(QColor(t.ink if self.part.shown else t.quiet))
        room = self.width() - 74 - wide - 18
        text = painter.fontMetrics().elidedText(self.part.name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(74, 0, room, HEIGHT), Qt.AlignmentFlag.AlignVCenter, text)

    def _menu(self, place: QPoint) -> None:
        menu, key = QMenu(self), f"{self.holding.id}|{self.part.number}"
        for words, action in (
            ("Select its points", "select_part"), ("Show only this", "only_part"), ("Rename…", "rename_part"),
            ("Colour…", "colour_part"),
        ):  # fmt: skip
            menu.addAction(words, lambda a=action: self.action_wanted.emit(f"{a}:{key}"))
        others = [part for part in self.holding.parts if part.number != self.part.number]
        if others:
            into = menu.addMenu("Merge into")
            for part in others:
                into.addAction(part.name, lambda n=part.number: self.action_wanted.emit(f"merge_part:{key}|{n}"))
        menu.addSeparator()
        menu.addAction("Remove; its points stay", lambda: self.action_wanted.emit(f"remove_part:{key}"))
        menu.popup(place)
        self.menu_shown = menu
