"""Lines laid into a surface that is mended: break lines, and rings that follow it as it is."""

from __future__ import annotations

import itertools
import math

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask, among
from kerb.core.errors import InputError
from kerb.core.surface.mended import (
    ON_EDGE,
    SAME,
    Mended,
    Patch,
    box_round,
    edge_under,
    edges_of,
    fixed_more,
    key_either,
    part_of,
    refitted,
    seeing,
    used_by,
    window,
    with_levels,
)  # fmt: skip
from kerb.core.surface.mending_kernels import crossings
from kerb.core.surface.tin import Tin
from kerb.core.surface.tin_kernels import locate, touched


def along_line(m: Mended, xyz: Floats, closed: bool = False, on_surface: bool = False) -> tuple[Mended, Ints]:
    """With edges along a line (n, 3) in job coordinates, where NaN at the level of the surface; and its vertices in order.

    ``on_surface`` puts a vertex wherever an edge is crossed and keeps the pieces of those edges, so that the surface stays what
    it is; else it goes straight from vertex to vertex, and over lines that stay at their level. What lies beyond the surface is
    left out. Raises InputError, when no part of it lies on the surface or it crosses itself.
    """
    places = m.local(xyz)
    near = window(m, *box_round(places, SAME * m.width))
    along = np.empty(len(near), np.bool_)
    touched(m.vertices, m.triangles[near], places, closed, SAME * m.width, along)
    near = near[along]
    if not len(near):
        raise InputError("the line does not lie on the surface")
    tin = part_of(m, near)
    z = xyz[:, 2] - m.origin[2]
    ground = tin.at(places)
    z = np.where(np.isfinite(z) & np.isfinite(ground), z, ground)
    edges = edges_of(m.triangles[near])
    _, first, many = np.unique(key_either(edges), return_index=True, return_counts=True)
    edges = np.sort(edges[first], axis=1)
    found = _crossed(m, edges, places, closed)
    # Stops lie where the surface ends, and on edges that stay; of a line on the surface on all that it crosses.
    keep = (many == 1) | among(key_either(edges), key_either(m.fixed)) | on_surface
    stops = _Stops(m, places, z, used_by(m, near))
    hits = found[keep[found[:, 0].astype(int)]]
    # Vertices that the line passes through are stops whatever is asked.
    passing = found[(np.abs(found[:, 2]) <= ON_EDGE) | (np.abs(found[:, 2] - 1) <= ON_EDGE)]
    stops.cross(edges, np.concatenate([hits, passing]))
    pairs, line = stops.pairs(closed)
    middle = (stops.places[pairs[:, 0]] + stops.places[pairs[:, 1]]) / 2
    pairs = pairs[np.isfinite(tin.at(middle))]
    if not len(pairs):
        raise InputError("the line does not lie on the surface")
    line = line[among(line, pairs)]
    hole = _hole_of(m, (near, tin), (edges, found), (stops, pairs), on_surface)
    more = np.column_stack([stops.places, stops.levels])[len(m.vertices) :]
    split = {key: [number for _, number in sorted(held)] for key, held in stops.on.items()}
    made = refitted(m, hole, Patch(more, pairs, split=split, keep=on_surface))
    made = fixed_more(made, pairs)
    told = np.flatnonzero(np.isfinite(xyz[:, 2]))
    # Vertices that were there before take the elevation that is told.
    new = len(m.vertices)
    again = {stops.at_vertex[k]: float(z[k]) for k in told.tolist() if stops.at_vertex.get(k, new) < new}
    if again:
        made = with_levels(made, np.array(list(again), np.int64), np.array(list(again.values())))
    return made, line


def _crossed(m: Mended, edges: Ints, places: Floats, closed: bool) -> Floats:
    room = np.empty((int(crossings(m.vertices, edges, places, closed, np.empty((0, 4)))), 4))
    crossings(m.vertices, edges, places, closed, room)
    return room


class _Stops:
    """Where a line stops on its way: at its own vertices and where it crosses edges. New ones are numbered after those there."""

    def __init__(self, m: Mended, places: Floats, z: Floats, used: Ints) -> None:
        self.m, self.same = m, SAME * m.width
        self.places, self.levels = m.vertices[:, :2], m.vertices[:, 2]
        self._more: list[tuple[float, float, float]] = []
        self.at_vertex: dict[int, int] = {}
        self.on: dict[int, list[tuple[float, int]]] = {}
        self._stops: dict[int, list[tuple[float, int]]] = {}
        self.count = len(places)
        near = m.vertices[used, :2]
        for k, (place, level) in enumerate(zip(places, z.tolist(), strict=True)):
            if not np.isfinite(level):
                continue
            away = np.hypot(*(near - place).T)
            best = int(np.argmin(away))
            self.at_vertex[k] = (
                int(used[best]) if away[best] <= self.same else self._new(float(place[0]), float(place[1]), level)
            )

    def _new(self, x: float, y: float, z: float) -> int:
        self._more.append((x, y, z))
        return len(self.m.vertices) + len(self._more) - 1

    def _place(self, number: int) -> tuple[float, float]:
        base = len(self.m.vertices)
        x, y = self.m.vertices[number, :2].tolist() if number < base else self._more[number - base][:2]
        return x, y

    def cross(self, edges: Ints, found: Floats) -> None:
        """Stop where edges are crossed, ``found`` (k, 4) as :func:`crossings` has it: at an end of one, at a vertex of the line,
        or at a new vertex between."""
        pairs = edges[found[:, 0].astype(np.int64)]
        start, end = self.m.vertices[pairs[:, 0]], self.m.vertices[pairs[:, 1]]
        places = start + found[:, 2:3] * (end - start)
        ends = np.concatenate([start[:, :2], end[:, :2]], axis=1)
        # As plain numbers: there are many of them, and little to do for each.
        for (a, b), key, (_, s, u, w), place, beside in zip(
            pairs.tolist(), key_either(pairs).tolist(), found.tolist(), places.tolist(), ends.tolist(), strict=True
        ):
            segment, number = int(s), None
            for vertex, x, y in ((a, *beside[:2]), (b, *beside[2:])):
                if math.hypot(place[0] - x, place[1] - y) <= self.same:
                    number = vertex
            for k in (segment, (segment + 1) % self.count):
                own = self.at_vertex.get(k)
                if number is None and own is not None and math.dist(self._place(own), place[:2]) <= self.same:
                    number = own
            if number is None:
                known = next((n for v, n in self.on.get(key, ()) if abs(v - u) <= ON_EDGE), None)
                number = known if known is not None else self._new(*place)
            if number not in (a, b):
                held = self.on.setdefault(key, [])
                if number not in {n for _, n in held}:
                    held.append((u, number))
            self._stops.setdefault(segment, []).append((w, number))

    def pairs(self, closed: bool) -> tuple[Ints, Ints]:
        """Pairs of vertices that follow one another along the line, and all in order."""
        if self._more:
            more = np.array(self._more)
            self.places = np.concatenate([self.m.vertices[:, :2], more[:, :2]])
            self.levels = np.concatenate([self.m.vertices[:, 2], more[:, 2]])
        found: list[tuple[int, int]] = []
        order: list[int] = []
        for s in range(self.count if closed else self.count - 1):
            way = [
                (0.0, self.at_vertex.get(s)),
                *sorted(self._stops.get(s, ())),
                (1.0, self.at_vertex.get((s + 1) % self.count)),
            ]
            here = [n for _, n in way if n is not None]
            order += here
            found += [(p, q) for p, q in itertools.pairwise(here) if p != q]
        line = [n for k, n in enumerate(order) if k == 0 or n != order[k - 1]]
        if closed and len(line) > 1 and line[0] == line[-1]:
            line.pop()
        return np.array(found, np.int64).reshape(-1, 2), np.array(line, np.int64)


def _hole_of(
    m: Mended, there: tuple[Ints, Tin], crossed: tuple[Ints, Floats], line: tuple[_Stops, Ints], on_surface: bool
) -> Ints:
    """The triangles that a line passes through, and those that its vertices change."""
    (near, tin), (edges, found), (stops, pairs) = there, crossed, line
    inner = found[(found[:, 2] > ON_EDGE) & (found[:, 2] < 1 - ON_EDGE)]
    keys = key_either(edges_of(m.triangles[near])).reshape(3, -1).T
    through: Mask = np.asarray(among(keys, key_either(edges[np.unique(inner[:, 0].astype(int))])).any(axis=1))
    fresh = stops.places[len(m.vertices) :]
    beneath = _under(tin, np.concatenate([(stops.places[pairs[:, 0]] + stops.places[pairs[:, 1]]) / 2, fresh]))
    through[beneath[beneath >= 0]] = True
    hole = near[through]
    if on_surface:
        return hole
    seen = [
        seeing(m, int(near[row]), place, edge_under(m, m.triangles[near[row]], place))
        for row, place in zip(beneath[len(pairs) :], fresh, strict=True) if row >= 0
    ]  # fmt: skip
    return np.unique(np.concatenate([hole, *seen]))


def _under(tin: Tin, places: Floats) -> Ints:
    """A triangle under each of (n, 2) places, -1 where there is none."""
    found, z, index = np.empty(len(places), np.int64), np.empty(len(places)), tin.index
    grid = index.low, index.inverse, index.shape, index.starts, index.listed
    locate(tin.vertices, tin.triangles, *grid, np.ascontiguousarray(places), found, z)
    return found
