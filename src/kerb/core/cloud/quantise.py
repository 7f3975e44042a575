"""Float coordinates as a stream for the store: integers with a scale and an origin, a tenth of a millimetre fine.

Formats that hold floats (text, PLY, E57) and everything that is transformed go through here. Points that are not
numbers, or that lie farther from the others than the integers reach, are left out and counted in a warning.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints32, Mask
from kerb.core.cloud.layout import Columns, Layout
from kerb.core.errors import FormatError
from kerb.core.reference import UNKNOWN, ReferenceSystem, is_geographic

FINE_M = 0.0001
FINE_DEG = 1e-9
WIDE_DEG, COARSE_DEG = 0.5, 1e-7
# Numbers of no known unit may be degrees or kilometres: a small extent gets a grid of a millionth of it.
SMALL, SHARE = 10.0, 1e-6
REACH = 2**31 - 2
FIRST_LOOK = 4096

Pieces = Callable[[int], Iterator[tuple[Floats, Columns]]]


@dataclass(frozen=True)
class About:
    """What is known of a file of float points besides the points."""

    source: str
    source_format: str
    reference: ReferenceSystem = UNKNOWN
    details: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Grid:
    """Coordinate = origin + scale * integer."""

    scale: Floats
    origin: Floats

    @staticmethod
    def around(points: Floats, reference: ReferenceSystem) -> Grid:
        """A grid about the middle of (n, 3) points, as fine as the reference system's unit asks for."""
        good = points[np.isfinite(points).all(axis=1)]
        origin = np.floor(np.median(good, axis=0)) if len(good) else np.zeros(3)
        extent = float(np.ptp(good[:, :2], axis=0).max()) if len(good) else 0.0
        unknown = reference.certainty == "assumed"
        plan = _fine(extent) if unknown else FINE_M
        if is_geographic(reference):
            plan = FINE_DEG if extent < WIDE_DEG else COARSE_DEG
        # A tenth of a millimetre in metres is a tenth of a thousandth in feet too: both have four decimals.
        plan = plan / reference.unit.metres if reference.unit.metres < 0.1 else plan
        height = FINE_M / reference.vertical_unit.metres if reference.vertical_unit.metres < 0.1 else FINE_M
        if unknown:
            height = min(height, _fine(float(np.ptp(good[:, 2])) if len(good) else 0.0))
        return Grid(np.array([plan, plan, height]), origin)

    def integers(self, points: Floats) -> tuple[Ints32, Mask, Mask]:
        """Integer coordinates of the points that fit, with which are no numbers and which lie out of reach."""
        broken: Mask = np.asarray(~np.isfinite(points).all(axis=1))
        with np.errstate(invalid="ignore", over="ignore"):
            whole = np.round((points - self.origin) / self.scale)
            beyond: Mask = np.asarray(~broken & (np.abs(whole) > REACH).any(axis=1))
        keep = ~(broken | beyond)
        return whole[keep].astype(np.int32), broken, beyond


def _fine(extent: float) -> float:
    """A step for numbers of no known unit."""
    if not 0 < extent < SMALL:
        return FINE_M
    return float(np.clip(10 ** np.floor(np.log10(SHARE * extent)), FINE_DEG, FINE_M))


class FloatStream:
    """A stream of points made of pieces of float coordinates (n, 3) and columns of n values.

    ``pieces(size)`` starts at the front each time it is called and gives at most about ``size`` points at a time.
    """

    def __init__(self, pieces: Pieces, about: About, count: int) -> None:
        """Look at the first piece. Raises FormatError when there is none; whatever reading raises."""
        self._pieces = pieces
        self.count = count
        self.warnings: list[tuple[str, str]] = []
        self.about = about
        first = next(iter(pieces(FIRST_LOOK)), None)
        if first is None or not np.isfinite(first[0]).all(axis=1).any():
            first = self._first_good()
        points, columns = first
        self._grid = Grid.around(points, about.reference)
        fields: list[Any] = [("xyz", "<i4", (3,))]
        fields += [(name, values.dtype, values.shape[1:]) for name, values in columns.items()]
        self._names = list(columns)
        self.layout = Layout(
            scale=self._grid.scale,
            origin=self._grid.origin,
            record=np.dtype(fields),
            split=lambda records: {name: records[name] for name in self._names},
            reference=about.reference,
            source=about.source,
            source_format=about.source_format,
            details=about.details,
        )

    def _first_good(self) -> tuple[Floats, Columns]:
        for points, columns in self._pieces(1_000_000):
            good = np.isfinite(points).all(axis=1)
            if good.any():
                return points[good], {name: values[good] for name, values in columns.items()}
        raise FormatError(f"{self.about.source}: holds no points")

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """Records of the layout. Warnings about points left out are complete when the last one was given."""
        broken = beyond = 0
        for points, columns in self._pieces(size):
            xyz, bad, far = self._grid.integers(points)
            broken += int(bad.sum())
            beyond += int(far.sum())
            records = np.empty(len(xyz), self.layout.record)
            records["xyz"] = xyz
            keep: Any = slice(None) if len(xyz) == len(points) else ~(bad | far)
            for name in self._names:
                records[name] = columns[name][keep]
            if len(records):
                yield records
        self.warnings = [note for note in self.warnings if note[0] not in ("not-finite", "out-of-reach")]
        if broken:
            self.warnings.append(("not-finite", f"{broken} points have a coordinate that is no number; left out"))
        if beyond:
            reach = float(REACH * self._grid.scale[0])
            text = f"{beyond} points lie more than {reach:.3g} from the first ones; left out"
            self.warnings.append(("out-of-reach", text))
