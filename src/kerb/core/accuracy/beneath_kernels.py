"""Robust planes and the lowest points of cells round a place, compiled, with plain references beside them."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Ints
from kerb.core.geometry.plane import TUKEY, fit_robust
from kerb.core.jit import inline, kernel
from kerb.core.robust import MAD_TO_SIGMA

ROUNDS = 8


@inline
def solved(sums: Floats, out: Floats) -> bool:  # pragma: no cover
    """The plane of weighted sums (w, x, y, z, xx, xy, yy, xz, yz) into ``out`` (z0, gx, gy); False where it is not fixed."""
    w = sums[0]
    if w <= 0.0:
        return False
    mx, my, mz = sums[1] / w, sums[2] / w, sums[3] / w
    xx, xy, yy = sums[4] / w - mx * mx, sums[5] / w - mx * my, sums[6] / w - my * my
    xz, yz = sums[7] / w - mx * mz, sums[8] / w - my * mz
    det = xx * yy - xy * xy
    if not det > 1e-9 * xx * yy:
        return False
    out[1], out[2] = (xz * yy - yz * xy) / det, (yz * xx - xz * xy) / det
    out[0] = mz - out[1] * mx - out[2] * my
    return True


@kernel
def in_square(points: Floats, low: Floats, high: Floats, out: Floats) -> int:
    """Copy the points (n, 3) that lie in a square in plan, its rim included, to ``out`` (n, 3) in their order; how many."""
    count = 0
    for row in range(len(points)):
        x, y = points[row, 0], points[row, 1]
        if low[0] <= x <= high[0] and low[1] <= y <= high[1]:
            out[count, 0], out[count, 1], out[count, 2] = x, y, points[row, 2]
            count += 1
    return count


@kernel
def robust_plane(points: Floats, out: Floats) -> bool:  # pragma: no cover
    """Plane z = z0 + gx x + gy y through points (n, 3) near the origin as ``fit_robust`` makes it, into ``out`` (3,).

    Returns False, when fewer than three points or points on one line leave it open.
    """
    n = len(points)
    if n < 3:
        return False
    off = points[:, 2] - np.median(points[:, 2])
    sums = np.zeros(9)
    good = False
    for _ in range(ROUNDS):
        scale = max(MAD_TO_SIGMA * np.median(np.abs(off)), 1e-9)
        sums[:] = 0.0
        count = 0
        for k in range(n):
            share = off[k] / (TUKEY * scale)
            w = max(1.0 - share * share, 0.0)
            w *= w
            if w > 0.0:
                count += 1
                x, y, z = points[k, 0], points[k, 1], points[k, 2]
                sums[0] += w
                sums[1] += w * x
                sums[2] += w * y
                sums[3] += w * z
                sums[4] += w * x * x
                sums[5] += w * x * y
                sums[6] += w * y * y
                sums[7] += w * x * z
                sums[8] += w * y * z
        if count < 3 or not solved(sums, out):
            return good
        good = True
        for k in range(n):
            off[k] = points[k, 2] - out[0] - out[1] * points[k, 0] - out[2] * points[k, 1]
    return good


@kernel
def lowest_of_cells(points: Floats, reach: float, cell: float) -> Ints:  # pragma: no cover
    """Rows of the lowest of points (n, 3) in each square cell within ``reach`` of the origin in plan."""
    side = int(np.ceil(reach / cell)) * 2
    rows = np.full(side * side, -1, np.int64)
    for k in range(len(points)):
        x, y = points[k, 0], points[k, 1]
        if x * x + y * y > reach * reach:
            continue
        at = (int(np.floor(x / cell)) + side // 2) * side + int(np.floor(y / cell)) + side // 2
        if 0 <= at < len(rows) and (rows[at] < 0 or points[k, 2] < points[rows[at], 2]):
            rows[at] = k
    return rows[rows >= 0]


def reference_plane(points: Floats) -> tuple[float, float, float]:
    """Height at the origin and both falls of the plane of ``fit_robust``."""
    plane = fit_robust(points)
    return float(plane.at(np.zeros((1, 2)))[0]), *plane.gradient


def reference_lowest(points: Floats, reach: float, cell: float) -> list[int]:
    """The rows that the kernel finds, in the plainest way."""
    found: dict[tuple[int, int], int] = {}
    for row, (x, y, z) in enumerate(points.tolist()):
        if np.hypot(x, y) <= reach:
            key = int(np.floor(x / cell)), int(np.floor(y / cell))
            if key not in found or z < points[found[key], 2]:
                found[key] = row
    return sorted(found.values())
