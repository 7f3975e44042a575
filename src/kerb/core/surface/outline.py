"""The outline in plan of a triangulated surface, and how much of each cell of a grid lies in an outline."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints
from kerb.core.surface.tin import Tin
from kerb.core.surface.tin_kernels import rim_marks

# Areas that differ by less than this share are equal but for rounding.
SAME_AREA = 1e-7
# What is less of a cell than this is rounding.
LEAST_SHARE = 1e-12
MARKS_SEED = 20_260_301
# Edges along the rim beyond which rings are not built: a surface torn in ten thousands of places.
MOST_EDGES = 20_000


def outline(tin: Tin, origin: Floats) -> Any | None:
    """What a surface covers in plan, as a shapely geometry counted from ``origin`` (2,).

    Edges that only one triangle uses are joined to rings. Where triangles lie over one another or meet without sharing
    corners those rings do not close; then all triangles are united. None for a surface that is torn in so many places that
    neither is done in a moment.
    """
    shift = tin.origin[:2] - origin[:2]
    edges = _rim_edges(tin)
    if len(edges) > MOST_EDGES:
        return None
    xy = tin.vertices[:, :2] + shift
    lines: Any = shapely.linestrings(xy[edges])
    found: Any = shapely.build_area(shapely.multilinestrings(lines)) if len(edges) else None
    whole = float(np.abs(tin.plan_areas).sum())
    if found is None or abs(found.area - whole) > SAME_AREA * whole:
        found = shapely.union_all(shapely.polygons(xy[tin.triangles]))
    return found


def _rim_edges(tin: Tin) -> Ints:
    """Pairs of vertices (n, 2) of edges that one triangle uses; vertices on one place count as one."""
    triangles = tin.triangles
    # Round an inner vertex the marks of its neighbours cancel: only triangles with two vertices left can be at the rim.
    marks = np.random.default_rng(MARKS_SEED).integers(1, 2**62, len(tin.vertices))
    left = rim_marks(triangles, marks) != 0
    some = triangles[np.count_nonzero(left[triangles], axis=1) >= 2]
    if not len(some):
        return np.empty((0, 2), np.int64)
    corners, place = np.unique(some, return_inverse=True)
    _, same = np.unique(np.round(tin.vertices[corners, :2], 9), axis=0, return_inverse=True)
    welded = same.ravel()[place.reshape(-1, 3)]
    pairs = np.concatenate([welded[:, [0, 1]], welded[:, [1, 2]], welded[:, [2, 0]]])
    pairs = pairs[pairs[:, 0] != pairs[:, 1]]
    size = int(same.max()) + 1
    key, sense = np.sort(pairs, axis=1) @ [size, 1], np.where(pairs[:, 0] < pairs[:, 1], 1, -1)
    keys, first, group = np.unique(key, return_index=True, return_inverse=True)
    single = np.bincount(group.ravel(), sense, len(keys)) != 0
    # The vertex that stands for a place.
    stands = np.empty(size, np.int64)
    stands[same.ravel()] = corners
    return np.asarray(stands[pairs[first[single]]])


def cell_shares(shape: Any, low: Floats, cell: float, size: tuple[int, int]) -> tuple[Floats, Floats]:
    """Share of each grid cell that lies in a shapely geometry, exact, and the middle of that part.

    ``size`` is (rows of y, columns of x), ``low`` the lower left corner. Shares are (rows, columns), middles
    (rows, columns, 2): the centre of a whole cell, else the centroid of the covered part, or a place in it where the
    centroid lies outside.
    """
    rows, columns = size
    share = np.zeros(size)
    x, y = low[0] + (np.arange(columns) + 0.5) * cell, low[1] + (np.arange(rows) + 0.5) * cell
    middle = np.stack(np.meshgrid(x, y), axis=-1)
    todo = [(shape, 0, rows, 0, columns)]
    while todo:
        part, r0, r1, c0, c1 = todo.pop()
        area = part.area / cell**2
        many = (r1 - r0) * (c1 - c0)
        if area <= LEAST_SHARE:
            continue
        if area >= many * (1 - LEAST_SHARE):
            share[r0:r1, c0:c1] = 1.0
            continue
        if many == 1:
            share[r0, c0] = min(area, 1.0)
            centre = part.centroid
            if not part.contains(centre):
                centre = part.representative_point()
            middle[r0, c0] = centre.x, centre.y
            continue
        rm, cm = ((r0 + r1) // 2, c1) if r1 - r0 > c1 - c0 else (r1, (c0 + c1) // 2)
        halves = ((r0, rm, c0, cm), (rm, r1, c0, c1) if rm < r1 else (r0, r1, cm, c1))
        for a, b, c, d in halves:
            box = (low[0] + c * cell, low[1] + a * cell, low[0] + d * cell, low[1] + b * cell)
            todo.append((shapely.clip_by_rect(part, *box), a, b, c, d))
    return share, middle
