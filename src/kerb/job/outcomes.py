"""Outcomes kept beside the job: one file each, a small head and arrays, named after study and fingerprint."""

from __future__ import annotations

import json
import zlib
from pathlib import Path
from tokenize import TokenError
from typing import Any
from zipfile import BadZipFile, ZipFile

import numpy as np

from kerb.core.arrayfile import archive
from kerb.core.errors import JobError
from kerb.core.space import own_file, put_in_place, why
from kerb.job.journal import plain
from kerb.studies.outcome import Outcome

FOLDER = "outcomes"
HEAD = "head"
# More than any outcome has; a damaged or a hostile archive may claim anything.
MOST_BYTES = 4_000_000_000


def folder_of(job: Path) -> Path:
    """Where outcomes of a job lie."""
    return job / "data" / FOLDER


def keep(job: Path, name: str, outcome: Outcome) -> None:
    """Keep an outcome, so that it is there when the job is opened again. Raises JobError."""
    head, arrays = outcome.head()
    text = json.dumps(head, default=plain).encode("utf-8")
    path = folder_of(job) / f"{name}.npz"
    partial = path.with_name(f"partial-{path.name}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        # Names of arrays may hold anything; inside the file they are numbers.
        numbers = {f"a{n}": array for n, array in enumerate(arrays.values())}
        index = json.dumps(list(arrays)).encode("utf-8")
        with own_file(partial, "wb") as out:
            named: dict[str, Any] = {HEAD: np.frombuffer(text, np.uint8), "index": np.frombuffer(index, np.uint8)}
            np.savez(out, **named, **numbers)
        put_in_place(partial, path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise JobError(f"{path}: the outcome cannot be kept ({why(error, path.parent)})") from None


def load(job: Path, name: str) -> Outcome | None:
    """A kept outcome; None where it is missing or cannot be read, so that the study is computed again."""
    try:
        path = folder_of(job) / f"{name}.npz"
        if _unpacked(path) > MOST_BYTES:
            return None
        with own_file(path, "rb") as stream, archive(stream) as kept:
            head: dict[str, Any] = json.loads(bytes(kept[HEAD]).decode("utf-8"))
            index = json.loads(bytes(kept["index"]).decode("utf-8"))
            arrays = {key: kept[f"a{n}"] for n, key in enumerate(index)}
        return Outcome.of_head(head, arrays)
    except (OSError, EOFError, BadZipFile, zlib.error, ValueError, KeyError, TypeError, IndexError, AttributeError):
        return None
    except (NotImplementedError, RuntimeError, OverflowError, MemoryError, SyntaxError, TokenError):
        return None  # a damaged archive may claim another version of the format, a password, or any size


def _unpacked(path: Path) -> int:
    """Bytes that an archive has when it is unpacked, by its own list. Raises OSError; BadZipFile."""
    with own_file(path, "rb") as stream, ZipFile(stream) as kept:
        # What is stored has its size; what is packed, which Kerb never does, may grow a thousandfold.
        return sum(item.file_size for item in kept.infolist())
