"""An open job: one door for every change, undo and redo, the job record, and the folder it is saved in.

``NAME.kerb/job.json`` is the last saved state, written beside its name and moved there; ``record.jsonl`` the job record.
Every change also adds a line to the journal, from which a crash is recovered. None of them grows with what was found:
outcomes lie beside the job.
"""

from __future__ import annotations

import json
import shutil
import uuid
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from kerb import __version__
from kerb.core.arrays import Floats
from kerb.core.cloud import sets
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import JobError
from kerb.core.reference import ReferenceSystem
from kerb.core.space import own_file, put_in_place, refusal
from kerb.core.things import CLOUD, Placed, moved
from kerb.job import journal, outcomes, vault
from kerb.job import record as records
from kerb.job.journal import Journal
from kerb.job.lock import NAME as LOCK
from kerb.job.own import HOLDING_FOLDER, OUTCOME_FILE, PARTIAL, check_own, check_place, check_word
from kerb.job.record import Entry
from kerb.job.state import Holding, JobState, as_kept

VERSION = 2
SUFFIX = ".kerb"
MOST_SAID = 6


@dataclass(frozen=True)
class Change:
    """A change to the job: what it does to the state, and the sentence for the job record.

    An outcome that was computed is no step of the analyst's: it is kept and recorded, but undo passes over it. How a
    thing looks is not ``recorded`` either.
    """

    sentence: str
    apply: Callable[[JobState], JobState]
    settings: dict[str, Any] = field(default_factory=dict)
    undoable: bool = True
    recorded: bool = True

    def as_look(self) -> Change:
        """The same as a change of how things look: kept with the job, but no step of the work."""
        return replace(self, undoable=False, recorded=False)


class Job:
    """A job in its folder. Only :meth:`execute`, :meth:`undo` and :meth:`redo` change its state."""

    def __init__(self, folder: Path, state: JobState, record: list[Entry] | None = None) -> None:
        self.folder = folder
        self.state = state
        self.record = record or []
        self.listeners: list[Callable[[], None]] = []
        self.troubles: list[Callable[[str], None]] = []
        self._undo: list[tuple[JobState, str]] = []
        self._redo: list[tuple[JobState, str]] = []
        self._saved = state
        # Whether the file of the saved job can no longer be read.
        self._damaged = False
        self._saved_entries, self._saved_bytes = 0, 0
        self._journal = Journal(folder, "", self._trouble)
        # A verb of the command line saves when it is done: what it did before it was killed is not offered but done again.
        self.autosaves = True
        self._stores: dict[str, CloudStore] = {}
        self._things: dict[str, Placed] = {}

    @staticmethod
    def create(folder: Path, state: JobState | None = None) -> Job:
        """Make a new job folder, or make one ready that was left half made.

        Raises JobError when something else is there already or it cannot be made; nothing is left then.
        """
        if folder.exists() and not _half_made(folder):
            raise JobError(f"{folder}: already there, not overwritten")
        try:
            (folder / "data").mkdir(parents=True, exist_ok=True)
            job = Job(folder, state or JobState())
            job.save()
        except OSError as error:
            _drop_half_made(folder)
            raise JobError(refusal(error, folder)) from None
        except JobError:
            _drop_half_made(folder)
            raise
        return job

    @staticmethod
    def open(folder: Path, recover: bool = False) -> Job:
        """Open a job folder; ``recover`` takes the autosaved state where there is one, which stays until a save.

        Where what was saved is damaged, it is taken from the autosave, which holds it too.

        Raises
        ------
        JobError, when it is no job, damaged or of a newer version.
        """
        check_own(folder)
        data, damaged = _saved(folder)
        if data.get("version", 0) > VERSION:
            raise JobError(f"{folder}: saved by a newer Kerb (version {data.get('kerb', '?')})")
        try:
            state = JobState.from_json(data["state"])
            _check_places(state, folder)
            kept = data["record"]
            # Before version 2 the record was part of the file.
            entries = [Entry(**e) for e in kept] if isinstance(kept, list) else records.read(folder, int(kept["bytes"]))
            mark = str(data.get("mark", ""))
            job = Job(folder, state, entries)
            if not isinstance(kept, list):
                job._saved_entries, job._saved_bytes = len(entries), int(kept["bytes"])
            job._journal = Journal(folder, mark, job._trouble, job._saved_bytes)
            job._damaged = damaged
            if recover:
                for change, entry in journal.read(folder, mark):
                    job.state = journal.applied(job.state, change)
                    job.record += [Entry(**entry)] if entry else []
                _check_places(job.state, folder)
                job._journal.go_on()
        except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as error:
            raise JobError(f"{folder / 'job.json'}: damaged ({' '.join(str(error).split())[:200]})") from None
        return job

    @staticmethod
    def has_recovery(folder: Path) -> bool:
        """Whether a state newer than the saved one was left by a crash."""
        check_own(folder)
        if not journal.left(folder):
            return False
        try:
            return bool(journal.read(folder, str(_saved(folder)[0].get("mark", ""))))
        except JobError:
            return False

    @staticmethod
    def forget_recovery(folder: Path) -> None:
        """Give up what a crash left, unless it is all there is."""
        if _good(folder / "job.json"):
            (folder / journal.NAME).unlink(missing_ok=True)

    @property
    def changed(self) -> bool:
        """Whether there is anything to save."""
        return self._damaged or (self.state is not self._saved and self.state != self._saved)

    @property
    def can_undo(self) -> str:
        """The sentence that undo would take back, or nothing."""
        return self._undo[-1][1] if self._undo else ""

    @property
    def can_redo(self) -> str:
        """The sentence that redo would do again, or nothing."""
        return self._redo[-1][1] if self._redo else ""

    def execute(self, change: Change) -> None:
        """Carry out a change, keep it for undo, write it into the record and autosave. The one door."""
        before = self.state
        after = as_kept(change.apply(before), before)
        if after == before:
            return
        if change.undoable:
            self._undo.append((before, change.sentence))
            self._redo.clear()
        self._settle(after, change.sentence if change.recorded else "", change.settings)

    def note(self, change: Change) -> None:
        """Write a line into the record for something that changes no more than how the job is shown or titled."""
        self._settle(change.apply(self.state), change.sentence, change.settings)

    def undo(self) -> None:
        """Take the last change back."""
        if self._undo:
            before, sentence = self._undo.pop()
            self._redo.append((self.state, sentence))
            self._settle(before.looking_like(self.state), f"Undid: {sentence}", {})

    def redo(self) -> None:
        """Do the change again that was taken back last."""
        if self._redo:
            after, sentence = self._redo.pop()
            self._undo.append((self.state, sentence))
            self._settle(after.looking_like(self.state), f"Redid: {sentence}", {})

    def forget_undo(self) -> None:
        """Make the present state the earliest that undo goes back to."""
        self._undo.clear()
        self._redo.clear()

    def save(self) -> None:
        """Write the job. Raises JobError when the folder cannot be written."""
        mark = self._write(self.folder)
        self._saved, self._damaged = self.state, False
        self._journal.end()
        self._journal = Journal(self.folder, mark, self._trouble, self._saved_bytes)

    def flush(self) -> None:
        """Wait until every step so far is kept in the journal."""
        self._journal.flush()

    def sweep(self) -> None:
        """Remove data that neither the present nor the saved state names; undo does not reach behind an opening.

        Only for one who has the folder to himself, before anything was changed. Where a crash left changes that were
        not taken up, everything stays.
        """
        if self._damaged or (self.state is self._saved and self.has_recovery(self.folder)):
            return
        holdings = [holding for state in (self.state, self._saved) for holding in state.holdings]
        data = {Path(holding.data).name for holding in holdings}
        named = {name for holding in holdings for name in holding.sets.names}
        found = [(s.id, s.found) for state in (self.state, self._saved) for s in state.studies]
        studies = {f"{key}-{one.print}" for key, one in found if one is not None}
        for folder in (self.folder / "data").glob("*/"):
            if folder.is_symlink():
                continue
            if folder.name == outcomes.FOLDER:
                made = [path for path in folder.glob("*.npz") if OUTCOME_FILE.fullmatch(path.name)]
                _remove([path for path in made if path.stem not in studies])
            elif folder.name not in data:
                # What is not called as Kerb calls its folders was put there by somebody else.
                if HOLDING_FOLDER.fullmatch(folder.name):
                    shutil.rmtree(folder, ignore_errors=True)
            else:
                _remove([path for path in sets.kept_in(folder) if sets.name_of(path) not in named])

    def discard(self) -> None:
        """Give up what was not saved: nothing will be offered for recovery."""
        self.state = self._saved
        self._journal.end()

    def copy_to(self, folder: Path, move: bool = False) -> None:
        """Save as another folder; with ``move`` this job becomes that one. Raises JobError.

        The copy is made beside its name and moved there when complete.
        """
        if folder.exists():
            raise JobError(f"{folder}: already there, not overwritten")
        partial = folder.with_name(folder.name + ".partial")
        shutil.rmtree(partial, ignore_errors=True)
        try:
            shutil.copytree(self.folder, partial, ignore=shutil.ignore_patterns("*.partial", journal.NAME, LOCK))
            mark = self._write(partial, elsewhere=not move)
            put_in_place(partial, folder)
        except OSError as error:
            shutil.rmtree(partial, ignore_errors=True)
            raise JobError(refusal(error, folder)) from None
        except JobError:
            shutil.rmtree(partial, ignore_errors=True)
            raise
        if move:
            old, self.folder = self.folder, folder
            self._stores.clear()
            self._things.clear()
            self._saved = self.state
            self._journal.end()
            self._journal = Journal(folder, mark, self._trouble, self._saved_bytes)
            if "unsaved" in old.parts:
                shutil.rmtree(old, ignore_errors=True)

    def store(self, holding: Holding) -> CloudStore:
        """The opened cloud of a holding. Raises JobError when its data are missing or damaged."""
        if holding.id not in self._stores:
            self._stores[holding.id] = CloudStore.open(self.folder / holding.data)
        store = self._stores[holding.id]
        if store.sets != holding.sets:
            store.take_sets(holding.sets)
        store.part_names = {part.name: part.number for part in holding.parts}
        wanted = ReferenceSystem.from_json(holding.label or store.meta.reference)
        if store.reference != wanted:
            store.reference = wanted
        store.place(holding.placement)
        return store

    def damaged(self) -> list[tuple[Holding, str]]:
        """Holdings whose data are missing or cannot be read, each with the reason."""
        found = []
        for holding in self.state.holdings:
            try:
                if holding.kind == CLOUD:
                    self.store(holding)
                else:
                    vault.check_thing(self.folder / holding.data)
            except JobError as error:
                found.append((holding, str(error)))
        return found

    def without_damaged(self) -> str:
        """Leave out the holdings that cannot be read, and say which and why; nothing where there is none.

        What they were stays in the saved job until it is saved again.
        """
        said = []
        for holding, reason in self.damaged():
            sentence = f"Left out {holding.name}, which is damaged"
            self.execute(Change(sentence, lambda s, key=holding.id: s.without_holding(key), undoable=False))  # type: ignore[misc]
            said.append(f"{holding.name}: {reason}")
        more = [f"and {len(said) - MOST_SAID} more"] if len(said) > MOST_SAID else []
        end = "The rest of the job is open without them. They stay in the saved job until it is saved again."
        return "\n".join([*said[:MOST_SAID], *more, "", end]) if said else ""

    def thing(self, holding: Holding) -> Placed:
        """Points, lines, a surface, model or picture of a holding, where it is placed. Raises JobError."""
        if holding.data not in self._things:
            self._things[holding.data] = vault.load_thing(self.folder / holding.data)
        item = self._things[holding.data]
        if holding.label:
            item = replace(item, reference=ReferenceSystem.from_json(holding.label))
        if holding.placement is None or holding.placement.still:
            return item
        key = f"{holding.data} {holding.edited} {holding.placement} {holding.label}"
        if key not in self._things:
            self._things[key] = moved(item, holding.placement)
        return self._things[key]

    def thing_to_write(self, holding: Holding) -> Placed:
        """A thing for a file: what names no system of its own lies in the job's, and is written so. Raises JobError."""
        item, job = self.thing(holding), self.state.title.reference_system()
        same = item.reference.unit == job.unit and item.reference.vertical_unit == job.vertical_unit
        return replace(item, reference=job) if not item.reference.wkt and job.wkt and same else item

    def keep_thing(self, holding: Holding, item: Placed) -> None:
        """Replace the data of a holding that grows, such as a list that is listened to. Raises JobError."""
        try:
            vault.write_parts(self.folder / holding.data, item)
        except OSError as error:
            raise JobError(f"{self.folder}: {error.strerror or error}") from None
        self._things[holding.data] = item

    def grow(self, holding: Holding, item: Placed) -> Holding:
        """Replace the data of a holding that is being listened to; no step of its own, and undo keeps what came.

        Raises JobError, when the folder cannot be written.
        """
        self.keep_thing(holding, item)
        edited = uuid.uuid4().hex[:10]

        def with_it(state: JobState) -> JobState:
            # Its name, date and looks are those of each state: they may have been changed meanwhile.
            own = next((one for one in state.holdings if one.id == holding.id), None)
            return state if own is None else state.with_holding(replace(own, points=item.count, edited=edited))

        self._undo = [(with_it(state), sentence) for state, sentence in self._undo]
        self._redo = [(with_it(state), sentence) for state, sentence in self._redo]
        before, self.state = self.state, with_it(self.state)
        if self.autosaves:
            self._journal.append(before, self.state, None)
        for listener in list(self.listeners):
            listener()
        return self.state.holding(holding.id) or holding

    def reference_of(self, holding: Holding) -> ReferenceSystem:
        """The reference system of a holding's numbers. Raises JobError."""
        return self.store(holding).reference if holding.kind == CLOUD else self.thing(holding).reference

    def bounds_of(self, holding: Holding) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each; NaN elevations where it has none. Raises JobError."""
        return self.store(holding).bounds if holding.kind == CLOUD else self.thing(holding).bounds

    def record_text(self) -> str:
        """The job record, to read."""
        return "\n".join(entry.text() for entry in self.record) + "\n"

    def _settle(self, state: JobState, sentence: str, settings: dict[str, Any]) -> None:
        before, self.state = self.state, state
        entry = Entry.now(sentence, settings) if sentence else None
        self.record += [entry] if entry is not None else []
        if self.autosaves:
            self._journal.append(before, state, vars(entry) if entry is not None else None)
        for listener in list(self.listeners):
            listener()

    def _trouble(self, text: str) -> None:
        """Something about keeping the job went wrong; told from another thread."""
        for listener in list(self.troubles):
            listener(text)

    def _write(self, folder: Path, elsewhere: bool = False) -> str:
        """Write job and record into a folder, and return the mark of this saving. Raises JobError.

        ``elsewhere`` leaves what is known of the job's own folder as it is.
        """
        mark, path = uuid.uuid4().hex[:16], folder / "job.json"
        partial = path.with_name(PARTIAL)
        try:
            size = records.extended(folder, self._saved_bytes, self.record[self._saved_entries :])
            data = {
                "kerb": __version__, "version": VERSION, "mark": mark, "state": self.state.to_json(),
                "record": {"bytes": size},
            }  # fmt: skip
            # A link of that name, which may have come with the folder, goes and is not followed.
            partial.unlink(missing_ok=True)
            with own_file(partial, "w") as out:
                json.dump(data, out, indent=1, default=journal.plain)
            put_in_place(partial, path)
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise JobError(f"{path}: cannot be written ({error.strerror or error})") from None
        if not elsewhere:
            self._saved_entries, self._saved_bytes = len(self.record), size
        return mark


def _check_places(state: JobState, folder: Path) -> None:
    """Raises JobError, when a name in the job leads out of its folder."""
    for holding in state.holdings:
        check_place(holding.data, folder)
        for name in holding.sets.names:
            check_word(name, folder)
    for study in state.studies:
        check_word(study.id, folder)
        check_word(study.found.print if study.found is not None else "", folder)


def _half_made(folder: Path) -> bool:
    """Whether a folder holds nothing but what the making of a job leaves that was stopped before its first save."""
    if not folder.is_dir() or (folder / "data").is_symlink():
        return False
    begun = {"data", PARTIAL, records.NAME, LOCK}
    named = {path.name for path in folder.iterdir()}
    if any((folder / name).is_symlink() for name in named):
        return False
    return named <= begun and not ("data" in named and any((folder / "data").iterdir()))


def _drop_half_made(folder: Path) -> None:
    with suppress(OSError):
        if _half_made(folder):
            shutil.rmtree(folder)


def _remove(paths: list[Path]) -> None:
    for path in paths:
        with suppress(OSError):
            path.unlink()


def _good(path: Path) -> bool:
    try:
        JobState.from_json(_read(path)["state"])
    except (JobError, KeyError, TypeError, ValueError, AttributeError, OverflowError):
        return False
    return True


def _saved(folder: Path) -> tuple[dict[str, Any], bool]:
    """The saved job as plain dictionaries, and whether they are the autosave's since ``job.json`` is damaged.

    Raises JobError.
    """
    path = folder / "job.json"
    if path.exists() and not _good(path):
        found = journal.base(folder)
        if found is not None:
            return found, True
    return _read(path), False


def _read(path: Path) -> dict[str, Any]:
    try:
        with own_file(path, "r") as stream:
            data = json.loads(stream.read())
    except OSError as error:
        raise JobError(f"{path.parent}: not a job folder ({error.strerror or error})") from None
    except (ValueError, RecursionError) as error:
        raise JobError(f"{path}: damaged ({error})") from None
    if not isinstance(data, dict) or not isinstance(data.get("state"), dict):
        raise JobError(f"{path}: damaged (no job in it)")
    return data
