"""Kernels of the tile arrangement: Morton codes of points, counts, and the order by leaves."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel


@inline
def _cell(xyz, i, low, inverse_cell, spread, top):
    a = min(max(int((xyz[i, 0] - low[0]) * inverse_cell[0]), 0), top)
    b = min(max(int((xyz[i, 1] - low[1]) * inverse_cell[1]), 0), top)
    c = min(max(int((xyz[i, 2] - low[2]) * inverse_cell[2]), 0), top)
    return spread[a] | (spread[b] << 1) | (spread[c] << 2)


@kernel
def count_cells(xyz, low, inverse_cell, spread, counts):
    """Add each point to the counts of its cell, in Morton order; ``spread`` (2**depth,) parts the bits of a number by two."""
    top = spread.shape[0] - 1
    for i in range(xyz.shape[0]):
        counts[_cell(xyz, i, low, inverse_cell, spread, top)] += 1


@kernel
def order_by_leaf(xyz, low, inverse_cell, spread, leaf_of, counts, order):
    """The rows of ``xyz`` leaf by leaf, those of a leaf as they come; ``counts`` (leaves,) of zeros gets how many each has."""
    top = spread.shape[0] - 1
    leaves = np.empty(xyz.shape[0], np.int32)
    for i in range(xyz.shape[0]):
        leaves[i] = leaf_of[_cell(xyz, i, low, inverse_cell, spread, top)]
        counts[leaves[i]] += 1
    cursor = np.cumsum(counts) - counts
    for i in range(xyz.shape[0]):
        order[cursor[leaves[i]]] = i
        cursor[leaves[i]] += 1


@kernel
def bounds(xyz, low, high):
    """Widen ``low`` and ``high`` (3,) to hold the integer coordinates (n, 3)."""
    low_x, low_y, low_z = low
    high_x, high_y, high_z = high
    for i in range(xyz.shape[0]):
        x, y, z = xyz[i, 0], xyz[i, 1], xyz[i, 2]
        low_x, low_y, low_z = min(low_x, x), min(low_y, y), min(low_z, z)
        high_x, high_y, high_z = max(high_x, x), max(high_y, y), max(high_z, z)
    low[0], low[1], low[2] = low_x, low_y, low_z
    high[0], high[1], high[2] = high_x, high_y, high_z


@kernel
def mark_varying(rows, first, varying):
    """Set the bits of ``varying`` (bytes,) in which a row of bytes differs from the row ``first``."""
    for i in range(rows.shape[0]):
        for j in range(rows.shape[1]):
            varying[j] |= rows[i, j] ^ first[j]


@kernel
def touch_voxels(xyz, low, inverse, side, touched):
    """Mark the voxels, ``side`` of them along each axis, that have points."""
    for i in range(xyz.shape[0]):
        a = min(max(int((xyz[i, 0] - low[0]) * inverse[0]), 0), side - 1)
        b = min(max(int((xyz[i, 1] - low[1]) * inverse[1]), 0), side - 1)
        c = min(max(int((xyz[i, 2] - low[2]) * inverse[2]), 0), side - 1)
        touched[(a * side + b) * side + c] = True
