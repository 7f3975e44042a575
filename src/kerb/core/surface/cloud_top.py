"""The surface of the points of a cloud by the rules that hold everywhere: single strays left out, no slivers along the rim."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask, ends
from kerb.core.cloud.lone import lone
from kerb.core.errors import NotDeterminable
from kerb.core.sorting import by_cells
from kerb.core.surface.tin import Tin, triangulate

# A point stands alone when it is this much above or below all others near it, in metres.
STRAY_M = 0.6
# Up to so many points together, this many cells of so many spacings away from all others in plan, are strays as well.
FEW, CELL_SPACINGS, FAR_CELLS = 3, 12.0, 3
# An edge of the outline is at most so many usual longest edges of triangles long.
RIM_EDGES = 8.0
SAMPLE = 500_000


@dataclass(frozen=True)
class Trimmed:
    """What was left out of a surface: ``strays`` (k, 3); slivers along the rim, their plan area, that of all and the longest
    edge kept."""

    strays: Floats = field(default_factory=lambda: np.empty((0, 3)))
    rim_area: float = 0.0
    rim_edge: float = 0.0
    area: float = 0.0


def usual_spacing(points: Floats) -> float:
    """Mean spacing of (n, 3) points over the cells of about sixteen points that they touch, strays left out."""
    if len(points) < 2:
        return 0.0
    some = points[:: max(1, len(points) // SAMPLE), :2]
    low, high = np.percentile(some, [1, 99], axis=0)
    size = float(np.prod(high - low))
    cell = 4.0 * float(np.sqrt(size / len(points)))
    if not cell > 0:
        return 0.0
    x, y = points[:, 0], points[:, 1]
    inner = points[(x >= low[0]) & (x <= high[0]) & (y >= low[1]) & (y <= high[1])]
    touched = len(by_cells(inner, low, cell)[1])
    return float(np.sqrt(touched * cell**2 / len(inner)))


def strays(points: Floats, spacing: float, least: float) -> Mask:
    """Which of (n, 3) points stand alone: far above or below what is round them (see :func:`lone`), or far off in plan."""
    found = _far_off(points, spacing)
    rest = np.flatnonzero(~found)
    found[rest] = lone(points[rest] if len(rest) < len(points) else points, spacing, least)
    return found


def _far_off(points: Floats, spacing: float) -> Mask:
    """Up to three points together that lie some cells away from all others in plan."""
    found = np.zeros(len(points), bool)
    if len(points) <= FEW + 1 or not spacing > 0:
        return found
    cell = CELL_SPACINGS * spacing
    low = ends(points[:, :2])[0]
    order, starts = by_cells(points, low, cell)
    counts = np.diff(np.append(starts, len(order)))
    few = np.flatnonzero(counts <= FEW)
    if not len(few) or len(few) == len(counts):
        return found
    place = np.floor((points[order[starts], :2] - low) / cell)
    tree = scipy.spatial.cKDTree(place)
    for k in few.tolist():
        near = tree.query_ball_point(place[k], FAR_CELLS, p=np.inf)
        if counts[near].sum() <= FEW:
            found[order[starts[k] : starts[k] + counts[k]]] = True
    return found if np.count_nonzero(found) <= max(FEW, len(points) // 1000) else np.zeros(len(points), bool)


def top_of(points: Floats, least: float | None, longest: float | None = None) -> tuple[Tin, Trimmed]:
    """The Delaunay surface of (n, 3) points, and what was left out of it.

    ``least`` how far a stray stands above or below the rest (None keeps strays); slivers
    along the rim have an edge on it longer than ``longest``, by itself eight usual longest edges. Raises NotDeterminable.
    """
    gone = np.empty((0, 3))
    if least is not None:
        alone = strays(points, usual_spacing(points), least)
        if alone.any():
            gone, points = points[alone], points[~alone]
    tin = triangulate(points)
    limit = longest if longest is not None else rim_edge(tin)
    if longest is not None and longest < float(tin.longest_edges.min(initial=np.inf)):
        usual = float(np.median(tin.longest_edges))
        raise NotDeterminable(
            f"edges up to {longest:g} leave nothing of the surface, whose triangles have about {usual:.3g}"
        )
    keep = ~beyond_rim(tin, limit)
    area = float(tin.plan_areas[~keep].sum())
    whole = float(tin.plan_areas.sum())
    return tin if keep.all() else tin.compact(keep), Trimmed(gone, area, limit, whole)


def rim_edge(tin: Tin) -> float:
    """The longest edge that the outline of a surface may have by itself."""
    edges = tin.longest_edges
    return RIM_EDGES * float(np.median(edges[:: max(1, len(edges) // SAMPLE)]))


def beyond_rim(tin: Tin, limit: float) -> Mask:
    """The triangles (m,) outside of a concave outline: taken off from the hull inwards, as long as an edge of the outline is
    longer than a limit; gaps that lie inside stay closed (Duckham et al. 2008, characteristic shapes, but for their care for
    outlines in several pieces). At least one triangle stays."""
    gone = np.zeros(len(tin.triangles), bool)
    long = np.flatnonzero(tin.longest_edges > limit)
    if not len(long) or len(long) == len(gone):
        return gone
    # A triangle is taken off over a long edge, and whatever shares that edge has it as well: others need not be looked at.
    triangles, count = tin.triangles[long], len(long)
    edges = np.sort(np.concatenate([triangles[:, [1, 2]], triangles[:, [2, 0]], triangles[:, [0, 1]]]), axis=1)
    length = np.hypot(*(tin.vertices[edges[:, 0], :2] - tin.vertices[edges[:, 1], :2]).T)
    key = edges[:, 0].astype(np.int64) * len(tin.vertices) + edges[:, 1]
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(np.diff(key[order]) == 0)
    beside = np.full(3 * count, count, np.int64)
    one, other = order[same], order[same + 1]
    beside[one], beside[other] = other % count, one % count
    sides, wide = beside.reshape(3, count).T, (length > limit).reshape(3, count).T
    # One more at the end stands for what lies outside of the hull.
    taken = np.zeros(count + 1, bool)
    taken[-1] = True
    todo = np.arange(count)
    while len(todo):
        drop = todo[(taken[sides[todo]] & wide[todo]).any(axis=1)]
        taken[drop] = True
        near = np.unique(sides[drop])
        todo = near[~taken[near]]
    gone[long[taken[:-1]]] = True
    return gone
