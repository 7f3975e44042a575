"""Take only some points of a stream: every n-th, one a cell, some classes, inside a box or polygon."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Mask
from kerb.core.cloud.layout import PointStream
from kerb.core.cloud.sieve_kernels import admit
from kerb.core.errors import InputError
from kerb.core.geometry.area import Area, inside_any
from kerb.core.quantity import symbol

FIRST_TABLE = 1 << 16
MOST_EVERY = 1_000_000_000


@dataclass(frozen=True)
class Sieve:
    """Which points go through. ``spacing`` keeps the first point of each cube of that size; ``areas`` are those
    that points must lie in, holes left out.

    ``box`` is two corners (easting, northing). Lengths are in the unit of the stream. Raises InputError for settings
    that make no sense.
    """

    every: int = 1
    spacing: float = 0.0
    classes: tuple[int, ...] = ()
    areas: tuple[Area, ...] = ()
    box: tuple[tuple[float, float], tuple[float, float]] | None = None

    def __post_init__(self) -> None:
        if not 1 <= self.every <= MOST_EVERY:
            raise InputError(f"every n-th point: n must be one to {MOST_EVERY}")
        if self.spacing < 0 or not np.isfinite(self.spacing):
            raise InputError("the spacing must be above zero")
        if self.box is not None and not np.all(np.array(self.box[1]) > np.array(self.box[0])):
            raise InputError("the box has no area")

    @property
    def idle(self) -> bool:
        """Whether everything goes through."""
        return self == Sieve()

    def words(self, unit: str) -> str:
        """What was taken, for the job record; ``unit`` is the code of the stream's."""
        words = []
        if self.every > 1:
            words.append(f"one of every {self.every} points")
        if self.spacing:
            words.append(f"one point in each cube of {self.spacing:g} {symbol(unit)}")
        if self.classes:
            words.append(f"classes {', '.join(map(str, self.classes))}")
        if self.areas:
            words.append("inside a polygon" if len(self.areas) == 1 else f"inside {len(self.areas)} polygons")
        if self.box:
            words.append("inside a box")
        return "; ".join(words)

    def bounds(self) -> tuple[Floats, Floats] | None:
        """Lowest and highest plan corner of what can go through; None without a box or polygon."""
        lows, highs = [], []
        if self.box is not None:
            lows.append(np.array(self.box[0]))
            highs.append(np.array(self.box[1]))
        if self.areas:
            lows.append(np.min([area.outline.min(axis=0) for area in self.areas], axis=0))
            highs.append(np.max([area.outline.max(axis=0) for area in self.areas], axis=0))
        return (np.max(lows, axis=0), np.min(highs, axis=0)) if lows else None


# So many cells from the origin at most.
FARTHEST = 1e15


class CellSet:
    """Cells that hold a point already."""

    def __init__(self, size: float) -> None:
        self.size = size
        self.count = 0
        self._table = np.zeros((FIRST_TABLE, 3), np.int64)
        self._used = np.zeros(FIRST_TABLE, np.uint8)

    def first_in_cell(self, points: Floats) -> Mask:
        """Which of (n, 3) points are the first of their cell, in this call and all before."""
        keep = np.zeros(len(points), bool)
        self._grow(self.count + len(points))
        # Far beyond the steps of any file; whole numbers would run over.
        if len(points) and float(np.abs(points).max()) > FARTHEST * self.size:
            raise InputError(f"a spacing of {self.size:g} is finer than the numbers of the file")
        self.count += admit(np.floor(points / self.size).astype(np.int64), self._table, self._used, keep)
        return keep

    def _grow(self, wanted: int) -> None:
        size = len(self._table)
        while size < 2 * wanted:
            size *= 2
        if size == len(self._table):
            return
        kept = self._table[self._used > 0]
        self._table, self._used = np.zeros((size, 3), np.int64), np.zeros(size, np.uint8)
        admit(kept, self._table, self._used, np.zeros(len(kept), bool))


class Sieved:
    """A stream of which a sieve lets some points through."""

    def __init__(self, stream: PointStream, sieve: Sieve) -> None:
        self._stream = stream
        self.sieve = sieve
        self.count = stream.count
        self.words = sieve.words(stream.layout.reference.unit.code)
        self.layout = replace(stream.layout, details={**stream.layout.details, "thinned": self.words})
        self.seen = self.passed = 0

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Those of the stream, and what was taken."""
        note = ("thinned", f"taken: {self.words}")
        return [*self._stream.warnings, note]

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records that go through, in file order."""
        self.seen = self.passed = 0
        cells = CellSet(self.sieve.spacing) if self.sieve.spacing > 0 else None
        for records in self._stream.chunks(size):
            keep = (np.arange(self.seen, self.seen + len(records)) % self.sieve.every) == 0
            self.seen += len(records)
            if self.sieve.classes:
                codes = self.layout.split(records).get("classification")
                if codes is None:
                    raise InputError(f"{self.layout.source}: has no classes to choose points by")
                keep &= np.isin(codes, self.sieve.classes)
            points = self.layout.origin + records["xyz"] * self.layout.scale
            if self.sieve.box is not None:
                low, high = self.sieve.box
                keep &= np.all((points[:, :2] >= low) & (points[:, :2] <= high), axis=1)
            if self.sieve.areas:
                keep &= inside_any(self.sieve.areas, points)
            if cells is not None:
                keep[keep] = cells.first_in_cell(points[keep])
            self.passed += int(keep.sum())
            if keep.any():
                yield records[keep]
