"""Kernels that integrate the height between two surfaces over triangles, above and below kept apart.

Over a triangle with corner heights h1, h2, h3 and plan area A the volume is A (h1 + h2 + h3) / 3; where the heights
change sign the lone corner cuts off the share h1² / ((h1 - h2)(h1 - h3)) of the area. Both are exact.
"""

from __future__ import annotations

from kerb.core.jit import inline, kernel


@inline
def add_triangle(area, h1, h2, h3, sums):
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
        add_triangle(areas[t], heights[triangles[t, 0]], heights[triangles[t, 1]], heights[triangles[t, 2]], sums)


@kernel
def clip(px, py, n, ax, ay, bx, by, qx, qy):
    """Keep the part of a convex polygon left of the line a-b. Returns the new number of corners."""
    m = 0
    ex, ey = bx - ax, by - ay
    first = di = ex * (py[0] - ay) - ey * (px[0] - ax)
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        dj = ex * (py[j] - ay) - ey * (px[j] - ax) if j else first
        # Corner and crossing are written in any case and counted where they stay: whether they do cannot be foreseen.
        qx[m], qy[m] = px[i], py[i]
        m += di >= 0.0
        s = di / (di - dj)
        qx[m] = px[i] + s * (px[j] - px[i])
        qy[m] = py[i] + s * (py[j] - py[i])
        m += di * dj < 0.0
        di = dj
    return m
