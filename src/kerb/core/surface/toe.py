"""The toe line of a heap: its elevations read from the ground beside it, robustly.

At each sample along the line planes are fitted to the points just inside it, just outside it, and outside beyond the
distance by which the line itself may be off. The last gives the base, free of the flank; the first the top at the
line. Where the line does not run over ground the base cannot be seen, and is filled in from where it can.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.errors import NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.plane import Plane, fit_robust
from kerb.core.surface.along import Filling, outwards
from kerb.core.surface.stretches import on_ground, weighed
from kerb.core.surface.toe_kernels import COUNT, OUTER, read_zones

GROUND, ACROSS_STEP, TYPED, NO_POINTS, NOT_GROUND = range(5)
FEWEST = 6
CUT_SHARE = 0.3


@dataclass(frozen=True)
class Search:
    """How the ground at the line is looked at, all lengths in the unit of the points.

    ``radius`` of the discs just inside and just outside; ``step`` between samples; least ``jump`` that is a step; the
    base is read in a zone of ``width`` beyond ``slack``, by which the line may be off the true toe.
    """

    radius: float
    step: float
    jump: float
    slack: float = 0.0
    width: float = 0.0

    @property
    def breadth(self) -> float:
        """Width of the zone beyond."""
        return self.width or self.radius

    @property
    def reach(self) -> float:
        """How far from a sample points are looked at."""
        return max(self.radius, float(np.hypot(self.slack + self.breadth, self.breadth)))


@dataclass(frozen=True)
class Toe:
    """Samples along a toe line, vertices among them.

    ``xy`` (m, 2); ``base`` and ``top`` (m,) elevations of the ground and of the heap at the line; ``kind`` (m,) how
    the base came about (GROUND, ACROSS_STEP, TYPED, NO_POINTS, NOT_GROUND); ``vertices`` the sample number of each
    vertex; ``filling`` how the base of all samples came from those that are seen.
    """

    xy: Floats
    base: Floats
    top: Floats
    kind: Ints
    vertices: Ints
    filling: Filling
    read: Floats

    @property
    def seen(self) -> Mask:
        """Samples whose base is read or typed, not filled in."""
        return (self.kind == GROUND) | (self.kind == TYPED)

    @property
    def base_points(self) -> Floats:
        """The line at base elevation, (m, 3)."""
        return np.column_stack([self.xy, self.base])

    @property
    def top_points(self) -> Floats:
        """The line at the elevation of the top just inside, (m, 3)."""
        return np.column_stack([self.xy, self.top])

    def stretches(self) -> list[tuple[bool, Floats]]:
        """The line in pieces that are ground or not, each (k, 3) at base elevation, ends shared."""
        m, seen = len(self.xy), self.seen
        # A piece between two samples is ground where both are.
        piece = seen & np.roll(seen, -1)
        turns = np.flatnonzero(piece != np.roll(piece, 1))
        points = self.base_points
        if not len(turns):
            return [(bool(piece[0]), np.concatenate([points, points[:1]]))]
        found = []
        for first, last in zip(turns, np.append(turns[1:], turns[0] + m), strict=True):
            found.append((bool(piece[first]), points[np.arange(first, last + 1) % m]))
        return found


class GroundReader:
    """Reads elevations beside a line, and remembers places it was asked about."""

    def __init__(self, points: Floats, search: Search) -> None:
        """``points``: all points (n, 3) near any line that will be asked about."""
        self.points = points
        self.search = search
        flat = points.copy()
        flat[:, 2] = 0.0
        self.index = NeighbourIndex(flat, planar=True) if len(points) else None
        self._known: dict[tuple[float, ...], Floats] = {}

    def read(
        self, ring: Floats, typed: Mapping[int, float] | None = None, stated: Mapping[int, bool] | None = None
    ) -> Toe:
        """The toe line of a counter-clockwise ``ring`` (k, 2).

        ``typed`` fixes elevations of vertices by number; ``stated`` says of the stretch behind a vertex whether it
        runs over ground, where the analyst knows better than the evidence.

        Raises
        ------
        NotDeterminable, when the ground is seen at fewer than three samples and not every vertex is typed.
        """
        xy = polygon.along(ring, self.search.step)
        vertices = _vertex_samples(ring, xy)
        zones = self._zones(ring, xy)
        seen = weighed(xy, zones, self.search.breadth, self.search.jump)
        level, kind = seen.ground.copy(), np.full(len(xy), GROUND)
        if np.count_nonzero(zones[:, OUTER, COUNT] >= FEWEST) < CUT_SHARE * len(xy):
            # The cloud was cut off at the line: its own edge is the only ground there is.
            level = np.where(np.isfinite(level), level, seen.inner)
            kind[~np.isfinite(level)] = NO_POINTS
        else:
            ground, step = on_ground(seen, self.search.jump)
            kind[~ground] = NOT_GROUND
            kind[step] = ACROSS_STEP
            kind[~np.isfinite(level)] = NO_POINTS
        _set_stated(kind, level, vertices, stated or {})
        _set_typed(level, kind, vertices, typed or {})
        good = (kind == GROUND) | (kind == TYPED)
        if good.sum() < 3:
            raise NotDeterminable("the ground is seen at fewer than three places along the toe line")
        plain = (kind == GROUND) & (np.roll(kind, 1) == GROUND) & (np.roll(kind, -1) == GROUND)
        plain &= (np.roll(good, 2)) & (np.roll(good, -2))
        filling = Filling(xy, good, plain)
        base = filling.apply(np.where(good, level, 0.0))
        top = np.where(np.isfinite(seen.inner), seen.inner, base)
        return Toe(xy, base, top, kind, vertices, filling, level)

    def _zones(self, ring: Floats, xy: Floats) -> Floats:
        """What the zones of each sample show, (m, 3, 7); NaN levels where a zone has too few points."""
        n, search = len(xy), self.search
        corners = np.column_stack([np.roll(xy, 1, axis=0), xy, np.roll(xy, -1, axis=0)])
        keys = [tuple(row) for row in corners.tolist()]
        new = [i for i in range(n) if keys[i] not in self._known]
        if new and self.index is not None:
            places = np.column_stack([xy[new], np.zeros(len(new))])
            offsets, found = self.index.within(places, search.reach)
            near = self.points[found]
            inside = polygon.contains(ring, near)
            out = np.empty((len(new), 3, COUNT + 1))
            read_zones(
                near, inside, offsets, xy[new], outwards(xy)[new], search.radius, search.slack, search.breadth,
                FEWEST, out,
            )  # fmt: skip
            for place, i in enumerate(new):
                self._known[keys[i]] = out[place]
        nothing = np.full((3, COUNT + 1), np.nan)
        nothing[:, COUNT] = 0
        return np.array([self._known.get(key, nothing) for key in keys])


def _vertex_samples(ring: Floats, xy: Floats) -> Ints:
    """Sample number of each vertex: ``along`` keeps them in order."""
    numbers, at = [], 0
    for vertex in ring:
        while not np.array_equal(xy[at], vertex):
            at += 1
        numbers.append(at)
    return np.array(numbers)


def _between(vertices: Ints, number: int, m: int) -> Ints:
    """Samples of the stretch behind a vertex, both ends among them."""
    last = vertices[(number + 1) % len(vertices)] or m
    return np.arange(vertices[number], last + 1) % m


def _set_stated(kind: Ints, level: Floats, vertices: Ints, stated: Mapping[int, bool]) -> None:
    """What the analyst says of stretches rules; where two meet, the one that is not ground has the vertex."""
    for number, is_ground in sorted(stated.items(), key=lambda item: not item[1]):
        row = _between(vertices, number, len(kind))
        if is_ground:
            kind[row[np.isfinite(level[row])]] = GROUND
        else:
            kind[row] = NOT_GROUND


def _set_typed(level: Floats, kind: Ints, vertices: Ints, typed: Mapping[int, float]) -> None:
    """Typed vertices fix their sample, and the samples between two of them lie straight between."""
    count = len(vertices)
    for number, z in typed.items():
        level[vertices[number]], kind[vertices[number]] = z, TYPED
        following = (number + 1) % count
        if following not in typed:
            continue
        first, last = vertices[number], vertices[following] or len(level)
        between = np.arange(first + 1, last)
        level[between] = z + (typed[following] - z) * (between - first) / (last - first)
        kind[between] = TYPED


def plane_through(toe: Toe) -> Plane:
    """Best-fit plane through the toe samples whose ground is seen, robust against single strays."""
    return fit_robust(toe.base_points[toe.seen])
