"""How much of a thing is brought in: which layers, setups or element types, and how a cloud is thinned."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.session import Session
from kerb.app.sheets.fields import section
from kerb.app.widgets import Choice, Label, made, there
from kerb.core.cloud.sieve import Sieve
from kerb.core.errors import InputError
from kerb.core.geometry.area import Area
from kerb.core.geometry.features import LineSet, bounds_of
from kerb.core.quantity import count, symbol
from kerb.core.things import CLOUD, LINES, MODEL
from kerb.job.prospects import Prospect, boxed

EVERYTHING, JOB_BOX = "everything", "box"


class AmountPanel(QWidget):
    """Mirrors one prospect; every decision goes out as another prospect."""

    changed = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.prospect: Prospect | None = None
        self.areas: dict[str, Area] = {}
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(18)
        self.ticks = QWidget()
        column = QVBoxLayout(self.ticks)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.heading = section("Layers")
        self.all, self.none = QPushButton("All"), QPushButton("None")
        for button, on in ((self.all, True), (self.none, False)):
            button.setProperty("role", "link")
            button.clicked.connect(lambda _c, on=on: self._tick_all(on))
        row.addWidget(self.heading)
        row.addStretch(1)
        row.addWidget(self.all)
        row.addWidget(self.none)
        column.addLayout(row)
        self.list = QListWidget()
        self.list.setAccessibleName("Parts to bring in")
        self.list.itemChanged.connect(lambda _i: self._take_ticks())
        column.addWidget(self.list)
        self.apart = QCheckBox("Keep the elements apart")
        self.apart.setToolTip("Each element keeps its name and volume; off: one mesh of all of them")
        self.apart.clicked.connect(lambda on: self.changed.emit(replace(there(self.prospect), merged=not on)))
        column.addWidget(self.apart)
        outer.addWidget(self.ticks, 3)
        self.thin = QWidget()
        outer.addWidget(self.thin, 3)
        self._build_thinning()
        self.flatten = QWidget()
        row = QHBoxLayout(self.flatten)
        row.setContentsMargins(0, 0, 0, 0)
        self.tolerance = self._field("0.01", "Curves become chords no farther than this from them, in the file's unit")
        row.addWidget(Label("Curves within"))
        row.addWidget(self.tolerance)
        self.tolerance_unit = Label("")
        row.addWidget(self.tolerance_unit)
        row.addStretch(1)
        outer.addWidget(self.flatten, 3, Qt.AlignmentFlag.AlignTop)

    def _build_thinning(self) -> None:
        column = QVBoxLayout(self.thin)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(section("How much of it"))
        row = QHBoxLayout()
        self.every = self._field("1", "Take every n-th point; 1 takes all")
        self.spacing = self._field("0", "One point in each cube of this size, in the job unit; 0 takes all")
        self.classes = self._field("all", "Classes to take, such as 2, 8; empty takes all")
        self.classes.setFixedWidth(84)
        self.spacing_unit = Label("")
        for widget in (
            Label("One of every"),
            self.every,
            Label("points · one in each cube of"),
            self.spacing,
            self.spacing_unit,
        ):
            row.addWidget(widget)
        row.addStretch(1)
        column.addLayout(row)
        row = QHBoxLayout()
        self.within = Choice()
        self.within.setToolTip("Take only what lies in a box or an area of the job")
        self.within.setAccessibleName("Only inside")
        self.within.setMinimumWidth(180)
        self.within.activated.connect(lambda _i: self._take_sieve())
        narrowed: tuple[QWidget, ...] = (Label("Classes"), self.classes, Label("inside"), self.within)
        for part in narrowed:
            row.addWidget(part)
        row.addStretch(1)
        column.addLayout(row)
        self.complaint = made(Label(""), wordWrap=True)
        self.complaint.setProperty("role", "warning")
        self.complaint.hide()
        column.addWidget(self.complaint)
        column.addStretch(1)

    def _field(self, text: str, tip: str) -> QLineEdit:
        field = made(QLineEdit(text), toolTip=tip)
        field.setAccessibleName(tip)
        field.setFixedWidth(60)
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        field.editingFinished.connect(self._take_sieve)
        return field

    def mirror(self, prospect: Prospect) -> None:
        """Show a prospect."""
        self.prospect = prospect
        cloud = prospect.offer.kind == CLOUD
        many = len(prospect.offer.parts) > (1 if cloud else 0)
        self.ticks.setVisible(many)
        self.heading.setText(
            "Setups" if cloud else "Element types" if prospect.seen.format.startswith("IFC") else "Layers"
        )
        self.list.blockSignals(True)
        self.list.clear()
        for name, number in prospect.offer.parts:
            item = QListWidgetItem(f"{name}   {count(number)}")
            item.setData(Qt.ItemDataRole.UserRole, name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if name in prospect.parts else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self.apart.setVisible(prospect.offer.kind == MODEL)
        self.apart.setChecked(not prospect.merged)
        self.thin.setVisible(cloud)
        self.flatten.setVisible(prospect.offer.kind == LINES and prospect.seen.format in ("DXF", "LandXML"))
        self.tolerance_unit.setText(symbol(prospect.source.unit.code))
        self.spacing_unit.setText(
            symbol(self.session.unit if self.session.open_job.state.holdings else prospect.source.unit.code)
        )
        self._mirror_areas()
        self.setVisible(many or cloud or not self.flatten.isHidden())

    def _mirror_areas(self) -> None:
        job, kept = self.session.open_job, self.within.currentData()
        self.within.clear()
        self.within.addItem("everything", EVERYTHING)
        self.areas = {}
        if job.state.holdings:
            self.within.addItem("box of the job's data", JOB_BOX)
        for holding in job.state.of_kind(LINES):
            lines = job.thing(holding).thing
            for number, area in enumerate(lines.shapes()[:200] if isinstance(lines, LineSet) else (), 1):
                name = f"{holding.name}: {area.name or number}"
                self.areas[name] = area
                self.within.addItem(name, name)
        self.within.setCurrentIndex(max(self.within.findData(kept), 0))

    def _tick_all(self, on: bool) -> None:
        names = tuple(name for name, _ in there(self.prospect).offer.parts) if on else ()
        self.changed.emit(replace(there(self.prospect), parts=names))

    def _take_ticks(self) -> None:
        items = [self.list.item(k) for k in range(self.list.count())]
        names = tuple(
            item.data(Qt.ItemDataRole.UserRole) for item in items if item.checkState() == Qt.CheckState.Checked
        )
        self.changed.emit(replace(there(self.prospect), parts=names))

    def _take_sieve(self) -> None:
        try:
            sieve, tolerance = self._sieve(), _number(self.tolerance.text() or "0.01", "the tolerance of curves")
            if not tolerance > 0:
                raise InputError("the tolerance of curves must be above zero")
        except InputError as error:
            self.complaint.setText(str(error))
            self.complaint.show()
            return
        self.complaint.hide()
        prospect = there(self.prospect)
        if sieve != prospect.sieve or tolerance != prospect.tolerance:
            self.changed.emit(replace(prospect, sieve=sieve, tolerance=tolerance))

    def _sieve(self) -> Sieve:
        every = _number(self.every.text() or "1", "every n-th point")
        spacing = _number(self.spacing.text() or "0", "the spacing")
        text = self.classes.text().strip()
        if every != int(every):
            raise InputError("every n-th point: n must be a whole number")
        codes: tuple[int, ...] = ()
        if text and text != "all":
            try:
                codes = tuple(int(part) for part in text.replace(",", " ").split())
            except ValueError:
                raise InputError(f"classes are numbers such as 2, 8; not '{text}'") from None
        sieve = Sieve(int(every), spacing, codes)
        where = self.within.currentData()
        if where == JOB_BOX:
            boxes = [self.session.open_job.bounds_of(holding) for holding in self.session.open_job.state.holdings]
            low, high = bounds_of(np.concatenate(boxes))
            return replace(sieve, box=boxed(low, high).box)
        return replace(sieve, areas=(self.areas[where],)) if where in self.areas else sieve


def _number(text: str, what: str) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise InputError(f"{what}: '{text}' is not a number") from None
    return value
