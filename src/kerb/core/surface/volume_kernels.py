"""Kernels that integrate the height between two surfaces over triangles, above and below kept apart.

Over a triangle with corner heights h1, h2, h3 and plan area A the volume is A (h1 + h2 + h3) / 3; where the heights
change sign the lone corner cuts off the share h1² / ((h1 - h2)(h1 - h3)) of the area. Both are exact.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.surface.tin_kernels import cell_of


@inline
def _add_triangle(area, h1, h2, h3, sums):
    """Add a triangle's volume above [0], below [1], area above [2] and area below [3]."""
    total = area * (h1 + h2 + h3) / 3.0
    if h1 >= 0.0 and h2 >= 0.0 and h3 >= 0.0:
        sums[0] += total
        sums[2] += area
    elif h1 <= 0.0 and h2 <= 0.0 and h3 <= 0.0:
        sums[1] -= total
        sums[3] += area
    else:
        # Turn the corners so that h1 is the one alone on its side.
        if (h1 > 0.0) == (h2 > 0.0):
            h1, h3 = h3, h1
        elif (h1 > 0.0) == (h3 > 0.0):
            h1, h2 = h2, h1
        share = h1 * h1 / ((h1 - h2) * (h1 - h3))
        tip = area * share * h1 / 3.0
        if h1 > 0.0:
            sums[0] += tip
            sums[1] += tip - total
            sums[2] += area * share
            sums[3] += area * (1.0 - share)
        else:
            sums[1] -= tip
            sums[0] += total - tip
            sums[3] += area * share
            sums[2] += area * (1.0 - share)


@kernel
def over_heights(areas, triangles, heights, first, last, sums):
    """Integrate vertex heights (top minus base, base plane or piecewise on the same triangles)."""
    for t in range(first, last):
        _add_triangle(areas[t], heights[triangles[t, 0]], heights[triangles[t, 1]], heights[triangles[t, 2]], sums)


@inline
def _clip(px, py, n, ax, ay, bx, by, qx, qy):
    """Keep the part of a convex polygon left of the line a-b. Returns the new number of corners."""
    m = 0
    ex, ey = bx - ax, by - ay
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        di = ex * (py[i] - ay) - ey * (px[i] - ax)
        dj = ex * (py[j] - ay) - ey * (px[j] - ax)
        if di >= 0.0:
            qx[m], qy[m] = px[i], py[i]
            m += 1
        if (di > 0.0 and dj < 0.0) or (di < 0.0 and dj > 0.0):
            s = di / (di - dj)
            qx[m] = px[i] + s * (px[j] - px[i])
            qy[m] = py[i] + s * (py[j] - py[i])
            m += 1
    return m


@inline
def _plane(vertices, a, b, c, out):
    """Gradient and value at the origin of the plane through a triangle."""
    ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
    uz, vz = vertices[b, 2] - vertices[a, 2], vertices[c, 2] - vertices[a, 2]
    det = ux * vy - uy * vx
    if det == 0.0:
        return False
    out[0] = (uz * vy - vz * uy) / det
    out[1] = (ux * vz - vx * uz) / det
    out[2] = vertices[a, 2] - out[0] * vertices[a, 0] - out[1] * vertices[a, 1]
    return True


@kernel
def over_tin(top_v, top_t, base_v, base_t, low, inverse, shape, starts, listed, first, last, sums):
    """Integrate a top surface minus a base surface over their common plan area, by exact overlay.

    Each top triangle is clipped by the base triangles that it may touch (found in the grid of the base; a base
    triangle is taken only in the first cell shared by both boxes, so that none counts twice). Sums as above, and the
    common area in [4].
    """
    px, py = np.empty(12), np.empty(12)
    qx, qy = np.empty(12), np.empty(12)
    top, base = np.empty(3), np.empty(3)
    for t in range(first, last):
        a, b, c = top_t[t, 0], top_t[t, 1], top_t[t, 2]
        if not _plane(top_v, a, b, c, top):
            continue
        x0 = min(top_v[a, 0], min(top_v[b, 0], top_v[c, 0]))
        x1 = max(top_v[a, 0], max(top_v[b, 0], top_v[c, 0]))
        y0 = min(top_v[a, 1], min(top_v[b, 1], top_v[c, 1]))
        y1 = max(top_v[a, 1], max(top_v[b, 1], top_v[c, 1]))
        i0, i1 = cell_of(x0, low[0], inverse, shape[0]), cell_of(x1, low[0], inverse, shape[0])
        j0, j1 = cell_of(y0, low[1], inverse, shape[1]), cell_of(y1, low[1], inverse, shape[1])
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                cell = i * shape[1] + j
                for k in range(starts[cell], starts[cell + 1]):
                    s = listed[k]
                    d, e, f = base_t[s, 0], base_t[s, 1], base_t[s, 2]
                    bx0 = min(base_v[d, 0], min(base_v[e, 0], base_v[f, 0]))
                    by0 = min(base_v[d, 1], min(base_v[e, 1], base_v[f, 1]))
                    if i != max(i0, cell_of(bx0, low[0], inverse, shape[0])):
                        continue
                    if j != max(j0, cell_of(by0, low[1], inverse, shape[1])):
                        continue
                    # Most that share a cell do not touch: told by their boxes, before any clip.
                    if x1 < bx0 or y1 < by0 or x0 > max(base_v[d, 0], max(base_v[e, 0], base_v[f, 0])):
                        continue
                    if y0 > max(base_v[d, 1], max(base_v[e, 1], base_v[f, 1])):
                        continue
                    if not _plane(base_v, d, e, f, base):
                        continue
                    px[0], py[0] = top_v[a, 0], top_v[a, 1]
                    px[1], py[1] = top_v[b, 0], top_v[b, 1]
                    px[2], py[2] = top_v[c, 0], top_v[c, 1]
                    n = _clip(px, py, 3, base_v[d, 0], base_v[d, 1], base_v[e, 0], base_v[e, 1], qx, qy)
                    n = _clip(qx, qy, n, base_v[e, 0], base_v[e, 1], base_v[f, 0], base_v[f, 1], px, py)
                    n = _clip(px, py, n, base_v[f, 0], base_v[f, 1], base_v[d, 0], base_v[d, 1], qx, qy)
                    if n < 3:
                        continue
                    g0, g1, g2 = top[0] - base[0], top[1] - base[1], top[2] - base[2]
                    h0 = g0 * qx[0] + g1 * qy[0] + g2
                    for m in range(1, n - 1):
                        ux, uy = qx[m] - qx[0], qy[m] - qy[0]
                        vx, vy = qx[m + 1] - qx[0], qy[m + 1] - qy[0]
                        area = 0.5 * (ux * vy - uy * vx)
                        if area <= 0.0:
                            continue
                        h1 = g0 * qx[m] + g1 * qy[m] + g2
                        h2 = g0 * qx[m + 1] + g1 * qy[m + 1] + g2
                        sums[4] += area
                        _add_triangle(area, h0, h1, h2, sums)
