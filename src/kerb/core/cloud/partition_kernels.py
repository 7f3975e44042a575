"""Kernels of the tile arrangement: Morton codes of points, counts, and the scatter into tile order."""

from __future__ import annotations

from kerb.core.jit import inline, kernel


@inline
def _spread(value):
    """Put two zero bits between the ten low bits of a number."""
    value = (value | (value << 16)) & 0x030000FF
    value = (value | (value << 8)) & 0x0300F00F
    value = (value | (value << 4)) & 0x030C30C3
    return (value | (value << 2)) & 0x09249249


@kernel
def count_cells(xyz, low, inverse_cell, depth, codes, counts):
    """Write each point's Morton code at ``depth`` and add it to the counts of its cell."""
    top = (1 << depth) - 1
    for i in range(xyz.shape[0]):
        a = min(max(int((xyz[i, 0] - low[0]) * inverse_cell[0]), 0), top)
        b = min(max(int((xyz[i, 1] - low[1]) * inverse_cell[1]), 0), top)
        c = min(max(int((xyz[i, 2] - low[2]) * inverse_cell[2]), 0), top)
        code = _spread(a) | (_spread(b) << 1) | (_spread(c) << 2)
        codes[i] = code
        counts[code] += 1


@kernel
def bounds(xyz, low, high):
    """Widen ``low`` and ``high`` (3,) to hold the integer coordinates (n, 3)."""
    for i in range(xyz.shape[0]):
        for k in range(3):
            value = xyz[i, k]
            if value < low[k]:
                low[k] = value
            if value > high[k]:
                high[k] = value


@kernel
def scatter(records, codes, leaf_of, cursor, out):
    """Copy each record (a row of bytes) to the next free row of its leaf."""
    width = records.shape[1]
    for i in range(records.shape[0]):
        leaf = leaf_of[codes[i]]
        at = cursor[leaf]
        cursor[leaf] = at + 1
        for j in range(width):
            out[at, j] = records[i, j]


@kernel
def touch_voxels(xyz, low, inverse, side, touched):
    """Mark the voxels, ``side`` of them along each axis, that have points."""
    for i in range(xyz.shape[0]):
        a = min(max(int((xyz[i, 0] - low[0]) * inverse[0]), 0), side - 1)
        b = min(max(int((xyz[i, 1] - low[1]) * inverse[1]), 0), side - 1)
        c = min(max(int((xyz[i, 2] - low[2]) * inverse[2]), 0), side - 1)
        touched[(a * side + b) * side + c] = True
