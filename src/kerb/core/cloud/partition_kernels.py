"""Kernels of the tile arrangement: Morton codes of points, counts, and the scatter into tile order."""

from __future__ import annotations

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
def scatter(words, xyz, low, inverse_cell, spread, leaf_of, cursor, out):
    """Copy each record (a row of words) to the next free row of the leaf its cell belongs to."""
    top = spread.shape[0] - 1
    width = words.shape[1]
    for i in range(words.shape[0]):
        leaf = leaf_of[_cell(xyz, i, low, inverse_cell, spread, top)]
        at = cursor[leaf]
        cursor[leaf] = at + 1
        for j in range(width):
            out[at, j] = words[i, j]


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
def mark_varying(rows, varying):
    """Set the bits of ``varying`` (bytes,) in which a row of bytes differs from the first."""
    for i in range(rows.shape[0]):
        for j in range(rows.shape[1]):
            varying[j] |= rows[i, j] ^ rows[0, j]


@kernel
def touch_voxels(xyz, low, inverse, side, touched):
    """Mark the voxels, ``side`` of them along each axis, that have points."""
    for i in range(xyz.shape[0]):
        a = min(max(int((xyz[i, 0] - low[0]) * inverse[0]), 0), side - 1)
        b = min(max(int((xyz[i, 1] - low[1]) * inverse[1]), 0), side - 1)
        c = min(max(int((xyz[i, 2] - low[2]) * inverse[2]), 0), side - 1)
        touched[(a * side + b) * side + c] = True
