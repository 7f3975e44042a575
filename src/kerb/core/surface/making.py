"""A triangulated surface from the points of a cloud: which of them stay, its lines and rim, and what thinning cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning import Thinning, thinned
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.surface.cloud_top import beyond_rim, rim_edge
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.volume import between

# So many vertices are triangulated at once: some 200 bytes each.
MOST_VERTICES = 25_000_000
LEVELS = 40


@dataclass(frozen=True)
class Departure:
    """How far the points of a cloud lie from a surface made of some of them: largest, root mean square, and of how many."""

    largest: float
    rms: float
    points: int


@dataclass(frozen=True)
class Shape:
    """What shapes a surface besides its points: ``lines`` (k, 3) that edges follow; ``ring`` (k, 2) that cuts it off, with the
    elevations of the surface of the points; the longest edge in plan that a triangle may have; and whether it ends at a concave
    outline of the points, so many usual edges long at most, in place of their hull."""

    lines: Sequence[Floats] = ()
    ring: Floats | None = None
    longest: float | None = None
    concave: bool = False


def surface_from(store: CloudStore, among: Mask, thin: Thinning | None, shape: Shape, progress: Progress) -> Tin:
    """The Delaunay surface of the points of a mask (n,), thinned first where it says how.

    Raises InputError, when there are too many points or a line has no elevations; NotDeterminable; Cancelled.
    """
    lines, ring, longest = shape.lines, shape.ring, shape.longest
    if thin is not None:
        among = thinned(store, thin, among, progress.within(0.0, 0.4))
    rows = np.flatnonzero(among)
    if len(rows) > MOST_VERTICES:
        raise InputError(
            f"{len(rows)} points are more than {MOST_VERTICES} for one surface: give a spacing, or an area"
        )
    points = store.coordinates(rows)
    if any(not np.isfinite(line).all() for line in lines):
        raise InputError("a break line has a vertex without elevation")
    progress.step(0.5, "Triangulating")
    if ring is None:
        tin = triangulate(points, lines=lines)
    else:
        rim = np.column_stack([ring, _elevations_along(points, ring)])
        tin = triangulate(points, rim, lines)
    progress.step(0.8, "Triangulating")
    if shape.concave:
        tin = tin.compact(~beyond_rim(tin, rim_edge(tin)))
    if longest is None:
        return tin
    keep = tin.longest_edges <= longest
    if not keep.any():
        raise NotDeterminable(f"every triangle has an edge longer than {longest:g}")
    return tin.compact(keep)


def _elevations_along(points: Floats, ring: Floats) -> Floats:
    """Elevations (k,) of the surface of some points at the vertices of a ring; those outside of it take that of the nearest
    point."""
    low, high = ring.min(axis=0), ring.max(axis=0)
    room = 0.05 * float(np.hypot(*(high - low)))
    near = points[np.all((points[:, :2] >= low - room) & (points[:, :2] <= high + room), axis=1)]
    if len(near) < 3:
        raise NotDeterminable("there are no points in the boundary")
    z = triangulate(near).at(ring)
    for k in np.flatnonzero(~np.isfinite(z)):
        z[k] = near[np.argmin(np.hypot(*(near[:, :2] - ring[k]).T)), 2]
    return z


def departure(store: CloudStore, among: Mask, tin: Tin, progress: Progress) -> Departure:
    """How far the points of a mask lie above or below a surface, where it has one. Raises Cancelled."""
    tin.index  # noqa: B018  made once, before threads ask for it

    def of_tile(tile: int) -> tuple[float, float, int]:
        rows = np.flatnonzero(among[store.rows_of(tile)]) + store.rows_of(tile).start
        points = store.coordinates(rows)
        away = points[:, 2] - tin.at(points[:, :2])
        away = away[np.isfinite(away)]
        return float(np.abs(away).max(initial=0.0)), float(away @ away), len(away)

    parts = each(of_tile, range(len(store.tiles)), progress, "Comparing with all points")
    count = sum(n for _, _, n in parts)
    return Departure(max(most for most, _, _ in parts),
                     float(np.sqrt(sum(s for _, s, _ in parts) / count)) if count else 0.0, count)  # fmt: skip


def mean_level(tin: Tin) -> float:
    """The mean elevation by plan area."""
    middle = tin.vertices[tin.triangles, 2].mean(axis=1)
    return float(tin.plan_areas @ middle / tin.plan_area + tin.origin[2])


def level_table(tin: Tin, levels: Floats) -> tuple[Floats, Floats]:
    """Plan area of the surface above each level, and the volume between surface and level there, (k,) each. Exact."""
    found = [between(tin, plane.level(float(z))) for z in levels]
    return np.array([v.area_above for v in found]), np.array([v.above for v in found])
