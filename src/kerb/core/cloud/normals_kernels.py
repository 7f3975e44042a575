"""Kernel of normals: the direction in which neighbours of a point spread least."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

SWEEPS = 8


@inline
def _rotation(pp, pq, qq):
    """Cosine, sine and tangent of the Jacobi rotation that makes ``pq`` nought."""
    if pq == 0.0:
        return 1.0, 0.0, 0.0
    theta = (qq - pp) / (2.0 * pq)
    t = 1.0 / (abs(theta) + np.sqrt(theta * theta + 1.0))
    if theta < 0.0:
        t = -t
    c = 1.0 / np.sqrt(t * t + 1.0)
    return c, t * c, t


@inline
def _columns(one, other, c, s):
    return c * one - s * other, s * one + c * other


@kernel
def least_spread(points, index, fewest, normals):
    """Normals (m, 3) of the total least-squares planes through neighbours; NaN with fewer than ``fewest``.

    ``index`` (m, k) names rows of ``points`` (n, 3), -1 where there is none. The eigenvector of the smallest eigenvalue
    of the covariance, by Jacobi rotations (Golub and Van Loan, *Matrix Computations*, 8.5), in single numbers, which stay in
    registers; it points up.
    """
    k = index.shape[1]
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
        a00, a01, a02, a11, a12, a22 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for j in range(k):
            row = index[i, j]
            if row >= 0:
                x, y, z = points[row, 0] - mx, points[row, 1] - my, points[row, 2] - mz
                a00 += x * x
                a01 += x * y
                a02 += x * z
                a11 += y * y
                a12 += y * z
                a22 += z * z
        u0, v0, w0 = 1.0, 0.0, 0.0
        u1, v1, w1 = 0.0, 1.0, 0.0
        u2, v2, w2 = 0.0, 0.0, 1.0
        for _ in range(SWEEPS):
            off = a01**2 + a02**2 + a12**2
            if off <= 1e-24 * (a00**2 + a11**2 + a22**2):
                break
            # First against second, first against third, second against third: the matrix, and the axes so far.
            c, s, t = _rotation(a00, a01, a11)
            a00, a11, a01 = a00 - t * a01, a11 + t * a01, 0.0
            a02, a12 = _columns(a02, a12, c, s)
            u0, v0 = _columns(u0, v0, c, s)
            u1, v1 = _columns(u1, v1, c, s)
            u2, v2 = _columns(u2, v2, c, s)
            c, s, t = _rotation(a00, a02, a22)
            a00, a22, a02 = a00 - t * a02, a22 + t * a02, 0.0
            a01, a12 = _columns(a01, a12, c, s)
            u0, w0 = _columns(u0, w0, c, s)
            u1, w1 = _columns(u1, w1, c, s)
            u2, w2 = _columns(u2, w2, c, s)
            c, s, t = _rotation(a11, a12, a22)
            a11, a22, a12 = a11 - t * a12, a22 + t * a12, 0.0
            a01, a02 = _columns(a01, a02, c, s)
            v0, w0 = _columns(v0, w0, c, s)
            v1, w1 = _columns(v1, w1, c, s)
            v2, w2 = _columns(v2, w2, c, s)
        x, y, z, least = u0, u1, u2, a00
        if a11 < least:
            x, y, z, least = v0, v1, v2, a11
        if a22 < least:
            x, y, z = w0, w1, w2
        sign = -1.0 if z < 0.0 else 1.0
        normals[i, 0], normals[i, 1], normals[i, 2] = sign * x, sign * y, sign * z
