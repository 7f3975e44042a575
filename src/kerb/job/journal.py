"""The autosave: a journal that grows by a line a step, written off the thread that makes the step.

A line holds what became of the state, no more than the records that changed, and the line of the job record. The first
line says which saved job the others go on from, and holds it too, should that one be damaged; a journal of another one is
of no use and is passed over. A line that a crash cut short is passed over too.
"""

from __future__ import annotations

import json
import os
import threading
from collections import deque
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.cloud.filters import from_json as filters_from_json
from kerb.core.space import own_file
from kerb.job.state import JobState, holding_of, section_of, study_of

NAME = "autosave.jsonl"
LISTS = ("holdings", "studies", "sections")


def plain(value: Any) -> Any:
    """A NumPy value as JSON takes it. Raises TypeError for anything else."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return value.tolist()
    raise TypeError(f"{type(value).__name__} cannot be saved")


def delta(before: JobState, after: JobState) -> dict[str, Any]:
    """What changed between two states, as plain dictionaries. Records are told apart by identity: they never change."""
    found: dict[str, Any] = {}
    if before.title is not after.title:
        found["title"] = asdict(after.title)
    if before.filters is not after.filters:
        found["filters"] = [[name, [asdict(f) for f in items]] for name, items in after.filters]
    for name in LISTS:
        old: tuple[Any, ...] = getattr(before, name)
        new: tuple[Any, ...] = getattr(after, name)
        if old is new:
            continue
        known = {id(item) for item in old}
        found[name] = [asdict(item) for item in new if id(item) not in known]
        if [item.id for item in old] != [item.id for item in new]:
            found[f"order of {name}"] = [item.id for item in new]
    return found


def applied(state: JobState, change: dict[str, Any]) -> JobState:
    """The state after a change of :func:`delta`. Raises KeyError, TypeError or ValueError for anything else."""
    if "title" in change:
        title = JobState.from_json({"title": change["title"], "holdings": [], "studies": []}).title
        state = replace(state, title=title)
    if "filters" in change:
        state = replace(state, filters=tuple((name, filters_from_json(items)) for name, items in change["filters"]))
    makers: tuple[Callable[[Any], Any], ...] = (holding_of, study_of, section_of)
    for name, make in zip(LISTS, makers, strict=True):
        put = {item.id: item for item in map(make, change.get(name, ()))}
        known = {item.id: item for item in getattr(state, name)} | put
        order = change.get(f"order of {name}", list(known))
        kept: dict[str, Any] = {name: tuple(known[key] for key in order)}
        state = replace(state, **kept)
    return state


class Journal:
    """Appends steps to the journal of a job folder, in their order, on a thread that lives while there is work."""

    def __init__(self, folder: Path, saved: str, trouble: Callable[[str], None], recorded: int = 0) -> None:
        """``saved`` is the mark of the saved job, ``recorded`` how many bytes of the job record belong to it.

        ``trouble`` is told, from the thread, when a line cannot be written.
        """
        self.folder, self.path, self.saved, self.trouble = folder, folder / NAME, saved, trouble
        self.recorded = recorded
        self._waiting: deque[tuple[JobState, JobState, dict[str, Any] | None]] = deque()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self._begun = False

    def append(self, before: JobState, after: JobState, entry: dict[str, Any] | None) -> None:
        """Write a step before long."""
        with self._lock:
            self._waiting.append((before, after, entry))
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="kerb-journal", daemon=True)
                self._thread.start()

    def go_on(self) -> None:
        """Append to the file that lies there, after the last line of it that can be read."""
        steps = read(self.folder, self.saved)
        if not steps:
            return
        with own_file(self.path, "rb+") as stream:
            for _ in range(1 + len(steps)):
                stream.readline()
            end = stream.tell()
            stream.seek(end - 1)
            whole = stream.read(1) == b"\n"
            stream.truncate(end)
            if not whole:
                stream.write(b"\n")
        self._begun = True

    def flush(self) -> None:
        """Wait until everything was written."""
        thread = self._thread
        if thread is not None:
            thread.join()

    def end(self) -> None:
        """Write nothing more, and remove the file."""
        with self._lock:
            self._waiting.clear()
        self.flush()
        self.path.unlink(missing_ok=True)
        self._begun = False

    def _work(self) -> None:
        while True:
            with self._lock:
                steps = list(self._waiting)
                self._waiting.clear()
                if not steps:
                    self._thread = None
                    return
            try:
                self._write(steps)
            except OSError as error:
                self.trouble(f"{self.path}: the last steps could not be kept ({error.strerror or error})")

    def _write(self, steps: list[tuple[JobState, JobState, dict[str, Any] | None]]) -> None:
        lines: list[str] = []
        if not self._begun:
            base = {"saved": self.saved, "recorded": self.recorded, "state": steps[0][0].to_json()}
            lines.append(json.dumps(base, default=plain))
        lines += [json.dumps({"entry": e, "change": delta(b, a)}, default=plain) for b, a, e in steps]
        with own_file(self.path, "a" if self._begun else "w") as out:
            out.write("\n".join(lines) + "\n")
            out.flush()
            os.fsync(out.fileno())
        self._begun = True


def read(folder: Path, saved: str) -> list[tuple[dict[str, Any], dict[str, Any] | None]]:
    """(change, entry) of every whole line that goes on from the saved job; nothing where there is none."""
    try:
        with own_file(folder / NAME, "r") as stream:
            lines = stream.read().splitlines()
        if not lines or json.loads(lines[0]).get("saved") != saved:
            return []
    except (OSError, ValueError, AttributeError, RecursionError):
        return []
    found = []
    for line in lines[1:]:
        try:
            data = json.loads(line)
            found.append((dict(data["change"]), data["entry"]))
        except (ValueError, KeyError, TypeError, RecursionError):
            break
    return found


def base(folder: Path) -> dict[str, Any] | None:
    """The saved job that a journal goes on from, as ``job.json`` holds it; None where there is none."""
    try:
        with own_file(folder / NAME, "r") as stream:
            head = json.loads(stream.readline())
        data = {"state": head["state"], "mark": head["saved"], "record": {"bytes": head["recorded"]}, "version": 0}
        return data if isinstance(data["state"], dict) else None
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def left(folder: Path) -> bool:
    """Whether a journal with steps lies in a job folder."""
    try:
        with own_file(folder / NAME, "r") as stream:
            stream.readline()
            return bool(stream.readline().strip())
    except (OSError, ValueError):
        return False
