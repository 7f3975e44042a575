"""The toe line of a heap: its elevations read from the ground, robustly, and a rough line pulled to the break of slope.

At each sample along the line a plane is fitted to the points just outside it and another to those just inside. The
outer one gives the base, the inner one the top at the line. Where they part by a step (a wall, a vehicle, a kerb) the
base under the heap cannot be seen, and is interpolated along the line from where it can.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.plane import Plane, fit_robust
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.toe_kernels import both_sides

GROUND, ACROSS_STEP, TYPED, NO_POINTS = range(4)
FEWEST = 6
CUT_SHARE = 0.3
FLATTEST_BREAK = np.tan(np.radians(8.0))


@dataclass(frozen=True)
class Search:
    """How the ground at the line is looked at: disc ``radius``, sample ``step``, least ``jump`` that is a step."""

    radius: float
    step: float
    jump: float


@dataclass(frozen=True)
class Toe:
    """Samples along a toe line, vertices among them.

    ``xy`` (m, 2); ``base`` and ``top`` (m,) elevations just outside and just inside; ``kind`` (m,) how the base came
    about (GROUND, ACROSS_STEP, TYPED, NO_POINTS); ``vertices`` the sample number of each vertex.
    """

    xy: Floats
    base: Floats
    top: Floats
    kind: Ints
    vertices: Ints

    @property
    def base_points(self) -> Floats:
        """The line at base elevation, (m, 3)."""
        return np.column_stack([self.xy, self.base])

    @property
    def top_points(self) -> Floats:
        """The line at the elevation of the top just inside, (m, 3)."""
        return np.column_stack([self.xy, self.top])


class GroundReader:
    """Reads elevations just outside and just inside a line, and remembers places it was asked about."""

    def __init__(self, points: Floats, search: Search) -> None:
        """``points``: all points (n, 3) near any line that will be asked about."""
        self.points = points
        self.search = search
        flat = points.copy()
        flat[:, 2] = 0.0
        self.index = NeighbourIndex(flat, planar=True) if len(points) else None
        self._known: dict[tuple[float, ...], tuple[float, float]] = {}

    def read(self, ring: Floats, typed: dict[int, float] | None = None) -> Toe:
        """The toe line of a counter-clockwise ``ring`` (k, 2); ``typed`` fixes elevations of vertices by number.

        Raises
        ------
        NotDeterminable, when the ground is seen at fewer than three samples and not every vertex is typed.
        """
        xy = polygon.along(ring, self.search.step)
        vertices = _vertex_samples(ring, xy)
        outer, inner = self._both_sides(ring, xy)
        if np.count_nonzero(np.isfinite(outer)) < CUT_SHARE * len(xy):
            # The cloud was cut off at the line: its own edge is the only ground there is.
            outer = np.where(np.isfinite(outer), outer, inner)
        kind = np.where(np.isfinite(outer), GROUND, NO_POINTS)
        jump = np.isfinite(outer) & np.isfinite(inner) & (np.abs(outer - inner) > self.search.jump)
        kind[jump] = ACROSS_STEP
        base = outer.copy()
        _set_typed(base, kind, vertices, typed or {})
        good = (kind == GROUND) | (kind == TYPED)
        if good.sum() < 3:
            raise NotDeterminable("the ground is seen at fewer than three places along the toe line")
        base = _smoothed(_interpolated(xy, base, good), kind)
        top = np.where(np.isfinite(inner), inner, base)
        return Toe(xy, base, top, kind, vertices)

    def _both_sides(self, ring: Floats, xy: Floats) -> tuple[Floats, Floats]:
        """Outer and inner elevation at each sample; NaN where that side has too few points."""
        n = len(xy)
        corners = np.column_stack([np.roll(xy, 1, axis=0), xy, np.roll(xy, -1, axis=0)])
        keys = [tuple(row) for row in corners.tolist()]
        new = [i for i in range(n) if keys[i] not in self._known]
        if new and self.index is not None:
            places = np.column_stack([xy[new], np.zeros(len(new))])
            offsets, found = self.index.within(places, self.search.radius)
            near = self.points[found]
            inside = polygon.contains(ring, near)
            outer, inner = np.empty(len(new)), np.empty(len(new))
            both_sides(near, inside, offsets, xy[new], FEWEST, outer, inner)
            for place, i in enumerate(new):
                self._known[keys[i]] = float(outer[place]), float(inner[place])
        sides = np.array([self._known.get(key, (np.nan, np.nan)) for key in keys])
        return sides[:, 0], sides[:, 1]


def _vertex_samples(ring: Floats, xy: Floats) -> Ints:
    """Sample number of each vertex: ``along`` keeps them in order."""
    numbers, at = [], 0
    for vertex in ring[:, :2]:
        while not np.array_equal(xy[at], vertex):
            at += 1
        numbers.append(at)
    return np.array(numbers)


def _set_typed(base: Floats, kind: Ints, vertices: Ints, typed: dict[int, float]) -> None:
    """Typed vertices fix their sample, and the samples between two of them lie straight between."""
    count = len(vertices)
    for number, z in typed.items():
        base[vertices[number]], kind[vertices[number]] = z, TYPED
        following = (number + 1) % count
        if following not in typed:
            continue
        first, last = vertices[number], vertices[following] or len(base)
        between = np.arange(first + 1, last)
        base[between] = z + (typed[following] - z) * (between - first) / (last - first)
        kind[between] = TYPED


def _interpolated(xy: Floats, z: Floats, good: Mask) -> Floats:
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xy, axis=0).T))])
    around = run[-1] + float(np.hypot(*(xy[0] - xy[-1])))
    return np.interp(run, run[good], z[good], period=around)


def _smoothed(base: Floats, kind: Ints) -> Floats:
    """Ground samples evened out with their neighbours (binomial 1 4 6 4 1), which keeps straight falls as they are.

    A surface through the line hangs on few of its samples where the line is round; this halves their noise.
    """
    weights = np.array([1, 4, 6, 4, 1]) / 16
    around = sum(w * np.roll(base, shift) for w, shift in zip(weights, range(-2, 3), strict=True))
    plain = (kind == GROUND) & (np.roll(kind, 1) == GROUND) & (np.roll(kind, -1) == GROUND)
    return np.where(plain, around, base)


def pulled(grid: HeightGrid, ring: Floats, reach: float) -> Floats:
    """A rough line moved to the break of slope within ``reach`` on either side of it.

    Across the line, at places along it, two straight pieces are fitted to the profile of the ground by least squares;
    where the inner one is clearly steeper, the line moves to where they meet. Moves are smoothed along the line by a
    running median so that one stray profile moves nothing.

    Raises
    ------
    NotDeterminable, when no break of slope is seen at a third of the places or more, or the moved line would cross
    itself.
    """
    step = max(2 * grid.cell, polygon.perimeter(ring) / 150)
    xy = polygon.along(ring, step)
    ahead = np.roll(xy, -1, axis=0) - np.roll(xy, 1, axis=0)
    normal = np.column_stack([ahead[:, 1], -ahead[:, 0]]) / np.hypot(*ahead.T)[:, None]
    distances = np.arange(-reach, reach + grid.cell / 2, grid.cell)
    lines = xy[:, None, :] + normal[:, None, :] * distances[None, :, None]
    profiles = grid.at(lines.reshape(-1, 2)).reshape(len(xy), len(distances))
    moves = np.array([_break_of_slope(distances, profile) for profile in profiles])
    seen = np.isfinite(moves)
    if seen.sum() < max(3, len(xy) // 3):
        raise NotDeterminable("no clear break of slope was found near the line; draw it closer to the toe")
    moves = _interpolated(xy, moves, seen)
    neighbours = np.stack([np.roll(moves, shift) for shift in range(-2, 3)])
    moved = xy + normal * np.median(neighbours, axis=0)[:, None]
    try:
        thin = np.array(shapely.LinearRing(moved).simplify(grid.cell / 2).coords)
        return polygon.checked(thin, "pulled toe")
    except InputError as error:
        raise NotDeterminable(f"the pulled line is not usable ({error}); draw it closer to the toe") from None


def _break_of_slope(t: Floats, z: Floats) -> float:
    """Where a profile from inside (negative t) to outside breaks; NaN where it does not."""
    usable = np.isfinite(z)
    if usable.sum() < 9:
        return np.nan
    t, z = t[usable], z[usable] - z[usable].mean()
    best, at = np.inf, -1
    slopes = (0.0, 0.0)
    for k in range(3, len(t) - 3):
        inner, inner_error = _line(t[:k], z[:k])
        outer, outer_error = _line(t[k:], z[k:])
        if inner_error + outer_error < best:
            best, at = inner_error + outer_error, k
            slopes = (inner[0], outer[0])
            crossing = (outer[1] - inner[1]) / (inner[0] - outer[0]) if inner[0] != outer[0] else t[k]
            meet = crossing if t[k - 3] <= crossing <= t[k + 2] else t[k]
    _, straight = _line(t, z)
    clear = abs(slopes[0]) - abs(slopes[1]) > FLATTEST_BREAK and best < 0.6 * straight
    return float(meet) if at >= 0 and clear else np.nan


def _line(t: Floats, z: Floats) -> tuple[tuple[float, float], float]:
    """Least-squares line (slope, value at 0) and its sum of squares."""
    tm, zm = t.mean(), z.mean()
    dt, dz = t - tm, z - zm
    slope = float((dt @ dz) / (dt @ dt))
    error = float(dz @ dz - slope * (dt @ dz))
    return (slope, float(zm - slope * tm)), max(error, 0.0)


def moved(toe: Toe, distance: float) -> Floats:
    """The line moved outwards (negative: inwards) where the ground is seen; along a wall it stays where it is.

    Raises
    ------
    InputError, when the moved line crosses itself or vanishes.
    """
    ahead = np.roll(toe.xy, -1, axis=0) - np.roll(toe.xy, 1, axis=0)
    normal = np.column_stack([ahead[:, 1], -ahead[:, 0]]) / np.maximum(np.hypot(*ahead.T), 1e-12)[:, None]
    seen = (toe.kind == GROUND) | (toe.kind == TYPED)
    return polygon.checked(toe.xy + normal * (distance * seen)[:, None], "moved toe line")


def plane_through(toe: Toe) -> Plane:
    """Best-fit plane through the toe samples whose ground is seen, robust against single strays."""
    good = (toe.kind == GROUND) | (toe.kind == TYPED)
    return fit_robust(toe.base_points[good])
