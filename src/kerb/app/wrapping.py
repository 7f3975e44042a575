"""A row of widgets that goes on in the next line where it does not fit."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class WrapLayout(QLayout):
    """Widgets from left to right at their own sizes, in as many lines as are needed."""

    def __init__(self, parent: QWidget | None = None, gap: int = 4) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._gap = gap

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._lay(QRect(0, 0, width, 0), place=False)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        margins = self.contentsMargins()
        wide = max((size.width() for size in shown), default=0)
        high = max((size.height() for size in shown), default=0)
        return QSize(wide + margins.left() + margins.right(), high + margins.top() + margins.bottom())

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._lay(rect, place=True)

    def _lay(self, rect: QRect, place: bool) -> int:
        """Put the widgets in lines; the height they need."""
        inner = rect.marginsRemoved(self.contentsMargins())
        x, y = inner.x(), inner.y()
        line: list[tuple[QLayoutItem, int]] = []
        high = 0
        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint()
            if line and x + size.width() > inner.right() + 1:
                self._set(line, y, high, place)
                x, y, line, high = inner.x(), y + high + self._gap, [], 0
            line.append((item, x))
            x += size.width() + self._gap
            high = max(high, size.height())
        self._set(line, y, high, place)
        return y + high - rect.y() + self.contentsMargins().bottom()

    @staticmethod
    def _set(line: list[tuple[QLayoutItem, int]], y: int, high: int, place: bool) -> None:
        for item, x in line if place else ():
            size = item.sizeHint()
            item.setGeometry(QRect(QPoint(x, y + (high - size.height()) // 2), size))
