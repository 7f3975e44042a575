"""Height of every point over the triangulated ground, the same to the last bit in one piece or tile by tile.

Up to some twenty million ground points are triangulated in one piece; of more, so that memory does not grow with the cloud, a
tile is triangulated with the ground around it. A triangle whose circumcircle holds no other ground point belongs to
the Delaunay triangulation of the whole ground, so each triangle that was used is tested for that, and the surroundings
grow until all pass. Ground points on a regular lattice have circles with four points on them, and no single
triangulation; moving every point by less than a thousandth of the coordinate resolution, always the same way, leaves
only one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import AnyArray, Bytes, Floats, Floats32, Ints, Ints32, Mask, ends
from kerb.core.cloud.classes import HIGH_VEGETATION, LOW_VEGETATION, MEDIUM_VEGETATION, UNCLASSIFIED
from kerb.core.cloud.heights_kernels import cell_numbers, keys_of_places, lowest_of_places, nudged
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.sets import paint
from kerb.core.cloud.store import CloudStore, needs_plan
from kerb.core.errors import NotDeterminable
from kerb.core.once import Once
from kerb.core.parallel import cores, each, ranges
from kerb.core.progress import Progress
from kerb.core.sorting import sorted_keys
from kerb.core.surface.delaunay import delaunay
from kerb.core.surface.tin import Tin
from kerb.core.surface.tin_kernels import locate, sort_rows

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
# So many ground points are triangulated in one piece, which takes some 200 bytes each.
MOST_WHOLE = 20_000_000
CELLS_PER_TILE_SIDE = 8
NUDGE = 1e-3
EXACT = 1e-9
# Ground whose points lie within so many steps of one line in plan spans no surface; a sample of so many tells.
LINE_STEPS, LOOKED_AT = 2.0, 500_000


@in_own_numbers
def heights(store: CloudStore, classes: tuple[int, ...], progress: Progress, tiled: bool | None = None) -> Floats:
    """Height above (below: negative) the Delaunay surface of the ground classes, (n,), in the unit of elevations.

    NaN outside the outline of the ground and for set-aside points. ``tiled`` says whether the ground
    is taken tile by tile, by its size when None: the result is the same.

    Raises
    ------
    NotDeterminable, when the cloud has no classes or too few ground points; Cancelled.
    """
    needs_plan(store)
    ground, result = Ground.of(store, classes, progress.within(0.0, 0.2))
    _check_spread(ground.places[:, :2], float(np.max(store.scale[:2])))
    known = np.isfinite(result)
    aside = store.aside()
    whole = ground.whole() if not (len(ground.places) > MOST_WHOLE if tiled is None else tiled) else None
    progress.step(0.4 if whole else 0.2, "Heights above ground")

    def some(tiles: Ints) -> None:
        rows = np.concatenate([np.arange(*store.rows_of(int(tile)).indices(store.count)) for tile in tiles])
        rows = rows[~known[rows]]
        if not len(rows):
            return
        places = _nudged(store, np.asarray(store.xyz[rows]), ground.origin)
        xy = np.ascontiguousarray(places[:, :2])
        result[rows] = places[:, 2] - (ground.under(xy) if whole is None else whole.under(xy))

    each(some, _blocks(store), progress.within(0.4 if whole else 0.2, 1.0), "Heights above ground")
    if aside is not None:
        result[np.asarray(aside) != 0] = np.nan
    return result


def _check_spread(places: Floats, step: float) -> None:
    """Raises NotDeterminable, when all ground lies on one line in plan, as a scanned wall does: it spans no surface."""
    if len(places) < 3:
        return
    some = places[:: max(1, len(places) // LOOKED_AT)]
    apart = some - some.mean(axis=0)
    across = np.linalg.eigh(apart.T @ apart)[1][:, 0]
    if float(np.ptp(apart @ across)) <= LINE_STEPS * step:
        raise NotDeterminable("the points lie on one line in plan, there is no surface through them")


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
    def of(store: CloudStore, classes: tuple[int, ...], progress: Progress) -> tuple[Ground, Floats]:
        """The ground points of a cloud, and how high each of them lies over the lowest at its place, (n,), NaN for other points.

        Raises NotDeterminable; Cancelled.
        """
        if not store.has("classification"):
            raise NotDeterminable("the cloud has no classes; find the ground first")
        column, aside = store.column("classification"), store.aside()
        wanted = np.zeros(256, np.bool_)
        wanted[list(classes)] = True

        def of_tile(tile: int) -> Ints:
            rows = store.rows_of(tile)
            ground = wanted[column[rows]]
            if aside is not None:
                ground &= np.asarray(aside[rows]) == 0
            return np.flatnonzero(ground) + rows.start

        rows = np.concatenate(each(of_tile, range(len(store.tiles)), progress, "Reading the ground"))
        if len(rows) < 3:
            named = " and ".join(map(str, classes))
            raise NotDeterminable(f"class {named} has {len(rows)} points; a ground surface needs three")
        xyz, over = _lowest_of_each_place(np.asarray(store.xyz[rows]))
        heights = np.full(store.count, np.nan)
        heights[rows] = over * store.scale[2]
        low, _ = store.bounds
        origin = np.floor(low)
        places = _nudged(store, xyz, origin)
        return _sorted(places, origin, _cell(store, places)), heights

    def whole(self) -> _Surface:
        """The triangulation of all of it. Raises NotDeterminable, when it has none."""
        surface = _Surface.of(self, np.arange(len(self.places)), np.empty((0, 2)))
        if not len(surface.triangles):
            raise NotDeterminable("the ground points lie on one line in plan, there is no surface of them")
        return surface

    @Once
    def spacing(self) -> float:
        """Typical distance between ground points."""
        return float(np.sqrt(np.prod(np.ptp(self.places[:, :2], axis=0)) / len(self.places)))

    @Once
    def tree(self) -> scipy.spatial.cKDTree:
        """All ground points in plan, for the test of circles that reach far."""
        return scipy.spatial.cKDTree(self.places[:, :2], balanced_tree=False, compact_nodes=False)

    @Once
    def box(self) -> tuple[Floats, Floats]:
        """Outline of all ground points in plan."""
        return ends(self.places[:, :2])

    def under(self, xy: Floats) -> Floats:
        """Elevation of the ground under (n, 2) places that lie near each other, all from ``origin``; NaN outside it."""
        local = np.ascontiguousarray(xy)
        low, high = ends(local)
        halo = self._halo(low, high)
        box = (np.maximum(low - halo, self.box[0]), np.minimum(high + halo, self.box[1]))
        surface = _Surface.of(self, self._within(box), local)
        unsure, bad = surface.unsure(box)
        z = surface.z
        if unsure.any():
            z[unsure] = self._repaired(local[unsure], surface.corner_rows(bad))
        return z

    def _repaired(self, xy: Floats, rows: Ints) -> Floats:
        """Elevation under places whose triangle reaches out of their surroundings.

        Ground points that lie deepest in the circles of such triangles are added until no circle holds any more: what
        is left are triangles of the whole ground, found from a small part of it.
        """
        rows = np.union1d(rows, self._outline_rows)
        z = np.full(len(xy), np.nan)
        todo = np.arange(len(xy))
        for _ in range(MOST_REPAIRS):
            surface = _Surface.of(self, rows, xy[todo])
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
        z[todo] = _Surface.of(self, np.arange(len(self.places)), xy[todo]).z
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

    @Once
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

    @Once
    def _outline_rows(self) -> Ints:

        try:
            return np.asarray(scipy.spatial.ConvexHull(self.places[:, :2]).vertices, np.int64)
        except scipy.spatial.QhullError:
            raise NotDeterminable("the ground points lie on one line in plan, there is no surface of them") from None

    @Once
    def _outline(self) -> Floats:
        return np.asarray(self.places[self._outline_rows, :2])

    @Once
    def _normals(self) -> Floats:
        edge = np.roll(self._outline, -1, axis=0) - self._outline
        return np.column_stack([edge[:, 1], -edge[:, 0]])


def _sort_corners(triangles: Ints32) -> None:
    """Let each triangle (m, 3) name its corners by rising row."""
    each(lambda span: sort_rows(triangles[slice(*span)]), ranges(len(triangles), 500_000))


def _lowest_of_each_place(xyz: Ints32) -> tuple[Ints32, Ints]:
    """Integer places (m, 3), one for each easting and northing, with the lowest elevation there, by easting; and how far each
    one given lies over that of its place."""
    east, north = (int(xyz[:, axis].min()) for axis in (0, 1))
    keys = np.empty(len(xyz), np.uint64)
    each(lambda span: keys_of_places(xyz[slice(*span)], east, north, keys[slice(*span)]), ranges(len(xyz), 100_000))
    order, keys = sorted_keys(keys)
    lowest, over = np.empty_like(xyz), np.empty(len(xyz), np.int64)
    return lowest[: int(lowest_of_places(xyz, order, keys, lowest, over))].copy(), over


def _nudged(store: CloudStore, xyz: Ints32, origin: Floats) -> Floats:
    """Places (n, 3) from an origin, moved in plan by less than the resolution; equal places move alike."""
    places = np.empty((len(xyz), 3))
    start = store.origin - origin
    each(
        lambda span: nudged(xyz[slice(*span)], start, store.scale, NUDGE, places[slice(*span)]),
        ranges(len(xyz), 100_000),
    )
    return places


def _cell(store: CloudStore, places: Floats) -> float:
    side = float(np.median((store.tiles["high"] - store.tiles["low"])[:, :2].max(axis=1)))
    size = np.ptp(places[:, :2], axis=0)
    return max(side / CELLS_PER_TILE_SIDE, float(np.sqrt(np.prod(size) / 4_000_000)), float(size.max()) / 4000, 1e-6)


def _sorted(places: Floats, origin: Floats, cell: float) -> Ground:
    columns, rows = (int(n) + 1 for n in np.floor(ends(places[:, :2])[1] / cell))
    numbers = np.empty(len(places), np.uint64)
    each(
        lambda span: cell_numbers(places[slice(*span)], cell, columns, numbers[slice(*span)]),
        ranges(len(places), 100_000),
    )
    order, numbers = sorted_keys(numbers)
    starts = np.searchsorted(numbers, np.arange(columns * rows + 1, dtype=np.uint64))
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
    tin: Tin | None = None

    @staticmethod
    def of(ground: Ground, rows: Ints, xy: Floats) -> _Surface:
        """Triangulate the ground points of some rows and look under places (n, 2)."""
        found, z = np.full(len(xy), -1, np.int32), np.full(len(xy), np.nan)
        places = np.ascontiguousarray(ground.places[rows])
        try:
            triangles = delaunay(places[:, :2])
            _sort_corners(triangles)
        except NotDeterminable:
            return _Surface(ground, rows, xy, np.empty((0, 3), np.int32), found, z)
        surface = _Surface(ground, rows, xy, triangles, found, z, Tin(places, triangles, np.zeros(3)))
        surface.look(xy, found, z)
        return surface

    def look(self, xy: Floats, found: Ints32, z: Floats) -> None:
        """Fill in the triangle under each of (n, 2) places, and the elevation there."""
        assert self.tin is not None
        index = self.tin.index
        about = index.low, index.inverse, index.shape, index.starts, index.listed
        locate(self.tin.vertices, self.triangles, *about, xy, found, z)

    def under(self, xy: Floats) -> Floats:
        """Elevation of the surface under (n, 2) places; NaN outside it."""
        z = np.full(len(xy), np.nan)
        self.look(xy, np.empty(len(xy), np.int32), z)
        return z

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
