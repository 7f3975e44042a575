"""Actions on the job as a whole: new, open, save, record, deliver, leave."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from kerb.app.dialogs.questions import ask, shown_once
from kerb.app.dialogs.reading import Reading
from kerb.app.dialogs.title import TitleBlock
from kerb.app.session import Session
from kerb.core.errors import KerbError
from kerb.demo.job import open_demo
from kerb.job.job import SUFFIX, Change, Job
from kerb.job.lock import held_by, in_use
from kerb.job.places import unsaved_folder
from kerb.job.state import Title

GO_ON, AS_SAVED = "Go on from the last change", "Open as last saved"
REMOVE, KEEP = "Remove", "Keep it"
SAVE, DISCARD, CANCEL = "Save", "Discard", "Cancel"


class JobActions(QObject):
    """The doing of actions of the menu Job."""

    closing = Signal()
    closed = Signal()
    forgotten = Signal()
    guide_wanted = Signal(bool)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.parent_ = session, parent

    def new_job(self) -> None:
        if self.may_leave():
            self.guarded(lambda: self.session.set_job(Job.create(unsaved_folder())))

    def open_job(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.parent_, "Open job (a folder NAME.kerb)", self._jobs())
        if folder:
            self.open_folder(Path(folder))

    def _jobs(self) -> str:
        """The folder of the job that was open last."""
        recent = self.session.settings.recent()
        return str(recent[0].parent if recent else Path.home())

    def open_folder(self, folder: Path) -> None:
        """Open a job folder, asking about what a crash left."""
        job = self.session.job
        if (job is None or job.folder != folder) and in_use(folder):
            self.session.complained.emit("Already open", f"{folder} is open in {held_by(folder)}.")
            return
        if not self.may_leave():
            return
        recover = "unsaved" in folder.parts
        if not recover and Job.has_recovery(folder):
            text = "It goes on from the last change, or from what was last saved; what is not taken is given up."
            chosen = ask(self.parent_, f"{folder.name} was not closed properly", text, GO_ON, AS_SAVED, CANCEL)
            if chosen == CANCEL:
                return
            recover = chosen == GO_ON
            if not recover:
                Job.forget_recovery(folder)
        self.guarded(lambda: self.session.set_job(Job.open(folder, recover)))

    def forget_unsaved(self, folder: Path) -> None:
        """Remove a job that was never saved, when that is confirmed."""
        words = "With the data that were brought into it. This cannot be undone."
        if ask(self.parent_, f"Remove {folder.stem}?", words, REMOVE, KEEP) == REMOVE:
            shutil.rmtree(folder, ignore_errors=True)
            self.forgotten.emit()

    def open_demo(self, fresh: bool = False) -> None:
        if not self.may_leave():
            return
        self.session.start(
            lambda progress: open_demo(progress, fresh),
            "Preparing the demo",
            self._demo_ready,
        )

    def _demo_ready(self, job: Job) -> None:
        self.session.set_job(job)
        self.guide_wanted.emit(not self.session.settings.get("guide_dismissed", False))

    def close_job(self) -> None:
        """Back to the start page, asking about changes that were not saved."""
        if self.may_leave():
            self.session.close_job()
            self.closed.emit()

    def save(self) -> None:
        self.session.settling.emit()
        job = self.session.job
        if job is None:
            return
        if "unsaved" in job.folder.parts:
            self.save_as()
        elif self.guarded(job.save):
            self.session.said.emit(f"Saved {job.folder.name}")
            self.session.changed.emit()

    def save_as(self) -> None:
        self._save_elsewhere(move=True)

    def save_copy(self) -> None:
        self._save_elsewhere(move=False)

    def _save_elsewhere(self, move: bool) -> None:
        start = str(Path(self._jobs()) / f"{self.session.open_job.state.title.name}{SUFFIX}")
        path, _ = QFileDialog.getSaveFileName(self.parent_, "Save job", start, f"Kerb job (*{SUFFIX})")
        if path:
            self.save_to(Path(path), move)

    def save_to(self, folder: Path, move: bool) -> None:
        """Save into another folder; with ``move`` go on there."""
        self.session.settling.emit()
        job = self.session.open_job
        folder = folder if folder.suffix == SUFFIX else folder.with_name(folder.name + SUFFIX)
        if move and job.state.title.name == Title().name:
            # A job that was never named is called as it is saved.
            named = replace(job.state.title, name=folder.stem)
            job.note(Change(f"Named the job {folder.stem}", lambda state: replace(state, title=named)))
        if self.guarded(lambda: job.copy_to(folder, move)):
            if move:
                self.session.moved()
                self.session.settings.add_recent(folder)
            self.session.said.emit(f"Saved {folder}")
            self.session.changed.emit()

    def title_block(self) -> None:
        shown_once(TitleBlock(self.session, self.parent_))

    def job_record(self) -> None:
        shown_once(Reading("Job record", self.session.open_job.record_text(), self.parent_, markdown=False))

    def deliver(self) -> None:
        """Make the report for the client."""
        from kerb.app.dialogs.deliver import Deliver

        shown_once(Deliver(self.session, self.parent_))

    def quit(self) -> None:
        self.closing.emit()

    def may_leave(self) -> bool:
        """Whether the open job may be closed: ask when it holds changes that were not saved."""
        self.session.settling.emit()
        job = self.session.job
        if job is None or not job.changed:
            return True
        heading = f"Save the changes to {job.state.title.name}?"
        answer = ask(self.parent_, heading, "", SAVE, DISCARD, CANCEL)
        if answer == SAVE:
            self.save()
            return not job.changed
        if answer == DISCARD:
            job.discard()
            return True
        return False

    def guarded(self, work: Callable[[], object]) -> bool:
        """Do something that may fail with a message; whether it was done."""
        try:
            work()
        except KerbError as error:
            self.session.complained.emit("That did not work", str(error))
            return False
        return True
