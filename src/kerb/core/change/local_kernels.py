"""Kernels of distances to a local model of the reference: plane, triangle, quadric through the neighbours of each place; and
distances along a normal between what lies in a cylinder of two clouds.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

PLANE, TRIANGLE, QUADRIC = 0, 1, 2
TERMS = 6


@inline
def _frame(n, u, v):
    """Two directions square to a unit normal and to one another."""
    if abs(n[0]) < 0.7:
        ax, ay, az = 1.0, 0.0, 0.0
    else:
        ax, ay, az = 0.0, 1.0, 0.0
    u[0], u[1], u[2] = ay * n[2] - az * n[1], az * n[0] - ax * n[2], ax * n[1] - ay * n[0]
    size = np.sqrt(u[0] * u[0] + u[1] * u[1] + u[2] * u[2])
    for k in range(3):
        u[k] /= size
    v[0], v[1], v[2] = n[1] * u[2] - n[2] * u[1], n[2] * u[0] - n[0] * u[2], n[0] * u[1] - n[1] * u[0]


@inline
def _holding_triangle(x, y, count, corner):
    """Rows of the Delaunay triangle of few places that holds the origin; False where none does."""
    for a in range(count):
        for b in range(a + 1, count):
            for c in range(b + 1, count):
                area = (x[b] - x[a]) * (y[c] - y[a]) - (x[c] - x[a]) * (y[b] - y[a])
                if abs(area) < 1e-18:
                    continue
                s = 1.0 if area > 0.0 else -1.0
                if s * (x[a] * y[b] - x[b] * y[a]) < 0.0 or s * (x[b] * y[c] - x[c] * y[b]) < 0.0:
                    continue
                if s * (x[c] * y[a] - x[a] * y[c]) < 0.0:
                    continue
                bx, by, cx, cy = x[b] - x[a], y[b] - y[a], x[c] - x[a], y[c] - y[a]
                bb, cc = bx * bx + by * by, cx * cx + cy * cy
                mx, my = (cy * bb - by * cc) / (2.0 * area), (bx * cc - cx * bb) / (2.0 * area)
                limit = (mx * mx + my * my) * (1.0 - 1e-9)
                empty = True
                for k in range(count):
                    dx, dy = x[k] - x[a] - mx, y[k] - y[a] - my
                    if k != a and k != b and k != c and dx * dx + dy * dy < limit:
                        empty = False
                        break
                if empty:
                    corner[0], corner[1], corner[2] = a, b, c
                    return True
    return False


@inline
def _solved(a, b, n):
    """Solve n equations in place by elimination with pivots; False where they are singular."""
    for i in range(n):
        best = i
        for r in range(i + 1, n):
            if abs(a[r, i]) > abs(a[best, i]):
                best = r
        if abs(a[best, i]) < 1e-14:
            return False
        if best != i:
            for k in range(n):
                a[i, k], a[best, k] = a[best, k], a[i, k]
            b[i], b[best] = b[best], b[i]
        for r in range(i + 1, n):
            f = a[r, i] / a[i, i]
            for k in range(i, n):
                a[r, k] -= f * a[i, k]
            b[r] -= f * b[i]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, n):
            b[i] -= a[i, k] * b[k]
        b[i] /= a[i, i]
    return True


@kernel
def local_distances(places, around, index, normals, way, out):
    """Signed distance of places (m, 3) from a model through their neighbours, rows ``index`` (m, k) of ``around`` (n, 3), -1 for
    none; positive on the side that ``normals`` (m, 3) point to; NaN where there is no normal.

    The model is a height over the plane: its difference to the place is divided by the slope there, so that it is square to it.
    """
    most = index.shape[1]
    x, y, h = np.empty(most), np.empty(most), np.empty(most)
    u, v, corner = np.empty(3), np.empty(3), np.empty(3, np.int64)
    a, b, t = np.empty((TERMS, TERMS)), np.empty(TERMS), np.empty(TERMS)
    for i in range(places.shape[0]):
        n = normals[i]
        if np.isnan(n[0]):
            out[i] = np.nan
            continue
        _frame(n, u, v)
        count, mean, size = 0, 0.0, 0.0
        for j in range(most):
            row = index[i, j]
            if row < 0:
                continue
            dx, dy, dz = around[row, 0] - places[i, 0], around[row, 1] - places[i, 1], around[row, 2] - places[i, 2]
            x[count] = dx * u[0] + dy * u[1] + dz * u[2]
            y[count] = dx * v[0] + dy * v[1] + dz * v[2]
            h[count] = dx * n[0] + dy * n[1] + dz * n[2]
            mean += h[count]
            size = max(size, x[count] * x[count] + y[count] * y[count])
            count += 1
        out[i] = -mean / count
        if way == TRIANGLE and _holding_triangle(x, y, count, corner):
            p, q, r = corner[0], corner[1], corner[2]
            ux, uy, uh = x[q] - x[p], y[q] - y[p], h[q] - h[p]
            vx, vy, vh = x[r] - x[p], y[r] - y[p], h[r] - h[p]
            det = ux * vy - uy * vx
            gx, gy = (uh * vy - vh * uy) / det, (ux * vh - vx * uh) / det
            out[i] = -(h[p] - gx * x[p] - gy * y[p]) / np.sqrt(1.0 + gx * gx + gy * gy)
        elif way == QUADRIC and count >= TERMS and size > 0.0:
            # Places in units of their reach, or high powers would be lost.
            scale = 1.0 / np.sqrt(size)
            a[:] = 0.0
            b[:] = 0.0
            for j in range(count):
                px, py = x[j] * scale, y[j] * scale
                t[0], t[1], t[2], t[3], t[4], t[5] = 1.0, px, py, px * px, px * py, py * py
                for r in range(TERMS):
                    for c in range(TERMS):
                        a[r, c] += t[r] * t[c]
                    b[r] += t[r] * h[j]
            if _solved(a, b, TERMS):
                gx, gy = b[1] * scale, b[2] * scale
                out[i] = -b[0] / np.sqrt(1.0 + gx * gx + gy * gy)


@inline
def _collect(ordered, starts, low, cell, shape, p, n, radius, depth, sums):
    """Count, sum and sum of squares of the positions along n of the points in a cylinder round p, from p."""
    inverse = 1.0 / cell
    reach = np.sqrt(radius * radius + depth * depth)
    sums[0] = sums[1] = sums[2] = 0.0
    first = np.empty(3, np.int64)
    last = np.empty(3, np.int64)
    for k in range(3):
        # Half as wide as the cylinder is along each axis.
        half = abs(n[k]) * depth + radius * np.sqrt(max(1.0 - n[k] * n[k], 0.0))
        half = min(half, reach)
        first[k] = max(np.int64(np.floor((p[k] - half - low[k]) * inverse)), 0)
        last[k] = min(np.int64(np.floor((p[k] + half - low[k]) * inverse)), shape[k] - 1)
        if shape[k] == 1:
            first[k], last[k] = 0, 0
    for i in range(first[0], last[0] + 1):
        for j in range(first[1], last[1] + 1):
            row = (i * shape[1] + j) * shape[2]
            if first[2] > last[2]:
                continue
            for q in range(starts[row + first[2]], starts[row + last[2] + 1]):
                dx, dy, dz = ordered[q, 0] - p[0], ordered[q, 1] - p[1], ordered[q, 2] - p[2]
                along = dx * n[0] + dy * n[1] + dz * n[2]
                if abs(along) > depth:
                    continue
                if dx * dx + dy * dy + dz * dz - along * along <= radius * radius:
                    sums[0] += 1.0
                    sums[1] += along
                    sums[2] += along * along


@inline
def student_95(free):
    """The factor that covers 95 % of Student's t with some degrees of freedom, by its expansion about the normal one (Fisher and
    Cornish 1960, recalled): within 1 % from three on."""
    return 1.959964 + 2.37227 / free + 2.82250 / free**2 + 2.55585 / free**3


@kernel
def along_normals(places, normals, radius, depth, one, other, fewest, error, out):
    """Distance (m, 4) along each normal from the mean of cloud ``other`` to that of cloud ``one`` in a cylinder: distance,
    level of detection (Lague et al. 2013), and how many of each. NaN where either has fewer than ``fewest``.

    Clouds are (ordered, starts, low, cell, shape) of a :class:`NeighbourIndex`.
    """
    a, b = np.empty(3), np.empty(3)
    for i in range(places.shape[0]):
        out[i, 0] = out[i, 1] = np.nan
        out[i, 2] = out[i, 3] = 0.0
        n = normals[i]
        if np.isnan(n[0]):
            continue
        _collect(one[0], one[1], one[2], one[3], one[4], places[i], n, radius, depth, a)
        _collect(other[0], other[1], other[2], other[3], other[4], places[i], n, radius, depth, b)
        out[i, 2], out[i, 3] = a[0], b[0]
        if a[0] < fewest or b[0] < fewest:
            continue
        out[i, 0] = a[1] / a[0] - b[1] / b[0]
        one_var = max(a[2] - a[1] * a[1] / a[0], 0.0) / (a[0] - 1.0)
        other_var = max(b[2] - b[1] * b[1] / b[0], 0.0) / (b[0] - 1.0)
        one_part, other_part = one_var / a[0], other_var / b[0]
        parts = one_part + other_part
        down = one_part * one_part / (a[0] - 1.0) + other_part * other_part / (b[0] - 1.0)
        free = parts * parts / down if down > 0.0 else np.inf
        out[i, 1] = student_95(free) * np.sqrt(parts) + 1.96 * error
