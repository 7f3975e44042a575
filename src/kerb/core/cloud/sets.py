"""Sets of points kept in files of a store: a bit a point, or row numbers where there are few.

A file holds one state of a set and is never written again. What the analyst does with points (setting aside, making
parts, giving classes) only names other files, so that undo is going back to the names before, at no cost.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kerb.core.arrayfile import loaded
from kerb.core.arrays import Bytes, Ints, Mask
from kerb.core.errors import JobError
from kerb.core.space import put_in_place, refusal

BITS_A_ROW = 32
BLOCK = 1 << 18


@dataclass(frozen=True)
class PointSets:
    """What was done with the points of a cloud, as names of kept sets.

    ``aside`` is the set that is set aside; ``parts`` number and set of each part, no point in two; ``given`` classes
    that were given after the import, (set, class), the later over the earlier. Nothing is named where nothing was done.
    """

    aside: str = ""
    parts: tuple[tuple[int, str], ...] = ()
    given: tuple[tuple[str, int], ...] = ()

    @property
    def names(self) -> set[str]:
        """Every kept set that is named."""
        return {self.aside, *(name for _, name in self.parts), *(name for name, _ in self.given)} - {""}

    @property
    def mark(self) -> str:
        """Digest of which points count and of what class they are; parts do not change it."""
        return hashlib.sha256(repr((self.aside, self.given)).encode()).hexdigest()[:16]


def keep(folder: Path, mask: Mask) -> str:
    """Write a set, (n,), and return the name it is taken up by. Raises JobError."""
    count = int(np.count_nonzero(mask))
    few = count * BITS_A_ROW < len(mask) and len(mask) < 2**32
    data = np.flatnonzero(mask).astype(np.uint32) if few else np.packbits(mask)
    name = hashlib.sha256(data.tobytes() + len(mask).to_bytes(8, "little")).hexdigest()[:16]
    path = _path(folder, name)
    if not path.exists():
        partial = path.with_name(path.name + ".partial")
        try:
            with open(partial, "wb") as stream:
                np.save(stream, data)
            put_in_place(partial, path)
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise JobError(refusal(error, path)) from None
    return name


def taken(folder: Path, name: str, count: int) -> Mask | Ints:
    """A kept set of a cloud of ``count`` points, as an index: a mask (n,) or row numbers.

    Raises JobError, when the file is missing, damaged or of another cloud.
    """
    path = _path(folder, name)
    try:
        data = loaded(path)
        if data.dtype == np.uint32 and data.ndim == 1 and (not len(data) or int(data.max()) < count):
            return np.asarray(data, np.int64)
        if data.dtype != np.uint8 or data.shape != (-(-count // 8),):
            raise ValueError("of another cloud")
    except (OSError, ValueError) as error:
        raise JobError(f"{path}: a set of points cannot be read ({error})") from None
    bits: Bytes = np.unpackbits(data, count=count)
    return bits.view(np.bool_)


def mask_of(folder: Path, name: str, count: int) -> Mask:
    """A kept set as a mask, (n,). Raises JobError as :func:`taken` does."""
    found = taken(folder, name, count)
    if found.dtype == np.bool_:
        return np.asarray(found, np.bool_)
    mask = np.zeros(count, np.bool_)
    mask[found] = True
    return mask


def paint(values: Bytes, which: Mask | Ints, value: int) -> None:
    """Set bytes (n,), in place, to a value where a mask (n,) says so or at row numbers.

    Block by block and without a branch a point, which is ten times faster than assignment by a mask.
    """
    if which.dtype != np.bool_:
        values[which] = value
        return
    ours = which.view(np.uint8)
    for at in range(0, len(values), BLOCK):
        some, mine = values[at : at + BLOCK], ours[at : at + BLOCK]
        some *= mine ^ 1
        some += mine * np.uint8(value)


def kept_in(folder: Path) -> list[Path]:
    """Files of all sets kept in a folder."""
    return sorted(folder.glob("set-*.npy"))


def name_of(path: Path) -> str:
    """The name of the set that a file keeps."""
    return path.stem.removeprefix("set-")


def _path(folder: Path, name: str) -> Path:
    return folder / f"set-{name}.npy"
