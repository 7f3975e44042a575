"""An open job: one door for every change, undo and redo, the job record, and the folder it is saved in.

``NAME.kerb/job.json`` is the last saved state. Every change also writes ``autosave.json``; after a crash the newer of
the two is offered. Both are written beside their name and moved there, so that a crash leaves either the old or the
new file.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from getpass import getuser
from pathlib import Path
from typing import Any

import numpy as np

from kerb import __version__
from kerb.core.arrays import Floats
from kerb.core.cloud import sets
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import JobError
from kerb.core.reference import ReferenceSystem
from kerb.core.things import CLOUD, Placed
from kerb.job import vault
from kerb.job.lock import NAME as LOCK
from kerb.job.state import Holding, JobState
from kerb.studies.outcome import LineLayer, MeshLayer, Outcome, Profile

VERSION = 1
SUFFIX = ".kerb"
OUTCOMES = "outcomes"


@dataclass(frozen=True)
class Change:
    """A change to the job: what it does to the state, and the sentence for the job record.

    An outcome that was computed is no step of the analyst's: it is kept and recorded, but undo passes over it.
    """

    sentence: str
    apply: Callable[[JobState], JobState]
    settings: dict[str, Any] = field(default_factory=dict)
    undoable: bool = True


@dataclass(frozen=True)
class Entry:
    """One line of the job record."""

    when: str
    who: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)

    def text(self) -> str:
        """The entry as a line to read."""
        return f"{self.when}  {self.who}: {self.sentence}"


class Job:
    """A job in its folder. Only :meth:`execute`, :meth:`undo` and :meth:`redo` change its state."""

    def __init__(self, folder: Path, state: JobState, record: list[Entry] | None = None) -> None:
        self.folder = folder
        self.state = state
        self.record = record or []
        self.listeners: list[Callable[[], None]] = []
        self._undo: list[tuple[JobState, str]] = []
        self._redo: list[tuple[JobState, str]] = []
        self._saved = state
        self._stores: dict[str, CloudStore] = {}
        self._things: dict[str, Placed] = {}

    @staticmethod
    def create(folder: Path, state: JobState | None = None) -> Job:
        """Make a new job folder. Raises JobError when something is there already or it cannot be made."""
        if folder.exists():
            raise JobError(f"{folder}: already there, not overwritten")
        try:
            (folder / "data").mkdir(parents=True)
        except OSError as error:
            raise JobError(f"{folder}: {error.strerror or error}") from None
        job = Job(folder, state or JobState())
        job.save()
        return job

    @staticmethod
    def open(folder: Path, recover: bool = False) -> Job:
        """Open a job folder; ``recover`` takes the autosaved state where there is one, which stays until a save.

        Raises
        ------
        JobError, when it is no job, damaged or of a newer version.
        """
        name = "autosave.json" if recover and (folder / "autosave.json").exists() else "job.json"
        data = _read(folder / name)
        if data.get("version", 0) > VERSION:
            raise JobError(f"{folder}: saved by a newer Kerb (version {data.get('kerb', '?')})")
        try:
            state = JobState.from_json(data["state"])
            record = [Entry(**entry) for entry in data["record"]]
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise JobError(f"{folder / name}: damaged ({error})") from None
        job = Job(folder, state, record)
        if recover:
            job._saved = JobState.from_json(_read(folder / "job.json")["state"])
        return job

    @staticmethod
    def has_recovery(folder: Path) -> bool:
        """Whether a state newer than the saved one was left by a crash."""
        return (folder / "autosave.json").exists()

    @staticmethod
    def forget_recovery(folder: Path) -> None:
        """Give up what a crash left."""
        (folder / "autosave.json").unlink(missing_ok=True)

    @property
    def changed(self) -> bool:
        """Whether there is anything to save."""
        return self.state is not self._saved and self.state != self._saved

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
        after = change.apply(before)
        if after == before:
            return
        if change.undoable:
            self._undo.append((before, change.sentence))
            self._redo.clear()
        self._settle(after, change.sentence, change.settings)

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
        self._write("job.json")
        self._saved = self.state
        self.forget_recovery(self.folder)

    def sweep(self) -> None:
        """Remove data that neither the present nor the saved state names; undo does not reach behind an opening.

        Only for one who has the folder to himself, before anything was changed. Where a crash left changes that were
        not taken up, everything stays.
        """
        if self.state is self._saved and self.has_recovery(self.folder):
            return
        holdings = [holding for state in (self.state, self._saved) for holding in state.holdings]
        data = {Path(holding.data).name for holding in holdings}
        named = {name for holding in holdings for name in holding.sets.names}
        studies = [f"{s.id}-{s.found_from}" for state in (self.state, self._saved) for s in state.studies]
        for folder in (self.folder / "data").glob("*/"):
            if folder.name == OUTCOMES:
                _remove([path for path in folder.glob("*.npz") if path.stem not in studies])
            elif folder.name not in data:
                shutil.rmtree(folder, ignore_errors=True)
            else:
                _remove([path for path in sets.kept_in(folder) if sets.name_of(path) not in named])

    def discard(self) -> None:
        """Give up what was not saved: nothing will be offered for recovery."""
        self.state = self._saved
        self.forget_recovery(self.folder)

    def copy_to(self, folder: Path, move: bool = False) -> None:
        """Save as another folder; with ``move`` this job becomes that one. Raises JobError.

        The copy is made beside its name and moved there when complete.
        """
        if folder.exists():
            raise JobError(f"{folder}: already there, not overwritten")
        partial = folder.with_name(folder.name + ".partial")
        shutil.rmtree(partial, ignore_errors=True)
        try:
            shutil.copytree(self.folder, partial, ignore=shutil.ignore_patterns("*.partial", "autosave.json", LOCK))
            self._write("job.json", partial)
            partial.rename(folder)
        except OSError as error:
            shutil.rmtree(partial, ignore_errors=True)
            raise JobError(f"{folder}: {error.strerror or error}") from None
        if move:
            old, self.folder = self.folder, folder
            self._stores.clear()
            self._things.clear()
            self._saved = self.state
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
        return store

    def thing(self, holding: Holding) -> Placed:
        """Points, lines, a surface, model or picture of a holding. Raises JobError when its data are damaged."""
        if holding.data not in self._things:
            self._things[holding.data] = vault.load_thing(self.folder / holding.data)
        return self._things[holding.data]

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
        grown = replace(holding, points=item.count)

        def with_it(state: JobState) -> JobState:
            return state.with_holding(grown) if state.holding(grown.id) is not None else state

        self._undo = [(with_it(state), sentence) for state, sentence in self._undo]
        self._redo = [(with_it(state), sentence) for state, sentence in self._redo]
        self.state = with_it(self.state)
        self._write("autosave.json")
        for listener in list(self.listeners):
            listener()
        return grown

    def reference_of(self, holding: Holding) -> ReferenceSystem:
        """The reference system of a holding's numbers. Raises JobError."""
        return self.store(holding).reference if holding.kind == CLOUD else self.thing(holding).reference

    def bounds_of(self, holding: Holding) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each; NaN elevations where it has none. Raises JobError."""
        return self.store(holding).bounds if holding.kind == CLOUD else self.thing(holding).bounds

    def label(self, holding: Holding, reference: ReferenceSystem) -> None:
        """Label a holding with a reference system; its numbers stay. Raises JobError."""
        if holding.kind == CLOUD:
            self.store(holding).set_reference(reference)
        else:
            vault.set_reference(self.folder / holding.data, reference)
            self._things.pop(holding.data, None)

    def record_text(self) -> str:
        """The job record, to read."""
        return "\n".join(entry.text() for entry in self.record) + "\n"

    def keep_layers(self, study: str, outcome: Outcome) -> None:
        """Keep what an outcome draws, so that it is there when the job is opened again."""
        arrays: dict[str, Any] = {}
        for name, mesh in outcome.meshes.items():
            arrays[f"mesh/{name}/vertices"], arrays[f"mesh/{name}/triangles"] = mesh.vertices, mesh.triangles
        for name, line in outcome.lines.items():
            arrays[f"line/{name}"], arrays[f"closed/{name}"] = line.points, np.array(line.closed)
        for number, profile in enumerate(outcome.profiles):
            stem = f"profile/{number}/{profile.title}"
            arrays[f"{stem}/line"] = profile.line
            arrays[f"{stem}/values"] = np.array([profile.distance, profile.top, profile.base])
        path = self._layers_path(study)
        path.parent.mkdir(parents=True, exist_ok=True)
        partial = path.with_name("partial-" + path.name)
        np.savez(partial, **arrays)
        partial.replace(path)

    def layers(self, study: str, outcome: Outcome) -> None:
        """Put the kept drawable layers into an outcome; nothing happens where none were kept."""
        try:
            kept = np.load(self._layers_path(study))
        except (OSError, ValueError):
            return
        with kept:
            _fill_layers(outcome, {key: kept[key] for key in kept.files})

    def _layers_path(self, study: str) -> Path:
        return self.folder / "data" / OUTCOMES / f"{study}.npz"

    def _settle(self, state: JobState, sentence: str, settings: dict[str, Any]) -> None:
        self.state = state
        when = datetime.now().astimezone().isoformat(sep=" ", timespec="seconds")
        self.record.append(Entry(when, _who(), sentence, settings))
        self._write("autosave.json")
        for listener in list(self.listeners):
            listener()

    def _write(self, name: str, folder: Path | None = None) -> None:
        data = {
            "kerb": __version__,
            "version": VERSION,
            "state": self.state.to_json(),
            "record": [vars(entry) for entry in self.record],
        }
        path = (folder or self.folder) / name
        partial = path.with_name(f".{name}.partial")
        try:
            with open(partial, "w", encoding="utf-8") as out:
                json.dump(data, out, indent=1, default=vault.plain)
                out.flush()
                os.fsync(out.fileno())
            partial.replace(path)
        except OSError as error:
            raise JobError(f"{path}: cannot be written ({error.strerror or error})") from None


def _remove(paths: list[Path]) -> None:
    for path in paths:
        with suppress(OSError):
            path.unlink()


def _fill_layers(outcome: Outcome, arrays: dict[str, Any]) -> None:
    for key, value in arrays.items():
        kind, name, *rest = key.split("/")
        if kind == "mesh" and rest == ["vertices"]:
            outcome.meshes[name] = MeshLayer(value, arrays[f"mesh/{name}/triangles"])
        elif kind == "line":
            outcome.lines[name] = LineLayer(value, bool(arrays[f"closed/{name}"]))
        elif kind == "profile" and rest[-1] == "line":
            stem = key.rsplit("/", 1)[0]
            outcome.profiles.append(Profile(rest[0], value, *arrays[f"{stem}/values"]))


def _read(path: Path) -> dict[str, Any]:
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise JobError(f"{path.parent}: not a job folder ({error.strerror or error})") from None
    except ValueError as error:
        raise JobError(f"{path}: damaged ({error})") from None
    if not isinstance(data, dict) or not isinstance(data.get("state"), dict):
        raise JobError(f"{path}: damaged (no job in it)")
    return data


def _who() -> str:
    try:
        return getuser()
    except (KeyError, OSError):
        return "unknown"
