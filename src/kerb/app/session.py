"""What the window works on: the open job, the open study, drafts while a line is dragged, and background work.

Widgets read from here and mirror its signals; every change to the job goes through :meth:`Session.execute`. A figure is
given out only for the state it belongs to: :meth:`Session.shown` says which one that is, or why there is none.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app.live import LiveKeeper, Question, Shown
from kerb.app.tasks import Task
from kerb.app.widgets import there
from kerb.core.arrays import Ints32
from kerb.core.cloud.growing import GrowingCloud
from kerb.core.cloud.layout import Layout
from kerb.core.errors import KerbError
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals
from kerb.core.things import CLOUD
from kerb.draw.scene import MeshLayer
from kerb.job import holdings, studies
from kerb.job.endings import NOT, Ending
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from kerb.job.lock import FolderLock, held_by
from kerb.job.places import Settings, unsaved_folder
from kerb.job.state import Holding, StudyRecord
from kerb.studies.kind import Step, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.profiles import Cutter
from kerb.studies.registry import study_kind
from kerb.studies.setup import Setup
from kerb.studies.sources import named_holdings, value_of

REST_MS = 350
# Outcomes of one study that are held in memory.
OUTCOMES_HELD, MOST_WERE = 3, 20
LIVE, WHOLE = "live", "whole"


class Session(QObject):
    """The state of one window."""

    opened = Signal()
    # The job is about to be saved or left: what waits to be kept is kept now.
    settling = Signal()
    changed = Signal()
    selected = Signal()
    drafted = Signal()
    answered = Signal()
    working = Signal(object)
    complained = Signal(str, str)
    said = Signal(str)
    previewed = Signal(object)
    brought = Signal(object)
    troubled = Signal(str)

    def __init__(self, settings: Settings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.job: Job | None = None
        self.study_id = ""
        # The cloud that was looked over last: what the tools act on, until another study is opened.
        self.chosen_cloud = ""
        self.draft: Setup | None = None
        # A setup as it was before a step changed it, to be drawn beside the present one.
        self.before_step: Setup | None = None
        self.meshes: dict[str, MeshLayer] = {}
        # A holding that is moved by eye, and where it is for now.
        self.held: tuple[str, Rigid] | None = None
        self.tasks: list[Task] = []
        self.compute_task: Task | None = None
        self.computing: tuple[str, str] = ("", "")
        # Whether the run under way was begun by itself, and nobody waits for it yet.
        self.unasked = False
        # The state of a study that was computed last in vain, and why.
        self._in_vain = ("", "")
        self.live = LiveKeeper(self)
        # By study and print: undo and redo go between states that were answered a moment ago.
        self._outcomes: dict[str, dict[str, tuple[Outcome, Cutter]]] = {}
        self._draft_print: tuple[Setup, str] | None = None
        # Of the file that is read as the first of a job: what is drawn of it is in its unit.
        self._unit_read = ""
        self._lock = FolderLock()
        self._were: list[str] = []  # studies that were open, the last one last
        self._rest = QTimer(self, singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(lambda: self.compute(by_itself=True))
        self.troubled.connect(lambda text: self.complained.emit("Not kept", text))

    # The job

    def keeps(self, target: Path) -> bool:
        """Whether a file is a source of the job, which is never written to; if so, that is said."""
        mine = self.open_job.state.reads(target)
        if mine:
            self.complained.emit("Not written", f"{target} is a source of this job and is never written to.")
        return mine

    @property
    def open_job(self) -> Job:
        """The open job, for work that is offered only while there is one."""
        assert self.job is not None
        return self.job

    def set_job(self, job: Job) -> None:
        """Make a job the open one, unless another Kerb has it open."""
        if self.job is None or self.job.folder != job.folder:
            lock = FolderLock()
            if not lock.take(job.folder):
                words = f"is open in {held_by(job.folder)}. Close it there first; two that save would undo each other."
                self.complained.emit("Already open", f"{job.folder} {words}")
                return
            self._lock.release()
            self._lock = lock
            job.sweep()
        said = job.without_damaged()
        self._leave()
        self.job = job
        job.listeners.append(self._job_changed)
        job.troubles.append(self.troubled.emit)
        if "unsaved" not in job.folder.parts:
            self.settings.add_recent(job.folder)
        self.opened.emit()
        if job.state.studies:
            self.select(job.state.studies[0].id)
        else:
            self.changed.emit()
        if said:
            self.complained.emit("Part of the job cannot be read", said)

    def close_job(self) -> None:
        """Have no job open."""
        self._leave()
        self._lock.release()

    def _leave(self) -> None:
        """Keep the job that is open and forget all that was shown of it."""
        self.stop_all()
        if self.job is not None:
            self.job.flush()
            self.job.listeners.clear()
            self.job.troubles.clear()
        self.job = None
        self._outcomes.clear()
        self.meshes.clear()
        self.held = None
        self.draft = self.before_step = None
        self.study_id = self.chosen_cloud = ""
        self.live.drop()

    def moved(self) -> None:
        """The open job is in another folder now."""
        if self.job is not None:
            self._lock.take(self.job.folder)

    def execute(self, change: Change) -> None:
        """Carry out a change. Errors are shown, never lost."""
        if self.job is None:
            return
        try:
            self.job.execute(change)
        except KerbError as error:
            self.complained.emit("The job could not be changed", str(error))

    def undo(self) -> None:
        """Take the last step back; what was being computed for it is stopped."""
        if self.job is not None:
            self.draft = self.before_step = None
            self.job.undo()
            self._asked_anew()

    def redo(self) -> None:
        """Do the step again that was taken back."""
        if self.job is not None:
            self.draft = self.before_step = None
            self.job.redo()
            self._asked_anew()

    @property
    def decimals(self) -> Decimals:
        """Decimals to show."""
        return self.job.state.title.decimals if self.job else Decimals()

    @property
    def unit(self) -> str:
        """Code of the job unit."""
        if self._unit_read and not self.has_data:
            return self._unit_read
        return self.job.state.title.unit if self.job else "m"

    @property
    def has_data(self) -> bool:
        """Whether the job has anything."""
        return self.job is not None and bool(self.job.state.holdings)

    def main_cloud(self) -> Holding | None:
        """The cloud that controls and new studies mean: clicked last, of the open study, or the first shown."""
        if self.job is None:
            return None
        state = self.job.state
        clicked = state.holding(self.chosen_cloud) if self.chosen_cloud else None
        if clicked is not None and clicked.kind == CLOUD and clicked.visible:
            return clicked
        setup = self.setup
        named = [state.holding(key) for key in named_holdings(setup).values()] if setup is not None else []
        chosen = next((h for h in named if h is not None and h.kind == CLOUD), None)
        clouds = state.of_kind(CLOUD)
        shown = [h for h in clouds if h.visible] or list(clouds)
        if chosen is not None and (chosen.visible or chosen in shown):
            return chosen
        return shown[0] if shown else None

    @property
    def open_cloud(self) -> Holding:
        """The main cloud, for work that is offered only while there is one."""
        return there(self.main_cloud())

    def _job_changed(self) -> None:
        first = self.job.state.studies if self.job is not None else ()
        # In a job without a study there is none to be gone: a page at the right stays as it is.
        if self.job is not None and self.job.state.study(self.study_id) is None and (self.study_id or first):
            kept = next((key for key in reversed(self._were) if self.job.state.study(key) is not None), "")
            self.study_id = kept or (first[0].id if first else "")
            self.draft = None
            self.live.forget()
            self.selected.emit()
        self._stop_what_is_gone()
        self.changed.emit()

    def _stop_what_is_gone(self) -> None:
        """A computation belongs to a state: when the study no longer says the same, it is stopped."""
        if self.compute_task is None or self.job is None:
            return
        key, print_ = self.computing
        study = self.job.state.study(key)
        if study is None or studies.fingerprint_of(self.job.state, study) != print_:
            self.compute_task.stop()

    # Studies

    @property
    def study(self) -> StudyRecord | None:
        """The open study."""
        return self.job.state.study(self.study_id) if self.job else None

    @property
    def kind(self) -> StudyKind | None:
        """The kind of the open study."""
        return study_kind(self.study.kind) if self.study is not None else None

    @property
    def setup(self) -> Setup | None:
        """Setup of the open study: the draft while something is dragged, else as it is in the job."""
        if self.draft is not None:
            return self.draft
        return studies.setup_of(self.study) if self.study is not None else None

    def select(self, study_id: str) -> None:
        """Open a study."""
        if self.job is None or self.job.state.study(study_id) is None:
            return
        self._were = [*[key for key in self._were if key != study_id][-MOST_WERE:], study_id]
        self.study_id = study_id
        self.draft = self.before_step = None
        self.chosen_cloud = ""
        self.live.forget()
        self.selected.emit()
        self.changed.emit()
        self._ask()

    def shown(self) -> Shown:
        """What may be shown of the open study: its outcome if it belongs to what the study says, else a live one."""
        study, setup = self.study, self.setup
        if study is None or setup is None or self.job is None:
            return Shown()
        missing = setup.missing()
        if missing:
            return Shown(None, missing[0])
        print_ = self._print(study, setup)
        if study.found is not None and study.found.print == print_:
            outcome = self.outcome(study)
            if outcome is not None:
                return Shown(outcome)
        quick = self.live.found(print_)
        if quick is not None:
            return Shown(quick)
        trouble = self.live.trouble(print_)
        if trouble or self._in_vain[0] == print_:
            return Shown(None, trouble or self._in_vain[1])
        if self.compute_task is not None and self.computing == (study.id, print_):
            return Shown(None, "Computing…")
        return Shown(None, "Being read…" if not self.live.idle() else "Not computed yet.")

    def outcome(self, study: StudyRecord | None = None) -> Outcome | None:
        """What a study found last, be it out of date or not; read from the job once."""
        study = study or self.study
        if study is None or self.job is None or study.found is None:
            return None
        known = self._outcomes.get(study.id, {}).get(study.found.print)
        if known is None:
            found = studies.outcome_of(self.job, study)
            if found is None:
                return None
            known = self._remember(study.id, study.found.print, found)
        return known[0]

    def _remember(self, study_id: str, print_: str, outcome: Outcome) -> tuple[Outcome, Cutter]:
        """Hold an outcome, with the few before it."""
        held = self._outcomes.setdefault(study_id, {})
        held.pop(print_, None)
        held[print_] = (outcome, Cutter(outcome))
        while len(held) > OUTCOMES_HELD:
            del held[next(iter(held))]
        return held[print_]

    def cutter(self) -> Cutter | None:
        """Cuts the outcome that is shown along lines that are moved; None while there is no full one."""
        shown, study = self.shown(), self.study
        if not shown.whole or study is None:
            return None
        return self._outcomes[study.id][study.found.print][1] if study.found is not None else None

    def stale(self, study: StudyRecord) -> bool:
        """Whether the outcome of a study no longer fits its inputs."""
        return self.job is not None and studies.is_stale(self.job.state, study)

    def draft_setup(self, **values: Any) -> None:
        """Try other settings without changing the job: the figure follows live."""
        setup = self.setup
        if setup is None:
            return
        self._rest.stop()
        self.draft = replace(setup, **values)
        self._ask()
        self.drafted.emit()

    def commit(self, sentence: str, **values: Any) -> None:
        """Put settings into the open study as one undoable step; the full answer follows."""
        study = self.study
        if study is None or self.setup is None:
            return
        after = replace(self.setup, **values)
        self.draft = None
        if after != studies.setup_of(study):
            self.execute(studies.changed(study, sentence, after))
        self._ask()
        self.drafted.emit()
        self.rest()

    def drop_draft(self) -> None:
        """Forget what was being dragged."""
        self.draft = None
        self._ask()
        self.drafted.emit()

    def rest(self) -> None:
        """Compute the open study when nothing has moved for a moment, if it can be and needs to be."""
        study, setup = self.study, self.setup
        if study is None or setup is None or self.job is None or setup.missing():
            return
        if not studies.is_fresh(self.job.state, study):
            self._rest.start()

    def resting(self) -> bool:
        """Whether a computation is about to begin."""
        return self._rest.isActive()

    def compute(self, by_itself: bool = False) -> None:
        """Run the open study in the background. A run under way is stopped first, unless it is of the same state: that is waited
        for. Why one that was begun ``by_itself`` came to nothing is told in the sheet only: nobody waits for it."""
        study = self.study
        if study is None or self.job is None:
            return
        self._rest.stop()
        if self.compute_task is not None:
            same = self.computing == (study.id, studies.fingerprint_of(self.job.state, study))
            if same and (by_itself or self.unasked):
                self.unasked = self.unasked and by_itself
                self.working.emit(self.compute_task)
                return
            self.compute_task.stop()
        job = self.job
        try:
            run = studies.ready(job, study)
        except KerbError as error:
            self.said.emit(str(error))
            return

        def keep(outcome: Outcome) -> None:
            current = job.state.study(study.id)
            if job is not self.job or current is None or studies.fingerprint_of(job.state, current) != run.print:
                return
            self._remember(study.id, run.print, outcome)
            self.execute(studies.answered(current, outcome, run.print))
            for change in studies.made_holdings(job, current, outcome):
                self.execute(change)
            self.answered.emit()

        def fail(text: str, error: object) -> None:
            if isinstance(error, KerbError):
                self._in_vain = (run.print, text)
            if not (self.unasked and isinstance(error, KerbError)):
                self.complained.emit(f"Computing {study.name}", text)

        self.computing, self.unasked = (study.id, run.print), by_itself
        task = self.start(lambda progress: run(job, progress), f"Computing {study.name}", keep, fail)
        self.compute_task = task
        task.ended.connect(lambda: self._compute_ended(task))

    def compute_each(self, keys: list[str]) -> None:
        """Compute some studies one after the other in the background; one that fails does not stop the others."""
        job = self.job
        if job is None or not keys:
            return
        study = job.state.study(keys[0])
        if study is None:
            self.compute_each(keys[1:])
            return
        opened, self.study_id = self.study_id, study.id
        self.compute()
        self.study_id = opened
        task = self.compute_task
        if task is not None and self.computing[0] == study.id and task in self.tasks:
            task.ended.connect(lambda: self.compute_each(keys[1:]))
        else:
            self.compute_each(keys[1:])

    def take_step(self, step: Step) -> None:
        """Carry out a named step of the open study in the background, unless the study changes meanwhile."""
        study, setup, job = self.study, self.setup, self.job
        if study is None or setup is None or job is None:
            return
        try:
            sources = studies.sources_of(job, setup)
        except KerbError as error:
            self.said.emit(str(error))
            return
        print_ = self._print(study, setup)

        def keep(taken: tuple[Setup, str]) -> None:
            after, remark = taken
            current, now = self.study, self.setup
            if job is not self.job or current is None or now is None or current.id != study.id:
                return
            if self._print(current, now) != print_:
                self.said.emit(f"{step.label}: the study was changed meanwhile; nothing was done.")
                return
            self.before_step = now
            self.commit(step.label.lower(), **{name: getattr(after, name) for name in after.declared()})
            words = step.said or f"{step.label}: done. Ctrl+Z takes it back."
            self.said.emit(f"{remark} {words}" if remark else words)

        def fail(text: str, _error: object) -> None:
            self.said.emit(text)

        self.start(lambda progress: step.taken(setup, sources, progress), step.label, keep, fail)

    def _compute_ended(self, task: Task) -> None:
        if self.compute_task is task:
            self.compute_task = None
        self.changed.emit()

    def _print(self, study: StudyRecord, setup: Setup) -> str:
        assert self.job is not None
        if setup is not self.draft:
            return studies.print_of(self.job.state, study.kind, setup, study.id)
        if self._draft_print is None or self._draft_print[0] is not setup:
            self._draft_print = (setup, studies.print_of(self.job.state, study.kind, setup))
        return self._draft_print[1]

    def _ask(self) -> None:
        """Ask for a live answer for the study as it is now, unless it has a full one."""
        study, setup = self.study, self.setup
        if study is None or setup is None or self.job is None or setup.missing():
            return
        print_ = self._print(study, setup)
        if self.draft is None and study.found is not None and study.found.print == print_:
            return
        try:
            sources = studies.sources_of(self.job, setup)
        except KerbError:
            return
        used, state = named_holdings(setup), self.job.state
        marks = [repr(studies.mark_of(state.holding(key), value_of(setup, name))) for name, key in used.items()]
        trial = self.draft is not None
        self.live.ask(Question(study_kind(study.kind), setup, sources, (study.id, *marks), print_, trial))

    def _asked_anew(self) -> None:
        self._ask()
        self.rest()

    # Files

    def ensure_job(self) -> bool:
        """Make an empty job where none is open; whether there is one now."""
        if self.job is None:
            try:
                self.set_job(Job.create(unsaved_folder()))
            except KerbError as error:
                self.complained.emit("No job could be made", str(error))
        return self.job is not None

    def bring(self, wishes: list[ImportWish], endings: list[Ending] | None = None) -> None:
        """Carry out wishes one after the other; each becomes a holding, one step of undo.

        ``endings`` are those of the same batch that ended before. How each file ended is told when the batch has.
        """
        ended = list(endings or [])
        if not wishes:
            if ended:
                self.brought.emit(ended)
            return
        if not self.ensure_job():
            return
        job, wish, rest = self.open_job, wishes[0], wishes[1:]
        state = job.state
        how: list[Ending] = []

        def work(progress: Progress) -> Holding:
            grown: list[GrowingCloud] = []

            def preview(xyz: Ints32, layout: Layout) -> None:
                self._unit_read = layout.reference.unit.code
                before = grown.pop() if grown and grown[-1].layout is layout else GrowingCloud(layout)
                grown[:] = [before.with_chunk(xyz)]
                self.previewed.emit(grown[0])

            return holdings.import_file(job.folder, state, wish, progress, preview)

        def keep(holding: Holding) -> None:
            if job is self.job:
                self.execute(holdings.added(job, holding))
                how.append(Ending.of(wish, holding))

        def fail(text: str, error: object) -> None:
            how.append(Ending.failed(wish, text, error))

        def go_on() -> None:
            self._preview_ended()
            if how and job is self.job:
                self.bring(rest, ended + how)
            else:
                why = "stopped" if job is self.job else "another job was opened"
                left = [Ending(one.path.name, NOT, why) for one in (wishes if not how else rest)]
                self.brought.emit([*ended, *how, *left])

        task = self.start(work, f"Importing {wish.path.name}", keep, fail)
        task.ended.connect(go_on)

    def _preview_ended(self) -> None:
        self._unit_read = ""
        self.previewed.emit(None)

    def start(
        self,
        work: Callable[[Progress], Any],
        title: str,
        keep: Callable[[Any], None] | None = None,
        fail: Callable[[str, object], None] | None = None,
    ) -> Task:
        """Start background work; its end is announced by ``working`` with the task still in ``tasks`` or not."""
        task = Task(work, title, self)
        self.tasks.append(task)
        if keep is not None:
            task.done.connect(keep)
        task.failed.connect(fail or (lambda text, _error: self.complained.emit(title, text)))
        task.ended.connect(lambda: self._ended(task))
        task.start()
        self.working.emit(task)
        return task

    def _ended(self, task: Task) -> None:
        if task in self.tasks:
            self.tasks.remove(task)
        self.working.emit(None)

    def stop_all(self) -> None:
        """Stop all background work and wait for it."""
        self._rest.stop()
        for task in list(self.tasks):
            task.stop()
        for task in list(self.tasks):
            task.wait(10.0)

    def close(self) -> None:
        """End all threads."""
        self.stop_all()
        self.live.close()
        if self.job is not None:
            self.job.flush()
        self._lock.release()
