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


@inline
def _gradient(v, t, s, out):
    """Gradient of a triangle's plane, and its first corner to count from; False where it stands upright."""
    a, b, c = t[s, 0], t[s, 1], t[s, 2]
    ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    vx, vy, vz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    det = ux * vy - uy * vx
    if not det > 0.0:
        return False
    out[0], out[1] = (uz * vy - vz * uy) / det, (ux * vz - vx * uz) / det
    out[2], out[3], out[4] = v[a, 0], v[a, 1], v[a, 2]
    return True


@inline
def _height(plane, x, y):
    return plane[4] + plane[0] * (x - plane[2]) + plane[1] * (y - plane[3])


@kernel
def _clip_to(px, py, n, v, t, s, qx, qy):
    """A convex polygon cut to a triangle; the result is in ``px``, ``py`` again."""
    a, b, c = t[s, 0], t[s, 1], t[s, 2]
    n = clip(px, py, n, v[a, 0], v[a, 1], v[b, 0], v[b, 1], qx, qy)
    if n >= 3:
        n = clip(qx, qy, n, v[b, 0], v[b, 1], v[c, 0], v[c, 1], px, py)
    if n >= 3:
        n = clip(px, py, n, v[c, 0], v[c, 1], v[a, 0], v[a, 1], qx, qy)
    if n >= 3:
        for k in range(n):
            px[k], py[k] = qx[k], qy[k]
    return n


@kernel
def _apart(v, t, s, w, r, u):
    """Whether all corners of triangle r[u] of w lie to the right of, or on, one edge of triangle t[s] of v: then they share no
    ground."""
    for k in range(3):
        a, b = t[s, k], t[s, (k + 1) % 3]
        ex, ey, ax, ay = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[a, 0], v[a, 1]
        if (
            ex * (w[r[u, 0], 1] - ay) - ey * (w[r[u, 0], 0] - ax) <= 0.0
            and ex * (w[r[u, 1], 1] - ay) - ey * (w[r[u, 1], 0] - ax) <= 0.0
            and ex * (w[r[u, 2], 1] - ay) - ey * (w[r[u, 2], 0] - ax) <= 0.0
        ):
            return True
    return False


@kernel
def _add_piece(px, py, n, later, earlier, band, zero, sums, pieces, made):
    """Add a convex piece to the sums, or write its triangles (m, 3, 4): easting, northing, later elevation, difference."""
    x0, y0 = px[0], py[0]
    top0 = _height(later, x0, y0)
    h0 = top0 - _height(earlier, x0, y0)
    for m in range(1, n - 1):
        ux, uy, vx, vy = px[m] - x0, py[m] - y0, px[m + 1] - x0, py[m + 1] - y0
        area = 0.5 * (ux * vy - uy * vx)
        if area <= 0.0:
            continue
        top1, top2 = _height(later, px[m], py[m]), _height(later, px[m + 1], py[m + 1])
        h1, h2 = top1 - _height(earlier, px[m], py[m]), top2 - _height(earlier, px[m + 1], py[m + 1])
        if made >= 0:
            if made < pieces.shape[0]:
                pieces[made, 0, 0], pieces[made, 0, 1], pieces[made, 0, 2], pieces[made, 0, 3] = x0, y0, top0, h0
                pieces[made, 1, 0], pieces[made, 1, 1], pieces[made, 1, 2], pieces[made, 1, 3] = px[m], py[m], top1, h1
                pieces[made, 2, 0], pieces[made, 2, 1] = px[m + 1], py[m + 1]
                pieces[made, 2, 2], pieces[made, 2, 3] = top2, h2
            made += 1
            continue
        sums[COMMON] += area
        if band > 0.0:
            # What lies over the band, with all of its height; under it likewise.
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
        elif abs(h0) <= zero and abs(h1) <= zero and abs(h2) <= zero:
            sums[SAME] += area
        else:
            add_triangle(area, h0, h1, h2, sums)
    return made


@kernel
def overlay(
    top_v, top_t, base_v, base_t, base_box, base_grid, mask_v, mask_t, mask_grid, band, zero, first, last, sums, pieces
):
    """Add up, or list, the pieces of some triangles of the later surface; how many triangles they have when ``pieces`` has room.

    Grids are (low, inverse, shape, starts, listed) of :class:`TriangleIndex`. Without a mask ``mask_t`` is empty. Pieces are
    listed when ``pieces`` is not empty; those that find no room are counted.
    """
    px, py, qx, qy = np.empty(MOST_CORNERS), np.empty(MOST_CORNERS), np.empty(MOST_CORNERS), np.empty(MOST_CORNERS)
    kx, ky = np.empty(MOST_CORNERS), np.empty(MOST_CORNERS)
    later, earlier = np.empty(5), np.empty(5)
    low, inverse, shape, starts, listed = base_grid
    mlow, minverse, mshape, mstarts, mlisted = mask_grid
    made = 0 if pieces.shape[0] else -1
    for t in range(first, last):
        if not _gradient(top_v, top_t, t, later):
            continue
        x0, y0, x1, y1 = box_of(top_v, top_t, t)
        i0, i1 = cell_of(x0, low[0], inverse, shape[0]), cell_of(x1, low[0], inverse, shape[0])
        j0, j1 = cell_of(y0, low[1], inverse, shape[1]), cell_of(y1, low[1], inverse, shape[1])
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                for where in range(starts[i * shape[1] + j], starts[i * shape[1] + j + 1]):
                    s = listed[where]
                    bx0, by0, bx1, by1 = base_box[s, 0], base_box[s, 1], base_box[s, 2], base_box[s, 3]
                    if x1 < bx0 or y1 < by0 or x0 > bx1 or y0 > by1:
                        continue
                    # A pair counts in the first cell that both boxes share.
                    if i != max(i0, cell_of(bx0, low[0], inverse, shape[0])):
                        continue
                    if j != max(j0, cell_of(by0, low[1], inverse, shape[1])):
                        continue
                    if _apart(base_v, base_t, s, top_v, top_t, t) or _apart(top_v, top_t, t, base_v, base_t, s):
                        continue
                    if not _gradient(base_v, base_t, s, earlier):
                        continue
                    for k in range(3):
                        px[k], py[k] = top_v[top_t[t, k], 0], top_v[top_t[t, k], 1]
                    n = _clip_to(px, py, 3, base_v, base_t, s, qx, qy)
                    if n < 3:
                        continue
                    if not mask_t.shape[0]:
                        made = _add_piece(px, py, n, later, earlier, band, zero, sums, pieces, made)
                        continue
                    cx0, cy0, cx1, cy1 = px[:n].min(), py[:n].min(), px[:n].max(), py[:n].max()
                    a0, a1 = cell_of(cx0, mlow[0], minverse, mshape[0]), cell_of(cx1, mlow[0], minverse, mshape[0])
                    b0, b1 = cell_of(cy0, mlow[1], minverse, mshape[1]), cell_of(cy1, mlow[1], minverse, mshape[1])
                    for a in range(a0, a1 + 1):
                        for b in range(b0, b1 + 1):
                            for at in range(mstarts[a * mshape[1] + b], mstarts[a * mshape[1] + b + 1]):
                                u = mlisted[at]
                                ux0, uy0, ux1, uy1 = box_of(mask_v, mask_t, u)
                                if cx1 < ux0 or cy1 < uy0 or cx0 > ux1 or cy0 > uy1:
                                    continue
                                if a != max(a0, cell_of(ux0, mlow[0], minverse, mshape[0])):
                                    continue
                                if b != max(b0, cell_of(uy0, mlow[1], minverse, mshape[1])):
                                    continue
                                for k in range(n):
                                    kx[k], ky[k] = px[k], py[k]
                                m = _clip_to(kx, ky, n, mask_v, mask_t, u, qx, qy)
                                if m >= 3:
                                    made = _add_piece(kx, ky, m, later, earlier, band, zero, sums, pieces, made)
    return made
