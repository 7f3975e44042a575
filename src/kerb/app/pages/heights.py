"""Heights above ground: which classes are the ground, and height bands as classes of vegetation."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QCheckBox, QPushButton

from kerb.app.pages.page import Desk, Page
from kerb.app.sheets.fields import Line, NumberField, column, fill_warnings, hairline, section
from kerb.app.widgets import emptied, made
from kerb.core.arrays import Floats
from kerb.core.cloud.classes import GROUND, KEY_POINTS, class_words
from kerb.core.cloud.heights import HEIGHT, banded, heights
from kerb.core.cloud.store import CLASSES
from kerb.core.quantity import count, quantity, rounded, symbol
from kerb.core.setting import Setting
from kerb.job import pointwork

BANDS = (("Low vegetation from", 3, 0.1), ("Medium vegetation from", 4, 0.5), ("High vegetation from", 5, 2.0))


class HeightsPage(Page):
    """Choose the ground, compute heights over it, give bands of height their classes."""

    help_page = "ground.md"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Height above ground", "How it is computed")
        self.boxes: dict[int, QCheckBox] = {}
        self.limits: list[NumberField] = []
        self._unit = ""
        self.words(
            "Height of every point over the triangulated ground, positive above it. Elevations stay as they are."
        )
        self.body.addWidget(hairline())
        self.body.addWidget(section("Ground"))
        self.classes, self.notes = column(), column()
        self.body.addLayout(self.classes)
        self.body.addLayout(self.notes)
        self.body.addWidget(hairline())
        self.body.addWidget(section("Bands"))
        for label, code, _metres in BANDS:
            about = Setting(label, f"From this height on points become class {code}", "length", low=0.0)
            field = NumberField(about, False)
            field.committed.connect(lambda value, f=field: f.show_value(value, symbol(self.session.unit)))
            self.limits.append(field)
            self.body.addWidget(Line(label, field, about.help))
        self.words("Bands change points of classes 0, 1, 3, 4 and 5 only: ground, buildings, water and noise stay.")
        self.body.addWidget(hairline())
        self.body.addWidget(section("Found"))
        self.figure = self.result()
        self.body.addStretch(1)
        self.compute = made(
            QPushButton("Compute"), toolTip="Compute heights and keep them as an attribute of the points"
        )
        self.compute.setProperty("role", "main")
        self.compute.clicked.connect(self.run)
        self.give = made(QPushButton("Give classes"), toolTip="Classes 3, 4 and 5 by the bands; Ctrl+Z takes it back")
        self.give.clicked.connect(self.give_bands)
        self.flat = made(
            QPushButton("Write…"), toolTip="A file with heights in place of elevations, which it carries along"
        )
        self.flat.clicked.connect(lambda: self.action_wanted.emit("write_heights"))
        self.actions_row.addWidget(self.give)
        self.actions_row.addWidget(self.flat)
        self.actions_row.addStretch(1)
        self.actions_row.addWidget(self.compute)
        self.session.changed.connect(self.mirror)

    def chosen(self) -> tuple[int, ...]:
        """The classes that are ground."""
        return tuple(code for code, box in self.boxes.items() if box.isChecked())

    def mirror(self) -> None:
        """Show the classes of the main cloud, and what is odd about the choice."""
        holding = self.session.main_cloud()
        if not self.isVisible() or holding is None:
            return
        store = self.session.open_job.store(holding)
        there = list(store.present(CLASSES)) if store.has(CLASSES) else []
        if list(self.boxes) != there:
            kept = set(self.chosen()) or {GROUND}
            emptied(self.classes)
            self.boxes = {code: made(QCheckBox(class_words(code)), checked=code in kept) for code in there}
            for box in self.boxes.values():
                box.toggled.connect(lambda _on: self.mirror())
                self.classes.addWidget(box)
        if self._unit != self.session.unit:
            self._unit = self.session.unit
            metres = store.reference.vertical_unit.metres
            for field, (_, _, limit) in zip(self.limits, BANDS, strict=True):
                field.show_value(rounded(limit / metres), symbol(self._unit))
        chosen, notes = self.chosen(), []
        if not there:
            notes.append("The cloud has no classes: find the ground first.")
        elif KEY_POINTS in there and KEY_POINTS not in chosen:
            notes.append("Class 8 (key points) is not taken for ground; where it is used it belongs there.")
        if store.flat:
            notes.append("This cloud holds heights in place of elevations already; once is enough.")
        if store.has(HEIGHT) and store.outdated(HEIGHT):
            notes.append("The heights there are were computed before classes or set-aside points changed.")
        fill_warnings(self.notes, notes)
        self.compute.setEnabled(bool(chosen) and not store.flat)
        usable = store.has(HEIGHT) and not store.outdated(HEIGHT)
        self.give.setEnabled(usable)
        self.flat.setEnabled(usable and not store.flat)

    def run(self) -> None:
        """Compute heights over the chosen classes in the background."""
        holding = self.session.open_cloud
        store, chosen = self.session.open_job.store(holding), self.chosen()
        unit = store.reference.vertical_unit.code

        def keep(over: Floats) -> None:
            known = over[np.isfinite(over)]
            lowest, highest = (quantity(float(v), unit) for v in (known.min(), known.max()))
            rest = f"{count(len(over) - len(known))} lie outside the outline of the ground or are set aside"
            self.figure.setText(f"{count(len(known))} points from {lowest} to {highest}; {rest} and have none.")

        words = f"height above ground (class {', '.join(map(str, chosen))})"
        self.desk.points.compute_attribute(
            (HEIGHT, unit), lambda progress: heights(store, chosen, progress).astype(np.float32), words, keep
        )

    def give_bands(self) -> None:
        """Give points classes of vegetation by their height."""
        job, holding = self.session.open_job, self.session.open_cloud
        low, middle, high = (float(field.text()) for field in self.limits)
        limits = (low, middle, high)
        if not low < middle < high:
            self.session.said.emit("The three heights of the bands must rise.")
            return
        store = job.store(holding)
        before = np.asarray(store.column(CLASSES))
        classes = banded(before, store.lengths(HEIGHT), limits)
        if store.aside() is not None:
            classes = np.where(store.in_use(), classes, before)
        unit = self.session.unit
        bands = zip(BANDS, limits, strict=True)
        how = ", ".join(f"class {code} from {quantity(limit, unit)}" for (_, code, _), limit in bands)
        words, settings = f"Gave height bands of {holding.name} classes: {how}", {"bands": limits}
        if self.desk.points.do_points(lambda: pointwork.give_classes(job, holding, classes, words, settings)):
            # The heights are those over the ground, which the bands do not touch.
            store.confirm(HEIGHT)
            self.desk.colouring.colour_by("class")

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.mirror()
