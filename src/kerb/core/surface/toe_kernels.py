"""Kernel that reads the ground on both sides of a toe line: robust planes through the points near each sample."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

_ROUNDS = 4
_TUKEY = 4.685
_MAD_TO_SIGMA = 1.4826


@inline
def _plane_value(x, y, z, w, n):
    """Value at (0, 0) of the weighted least-squares plane and its gradient; False when it is not fixed."""
    sw = sx = sy = sz = 0.0
    for i in range(n):
        sw += w[i]
        sx += w[i] * x[i]
        sy += w[i] * y[i]
        sz += w[i] * z[i]
    if sw <= 0.0:
        return False, 0.0, 0.0, 0.0
    mx, my, mz = sx / sw, sy / sw, sz / sw
    xx = xy = yy = xz = yz = 0.0
    for i in range(n):
        dx, dy, dz = x[i] - mx, y[i] - my, z[i] - mz
        xx += w[i] * dx * dx
        xy += w[i] * dx * dy
        yy += w[i] * dy * dy
        xz += w[i] * dx * dz
        yz += w[i] * dy * dz
    det = xx * yy - xy * xy
    if det <= 1e-6 * xx * yy:
        return False, 0.0, 0.0, 0.0
    gx = (xz * yy - yz * xy) / det
    gy = (yz * xx - xz * xy) / det
    return True, mz - gx * mx - gy * my, gx, gy


@kernel
def robust_level(x, y, z, n):
    """Elevation at (0, 0) from n points by Tukey's biweight plane, the median where no plane is fixed."""
    median = np.median(z[:n])
    residual = np.empty(n)
    weight = np.empty(n)
    for i in range(n):
        residual[i] = z[i] - median
    value = median
    for _ in range(_ROUNDS):
        scale = max(_MAD_TO_SIGMA * np.median(np.abs(residual)), 1e-9)
        for i in range(n):
            u = residual[i] / (_TUKEY * scale)
            weight[i] = (1.0 - u * u) ** 2 if abs(u) < 1.0 else 0.0
        fixed, v, gx, gy = _plane_value(x, y, z, weight, n)
        if not fixed:
            break
        value = v
        for i in range(n):
            residual[i] = z[i] - v - gx * x[i] - gy * y[i]
    return value


@kernel
def both_sides(points, inside, offsets, places, fewest, outer, inner):
    """Outer and inner level at each place from its points (rows offsets[i] to offsets[i + 1]); NaN for too few."""
    for q in range(places.shape[0]):
        n = offsets[q + 1] - offsets[q]
        x, y, z = np.empty(n), np.empty(n), np.empty(n)
        outer[q] = np.nan
        inner[q] = np.nan
        if n < fewest:
            continue
        for side in range(2):
            m = 0
            for i in range(offsets[q], offsets[q + 1]):
                if inside[i] == (side == 1):
                    x[m] = points[i, 0] - places[q, 0]
                    y[m] = points[i, 1] - places[q, 1]
                    z[m] = points[i, 2]
                    m += 1
            if m >= fewest:
                if side == 0:
                    outer[q] = robust_level(x, y, z, m)
                else:
                    inner[q] = robust_level(x, y, z, m)
