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
from scipy.spatial import QhullError, cKDTree

from kerb.core.arrays import Bytes, Floats, Ints, Mask
from kerb.core.cloud.classes import HIGH_VEGETATION, LOW_VEGETATION, MEDIUM_VEGETATION, UNCLASSIFIED
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.tin_kernels import locate

HEIGHT = "height_above_ground"
# What a height may say about: never classified, unclassified, vegetation. Buildings and water stay what they are.
VEGETATION = (LOW_VEGETATION, MEDIUM_VEGETATION, HIGH_VEGETATION)
OPEN_CLASSES = (0, UNCLASSIFIED, *VEGETATION)
HALO_SPACINGS = 8.0
CELLS_PER_TILE_SIDE = 8
NUDGE = 1e-3
EXACT = 1e-9


def heights(store: CloudStore, classes: tuple[int, ...], progress: Progress, tiled: bool = True) -> Floats:
    """Height above (below: negative) the Delaunay surface of the ground classes, (n,), in the unit of elevations.

    NaN outside the outline of the ground and for set-aside points. ``tiled=False`` takes the ground in one piece: it
    is slower and needs more memory, with the same result.

    Raises
    ------
    NotDeterminable, when the cloud has no classes or too few ground points; Cancelled.
    """
    ground = Ground.of(store, classes, progress.within(0.0, 0.2))
    result = np.full(store.count, np.nan)
    aside = store.aside()

    def some(rows: slice) -> None:
        xyz = np.asarray(store.xyz[rows])
        places = _nudged(store, xyz, ground.origin)
        over = places[:, 2] - ground.under(places[:, :2], tiled)
        if aside is not None:
            over[np.asarray(aside[rows]) != 0] = np.nan
        result[rows] = over

    pieces = [store.rows_of(tile) for tile in range(len(store.tiles))] if tiled else [slice(0, store.count)]
    each(some, pieces, progress.within(0.2, 1.0), "Heights above ground")
    return result


def banded(classes: Bytes, over: Floats, limits: tuple[float, float, float]) -> Bytes:
    """Classes (n,) with vegetation classes of the LAS standard by height: 3 from the first limit, 4 from the second, 5
    from the third. Points under the first, and of other classes than 0, 1, 3, 4 and 5, stay as they are."""
    result = np.array(classes, np.uint8)
    some = np.isin(classes, OPEN_CLASSES) & (over >= limits[0])
    result[some] = np.array(VEGETATION, np.uint8)[np.searchsorted(limits[1:], over[some], side="right")]
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
        order = np.lexsort((xyz[:, 2], xyz[:, 1], xyz[:, 0]))
        xyz = xyz[order]
        first = np.ones(len(xyz), np.bool_)
        first[1:] = (xyz[1:, :2] != xyz[:-1, :2]).any(axis=1)
        xyz = xyz[first]
        low, _ = store.bounds
        origin = np.floor(low)
        places = _nudged(store, xyz, origin)
        return _sorted(places, origin, _cell(store, places))

    @cached_property
    def spacing(self) -> float:
        """Typical distance between ground points."""
        return float(np.sqrt(np.prod(np.ptp(self.places[:, :2], axis=0)) / len(self.places)))

    @cached_property
    def tree(self) -> cKDTree:
        """All ground points in plan, for the test of circles that reach far."""
        return cKDTree(self.places[:, :2], balanced_tree=False, compact_nodes=False)

    @cached_property
    def box(self) -> tuple[Floats, Floats]:
        """Outline of all ground points in plan."""
        return self.places[:, :2].min(axis=0), self.places[:, :2].max(axis=0)

    def under(self, xy: Floats, tiled: bool) -> Floats:
        """Elevation of the ground under (n, 2) places that lie near each other, all from ``origin``; NaN outside it."""
        local = np.ascontiguousarray(xy)
        low, high = local.min(axis=0), local.max(axis=0)
        halo = HALO_SPACINGS * self.spacing if tiled else np.inf
        while True:
            box = (np.maximum(low - halo, self.box[0]), np.minimum(high + halo, self.box[1]))
            whole = bool((box[0] <= self.box[0]).all() and (box[1] >= self.box[1]).all())
            places = self.places if whole else self._within(box)
            z, used, outside = _interpolated(places, local)
            if whole or (used is not None and self._final(used, box, outside)):
                return z
            halo *= 4

    def _within(self, box: tuple[Floats, Floats]) -> Floats:
        columns, rows = self.shape
        first, last = (np.floor(corner / self.cell).astype(np.int64) for corner in box)
        c0, c1 = np.clip([first[0], last[0]], 0, columns - 1)
        r0, r1 = np.clip([first[1], last[1]], 0, rows - 1)
        pieces = [
            self.places[self.starts[r * columns + c0] : self.starts[r * columns + c1 + 1]] for r in range(r0, r1 + 1)
        ]
        places = np.concatenate(pieces)
        return places[((places[:, :2] >= box[0]) & (places[:, :2] <= box[1])).all(axis=1)]

    def _final(self, used: Floats, box: tuple[Floats, Floats], outside: Floats) -> bool:
        """Whether corners (m, 3, 2) are triangles of the whole ground, and places (k, 2) lie outside all of it."""
        if len(outside) and self._inside_outline(outside).any():
            return False
        centre, radius = _circles(used)
        low, high = centre - radius[:, None], centre + radius[:, None]
        known = (np.maximum(low, self.box[0]) >= box[0]) & (np.minimum(high, self.box[1]) <= box[1])
        left = np.nonzero(~known.all(axis=1))[0]
        if not len(left):
            return True
        nearest, _ = self.tree.query(centre[left])
        return bool((nearest >= radius[left] * (1 - EXACT)).all())

    def _inside_outline(self, places: Floats) -> Mask:
        inside: Mask = ((places[:, None] - self._outline) * self._normals).sum(axis=2).max(axis=1) < 0
        return inside

    @cached_property
    def _outline(self) -> Floats:
        from scipy.spatial import ConvexHull

        try:
            return np.asarray(self.places[ConvexHull(self.places[:, :2]).vertices, :2])
        except QhullError:
            raise NotDeterminable("the ground points lie on one line in plan, there is no surface of them") from None

    @cached_property
    def _normals(self) -> Floats:
        edge = np.roll(self._outline, -1, axis=0) - self._outline
        return np.column_stack([edge[:, 1], -edge[:, 0]])


def _nudged(store: CloudStore, xyz: Ints, origin: Floats) -> Floats:
    """Places (n, 3) from an origin, moved in plan by less than the resolution; equal places move alike."""
    places = (store.origin - origin) + xyz * store.scale
    places[:, :2] += _nudges(xyz[:, :2]) * NUDGE * store.scale[:2]
    return np.asarray(places)


def _nudges(xy: Ints) -> Floats:
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
    columns, rows = (int(n) + 1 for n in np.floor(places[:, :2].max(axis=0) / cell))
    at = np.clip(np.floor(places[:, :2] / cell).astype(np.int64), 0, None)
    number = at[:, 1] * columns + at[:, 0]
    order = np.argsort(number, kind="stable")
    starts = np.searchsorted(number[order], np.arange(columns * rows + 1))
    return Ground(np.ascontiguousarray(places[order]), origin, cell, (columns, rows), starts)


def _interpolated(places: Floats, xy: Floats) -> tuple[Floats, Floats | None, Floats]:
    """Elevation under places, corners (m, 3, 2) of the triangles used, and the places under none.

    Corners are None where there is no surface yet.
    """
    if len(places) < 3:
        return np.full(len(xy), np.nan), None, xy
    try:
        tin = triangulate(places)
    except NotDeterminable:
        return np.full(len(xy), np.nan), None, xy
    # Corners in the order of the ground points: then each triangle is computed alike in every tile.
    triangles = np.sort(tin.triangles, axis=1)
    vertices = places
    index = Tin(vertices, triangles, np.zeros(3)).index
    found, z = np.empty(len(xy), np.int32), np.empty(len(xy))
    locate(vertices, triangles, index.low, index.inverse, index.shape, index.starts, index.listed, xy, found, z)
    used = np.unique(found[found >= 0])
    return z, vertices[triangles[used], :2], xy[found < 0]


def _circles(corners: Floats) -> tuple[Floats, Floats]:
    """Centres (m, 2) and radii of the circumcircles of (m, 3, 2) corners."""
    a, b, c = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    double = 2 * (b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])
    bb, cc = (b**2).sum(axis=1), (c**2).sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        x, y = (c[:, 1] * bb - b[:, 1] * cc) / double, (b[:, 0] * cc - c[:, 0] * bb) / double
    centre = np.nan_to_num(np.column_stack([x, y]), nan=0.0, posinf=1e12, neginf=-1e12)
    return a + centre, np.hypot(*centre.T)
