"""What belongs to a job folder: files that Kerb made in it, never links or pipes that came with it."""

from __future__ import annotations

import os
import re
from pathlib import Path

from kerb.core.errors import JobError
from kerb.core.space import NO_FILE

DATA = "data"
PARTIAL = ".job.json.partial"
NAMES = ("job.json", "record.jsonl", "autosave.jsonl", ".open", PARTIAL, DATA)
# What Kerb calls the folders of holdings and the files of outcomes, finished or not.
HOLDING_FOLDER = re.compile(r"[0-9a-f]{10}(\.partial)?")
OUTCOME_FILE = re.compile(r"(partial-)?[0-9a-f]{10}-[0-9a-f]{20}\.npz")
DEEPEST = 6


def check_own(folder: Path) -> None:
    """Raises JobError, naming what in a job folder is a link or no regular file: a job that came from somewhere else may
    point to files of whoever opens it."""
    for name in NAMES:
        path = folder / name
        right = path.is_dir() if name == DATA else path.is_file()
        if os.path.lexists(path) and (path.is_symlink() or not right):
            raise JobError(f"{path}: {NO_FILE}; not opened")
    if (folder / DATA).is_dir():
        _check(folder / DATA, 1)


def _check(folder: Path, depth: int) -> None:
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                is_folder = entry.is_dir(follow_symlinks=False)
                if not is_folder and not entry.is_file(follow_symlinks=False):
                    raise JobError(f"{entry.path}: {NO_FILE}; not opened")
                if is_folder and depth < DEEPEST:
                    _check(Path(entry.path), depth + 1)
    except OSError as error:
        raise JobError(f"{folder}: {error.strerror or error}") from None


def check_place(name: str, folder: Path) -> None:
    """Raises JobError, when the data of a holding are said to lie outside of the job's own folder."""
    parts = Path(name).parts
    if name and (len(parts) != 2 or parts[0] != DATA or parts[1] in ("", ".", "..")):
        raise JobError(f"{folder / 'job.json'}: damaged (data of a holding at '{name[:80]}', outside of the job)")


def check_word(word: str, folder: Path) -> None:
    """Raises JobError, when a word that names a file of the job is a path."""
    if "/" in word or "\0" in word or word.startswith("."):
        raise JobError(f"{folder / 'job.json'}: damaged ('{word[:80]}' names no file of the job)")
