"""A row of chips under the strip: one for each filter that narrows what is shown."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QSize, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QToolButton, QWidget

from kerb.app.widgets import made
from kerb.app.wrapping import WrapLayout


class FilterChips(QWidget):
    """Click a chip to set its filter, its cross to drop it; the menu turns it off or round."""

    removed = Signal(int)
    toggled = Signal(int)
    turned = Signal(int)
    opened = Signal(int)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.flow = WrapLayout(self, gap=6)
        self.flow.setContentsMargins(0, 0, 0, 0)
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
