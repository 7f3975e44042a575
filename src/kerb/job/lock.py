"""One Kerb at a time in a job folder: two that save there would each undo what the other did."""

from __future__ import annotations

import fcntl
import os
import platform
from contextlib import suppress
from pathlib import Path
from typing import IO

from kerb.core.space import own_file

NAME = ".open"


class FolderLock:
    """Held as long as the process lives or until it is released; a crash releases it too."""

    def __init__(self) -> None:
        self._file: IO[str] | None = None

    def take(self, folder: Path) -> bool:
        """Whether the folder is ours now; the one held before is released. A folder that cannot be locked is free."""
        self.release()
        try:
            file = own_file(folder / NAME, "a+")
        except OSError:
            return True  # read-only: nobody saves here
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            return False
        except OSError:
            file.close()
            return True  # some network file systems have no locks
        if not _is_at(file, folder / NAME):
            # Whoever held it has removed the folder meanwhile.
            file.close()
            return False
        with suppress(OSError):
            file.truncate(0)
            file.write(f"process {os.getpid()} on {platform.node()}")
            file.flush()
        self._file = file
        return True

    def release(self) -> None:
        """Let another one have it."""
        if self._file is not None:
            self._file.close()
            self._file = None


def _is_at(file: IO[str], path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(file.fileno()), os.lstat(path))
    except OSError:
        return False


def held_by(folder: Path) -> str:
    """Who has a folder, in words: ``another Kerb (process 4711 on desk)``."""
    try:
        with own_file(folder / NAME, "r") as stream:
            who = " ".join(stream.read(200).split())
    except (OSError, ValueError):
        who = ""
    return f"another Kerb ({who})" if who.isprintable() and who else "another Kerb"


def in_use(folder: Path) -> bool:
    """Whether a job is open in another window or process."""
    lock = FolderLock()
    free = lock.take(folder)
    lock.release()
    return not free
