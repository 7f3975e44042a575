"""Room on the disk, and writes that last.

A file that is mapped into memory gets its blocks when a page is first touched; on a full disk that ends the process
with a signal. So the blocks are asked for before anything is written (``posix_fallocate``, POSIX.1-2017), and a full
disk is an OSError like any other. What is moved to its name was synced first, and its folder afterwards: a loss of
power leaves the old or the new, never a name without its contents (the rule of the file system manual, ``fsync(2)``).
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Iterable
from pathlib import Path
from typing import IO, Any

import numpy as np

from kerb.core.arrays import AnyArray

NO_ROOM = 1 << 20
NO_SPACE = os.strerror(errno.ENOSPC)
NO_FILE = "is a link or no regular file"


def mapped_array(path: Path, kind: Any, shape: tuple[int, ...]) -> AnyArray:
    """A new .npy file of zeros, mapped for writing, with room on the disk for all of it. Raises OSError."""
    try:
        made: AnyArray = np.lib.format.open_memmap(path, "w+", np.dtype(kind), shape)
        with open(path, "r+b") as stream:
            os.posix_fallocate(stream.fileno(), 0, max(os.fstat(stream.fileno()).st_size, 1))
    except OSError as error:
        path.unlink(missing_ok=True)
        raise OSError(error.errno, error.strerror, str(path)) from None
    return made


class RowFile:
    """A new .npy file of zeros with room on the disk for all of it, whose rows are put by any thread, in any order.

    Written, not mapped: the first touch of a mapped page costs more than its bytes. Raises OSError.
    """

    def __init__(self, path: Path, kind: Any, shape: tuple[int, ...]) -> None:
        made: Any = mapped_array(path, kind, shape)
        self.kind, self._start, self._row = made.dtype, made.offset, made.strides[0]
        self._handle = os.open(path, os.O_RDWR)

    def put(self, at: int, values: AnyArray) -> None:
        """Write rows from row ``at`` on."""
        write_at(self._handle, self._start + at * self._row, np.ascontiguousarray(values, self.kind))

    def keep(self) -> None:
        """See that what was put so far is on the disk."""
        os.fdatasync(self._handle)

    def close(self) -> None:
        """Nothing more is put."""
        os.close(self._handle)


def write_at(handle: int, at: int, values: AnyArray) -> None:
    """Write all bytes of a contiguous array from byte ``at`` of a file on. Raises OSError."""
    data = values.view(np.uint8).reshape(-1).data
    while data:
        written = os.pwrite(handle, data, at)
        data, at = data[written:], at + written


def own_file(path: Path, mode: str) -> IO[Any]:
    """Open a file of a folder that somebody else may have made: no link is followed, and nothing but a file is opened.

    Raises OSError.
    """
    stream = open(path, mode, encoding=None if "b" in mode else "utf-8", opener=_no_link)  # noqa: SIM115 it is returned
    if not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
        stream.close()
        raise OSError(errno.EINVAL, NO_FILE, str(path))
    return stream


def _no_link(name: str, flags: int) -> int:
    try:
        # Not waiting, so that a pipe does not hold whoever opens it.
        return os.open(name, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o666)
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENXIO):
            raise OSError(error.errno, NO_FILE, name) from None
        raise


def put_in_place(partial: Path, path: Path) -> None:
    """Move a finished file or folder to its name, so that it lasts. Raises OSError."""
    _sync(sorted(partial.rglob("*"), reverse=True) if partial.is_dir() else ())
    _sync((partial,))
    partial.replace(path)
    _sync((path.parent,))


def _sync(paths: Iterable[Path]) -> None:
    for path in paths:
        handle = os.open(path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def refusal(error: OSError, path: Path | str) -> str:
    """What the system refused, in one line that names the file: the one it told, else ``path``."""
    named = Path(error.filename if isinstance(error.filename, str) else path)
    return f"{named}: {why(error, named.parent)}"


def why(error: Exception | str, folder: Path) -> str:
    """The reason of an error, or of what a library said, in words: that the disk is full, where they do not tell."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return NO_SPACE if full(folder) else str(error)


def full(folder: Path) -> bool:
    """Whether the disk of a folder has no room worth speaking of."""
    try:
        return shutil.disk_usage(folder).free < NO_ROOM
    except OSError:
        return False


def alive(process: int) -> bool:
    """Whether a process of this number runs."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True  # somebody else's
    return True
