"""Kernels on elevation grids."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def add_points(points, inverse, total, count):
    """Add elevations and counts of points to their cells from (0, 0) on; rows are y, columns x. Those outside are left out."""
    rows, columns = total.shape
    for i in range(points.shape[0]):
        c = int(points[i, 0] * inverse)
        r = int(points[i, 1] * inverse)
        if 0 <= r < rows and 0 <= c < columns and points[i, 0] >= 0.0 and points[i, 1] >= 0.0:
            total[r, c] += points[i, 2]
            count[r, c] += 1
