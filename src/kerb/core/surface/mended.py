"""A surface while it is mended, and what is done to single vertices and edges. What is not touched stays to the bit.

What is taken out is filled again by a constrained Delaunay triangulation of the hole. Taking vertices out of a Delaunay
triangulation changes it nowhere but in the triangles at them, adding one changes those whose circle holds it (Bowyer 1981,
Watson 1981), and a line those that it crosses (Anglada 1997); so the whole stays Delaunay where it is free. All four recalled.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Ints32, Mask, among, distinct, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface.delaunay import constrained
from kerb.core.surface.mending_kernels import in_box, in_circles
from kerb.core.surface.tin import Tin

# Of a length: places nearer than this share of the surface's width are one.
SAME = 1e-8
ON_EDGE = 1e-9


@dataclass(frozen=True)
class Mended:
    """A surface while it is mended, as :class:`Tin` has it; what is taken out stays in the lists.

    Vertices that nothing uses are left where they are; rows of ``triangles`` that are gone name one vertex three times, new ones
    are at the end: so those of the surface at first keep their rows, and the index over ``base`` finds them. ``fixed`` (k, 2) are
    edges that stay.
    """

    vertices: Floats
    triangles: Ints32
    origin: Floats
    fixed: Ints
    base: Tin
    width: float

    @staticmethod
    def of(tin: Tin) -> Mended:
        """A surface that nothing was done to. What its edges follow is not known of it."""
        low, high = ends(tin.vertices[:, :2])
        none = np.empty((0, 2), np.int64)
        return Mended(tin.vertices, tin.triangles, tin.origin, none, tin, float((high - low).max()))

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

    def local(self, xy: Floats) -> Floats:
        """Places (n, 2 or more) in job coordinates from its own origin."""
        return np.asarray(xy, float)[:, :2] - self.origin[:2]


def differing(before: Mended, after: Mended) -> tuple[Tin, Tin]:
    """The triangles of a surface that a later state of it does not have, and those that only the later one has."""
    rows, places = len(before.triangles), len(before.vertices)
    same = np.zeros(len(after.triangles), np.bool_)
    same[:rows] = (before.triangles == after.triangles[:rows]).all(axis=1)
    moved = np.zeros(len(after.vertices), np.bool_)
    moved[:places] = before.vertices[:, 2] != after.vertices[:places, 2]
    if moved.any():
        same &= ~moved[after.triangles].any(axis=1)
    return before.surface_of(before.there & ~same[:rows]), after.surface_of(after.there & ~same)


def window(m: Mended, low: Floats, high: Floats) -> Ints:
    """The triangles whose box touches a box, from the origin."""
    index, count = m.base.index, len(m.base.triangles)
    edge = index.shape - 1
    first = np.clip(((low - index.low) * index.inverse).astype(np.int64), 0, edge)
    last = np.clip(((high - index.low) * index.inverse).astype(np.int64), 0, edge)
    rows = [
        index.listed[index.starts[i * index.shape[1] + first[1]] : index.starts[i * index.shape[1] + last[1] + 1]]
        for i in range(int(first[0]), int(last[0]) + 1)
    ]
    found = np.concatenate([distinct(np.concatenate(rows)).astype(np.int64), np.arange(count, len(m.triangles))])
    triangles = m.triangles[found]
    near = np.empty(len(found), np.bool_)
    in_box(m.vertices, triangles, low, high, near)
    return np.asarray(found[near & (triangles[:, 0] != triangles[:, 1])])


def part_of(m: Mended, rows: Ints) -> Tin:
    """Some triangles as a surface of their own, from the same origin."""
    used, corners = np.unique(m.triangles[rows], return_inverse=True)
    return Tin(m.vertices[used], corners.reshape(-1, 3).astype(np.int32), np.zeros(3))


def box_round(places: Floats, room: float = 0.0) -> tuple[Floats, Floats]:
    """The box round places (n, 2), and so much more on every side."""
    return places.min(axis=0) - room, places.max(axis=0) + room


def levels(m: Mended, places: Floats) -> Floats:
    """Elevations (n,) from the origin at places (n, 2) from the origin; NaN outside."""
    near = window(m, *box_round(places[:, :2], SAME * m.width))
    return part_of(m, near).at(places) if len(near) else np.full(len(places), np.nan)


def edges_of(triangles: Ints32) -> Ints:
    """The edges of triangles (3 m, 2), each as it runs round its own."""
    return np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)


def _key(pairs: Ints) -> Ints:
    return np.asarray((pairs[:, 0] << 32) | pairs[:, 1], np.int64)


def key_either(pairs: Ints) -> Ints:
    """A number for each edge (k, 2), the same whichever way it runs."""
    return _key(np.sort(pairs, axis=1))


@dataclass(frozen=True)
class Patch:
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
        if not self.split:
            return pairs
        keys = key_either(pairs)
        cut = among(keys, np.fromiter(self.split, np.int64, len(self.split)))
        found: list[tuple[int, int]] = []
        for (p, q), key in zip(pairs[cut].tolist(), keys[cut].tolist(), strict=True):
            way = self.split[key] if p < q else self.split[key][::-1]
            found += itertools.pairwise([p, *way, q])
        return np.concatenate([pairs[~cut], np.array(found, np.int64).reshape(-1, 2)])


def refitted(m: Mended, hole: Ints, patch: Patch) -> Mended:
    """With the triangles of a hole (rows) made anew. Raises InputError, when lines cross one another."""
    inside = m.triangles[hole]
    vertices = np.concatenate([m.vertices, patch.more]) if len(patch.more) else m.vertices
    edges = edges_of(inside)
    outer = patch.pieces(edges[~among(_key(edges), _key(edges[:, ::-1]))])
    held = edges if patch.keep else m.fixed[among(key_either(m.fixed), key_either(edges))]
    lines = np.concatenate([outer, patch.pieces(held), patch.follow])
    lines = lines[~among(lines, patch.drop).any(axis=1)]
    new = np.arange(len(m.vertices), len(vertices))
    rows = distinct(np.concatenate([inside.ravel(), new, lines.ravel()]))
    rows = rows[~among(rows, patch.drop)]
    fresh = np.empty((0, 3), np.int32)
    if len(rows) > 2:
        _, first = np.unique(key_either(lines), return_index=True)
        try:
            found = constrained(vertices[rows, :2], np.searchsorted(rows, lines[first]), 0)
        except NotDeterminable:
            found = fresh
        if found is None:
            raise InputError("the line crosses itself, or one that edges follow, between vertices")
        fresh = _within(rows[found].astype(np.int32), outer)
    fixed = patch.pieces(m.fixed)
    fixed = fixed[~among(fixed, patch.drop).any(axis=1)]
    return replaced(replace(m, vertices=vertices, fixed=fixed), hole, fresh)


def _within(triangles: Ints32, outer: Ints) -> Ints32:
    """Those of some triangles that fill what edges (k, 2) run round, it lying at their left.

    By what hangs together: a triangle of the hull may be as thin as rounding, and its middle anywhere.
    """
    if not len(triangles):
        return triangles
    edges = edges_of(triangles)
    part = pieces_of(triangles, outer)
    owner = np.tile(part, 3)
    return triangles[among(part, owner[among(_key(edges), _key(outer))])]


def pieces_of(triangles: Ints32, walls: Ints) -> Ints:
    """Numbers of what hangs together among triangles by edges that are no walls (k, 2)."""
    edges, rows = edges_of(triangles), np.tile(np.arange(len(triangles)), 3)
    keys = key_either(edges)
    free = ~among(keys, key_either(walls))
    order = np.argsort(keys[free], kind="stable")
    keys, rows = keys[free][order], rows[free][order]
    beside = np.flatnonzero(keys[1:] == keys[:-1])
    size = len(triangles), len(triangles)
    joined = scipy.sparse.coo_array((np.ones(len(beside)), (rows[beside], rows[beside + 1])), size)
    return np.asarray(scipy.sparse.csgraph.connected_components(joined, directed=False)[1], np.int64)


def replaced(m: Mended, gone: Ints, fresh: Ints32) -> Mended:
    """With some triangles gone and others at the end."""
    triangles = np.concatenate([m.triangles, fresh])
    triangles[gone] = 0
    return replace(m, triangles=triangles)


def fixed_more(m: Mended, pairs: Ints) -> Mended:
    """With more edges (k, 2) that stay."""
    both = np.concatenate([m.fixed, pairs])
    _, first = np.unique(key_either(both), return_index=True)
    return replace(m, fixed=both[np.sort(first)])


def with_levels(m: Mended, rows: Ints, z: Floats) -> Mended:
    """With other elevations (from the origin) of some vertices."""
    vertices = m.vertices.copy()
    vertices[rows, 2] = z
    return replace(m, vertices=vertices)


def triangles_at(m: Mended, rows: Ints) -> Ints:
    """The triangles that have one of some vertices (rows) as a corner."""
    near = window(m, *box_round(m.vertices[rows, :2]))
    return near[among(m.triangles[near], rows).any(axis=1)]


def used_by(m: Mended, rows: Ints) -> Ints:
    """The vertices of some triangles."""
    return distinct(m.triangles[rows])


# Vertices


def nearest_vertex(m: Mended, xy: Floats) -> int:
    """The vertex nearest to a place (2,) among those of the triangles there. Raises InputError outside of the surface."""
    place = m.local(np.asarray(xy)[None])[0]
    row = _triangle_at(m, place)
    corners = m.triangles[row]
    return int(corners[np.argmin(np.hypot(*(m.vertices[corners, :2] - place).T))])


def _triangle_at(m: Mended, place: Floats) -> int:
    near = window(m, place, place)
    for row in near.tolist():
        a, b, c = m.vertices[m.triangles[row], :2]
        sides = [(q - p)[0] * (place - p)[1] - (q - p)[1] * (place - p)[0] for p, q in ((a, b), (b, c), (c, a))]
        if min(sides) >= -SAME * m.width**2:
            return int(row)
    raise InputError("the surface has no triangle there")


def vertex_level(m: Mended, xy: Floats, z: float) -> Mended:
    """With the vertex nearest to a place (2,) at another elevation. Raises InputError outside of the surface."""
    return with_levels(m, np.array([nearest_vertex(m, xy)]), np.array([z - m.origin[2]]))


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
        return m if z is None else with_levels(m, corners[[np.argmin(near)]].astype(np.int64), np.array([level]))
    split = edge_under(m, m.triangles[row], place)
    hole = seeing(m, row, place, split)
    on = {} if split is None else {int(key_either(split[None])[0]): [len(m.vertices)]}
    return refitted(m, hole, Patch(np.append(place, level)[None], split=on))


def seeing(m: Mended, row: int, place: Floats, split: Ints | None = None) -> Ints:
    """The triangles round a place, in the one of a row, whose circle holds it and that no edge that stays parts from it."""
    reach = float(np.ptp(m.vertices[m.triangles[row], :2], axis=0).max())
    while True:
        near = window(m, place - reach, place + reach)
        hit = np.empty(len(near), np.bool_)
        in_circles(m.vertices, m.triangles[near], place[0], place[1], hit)
        found = _connected(m, np.union1d(near[hit], [row]), row, split)
        corners = m.vertices[m.triangles[found].ravel(), :2]
        # Whole when all of it, and so all beside it, was looked at.
        if np.abs(corners - place).max() < reach or reach > 2 * m.width:
            return found
        reach *= 2.0


def edge_under(m: Mended, corners: Ints32, place: Floats) -> Ints | None:
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
    edges = edges_of(triangles)
    owner = np.tile(hit, 3)
    fixed = set(key_either(m.fixed).tolist()) if len(m.fixed) else set()
    if split is not None:
        fixed.discard(int(key_either(split[None])[0]))
    by_edge: dict[int, list[int]] = {}
    for key, row in zip(key_either(edges).tolist(), owner.tolist(), strict=True):
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
    return refitted(m, triangles_at(m, rows), Patch(drop=np.asarray(rows, np.int64)))


def inside(m: Mended, ring: Floats) -> Ints:
    """The vertices in use inside a ring (n, 2) in job coordinates."""
    local = m.local(ring)
    rows = used_by(m, window(m, *box_round(local)))
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
    near = window(m, *box_round(m.vertices[[a, b], :2]))
    other = [r for r in near.tolist() if r != row and {a, b} <= set(m.triangles[r].tolist())]
    if not other:
        raise InputError("the edge there is one of the outline")
    if len(m.fixed) and key_either(np.array([[a, b]]))[0] in key_either(m.fixed):
        raise InputError("a break line keeps the edge there")
    d = next(int(v) for v in m.triangles[other[0]] if v not in (a, b))
    fresh = np.array([[c, a, d], [d, b, c]], np.int32)
    if (Tin(m.vertices, fresh, np.zeros(3)).plan_areas <= 0).any():
        raise InputError("the triangles beside the edge there leave no other way")
    return replaced(m, np.array([row, other[0]]), fresh)
