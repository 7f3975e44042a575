"""Evenness: the largest gap under a straightedge laid anywhere, and limits over distances (DIN 18202:2013, table 3; recalled)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints
from kerb.core.floor.floor_kernels import grid_gaps
from kerb.core.parallel import each
from kerb.core.progress import Progress

# Rows of table 3: limits in millimetres over 0.1, 1, 4, 10 and 15 m, linear in between.
DISTANCES = np.array([0.1, 1.0, 4.0, 10.0, 15.0])
ROWS = {
    "row-2": np.array([5.0, 8.0, 12.0, 15.0, 20.0]),
    "row-3": np.array([2.0, 4.0, 10.0, 12.0, 15.0]),
    "row-4": np.array([1.0, 3.0, 9.0, 12.0, 15.0]),
}
# Steps of straightedges on the grid: along both axes, both diagonals, and half way between.
WAYS = np.array([[0, 1], [1, 0], [1, 1], [1, -1], [1, 2], [2, 1], [1, -2], [2, -1]], np.int64)


@dataclass(frozen=True)
class Gaps:
    """The largest gap at each node (rows, columns) under straightedges of a length, and where it is."""

    gap: Floats
    length: float

    @property
    def largest(self) -> float:
        """The largest of all; NaN without any node."""
        return float(np.nanmax(self.gap)) if np.isfinite(self.gap).any() else float("nan")

    @property
    def worst(self) -> Ints:
        """Row and column of the largest gap."""
        return np.array(np.unravel_index(int(np.nanargmax(self.gap)), self.gap.shape))


def straightedge(z: Floats, spacing: float, length: float, progress: Progress) -> Gaps:
    """Gaps under a straightedge of a length laid on a grid of levels (rows, columns) in eight directions, NaN off the floor.

    It rests on two nodes no farther apart than it is long, when no node between them is higher; the gap is what lies below it
    there. Raises Cancelled.
    """
    steps = np.hypot(*WAYS.T) * spacing
    windows = np.floor(length / steps + 1e-9).astype(np.int64)

    def one(number: int) -> Floats:
        return np.asarray(grid_gaps(z, windows[number : number + 1], WAYS[number : number + 1]))

    found = each(one, range(len(WAYS)), progress, "Laying straightedges")
    most = np.max(np.stack(found), axis=0)
    return Gaps(np.where(np.isfinite(z), most, np.nan), length)


def limit(row: str, distance: float) -> float:
    """The limit of a row of the table in metres over a distance in metres, linear between its columns, its last beyond them."""
    return float(np.interp(distance, DISTANCES, ROWS[row])) / 1000
