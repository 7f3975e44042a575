"""Actions on studies of any kind: new, draw, step, compute, duplicate, ask of the next survey, copy, help."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QPoint, Signal
from PySide6.QtGui import QCursor, QGuiApplication
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from kerb.app.dialogs.chooser import StudyChooser
from kerb.app.dialogs.questions import shown_once
from kerb.app.dialogs.reading import Reading
from kerb.app.dialogs.write import ask_target
from kerb.app.filtering import sentence as filter_sentence
from kerb.app.session import Session
from kerb.app.shapes import drawable
from kerb.app.stage import Stage
from kerb.app.tools.drawing import DrawShape
from kerb.app.tools.moving import MoveByEye
from kerb.app.tools.pick_place import PickPlace
from kerb.app.views.view import PLAN, SECTION
from kerb.app.widgets import TickMenu, there
from kerb.core.cloud.classes import class_words
from kerb.core.cloud.filters import Filter
from kerb.core.errors import KerbError
from kerb.core.geometry.area import Area, overlapping
from kerb.core.geometry.features import LineSet
from kerb.core.geometry.rigid import Rigid
from kerb.core.quantity import first_of
from kerb.core.things import LINES
from kerb.job import holdings, studies
from kerb.job.correcting import corrected
from kerb.job.job import Change
from kerb.job.picked import with_columns
from kerb.job.state import Holding
from kerb.report.reading import method_text
from kerb.report.text import figures_table, tab_separated
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import RINGS, Way
from kerb.studies.kind import Correction
from kerb.studies.registry import STUDIES, study_kind
from kerb.studies.scope import Scope
from kerb.studies.taking import item_from

# A new study of clouds of no more points than this together is answered at once.
AT_ONCE = 5_000_000
# So many areas are held against one another when they are taken.
MOST_COMPARED = 400


def _same_ring(ring: Drawn, other: Any) -> bool:
    """Whether a drawn ring has the vertices of another, wherever it begins."""
    mine, theirs = np.asarray(ring.places, float)[:, :2], np.asarray(other, float)[:, :2]
    if mine.shape != theirs.shape or not len(mine):
        return False
    start = int(np.argmin(np.hypot(*(mine - theirs[0]).T)))
    return bool(np.allclose(np.roll(mine, -start, axis=0), theirs, rtol=0, atol=1e-6))


class StudyActions(QObject):
    """The doing of actions of the menu Study. Fields and steps are named as ``field`` or ``kind.step``."""

    fit_wanted = Signal()

    def __init__(self, session: Session, stage: Stage, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.stage, self.parent_ = session, stage, parent
        self.menu_shown: QMenu | None = None

    # New

    def new_study(self, kind: str = "") -> None:
        """Ask a question of the job: of a kind, or of one that is chosen."""
        if not kind:
            chooser = StudyChooser(self.parent_)
            chooser.chosen.connect(self.new_study)
            chooser.open()
            return
        if self.session.job is None:
            return
        about = STUDIES[kind]
        try:
            setup = studies.begun(self.session.open_job.state, kind, self.session.main_cloud())
            setup = studies.fitted(self.session.open_job, kind, studies.on_ground(self.session.open_job, setup))
        except KerbError as error:
            self.session.said.emit(str(error))
            return
        change, study = studies.made(self.session.open_job.state, kind, about.name, setup)
        self.session.execute(change)
        self.session.select(study.id)
        # No tool is taken unasked: a first click changes nothing.
        self.stage.use_edit_tool()
        drawn = drawable(setup)
        if drawn:
            field = about.setup.declared()[drawn[0]]
            key = f" ({field.key})" if field.key else ""
            self.session.said.emit(f"{field.label}: draw it with Draw…{key} in the sheet, or take it from a holding.")
        if about.at_once and studies.size_of(self.session.open_job, setup) <= AT_ONCE:
            self.session.rest()

    def _chosen_correction(self, offers: tuple[Correction, ...], which: str) -> Correction | None:
        """The one that is named by the first word of its title, else the one that is chosen."""
        if which:
            return next((one for one in offers if one.title.lower().startswith(which.lower())), None)
        if len(offers) == 1:
            return offers[0]
        titles = [one.title for one in offers]
        text, accepted = QInputDialog.getItem(self.parent_, "Take it out", "By what was found:", titles, 0, False)
        return offers[titles.index(text)] if accepted else None

    def keep_with_points(self) -> None:
        """Write what the open study says of the points of a list into that list, so that it lives with them."""
        job, study, outcome, kind = self.session.job, self.session.study, self.session.outcome(), self.session.kind
        if job is None or study is None or outcome is None or kind is None or self.session.stale(study):
            self.session.said.emit("Compute the study first.")
            return
        setup = studies.setup_of(study)
        kept = kind.keeps(setup, outcome) if kind.keeps is not None else None
        holding = job.state.holding(getattr(setup, kept.field)) if kept is not None else None
        if kept is None or holding is None:
            self.session.said.emit("This study says nothing of a list of points.")
            return
        try:
            after = with_columns(job, holding, kept.columns)
        except KerbError as error:
            self.session.complained.emit("Not kept", str(error))
            return
        asked = replace(study, setup=replace(setup, **kept.values).to_json())
        words = f"Kept {' and '.join(kept.columns)} of {study.name} with {holding.name}"
        self.session.execute(Change(words, lambda state: state.with_holding(after).with_study(asked)))
        self.session.rest()

    def correct_study(self, which: str = "") -> None:
        """Take out the bias that the open study found: a moved copy of what it asked about, and the same question of it."""
        job, study, outcome, kind = self.session.job, self.session.study, self.session.outcome(), self.session.kind
        if job is None or study is None or outcome is None or kind is None or self.session.stale(study):
            self.session.said.emit("Compute the study first.")
            return
        offers = kind.corrections(outcome) if kind.corrections is not None else ()
        wanted = self._chosen_correction(offers, which) if offers else None
        if wanted is None:
            if not offers:
                self.session.said.emit(
                    "There is nothing to take out: no control points count, and nothing else was found."
                )
            return
        try:
            change, after = corrected(job, study, wanted)
        except KerbError as error:
            self.session.complained.emit("Not taken out", str(error))
            return
        self.session.execute(change)
        self.session.select(after.id)
        self.session.rest()

    def follow_study(self, cloud: str = "") -> None:
        """Ask the same of another cloud, the next survey's when none is named."""
        job, study = self.session.job, self.session.study
        if job is None or study is None:
            return
        offers = studies.later_clouds(job.state, study)
        if not offers:
            self.session.said.emit("There is no other cloud to ask; bring the next survey in first.")
            return
        chosen = next((h for h in offers if h.id == cloud), None) or self._asked(
            offers, "Next survey", "Ask the same of"
        )
        if chosen is None:
            return
        try:
            change, made = studies.following(job.state, study, chosen)
        except KerbError as error:
            self.session.said.emit(str(error))
            return
        self.session.execute(change)
        self.session.select(made.id)
        fresh = [step for step in study_kind(made.kind).steps if step.fresh]
        setup = self.session.setup
        if fresh and setup is not None and setup.missing():
            self.session.take_step(fresh[0])
        else:
            self.session.rest()

    def _asked(self, offers: list[Holding], title: str, words: str) -> Holding | None:
        if len(offers) == 1:
            return offers[0]
        names = [f"{h.name}, {h.epoch or 'no date'}" for h in offers]
        text, accepted = QInputDialog.getItem(self.parent_, title, words, names, 0, False)
        return offers[names.index(text)] if accepted else None

    # Drawing and steps

    def draw(self, field: str = "") -> None:
        """Draw a field of the open study, the first that is drawn when none is named."""
        setup = self.session.setup
        if setup is None:
            self.session.said.emit("Open a study first.")
            return
        fields = drawable(setup)
        field, _, way = field.partition("/")
        name = field or (fields[0] if fields else "")
        if name not in fields:
            self.session.said.emit("Nothing of this study is drawn.")
            return
        if self.stage.view.mode == SECTION:
            self.stage.view.set_mode(PLAN)
        ways = setup.declared()[name].ways
        if ways and not way:
            way = self._asked_way(ways)
            if not way:
                return
        self.stage.use_tool(DrawShape(self.stage.view, self.session, name, self.stage.use_edit_tool, way))

    def _asked_way(self, ways: tuple[Way, ...]) -> str:
        """Which of the ways of a field is to be drawn; nothing when that is given up."""
        labels = [way.label for way in ways]
        chosen, accepted = QInputDialog.getItem(self.parent_, "Add a step", "What shall be done", labels, 0, False)
        return ways[labels.index(chosen)].id if accepted and chosen in labels else ""

    def step(self, name: str = "") -> None:
        """Carry out a named step of the open study."""
        kind = self.session.kind
        found = next((s for s in kind.steps if name in ("", s.id)), None) if kind is not None else None
        if found is None:
            self.session.said.emit("The open study has no such step.")
            return
        setup = self.session.setup
        lacking = found.lacks(setup) if setup is not None else ""
        if lacking:
            self.session.said.emit(lacking)
        else:
            self.session.take_step(found)

    def pick_place(self, field: str = "") -> None:
        """Fill a field of the open study by clicks."""
        kind = self.session.kind
        found = next((s for s in kind.place_steps if field in ("", s.field)), None) if kind is not None else None
        if found is None:
            self.session.said.emit("The open study has nothing that is picked in plan.")
            return
        if not found.anywhere:
            self.stage.view.set_mode(PLAN)
        self.stage.use_tool(PickPlace(self.stage.view, self.session, found, self.stage.use_edit_tool))

    def move_by_eye(self) -> None:
        """Move what the open study moves by hand, for a start."""
        kind, setup = self.session.kind, self.session.setup
        step = kind.move_step if kind is not None else None
        if step is None or setup is None:
            self.session.said.emit("The open study moves nothing.")
            return
        key = getattr(setup, step.moving).holding
        holding = self.session.open_job.state.holding(key) if key else None
        if holding is None:
            self.session.said.emit("Choose what is moved first.")
            return
        if not holding.visible:
            self.session.execute(holdings.altered(holding, f"Showed {holding.name}", visible=True).as_look())
        try:
            start = step.read(getattr(setup, step.field), np.mean(self.session.open_job.bounds_of(holding), axis=0))
        except KerbError as error:
            self.session.said.emit(f"It begins where it lies: {error}.")
            start = Rigid()
        self.stage.use_tool(MoveByEye(self.stage, self.session, step, start, self.stage.use_edit_tool))

    def take_rings(self, name: str) -> None:
        """Take the areas of a holding of lines into a field of many rings."""
        setup, job = self.session.setup, self.session.job
        if setup is None or job is None or name not in setup.named(RINGS):
            return
        offers = [h for h in job.state.of_kind(LINES) if _areas(job.thing(h).thing)]
        if not offers:
            self.session.said.emit("No holding has areas; bring a drawing with closed lines in first.")
            return
        holding = self._asked(offers, "Areas of a holding", f"{setup.declared()[name].label} from")
        if holding is None:
            return
        items: tuple[Item, ...] = getattr(setup, name)
        taken = {item.key for item in items}
        about, made, twice = setup.declared()[name], [], 0
        there_ = [item.ring for item in items]
        for number, (area, fields) in enumerate(_areas(job.thing(holding).thing), 1):
            if any(_same_ring(ring, area.rings[0]) for ring in there_):
                twice += 1
                continue
            free = next(f"t{n}" for n in range(1, 10_000) if f"t{n}" not in taken)
            taken.add(free)
            made.append(item_from(about, area, fields, free, area.name or f"{holding.name} {number}", "holding"))
        if not made:
            self.session.said.emit(f"The areas of {holding.name} are there already; none was taken twice.")
            return
        self.session.commit(f"took {len(made)} areas of {holding.name}", **{name: (*items, *made)})
        every = [Area((item.ring.xy, *item.ring.holes), item.name) for item in (*items, *made) if item.ring.xy]
        pairs = [f"{one} and {other}" for one, other, _ in overlapping(every)] if len(every) <= MOST_COMPARED else []
        said = [f"{twice} were there already" if twice else "", f"overlapping: {first_of(pairs, 3)}" if pairs else ""]
        if any(said):
            self.session.said.emit(f"Took {len(made)} areas; {'; '.join(part for part in said if part)}.")

    def compute(self) -> None:
        """Compute the open study in full."""
        self.session.compute()

    # The record

    def rename_study(self) -> None:
        """Give the open study another name."""
        study = self.session.study
        if study is None:
            return
        name, accepted = QInputDialog.getText(self.parent_, "Rename", "Name of the study", text=study.name)
        if accepted and name.strip() and name.strip() != study.name:
            self.session.execute(studies.renamed(study, name.strip()))

    def duplicate_study(self) -> None:
        """Make a copy of the open study."""
        study = self.session.study
        if study is not None:
            change, twin = studies.duplicated(self.session.open_job.state, study)
            self.session.execute(change)
            self.session.select(twin.id)
            self.session.rest()

    def remove_study(self) -> None:
        """Take the open study out of the job."""
        if self.session.study is not None:
            self.session.execute(studies.removed(self.session.study))

    def in_report(self) -> None:
        """Put the open study into the report, or take it out."""
        study = self.session.study
        if study is not None:
            after = replace(study, in_report=not study.in_report)
            words = f"{'Put' if after.in_report else 'Took'} {study.name} {'into' if after.in_report else 'out of'} the report"
            self.session.execute(Change(words, lambda state: state.with_study(after)))

    def copy_figures(self) -> None:
        """Put the figures that are shown on the clipboard."""
        outcome = self.session.shown().outcome
        if outcome is None:
            self.session.said.emit("There are no figures of this state yet.")
            return
        QGuiApplication.clipboard().setText(tab_separated(figures_table(outcome)))
        self.session.said.emit("Figures copied as text")

    def write_study(self, flag: str = "") -> None:
        """Write what the open study found to a file that its kind offers."""
        kind, shown = self.session.kind, self.session.shown()
        offers = (
            [o for o in kind.options if o.output and o.endings and flag in ("", o.flag)] if kind is not None else []
        )
        if kind is None or not offers or kind.write is None:
            self.session.said.emit("This study offers no file of its own; Deliver… has the report and the figures.")
        elif not shown.whole:
            self.session.said.emit(shown.words or "Compute the study first.")
        else:
            target = ask_target(self.parent_, self.session, there(self.session.study).name, offers[0].endings)
            if target is not None:
                self.write_study_to(offers[0].flag, target)

    def write_study_to(self, flag: str, target: Path) -> None:
        """Write a file of the open study in the background. Sources of the job are never written to."""
        job, study, kind = self.session.open_job, there(self.session.study), there(self.session.kind)
        outcome, setup = there(self.session.shown().outcome), there(self.session.setup)
        if self.session.keeps(target):
            return
        try:
            sources = studies.sources_of(job, setup)
        except KerbError as error:
            self.session.complained.emit("Not written", str(error))
            return
        write = there(kind.write)

        def wrote(notes: list[tuple[str, str]]) -> None:
            job.note(Change(f"Wrote {study.name} to {target}", lambda state: state))
            words = "; ".join(text for _code, text in notes)
            self.session.said.emit(f"Wrote {target}" + (f" ({words})" if words else ""))

        self.session.start(lambda _p: write(setup, outcome, sources, {flag: target}), f"Writing {target.name}", wrote)

    # Which points count

    def choose_classes(self, field: str) -> None:
        """A menu of the classes that are there, ticked where they count."""
        setup, job = self.session.setup, self.session.job
        scope = getattr(setup, field) if setup is not None else None
        holding = job.state.holding(scope.holding) if job is not None and isinstance(scope, Scope) else None
        if (
            job is None
            or holding is None
            or not isinstance(scope, Scope)
            or not job.store(holding).has("classification")
        ):
            self.session.said.emit("The cloud has no classes.")
            return
        menu = TickMenu(self.parent_)
        codes = (None, *job.store(holding).present("classification"))

        def tick(code: int | None) -> None:
            before = getattr(self.session.setup, field, None)
            if isinstance(before, Scope):
                chosen = tuple(sorted(set(before.classes) ^ {code})) if code is not None else ()
                self._use(field, f"classes {', '.join(map(str, chosen)) or 'all but noise'}", classes=chosen)
            show()

        def show() -> None:
            now = getattr(self.session.setup, field, None)
            for action, code in zip(menu.actions(), codes, strict=True):
                on = isinstance(now, Scope) and (code in now.classes if code is not None else not now.classes)
                action.setChecked(on)

        for code in codes:
            words = class_words(code) if code is not None else "All but noise"
            menu.addAction(words, partial(tick, code)).setCheckable(True)
        show()
        self._popup(menu)

    def choose_filters(self, field: str) -> None:
        """A menu to take over the filters that are set on the cloud, saved ones, or none."""
        setup, job = self.session.setup, self.session.job
        scope = getattr(setup, field) if setup is not None else None
        holding = job.state.holding(scope.holding) if job is not None and isinstance(scope, Scope) else None
        if job is None or holding is None:
            return
        menu = QMenu(self.parent_)
        shown = tuple(f for f in holding.filters if f.on)
        for name, conditions in [("As the view shows it now", shown), *job.state.filters]:
            action = menu.addAction(name, lambda c=conditions: self.use_filters(field, c))
            action.setEnabled(bool(conditions))
        menu.addAction("Every point", lambda: self.use_filters(field, ()))
        self._popup(menu)

    def use_filters(self, field: str, conditions: tuple[Filter, ...]) -> None:
        """Let only points that pass some filters count in the open study."""
        job, setup = self.session.open_job, self.session.setup
        holding = job.state.holding(getattr(setup, field).holding)
        if holding is not None:
            said = filter_sentence(conditions, job.store(holding), holding, self.session.unit)
            self._use(field, f"points by {said}", only=conditions)

    def choose_within(self, field: str) -> None:
        """A menu of holdings whose areas the points must lie in."""
        setup, job = self.session.setup, self.session.job
        if setup is None or job is None:
            return
        menu = QMenu(self.parent_)
        for holding in job.state.of_kind(LINES):
            areas = tuple(area for area, _ in _areas(job.thing(holding).thing))
            if areas:
                menu.addAction(
                    f"{holding.name} ({len(areas)})",
                    lambda a=areas, h=holding: self._use(field, f"points in {h.name}", within=a),
                )
        menu.addAction("Everywhere", lambda: self._use(field, "points everywhere", within=()))
        self._popup(menu)

    def _use(self, field: str, words: str, **values: object) -> None:
        scope = getattr(self.session.setup, field)
        self.session.commit(f"counts {words}", **{field: replace(scope, **values)})

    def _popup(self, menu: QMenu, at: QPoint | None = None) -> None:
        menu.popup(at or QCursor.pos())
        self.menu_shown = menu

    def study_help(self) -> None:
        """Method, formulas and limits of the open study."""
        kind = self.session.kind
        if kind is not None:
            shown_once(Reading(f"{kind.title}: how it is computed", method_text(kind.help_page), self.parent_))


def _areas(thing: object) -> list[tuple[Area, dict[str, object]]]:
    """The areas of a set of lines with their fields; none of anything else."""
    if not isinstance(thing, LineSet):
        return []
    return [
        (area, {key: values[rows[0]] for key, values in thing.fields.items()})
        for rows, area in zip(thing.areas(), thing.shapes(), strict=True)
    ]
