"""What is known of files that are to be brought in: looked at and held against the job's data one after the other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from kerb.app.session import Session
from kerb.app.tasks import Latest
from kerb.app.widgets import there
from kerb.core.dates import date_in
from kerb.core.errors import KerbError
from kerb.core.place_check import Site
from kerb.core.things import CLOUD
from kerb.formats.recognise import SUFFIXES
from kerb.job import site
from kerb.job.holdings import ImportWish, default_placing
from kerb.job.prospects import Prospect, Samples, Whereabouts, joined_wish, prospects_of, whereabouts
from kerb.job.state import Holding, JobState

# The file, and the number of the thing in it.
Key = tuple[Path, int]


MOST_FILES = 2_000
# Several clouds become one, or one for each date of survey.
ALL, EPOCHS = "all", "epochs"


def files_of(paths: list[Path]) -> list[Path]:
    """Files, and in place of folders what Kerb reads in them and below; folders of jobs are no data."""
    found: list[Path] = []
    for path in paths:
        if not path.is_dir():
            found.append(path)
            continue
        inside = (one for one in sorted(path.rglob("*")) if one.suffix.lower() in SUFFIXES and one.is_file())
        own = [one for one in inside if not any((up / "job.json").exists() for up in one.parents)]
        found += own[: MOST_FILES - len(found)]
    return list(dict.fromkeys(found))


@dataclass(frozen=True)
class Looked:
    """What the worker found of a file."""

    path: Path
    prospects: tuple[Prospect, ...] = ()
    error: str = ""


@dataclass(frozen=True)
class Checked:
    """What the worker found of the place of a prospect, held ``against`` the job and what comes with it."""

    key: Key
    prospect: Prospect
    found: Whereabouts | None = None
    error: str = ""
    against: Site | None = None


class Files(QObject):
    """The files of the dialog. ``filled`` tells of a file that was looked at, ``placed`` that a place was checked."""

    filled = Signal(object)
    placed = Signal()
    failed = Signal(str)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self.session = session
        self.prospects: dict[Key, Prospect] = {}
        self.checked: dict[Key, Checked] = {}
        self.errors: dict[Path, str] = {}
        # Dates of surveys that are known beforehand, by file.
        self.epochs: dict[Path, str] = {}
        self.waiting: list[Path] = []
        self.job_site: Site | None = None
        # The thing that is shown: its place is checked first.
        self.first: Key | None = None
        self._samples = Samples()
        # The things whose places were held against one another, as they were then.
        self._together: dict[Key, Prospect] = {}
        self._site_known = self._looking = self._checking = False
        self._looks = Latest("bring-files", self)
        self._places = Latest("bring-places", self)
        self._looks.done.connect(self._looked)
        self._places.done.connect(self._placed)

    @property
    def busy(self) -> bool:
        """Whether a file is being looked at or a place checked."""
        return bool(self.waiting) or self._looking or self._checking

    def close(self) -> None:
        """End the threads."""
        self._looks.close()
        self._places.close()

    # Files

    def add(self, paths: list[Path]) -> list[Path]:
        """Look at further files; those that are new are given back."""
        known = {key[0] for key in self.prospects} | set(self.errors) | set(self.waiting)
        new = [path for path in files_of(paths) if path not in known]
        self.waiting += new
        self._look_next()
        return new

    def leave_out(self, path: Path) -> None:
        """Forget a file."""
        self.waiting = [other for other in self.waiting if other != path]
        self.errors.pop(path, None)
        self.prospects = {key: prospect for key, prospect in self.prospects.items() if key[0] != path}
        self.checked = {key: found for key, found in self.checked.items() if key[0] != path}

    def _look_next(self) -> None:
        if not self.waiting or self._looking:
            return
        self._looking = True
        path, job, known = self.waiting[0], self.session.open_job, self._site_known
        state = self.state()

        def work(_overtaken: Callable[[], bool]) -> tuple[Looked, Site | None]:
            place = None if known else site.of_job(job)
            try:
                return Looked(path, tuple(prospects_of(path, state))), place
            except KerbError as error:
                return Looked(path, error=str(error)), place

        self._looks.submit(work)

    def _looked(self, result: object) -> None:
        self._looking = False
        if isinstance(result, tuple):
            looked, place = result
        elif self.waiting:
            looked, place = Looked(self.waiting[0], error=f"Kerb failed at this file: {result}"), None
        else:
            return
        if not self._site_known:
            self.job_site, self._site_known = place, True
        if looked.path in self.waiting:
            self.waiting.remove(looked.path)
            if looked.error:
                self.errors[looked.path] = looked.error
            self.prospects |= {(looked.path, number): prospect for number, prospect in enumerate(looked.prospects)}
            self.filled.emit(looked)
            self.check_next()
        self._look_next()

    def state(self, key: Key | None = None) -> JobState:
        """The job as a thing will find it: the first one of the batch rules what an empty job is in."""
        state = self.session.open_job.state
        first = next((k for k, p in self.prospects.items() if p.taken), None)
        if state.holdings or first is None or first == key:
            return state
        rules = self.prospects[first].placing.result
        title = replace(state.title, unit=rules.unit.code, reference=rules.to_json())
        return replace(state, title=title, holdings=(Holding("first", first[0].stem),))

    # Decisions

    def change(self, key: Key, prospect: Prospect) -> None:
        """Put another prospect in place of one; its place is checked anew, and what followed from it."""
        before = self.state()
        self.prospects[key] = prospect
        self.checked.pop(key, None)
        after = self.state()
        if before.title != after.title:
            for other, one in list(self.prospects.items()):
                if other != key and one.placing == default_placing(before, one.source, None):
                    self.prospects[other] = replace(one, placing=default_placing(after, one.source, None))
                    self.checked.pop(other, None)

    def tick(self, key: Key, on: bool) -> list[Key]:
        """Take a thing, or leave it; those that are left because of it: a text file is a cloud or a list, not both."""
        prospect = self.prospects[key]
        self.prospects[key] = replace(prospect, taken=on)
        left = []
        if on and prospect.plan is not None:
            left = [k for k, p in self.prospects.items() if k[0] == key[0] and k != key and p.taken]
            self.prospects |= {other: replace(self.prospects[other], taken=False) for other in left}
        self.check_next()
        return left

    def wishes(self, epoch: str, together: str) -> list[ImportWish]:
        """What is to be imported, as decided: clouds by themselves, or ``together`` as one or as one an epoch.

        ``epoch`` is that of files whose own is not known; where there is none, the date in their name is.
        """
        groups: dict[object, list[Prospect]] = {}
        for number, prospect in enumerate(p for p in self.prospects.values() if p.taken):
            own = self.epochs.get(prospect.path, "") or epoch or date_in(prospect.path.stem)
            joined = together and prospect.offer.kind == CLOUD
            key = (own if together == EPOCHS else "all") if joined else number
            groups.setdefault(key, []).append(replace(prospect, epoch=own))
        made = []
        for group in groups.values():
            dates = {prospect.epoch for prospect in group}
            group = group if len(dates) == 1 else [replace(prospect, epoch=epoch) for prospect in group]
            made.append(joined_wish(group) if len(group) > 1 else group[0].wish())
        return made

    def dates_in_names(self) -> set[str]:
        """The dates that stand in the names of the files of which something is taken."""
        return {date_in(prospect.path.stem) for prospect in self.prospects.values() if prospect.taken} - {""}

    # The place check

    def check_next(self) -> None:
        """Check the shown prospect first, then the other ticked ones."""
        if not self._site_known or self._checking:
            return
        order = [*([self.first] if self.first is not None else []), *(k for k, p in self.prospects.items() if p.taken)]
        for key in order:
            prospect = self.prospects.get(key)
            if prospect is not None and prospect.readable and key not in self.checked:
                self._checking = True
                self._places.submit(self._check(key, prospect))
                return
        taken = {key: p for key, p in self.prospects.items() if p.taken and key in self.checked}
        if len({key[0] for key in taken}) > 1 and taken != self._together and not self.waiting:
            self._together = taken
            self._checking = True
            self._places.submit(self._check_together({key: self.checked[key] for key in taken}))

    def _check_together(self, before: dict[Key, Checked]) -> Callable[[Callable[[], bool]], dict[Key, Checked]]:
        """Hold the things of a batch against one another too, as soon as it is known where each of them would lie."""
        job_site, samples = self.job_site, self._samples
        known = {key: one.found for key, one in before.items() if one.found is not None}
        places = [found.here for found in known.values()]

        def work(_overtaken: Callable[[], bool]) -> dict[Key, Checked]:
            after = dict(before)
            for number, key in enumerate(known):
                prospect = before[key].prospect
                try:
                    against = site.yardstick(job_site, places, number)
                    after[key] = Checked(key, prospect, whereabouts(prospect, samples, against), against=against)
                except KerbError as error:
                    after[key] = Checked(key, prospect, error=str(error))
            return after

        return work

    def _check(self, key: Key, prospect: Prospect) -> Callable[[Callable[[], bool]], Checked]:
        job_site, samples = self.job_site, self._samples

        def work(_overtaken: Callable[[], bool]) -> Checked:
            try:
                return Checked(key, prospect, whereabouts(prospect, samples, job_site), against=job_site)
            except KerbError as error:
                return Checked(key, prospect, error=str(error))

        return work

    def _placed(self, result: object) -> None:
        self._checking = False
        if isinstance(result, dict):
            self.checked |= {key: one for key, one in result.items() if self.prospects.get(key) == one.prospect}
        elif isinstance(result, Checked) and self.prospects.get(result.key) is not None:
            now = replace(self.prospects[result.key], taken=result.prospect.taken)
            if now == result.prospect:
                self.checked[result.key] = result
        elif isinstance(result, Exception):
            self.failed.emit(f"Kerb failed at the place check: {result}")
            return
        self.placed.emit()
        self.check_next()

    def alarmed(self, key: Key) -> bool:
        """Whether the place check found something odd."""
        found = self.checked.get(key)
        return found is not None and (bool(found.error) or bool(there(found.found).check.alarms))
