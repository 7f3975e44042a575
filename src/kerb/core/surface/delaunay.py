"""Plain Delaunay triangulation of millions of places on all cores, exact and without the interpreter's lock.

Divide and conquer (Guibas and Stolfi 1985) over Morton order: each bit of a key is a straight cut, so parts run on threads and
join exactly, the same whatever the number of cores. Of places on one circle any of their triangulations is Delaunay's; which
one comes out follows from the order of the cuts.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pythoncdt

from kerb.core.arrays import AnyArray, Bytes, Floats, Ints, Ints32
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import each, ranges
from kerb.core.sorting import sorted_keys
from kerb.core.surface.constrained_kernels import DONE, insert_all, outside, starts
from kerb.core.surface.delaunay_kernels import (
    NONE,
    add_free,
    clear_dropped,
    cut_level,
    divide,
    faces,
    join,
    morton,
    sort_ties,
    steps_of,
    take_rows,
)  # fmt: skip

BITS = 26
WALL, LINE = 1, 2
# Parts that are triangulated on one thread; small enough for a cache, many enough for any number of cores.
PART = 12_000
# Steps that places may be whole numbers of, besides powers of two; and how far they may stray from them by rounding.
STEPS = (1e-3, 1e-4, 1e-2, 1e-1, 1e-5, 1e-6)
STRAY = 4e-9
SAMPLE = 997


def triangulation() -> pythoncdt.Triangulation:
    """An empty one of the library that keeps lines (CDT, Artem Amirkhanov), as all of Kerb's are made."""
    return pythoncdt.Triangulation(
        pythoncdt.VertexInsertionOrder.AUTO, pythoncdt.IntersectingConstraintEdges.TRY_RESOLVE, 0.0
    )


@dataclass(frozen=True)
class Arranged:
    """Places as steps, whether those are whole, and rows and keys in Morton order."""

    xy: Floats
    whole: bool
    order: Ints
    keys: AnyArray

    @staticmethod
    def of(places: Floats) -> Arranged:
        """Places (n, 2), put in order."""
        xy, whole = in_steps(places)
        return Arranged(xy, whole, *_ordered(xy, whole))


def delaunay(places: Floats, there: Arranged | None = None) -> Ints32:
    """Triangles (m, 3) of (n, 2) places, no two of them alike; counter-clockwise. ``there`` is them in order, where it is known.

    Raises NotDeterminable, when there are fewer than three or all lie on one line.
    """
    if len(places) < 3:
        raise NotDeterminable(f"a surface needs three points, there are {len(places)}")
    mesh = Halves.of(places, there)
    triangles = mesh.triangles()
    if not len(triangles):
        raise NotDeterminable("the points lie on one line in plan")
    return triangles


def doubles(there: Arranged) -> Ints | None:
    """For each of (n, 2) places in order the first row of those alike; None, when no two are."""
    xy, whole, order, keys = there.xy, there.whole, there.order, there.keys
    same = keys[1:] == keys[:-1]
    if not whole and same.any():
        at = np.flatnonzero(same)
        same[at] = (xy[order[at]] == xy[order[at + 1]]).all(axis=1)
    if not same.any():
        return None
    begins = np.flatnonzero(np.concatenate([[True], ~same]))
    first = np.empty(len(order), np.int64)
    first[order] = np.repeat(np.minimum.reduceat(order, begins), np.diff(np.append(begins, len(order))))
    return first


def in_steps(places: Floats) -> tuple[Floats, bool]:
    """Places (n, 2) as whole steps, where they are whole numbers of one to within rounding and span fewer than 2²⁶ of them; else
    as they are, by a power of two so that nothing overflows. And whether they are whole."""
    low, span = _extent(places)
    some = places[:: max(1, len(places) // SAMPLE)]
    steps = np.empty((len(places), 2))
    for step in STEPS:
        most = min(STRAY, 0.01 * step)
        if span / step >= 2**BITS or steps_of(some, low, step, most, np.empty((len(some), 2))) > most:
            continue
        pieces = ranges(len(places), 100_000)

        def one(piece: tuple[int, int], step: float = step, most: float = most) -> float:
            return float(steps_of(places[slice(*piece)], low, step, most, steps[slice(*piece)]))

        if max(each(one, pieces)) <= most:
            return steps, True
    scale = 2.0 ** -np.ceil(np.log2(span)) if span > 0 else 1.0
    return (places - 0.0) * scale, False


def _extent(places: Floats) -> tuple[Floats, float]:
    east, north = places[:, 0], places[:, 1]
    low = np.array([east.min(), north.min()])
    return low, float(max(east.max() - low[0], north.max() - low[1]))


def constrained(places: Floats, edges: Ints, walls: int, there: Arranged | None = None) -> Ints32 | None:
    """Triangles (m, 3) of (n, 2) places, no two alike, that follow the lines between pairs of them (k, 2); without those
    outside the first ``walls`` of these, when there are any. Every edge that is free is Delaunay's among what it can see.

    None, when lines cross one another between places: then there is no such triangulation of these places alone.
    Raises NotDeterminable as :func:`delaunay` does.
    """
    if len(places) < 3:
        raise NotDeterminable(f"a surface needs three points, there are {len(places)}")
    mesh = Halves.of(places, there)
    if not mesh.follow(edges, walls):
        return None
    if walls:
        mesh.cut_off()
    return mesh.triangles()


@dataclass
class Halves:
    """Half edges of a triangulation, see :mod:`kerb.core.surface.delaunay_kernels`; ``order`` is the row of each place.

    ``hull`` is one of its outline with the outside on its right, ``fixed`` marks lines (WALL, LINE) and ``left_out`` what lies
    outside, by half edges; both are empty until there are any.
    """

    xy: Floats
    whole: bool
    keys: AnyArray
    order: Ints
    origin: Ints32
    after: Ints32
    before: Ints32
    hull: int = NONE
    fixed: Bytes = field(default_factory=lambda: np.empty(0, np.uint8))
    left_out: Bytes = field(default_factory=lambda: np.empty(0, np.uint8))

    @staticmethod
    def of(places: Floats, there: Arranged | None = None) -> Halves:
        """The triangulation of places (n, 2), which are put in order where they are not yet."""
        there = there if there is not None else Arranged.of(places)
        xy, whole, order, keys = there.xy, there.whole, there.order, there.keys
        if whole and (keys[1:] == keys[:-1]).any():
            # Apart by less than rounding, which is enough to tell them apart by.
            xy, whole = places.copy(), False
            order, keys = _ordered(xy, whole)
        n = len(xy)
        origin, after, before = (np.empty(6 * n, np.int32) for _ in range(3))
        mesh = Halves(_taken(xy, order), whole, keys, order, origin, after, before)
        mesh._build()
        return mesh

    def _build(self) -> None:
        parts = _parts(self.keys)
        states = np.empty((len(parts), 3), np.int64)
        origin, after, before = (half.view(np.uint32) for half in (self.origin, self.after, self.before))
        room = origin, after, before

        def one(number: int) -> int:
            return int(divide(*parts[number], self.keys, self.xy, self.whole, *room, states[number]))

        hulls = each(one, range(len(parts)))
        # The same tree as within the parts: joined where what lies on both sides is cut higher up.
        held: list[tuple[int, int, int]] = []
        for number, hull in enumerate(hulls):
            end = parts[number][1]
            level = _level(self.keys, end) if end < len(self.xy) else 1 << 30
            now = (hull, number, level)
            while held and held[-1][2] < level:
                first, own, cut = held.pop()
                add_free(states[own], states[now[1]], after)
                joined = join(first, now[0], cut, self.xy, self.whole, *room, states[own])
                now = (int(joined), own, level)
            held.append(now)
        clear_dropped(states[0], origin, after)
        self.hull = held[0][0]

    def follow(self, edges: Ints, walls: int) -> bool:
        """Let edges lead along the straight lines between pairs of rows (k, 2), the first ``walls`` of them WALL, the rest LINE.

        False, when they cross one another, and then nothing can be said of the triangulation any more.
        """
        place = np.empty(len(self.order), np.int64)
        place[self.order] = np.arange(len(place))
        ends = place[np.asarray(edges, np.int64)]
        about = self.xy, self.whole, self.origin, self.after, self.before
        at = np.empty(len(place), np.int32)
        starts(self.origin, at)
        self.fixed = np.zeros(len(self.origin), np.uint8)
        room = np.empty(len(self.origin) // 2, np.int32), np.empty(len(self.origin) // 2, np.int32)
        return bool(insert_all(ends, walls, (WALL, LINE), *about, at, self.fixed, *room) == DONE)

    def cut_off(self) -> None:
        """Leave out what lies outside of walls."""
        self.left_out = np.zeros(len(self.origin), np.uint8)
        stack = np.empty(len(self.origin), np.int32)
        outside(self.hull, self.after, self.before, self.fixed, WALL, self.left_out, stack)

    def triangles(self) -> Ints32:
        """Triangles (m, 3) by the rows of the places given, counter-clockwise."""
        about = self.xy, self.whole, self.origin, self.before, self.order, self.left_out

        def one(piece: tuple[int, int]) -> Ints32:
            out = np.empty((piece[1] - piece[0], 3), np.int32)
            return out[: int(faces(*piece, *about, out))]

        pieces = each(one, ranges(len(self.origin), 200_000))
        begins = np.cumsum([0, *(len(piece) for piece in pieces)])
        found = np.empty((begins[-1], 3), np.int32)
        each(lambda k: np.copyto(found[begins[k] : begins[k + 1]], pieces[k]), range(len(pieces)))
        return found


def _ordered(xy: Floats, whole: bool) -> tuple[Ints, AnyArray]:
    """Rows in Morton order and their keys in that order; those with one key by easting and northing."""
    low, span = _extent(xy)
    factor = 1.0 if whole or span == 0 else (2.0**BITS - 1.0) / span
    keys = np.empty(len(xy), np.uint64)
    each(lambda piece: morton(xy[slice(*piece)], low, factor, keys[slice(*piece)]), ranges(len(xy), 100_000))
    order, ordered = sorted_keys(keys)
    if not whole and not sort_ties(xy, ordered, order):
        order = np.lexsort((xy[:, 1], xy[:, 0], keys))
    return order, ordered


def _taken(xy: Floats, order: Ints) -> Floats:
    out = np.empty((len(order), 2))
    each(lambda piece: take_rows(xy, order[slice(*piece)], out[slice(*piece)]), ranges(len(order), 100_000))
    return out


def _level(keys: AnyArray, at: int) -> int:
    """Level of the cut before a place."""
    return int(cut_level(keys[at - 1], keys[at], at))


def _parts(keys: AnyArray) -> list[tuple[int, int]]:
    """Ranges of places that the highest cuts leave, none of more than PART but where keys are the same."""
    found: list[tuple[int, int]] = []
    todo = [(0, len(keys))]
    while todo:
        first, last = todo.pop()
        differ = int(keys[first]) ^ int(keys[last - 1])
        if last - first <= PART or not differ:
            found.append((first, last))
            continue
        bit = 1 << (differ.bit_length() - 1)
        border = int(keys[last - 1]) & ~(bit - 1)
        middle = first + int(np.searchsorted(keys[first:last], np.uint64(border)))
        todo += [(middle, last), (first, middle)]
    return found
