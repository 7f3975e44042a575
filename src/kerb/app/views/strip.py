"""The slim strip on the view: plan, orbit or section; what colours the points; contours, exaggeration, slice."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QComboBox, QToolButton, QWidget

from kerb.app.views.view import ORBIT, PLAN, SECTION
from kerb.app.widgets import made, plain
from kerb.app.wrapping import WrapLayout

CONTOURS = (0.0, 0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0)
EXAGGERATIONS = (1.0, 2.0, 5.0, 10.0)
# The last is all there is.
ALL = 1e6
SLICES = (0.001, 0.01, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 20.0, ALL)


# In less room than this only the modes are shown at first.
NARROW = 300


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
        self.flow = WrapLayout(self, gap=3)
        self.flow.setContentsMargins(4, 3, 4, 3)
        self._room = 10_000
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
            self.flow.addWidget(button)
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
        self.more = made(
            QToolButton(),
            text="More",
            checkable=True,
            toolTip="Show colours, heights, slice and filter, or fold them away",
        )
        self.more.clicked.connect(lambda _on: self._fit())
        self.rest = (self.more, self.colour, self.contour, self.exaggeration, self.slice, self.filter)
        for widget in self.rest:
            self.flow.addWidget(widget)
        self._eye: tuple[float | None, float] = (1.0, 1.0)
        self._unit = ""
        self.set_unit("m")
        self.set_mode(PLAN)

    def fit_into(self, width: int) -> None:
        """Take as many rows as a width needs."""
        self._room = width
        self._fit()

    def _fit(self) -> None:
        """As wide as what is in it, or as there is room: layouts that were changed just now know their size only anew."""
        for widget, on in self._offered().items():
            if widget.isHidden() == on:
                widget.setVisible(on)
        self.flow.invalidate()
        margins = self.flow.contentsMargins()
        # What was shown or hidden just now: its item tells no size before it is.
        shown = [w for w in (*self.modes.values(), *self.rest) if not w.isHidden()]
        wide = [max(w.minimumWidth(), min(w.sizeHint().width(), w.maximumWidth())) for w in shown]
        natural = sum(wide) + 3 * (len(wide) - 1) + margins.left() + margins.right()
        width = min(natural, max(self._room, max(wide) + margins.left() + margins.right()))
        self.resize(width, self.flow.heightForWidth(width))
        self.flow.setGeometry(self.rect())

    def _box(self, tip: str, width: int) -> QComboBox:
        box = QComboBox(self)
        box.setToolTip(plain(tip))
        box.setAccessibleName(tip)
        box.setFixedWidth(width)
        box.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return box

    def set_unit(self, symbol: str) -> None:
        """Name the job unit in the lists."""
        if symbol == self._unit:
            return
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
        self._fit()

    def _offered(self) -> dict[QWidget, bool]:
        """Which controls the mode has; in a narrow pane they are folded away until they are wanted."""
        narrow = self._room < NARROW
        unfolded = not narrow or self.more.isChecked()
        return {
            self.more: narrow,
            self.colour: self._has_cloud and unfolded,
            # Contours of a slice mean nothing, and the strip would be wider than the view.
            self.contour: self._mode != SECTION and self._has_cloud and unfolded,
            self.exaggeration: self._mode != PLAN and unfolded,
            self.slice: self._mode == SECTION and unfolded,
            self.filter: self._has_cloud and unfolded,
        }
