"""A row of the lists at the left."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QScrollArea, QWidget

from kerb.app.icons import pixmap
from kerb.app.theme import Theme, font
from kerb.app.widgets import plain

ROW = 44


@dataclass(frozen=True)
class RowWords:
    """What a row says and how it looks."""

    name: str
    second: str = ""
    value: str = ""
    mark: str = ""
    ink: str = ""
    chosen: bool = False
    pale: bool = False
    alarm: bool = False
    tip: str = ""


@dataclass(frozen=True)
class RowDoing:
    """What a click on a row does, on its mark, and where its menu comes from."""

    click: Callable[[], None]
    mark: Callable[[], None] | None
    menu: Callable[[QPoint], None]


class Row(QWidget):
    """A line of a list: mark, name with a quiet second line, and a value at the right."""

    clicked = Signal()
    mark_clicked = Signal()
    menu_wanted = Signal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.theme = theme
        self.name = self.second = self.value = ""
        self.mark = self.ink = ""
        self.chosen = self.pale = False
        self.alarm = False
        self.setFixedHeight(ROW)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._over = False
        self._words = RowWords("")
        self.doing: RowDoing | None = None
        # What it was filled from last, for whoever fills it.
        self.filled: tuple[Any, ...] | None = None
        self.clicked.connect(lambda: self.doing.click() if self.doing is not None else None)
        self.mark_clicked.connect(lambda: self.doing.mark() if self.doing is not None and self.doing.mark else None)
        self.menu_wanted.connect(lambda place: self.doing.menu(place) if self.doing is not None else None)

    def show_words(self, words: RowWords) -> None:
        """Say something else; nothing is painted again where it is the same."""
        if words == self._words:
            return
        self._words = words
        self.name, self.second, self.value = words.name, words.second, words.value
        self.mark, self.ink, self.chosen = words.mark, words.ink, words.chosen
        self.pale, self.alarm = words.pale, words.alarm
        self.setToolTip(plain(words.tip))
        self.setAccessibleName(", ".join(part for part in (words.name, words.value, words.second) if part))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(220, ROW)

    def enterEvent(self, _event: object) -> None:
        self._over = True
        self.update()

    def leaveEvent(self, _event: object) -> None:
        self._over = False
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.RightButton:
            self.clicked.emit()
            self.menu_wanted.emit(event.globalPosition().toPoint())
        elif self.mark and event.position().x() < 34:
            self.mark_clicked.emit()
        else:
            self.clicked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            (self.mark_clicked if self.mark and event.key() == Qt.Key.Key_Space else self.clicked).emit()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """The menu key, or Shift+F10; the mouse opens its menu itself."""
        if event.reason() == QContextMenuEvent.Reason.Keyboard:
            self.menu_wanted.emit(self.mapToGlobal(self.rect().center()))

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Keep what has the keys in sight."""
        super().focusInEvent(event)
        parent = self.parentWidget()
        while parent is not None and not isinstance(parent, QScrollArea):
            parent = parent.parentWidget()
        if parent is not None:
            parent.ensureWidgetVisible(self, 0, 8)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        if self.chosen or self._over:
            painter.fillRect(self.rect(), QColor(t.wash))
        if self.chosen:
            painter.fillRect(0, 0, 3, self.height(), QColor(t.accent))
        if self.hasFocus():
            painter.setPen(QPen(QColor(t.accent), 1, Qt.PenStyle.DotLine))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        left = 14
        if self.mark:
            painter.drawPixmap(QPointF(12, 13), pixmap(self.mark, t.quiet, 18, max(1, round(self.devicePixelRatioF()))))
            left = 38
        if self.ink:
            painter.setPen(QPen(QColor(self.ink), 2))
            painter.drawLine(QPointF(self.width() - 18, 32), QPointF(self.width() - 10, 32))
            painter.drawLine(QPointF(self.width() - 14, 28), QPointF(self.width() - 14, 36))
        value_font = font(13, font(13).Weight.DemiBold)
        painter.setFont(value_font)
        value_width = painter.fontMetrics().horizontalAdvance(self.value) if self.value else 0
        painter.setPen(QColor(t.quiet if self.value == "—" else t.ink))
        painter.drawText(
            QRectF(self.width() - value_width - 12, 5, value_width, 19),
            Qt.AlignmentFlag.AlignRight,
            self.value,
        )
        painter.setFont(font(13))
        painter.setPen(QColor(t.quiet if self.pale else t.ink))
        room = self.width() - left - value_width - 20
        text = painter.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideMiddle, room)
        painter.drawText(QRectF(left, 5, room, 19), Qt.AlignmentFlag.AlignLeft, text)
        painter.setFont(font(11))
        painter.setPen(QColor(t.edge if self.alarm else t.quiet))
        painter.drawText(QRectF(left, 24, self.width() - left - 10, 16), Qt.AlignmentFlag.AlignLeft, self.second)
