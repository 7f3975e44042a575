"""Triangulated surfaces (TIN): constrained Delaunay from points and lines, elevation at a place, area, long edges."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pythoncdt
import shapely

from kerb.core.arrays import Floats, Ints, Ints32, Mask, ends
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.once import Once
from kerb.core.parallel import each, ranges
from kerb.core.surface.delaunay import Arranged, constrained, delaunay, doubles, triangulation
from kerb.core.surface.noding import GRIDS, noded
from kerb.core.surface.tin_kernels import boxes, elevations, index_triangles, merge, sizes, touched

MAX_INDEX_CELLS = 4_000_000
FAR_OUT = 4.0
ROUNDING = 1e-12
# Of the size of coordinates: what lies no farther from a line than this share touches it.
ON_LINE = 1e-9


@dataclass(frozen=True)
class TriangleIndex:
    """Which triangles touch each cell of a grid over the plan."""

    low: Floats
    inverse: float
    shape: Ints
    starts: Ints
    listed: Ints32


@dataclass(frozen=True)
class Tin:
    """A surface of triangles, one elevation for each place.

    ``vertices`` is (n, 3) in job coordinates relative to ``origin`` (3,); ``triangles`` is (m, 3) int32,
    counter-clockwise in plan.
    """

    vertices: Floats
    triangles: Ints32
    origin: Floats

    @property
    def points(self) -> Floats:
        """Vertices in job coordinates, (n, 3)."""
        return self.vertices + self.origin

    @Once
    def plan_areas(self) -> Floats:
        """Plan area of each triangle, (m,)."""
        return self._of_triangles(0)

    @property
    def plan_area(self) -> float:
        """Plan area of the whole surface."""
        return float(self.plan_areas.sum())

    @property
    def surface_area(self) -> float:
        """Area along the surface."""
        return float(self._of_triangles(1).sum())

    @Once
    def longest_edges(self) -> Floats:
        """Longest edge of each triangle in plan, (m,)."""
        return self._of_triangles(2)

    def _of_triangles(self, what: int) -> Floats:
        """Plan area, area along the surface, or longest edge in plan, (m,)."""
        out, vertices = np.empty(len(self.triangles)), np.ascontiguousarray(self.vertices)

        def some(span: tuple[int, int]) -> None:
            sizes(vertices, self.triangles[slice(*span)], what, out[slice(*span)])

        each(some, ranges(len(out), 200_000))
        return out

    @Once
    def boxes(self) -> Floats:
        """Lowest and highest plan corner of each triangle, (m, 4), relative to the origin."""
        out = np.empty((len(self.triangles), 4))
        each(
            lambda span: boxes(self.vertices, self.triangles[slice(*span)], out[slice(*span)]),
            ranges(len(out), 100_000),
        )
        return out

    @Once
    def index(self) -> TriangleIndex:
        """A grid over the triangles, made when first needed."""
        low, high = self._middle_ends()
        size = np.maximum(high - low, 1e-9)
        cells = min(max(len(self.triangles) / 2, 4_000), MAX_INDEX_CELLS)
        cell = float(np.sqrt(size[0] * size[1] / cells))
        cell = max(cell, float(size.max()) / MAX_INDEX_CELLS)
        shape = np.floor(size / cell).astype(np.int64) + 1
        # A table for each core: what one counts, the next begins after.
        pieces = ranges(len(self.triangles), 200_000, 1)
        counts = np.zeros((len(pieces), int(shape.prod())), np.int64)
        grid, none = (self.vertices, self.triangles, low, 1.0 / cell, shape), np.empty(0, np.int32)
        each(lambda k: index_triangles(*grid, *pieces[k], counts[k], none, False), range(len(pieces)))
        starts = np.concatenate([[0], np.cumsum(counts.sum(axis=0))])
        listed, at = np.empty(int(starts[-1]), np.int32), starts[:-1] + np.cumsum(counts, axis=0) - counts
        each(lambda k: index_triangles(*grid, *pieces[k], at[k], listed, True), range(len(pieces)))
        return TriangleIndex(low, 1.0 / cell, shape, starts, listed)

    def _middle_ends(self) -> tuple[Floats, Floats]:
        """Corners of a grid over the triangles: all of them, or most of them where a few reach far out.

        What lies further out belongs to the outermost cells.
        """
        low, high = ends(self.vertices[:, :2])
        if len(self.triangles) < 1000:
            return low, high
        middle = self.vertices[self.triangles[:: max(1, len(self.triangles) // 20_000)], :2].mean(axis=1)
        first, last = np.percentile(middle, [1, 99], axis=0)
        room = last - first
        far = (low < first - FAR_OUT * room) | (high > last + FAR_OUT * room)
        return np.where(far, np.maximum(low, first - room), low), np.where(far, np.minimum(high, last + room), high)

    def at(self, xy: Floats) -> Floats:
        """Elevations at (n, 2) places in job coordinates; NaN outside the surface."""
        out = np.empty(len(xy))
        local = np.ascontiguousarray(xy[:, :2] - self.origin[:2])
        index = self.index
        about = self.vertices, self.triangles, index.low, index.inverse, index.shape, index.starts, index.listed
        each(lambda span: elevations(*about, local[slice(*span)], out[slice(*span)]), ranges(len(out), 50_000))
        out += self.origin[2]
        return out

    def along(self, line: Floats) -> Tin:
        """The surface of the triangles that a line (n, 2) in job coordinates touches: without an index over all of them."""
        local, keep = np.ascontiguousarray(line[:, :2] - self.origin[:2]), np.empty(len(self.triangles), np.bool_)
        room = ON_LINE * float(np.abs(local).max())

        def some(span: tuple[int, int]) -> None:
            touched(self.vertices, self.triangles[slice(*span)], local, False, room, keep[slice(*span)])

        each(some, ranges(len(keep), 200_000))
        return self.only(keep)

    @staticmethod
    def of(points: Floats, triangles: Ints32) -> Tin:
        """A surface from vertices in job coordinates, (n, 3)."""
        origin = np.floor(ends(points)[0])
        return Tin(points - origin, triangles, origin)

    def only(self, keep: Mask) -> Tin:
        """The surface of some of its triangles."""
        return Tin(self.vertices, self.triangles[keep], self.origin)

    def compact(self, keep: Mask) -> Tin:
        """The surface of some of its triangles, without the vertices they do not use."""
        triangles = self.triangles[keep]
        used = np.zeros(len(self.vertices), np.bool_)
        used[triangles.ravel()] = True
        # Numbers in the order of the vertices, without sorting the corners of millions of triangles.
        number = (np.cumsum(used, dtype=np.int64) - 1).astype(np.int32)
        return Tin(self.vertices[used], number[triangles], self.origin)


def triangulate(
    points: Floats, ring: Floats | None = None, lines: Sequence[Floats] = (), holes: Sequence[Floats] = ()
) -> Tin:
    """Delaunay surface of (n, 3) points; with ``ring`` (k, 3) constrained to its line and cut off outside it.

    ``lines`` (k, 3 each) are breaklines that its edges follow; ``holes`` (k, 3 each) are closed lines without surface
    inside. A hole needs a ring round it.

    Lines that nearly coincide are snapped to a fine grid.

    Points on the same place in plan become one with their mean elevation. Where lines cross one another between
    places the triangulation is CDT's (Artem Amirkhanov, by way of ``pythoncdt``), else our own.

    Raises
    ------
    InputError, when there are holes without a ring or lines cannot be told apart;
    NotDeterminable, when fewer than three places remain or all lie on one line.
    """
    if holes and ring is None:
        raise InputError("a hole needs a line round the surface")
    rings = [] if ring is None else [ring, *holes]
    both = np.concatenate([*rings, *lines, points]) if rings or lines else points
    if len(both) < 3:
        raise NotDeterminable(f"a surface needs three points, there are {len(both)}")
    origin = np.floor(ends(both)[0])
    vertices, place, there = _merged(both - origin)
    if len(vertices) < 3 or (np.linalg.matrix_rank(vertices[:1000, :2] - vertices[0, :2]) < 2 and _on_line(vertices)):
        raise NotDeterminable("the points lie on one line in plan, there is no surface through them")
    edges = _edges(place, [len(line) for line in (*rings, *lines)], len(rings))
    walls = 0 if ring is None or holes else len(_edges(place, [len(ring)], 1))
    xy = vertices[:, :2]
    ours = constrained(xy, edges, walls, there) if len(edges) else delaunay(xy, there)
    crossing = ours is None
    if ours is None:
        try:
            vertices, ours = _with_library(vertices, edges, walls)
        except RuntimeError:
            # The library gives up on lines that nearly coincide.
            closed = [np.concatenate([line, line[:1]]) - origin for line in rings]
            vertices, ours = _with_snapped([*closed, *(line - origin for line in lines)], points - origin, origin)
    triangles = ours
    if (holes or crossing) and ring is not None and len(triangles):
        middle = vertices[triangles, :2].mean(axis=1)
        shape = shapely.Polygon(ring[:, :2] - origin[:2], [hole[:, :2] - origin[:2] for hole in holes])
        triangles = triangles[shapely.contains_xy(shape, middle)]
    if not len(triangles):
        where = "the points lie on one line in plan" if ring is None else "no triangle lies inside the line"
        raise NotDeterminable(where)
    return Tin(vertices, triangles, origin)


def _with_snapped(lines: list[Floats], points: Floats, origin: Floats) -> tuple[Floats, Ints32]:
    """Vertices and triangles that follow lines snapped to a grid, the finest that parts them; counted from an origin.

    Raises InputError naming the place, when none does.
    """
    low, high = ends(np.concatenate(lines)[:, :2])
    size = float((high - low).max())
    for grid in GRIDS:
        corners, pairs = noded(lines, grid * size)
        vertices, place, there = _merged(np.concatenate([corners, points]))
        edges = place[pairs]
        found = constrained(vertices[:, :2], edges[edges[:, 0] != edges[:, 1]], 0, there)
        if found is not None:
            return vertices, found
    east, north = lines[-1][0, :2] + origin[:2]
    raise InputError(f"lines lie too close to one another to be followed, such as near {east:.3f} E {north:.3f} N")


def _with_library(vertices: Floats, edges: Ints, walls: int) -> tuple[Floats, Ints32]:
    """Vertices and triangles where lines cross one another: the library puts a vertex on each crossing."""
    mesh = triangulation()
    mesh.insert_vertices(np.ascontiguousarray(vertices[:, :2]))  # type: ignore[call-overload]
    mesh.insert_edges(np.ascontiguousarray(edges, np.uint32))  # type: ignore[call-overload]
    if walls == len(edges):
        mesh.erase_outer_triangles()
    else:
        mesh.erase_super_triangle()
    triangles = np.asarray(mesh.triangles_array(copy=False)["vertices"]).astype(np.int32)
    if mesh.vertices_count() != len(vertices):
        vertices = _with_crossings(vertices, mesh)
    return vertices, triangles


def _edges(place: Ints, lengths: list[int], closed: int) -> Ints:
    """Pairs of vertices (n, 2) that lines of some lengths, the first of them closed, run along; ``place`` in order."""
    found, at = [np.empty((0, 2), np.int64)], 0
    for number, length in enumerate(lengths):
        corner = place[at : at + length]
        found.append(np.column_stack([corner, np.roll(corner, -1)])[: length if number < closed else length - 1])
        at += length
    edges = np.concatenate(found)
    return edges[edges[:, 0] != edges[:, 1]]


def _merged(local: Floats) -> tuple[Floats, Ints, Arranged]:
    """Vertices without doubles in plan, in the order given, elevations averaged; the vertex each given point became; and the
    vertices put in order."""
    there = Arranged.of(local[:, :2])
    first = doubles(there)
    if first is None:
        return np.ascontiguousarray(local), np.arange(len(local)), there
    n = len(local)
    place, vertices, many = np.empty(n, np.int64), np.empty((n, 3)), np.empty(n, np.int64)
    xy, order, keys = np.empty((n, 2)), np.empty(n, np.int64), np.empty_like(there.keys)
    count = int(merge(local, first, there.xy, there.order, there.keys, place, vertices, many, xy, order, keys))
    return vertices[:count], place, Arranged(xy[:count], there.whole, order[:count], keys[:count])


def _on_line(vertices: Floats) -> bool:
    """Whether the places stray from one line by no more than rounding does."""
    longest, shortest = np.linalg.svd(vertices[:, :2] - vertices[:, :2].mean(axis=0), compute_uv=False)
    return bool(shortest <= ROUNDING * longest)


def _with_crossings(vertices: Floats, mesh: pythoncdt.Triangulation) -> Floats:
    """Where constraint lines cross, the triangulation adds a vertex; give it the elevation of its nearest vertex."""
    table = mesh.vertices_array()
    added = np.column_stack([table["x"], table["y"]])[len(vertices) :]
    nearest = [int(np.argmin(np.hypot(*(vertices[:, :2] - place).T))) for place in added]
    return np.concatenate([vertices, np.column_stack([added, vertices[nearest, 2]])])
