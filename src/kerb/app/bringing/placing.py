"""Where the numbers of a file lie: what they are in, what is done with them in a sentence each, and the place check."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.bringing.looking import Files
from kerb.app.bringing.thumbnail import Thumbnail
from kerb.app.dialogs.systems import SystemDialog
from kerb.app.sheets.fields import fill_warnings, section
from kerb.app.theme import Theme
from kerb.app.widgets import Choice, Label, made, plain, there, widgets_in
from kerb.core.errors import InputError
from kerb.core.place_check import Site
from kerb.core.placing import AS_IS, CONVERT, LABEL, TRANSFORM
from kerb.core.reference import ReferenceSystem, from_text, is_geographic
from kerb.core.units import FILE_UNITS
from kerb.job.prospects import Prospect, Whereabouts, unit_stated
from kerb.job.state import JobState

ORDER = (AS_IS, CONVERT, TRANSFORM, LABEL)
HEADS = {
    AS_IS: "Take as it is", CONVERT: "Convert the unit", TRANSFORM: "Transform", LABEL: "Only label",
}  # fmt: skip


class PlacingPanel(QWidget):
    """Mirrors one prospect; every decision goes out as another prospect."""

    changed = Signal(object)

    def __init__(self, files: Files, theme: Theme) -> None:
        super().__init__()
        self.files, self.theme = files, theme
        self.prospect: Prospect | None = None
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(18)
        left = QVBoxLayout()
        left.setSpacing(5)
        self._build_source(left)
        self._build_choices(left)
        left.addStretch(1)
        outer.addLayout(left, 3)
        right = QVBoxLayout()
        right.setSpacing(6)
        right.addWidget(section("Place check"))
        self.thumbnail = Thumbnail(theme)
        right.addWidget(self.thumbnail, 1)
        self.result = made(Label(""), wordWrap=True)
        right.addWidget(self.result)
        self.alarms = QVBoxLayout()
        right.addLayout(self.alarms)
        self.remedy = QPushButton("")
        self.remedy.setToolTip("State that the numbers of the file are in this system; they are then transformed")
        self.remedy.clicked.connect(self._put_right)
        self.remedy.hide()
        right.addWidget(self.remedy)
        self._system = ""
        outer.addLayout(right, 3)

    def _build_source(self, left: QVBoxLayout) -> None:
        left.addWidget(section("What the numbers are in"))
        row = QHBoxLayout()
        self.system = made(Label(""), wordWrap=True)
        self.change = made(QPushButton("Change…"), toolTip="State another reference system for the numbers of the file")
        self.change.clicked.connect(self._choose_system)
        row.addWidget(self.system, 1)
        row.addWidget(self.change)
        left.addLayout(row)
        row = QHBoxLayout()
        self.plan_unit, self.height_unit = Choice(), Choice()
        for box, words in ((self.plan_unit, "Unit of easting and northing"), (self.height_unit, "Unit of elevations")):
            for code, unit in FILE_UNITS.items():
                box.addItem(unit.plural, code)
            box.setToolTip(plain(words))
            box.setAccessibleName(words)
            box.activated.connect(lambda _i: self._state_units())
        row.addWidget(Label("Plan"))
        row.addWidget(self.plan_unit, 1)
        row.addWidget(Label("Heights"))
        row.addWidget(self.height_unit, 1)
        left.addLayout(row)
        left.addSpacing(6)

    def _build_choices(self, left: QVBoxLayout) -> None:
        left.addWidget(section("What is done with them"))
        self.group = QButtonGroup(self)
        self.choices: dict[str, QRadioButton] = {}
        self.words: dict[str, QLabel] = {}
        for how in ORDER:
            button = QRadioButton(HEADS[how])
            words = made(Label(""), wordWrap=True)
            words.setProperty("role", "small")
            words.setContentsMargins(22, 0, 0, 2)
            button.clicked.connect(lambda _on, h=how: self._choose(h))
            self.group.addButton(button)
            self.choices[how], self.words[how] = button, words
            left.addWidget(button)
            left.addWidget(words)
        row = QHBoxLayout()
        row.setContentsMargins(22, 0, 0, 0)
        self.horizontal = made(QCheckBox("plan"), toolTip="Scale easting and northing about the origin")
        self.vertical = made(QCheckBox("heights"), toolTip="Scale elevations")
        for box in (self.horizontal, self.vertical):
            box.clicked.connect(lambda _on: self._choose(CONVERT))
            row.addWidget(box)
        row.addStretch(1)
        self.parts = QWidget()
        self.parts.setLayout(row)
        left.addWidget(self.parts)
        self.swap = made(QCheckBox("Exchange easting and northing"), toolTip="For files with northing first")
        self.swap.clicked.connect(self._swap)
        left.addWidget(self.swap)

    def mirror(self, prospect: Prospect) -> None:
        """Show a prospect."""
        self.prospect = prospect
        source, placing = prospect.source, prospect.placing
        self.system.setText(source.sentence)
        for box, unit in ((self.plan_unit, source.unit), (self.height_unit, source.vertical_unit)):
            if box.findData(unit.code) < 0:
                box.addItem(unit.plural, unit.code)
            unknown = source.certainty == "assumed" and not source.wkt
            if unknown != (box.itemData(0) == ""):
                if unknown:
                    box.insertItem(0, "", "")
                else:
                    box.removeItem(0)
            if unknown:
                box.setItemText(0, f"unknown: {unit.plural}")
            box.setCurrentIndex(0 if unknown else box.findData(unit.code))
        self.plan_unit.setEnabled(not is_geographic(source))
        found = prospect.choices(self._state())
        for how in ORDER:
            shown = how in found
            self.choices[how].setVisible(shown)
            self.words[how].setVisible(shown)
            if shown:
                choice = placing if how == placing.how else found[how]
                try:
                    text = replace(choice, swap=False).sentence
                except InputError as error:
                    text = str(error)
                self.words[how].setText(text[:1].upper() + text[1:] + ".")
        self.choices[placing.how].setChecked(True)
        self.parts.setVisible(placing.how == CONVERT)
        self.horizontal.setChecked(placing.horizontal)
        self.vertical.setChecked(placing.vertical)
        self.swap.setChecked(placing.swap)

    def _state(self) -> JobState:
        """The job as the shown thing will find it."""
        key = next((k for k, p in self.files.prospects.items() if p is self.prospect), None)
        return self.files.state(key)

    def show_waiting(self) -> None:
        """The place check is under way."""
        self.thumbnail.show_places(self.thumbnail.new[:0], None)
        self._show_alarms([])
        self.result.setText("")

    def show_error(self, text: str) -> None:
        """The file could not be placed."""
        self.thumbnail.show_places(self.thumbnail.new[:0], None, "No picture")
        self.result.setText("")
        self._show_alarms([text])

    def show_whereabouts(self, found: Whereabouts, against: Site | None) -> None:
        """Show where the data would lie, and what it is held against."""
        self.thumbnail.show_places(found.here.xyz, None if against is None else against.xyz)
        what = against.what if against is not None else ()
        more = f" and {len(what) - 1} more" if len(what) > 1 else ""
        self.result.setText(found.check.sentence + (f" Compared with {what[0]}{more}." if what else ""))
        self._show_alarms([text for _code, text in found.check.alarms])
        # What the numbers look like was said; where that is stated is marked.
        role = "main" if found.check.guess else ""
        if self.change.property("role") != role:
            self.change.setProperty("role", role)
            self.change.style().unpolish(self.change)
            self.change.style().polish(self.change)
        self._system = found.check.system
        self.remedy.setVisible(bool(self._system))
        if self._system:
            self.remedy.setText(f"Take the numbers as {from_text(self._system).name}")

    def _put_right(self) -> None:
        self.state_system(replace(from_text(self._system), certainty="confirmed"))

    def _show_alarms(self, texts: list[str]) -> None:
        self.remedy.hide()
        fill_warnings(self.alarms, [f"{text[:1].upper()}{text[1:]}" for text in texts])

    @property
    def alarm_texts(self) -> list[str]:
        """The alarms shown."""
        return [label.text() for label in widgets_in(self.alarms) if isinstance(label, QLabel)]

    def _choose_system(self) -> None:
        dialog = SystemDialog(there(self.prospect).source, self)
        if dialog.exec():
            self.state_system(dialog.chosen)

    def state_system(self, system: ReferenceSystem) -> None:
        """State what the numbers are in."""
        self.changed.emit(there(self.prospect).with_source(system, self._state()))

    def _state_units(self) -> None:
        plan, heights = FILE_UNITS.get(self.plan_unit.currentData()), FILE_UNITS.get(self.height_unit.currentData())
        source = there(self.prospect).source
        # Where neither was known, stating one states both: heights in metres over a plan in feet are rare, and can be said then.
        stated = unit_stated(source, plan or heights or source.unit, heights or plan or source.vertical_unit)
        self.changed.emit(there(self.prospect).with_source(stated, self._state()))

    def _choose(self, how: str) -> None:
        found = there(self.prospect).choices(self._state())[how]
        if how == CONVERT:
            both = self.horizontal.isChecked() or self.vertical.isChecked()
            found = replace(
                found,
                horizontal=self.horizontal.isChecked() or not both,
                vertical=self.vertical.isChecked() or not both,
            )
        self.changed.emit(replace(there(self.prospect), placing=found))

    def _swap(self, on: bool) -> None:
        prospect = there(self.prospect)
        self.changed.emit(replace(prospect, placing=replace(prospect.placing, swap=on)))
