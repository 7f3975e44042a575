"""The height of a cloud at a point, in four ways, and what the cloud is like round it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.accuracy.beneath_kernels import in_square, lowest_of_cells, robust_plane
from kerb.core.arrays import Floats
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.progress import Progress
from kerb.core.robust import spread

TIN, IDW, PLANE, MEDIAN = "tin", "idw", "plane", "median"
WAYS = (TIN, IDW, PLANE, MEDIAN)
# The window looked at first, and how often it is made twice as wide until it holds enough.
CLOSEST_SPACINGS, FIRST_SPACINGS, DOUBLINGS = 3.0, 6.0, 4
ENOUGH = 24
# A triangle with a longer edge than this many spacings bridges a gap.
LONGEST_SPACINGS = 12.0
# Places in one square of this side share what is read.
GROUP_M = 8.0
MOST_DECIDING = 200
# How far round a point its ground is looked at, and in what cells.
AROUND_M, CLOSE_M, CELL_M = 4.0, 1.5, 0.5


@dataclass(frozen=True)
class Beneath:
    """What a cloud says at a point. Heights are NaN where a way gives none.

    ``rough`` is 1.4826 times the median departure of the points within the radius from a robust plane, ``count`` and
    ``nearest`` are their number and the plan distance to the nearest one. ``slope`` is rise over run of the ground round the
    point (a robust plane through the lowest points of cells); ``tallest`` how far anything within a metre stands above it,
    ``over`` how far the points at the place itself do. ``hole`` says whether the point lies outside the data.
    """

    heights: dict[str, float]
    slope: float = np.nan
    rough: float = np.nan
    count: int = 0
    nearest: float = np.nan
    tallest: float = 0.0
    over: float = 0.0
    hole: bool = True


NOTHING = Beneath({})


@dataclass(frozen=True)
class HowBeneath:
    """``neighbours`` are those of the inverse distance, ``radius`` that of plane and median, in the job unit."""

    neighbours: int
    radius: float


def beneath_all(view: CloudView, places: Floats, how: HowBeneath, progress: Progress) -> list[Beneath]:
    """What the points that count say at plan places (n, 2), in their order. Raises Cancelled.

    Places near one another share what is read of the cloud.
    """
    side = GROUP_M / view.store.reference.unit.metres
    square = np.floor((places - places.min(axis=0, initial=np.inf)) / side).astype(np.int64)
    _, group = np.unique(square, axis=0, return_inverse=True)
    order = np.argsort(group.ravel(), kind="stable")
    groups = np.split(order, np.flatnonzero(np.diff(group.ravel()[order])) + 1) if len(places) else []
    found: list[Beneath] = [NOTHING] * len(places)

    done = 0
    # One after the other: two threads would spend their time waiting for Python's lock.
    for rows in groups:
        progress.step(done / len(places), "Reading heights")
        pool = Pool(view, places[rows], _reach(view, how))
        for row in rows.tolist():
            found[row] = beneath(view, places[row], how, pool)
        done += len(rows)
    return found


class Pool:
    """The points of a cloud round several places; further ones are read from the cloud itself."""

    def __init__(self, view: CloudView, places: Floats, reach: float) -> None:
        self.view = view
        self.low, self.high = places.min(axis=0) - reach, places.max(axis=0) + reach
        self.points = _box(view, self.low, self.high)

    def window(self, place: Floats, half: float) -> Floats:
        """The points that count in a square, in the order of the store."""
        low, high = place - half, place + half
        if (low < self.low).any() or (high > self.high).any():
            return _box(self.view, low, high)
        inside = np.empty((len(self.points), 3))
        return inside[: in_square(self.points, low, high, inside)]


def _reach(view: CloudView, how: HowBeneath) -> float:
    """How far round a place points are read at first."""
    around = max(AROUND_M / view.store.reference.unit.metres, FIRST_SPACINGS * view.store.spacing)
    return max(around, 1.05 * how.radius)


def beneath(view: CloudView, place: Floats, how: HowBeneath, pool: Pool | None = None) -> Beneath:
    """What the points that count say at a plan place (2,); a pool has what was read round it.

    The triangle is that of the Delaunay triangulation of the whole cloud: the window is made wider until the circle
    through its corners lies within it.
    """
    spacing = view.store.spacing
    metre = 1.0 / view.store.reference.unit.metres
    around = max(AROUND_M * metre, FIRST_SPACINGS * spacing)
    pool = pool or Pool(view, place[None], _reach(view, how))
    points, triangle, _ = _searched(pool, place, how)
    if not len(points):
        return Beneath(dict.fromkeys(WAYS, np.nan))
    local = points - [*place, points[0, 2]]
    away = np.hypot(local[:, 0], local[:, 1])
    near, plane = np.ascontiguousarray(local[away <= how.radius]), np.empty(3)
    rough = level = np.nan
    if robust_plane(near, plane):
        rough = spread(_over(near, plane), 0.0)
        level = float(plane[0] + points[0, 2])
    cell = max(CELL_M * metre, 2 * spacing)
    _, tallest, over = _ground(local, near, (around, cell, max(metre, how.radius)))
    # A slope is that of the ground close by, which may be a bank a few metres wide.
    close = max(CLOSE_M * metre, FIRST_SPACINGS * spacing)
    slope, _, _ = _ground(local, near, (close, cell / 2, metre))
    found = {TIN: triangle, IDW: idw(points, away, how.neighbours), PLANE: level,
             MEDIAN: float(np.median(near[:, 2]) + points[0, 2]) if len(near) else np.nan}  # fmt: skip
    hole = bool(np.isnan(triangle))
    if hole:
        found = {way: value if not _outside(points, place) else np.nan for way, value in found.items()}
    return Beneath(found, slope, rough, len(near), float(away.min()), tallest, over, hole)


def _searched(pool: Pool, place: Floats, how: HowBeneath) -> tuple[Floats, float, Floats]:
    """The points round a place, its height in the triangle over it, and the corners of that (3, 3), none where there is none."""
    half, spacing = _reach(pool.view, how), pool.view.store.spacing
    points, reach = pool.window(place, half), CLOSEST_SPACINGS * spacing
    triangle, corners = np.nan, np.empty((0, 3))
    for _ in range(DOUBLINGS + 2):
        if reach > half:
            half = reach
            points = pool.window(place, half)
        inside = points[(np.abs(points[:, 0] - place[0]) <= reach) & (np.abs(points[:, 1] - place[1]) <= reach)]
        triangle, corners, sure = _triangle(inside, place, reach, LONGEST_SPACINGS * spacing)
        # Of a circle: those in the corners of a square may be farther than some outside of it.
        count = np.count_nonzero(np.hypot(*(inside[:, :2] - place).T) <= reach)
        if count >= max(ENOUGH, how.neighbours) and (sure or np.isnan(triangle)):
            break
        reach *= 2
    return points, triangle, corners


def deciding(view: CloudView, place: Floats, way: str, how: HowBeneath) -> Floats:
    """The points (k, 3) from which a way takes the height at a plan place (2,): corners of the triangle, the nearest ones, or
    those within the radius (the nearest 200 of them)."""
    points, _, corners = _searched(Pool(view, place[None], _reach(view, how)), place, how)
    if way == TIN:
        return corners
    away = np.hypot(*(points[:, :2] - place).T)
    near = how.neighbours if way == IDW else min(int(np.count_nonzero(away <= how.radius)), MOST_DECIDING)
    return np.asarray(points[np.argsort(away)[:near]])


def _box(view: CloudView, low: Floats, high: Floats) -> Floats:
    """The points that count in a box in plan; on this thread, for many places are looked at at once."""
    box = (low[0], low[1], -np.inf), (high[0], high[1], np.inf)
    narrowed = CloudView(view.store, Narrowing(**{**vars(view.narrowing), "box": box}))
    pieces = [view.store.coordinates(rows) for rows in narrowed.rows()]
    return np.concatenate(pieces) if pieces else np.empty((0, 3))


def _outside(points: Floats, place: Floats) -> bool:
    """Whether points lie to one side of a place only: a half circle and more round it is empty."""
    angle = np.sort(np.arctan2(points[:, 1] - place[1], points[:, 0] - place[0]))
    return bool(np.diff(np.append(angle, angle[0] + 2 * np.pi)).max() > np.pi)


def _triangle(points: Floats, place: Floats, half: float, longest: float) -> tuple[float, Floats, bool]:
    """Height in the triangle over a place and its corners (3, 3), NaN and none where there is none or it bridges a gap; whether
    it is that of the whole."""
    from scipy.spatial import Delaunay, QhullError

    nothing = np.empty((0, 3))
    if len(points) < 3:
        return np.nan, nothing, False
    local = points - [*place, 0.0]
    _, first = np.unique(local[:, :2], axis=0, return_index=True)
    local = local[first]
    try:
        tin = Delaunay(local[:, :2])
    except QhullError:
        return np.nan, nothing, False
    found = int(tin.find_simplex(np.zeros(2)))
    if found < 0:
        return np.nan, nothing, True
    corner = local[tin.simplices[found]]
    a, b, c = corner[:, :2]
    double = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    weights = np.array([b[0] * c[1] - b[1] * c[0], c[0] * a[1] - c[1] * a[0], a[0] * b[1] - a[1] * b[0]]) / double
    edges = np.hypot(*(corner[:, :2] - np.roll(corner[:, :2], 1, axis=0)).T)
    if edges.max() > longest:
        return np.nan, nothing, True
    centre, radius = _circle(a, b, c)
    return float(weights @ corner[:, 2]), corner + [*place, 0.0], bool(np.abs(centre).max() + radius <= half)


def _circle(a: Floats, b: Floats, c: Floats) -> tuple[Floats, float]:
    u, v = b - a, c - a
    double = 2 * (u[0] * v[1] - u[1] * v[0])
    away = np.array([v[1] * (u @ u) - u[1] * (v @ v), u[0] * (v @ v) - v[0] * (u @ u)]) / double
    return a + away, float(np.hypot(*away))


def idw(points: Floats, away: Floats, neighbours: int) -> float:
    """Mean of the nearest heights with weights 1/d² (Shepard 1968); a point on the place itself rules."""
    rows = np.argpartition(away, min(neighbours, len(away)) - 1)[:neighbours]
    if away[rows].min() < 1e-9:
        return float(points[rows[np.argmin(away[rows])], 2])
    weight = 1.0 / away[rows] ** 2
    return float(weight @ points[rows, 2] / weight.sum())


def _over(points: Floats, plane: Floats) -> Floats:
    return np.asarray(points[:, 2] - plane[0] - points[:, :2] @ plane[1:])


def _ground(local: Floats, near: Floats, sizes: tuple[float, float, float]) -> tuple[float, float, float]:
    """Slope of the ground round the origin, how far anything beside it stands above, and how far what is at the place does.

    The ground is a robust plane through the lowest points of cells, so that walls, vehicles and grass do not tilt it.
    ``sizes`` are how far round it is looked at, the cell, and how far beside it things stand.
    """
    around, cell, reach = sizes
    plane = np.empty(3)
    if not robust_plane(local[lowest_of_cells(local, around, cell)], plane):
        return np.nan, 0.0, 0.0
    beside = _over(local[local[:, 0] ** 2 + local[:, 1] ** 2 <= reach**2], plane)
    # What most of them stand on top of, and not what stands beside the place.
    at = float(np.percentile(_over(near, plane), 25)) if len(near) else 0.0
    return float(np.hypot(plane[1], plane[2])), float(beside.max(initial=0.0)), at
