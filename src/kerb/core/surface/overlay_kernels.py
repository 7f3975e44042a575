"""Two triangulations laid over one another, cut to areas, prism by prism: the exact difference of two surfaces.

A triangle of the later surface is clipped by those of the earlier one that it touches, and what is left by those of the area; on
each piece the difference of the two planes is linear, so its prisms are exact.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.surface.tin_kernels import box_of, cell_of
from kerb.core.surface.volume_kernels import add_triangle, clip

# Sums: volume above and below (changes under the dead band left out), their areas, area in common, area that stays the same.
FILL, CUT, FILL_AREA, CUT_AREA, COMMON, SAME = 0, 1, 2, 3, 4, 5
MOST_CORNERS = 16


# What is kept of a triangle: its corners in plan, the gradient of its plane, and the elevation of its first corner.
AX, AY, BX, BY, CX, CY, GX, GY, AZ = 0, 1, 2, 3, 4, 5, 6, 7, 8


@kernel
def _pack(v, t, s, out, row):
    """Keep a triangle in one row; the gradient is no number where it stands upright or is turned over."""
    a, b, c = t[s, 0], t[s, 1], t[s, 2]
    ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    vx, vy, vz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    det = ux * vy - uy * vx
    out[row, AX], out[row, AY], out[row, BX], out[row, BY] = v[a, 0], v[a, 1], v[b, 0], v[b, 1]
    out[row, CX], out[row, CY], out[row, AZ] = v[c, 0], v[c, 1], v[a, 2]
    out[row, GX] = (uz * vy - vz * uy) / det if det > 0.0 else np.nan
    out[row, GY] = (ux * vz - vx * uz) / det


@kernel
def pack(vertices, triangles, first, last, out):
    """Keep some triangles in a row each, (m, 9), in the order of the constants above."""
    for s in range(first, last):
        _pack(vertices, triangles, s, out, s)


# Rows are named by their number: a view of a row would be counted and uncounted, which costs more than what is read.
@inline
def _height(p, s, x, y):
    return p[s, AZ] + p[s, GX] * (x - p[s, AX]) + p[s, GY] * (y - p[s, AY])


@inline
def _clip_to(px, py, n, p, s, qx, qy):
    """A convex polygon cut to a triangle; the result is in ``qx``, ``qy``."""
    n = clip(px, py, n, p[s, AX], p[s, AY], p[s, BX], p[s, BY], qx, qy)
    if n >= 3:
        n = clip(qx, qy, n, p[s, BX], p[s, BY], p[s, CX], p[s, CY], px, py)
    if n >= 3:
        n = clip(px, py, n, p[s, CX], p[s, CY], p[s, AX], p[s, AY], qx, qy)
    return n


# Comparisons below are joined without branches, and lists written in any case and counted where it holds: which of them fails
# cannot be foreseen, and a wrong guess costs more than all.
@inline
def _sides(ax, ay, bx, by, q, u):
    """Whether a triangle lies to the right of, or on, a line, and whether to its left, or on it."""
    ex, ey = bx - ax, by - ay
    a = ex * (q[u, AY] - ay) - ey * (q[u, AX] - ax)
    b = ex * (q[u, BY] - ay) - ey * (q[u, BX] - ax)
    c = ex * (q[u, CY] - ay) - ey * (q[u, CX] - ax)
    return (a <= 0.0) & (b <= 0.0) & (c <= 0.0), (a >= 0.0) & (b >= 0.0) & (c >= 0.0)


@kernel
def _lies(p, s, q, u):
    """Whether a triangle u of q lies to the right of, or on, one edge of triangle s of p (then they share no ground), and whether
    it lies in it."""
    right, left = _sides(p[s, AX], p[s, AY], p[s, BX], p[s, BY], q, u)
    right2, left2 = _sides(p[s, BX], p[s, BY], p[s, CX], p[s, CY], q, u)
    right3, left3 = _sides(p[s, CX], p[s, CY], p[s, AX], p[s, AY], q, u)
    return right | right2 | right3, left & left2 & left3


@kernel
def _off(p, s, x0, y0, x1, y1):
    """Whether a triangle lies off a box."""
    return (
        ((x1 < p[s, AX]) & (x1 < p[s, BX]) & (x1 < p[s, CX]))
        | ((x0 > p[s, AX]) & (x0 > p[s, BX]) & (x0 > p[s, CX]))
        | ((y1 < p[s, AY]) & (y1 < p[s, BY]) & (y1 < p[s, CY]))
        | ((y0 > p[s, AY]) & (y0 > p[s, BY]) & (y0 > p[s, CY]))
    )


@kernel
def _add_beyond(area, h0, h1, h2, band, sums):
    """Add what lies over a dead band, with all of its height, and under it likewise. Kept apart: it needs an array of its own,
    which costs the rest a quarter of its time even where there is no band."""
    part = np.zeros(4)
    add_triangle(area, h0 - band, h1 - band, h2 - band, part)
    sums[FILL] += part[0] + band * part[2]
    sums[FILL_AREA] += part[2]
    same = area - part[2]
    part[:] = 0.0
    add_triangle(area, h0 + band, h1 + band, h2 + band, part)
    sums[CUT] += part[1] + band * part[3]
    sums[CUT_AREA] += part[3]
    sums[SAME] += same - part[3]


@inline
def _touching(p, near, many, x0, y0, x1, y1):
    """Leave of the first triangles named in ``near`` those whose box touches another one; how many they are."""
    count = 0
    for k in range(many):
        s = near[k]
        near[count] = s
        count += not _off(p, s, x0, y0, x1, y1)
    return count


@inline
def _add_piece(px, py, n, later, base, s, band, zero, heights, sums, pieces, made):
    """Add a convex piece to the sums, or write its triangles (m, 3, 4): easting, northing, later elevation, difference."""
    low, high = np.inf, -np.inf
    for k in range(n):
        h = _height(later, 0, px[k], py[k]) - _height(base, s, px[k], py[k])
        low, high = min(low, h), max(high, h)
        heights[k] = h
    x0, y0, h0 = px[0], py[0], heights[0]
    # Nearly all lie on one side whole.
    if made < 0 and band == 0.0 and (low > zero or high < -zero):
        total, volume = 0.0, 0.0
        for m in range(1, n - 1):
            area = max((px[m] - x0) * (py[m + 1] - y0) - (py[m] - y0) * (px[m + 1] - x0), 0.0)
            total += area
            volume += area * (h0 + heights[m] + heights[m + 1])
        total *= 0.5
        volume /= 6.0
        sums[COMMON] += total
        if low > 0.0:
            sums[FILL] += volume
            sums[FILL_AREA] += total
        else:
            sums[CUT] -= volume
            sums[CUT_AREA] += total
        return made
    for m in range(1, n - 1):
        ux, uy, vx, vy = px[m] - x0, py[m] - y0, px[m + 1] - x0, py[m + 1] - y0
        area = 0.5 * (ux * vy - uy * vx)
        if area <= 0.0:
            continue
        h1, h2 = heights[m], heights[m + 1]
        if made >= 0:
            if made < pieces.shape[0]:
                for k, at in enumerate((0, m, m + 1)):
                    pieces[made, k, 0], pieces[made, k, 1] = px[at], py[at]
                    pieces[made, k, 2], pieces[made, k, 3] = _height(later, 0, px[at], py[at]), heights[at]
            made += 1
            continue
        sums[COMMON] += area
        if band > 0.0:
            _add_beyond(area, h0, h1, h2, band, sums)
        elif abs(h0) <= zero and abs(h1) <= zero and abs(h2) <= zero:
            sums[SAME] += area
        else:
            add_triangle(area, h0, h1, h2, sums)
    return made


@kernel
def overlay(top_v, top_t, base, base_grid, mask_v, mask_t, mask_grid, band, zero, first, last, sums, pieces):
    """Add up, or list, the pieces of some triangles of the later surface; how many triangles they have when ``pieces`` has room.

    ``base`` is the earlier surface as :func:`pack` keeps it. Grids are (low, inverse, shape, starts, listed) of
    :class:`TriangleIndex`. Without a mask ``mask_t`` is empty. Pieces are listed when ``pieces`` is not empty; those that find
    no room are counted.
    """
    px, py, qx, qy = np.empty(MOST_CORNERS), np.empty(MOST_CORNERS), np.empty(MOST_CORNERS), np.empty(MOST_CORNERS)
    kx, ky, near = np.empty(MOST_CORNERS), np.empty(MOST_CORNERS), np.empty(256, np.int32)
    later, part, heights = np.empty((1, 9)), np.empty((1, 9)), np.empty(MOST_CORNERS)
    low, inverse, shape, starts, listed = base_grid
    mlow, minverse, mshape, mstarts, mlisted = mask_grid
    made = 0 if pieces.shape[0] else -1
    # The last triangle that met each one of the earlier surface, which several cells list: a pair counts in the first of them.
    met = np.full(base.shape[0], -1, np.int32)
    for t in range(first, last):
        _pack(top_v, top_t, t, later, 0)
        if np.isnan(later[0, GX]):
            continue
        x0, y0, x1, y1 = box_of(top_v, top_t, t)
        i0, i1 = cell_of(x0, low[0], inverse, shape[0]), cell_of(x1, low[0], inverse, shape[0])
        j0, j1 = cell_of(y0, low[1], inverse, shape[1]), cell_of(y1, low[1], inverse, shape[1])
        many = 0
        for i in range(i0, i1 + 1):
            begin, stop = starts[i * shape[1] + j0], starts[i * shape[1] + j1 + 1]
            if many + stop - begin > len(near):
                near = np.concatenate((near, np.empty(many + stop - begin, np.int32)))
            for where in range(begin, stop):
                s = listed[where]
                near[many] = s
                many += met[s] != t
                met[s] = t
        for s in near[: _touching(base, near, many, x0, y0, x1, y1)]:
            off, within = _lies(base, s, later, 0)
            if off | _lies(later, 0, base, s)[0] or np.isnan(base[s, GX]):
                continue
            n = 3
            for k in range(3):
                px[k], py[k] = later[0, AX + 2 * k], later[0, AY + 2 * k]
                qx[k], qy[k] = px[k], py[k]
            # What lies in one whole triangle, as most do where that is large, is not cut and meets no other.
            if not within:
                n = _clip_to(px, py, 3, base, s, qx, qy)
            if n < 3:
                continue
            if not mask_t.shape[0]:
                made = _add_piece(qx, qy, n, later, base, s, band, zero, heights, sums, pieces, made)
                continue
            cx0, cy0, cx1, cy1 = qx[:n].min(), qy[:n].min(), qx[:n].max(), qy[:n].max()
            a0, a1 = cell_of(cx0, mlow[0], minverse, mshape[0]), cell_of(cx1, mlow[0], minverse, mshape[0])
            b0, b1 = cell_of(cy0, mlow[1], minverse, mshape[1]), cell_of(cy1, mlow[1], minverse, mshape[1])
            for a in range(a0, a1 + 1):
                for b in range(b0, b1 + 1):
                    for at in range(mstarts[a * mshape[1] + b], mstarts[a * mshape[1] + b + 1]):
                        u = mlisted[at]
                        ux0, uy0, ux1, uy1 = box_of(mask_v, mask_t, u)
                        if cx1 < ux0 or cy1 < uy0 or cx0 > ux1 or cy0 > uy1:
                            continue
                        # A piece and a triangle of the area count in the first cell that both boxes share.
                        if a != max(a0, cell_of(ux0, mlow[0], minverse, mshape[0])):
                            continue
                        if b != max(b0, cell_of(uy0, mlow[1], minverse, mshape[1])):
                            continue
                        for k in range(n):
                            px[k], py[k] = qx[k], qy[k]
                        _pack(mask_v, mask_t, u, part, 0)
                        m = _clip_to(px, py, n, part, 0, kx, ky)
                        if m >= 3:
                            made = _add_piece(kx, ky, m, later, base, s, band, zero, heights, sums, pieces, made)
    return made
