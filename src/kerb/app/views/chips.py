"""A row of chips under the strip: one for each filter that narrows what is shown."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLayout, QLayoutItem, QMenu, QToolButton, QWidget

from kerb.app.widgets import made


class FilterChips(QWidget):
    """Click a chip to set its filter, its cross to drop it; the menu turns it off or round."""

    removed = Signal(int)
    toggled = Signal(int)
    turned = Signal(int)
    opened = Signal(int)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.flow = _Flow(self)
        self.chips: list[QWidget] = []
        self.hide()

    def show_filters(self, filters: list[tuple[str, bool]]) -> None:
        """Show filters as (words, on)."""
        for chip in self.chips:
            self.flow.removeWidget(chip)
            chip.setParent(None)
            chip.deleteLater()
        self.chips = [self._chip(place, *item) for place, item in enumerate(filters)]
        for chip in self.chips:
            self.flow.addWidget(chip)
            # A layout counts a widget only once it is shown, which would be after the size is taken.
            chip.show()
        self.setVisible(bool(self.chips))
        self.adjustSize()

    def _chip(self, place: int, words: str, on: bool) -> QWidget:
        chip = made(QWidget(), objectName="filterChip")
        chip.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        chip.setProperty("on", "yes" if on else "no")
        row = QHBoxLayout(chip)
        row.setContentsMargins(4, 0, 2, 0)
        row.setSpacing(0)
        text = made(
            QToolButton(), text=words if on else f"off: {words}", toolTip="Set this filter; right-click for more"
        )
        text.clicked.connect(lambda: self.opened.emit(place))
        text.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        text.customContextMenuRequested.connect(lambda at: self._menu(place, on, text.mapToGlobal(at)))
        cross = made(QToolButton(), text="×", toolTip=f"Drop the filter: {words}")
        cross.setAccessibleName(f"Drop the filter: {words}")
        cross.clicked.connect(lambda: self.removed.emit(place))
        row.addWidget(text)
        row.addWidget(cross)
        return chip

    def _menu(self, place: int, on: bool, at: QPoint) -> None:
        menu = QMenu(self)
        menu.addAction("Turn off" if on else "Turn on", lambda: self.toggled.emit(place))
        menu.addAction("Show the others instead", lambda: self.turned.emit(place))
        menu.addAction("Drop", lambda: self.removed.emit(place))
        menu.popup(at)
        self.menu_shown = menu

    def sizeHint(self) -> QSize:
        wide = min(self.maximumWidth(), 700)
        return QSize(wide, self.flow.heightForWidth(wide))


class _Flow(QLayout):
    """Widgets one after the other, on a next line where there is no room."""

    GAP = 6

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self.items.append(item)

    def count(self) -> int:
        return len(self.items)

    def itemAt(self, place: int) -> QLayoutItem | None:
        return self.items[place] if 0 <= place < len(self.items) else None

    def takeAt(self, place: int) -> QLayoutItem | None:
        return self.items.pop(place) if 0 <= place < len(self.items) else None

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._arranged(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, room: QRect) -> None:
        super().setGeometry(room)
        self._arranged(room, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        sizes = [item.sizeHint() for item in self.items]
        return QSize(max((s.width() for s in sizes), default=0), max((s.height() for s in sizes), default=0))

    def _arranged(self, room: QRect, move: bool) -> int:
        x, y, line = room.x(), room.y(), 0
        for item in self.items:
            size = item.sizeHint()
            if x > room.x() and x + size.width() > room.right():
                x, y, line = room.x(), y + line + self.GAP, 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), size))
            x, line = x + size.width() + self.GAP, max(line, size.height())
        return y + line - room.y()
