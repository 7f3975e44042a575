"""Thin a cloud: one point a cell, a least distance, a number at random, every n-th. The points that stay are a mask."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.cloud.cells import Cells, marked
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning_kernels import apart
from kerb.core.errors import InputError
from kerb.core.progress import Progress
from kerb.core.setting import Setting, setting

CENTRE, LOWEST, HIGHEST, MEDIAN, APART, RANDOM, EVERY = (
    "centre", "lowest", "highest", "median", "apart", "random", "every"
)  # fmt: skip
WAYS = (
    (CENTRE, "Nearest the centre of each cube"),
    (LOWEST, "Lowest of each column"),
    (HIGHEST, "Highest of each column"),
    (MEDIAN, "Median height of each column"),
    (APART, "No two nearer than the spacing"),
    (RANDOM, "A number of points at random"),
    (EVERY, "Every n-th point"),
)
BY_SPACING = (CENTRE, LOWEST, HIGHEST, MEDIAN, APART)


@dataclass(frozen=True)
class Thinning:
    """Which points stay; the spacing is in the unit of the cloud."""

    way: str = setting(CENTRE, Setting("Keep", "Which points stay", choices=WAYS))
    spacing: float = setting(
        1.0,
        Setting("Spacing", "Side of the cubes or columns, or least distance", "length", low=0.0),
    )
    count: int = setting(100_000, Setting("Points", "How many points stay, at random", "", low=1))
    every: int = setting(10, Setting("n", "One of so many points stays", "", low=1))

    def check(self) -> None:
        """Raises InputError, when a value cannot be."""
        if self.way not in dict(WAYS):
            raise InputError(f"'{self.way}' is no way to thin; there are {', '.join(dict(WAYS))}")
        if self.way in BY_SPACING and not (np.isfinite(self.spacing) and self.spacing > 0):
            raise InputError(f"the spacing must be above zero, not {self.spacing:g}")
        if self.count < 1 or self.every < 1:
            raise InputError("a number of points must be one or more")


@in_own_numbers
def thinned(store: CloudStore, how: Thinning, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), that stay of those in ``among``. The same cloud and settings always keep the same points.

    Raises InputError, when a value cannot be; Cancelled.
    """
    how.check()
    if how.way == APART:
        return _apart(store, how.spacing, among, progress)
    if how.way == RANDOM:
        return _random(how.count, among)
    if how.way == EVERY:
        return marked(np.flatnonzero(among)[:: how.every], store.count)
    cells = Cells.of(store, how.spacing, among, progress.within(0.0, 0.6), upright=how.way != CENTRE)
    rest = progress.within(0.6, 1.0)
    if how.way == MEDIAN:
        starts, order = cells.ordered(np.asarray(store.xyz[:, 2], float), rest)
        # The lower of the two middle ones where their number is even: a point of the cloud, not a mean of two.
        return marked(order[(starts[:-1] + starts[1:] - 1) // 2], store.count)
    if how.way == CENTRE:
        return marked(cells.best(store, lambda rows: _from_centre(store, cells, rows), rest), store.count)
    sign = -1.0 if how.way == HIGHEST else 1.0
    return marked(cells.best(store, lambda rows: sign * store.xyz[rows, 2].astype(float), rest), store.count)


def _from_centre(store: CloudStore, cells: Cells, rows: slice) -> Floats:
    places = (store.coordinates(rows) - cells.corner) / cells.size
    away = places - np.floor(places) - 0.5
    return np.asarray((away**2).sum(axis=1))


def _apart(store: CloudStore, distance: float, among: Mask, progress: Progress) -> Mask:
    """In row order, which is shuffled within each tile: no direction is preferred."""
    corner, far = store.bounds
    wide = float((far - corner).max())
    if wide / distance > 1 << 30:
        raise InputError(
            f"a spacing of {distance:g} is too small for a cloud {wide:.4g} {store.reference.unit.symbol} wide"
        )
    keep = among.copy()
    room = int(np.count_nonzero(among))
    heads = np.full(1 << max(int(np.ceil(np.log2(max(room, 1)))), 4), -1, np.int32)
    places, following = np.empty((room, 3)), np.empty(room, np.int32)
    stayed = 0
    for tile in range(len(store.tiles)):
        progress.step(tile / len(store.tiles), "Thinning")
        rows = store.rows_of(tile)
        stayed = apart(
            store.xyz[rows], keep[rows], store.scale, distance, store.origin - corner, heads, places, following, stayed
        )
    return keep


def _random(count: int, among: Mask) -> Mask:
    rows = np.flatnonzero(among)
    if len(rows) <= count:
        return among.copy()
    return marked(rows[np.random.default_rng(len(rows)).choice(len(rows), count, replace=False)], len(among))
