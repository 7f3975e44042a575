"""Kernels of the ground filter: the lowest point of each cell, and lowest or highest values under a disk."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def lowest_points(xyz, used, scale, inverse, shape, first, lowest, row):
    """Keep for each cell the lowest used point: integer elevation in ``lowest``, its row, from ``first``, in ``row``.

    ``xyz`` are integers from the grid's corner; cells count from there. A tie goes to the point that comes first.
    """
    for i in range(xyz.shape[0]):
        if not used[i]:
            continue
        c = min(int(xyz[i, 0] * scale[0] * inverse), shape[1] - 1)
        r = min(int(xyz[i, 1] * scale[1] * inverse), shape[0] - 1)
        if row[r, c] < 0 or xyz[i, 2] < lowest[r, c]:
            lowest[r, c] = xyz[i, 2]
            row[r, c] = first + i


@kernel
def under_disk(levels, half, level, reach, first, last, out):
    """Lowest value within a disk around each cell of some rows, from lowest values of runs of 1, 2, 4, ... cells.

    ``levels[k, r, c]`` is the lowest of the ``2**k`` cells from c; ``half[d]`` is half the disk's width in its row d,
    ``level[d]`` the longest run that fits. ``out`` lacks ``reach`` cells at every side of the grid.
    """
    columns = out.shape[1]
    for r in range(first, last):
        for d in range(2 * reach + 1):
            left = reach - half[d]
            right = reach + half[d] + 1 - (1 << level[d])
            values = levels[level[d], r + d]
            for c in range(columns):
                a, b = values[c + left], values[c + right]
                low = a if a < b else b
                if d == 0 or low < out[r, c]:
                    out[r, c] = low
