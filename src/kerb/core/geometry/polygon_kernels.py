"""Kernels on polygons in plan: which points lie inside, and how much of a grid cell does."""

from __future__ import annotations

from kerb.core.jit import inline, kernel


@inline
def _band(y, low, inverse, many):
    return int(min(max((y - low) * inverse, 0.0), many - 1.0))


@kernel
def bands(py, low, inverse, starts, listed):
    """The edges of a ring that each band of northings meets: how many there are with what they begin at. ``starts`` (bands + 1,)
    is filled, and ``listed`` where it has room for them."""
    n, many = len(py), len(starts) - 1
    starts[:] = 0
    for turn in range(2):
        j = n - 1
        for k in range(n):
            first, last = _band(min(py[k], py[j]), low, inverse, many), _band(max(py[k], py[j]), low, inverse, many)
            for b in range(first, last + 1):
                if turn:
                    listed[starts[b]] = k
                starts[b if turn else b + 1] += 1
            j = k
        if not turn:
            for b in range(many):
                starts[b + 1] += starts[b]
            if starts[many] > len(listed):
                return starts[many]
    # Each was moved on to where the next begins.
    for b in range(many, 0, -1):
        starts[b] = starts[b - 1]
    starts[0] = 0
    return starts[many]


@kernel
def inside(x, y, px, py, low, inverse, starts, listed, out):
    """Crossing-number test with half-open edges: a point on a shared edge belongs to one of two neighbours."""
    n, many = px.shape[0], len(starts) - 1
    x0, x1, y0, y1 = px.min(), px.max(), py.min(), py.max()
    for i in range(x.shape[0]):
        out[i] = False
        if not (x0 <= x[i] <= x1 and y0 <= y[i] <= y1):
            continue
        odd = False
        b = _band(y[i], low, inverse, many)
        for e in range(starts[b], starts[b + 1]):
            k = listed[e]
            j = k - 1 if k else n - 1
            if (py[k] > y[i]) != (py[j] > y[i]):
                at = (px[j] - px[k]) * (y[i] - py[k]) / (py[j] - py[k]) + px[k]
                if x[i] < at:
                    odd = not odd
        out[i] = odd


@kernel
def cover(px, py, low_x, low_y, cell, area):
    """Signed area of a closed ring within each cell of a grid, added to ``area`` (rows are y, columns x).

    Each edge adds the trapezium between itself and the right border of its cell, and the full cell width of its
    height to every cell left of it; summed round a counter-clockwise ring this is the exact covered area. The ring
    must lie within the grid.
    """
    rows, columns = area.shape
    n = px.shape[0]
    for k in range(n):
        xa, ya = (px[k] - low_x) / cell, (py[k] - low_y) / cell
        xb, yb = (px[(k + 1) % n] - low_x) / cell, (py[(k + 1) % n] - low_y) / cell
        if ya == yb:
            continue
        sign = 1.0
        if ya > yb:
            xa, ya, xb, yb = xb, yb, xa, ya
            sign = -1.0
        slope = (xb - xa) / (yb - ya)
        for r in range(max(int(ya), 0), min(int(yb), rows - 1) + 1):
            y0, y1 = max(ya, float(r)), min(yb, r + 1.0)
            if y1 <= y0:
                continue
            x0, x1 = xa + (y0 - ya) * slope, xa + (y1 - ya) * slope
            left, right = (x0, x1) if x0 < x1 else (x1, x0)
            first, last = min(max(int(left), 0), columns - 1), min(max(int(right), 0), columns - 1)
            height = y1 - y0
            for c in range(first, last + 1):
                part = height
                a, b = left, right
                if last > first:
                    a, b = max(left, float(c)), min(right, c + 1.0)
                    part = height * (b - a) / (right - left)
                middle = 0.5 * (a + b) - c
                area[r, c] += sign * part * middle
                for f in range(c):
                    area[r, f] += sign * part
