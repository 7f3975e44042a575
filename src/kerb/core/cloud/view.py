"""A narrowed look at a store: by box, polygon, classes, part and filters, tile by tile.

What is set aside is left out unless asked for. Nothing is copied until points are asked for.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.filters import Filter, holds
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view_kernels import drop_outside
from kerb.core.geometry import polygon
from kerb.core.geometry.area import Area, inside_any
from kerb.core.parallel import each
from kerb.core.progress import Progress, silent

PART = "part"
# The flag of LAS for points that shall not count (ASPRS LAS 1.4 R15, table 9: "deleted").
WITHHELD = "withheld"
# No coordinate of a store is larger, in its steps.
LARGEST = 2.0**31 - 1


@dataclass(frozen=True)
class Narrowing:
    """Which points are meant. Everything left at None does not narrow."""

    box: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    ring: Floats | None = None
    classes: tuple[int, ...] | None = None
    part: int | None = None
    filters: tuple[Filter, ...] = ()
    areas: tuple[Area, ...] = ()
    with_aside: bool = False
    with_withheld: bool = False


class CloudView:
    """Points of a store that a :class:`Narrowing` keeps."""

    def __init__(self, store: CloudStore, narrowing: Narrowing | None = None) -> None:
        self.store = store
        self.narrowing = narrowing or Narrowing()
        self.tiles = self._touched()

    def rows(self, progress: Progress | None = None) -> Iterator[Ints]:
        """Row numbers in the store, a tile at a time. Raises Cancelled."""
        watch = progress or silent()
        for done, tile in enumerate(self.tiles):
            watch.step(done / len(self.tiles), "Selecting points")
            kept = self._kept(int(tile))
            if len(kept):
                yield kept

    def all_rows(self, progress: Progress | None = None) -> Ints:
        """All row numbers, in store order. Raises Cancelled."""
        kept = each(self._kept, [int(tile) for tile in self.tiles], progress, "Selecting points")
        return np.concatenate(kept) if kept else np.empty(0, np.int64)

    def points(self, progress: Progress | None = None) -> Floats:
        """Coordinates, (n, 3) float64, in the cloud's unit. Raises Cancelled."""
        pieces = each(
            lambda tile: self.store.coordinates(self._kept(tile)),
            [int(tile) for tile in self.tiles],
            progress,
            "Reading points",
        )
        return np.concatenate(pieces) if pieces else np.empty((0, 3))

    def count(self, progress: Progress | None = None) -> int:
        """Number of points kept. Raises Cancelled."""
        return sum(each(lambda tile: len(self._kept(tile)), [int(t) for t in self.tiles], progress, "Counting"))

    def sample(self, k: int) -> Floats:
        """A fair sample of about ``k`` points (never more), in time proportional to ``k`` and the tiles touched.

        The first points of each tile are a fair sample of it, so each tile gives its share of the whole.
        """
        counts = self.store.tiles["count"][self.tiles]
        total = int(counts.sum())
        if total == 0 or k <= 0:
            return np.empty((0, 3))
        share = min(1.0, k / total)
        pieces = []
        for tile, count in zip(self.tiles, counts, strict=True):
            first = int(self.store.tiles["first"][tile])
            some = np.arange(first, first + int(np.ceil(count * share)))
            pieces.append(self.store.coordinates(some[self._keep(some, int(tile))]))
        found = np.concatenate(pieces)
        if len(found) > k:
            found = found[np.random.default_rng(0).choice(len(found), k, replace=False)]
        return found

    def _touched(self) -> Ints:
        tiles = self.store.tiles
        keep = np.ones(len(tiles), bool)
        if self.narrowing.box is not None:
            low, high = (np.array(corner) for corner in self.narrowing.box)
            keep &= np.all(tiles["high"] >= low, axis=1) & np.all(tiles["low"] <= high, axis=1)
        if self.narrowing.ring is not None:
            keep &= shapely.intersects(self._shape(), self._boxes())
        if self.narrowing.areas:
            touched = [shapely.intersects(area.shape, self._boxes()) for area in self.narrowing.areas]
            keep &= np.any(touched, axis=0)
        return np.flatnonzero(keep)

    def _shape(self) -> shapely.Polygon:
        ring = self.narrowing.ring
        assert ring is not None
        shape = shapely.Polygon(ring[:, :2])
        shapely.prepare(shape)
        return shape

    def _boxes(self) -> np.ndarray:
        tiles = self.store.tiles
        low, high = tiles["low"], tiles["high"]
        return np.asarray(shapely.box(low[:, 0], low[:, 1], high[:, 0], high[:, 1]))

    def _kept(self, tile: int) -> Ints:
        rows = self.store.rows_of(tile)
        every = np.arange(rows.start, rows.stop)
        return every[self._keep(rows, tile)]

    def _keep(self, rows: slice | Ints, tile: int) -> Mask:
        """Which of the given rows of a tile are kept."""
        store, narrow = self.store, self.narrowing
        size = rows.stop - rows.start if isinstance(rows, slice) else len(rows)
        keep = np.ones(size, bool)
        aside = None if narrow.with_aside else store.aside()
        if aside is not None:
            keep &= aside[rows] == 0
        if not narrow.with_withheld and WITHHELD in store.names:
            keep &= np.asarray(store.column(WITHHELD)[rows]) == 0
        if narrow.classes is not None and store.has("classification"):
            keep &= np.isin(store.column("classification")[rows], narrow.classes)
        if narrow.part is not None:
            keep &= store.column(PART)[rows] == narrow.part
        for condition in narrow.filters:
            if condition.on:
                keep &= holds(store, condition, rows)
        if narrow.box is not None and not self._tile_within_box(tile):
            self._drop_far(rows, keep)
            near = np.flatnonzero(keep)
            points = store.coordinates(near + rows.start if isinstance(rows, slice) else rows[near])
            within = np.ones(len(near), np.bool_)
            for axis in range(3):
                within &= (points[:, axis] >= narrow.box[0][axis]) & (points[:, axis] <= narrow.box[1][axis])
            keep[near] = within
        if narrow.ring is not None and keep.any() and not self._tile_within_ring(tile):
            keep &= polygon.contains(narrow.ring, store.coordinates(rows))
        if narrow.areas and keep.any():
            keep &= inside_any(narrow.areas, store.coordinates(rows))
        return keep

    def _drop_far(self, rows: slice | Ints, keep: Mask) -> None:
        """Drop rows that lie outside of the box by more than a step of the store, by their whole numbers: making coordinates of a
        tile takes ten times as long."""
        store, box = self.store, self.narrowing.box
        if store.placement is not None or box is None:
            return
        ends = (np.array(box) - store.origin) / store.scale
        low = np.clip(np.floor(ends.min(axis=0)) - 1, -LARGEST, LARGEST)
        high = np.clip(np.ceil(ends.max(axis=0)) + 1, -LARGEST, LARGEST)
        drop_outside(np.asarray(store.xyz[rows]), low.astype(np.int64), high.astype(np.int64), keep)

    def _tile_within_box(self, tile: int) -> bool:
        assert self.narrowing.box is not None
        low, high = (np.array(corner) for corner in self.narrowing.box)
        row = self.store.tiles[tile]
        return bool(np.all(row["low"] >= low) and np.all(row["high"] <= high))

    def _tile_within_ring(self, tile: int) -> bool:
        row = self.store.tiles[tile]
        box = shapely.box(*row["low"][:2], *row["high"][:2])
        return bool(shapely.Polygon(self.narrowing.ring).contains_properly(box))
