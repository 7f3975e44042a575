"""What surveys are made of besides clouds: named points, lines and areas. Plain values in job coordinates."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.alignment import Alignment, Mapper
from kerb.core.geometry.area import Area, ring_of


@dataclass(frozen=True)
class SurveyPoints:
    """Points measured one by one: ``xyz`` (n, 3) easting, northing, elevation; NaN where a point has no elevation.

    ``names`` and ``codes`` have n texts each; ``extra`` holds further columns as texts, by heading.
    """

    xyz: Floats
    names: tuple[str, ...]
    codes: tuple[str, ...]
    extra: dict[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Number of points."""
        return len(self.xyz)

    def mapped(self, mapper: Mapper) -> SurveyPoints:
        """The same points elsewhere; ``mapper`` takes and gives (n, 3)."""
        return replace(self, xyz=mapper(self.xyz))

    def only(self, keep: np.ndarray) -> SurveyPoints:
        """Some of the points, chosen by a mask or by row numbers."""
        rows = np.arange(self.count)[keep]
        extra = {key: tuple(values[i] for i in rows) for key, values in self.extra.items()}
        return SurveyPoints(
            self.xyz[rows], tuple(self.names[i] for i in rows), tuple(self.codes[i] for i in rows), extra
        )


@dataclass(frozen=True)
class Line:
    """A line or, when ``closed``, the outline of an area. ``xyz`` is (n, 3), without a doubled last vertex."""

    xyz: Floats
    closed: bool = False
    name: str = ""
    layer: str = ""


@dataclass(frozen=True)
class LineSet:
    """Lines and areas, with the exact alignments where the file defines them.

    ``fields`` holds further columns: a value, or None, for each line.
    """

    lines: tuple[Line, ...]
    alignments: tuple[Alignment, ...] = ()
    fields: dict[str, tuple[Any, ...]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Number of lines and areas."""
        return len(self.lines)

    @property
    def vertices(self) -> Floats:
        """All vertices, (n, 3)."""
        return np.concatenate([line.xyz for line in self.lines]) if self.lines else np.empty((0, 3))

    @property
    def layers(self) -> tuple[str, ...]:
        """Layers in order of first use."""
        return tuple(dict.fromkeys(line.layer for line in self.lines))

    def mapped(self, mapper: Mapper, unit: float = 1.0) -> LineSet:
        """The same lines elsewhere; exact alignments stay exact to a fraction of a millimetre, with their stations.

        ``unit`` is what stations are multiplied with, where the map changes the unit of length.
        """
        lines = tuple(replace(line, xyz=mapper(line.xyz)) for line in self.lines)
        alignments = tuple(alignment.mapped(mapper).counted_by(unit) for alignment in self.alignments)
        return LineSet(lines, alignments, self.fields)

    def scaled(self, plan: float, height: float) -> LineSet:
        """The same lines in another unit, exact alignments included."""
        factor = np.array([plan, plan, height])
        lines = tuple(replace(line, xyz=line.xyz * factor) for line in self.lines)
        return LineSet(lines, tuple(alignment.scaled(plan, height) for alignment in self.alignments), self.fields)

    def areas(self) -> list[tuple[int, ...]]:
        """The areas: the number of each outline, with those of its holes, which follow it and are named after it."""
        found: list[tuple[int, ...]] = []
        for number, line in enumerate(self.lines):
            if not line.closed:
                continue
            outline = self.lines[found[-1][0]] if found else None
            hole = f"{outline.name} hole {len(found[-1])}".strip() if outline is not None else ""
            if (
                outline is not None
                and number == found[-1][-1] + 1
                and line.name == hole
                and line.layer == outline.layer
            ):
                found[-1] = (*found[-1], number)
            else:
                found.append((number,))
        return found

    def shapes(self) -> list[Area]:
        """The areas of :meth:`areas` with their holes, named as their outlines."""
        return [
            Area(tuple(ring_of(self.lines[row].xyz) for row in rows), self.lines[rows[0]].name) for rows in self.areas()
        ]


def bounds_of(xyz: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest corner, (3,) each, of (n, 3) places; NaN along an axis where no value is known."""
    if not len(xyz):
        return np.full(3, np.nan), np.full(3, np.nan)
    known = np.isfinite(xyz)
    low = np.where(known, xyz, np.inf).min(axis=0)
    high = np.where(known, xyz, -np.inf).max(axis=0)
    none = ~known.any(axis=0)
    low[none] = high[none] = np.nan
    return low, high
