"""Kernel that reads the ground on both sides of a toe line: robust planes through the points near each sample."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.robust import MAD_TO_SIGMA

_ROUNDS = 4
_TUKEY = 4.685

# Zones of a sample: just inside the line, just outside it, and outside beyond where the line itself may be off.
INNER, OUTER, BEYOND = range(3)
# What is read of a zone: middle of its points from the sample, level there, gradient, scatter, number of points.
EAST, NORTH, LEVEL, RISE_EAST, RISE_NORTH, SCATTER, COUNT = range(7)


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
def robust_plane(x, y, z, n, out):
    """Level at the middle of n points by Tukey's biweight plane, the median where no plane is fixed, into a zone row."""
    median = np.median(z[:n])
    residual = np.empty(n)
    weight = np.empty(n)
    for i in range(n):
        residual[i] = z[i] - median
    value, east, north, scale = median, 0.0, 0.0, 0.0
    for _ in range(_ROUNDS):
        scale = max(MAD_TO_SIGMA * np.median(np.abs(residual)), 1e-9)
        for i in range(n):
            u = residual[i] / (_TUKEY * scale)
            weight[i] = (1.0 - u * u) ** 2 if abs(u) < 1.0 else 0.0
        fixed, v, gx, gy = _plane_value(x, y, z, weight, n)
        if not fixed:
            break
        value, east, north = v, gx, gy
        for i in range(n):
            residual[i] = z[i] - v - gx * x[i] - gy * y[i]
    mx, my = x[:n].mean(), y[:n].mean()
    out[EAST], out[NORTH] = mx, my
    out[LEVEL] = value + east * mx + north * my
    out[RISE_EAST], out[RISE_NORTH] = east, north
    out[SCATTER] = scale
    out[COUNT] = n


@kernel
def read_zones(points, inside, offsets, places, normals, near, slack, width, fewest, out):
    """Fill ``out`` (places, 3 zones, 7) from the points of each place (rows offsets[i] to offsets[i + 1]).

    ``normals`` point outwards. A zone with fewer than ``fewest`` points has a NaN level and its count.
    """
    for q in range(places.shape[0]):
        n = offsets[q + 1] - offsets[q]
        x, y, z = np.empty(n), np.empty(n), np.empty(n)
        for zone in range(3):
            m = 0
            for i in range(offsets[q], offsets[q + 1]):
                if inside[i] != (zone == INNER):
                    continue
                dx, dy = points[i, 0] - places[q, 0], points[i, 1] - places[q, 1]
                if zone == BEYOND:
                    out_by = dx * normals[q, 0] + dy * normals[q, 1]
                    aside = abs(dy * normals[q, 0] - dx * normals[q, 1])
                    if out_by < slack or out_by > slack + width or aside > width:
                        continue
                elif dx * dx + dy * dy > near * near:
                    continue
                x[m], y[m], z[m] = dx, dy, points[i, 2]
                m += 1
            out[q, zone, :] = np.nan
            out[q, zone, COUNT] = m
            if m >= fewest:
                robust_plane(x, y, z, m, out[q, zone])
