"""Areas in plan: an outline with its holes, as drawn or as a file has them. Plain values that compare and are kept."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, Mask
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.once import Once

# Areas that share less than this part of the smaller one touch.
LEAST_SHARED = 1e-6
Ring = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Area:
    """``rings`` are closed lines of (easting, northing) without a doubled last vertex: the outline, then its holes."""

    rings: tuple[Ring, ...]
    name: str = ""

    @staticmethod
    def of(shape: Any, name: str = "") -> list[Area]:
        """The areas of a shapely polygon or of several."""
        parts = [part for part in getattr(shape, "geoms", [shape]) if part.geom_type == "Polygon"]
        return [Area(tuple(ring_of(r.coords[:-1]) for r in (p.exterior, *p.interiors)), name) for p in parts]

    @Once
    def outline(self) -> Floats:
        """The outline, (n, 2)."""
        return np.array(self.rings[0], float).reshape(-1, 2)

    @Once
    def holes(self) -> list[Floats]:
        """The holes, (n, 2) each."""
        return [np.array(ring, float) for ring in self.rings[1:]]

    @Once
    def shape(self) -> Any:
        """As a shapely polygon."""
        made = shapely.Polygon(self.outline, self.holes)
        shapely.prepare(made)
        return made

    @property
    def middle(self) -> Floats:
        """Its centroid, (2,)."""
        shift = self.outline[0]
        moved = shapely.Polygon(self.outline - shift, [hole - shift for hole in self.holes])
        return np.array(moved.centroid.coords[0]) + shift

    @property
    def size(self) -> float:
        """Area without the holes, never negative."""
        return abs(polygon.area(self.outline)) - sum(abs(polygon.area(hole)) for hole in self.holes)

    def contains(self, points: Floats) -> Mask:
        """Which of (n, 2 or more) points lie inside and in no hole."""
        inside = polygon.contains(self.outline, points)
        for hole in self.holes:
            inside &= ~polygon.contains(hole, points)
        return inside

    def coverage(self, low: Floats, cell: float, shape: tuple[int, int]) -> Floats:
        """Share of each grid cell inside, 0 to 1, exact; ``shape`` is (rows of y, columns of x)."""
        # A ring that runs clockwise covers by negative shares.
        share = np.abs(polygon.coverage(self.outline, low, cell, shape))
        for hole in self.holes:
            share -= np.abs(polygon.coverage(hole, low, cell, shape))
        return np.clip(share, 0.0, 1.0)

    def check(self, name: str) -> None:
        """Raises InputError naming it, when a ring is not plain or a hole lies outside the outline."""
        rings = [polygon.checked(np.array(ring, float).reshape(-1, 2), name) for ring in self.rings]
        if not shapely.Polygon(rings[0] - rings[0][0], [r - rings[0][0] for r in rings[1:]]).is_valid:
            raise InputError(f"{name}: a hole crosses the outline or lies outside it")


def overlapping(areas: Sequence[Area]) -> list[tuple[str, str, float]]:
    """Pairs of areas that share ground, by name, with how much (an area within another too)."""
    found = []
    shapes = shapely.make_valid(np.array([area.shape for area in areas], object))
    for one, other in zip(*shapely.STRtree(shapes).query(shapes), strict=True):
        if one < other:
            common = float(shapes[one].intersection(shapes[other]).area)
            if common > LEAST_SHARED * min(areas[one].size, areas[other].size):
                found.append((areas[one].name, areas[other].name, common))
    return found


def ring_of(places: Iterable[Any]) -> Ring:
    """A ring of plain numbers from anything with two or more numbers a place."""
    return tuple((float(place[0]), float(place[1])) for place in places)


def touching_any(areas: tuple[Area, ...], points: Floats, room: float) -> Mask:
    """Which of (n, 2 or more) points lie in one of some areas or within ``room`` of its border, that of its holes too."""
    found = inside_any(areas, points)
    for area in areas:
        shift = area.outline[0]
        near = np.flatnonzero(~found)
        rim = shapely.MultiLineString(
            [np.concatenate([ring, ring[:1]]) - shift for ring in (area.outline, *area.holes)]
        )
        shapely.prepare(rim)
        found[near] = shapely.dwithin(rim, shapely.points(points[near, :2] - shift), room)
    return found


def inside_any(areas: tuple[Area, ...], points: Floats) -> Mask:
    """Which of (n, 2 or more) points lie in one of some areas."""
    found = np.zeros(len(points), np.bool_)
    for area in areas:
        found |= area.contains(points)
    return found
