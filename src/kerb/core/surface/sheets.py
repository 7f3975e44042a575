"""Surfaces whose triangles lie over one another: where they do, and the one sheet that is seen from above or from below."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import InputError
from kerb.core.parallel import each, ranges
from kerb.core.surface.cutting import parted, soup
from kerb.core.surface.tin import Tin
from kerb.core.surface.tin_kernels import layers_over

TOP, BOTTOM = "top", "bottom"
# A place counts as inside a triangle when it is this share of it away from its edges.
INSIDE = 1e-6
MOST_PARTED = 400_000
# Less of the plan area than this lies over itself by rounding only.
LEAST_FOLDED = 1e-6
# Pieces of a triangle below this share of it are rounding.
LEAST = 1e-9
PAIRS_AT_A_TIME = 200_000
ROUNDING = 1e-12


@dataclass(frozen=True)
class Folded:
    """Where triangles lie over one another: plan area, and the place of the largest such triangle (2,) in job coordinates."""

    area: float
    place: Floats


def folded(tin: Tin) -> Folded | None:
    """Where triangles of a surface lie over others, judged at the middle of each; None where none does."""
    if len(tin.triangles) < 2:
        return None
    middle = np.ascontiguousarray(tin.vertices[tin.triangles, :2].mean(axis=1))
    over = np.empty(len(middle), np.int64)
    index = tin.index
    grid = index.low, index.inverse, index.shape, index.starts, index.listed

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        layers_over(tin.vertices, tin.triangles, *grid, middle[rows], INSIDE, over[rows])

    each(some, ranges(len(middle), 50_000))
    double = over > 1
    if not double.any():
        return None
    areas = np.abs(tin.plan_areas)
    largest = int(np.argmax(np.where(double, areas, 0.0)))
    # Each place of a sheet that lies over another is counted once for each sheet.
    area = float(np.sum(areas[double] * (1.0 - 1.0 / over[double])))
    if area <= LEAST_FOLDED * float(areas.sum()):
        return None
    return Folded(area, middle[largest] + tin.origin[:2])


def seen_sheet(tin: Tin, side: str) -> Tin:
    """The surface with one elevation a place that is seen from above (``top``) or from below (``bottom``).

    Each triangle keeps what no other covers from that side; exact, by plane against plane. Raises InputError, when there
    are too many triangles to be parted.
    """
    if len(tin.triangles) > MOST_PARTED:
        raise InputError(
            f"{len(tin.triangles)} triangles lie partly over one another; at most {MOST_PARTED} can be separated: "
            "write its sheets as separate surfaces"
        )
    sign = 1.0 if side == TOP else -1.0
    shapes: Any = shapely.polygons(tin.vertices[tin.triangles][:, :, :2])
    sizes = np.abs(tin.plan_areas)
    plane = _planes(tin)
    pairs = _overlapping(shapes, sizes)
    cover, cut = _covering(pairs, sign * plane)
    alone = np.ones(len(shapes), bool)
    alone[pairs.one[cover | cut]] = False
    hidden: dict[int, list[Any]] = {}
    for t, piece in zip(pairs.one[cover].tolist(), pairs.common[cover].tolist(), strict=True):
        hidden.setdefault(t, []).append(piece)
    for k in np.flatnonzero(cut).tolist():
        t, s = int(pairs.one[k]), int(pairs.other[k])
        hidden.setdefault(t, []).append(_above(pairs.common[k], sign * (plane[s] - plane[t])))
    triangles = [np.empty((0, 3, 3))]
    for t, pieces in hidden.items():
        covered = shapely.union_all(pieces)
        if covered.area >= (1 - LEAST) * sizes[t]:
            continue
        left = shapes[t].difference(covered)
        triangles.append(parted(left, plane[t], LEAST * sizes[t]))
    return soup(np.concatenate([tin.vertices[tin.triangles[alone]], *triangles]), tin.origin)


def _planes(tin: Tin) -> Floats:
    """Elevation at the origin and slopes of each triangle, (m, 3)."""
    a, b, c = (tin.vertices[tin.triangles[:, k]] for k in range(3))
    u, v = b - a, c - a
    det = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    det = np.where(det == 0.0, np.inf, det)
    east = (u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1]) / det
    north = (u[:, 0] * v[:, 2] - v[:, 0] * u[:, 2]) / det
    return np.column_stack([a[:, 2] - east * a[:, 0] - north * a[:, 1], east, north])


@dataclass(frozen=True)
class _Pairs:
    """Pairs of triangles that share ground, each both ways, and the convex piece that they share."""

    one: Ints
    other: Ints
    common: Any


def _overlapping(shapes: Any, sizes: Floats) -> _Pairs:
    one, other = shapely.STRtree(shapes).query(shapes, predicate="intersects")
    keep = one < other
    one, other = one[keep], other[keep]
    spans = range(0, len(one), PAIRS_AT_A_TIME)
    found = [
        shapely.intersection(shapes[one[k : k + PAIRS_AT_A_TIME]], shapes[other[k : k + PAIRS_AT_A_TIME]])
        for k in spans
    ]
    common = np.concatenate([np.empty(0, object), *found])
    real = shapely.area(common) > LEAST * np.minimum(sizes[one], sizes[other])
    one, other, common = one[real], other[real], common[real]
    return _Pairs(np.concatenate([one, other]), np.concatenate([other, one]), np.concatenate([common, common]))


def _covering(pairs: _Pairs, plane: Floats) -> tuple[Mask, Mask]:
    """Of each pair whether the other covers all of the shared piece, and whether it covers a part of it. Of two planes that
    coincide the first covers the second."""
    corners, of = shapely.get_coordinates(pairs.common, return_index=True)
    difference = (plane[pairs.other] - plane[pairs.one])[of]
    parts = difference * np.column_stack([np.ones(len(corners)), corners])
    room = ROUNDING * (np.abs(parts).sum(axis=1) + 1.0)
    height = parts.sum(axis=1)
    up, down = np.zeros(len(pairs.one), bool), np.zeros(len(pairs.one), bool)
    np.logical_or.at(up, of, height > room)
    np.logical_or.at(down, of, height < -room)
    cover = (up & ~down) | (~up & ~down & (pairs.other < pairs.one))
    return cover, up & down


def _above(piece: Any, difference: Floats) -> Any:
    """The part of a convex piece where a plane (level, slope east, slope north) is above 0."""
    ring = shapely.get_coordinates(piece)[:-1]
    h = difference[0] + ring @ difference[1:]
    corners = []
    for k in range(len(ring)):
        n = (k + 1) % len(ring)
        if h[k] >= 0:
            corners.append(ring[k])
        if (h[k] >= 0) != (h[n] >= 0):
            share = h[k] / (h[k] - h[n])
            corners.append(ring[k] + share * (ring[n] - ring[k]))
    return shapely.Polygon(corners) if len(corners) >= 3 else shapely.Polygon()
