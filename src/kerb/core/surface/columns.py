"""Places where one elevation cannot hold the data: several layers above one another in a column."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, ends
from kerb.core.sorting import by_cells

FEWEST = 3


def several_layers(points: Floats, cell: float, gap: float) -> Floats:
    """Middles (k, 2) of square columns in which (n, 3) points lie in two layers or more.

    Layers are parted by a height of ``gap`` without points that is also twice the cell or more, which no slope up to 63° bridges,
    and have three points or more each: walls are closed from foot to top and are no layers, single strays are none.
    """
    if not len(points):
        return np.empty((0, 2))
    low, _ = ends(points[:, :2])
    order, starts = by_cells(points, low, cell)
    size = np.diff(np.append(starts, len(order)))
    column = np.repeat(np.arange(len(starts)), size)
    z = points[order, 2]
    rank = np.lexsort((z, column))
    z = z[rank]
    step = np.diff(z, append=np.inf)
    # How many of its column lie below a step and above it.
    below = np.arange(len(z)) - np.repeat(starts, size) + 1
    above = np.repeat(size, size) - below
    wide = (step >= max(gap, 2.0 * cell)) & (below >= FEWEST) & (above >= FEWEST)
    found = np.unique(column[wide])
    first = points[order[starts[found]], :2]
    return np.asarray(low + (np.floor((first - low) / cell) + 0.5) * cell)
