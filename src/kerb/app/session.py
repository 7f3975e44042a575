"""What the window works on: the open job, the open study, drafts while a line is dragged, and background work.

Widgets read from here and mirror its signals; every change to the job goes through :meth:`Session.execute`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app.live import LiveKeeper
from kerb.app.tasks import Task
from kerb.core.errors import KerbError, TruncatedError
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals
from kerb.draw.scene import MeshLayer
from kerb.job import holdings, studies
from kerb.job.holdings import ImportWish
from kerb.job.job import Change, Job
from kerb.job.lock import FolderLock
from kerb.job.places import Settings, unsaved_folder
from kerb.job.state import Holding, StudyRecord
from kerb.studies.outcome import Outcome
from kerb.studies.stockpile import StockpileSetup

REST_MS = 350


class Session(QObject):
    """The state of one window."""

    opened = Signal()
    changed = Signal()
    selected = Signal()
    drafted = Signal()
    answered = Signal()
    working = Signal(object)
    complained = Signal(str, str)
    said = Signal(str)
    previewed = Signal(object)
    broken_file = Signal(object, object)

    def __init__(self, settings: Settings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.job: Job | None = None
        self.study_id = ""
        self.draft: StockpileSetup | None = None
        self.outcomes: dict[str, Outcome] = {}
        self.meshes: dict[str, MeshLayer] = {}
        self.tasks: list[Task] = []
        self.compute_task: Task | None = None
        self.live = LiveKeeper(self)
        self._lock = FolderLock()
        self._rest = QTimer(self, singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(self.compute)

    # The job

    def set_job(self, job: Job) -> None:
        """Make a job the open one, unless another Kerb has it open."""
        if self.job is None or self.job.folder != job.folder:
            lock = FolderLock()
            if not lock.take(job.folder):
                words = "is open in another window of Kerb. Close it there first; two that save would undo each other."
                self.complained.emit("Already open", f"{job.folder} {words}")
                return
            self._lock.release()
            self._lock = lock
            job.sweep()
        self.stop_all()
        self.job = job
        job.listeners.append(self._job_changed)
        self.outcomes.clear()
        self.meshes.clear()
        self.draft = None
        self.study_id = ""
        self.live.forget()
        if "unsaved" not in job.folder.parts:
            self.settings.add_recent(job.folder)
        self.opened.emit()
        if job.state.studies:
            self.select(job.state.studies[0].id)
        else:
            self.changed.emit()

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
        if self.job is not None:
            self.draft = None
            self.job.undo()
            self.rest()

    def redo(self) -> None:
        if self.job is not None:
            self.draft = None
            self.job.redo()
            self.rest()

    @property
    def decimals(self) -> Decimals:
        """Decimals to show."""
        return self.job.state.title.decimals if self.job else Decimals()

    @property
    def unit(self) -> str:
        """Code of the job unit."""
        return self.job.state.title.unit if self.job else "m"

    def _job_changed(self) -> None:
        if self.job is not None and self.job.state.study(self.study_id) is None:
            first = self.job.state.studies
            self.study_id = first[0].id if first else ""
            self.selected.emit()
        self.changed.emit()

    # Studies

    @property
    def study(self) -> StudyRecord | None:
        """The open study."""
        return self.job.state.study(self.study_id) if self.job else None

    @property
    def setup(self) -> StockpileSetup | None:
        """Setup of the open study: the draft while something is dragged, else as it is in the job."""
        if self.draft is not None:
            return self.draft
        return studies.setup_of(self.study) if self.study else None

    def select(self, study_id: str) -> None:
        """Open a study."""
        if self.job is None or self.job.state.study(study_id) is None:
            return
        self.study_id = study_id
        self.draft = None
        self.live.prepare()
        self.selected.emit()
        self.changed.emit()

    def outcome(self, study: StudyRecord | None = None) -> Outcome | None:
        """What a study found, with what it draws; read from the job once."""
        study = study or self.study
        if study is None or self.job is None or study.outcome is None:
            return None
        key = f"{study.id}-{study.found_from}"
        if key not in self.outcomes:
            found = studies.outcome_of(self.job, study)
            if found is None:
                return None
            self.outcomes[key] = found
        return self.outcomes[key]

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
        self.live.ask(self.draft)
        self.drafted.emit()

    def commit(self, sentence: str, **values: Any) -> None:
        """Put settings into the open study as one undoable step; the full answer follows."""
        study = self.study
        if study is None:
            return
        if values:
            self.draft = replace(self.setup, **values)
        if self.draft is None:
            return
        data = self.draft.to_json()
        self.draft = None
        different = {key: value for key, value in data.items() if study.setup.get(key, _missing(key)) != value}
        if different:
            self.execute(studies.changed(study, sentence, **different))
        self.live.ask(studies.setup_of(self.study))
        self.drafted.emit()
        self.rest()

    def drop_draft(self) -> None:
        """Forget what was being dragged."""
        self.draft = None
        self.drafted.emit()

    def rest(self) -> None:
        """Compute the open study when nothing has moved for a moment, if it can be and needs to be."""
        study = self.study
        if study is not None and study.setup.get("toe") and (study.outcome is None or self.stale(study)):
            self._rest.start()

    def compute(self) -> None:
        """Run the open study in the background. A run under way is stopped first."""
        study = self.study
        if study is None or self.job is None:
            return
        self._rest.stop()
        if self.compute_task is not None:
            self.compute_task.stop()
        job = self.job
        try:
            run = studies.ready(job, study)
        except KerbError as error:
            self.said.emit(str(error))
            return

        def keep(outcome: Outcome) -> None:
            current = job.state.study(study.id)
            if job is not self.job or current is None:
                return
            self.outcomes = {k: v for k, v in self.outcomes.items() if not k.startswith(study.id)}
            self.outcomes[f"{study.id}-{run.found_from}"] = outcome
            self.execute(studies.answered(current, outcome, run.found_from))
            self.answered.emit()

        task = self.start(lambda progress: run(job, progress), f"Computing {study.name}", keep)
        self.compute_task = task
        task.ended.connect(lambda: self._compute_ended(task))

    def _compute_ended(self, task: Task) -> None:
        if self.compute_task is task:
            self.compute_task = None
        self.changed.emit()

    # Files

    def ensure_job(self) -> bool:
        """Make an empty job where none is open; whether there is one now."""
        if self.job is None:
            try:
                self.set_job(Job.create(unsaved_folder()))
            except KerbError as error:
                self.complained.emit("No job could be made", str(error))
        return self.job is not None

    @property
    def has_data(self) -> bool:
        """Whether the job has anything."""
        return self.job is not None and bool(self.job.state.holdings)

    def import_files(self, paths: list[Path], partial: bool = False) -> None:
        """Import files one after the other as they are, into a new job where none is open."""
        self.bring([ImportWish(path, partial=partial) for path in paths])

    def bring(self, wishes: list[ImportWish]) -> None:
        """Carry out wishes one after the other; each becomes a holding, one step of undo."""
        if not wishes or not self.ensure_job():
            return
        job, wish, rest = self.job, wishes[0], wishes[1:]
        state, first = job.state, wish.path

        def work(progress: Progress) -> Holding:
            preview = lambda xyz, layout: self.previewed.emit((xyz, layout))  # noqa: E731
            return holdings.import_file(job.folder, state, wish, progress, preview)

        def keep(holding: Holding) -> None:
            if job is self.job:
                self.execute(holdings.added(job, holding))
                self.said.emit(f"Imported {holding.name}")
                self.bring(rest)

        def fail(text: str, error: object) -> None:
            if isinstance(error, TruncatedError) and error.good > 0 and not wish.partial:
                self.broken_file.emit(wish, error)
            else:
                self.complained.emit(f"{first.name} was not imported", text)
                self.bring(rest)

        task = self.start(work, f"Importing {first.name}", keep, fail)
        task.ended.connect(lambda: self.previewed.emit(None))

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
        self._lock.release()


def _missing(key: str) -> Any:
    """What a setting that the job does not hold counts as."""
    default = getattr(StockpileSetup(), key)
    return list(default) if isinstance(default, tuple) else default
