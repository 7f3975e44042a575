"""Height of every point over the triangulated ground, tile by tile, the same to the last bit as if done in one piece.

A tile is triangulated with the ground around it. A triangle whose circumcircle holds no other ground point belongs to
the Delaunay triangulation of the whole ground, so each triangle that was used is tested for that, and the surroundings
grow until all pass. Ground points on a regular lattice have circles with four points on them, and no single
triangulation; moving every point by less than a thousandth of the coordinate resolution, always the same way, leaves
only one.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from kerb.core.arrays import AnyArray, Bytes, Floats, Floats32, Ints, Ints32, Mask
from kerb.core.cloud.classes import HIGH_VEGETATION, LOW_VEGETATION, MEDIUM_VEGETATION, UNCLASSIFIED
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.sets import paint
from kerb.core.cloud.store import CloudStore, needs_plan
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import cores, each, ranges
from kerb.core.progress import Progress
from kerb.core.surface.elsewhere import Triangulators
from kerb.core.surface.tin import Tin, ends
from kerb.core.surface.tin_kernels import locate

HEIGHT = "height_above_ground"
# What a height may say about: never classified, unclassified, vegetation. Buildings and water stay what they are.
VEGETATION = (LOW_VEGETATION, MEDIUM_VEGETATION, HIGH_VEGETATION)
OPEN_CLASSES = (0, UNCLASSIFIED, *VEGETATION)
HALO_SPACINGS = 8.0
MOST_HALO = 0.5
MOST_GAP_CELLS = 4_000_000
BLOCK_POINTS = 800_000
REPAIR_POINTS = 32
MOST_REPAIRS = 60
CELLS_PER_TILE_SIDE = 8
NUDGE = 1e-3
EXACT = 1e-9


@in_own_numbers
def heights(store: CloudStore, classes: tuple[int, ...], progress: Progress, tiled: bool = True) -> Floats:
    """Height above (below: negative) the Delaunay surface of the ground classes, (n,), in the unit of elevations.

    NaN outside the outline of the ground and for set-aside points. ``tiled=False`` takes the ground in one piece: it
    is slower and needs more memory, with the same result.

    Raises
    ------
    NotDeterminable, when the cloud has no classes or too few ground points; Cancelled.
    """
    needs_plan(store)
    ground = Ground.of(store, classes, progress.within(0.0, 0.2))
    result = np.full(store.count, np.nan)
    aside = store.aside()

    def some(tiles: Ints) -> None:
        spans = [store.rows_of(int(tile)) for tile in tiles]
        places = _nudged(store, np.concatenate([store.xyz[rows] for rows in spans]), ground.origin)
        over = places[:, 2] - ground.under(places[:, :2], tiled, helpers)
        at = 0
        for rows in spans:
            result[rows] = over[at : at + rows.stop - rows.start]
            at += rows.stop - rows.start

    blocks = _blocks(store) if tiled else [np.arange(len(store.tiles))]
    with Triangulators() as helpers:
        each(some, blocks, progress.within(0.2, 1.0), "Heights above ground")
    if aside is not None:
        result[np.asarray(aside) != 0] = np.nan
    return result


def banded(classes: Bytes, over: Floats, limits: tuple[float, float, float]) -> Bytes:
    """Classes (n,) with vegetation classes of the LAS standard by height: 3 from the first limit, 4 from the second, 5
    from the third. Points under the first, and of other classes than 0, 1, 3, 4 and 5, stay as they are."""
    result = np.array(classes, np.uint8)
    open_ = np.zeros(256, np.bool_)
    open_[list(OPEN_CLASSES)] = True

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        free, height = open_[classes[rows]], over[rows]
        for limit, code in zip(limits, VEGETATION, strict=True):
            paint(result[rows], free & (height >= limit), code)

    each(some, ranges(len(classes), least=500_000))
    return result


@dataclass(frozen=True)
class Ground:
    """Ground points, one for each place in plan (the lowest), sorted by the cells of a grid.

    ``places`` (n, 3) are relative to ``origin`` and nudged; ``starts`` are the first point of each cell of ``shape``
    (columns of easting, rows of northing), row after row.
    """

    places: Floats
    origin: Floats
    cell: float
    shape: tuple[int, int]
    starts: Ints

    @staticmethod
    def of(store: CloudStore, classes: tuple[int, ...], progress: Progress) -> Ground:
        """The ground points of a cloud. Raises NotDeterminable; Cancelled."""
        if not store.has("classification"):
            raise NotDeterminable("the cloud has no classes; find the ground first")
        column, aside = store.column("classification"), store.aside()
        kept = []
        for tile in range(len(store.tiles)):
            progress.step(tile / len(store.tiles), "Reading the ground")
            rows = store.rows_of(tile)
            ground = np.isin(column[rows], classes)
            if aside is not None:
                ground &= np.asarray(aside[rows]) == 0
            kept.append(np.asarray(store.xyz[rows])[ground])
        xyz = np.concatenate(kept)
        if len(xyz) < 3:
            named = " and ".join(map(str, classes))
            raise NotDeterminable(f"class {named} has {len(xyz)} points; a ground surface needs three")
        xyz = _lowest_of_each_place(xyz)
        low, _ = store.bounds
        origin = np.floor(low)
        places = _nudged(store, xyz, origin)
        return _sorted(places, origin, _cell(store, places))

    @cached_property
    def spacing(self) -> float:
        """Typical distance between ground points."""
        return float(np.sqrt(np.prod(np.ptp(self.places[:, :2], axis=0)) / len(self.places)))

    @cached_property
    def tree(self) -> scipy.spatial.cKDTree:
        """All ground points in plan, for the test of circles that reach far."""
        return scipy.spatial.cKDTree(self.places[:, :2], balanced_tree=False, compact_nodes=False)

    @cached_property
    def box(self) -> tuple[Floats, Floats]:
        """Outline of all ground points in plan."""
        return ends(self.places[:, :2])

    def under(self, xy: Floats, tiled: bool, helpers: Triangulators) -> Floats:
        """Elevation of the ground under (n, 2) places that lie near each other, all from ``origin``; NaN outside it."""
        local = np.ascontiguousarray(xy)
        if not tiled:
            return _Surface.of(self, np.arange(len(self.places)), local, helpers).z
        low, high = ends(local)
        halo = self._halo(low, high)
        box = (np.maximum(low - halo, self.box[0]), np.minimum(high + halo, self.box[1]))
        surface = _Surface.of(self, self._within(box), local, helpers)
        unsure, bad = surface.unsure(box)
        z = surface.z
        if unsure.any():
            z[unsure] = self._repaired(local[unsure], surface.corner_rows(bad), helpers)
        return z

    def _repaired(self, xy: Floats, rows: Ints, helpers: Triangulators) -> Floats:
        """Elevation under places whose triangle reaches out of their surroundings.

        Ground points that lie deepest in the circles of such triangles are added until no circle holds any more: what
        is left are triangles of the whole ground, found from a small part of it.
        """
        rows = np.union1d(rows, self._outline_rows)
        z = np.full(len(xy), np.nan)
        todo = np.arange(len(xy))
        for _ in range(MOST_REPAIRS):
            surface = _Surface.of(self, rows, xy[todo], helpers)
            unsure, bad = surface.unsure(None)
            z[todo[~unsure]] = surface.z[~unsure]
            if not unsure.any():
                return z
            centre, radius = _circles(surface.corners(bad))
            away, near = map(np.asarray, self.tree.query(centre, k=min(REPAIR_POINTS, len(self.places))))
            more = near[away < radius[:, None]]
            lost = xy[todo[unsure & (surface.found < 0)]]
            if len(lost):
                _, beside = map(np.asarray, self.tree.query(lost, k=min(REPAIR_POINTS, len(self.places))))
                more = np.union1d(more, beside.ravel())
            grown = np.union1d(rows, more)
            if len(grown) == len(rows):
                break
            rows, todo = grown, todo[unsure]
        z[todo] = _Surface.of(self, np.arange(len(self.places)), xy[todo], helpers).z
        return z

    def _halo(self, low: Floats, high: Floats) -> float:
        """How far round a box ground is taken at first: twice the reach of the widest gap in it, within reason.

        A circle through three ground points with none inside has a radius of half a gap's width at most.
        """
        grid, cell = self._gaps
        first = np.clip(np.floor(low / cell).astype(int), 0, np.array(grid.shape)[::-1] - 1)
        last = np.clip(np.floor(high / cell).astype(int), 0, np.array(grid.shape)[::-1] - 1)
        widest = float(grid[first[1] : last[1] + 1, first[0] : last[0] + 1].max())
        most = MOST_HALO * float((high - low).max())
        return max(HALO_SPACINGS * self.spacing, min(2 * widest + cell, most))

    @cached_property
    def _gaps(self) -> tuple[Floats32, float]:
        """Distance to the next ground point for the cells of a grid (rows of northing), and the cell."""
        size = self.box[1]
        cell = max(2 * self.spacing, float(np.sqrt(max(float(np.prod(size)), 1e-12) / MOST_GAP_CELLS)), 1e-6)
        columns, rows = (int(n) + 1 for n in np.floor(size / cell))
        empty = np.ones((rows, columns), np.bool_)
        at = np.floor(self.places[:, :2] / cell).astype(np.int64)
        empty[at[:, 1], at[:, 0]] = False
        return (scipy.ndimage.distance_transform_edt(empty) * cell).astype(np.float32), cell

    def _within(self, box: tuple[Floats, Floats]) -> Ints:
        """Rows of the ground points in a box, rising."""
        columns, rows = self.shape
        first, last = (np.floor(corner / self.cell).astype(np.int64) for corner in box)
        c0, c1 = np.clip([first[0], last[0]], 0, columns - 1)
        r0, r1 = np.clip([first[1], last[1]], 0, rows - 1)
        near = np.concatenate(
            [np.arange(self.starts[r * columns + c0], self.starts[r * columns + c1 + 1]) for r in range(r0, r1 + 1)]
        )
        places = self.places[near, :2]
        (x0, y0), (x1, y1) = box
        x, y = places[:, 0], places[:, 1]
        return near[(x >= x0) & (x <= x1) & (y >= y0) & (y <= y1)]

    def holds(self, centre: Floats, radius: Floats) -> Mask:
        """Which circles, centres (m, 2) and radii (m,), hold a ground point."""
        nearest, _ = self.tree.query(centre)
        return np.asarray(nearest < radius * (1 - EXACT))

    def inside_outline(self, places: Floats) -> Mask:
        """Which places (k, 2) lie inside the outline of all ground points."""
        inside: Mask = ((places[:, None] - self._outline) * self._normals).sum(axis=2).max(axis=1) < 0
        return inside

    @cached_property
    def _outline_rows(self) -> Ints:

        try:
            return np.asarray(scipy.spatial.ConvexHull(self.places[:, :2]).vertices, np.int64)
        except scipy.spatial.QhullError:
            raise NotDeterminable("the ground points lie on one line in plan, there is no surface of them") from None

    @cached_property
    def _outline(self) -> Floats:
        return np.asarray(self.places[self._outline_rows, :2])

    @cached_property
    def _normals(self) -> Floats:
        edge = np.roll(self._outline, -1, axis=0) - self._outline
        return np.column_stack([edge[:, 1], -edge[:, 0]])


def _lowest_of_each_place(xyz: Ints32) -> Ints32:
    """Integer places (m, 3), one for each easting and northing, with the lowest elevation there, by easting."""
    whole = xyz[:, :2].astype(np.int64)
    # Two numbers of 32 bits as one: sorted at once, many times faster than by one after the other.
    key = (whole[:, 0] << 32) | (whole[:, 1] + 2**31)
    order = np.argsort(key)
    key = key[order]
    first = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
    lowest = xyz[order[first]].copy()
    lowest[:, 2] = np.minimum.reduceat(xyz[order, 2], first)
    return lowest


def _nudged(store: CloudStore, xyz: Ints | Ints32, origin: Floats) -> Floats:
    """Places (n, 3) from an origin, moved in plan by less than the resolution; equal places move alike."""
    places = (store.origin - origin) + xyz * store.scale
    places[:, :2] += _nudges(xyz[:, :2]) * NUDGE * store.scale[:2]
    return np.asarray(places)


def _nudges(xy: Ints | Ints32) -> Floats:
    """A number from -½ to ½ for each integer place and axis, (n, 2), that looks random and is always the same."""
    mixed = xy[:, 0].astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) ^ xy[:, 1].astype(np.uint64) * np.uint64(
        0xC2B2AE3D27D4EB4F
    )
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        mixed = (mixed ^ (mixed >> np.uint64(shift))) * np.uint64(factor)
    mixed ^= mixed >> np.uint64(31)
    both = np.column_stack([mixed & np.uint64(0xFFFFFFFF), mixed >> np.uint64(32)])
    return both / 2.0**32 - 0.5


def _cell(store: CloudStore, places: Floats) -> float:
    side = float(np.median((store.tiles["high"] - store.tiles["low"])[:, :2].max(axis=1)))
    size = np.ptp(places[:, :2], axis=0)
    return max(side / CELLS_PER_TILE_SIDE, float(np.sqrt(np.prod(size) / 4_000_000)), float(size.max()) / 4000, 1e-6)


def _sorted(places: Floats, origin: Floats, cell: float) -> Ground:
    columns, rows = (int(n) + 1 for n in np.floor(ends(places[:, :2])[1] / cell))
    at = np.clip(np.floor(places[:, :2] / cell).astype(np.int64), 0, None)
    number = at[:, 1] * columns + at[:, 0]
    order = np.argsort(number, kind="stable")
    starts = np.searchsorted(number[order], np.arange(columns * rows + 1))
    return Ground(np.ascontiguousarray(places[order]), origin, cell, (columns, rows), starts)


def _blocks(store: CloudStore) -> list[Ints]:
    """Tiles in groups that lie together in plan, of about as many points each: their surroundings are shared."""
    most = min(BLOCK_POINTS, max(store.count // (2 * cores()), 1))
    middle = (store.tiles["low"] + store.tiles["high"])[:, :2] / 2
    todo, done = [np.arange(len(store.tiles))], []
    while todo:
        tiles = todo.pop()
        if len(tiles) == 1 or store.tiles["count"][tiles].sum() <= most:
            done.append(tiles)
            continue
        axis = int(np.argmax(np.ptp(middle[tiles], axis=0)))
        order = tiles[np.argsort(middle[tiles, axis], kind="stable")]
        todo += [order[: len(order) // 2], order[len(order) // 2 :]]
    return done


@dataclass
class _Surface:
    """The triangulation of some ground points and what lies under places: triangle ``found`` (-1: none) and ``z``.

    ``rows`` are the ground points, rising, so that each triangle names its corners, and is computed, alike everywhere.
    """

    ground: Ground
    rows: Ints
    xy: Floats
    triangles: Ints32
    found: Ints32
    z: Floats

    @staticmethod
    def of(ground: Ground, rows: Ints, xy: Floats, helpers: Triangulators) -> _Surface:
        """Triangulate the ground points of some rows and look under places (n, 2)."""
        found, z = np.full(len(xy), -1, np.int32), np.full(len(xy), np.nan)
        places = np.ascontiguousarray(ground.places[rows])
        try:
            triangles = np.sort(helpers.triangles(places[:, :2]), axis=1)
        except NotDeterminable:
            return _Surface(ground, rows, xy, np.empty((0, 3), np.int32), found, z)
        index = Tin(places, triangles, np.zeros(3)).index
        locate(places, triangles, index.low, index.inverse, index.shape, index.starts, index.listed, xy, found, z)
        return _Surface(ground, rows, xy, triangles, found, z)

    def corners(self, triangles: Ints) -> Floats:
        """Corners (m, 3, 2) of some triangles in plan."""
        return np.asarray(self.ground.places[self.corner_rows(triangles).reshape(-1, 3), :2])

    def corner_rows(self, triangles: Ints) -> Ints:
        """Rows of the ground points that are corners of some triangles, (3 m,)."""
        return self.rows[self.triangles[triangles]].ravel()

    def unsure(self, box: tuple[Floats, Floats] | None) -> tuple[Mask, Ints]:
        """Places (n,) whose triangle is none of the whole ground, or may be under one, and these triangles.

        All ground points in ``box`` are among those triangulated.
        """
        seen = np.zeros(len(self.triangles) + 1, np.bool_)
        seen[self.found] = True  # -1, under no triangle, is the last
        used = np.flatnonzero(seen[:-1])
        centre, radius = _circles(self.corners(used))
        left: AnyArray = np.ones(len(used), np.bool_)
        if box is not None:
            low, high = centre - radius[:, None], centre + radius[:, None]
            edge = self.ground.box
            inside = (np.maximum(low, edge[0]) >= box[0]) & (np.minimum(high, edge[1]) <= box[1])
            left = ~(inside[:, 0] & inside[:, 1])
        bad = used[left]
        if len(bad):
            bad = bad[self.ground.holds(centre[left], radius[left])]
        seen[:] = False
        seen[bad] = True
        unsure: AnyArray = seen[self.found]
        lost = np.flatnonzero(self.found < 0)
        if len(lost):
            unsure[lost] = self.ground.inside_outline(self.xy[lost])
        return np.asarray(unsure, np.bool_), bad


def _circles(corners: Floats) -> tuple[Floats, Floats]:
    """Centres (m, 2) and radii of the circumcircles of (m, 3, 2) corners."""
    a, b, c = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    double = 2 * (b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])
    bb, cc = (b**2).sum(axis=1), (c**2).sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        x, y = (c[:, 1] * bb - b[:, 1] * cc) / double, (b[:, 0] * cc - c[:, 0] * bb) / double
    centre = np.nan_to_num(np.column_stack([x, y]), nan=0.0, posinf=1e12, neginf=-1e12)
    return a + centre, np.hypot(*centre.T)
