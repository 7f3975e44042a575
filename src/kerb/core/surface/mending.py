"""Mending a surface by hand: vertices, break lines, water, rivers, seams. Each is local: what it does not touch stays to the bit.

What is taken out is filled again by a constrained Delaunay triangulation of the hole. Taking vertices out of a Delaunay
triangulation changes it nowhere but in the triangles at them, adding one changes those whose circle holds it (Bowyer 1981,
Watson 1981), and a line those that it crosses (Anglada 1997); so the whole stays Delaunay where it is free. All four recalled.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats, Ints, Ints32, Mask, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface.delaunay import constrained
from kerb.core.surface.mending_kernels import crossings, in_box, in_circles
from kerb.core.surface.tin import Tin
from kerb.core.surface.tin_kernels import locate

# Of a length: places nearer than this share of the surface's width are one.
SAME = 1e-8
ON_EDGE = 1e-9


@dataclass(frozen=True)
class Mended:
    """A surface while it is mended, as :class:`Tin` has it; what is taken out stays in the lists.

    Vertices that nothing uses are left where they are; rows of ``triangles`` that are gone name one vertex three times, new ones
    are at the end: so those of the surface at first keep their rows, and the index over ``base`` finds them. ``fixed`` (k, 2) are
    edges that stay; ``source`` (m,) is -1 for triangles that are not as they were at first.
    """

    vertices: Floats
    triangles: Ints32
    origin: Floats
    fixed: Ints
    source: Ints32
    base: Tin
    width: float

    @staticmethod
    def of(tin: Tin) -> Mended:
        """A surface that nothing was done to. What its edges follow is not known of it."""
        number = np.arange(len(tin.triangles), dtype=np.int32)
        low, high = ends(tin.vertices[:, :2])
        return Mended(
            tin.vertices, tin.triangles, tin.origin, np.empty((0, 2), np.int64), number, tin, float((high - low).max())
        )

    @property
    def there(self) -> Mask:
        """Which rows of triangles are there, (m,)."""
        return np.asarray(self.triangles[:, 0] != self.triangles[:, 1])

    @property
    def surface(self) -> Tin:
        """As a surface."""
        return self.surface_of(self.there)

    def surface_of(self, rows: Mask) -> Tin:
        """Some of its triangles as a surface."""
        return Tin(self.vertices, self.triangles[rows], self.origin)

    def changed(self) -> tuple[Tin, Tin]:
        """What was there at first and is not any more, and what is there instead."""
        alive = self.there
        same = np.zeros(len(self.base.triangles), np.bool_)
        same[self.source[alive & (self.source >= 0)]] = True
        new = Tin(self.vertices, self.triangles[alive & (self.source < 0)], self.origin)
        return self.base.only(~same), new

    def local(self, xy: Floats) -> Floats:
        """Places (n, 2 or more) in job coordinates from its own origin."""
        return np.asarray(xy, float)[:, :2] - self.origin[:2]


def _window(m: Mended, low: Floats, high: Floats) -> Ints:
    """The triangles whose box touches a box, from the origin."""
    index, count = m.base.index, len(m.base.triangles)
    edge = index.shape - 1
    first = np.clip(((low - index.low) * index.inverse).astype(np.int64), 0, edge)
    last = np.clip(((high - index.low) * index.inverse).astype(np.int64), 0, edge)
    rows = [
        index.listed[index.starts[i * index.shape[1] + first[1]] : index.starts[i * index.shape[1] + last[1] + 1]]
        for i in range(int(first[0]), int(last[0]) + 1)
    ]
    found = np.concatenate([np.unique(np.concatenate(rows)).astype(np.int64), np.arange(count, len(m.triangles))])
    triangles = m.triangles[found]
    near = np.empty(len(found), np.bool_)
    in_box(m.vertices, triangles, low, high, near)
    return np.asarray(found[near & (triangles[:, 0] != triangles[:, 1])])


def _part(m: Mended, rows: Ints) -> Tin:
    """Some triangles as a surface of their own, from the same origin."""
    used, corners = np.unique(m.triangles[rows], return_inverse=True)
    return Tin(m.vertices[used], corners.reshape(-1, 3).astype(np.int32), np.zeros(3))


def _round(places: Floats, room: float = 0.0) -> tuple[Floats, Floats]:
    return places.min(axis=0) - room, places.max(axis=0) + room


def levels(m: Mended, places: Floats) -> Floats:
    """Elevations (n,) from the origin at places (n, 2) from the origin; NaN outside."""
    near = _window(m, *_round(places[:, :2], SAME * m.width))
    return _part(m, near).at(places) if len(near) else np.full(len(places), np.nan)


def _edges(triangles: Ints32) -> Ints:
    """The edges of triangles (3 m, 2), each as it runs round its own."""
    return np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)


def _key(pairs: Ints) -> Ints:
    return np.asarray((pairs[:, 0] << 32) | pairs[:, 1], np.int64)


def _key_either(pairs: Ints) -> Ints:
    return _key(np.sort(pairs, axis=1))


@dataclass(frozen=True)
class _Patch:
    """What comes into a hole: ``more`` vertices (k, 3), edges that ``follow`` pairs (numbered with those); ``drop`` are left out.

    ``split`` names, by the key of an edge, the vertices on it from its lower number to its higher; with ``keep`` all edges of the
    hole stay, not only those that are fixed.
    """

    more: Floats = field(default_factory=lambda: np.empty((0, 3)))
    follow: Ints = field(default_factory=lambda: np.empty((0, 2), np.int64))
    drop: Ints = field(default_factory=lambda: np.empty(0, np.int64))
    split: dict[int, list[int]] = field(default_factory=dict)
    keep: bool = False

    def pieces(self, pairs: Ints) -> Ints:
        """Edges as they run, those with vertices on them as their pieces."""
        if not self.split or not len(pairs):
            return pairs
        keys = _key_either(pairs)
        cut = np.isin(keys, np.fromiter(self.split, np.int64, len(self.split)))
        found = [pairs[~cut]]
        for (p, q), key in zip(pairs[cut].tolist(), keys[cut].tolist(), strict=True):
            way = self.split[key] if p < q else self.split[key][::-1]
            found.append(np.array(list(itertools.pairwise([p, *way, q])), np.int64))
        return np.concatenate(found)


def _refitted(m: Mended, hole: Ints, patch: _Patch) -> Mended:
    """With the triangles of a hole (rows) made anew. Raises InputError, when lines cross one another."""
    inside = m.triangles[hole]
    vertices = np.concatenate([m.vertices, patch.more]) if len(patch.more) else m.vertices
    edges = _edges(inside)
    outer = patch.pieces(edges[~np.isin(_key(edges), _key(edges[:, ::-1]))])
    held = edges if patch.keep else m.fixed[np.isin(_key_either(m.fixed), _key_either(edges))]
    lines = np.concatenate([outer, patch.pieces(held), patch.follow])
    lines = lines[~np.isin(lines, patch.drop).any(axis=1)]
    new = np.arange(len(m.vertices), len(vertices))
    rows = np.setdiff1d(np.concatenate([inside.ravel(), new, lines.ravel()]), patch.drop)
    fresh = np.empty((0, 3), np.int32)
    if len(rows) > 2:
        _, first = np.unique(_key_either(lines), return_index=True)
        try:
            found = constrained(vertices[rows, :2], np.searchsorted(rows, lines[first]), 0)
        except NotDeterminable:
            found = fresh
        if found is None:
            raise InputError("the line crosses itself, or one that edges follow, between vertices")
        fresh = _within(rows[found].astype(np.int32), outer)
    fixed = patch.pieces(m.fixed)
    fixed = fixed[~np.isin(fixed, patch.drop).any(axis=1)]
    return _replaced(replace(m, vertices=vertices, fixed=fixed), hole, fresh)


def _within(triangles: Ints32, outer: Ints) -> Ints32:
    """Those of some triangles that fill what edges (k, 2) run round, it lying at their left.

    By what hangs together: a triangle of the hull may be as thin as rounding, and its middle anywhere.
    """
    if not len(triangles):
        return triangles
    edges = _edges(triangles)
    part = _parts(triangles, outer)
    owner = np.tile(part, 3)
    return triangles[np.isin(part, owner[np.isin(_key(edges), _key(outer))])]


def _parts(triangles: Ints32, walls: Ints) -> Ints:
    """Numbers of what hangs together among triangles by edges that are no walls (k, 2)."""
    edges, rows = _edges(triangles), np.tile(np.arange(len(triangles)), 3)
    keys = _key_either(edges)
    free = ~np.isin(keys, _key_either(walls))
    order = np.argsort(keys[free], kind="stable")
    keys, rows = keys[free][order], rows[free][order]
    beside = np.flatnonzero(keys[1:] == keys[:-1])
    size = len(triangles), len(triangles)
    joined = scipy.sparse.coo_array((np.ones(len(beside)), (rows[beside], rows[beside + 1])), size)
    return np.asarray(scipy.sparse.csgraph.connected_components(joined, directed=False)[1], np.int64)


def _replaced(m: Mended, gone: Ints, fresh: Ints32) -> Mended:
    """With some triangles gone and others at the end."""
    triangles = np.concatenate([m.triangles, fresh])
    triangles[gone] = 0
    return replace(m, triangles=triangles, source=np.concatenate([m.source, np.full(len(fresh), -1, np.int32)]))


def _fixed_more(m: Mended, pairs: Ints) -> Mended:
    both = np.concatenate([m.fixed, pairs])
    _, first = np.unique(_key_either(both), return_index=True)
    return replace(m, fixed=both[np.sort(first)])


def _with_levels(m: Mended, rows: Ints, z: Floats) -> Mended:
    """With other elevations (from the origin) of some vertices."""
    if not len(rows):
        return m
    vertices, source = m.vertices.copy(), m.source.copy()
    vertices[rows, 2] = z
    source[_at(m, rows)] = -1
    return replace(m, vertices=vertices, source=source)


def _at(m: Mended, rows: Ints) -> Ints:
    """The triangles that have one of some vertices (rows) as a corner."""
    near = _window(m, *_round(m.vertices[rows, :2]))
    return near[np.isin(m.triangles[near], rows).any(axis=1)]


def _used(m: Mended, rows: Ints) -> Ints:
    return np.unique(m.triangles[rows])


# Vertices


def nearest_vertex(m: Mended, xy: Floats) -> int:
    """The vertex nearest to a place (2,) among those of the triangles there. Raises InputError outside of the surface."""
    place = m.local(np.asarray(xy)[None])[0]
    row = _triangle_at(m, place)
    corners = m.triangles[row]
    return int(corners[np.argmin(np.hypot(*(m.vertices[corners, :2] - place).T))])


def _triangle_at(m: Mended, place: Floats) -> int:
    near = _window(m, place, place)
    for row in near.tolist():
        a, b, c = m.vertices[m.triangles[row], :2]
        sides = [(q - p)[0] * (place - p)[1] - (q - p)[1] * (place - p)[0] for p, q in ((a, b), (b, c), (c, a))]
        if min(sides) >= -SAME * m.width**2:
            return int(row)
    raise InputError("the surface has no triangle there")


def vertex_level(m: Mended, xy: Floats, z: float) -> Mended:
    """With the vertex nearest to a place (2,) at another elevation. Raises InputError outside of the surface."""
    return _with_levels(m, np.array([nearest_vertex(m, xy)]), np.array([z - m.origin[2]]))


def with_vertex(m: Mended, xy: Floats, z: float | None = None) -> Mended:
    """With a vertex more at a place (2,), at an elevation or on the surface; one that is there takes the elevation.

    Raises InputError outside of the surface.
    """
    place = m.local(np.asarray(xy)[None])[0]
    row = _triangle_at(m, place)
    level = float(levels(m, place[None])[0]) if z is None else z - m.origin[2]
    corners = m.triangles[row]
    near = np.hypot(*(m.vertices[corners, :2] - place).T)
    if near.min() <= SAME * m.width:
        return m if z is None else _with_levels(m, corners[[np.argmin(near)]].astype(np.int64), np.array([level]))
    split = _edge_under(m, m.triangles[row], place)
    hole = _seeing(m, row, place, split)
    on = {} if split is None else {int(_key_either(split[None])[0]): [len(m.vertices)]}
    return _refitted(m, hole, _Patch(np.append(place, level)[None], split=on))


def _seeing(m: Mended, row: int, place: Floats, split: Ints | None = None) -> Ints:
    """The triangles round a place, in the one of a row, whose circle holds it and that no edge that stays parts from it."""
    reach = 2.0 * float(np.ptp(m.vertices[m.triangles[row], :2], axis=0).max())
    while True:
        near = _window(m, place - reach, place + reach)
        hit = np.empty(len(near), np.bool_)
        in_circles(m.vertices, m.triangles[near], place[0], place[1], hit)
        found = _connected(m, np.union1d(near[hit], [row]), row, split)
        corners = m.vertices[m.triangles[found].ravel(), :2]
        # Whole when all of it, and so all beside it, was looked at.
        if np.abs(corners - place).max() < reach or reach > 2 * m.width:
            return found
        reach *= 2.0


def _edge_under(m: Mended, corners: Ints32, place: Floats) -> Ints | None:
    """The edge of a triangle that a place lies on."""
    for k in range(3):
        p, q = m.vertices[corners[k], :2], m.vertices[corners[(k + 1) % 3], :2]
        along = q - p
        off = abs(along[0] * (place - p)[1] - along[1] * (place - p)[0]) / float(along @ along)
        if off <= ON_EDGE:
            return np.array([corners[k], corners[(k + 1) % 3]], np.int64)
    return None


def _connected(m: Mended, hit: Ints, first: int, split: Ints | None) -> Ints:
    """Of some triangles those that hang together with one of them by edges that may go."""
    triangles = m.triangles[hit]
    edges = _edges(triangles)
    owner = np.tile(hit, 3)
    fixed = set(_key_either(m.fixed).tolist()) if len(m.fixed) else set()
    if split is not None:
        fixed.discard(int(_key_either(split[None])[0]))
    by_edge: dict[int, list[int]] = {}
    for key, row in zip(_key_either(edges).tolist(), owner.tolist(), strict=True):
        by_edge.setdefault(key, []).append(row)
    beside: dict[int, list[int]] = {}
    for key, rows in by_edge.items():
        if len(rows) == 2 and key not in fixed:
            beside.setdefault(rows[0], []).append(rows[1])
            beside.setdefault(rows[1], []).append(rows[0])
    seen, todo = {first}, [first]
    while todo:
        for other in beside.get(todo.pop(), ()):
            if other not in seen:
                seen.add(other)
                todo.append(other)
    return np.array(sorted(seen), np.int64)


def without_vertices(m: Mended, rows: Ints) -> Mended:
    """Without some vertices; edges that stay do not pass them any more."""
    if not len(rows):
        return m
    return _refitted(m, _at(m, rows), _Patch(drop=np.asarray(rows, np.int64)))


def inside(m: Mended, ring: Floats) -> Ints:
    """The vertices in use inside a ring (n, 2) in job coordinates."""
    local = m.local(ring)
    rows = _used(m, _window(m, *_round(local)))
    return rows[polygon.contains(local, m.vertices[rows])]


def swapped(m: Mended, xy: Floats) -> Mended:
    """With the edge nearest to a place (2,) turned to join the other two corners of its triangles.

    Raises InputError, when it is one of the outline, one that stays, or its triangles make no convex figure.
    """
    place = m.local(np.asarray(xy)[None])[0]
    row = _triangle_at(m, place)
    t = m.triangles[row]

    def away(k: int) -> float:
        p, q = m.vertices[t[k], :2], m.vertices[t[(k + 1) % 3], :2]
        along = q - p
        return float(abs(along[0] * (place - p)[1] - along[1] * (place - p)[0]) / np.hypot(*along))

    k = min(range(3), key=away)
    a, b, c = (int(t[(k + i) % 3]) for i in range(3))
    near = _window(m, *_round(m.vertices[[a, b], :2]))
    other = [r for r in near.tolist() if r != row and {a, b} <= set(m.triangles[r].tolist())]
    if not other:
        raise InputError("the edge there is one of the outline")
    if len(m.fixed) and _key_either(np.array([[a, b]]))[0] in _key_either(m.fixed):
        raise InputError("a break line keeps the edge there")
    d = next(int(v) for v in m.triangles[other[0]] if v not in (a, b))
    fresh = np.array([[c, a, d], [d, b, c]], np.int32)
    if (Tin(m.vertices, fresh, np.zeros(3)).plan_areas <= 0).any():
        raise InputError("the triangles beside the edge there leave no other way")
    return _replaced(m, np.array([row, other[0]]), fresh)


# Lines


def along_line(m: Mended, xyz: Floats, closed: bool = False, on_surface: bool = False) -> tuple[Mended, Ints]:
    """With edges along a line (n, 3) in job coordinates, where NaN at the level of the surface; and its vertices in order.

    ``on_surface`` puts a vertex wherever an edge is crossed and keeps the pieces of those edges, so that the surface stays what
    it is; else it goes straight from vertex to vertex, and over lines that stay at their level. What lies beyond the surface is
    left out. Raises InputError, when no part of it lies on the surface or it crosses itself.
    """
    places = m.local(xyz)
    near = _window(m, *_round(places, SAME * m.width))
    if not len(near):
        raise InputError("the line does not lie on the surface")
    tin = _part(m, near)
    z = xyz[:, 2] - m.origin[2]
    ground = tin.at(places)
    z = np.where(np.isfinite(z) & np.isfinite(ground), z, ground)
    edges = _edges(m.triangles[near])
    _, first, many = np.unique(_key_either(edges), return_index=True, return_counts=True)
    edges = np.sort(edges[first], axis=1)
    found = _crossed(m, edges, places, closed)
    # Stops lie where the surface ends, and on edges that stay; of a line on the surface on all that it crosses.
    keep = many == 1
    if len(m.fixed):
        keep |= np.isin(_key_either(edges), _key_either(m.fixed))
    keep |= on_surface
    stops = _Stops(m, places, z, _used(m, near))
    hits = found[keep[found[:, 0].astype(int)]]
    # Vertices that the line passes through are stops whatever is asked.
    passing = found[(np.abs(found[:, 2]) <= ON_EDGE) | (np.abs(found[:, 2] - 1) <= ON_EDGE)] if len(found) else found
    for e, s, u, w in np.concatenate([hits, passing]).tolist():
        stops.cross(edges[int(e)], int(s), u, w)
    pairs, line = stops.pairs(closed)
    middle = (stops.places[pairs[:, 0]] + stops.places[pairs[:, 1]]) / 2 if len(pairs) else np.empty((0, 2))
    pairs = pairs[np.isfinite(tin.at(middle))] if len(pairs) else pairs
    if not len(pairs):
        raise InputError("the line does not lie on the surface")
    line = line[np.isin(line, pairs)]
    hole = _hole_of(m, near, edges, found, (stops, pairs), on_surface)
    more = np.column_stack([stops.places, stops.levels])[len(m.vertices) :]
    split = {key: [number for _, number in sorted(held)] for key, held in stops.on.items()}
    made = _refitted(m, hole, _Patch(more, pairs, split=split, keep=on_surface))
    made = _fixed_more(made, pairs)
    told = np.flatnonzero(np.isfinite(xyz[:, 2]))
    # Vertices that were there before take the elevation that is told.
    new = len(m.vertices)
    again = {stops.at_vertex[k]: float(z[k]) for k in told.tolist() if stops.at_vertex.get(k, new) < new}
    if again:
        made = _with_levels(made, np.array(list(again), np.int64), np.array(list(again.values())))
    return made, line


def _crossed(m: Mended, edges: Ints, places: Floats, closed: bool) -> Floats:
    room = np.empty((4 * len(places) + 4096, 4))
    count = int(crossings(m.vertices, edges, places, closed, room))
    if count > len(room):
        room = np.empty((count, 4))
        crossings(m.vertices, edges, places, closed, room)
    return room[:count]


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

    def _place(self, number: int) -> Floats:
        base = len(self.m.vertices)
        return self.m.vertices[number] if number < base else np.array(self._more[number - base])

    def cross(self, edge: Ints, segment: int, u: float, w: float) -> None:
        """Stop where an edge is crossed: at an end of it, at a vertex of the line, or at a new vertex between."""
        a, b = edge.tolist()
        start, end = self.m.vertices[a], self.m.vertices[b]
        place = start + u * (end - start)
        number = None
        for vertex, at in ((a, start), (b, end)):
            if np.hypot(*(place - at)[:2]) <= self.same:
                number = vertex
        for k in (segment, (segment + 1) % self.count):
            own = self.at_vertex.get(k)
            if number is None and own is not None and np.hypot(*(self._place(own) - place)[:2]) <= self.same:
                number = own
        key = int(_key_either(np.array([[a, b]]))[0])
        if number is None:
            known = next((n for v, n in self.on.get(key, ()) if abs(v - u) <= ON_EDGE), None)
            number = known if known is not None else self._new(*place.tolist())
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


def _hole_of(m: Mended, near: Ints, edges: Ints, found: Floats, line: tuple[_Stops, Ints], on_surface: bool) -> Ints:
    """The triangles that a line passes through, and those that its vertices change."""
    stops, pairs = line
    middle = (stops.places[pairs[:, 0]] + stops.places[pairs[:, 1]]) / 2
    tin = _part(m, near)
    inner = found[(found[:, 2] > ON_EDGE) & (found[:, 2] < 1 - ON_EDGE)] if len(found) else found
    cut = np.unique(inner[:, 0].astype(int)) if len(inner) else np.empty(0, int)
    keys = _key_either(_edges(m.triangles[near])).reshape(3, -1).T
    through: Mask = np.asarray(np.isin(keys, _key_either(edges[cut])).any(axis=1))
    under = np.concatenate([middle, stops.places[len(m.vertices) :]])
    beneath = _under(tin, under)
    through[beneath[beneath >= 0]] = True
    hole = near[through]
    if on_surface:
        return hole
    fresh = stops.places[len(m.vertices) :]
    seen = [
        _seeing(m, int(near[r]), p, _edge_under(m, m.triangles[near[r]], p))
        for r, p in zip(_under(tin, fresh), fresh, strict=True) if r >= 0
    ]  # fmt: skip
    return np.unique(np.concatenate([hole, *seen]))


def _under(tin: Tin, places: Floats) -> Ints:
    """A triangle under each of (n, 2) places, -1 where there is none."""
    found, z, index = np.empty(len(places), np.int64), np.empty(len(places)), tin.index
    grid = index.low, index.inverse, index.shape, index.starts, index.listed
    locate(tin.vertices, tin.triangles, *grid, np.ascontiguousarray(places), found, z)
    return found


# Areas


def _ring_in(m: Mended, ring: Floats) -> tuple[Mended, Ints, Ints]:
    """With a ring (n, 2) laid into the surface as it is; its vertices in order, and those in use inside of it."""
    made, line = along_line(m, np.column_stack([ring, np.full(len(ring), np.nan)]), closed=True, on_surface=True)
    return made, line, np.setdiff1d(inside(made, ring), line)


def raised(m: Mended, ring: Floats, by: float) -> Mended:
    """With what lies inside a ring higher by some length; the ring stays. Raises InputError, when no vertex lies inside."""
    made, _, rows = _ring_in(m, ring)
    _some(rows)
    return _with_levels(made, rows, made.vertices[rows, 2] + by)


def brought_to_mean(m: Mended, ring: Floats, level: float) -> Mended:
    """With what lies inside a ring raised or lowered so that the mean level in it, by area, is ``level``; the ring stays."""
    made, _, rows = _ring_in(m, ring)
    _some(rows)
    near = _in_ring(made, ring)
    size = _part(made, near).plan_areas
    corners = made.triangles[near]
    mean = float(size @ made.vertices[corners, 2].mean(axis=1)) / float(size.sum())
    share = float(size @ np.isin(corners, rows).mean(axis=1)) / float(size.sum())
    return _with_levels(made, rows, made.vertices[rows, 2] + (level - made.origin[2] - mean) / share)


def _some(rows: Ints) -> None:
    if not len(rows):
        raise InputError("no vertex lies inside the line")


def smoothed(m: Mended, ring: Floats, rounds: int = 5) -> Mended:
    """With vertices inside a ring moved, so many times over, to the mean level of those that edges join them with."""
    rows = inside(m, ring)
    _some(rows)
    pairs = _edges(m.triangles[_at(m, rows)])
    pairs = np.unique(np.concatenate([pairs, pairs[:, ::-1]]), axis=0)
    pairs = pairs[np.isin(pairs[:, 0], rows)]
    place = np.searchsorted(rows, pairs[:, 0])
    z = m.vertices[:, 2].copy()
    many = np.bincount(place, minlength=len(rows))
    for _ in range(rounds):
        z[rows] = np.bincount(place, z[pairs[:, 1]], len(rows)) / many
    return _with_levels(m, rows, z[rows])


def cut_out(m: Mended, ring: Floats, keep: bool = False) -> Mended:
    """Without what lies inside a ring, or (``keep``) without what lies outside. Raises InputError, when nothing is left."""
    made, _, _ = _ring_in(m, ring)
    near = _in_ring(made, ring)
    gone = np.setdiff1d(np.flatnonzero(made.there), near) if keep else near
    if not len(near) if keep else len(near) == np.count_nonzero(made.there):
        raise InputError("nothing of the surface is left")
    return _replaced(made, gone, np.empty((0, 3), np.int32))


def _in_ring(m: Mended, ring: Floats) -> Ints:
    """The triangles inside a ring (n, 2) in job coordinates that was laid into the surface.

    Not by their middles: triangles along the ring may be as thin as rounding. What hangs together within edges that stay is
    inside as a whole, or not.
    """
    local = m.local(ring)
    near = _window(m, *_round(local))
    part = _parts(m.triangles[near], m.fixed)
    size = _part(m, near).plan_areas
    within = polygon.contains(local, m.vertices[m.triangles[near], :2].mean(axis=1))
    return near[(np.bincount(part, size * within) > 0.5 * np.bincount(part, size))[part]]


def shore(m: Mended, ring: Floats, step: float) -> Floats:
    """Levels in job coordinates along a ring (n, 2), samples ``step`` apart or less, where it lies on the surface."""
    found = levels(m, m.local(polygon.along(ring, step)))
    return found[np.isfinite(found)] + m.origin[2]


def water(m: Mended, ring: Floats, level: float) -> Mended:
    """With a level area inside a ring, the ring on it; vertices inside are gone."""
    made, line, rows = _ring_in(m, ring)
    made = without_vertices(made, rows)
    return _with_levels(made, line, np.full(len(line), level - made.origin[2]))


def river(m: Mended, ring: Floats, step: float) -> Mended:
    """With the water of a river inside a ring that runs down one bank and back up the other, from its upper end.

    The level falls downstream all the way, is the same on both banks, and lies nowhere above a sample of the shore. Half of the
    vertices round is the lower end. Raises InputError, when the ring does not lie on the surface.
    """
    made, line, rows = _ring_in(m, _finer(ring, step))
    made = without_vertices(made, rows)
    station, bank = _stations(made.vertices[line, :2], made.local(ring))
    return _with_levels(made, line, falling(station, made.vertices[line, 2], bank))


def _finer(ring: Floats, step: float) -> Floats:
    return polygon.along(ring, step)


def _stations(places: Floats, ring: Floats) -> tuple[Floats, Mask]:
    """How far down the river places round it lie, 0 at the upper end and 1 at the lower; and which of them lie on a bank, and not
    across the water at an end."""
    ends = np.roll(ring, -1, axis=0)
    length = np.hypot(*(ends - ring).T)
    before = np.cumsum(length) - length
    turn = len(ring) // 2
    left, right = before[turn - 1], before[-1] - before[turn]
    along = ends - ring
    share = np.clip(
        ((places[:, None] - ring[None]) * along[None]).sum(axis=2) / np.maximum((along**2).sum(axis=1), 1e-30), 0, 1
    )
    away = np.hypot(*np.moveaxis(places[:, None] - ring[None] - share[:, :, None] * along[None], 2, 0))
    edge = np.argmin(away, axis=1)
    part = share[np.arange(len(places)), edge]
    run = before[edge] + part * length[edge]
    down, up = run / max(left, 1e-30), 1 - (run - before[turn]) / max(right, 1e-30)
    station = np.where(edge < turn - 1, down, np.where(edge < turn, 1.0, np.where(edge < len(ring) - 1, up, 0.0)))
    across = ((edge == turn - 1) | (edge == len(ring) - 1)) & (part > ON_EDGE) & (part < 1 - ON_EDGE)
    return np.clip(station, 0.0, 1.0), ~across


def falling(station: Floats, level: Floats, bank: Mask) -> Floats:
    """Levels that fall downstream (with ``station``), are the same at the same station, and nowhere above ``level`` on a bank.

    Straight from one lowest sample so far to the next.
    """
    order = np.lexsort((level[bank], station[bank]))
    places, first = np.unique(station[bank][order], return_index=True)
    lowest = level[bank][order][first]
    running = np.minimum.accumulate(lowest)
    drops = np.flatnonzero(np.concatenate([[True], running[1:] < running[:-1]]))
    return np.interp(station, places[drops], running[drops])


def other_inside(m: Mended, ring: Floats, other: Callable[[Floats], Floats], its_vertices: Floats) -> Mended:
    """With another surface inside a ring: ``other`` gives its levels at places (n, 2), ``its_vertices`` (k, 3) make it up, both
    in job coordinates. Along the ring, where they meet, the mean of both; where the other has none, the first stays.
    """
    made, line, rows = _ring_in(m, ring)
    made = without_vertices(made, rows)
    seam = other(made.vertices[line, :2] + made.origin[:2]) - made.origin[2]
    known = np.isfinite(seam)
    made = _with_levels(made, line[known], (made.vertices[line[known], 2] + seam[known]) / 2)
    fresh = its_vertices[polygon.contains(ring, its_vertices)] - made.origin
    # A vertex on the seam would part it from what lies outside.
    seam_line = shapely.LinearRing(made.local(ring))
    fresh = fresh[shapely.distance(shapely.points(fresh[:, :2]), seam_line) > 10 * SAME * made.width]
    _, first = np.unique(fresh[:, :2], axis=0, return_index=True)
    return _refitted(made, _in_ring(made, ring), _Patch(fresh[np.sort(first)]))
