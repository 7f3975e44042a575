"""Kernel of normals: the direction in which neighbours of a point spread least."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel

SWEEPS = 8


@kernel
def least_spread(points, index, fewest, normals):
    """Normals (m, 3) of the total least-squares planes through neighbours; NaN with fewer than ``fewest``.

    ``index`` (m, k) names rows of ``points`` (n, 3), -1 where there is none. The eigenvector of the smallest eigenvalue
    of the covariance, by Jacobi rotations; it points up.
    """
    k = index.shape[1]
    a = np.empty((3, 3))
    v = np.empty((3, 3))
    for i in range(index.shape[0]):
        count = 0
        mx, my, mz = 0.0, 0.0, 0.0
        for j in range(k):
            row = index[i, j]
            if row >= 0:
                mx += points[row, 0]
                my += points[row, 1]
                mz += points[row, 2]
                count += 1
        if count < fewest:
            normals[i, 0] = normals[i, 1] = normals[i, 2] = np.nan
            continue
        mx, my, mz = mx / count, my / count, mz / count
        a[:] = 0.0
        for j in range(k):
            row = index[i, j]
            if row >= 0:
                x, y, z = points[row, 0] - mx, points[row, 1] - my, points[row, 2] - mz
                a[0, 0] += x * x
                a[0, 1] += x * y
                a[0, 2] += x * z
                a[1, 1] += y * y
                a[1, 2] += y * z
                a[2, 2] += z * z
        a[1, 0], a[2, 0], a[2, 1] = a[0, 1], a[0, 2], a[1, 2]
        v[:] = 0.0
        v[0, 0] = v[1, 1] = v[2, 2] = 1.0
        for _ in range(SWEEPS):
            off = a[0, 1] ** 2 + a[0, 2] ** 2 + a[1, 2] ** 2
            if off <= 1e-30 * (a[0, 0] ** 2 + a[1, 1] ** 2 + a[2, 2] ** 2):
                break
            for p in range(2):
                for q in range(p + 1, 3):
                    if a[p, q] == 0.0:
                        continue
                    theta = (a[q, q] - a[p, p]) / (2.0 * a[p, q])
                    t = 1.0 / (abs(theta) + np.sqrt(theta * theta + 1.0))
                    if theta < 0.0:
                        t = -t
                    c = 1.0 / np.sqrt(t * t + 1.0)
                    s = t * c
                    for r in range(3):
                        one, other = a[r, p], a[r, q]
                        a[r, p], a[r, q] = c * one - s * other, s * one + c * other
                    for r in range(3):
                        one, other = a[p, r], a[q, r]
                        a[p, r], a[q, r] = c * one - s * other, s * one + c * other
                    for r in range(3):
                        one, other = v[r, p], v[r, q]
                        v[r, p], v[r, q] = c * one - s * other, s * one + c * other
        least = 0
        if a[1, 1] < a[least, least]:
            least = 1
        if a[2, 2] < a[least, least]:
            least = 2
        sign = -1.0 if v[2, least] < 0.0 else 1.0
        normals[i, 0] = sign * v[0, least]
        normals[i, 1] = sign * v[1, least]
        normals[i, 2] = sign * v[2, least]
