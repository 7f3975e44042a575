"""The smooth surface that a point lies on: it grows from cell to cell until a step, an edge or roughness stops it.

Planes are fitted to the points of each cell (total least squares, from their covariance); the rule by which cells are
joined is ours and stands in ``docs/methods/cleaning.md``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.cells import Cells
from kerb.core.cloud.own_numbers import in_own_numbers
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.setting import Setting, check_positive, setting

FEWEST_IN_CELL = 4
# A cell whose points lie along a line has no plane: its middle eigenvalue must be this share of the largest.
LEAST_WIDTH = 0.02


@dataclass(frozen=True)
class Smooth:
    """How the surface goes on; lengths in the unit of the cloud."""

    step: float = setting(0.03, Setting("Step", "A jump between neighbouring cells that stops it", "length", low=0.0))
    roughness: float = setting(
        0.02,
        Setting("Roughness", "Standard deviation of a cell's points from their plane that stops it", "length", low=0.0),
    )
    turn: float = setting(
        12.0, Setting("Turn", "Angle between the planes of neighbouring cells that stops it", "deg", low=0.0, high=90.0)
    )
    cell: float = setting(0.3, Setting("Cell", "Width of the cells that planes are fitted in", "length", low=0.0))


@in_own_numbers
def smooth_surface(store: CloudStore, how: Smooth, row: int, among: Mask, progress: Progress) -> Mask:
    """Points, (n,), of the smooth surface that the point at ``row`` lies on.

    Points of cells at its edge belong to it up to one step from the plane of the cell beside them.

    Raises
    ------
    InputError, when a value cannot be; NotDeterminable, when there is no plane at the point; Cancelled.
    """
    check_positive(**vars(how))
    cells = Cells.of(store, how.cell, among, progress.within(0.0, 0.5))
    planes = _Planes(cells, cells.moments(store, progress.within(0.5, 0.8)))
    seed = int(cells.number[row])
    if seed < 0:
        raise NotDeterminable("the point is not one of those that are looked at")
    start = _start(cells, planes, seed, how)
    if start < 0:
        raise NotDeterminable("no smooth surface at this point: it is rougher than allowed, or has too few points")
    grown = _grown(cells, planes, start, how, progress)
    host = _hosts(cells, grown)
    return _members(store, cells, planes, host, how, progress.within(0.9, 1.0))


class _Planes:
    """A plane for each cell that was asked about: ``middle`` (m, 3) from the cells' corner, ``normal`` (m, 3).

    ``rough`` (m,) is the deviation of its points, inf where they make no plane. Planes are fitted when first asked for:
    a floor is a small share of a cloud.
    """

    def __init__(self, cells: Cells, sums: Floats) -> None:
        self.cells, self.sums = cells, sums
        self.middle, self.normal = np.zeros((cells.count, 3)), np.zeros((cells.count, 3))
        self.rough = np.full(cells.count, np.nan)

    def fit(self, some: Ints) -> None:
        """Fit the planes of some cells that have none yet."""
        todo = some[np.isnan(self.rough[some])]
        if not len(todo):
            return
        sums = self.sums[todo]
        count = np.maximum(sums[:, 0], 1.0)
        mean = sums[:, 1:4] / count[:, None]
        second = sums[:, [4, 5, 6, 5, 7, 8, 6, 8, 9]].reshape(-1, 3, 3) / count[:, None, None]
        values, vectors = np.linalg.eigh(second - mean[:, :, None] * mean[:, None, :])
        values = np.maximum(values, 0.0)
        flat = (sums[:, 0] >= FEWEST_IN_CELL) & (values[:, 1] > LEAST_WIDTH * values[:, 2])
        self.rough[todo] = np.where(flat, np.sqrt(values[:, 0]), np.inf)
        self.middle[todo] = (self.cells.keys[todo] + 0.5) * self.cells.size + mean
        self.normal[todo] = vectors[:, :, 0]

    def over(self, some: Ints, places: Floats) -> Floats:
        """Distance of places (k, 3) from the planes of k cells, signed by their normals."""
        return np.asarray(((places - self.middle[some]) * self.normal[some]).sum(axis=1))


def _start(cells: Cells, planes: _Planes, seed: int, how: Smooth) -> int:
    """The cell of the seed, or one beside it where its own is too rough; -1 without any."""
    near = cells.around_of(np.array([seed]))[0].astype(np.int64)
    candidates = np.concatenate([[seed], near[near >= 0]])
    planes.fit(candidates)
    good = candidates[planes.rough[candidates] <= how.roughness]
    return int(good[0]) if len(good) else -1


def _grown(cells: Cells, planes: _Planes, start: int, how: Smooth, progress: Progress) -> Mask:
    """Cells, (m,), reached from the start over neighbours that go on smoothly."""
    grown = np.zeros(cells.count, np.bool_)
    grown[start] = True
    front = np.array([start])
    least = np.cos(np.radians(how.turn))
    while len(front):
        progress.step(0.85, "Growing the surface")
        near = cells.around_of(front).astype(np.int64)
        a, b = np.repeat(front, near.shape[1]), near.ravel()
        there = b >= 0
        a, b = a[there], b[there]
        planes.fit(b)
        smooth = planes.rough[b] <= how.roughness
        a, b = a[smooth], b[smooth]
        even = np.abs((planes.normal[a] * planes.normal[b]).sum(axis=1)) >= least
        # Beside a cell that is turned too far lies an edge: it is reached, but the surface does not go on from it. Else
        # it would creep along the edge, over cells that hold ever more of the other side.
        edge = np.zeros(cells.count, np.bool_)
        edge[a[~even]] = True
        edge[start] = False
        # Each plane must go on to the middle of the other cell within the step.
        jump = np.maximum(np.abs(planes.over(a, planes.middle[b])), np.abs(planes.over(b, planes.middle[a])))
        front = np.unique(b[even & ~edge[a] & ~grown[b] & (jump <= how.step)])
        grown[front] = True
    return grown


def _hosts(cells: Cells, grown: Mask) -> Ints:
    """The cell whose plane decides for the points of each cell, (m,): its own, that of one it touches, or -1."""
    host = np.full(len(grown), -1)
    inside = np.flatnonzero(grown)
    for near in cells.around_of(inside).astype(np.int64).T:
        beside = near >= 0
        host[near[beside]] = inside[beside]
    host[inside] = inside
    return host


def _members(store: CloudStore, cells: Cells, planes: _Planes, host: Ints, how: Smooth, progress: Progress) -> Mask:
    """Points within a step, or three times the usual roughness of the surface, of the plane of their host."""
    found = np.zeros(store.count, np.bool_)
    own = host >= 0
    reach = max(how.step, 3 * float(np.median(planes.rough[host[own]])))

    def of_tile(tile: int) -> None:
        rows = store.rows_of(tile)
        number = cells.number[rows]
        some = np.flatnonzero(number >= 0)
        some = some[own[number[some]]]
        if not len(some):
            return
        places = store.coordinates(rows)[some] - cells.corner
        mine = number[some]
        away = np.abs(planes.over(host[mine], places))
        found[rows.start + some[away <= reach]] = True

    each(of_tile, range(len(store.tiles)), progress, "Taking its points")
    return found
