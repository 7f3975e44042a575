"""One Kerb at a time in a job folder: two that save there would each undo what the other did."""

from __future__ import annotations

import fcntl
from pathlib import Path
from typing import IO

NAME = ".open"


class FolderLock:
    """Held as long as the process lives or until it is released; a crash releases it too."""

    def __init__(self) -> None:
        self._file: IO[str] | None = None

    def take(self, folder: Path) -> bool:
        """Whether the folder is ours now; the one held before is released. A folder that cannot be locked is free."""
        self.release()
        try:
            file = open(folder / NAME, "w", encoding="utf-8")  # noqa: SIM115 it stays open as long as it is held
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
        self._file = file
        return True

    def release(self) -> None:
        """Let another one have it."""
        if self._file is not None:
            self._file.close()
            self._file = None


def in_use(folder: Path) -> bool:
    """Whether a job is open in another window or process."""
    lock = FolderLock()
    free = lock.take(folder)
    lock.release()
    return not free
