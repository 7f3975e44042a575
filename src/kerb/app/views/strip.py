"""The slim strip on the view: plan, orbit or section; what colours the points; contours, exaggeration, slice."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.app.widgets import made, plain, there

CONTOURS = (0.0, 0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0)
EXAGGERATIONS = (1.0, 2.0, 5.0, 10.0)
# The last is all there is.
ALL = 1e6
SLICES = (0.001, 0.01, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 20.0, ALL)


class Strip(QWidget):
    """View controls."""

    mode_wanted = Signal(str)
    colour_wanted = Signal(str)
    contour_wanted = Signal(float)
    exaggeration_wanted = Signal(float)
    slice_wanted = Signal(float)
    filter_wanted = Signal(bool)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 3, 4, 3)
        column.setSpacing(3)
        row, self.second = QHBoxLayout(), QHBoxLayout()
        self.first = row
        for line in (row, self.second):
            line.setSpacing(3)
            column.addLayout(line)
        self.modes: dict[str, QToolButton] = {}
        self._mode, self._has_cloud = PLAN, True
        group = QButtonGroup(self)
        group.setExclusive(True)
        for mode, words, tip in (
            (PLAN, "Plan", "Look straight down, north up (F2)"),
            (ORBIT, "Orbit", "Look from any side, turn about the point under the cursor (F3)"),
            (SECTION, "Section", "A vertical slice along the profile line (F4)"),
        ):
            button = made(QToolButton(), text=words, checkable=True, toolTip=tip)
            button.clicked.connect(lambda _on, m=mode: self.mode_wanted.emit(m))
            group.addButton(button)
            self.modes[mode] = button
            row.addWidget(button)
        self.colour = self._box("Colour points by this", 124)
        self.colour.activated.connect(lambda _i: self.colour_wanted.emit(self.colour.currentData()))
        self.contour = self._box("Contour lines over the points, interval in the job unit", 116)
        self.contour.activated.connect(lambda _i: self.contour_wanted.emit(self.contour.currentData()))
        self.exaggeration = self._box("Vertical exaggeration", 106)
        for factor in EXAGGERATIONS:
            self.exaggeration.addItem(f"Heights ×{factor:g}", factor)
        self.exaggeration.activated.connect(lambda _i: self.exaggeration_wanted.emit(self.exaggeration.currentData()))
        self.slice = self._box("Thickness of the slice, in the job unit", 106)
        self.slice.activated.connect(lambda _i: self.slice_wanted.emit(self.slice.currentData()))
        self.filter = made(
            QToolButton(), text="Filter", checkable=True, toolTip="Which points are shown, by any attribute (F)"
        )
        self.filter.clicked.connect(self.filter_wanted)
        self.rest = (self.colour, self.contour, self.exaggeration, self.slice, self.filter)
        for widget in self.rest:
            row.addWidget(widget)
        self._narrow = False
        self._eye: tuple[float | None, float] = (1.0, 1.0)
        self._unit = "m"
        self.set_unit("m")
        self.set_mode(PLAN)

    def fit_into(self, width: int) -> None:
        """Take a second row where one is too wide."""
        buttons = sum(button.sizeHint().width() + 3 for button in self.modes.values())
        wide = [
            max(w.minimumWidth(), min(w.sizeHint().width(), w.maximumWidth())) for w in self.rest if not w.isHidden()
        ]
        needed = 14 + buttons + sum(wide) + 3 * len(wide)
        narrow = needed > width
        if narrow != self._narrow:
            self._narrow = narrow
            for widget in self.rest:
                # The last of them still has room beside the modes.
                (self.second if narrow and widget is not self.filter else self.first).addWidget(widget)
        self._fit()

    def _fit(self) -> None:
        """As large as what is in it: layouts that were changed just now know their size only after they are done anew."""
        whole = there(self.layout())
        for row in (self.first, self.second, whole):
            row.invalidate()
        whole.activate()
        self.resize(whole.sizeHint())

    def _box(self, tip: str, width: int) -> QComboBox:
        box = QComboBox(self)
        box.setToolTip(plain(tip))
        box.setAccessibleName(tip)
        box.setFixedWidth(width)
        box.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return box

    def set_unit(self, symbol: str) -> None:
        """Name the job unit in the lists."""
        self._unit = symbol
        self._eye = (None, 0.0)
        for box, values, none in ((self.contour, CONTOURS, "No contours"), (self.slice, SLICES, "")):
            kept = box.currentData()
            box.clear()
            for value in values:
                words = none if value == 0.0 else f"{'Every' if box is self.contour else 'Slice'} {value:g} {symbol}"
                words = "Slice of all" if value == ALL else words
                box.addItem(words, value)
            place = box.findData(kept)
            box.setCurrentIndex(place if place >= 0 else (0 if box is self.contour else SLICES.index(1.0)))

    def show_cloud(self, on: bool) -> None:
        """Offer what is about points only while a cloud is shown."""
        self.colour.setVisible(on)
        self.filter.setVisible(on)
        self._has_cloud = on
        self.set_mode(self._mode)

    def set_colours(self, choices: list[tuple[str, str]], current: str) -> None:
        """List what the points can be coloured by."""
        self.colour.clear()
        for key, words in choices:
            self.colour.addItem(words, key)
        self.colour.setCurrentIndex(max(self.colour.findData(current), 0))

    def set_contour(self, value: float) -> None:
        """Show the contour interval."""
        self.contour.setCurrentIndex(max(self.contour.findData(value), 0))

    def show_eye(self, thickness: float | None, exaggeration: float) -> None:
        """Say how thick the slice is and how heights are stretched, whoever set it: a value that is not offered is added."""
        if self._mode == PLAN or (thickness, exaggeration) == self._eye:
            return
        self._eye = thickness, exaggeration
        for box, value, words in (
            (self.slice, ALL if thickness is None else thickness, f"Slice {thickness or 0:.4g} {self._unit}"),
            (self.exaggeration, exaggeration, f"Heights ×{exaggeration:.3g}"),
        ):
            offered = SLICES if box is self.slice else EXAGGERATIONS
            for row in reversed(range(box.count())):
                if box.itemData(row) not in offered:
                    box.removeItem(row)
            if value not in offered:
                box.addItem(words, value)
            box.setCurrentIndex(box.findData(value))

    def set_mode(self, mode: str) -> None:
        """Show the mode, and the controls it has."""
        self._mode = mode
        self.modes[mode].setChecked(True)
        self.exaggeration.setVisible(mode != PLAN)
        self.slice.setVisible(mode == SECTION)
        # Contours of a slice mean nothing, and the strip would be wider than the view.
        self.contour.setVisible(mode != SECTION and self._has_cloud)
        self._fit()
