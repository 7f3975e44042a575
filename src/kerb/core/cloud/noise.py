"""Points that are likely no surface: outliers by distance to their neighbours, low points, and pieces by themselves.

Sources: R. Rusu et al., Towards 3D point cloud based object maps for household environments, Robotics and Autonomous
Systems 56 (2008), for the outliers by mean distance. The others are common practice; ``docs/methods/cleaning.md`` says
how they decide here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask, ends
from kerb.core.cloud.cells import Cells
from kerb.core.cloud.levels import first_level
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.neighbours_kernels import crowded, mean_of_others, near_any
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.errors import InputError
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.setting import Setting, check_positive, setting

FARTHEST_SPACINGS = 10.0
FEW = 50


@dataclass(frozen=True)
class Outliers:
    """Points far from their neighbours, compared with what is usual in the cloud."""

    neighbours: int = setting(8, Setting("Neighbours", "How many nearest neighbours are looked at", "", low=1, high=60))
    factor: float = setting(
        4.0, Setting("Deviations", "So many standard deviations over the mean distance is too far", "", low=0.0)
    )
    beside: float = setting(
        2.0,
        Setting(
            "Times neighbours", "And so many times as far as its neighbours are from theirs: a surface with few points "
            "stays. 0 compares with the whole cloud only", "", low=0.0,
        ),
    )  # fmt: skip


@dataclass(frozen=True)
class Sparse:
    """Points with few others around them; ``radius`` in the unit of the cloud."""

    radius: float = setting(0.5, Setting("Radius", "How far around a point is looked", "length", low=0.0))
    fewest: int = setting(4, Setting("Neighbours", "With fewer others within the radius a point is noise", "", low=1))


@dataclass(frozen=True)
class LowPoints:
    """Points under everything around them; lengths in the unit of the cloud."""

    drop: float = setting(0.5, Setting("Below", "So far below the lowest surface around is too low", "length", low=0.0))
    cell: float = setting(
        3.0, Setting("Around", "Width of the cells, three by three, that are looked at", "length", low=0.0)
    )
    most: int = setting(5, Setting("Up to", "More points than this at one level are a surface and stay", "", low=1))


@dataclass(frozen=True)
class Pieces:
    """Small groups of points by themselves; ``gap`` in the unit of the cloud."""

    gap: float = setting(1.0, Setting("Gap", "Points nearer than this hang together", "length", low=0.0))
    fewest: int = setting(100, Setting("Fewer than", "A piece of fewer points goes", "", low=1))


@in_own_numbers
def outliers(store: CloudStore, how: Outliers, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), whose mean distance to their nearest neighbours is beyond mean + factor · standard deviation.

    A point like its neighbours stays: it must be ``beside`` times as far from them as half of them are from theirs.
    Mean and deviation are those of all points in ``among``. A neighbour farther than ten spacings, or none, counts as
    ten spacings away, so that a few strays do not spread the distribution. Raises Cancelled.
    """
    if how.neighbours < 1 or not np.isfinite(how.factor) or not how.beside >= 0:
        raise InputError("neighbours and deviations must be numbers above zero")
    farthest = FARTHEST_SPACINGS * max(store.spacing, float(store.scale.max()))

    def mean_distance(points: Floats, around: Floats) -> Floats:
        k = min(how.neighbours + 1, len(around))
        distance, _ = NeighbourIndex(around).nearest(points, k, farthest)
        mean = np.empty(len(points))
        mean_of_others(distance, farthest, how.neighbours, mean)
        return mean

    away = _by_tile(store, among, farthest, mean_distance, progress.within(0.0, 0.7))
    known = away[among]
    if not len(known):
        return np.zeros(store.count, np.bool_)
    usual = float(known.mean())
    found: Mask = among & (away > usual + how.factor * float(known.std()))
    if how.beside == 0:
        return found
    return _unlike_neighbours(store, how, (among, found), (away, usual, farthest), progress.within(0.7, 1.0))


def _unlike_neighbours(
    store: CloudStore,
    how: Outliers,
    points: tuple[Mask, Mask],
    distances: tuple[Floats, float, float],
    progress: Progress,
) -> Mask:
    """Those of the points ``found`` that are farther from their neighbours than these are from theirs.

    A neighbour that is missing counts as a usual one, so that a few strays together are no surface of their own.
    """
    (among, found), (away, usual, farthest) = points, distances
    unlike = np.zeros(store.count, np.bool_)

    def of_tile(tile: int) -> None:
        rows = store.rows_of(tile)
        mine = np.flatnonzero(found[rows]) + rows.start
        if not len(mine):
            return
        asked = store.coordinates(mine)
        around = _rows_within(store, among, ends(asked), farthest)
        origin = store.tiles["low"][tile]
        places, asked = store.coordinates(around) - origin, asked - origin
        # Mostly few are asked about: what lies near none of them need not be sorted.
        if len(asked) <= FEW:
            close = np.zeros(len(places), np.bool_)
            near_any(places, asked, farthest, close)
            around, places = around[close], places[close]
        index = NeighbourIndex(places)
        k = min(how.neighbours + 1, len(around))
        _, near = index.nearest(asked, k, farthest)
        theirs = np.full((len(mine), how.neighbours), usual)
        theirs[:, : k - 1] = np.where(near[:, 1:] >= 0, away[around[near[:, 1:]]], usual)
        unlike[mine] = away[mine] > how.beside * np.median(theirs, axis=1)

    each(of_tile, range(len(store.tiles)), progress, "Comparing with neighbours")
    return unlike


@in_own_numbers
def sparse(store: CloudStore, how: Sparse, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), with fewer than ``fewest`` others within the radius. Raises InputError; Cancelled."""
    check_positive(radius=how.radius)

    def alone(points: Floats, around: Floats) -> Floats:
        index = NeighbourIndex(around)
        good = np.empty(len(points), np.bool_)
        # The point itself is one of those found.
        crowded(
            index.ordered, index.starts, index.low, index.cell, index.shape, points, how.radius, how.fewest + 1, good
        )
        return np.asarray(~good, float)

    return among & (_by_tile(store, among, how.radius, alone, progress) > 0)


@in_own_numbers
def low_points(store: CloudStore, how: LowPoints, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), more than ``drop`` below the lowest surface of their cell and the eight around it.

    A surface is where more than ``most`` points of a cell lie within ``drop`` in height. Raises InputError; Cancelled.
    """
    check_positive(drop=how.drop, around=how.cell)
    cells = Cells.of(store, how.cell, among, progress.within(0.0, 0.5), upright=True)
    z = np.asarray(store.xyz[:, 2], float) * float(store.scale[2])
    starts, order = cells.ordered(z, progress.within(0.5, 0.8))
    column = np.repeat(np.arange(cells.count), np.diff(starts))
    held = first_level(z[order], column, how.most + 1, how.drop, cells.count)
    lowest = held.copy()
    for k in cells.around().T:
        lowest = np.fmin(lowest, np.where(k >= 0, held[k], np.nan))
    found = np.zeros(store.count, np.bool_)
    inside = cells.number >= 0
    under = lowest[cells.number[inside]] - how.drop
    found[inside] = z[inside] < np.nan_to_num(under, nan=-np.inf)
    return found


@in_own_numbers
def small_pieces(store: CloudStore, how: Pieces, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), of pieces with fewer than ``fewest`` points. Raises InputError; Cancelled."""
    cells = Cells.of(store, how.gap, among, progress.within(0.0, 0.8))
    piece = cells.pieces()
    sizes = np.bincount(piece, weights=cells.counts, minlength=cells.count)
    return _of_cells(cells, sizes[piece] < how.fewest, store.count)


@in_own_numbers
def piece_of(store: CloudStore, row: int, gap: float, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), of the piece that the point at ``row`` belongs to; none where it does not count.

    Raises InputError, when the gap cannot be; Cancelled.
    """
    cells = Cells.of(store, gap, among, progress)
    mine = int(cells.number[row])
    piece = cells.pieces()
    return _of_cells(cells, piece == piece[mine], store.count) if mine >= 0 else np.zeros(store.count, np.bool_)


def _of_cells(cells: Cells, wanted: Mask, total: int) -> Mask:
    found = np.zeros(total, np.bool_)
    inside = cells.number >= 0
    found[inside] = wanted[cells.number[inside]]
    return found


def _by_tile(
    store: CloudStore, among: Mask, halo: float, work: Callable[[Floats, Floats], Floats], progress: Progress
) -> Floats:
    """A value for each point in ``among``, from the points within ``halo`` of its tile; 0 for the others."""
    result = np.zeros(store.count)

    def of_tile(tile: int) -> None:
        rows = store.rows_of(tile)
        mine = among[rows]
        if not mine.any():
            return
        around = _rows_within(store, among, (store.tiles["low"][tile], store.tiles["high"][tile]), halo)
        origin = store.tiles["low"][tile]
        result[rows][mine] = work(store.coordinates(rows)[mine] - origin, store.coordinates(around) - origin)

    each(of_tile, range(len(store.tiles)), progress, "Looking at neighbours")
    return result


def _rows_within(store: CloudStore, among: Mask, box: tuple[Floats, Floats], halo: float) -> Ints:
    """Rows of the points in ``among`` within a halo of a box."""
    widened = (tuple((box[0] - halo).tolist()), tuple((box[1] + halo).tolist()))
    rows = CloudView(store, Narrowing(box=widened, with_aside=True)).all_rows()
    return np.asarray(rows[among[rows]])
