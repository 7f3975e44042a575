"""The page that finds points: settings with a live look on a strip, then everywhere, then what is done with them."""

from __future__ import annotations

import time
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QColor, QHideEvent, QPainter, QPen, QPolygonF, QShowEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton

from kerb.app.pages.page import Desk, Page
from kerb.app.selection import TINT
from kerb.app.sheets.fields import ChoiceField, Line, NumberField, column, hairline, section
from kerb.app.tasks import Task
from kerb.app.views.view import PLAN, View
from kerb.app.widgets import Choice, emptied, made, plain, there
from kerb.core.arrays import Mask
from kerb.core.cloud.classes import GROUND, NOISE_CLASSES, UNCLASSIFIED
from kerb.core.cloud.filters import Filter
from kerb.core.cloud.finders import CLASSES, FINDERS, PART, Finder, strip
from kerb.core.cloud.ground import TERRAINS, GroundSettings, ground, terrain_of
from kerb.core.cloud.large import LargeThing
from kerb.core.errors import KerbError
from kerb.core.progress import Progress
from kerb.core.quantity import count, number, symbol
from kerb.core.setting import settings_of

REST_MS = 250
MOST_SAID = 6
MOST_LARGE = 8
STRIP_POINTS = 400_000
THEN = {CLASSES: "Give classes 2 and 1", PART: "Make a part of it"}
KIND = {"shown": "What is shown is looked at.", "used": "All points that are not set aside are looked at."}


class FindPage(Page):
    """Choose what to find, set it while a strip shows the effect, find it everywhere."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Find points", "How it decides")
        self.finder: Finder = FINDERS["outliers"]
        self.help_page = self.finder.page
        self.kept: dict[tuple[str, str], Any] = {}
        self.fields: dict[str, NumberField | ChoiceField] = {}
        self.strip_box: tuple[float, float, float, float] | None = None
        self.found: tuple[str, Mask, bool] | None = None
        self._task: Task | None = None
        self._rest = made(QTimer(self), singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(lambda: self._run(whole=False))
        self._build_body()
        self._build_actions()
        self.session.changed.connect(self._job_changed)

    def _build_body(self) -> None:
        self.choice = made(Choice(), toolTip="What is looked for")
        for key, finder in FINDERS.items():
            self.choice.addItem(finder.title, key)
        self.choice.activated.connect(lambda _i: self.show_finder(self.choice.currentData()))
        self.body.addWidget(self.choice)
        self.help = self.words("")
        self.body.addWidget(hairline())
        self.body.addWidget(section("How"))
        self.terrain = ChoiceField(tuple((key, kind.title) for key, kind in TERRAINS.items()))
        self.terrain.setToolTip("Usual settings for a kind of terrain")
        self.terrain.committed.connect(self._take_terrain)
        self.terrain_line = Line("Terrain", self.terrain)
        self.body.addWidget(self.terrain_line)
        self.form = column()
        self.body.addLayout(self.form)
        self.body.addWidget(hairline())
        self.body.addWidget(section("Where"))
        self.among = self.words("")
        self.on_strip = made(
            QCheckBox("Look at a strip first"), toolTip="A strip through the middle of the view answers fast"
        )
        self.on_strip.setChecked(True)
        self.on_strip.toggled.connect(lambda _on: self._changed())
        self.body.addWidget(self.on_strip)
        self.body.addWidget(hairline())
        self.body.addWidget(section("Found"))
        self.figure = self.result()
        self.note = self.words("")
        row = QHBoxLayout()
        self.sides: dict[str, QPushButton] = {}
        for key, words in (("both", "Both"), ("stayed", "Ground"), ("gone", "Taken out")):
            button = made(QPushButton(words), toolTip="Show ground and what was taken out, or one of the two")
            button.clicked.connect(lambda _on, k=key: self._show_side(k))
            self.sides[key] = button
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)
        self.large = column()
        self.body.addLayout(self.large)
        self.body.addStretch(1)

    def _build_actions(self) -> None:
        self.everywhere = made(
            QPushButton("Find everywhere"), toolTip="Look through the whole cloud with these settings"
        )
        self.everywhere.clicked.connect(self._pressed)
        self.apply = QPushButton("Set aside")
        self.apply.setProperty("role", "main")
        self.apply.clicked.connect(self._apply)
        self.other = made(
            QPushButton("New cloud"), toolTip="A cloud of its own of what was found; this one is hidden and stays"
        )
        self.other.clicked.connect(lambda: self.action_wanted.emit("new_cloud:hide"))
        self.actions_row.addWidget(self.everywhere)
        self.actions_row.addStretch(1)
        self.actions_row.addWidget(self.apply)
        self.more.insertWidget(2, self.other)

    # What is looked for

    def show_finder(self, key: str) -> None:
        """Show one way to find points with the settings it had, or the usual ones of the cloud."""
        self.finder = FINDERS.get(key) or self.finder
        self.help_page = self.finder.page
        self.choice.setCurrentIndex(self.choice.findData(self.finder.id))
        self.help.setText(self.finder.help)
        self._forget()
        self._fill_form()
        self._mirror()
        self._changed()

    def settings_for(self, key: str) -> Any:
        """The settings of a finder for the main cloud as they are now."""
        holding = self.session.open_cloud
        place = (holding.id, key)
        if place not in self.kept:
            self.kept[place] = FINDERS[key].usual(self.session.open_job.store(holding))
        return self.kept[place]

    def _fill_form(self) -> None:
        emptied(self.form)
        self.fields.clear()
        holding = self.session.main_cloud()
        self.terrain_line.setVisible(self.finder.id == "ground")
        if holding is None:
            return
        values, unit = self.settings_for(self.finder.id), symbol(self.session.unit)
        for name, (about, _default) in settings_of(self.finder.settings).items():
            field = ChoiceField(about.choices) if about.choices else NumberField(about, False)
            shown = {"length": unit, "deg": "°"}.get(about.unit, about.unit)
            if isinstance(field, NumberField):
                field.show_value(float(getattr(values, name)), shown)
            else:
                field.show_value(getattr(values, name))
            field.committed.connect(lambda value, n=name: self._set(n, value))
            self.fields[name] = field
            words = f"{about.label} ({shown})" if shown else about.label
            self.form.addWidget(Line(words, field, about.help))
        if self.finder.id == "ground":
            self.terrain.show_value(terrain_of(self.session.open_job.store(holding)))
        self._show_needed()

    def _show_needed(self) -> None:
        """Of thinning only what its way needs."""
        if self.finder.id == "thin":
            way = self.settings_for("thin").way
            for name, needed in (("count", way == "random"), ("every", way == "every")):
                there(self.fields[name].parentWidget()).setVisible(needed)
            there(self.fields["spacing"].parentWidget()).setVisible(way not in ("random", "every"))

    def _set(self, name: str, value: Any) -> None:
        holding = self.session.open_cloud
        before = self.settings_for(self.finder.id)
        kind = type(getattr(before, name))
        self.kept[(holding.id, self.finder.id)] = replace(before, **{name: kind(value)})
        self._show_needed()
        self._changed()

    def _take_terrain(self, terrain: str) -> None:
        holding = self.session.open_cloud
        usual = GroundSettings.usual(terrain, self.session.open_job.store(holding))
        self.kept[(holding.id, "ground")] = usual
        for name, field in self.fields.items():
            if isinstance(field, NumberField):
                field.setModified(False)
            field.show_value(getattr(usual, name), symbol(self.session.unit))
        self._changed()

    # Looking

    def _changed(self) -> None:
        self._forget()
        self._mirror()
        if self.isVisible() and self.session.main_cloud() is not None and not self.finder.seeded:
            self._rest.start()

    def _run(self, whole: bool) -> None:
        """Look for points in the background, on a strip or everywhere; an earlier look is stopped."""
        holding, layer = self.session.main_cloud(), self.desk.colouring.layer()
        if holding is None or layer is None or self.finder.seeded:
            return
        self._stop()
        store, finder, settings = layer.store, self.finder, self.settings_for(self.finder.id)
        middle = self.desk.view.camera.target[:2]
        cut = not whole and self.on_strip.isChecked() and store.count > STRIP_POINTS
        use_all = finder.id == "ground"
        start = time.perf_counter()
        told: list[LargeThing] = []
        said: list[str] = []

        def work(progress: Progress) -> tuple[Mask, Mask, tuple | None]:
            among, box = store.in_use() if use_all else layer.shown(), None
            if cut:
                inside, box = strip(store, middle, STRIP_POINTS)
                among = among & inside
            if finder.id == "ground":
                return among & (ground(store, settings, progress, among, told) == GROUND), among, box
            return finder.find(store, settings, among, progress, *([said] if finder.tells else [])), among, box

        def keep(result: tuple[Mask, Mask, tuple | None]) -> None:
            mask, among, box = result
            self.strip_box = box
            self.found = (holding.id, mask, box is None)
            seconds = time.perf_counter() - start
            share = 100 * int(np.count_nonzero(mask)) / max(int(np.count_nonzero(among)), 1)
            where = "in the strip" if box is not None else "looked at"
            self.figure.setText(
                f"{count(int(np.count_nonzero(mask)))} of {count(int(np.count_nonzero(among)))} points {where}"
                f" · {number(share, 2)} % · {number(seconds, 1)} s"
            )
            self.desk.selection.combine(holding.id, mask)
            self.note.setText("\n".join(said[:MOST_SAID]))
            self._show_large(told if box is None else [])
            self._mirror()

        def fail(text: str, _error: object) -> None:
            self.figure.setText("—")
            self.note.setText(text)

        words = f"Finding: {finder.title.lower()}"
        task = self._task = self.session.start(work, words, keep, fail)
        task.ended.connect(lambda: self._ended(task))
        self.figure.setText("Looking at a strip…" if cut else "Looking…")
        self._mirror()

    def _show_large(self, told: list[LargeThing]) -> None:
        """The large things that were judged by their edges; a click takes one for the opposite."""
        emptied(self.large)
        if not told:
            return
        self.large.addWidget(section("Large things, ticked where they are ground"))
        for thing in sorted(told, key=lambda t: -t.length * t.width)[:MOST_LARGE]:
            box = made(
                QCheckBox(thing.size(symbol(self.session.unit))),
                toolTip=f"{thing.words(symbol(self.session.unit))}. A click takes it for the opposite and looks again",
            )
            box.setChecked(thing.ground)
            box.clicked.connect(partial(self._turn_over, thing))
            self.large.addWidget(box)

    def _turn_over(self, thing: LargeThing) -> None:
        holding, before = self.session.open_cloud, self.settings_for("ground")
        rest = tuple(place for place in before.turned if place != thing.middle)
        turned = rest if len(rest) < len(before.turned) else (*rest, thing.middle)
        self.kept[(holding.id, "ground")] = replace(before, turned=turned)
        self._run(whole=True)

    def _ended(self, task: Task) -> None:
        if self._task is task:
            self._task = None
            self._mirror()

    def _stop(self) -> None:
        if self._task is not None:
            self._task.done.disconnect()
            self._task.stop()
            self._task = None

    def _forget(self) -> None:
        self._rest.stop()
        self._stop()
        self.found, self.strip_box = None, None
        self._show_large([])
        self.figure.setText("—")
        self.note.setText("")
        self.desk.view.update()

    def _pressed(self) -> None:
        if self._task is not None:
            self._task.stop()
        elif self.finder.seeded:
            self.action_wanted.emit(f"select_with:{'piece' if self.finder.id == 'piece' else 'surface'}")
        else:
            self._rest.stop()
            self._run(whole=True)

    def paint(self, view: View, painter: QPainter) -> None:
        """Draw the strip that is looked at, in plan."""
        if self.strip_box is None or view.mode != PLAN:
            return
        west, south, east, north = self.strip_box
        places = np.array([[west, south, 0], [east, south, 0], [east, north, 0], [west, north, 0]], float)
        painter.setPen(QPen(QColor(TINT), 1.2, Qt.PenStyle.DotLine))
        painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in view.to_widget(places).tolist()]))

    # What is done with it

    def _apply(self) -> None:
        holding = self.session.main_cloud()
        if self.found is None or holding is None or self.found[0] != holding.id:
            return
        if not self.found[2]:
            self.note.setText("Only the strip was looked at so far: find everywhere first.")
            return
        if self.finder.then == CLASSES:
            self.desk.points.keep_ground(holding, self._classes(self.found[1]), self.settings_for("ground"))
        elif self.finder.then == PART:
            self.desk.points.make_part(self.finder.title)
        else:
            self.action_wanted.emit("set_aside")
        self.found = None
        self._mirror()

    def _classes(self, is_ground: Mask) -> np.ndarray:
        store = there(self.desk.colouring.layer()).store
        has = store.has("classification")
        classes = np.array(store.column("classification"), np.uint8) if has else np.zeros(store.count, np.uint8)
        open_ = store.in_use() & ~np.isin(classes, NOISE_CLASSES)
        classes[open_] = np.where(is_ground[open_], GROUND, UNCLASSIFIED)
        return classes

    def _show_side(self, side: str) -> None:
        rest = tuple(f for f in self.desk.filtering.current() if f.column != "classification")
        mine = {
            "stayed": (Filter("classification", (GROUND,)),),
            "gone": (Filter("classification", (GROUND,), outside=True),),
        }
        self.desk.filtering.set((*rest, *mine.get(side, ())))

    def _job_changed(self) -> None:
        holding = self.session.main_cloud()
        if self.found is not None and (holding is None or holding.id != self.found[0]):
            self._forget()
        self._mirror()

    def _mirror(self) -> None:
        holding, layer = self.session.main_cloud(), self.desk.colouring.layer()
        self.among.setText(
            f"{holding.name}: {KIND['used' if self.finder.id == 'ground' else 'shown']}" if holding is not None
            else "There is no cloud yet; bring one in (Ctrl+I)."
        )  # fmt: skip
        large = layer is not None and layer.store.count > STRIP_POINTS
        self.on_strip.setVisible(large and not self.finder.seeded)
        found = self.found
        ready = found is not None and holding is not None and found[0] == holding.id
        running = self._task is not None
        words = "Cancel" if running else "Click the place" if self.finder.seeded else "Find everywhere"
        self.everywhere.setText(words)
        self.everywhere.setEnabled(holding is not None)
        self.apply.setText(THEN.get(self.finder.then, "Set aside"))
        self.apply.setVisible(not self.finder.seeded)
        self.apply.setEnabled(ready and found is not None and bool(found[2]) and not running)
        self.apply.setToolTip(plain("Do it; Ctrl+Z takes it back" if ready else "Find everywhere first"))
        self.other.setVisible(self.finder.then == PART)
        self.other.setEnabled(self.desk.selection.count > 0)
        for button in self.sides.values():
            button.setVisible(self.finder.id == "ground")
            button.setEnabled(layer is not None and layer.store.has("classification"))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if not self.fields:
            try:
                self.show_finder(self.finder.id)
            except KerbError as error:
                self.note.setText(str(error))

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self._forget()

    def shut(self) -> None:
        self._forget()
        super().shut()
