"""The job record: who did what, a line a step, in a file that only grows.

``job.json`` says how many bytes of it belong to the saved job; what a crash left behind them is cut off by the next save.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass, field
from datetime import datetime
from getpass import getuser
from pathlib import Path
from typing import Any

from kerb.core.errors import JobError
from kerb.core.space import own_file
from kerb.job.journal import plain

NAME = "record.jsonl"


@dataclass(frozen=True)
class Entry:
    """One line of the job record."""

    when: str
    who: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)

    @staticmethod
    def now(sentence: str, settings: dict[str, Any]) -> Entry:
        """A line for something done at this moment by this user."""
        return Entry(datetime.now().astimezone().isoformat(sep=" ", timespec="seconds"), _who(), sentence, settings)

    def text(self) -> str:
        """The entry as a line to read."""
        return f"{self.when}  {self.who}: {self.sentence}"


def read(folder: Path, size: int) -> list[Entry]:
    """The entries in the first ``size`` bytes. Raises JobError, when they are not there or damaged."""
    if not size:
        return []
    path = folder / NAME
    try:
        with own_file(path, "rb") as stream:
            data = stream.read(size)
        if len(data) < size:
            raise ValueError("it is shorter than the job says")
        return [Entry(**json.loads(line)) for line in data.decode("utf-8").splitlines()]
    except (OSError, ValueError, TypeError) as error:
        raise JobError(f"{path}: damaged ({error})") from None


def extended(folder: Path, size: int, entries: list[Entry]) -> int:
    """Write entries behind the first ``size`` bytes and return how many there are then. Raises OSError."""
    text = "".join(json.dumps(vars(entry), default=plain) + "\n" for entry in entries)
    path = folder / NAME
    with own_file(path, "r+b" if path.exists() else "w+b") as stream:
        stream.truncate(size)
        stream.seek(size)
        stream.write(text.encode("utf-8"))
        stream.flush()
        os.fsync(stream.fileno())
        return stream.tell()


def _who() -> str:
    try:
        return getuser()
    except (KeyError, OSError):
        return "unknown"
