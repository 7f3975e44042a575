"""Kernels on triangulated surfaces: a grid over the triangles, and the triangle and elevation under a place."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel


@inline
def cell_of(place, origin, inverse, size):
    """The cell of a place along one axis; what lies outside the grid belongs to its outermost cells."""
    return int(min(max((place - origin) * inverse, 0.0), size - 1.0))


@inline
def box_of(v, t, s):
    """Lowest and highest plan corner of a triangle."""
    a, b, c = t[s, 0], t[s, 1], t[s, 2]
    return (
        min(v[a, 0], min(v[b, 0], v[c, 0])), min(v[a, 1], min(v[b, 1], v[c, 1])),
        max(v[a, 0], max(v[b, 0], v[c, 0])), max(v[a, 1], max(v[b, 1], v[c, 1])),
    )  # fmt: skip


@kernel
def index_triangles(vertices, triangles, low, inverse, shape, first, last, at, listed, fill):
    """Count in ``at`` (fill False), or list from there on (fill True), those of some triangles whose box touches each cell."""
    for t in range(first, last):
        x0, y0, x1, y1 = box_of(vertices, triangles, t)
        i0, i1 = cell_of(x0, low[0], inverse, shape[0]), cell_of(x1, low[0], inverse, shape[0])
        j0, j1 = cell_of(y0, low[1], inverse, shape[1]), cell_of(y1, low[1], inverse, shape[1])
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                n = i * shape[1] + j
                if fill:
                    listed[at[n]] = t
                at[n] += 1


@inline
def _weights(vertices, triangles, t, x, y):
    """Weights of the second and third corner at a place; NaN, which passes no comparison, where the area is zero."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
    det = ux * vy - uy * vx
    wx, wy = x - vertices[a, 0], y - vertices[a, 1]
    if det == 0.0:
        return np.nan, np.nan
    return (wx * vy - wy * vx) / det, (ux * wy - uy * wx) / det


@inline
def _elevation(vertices, triangles, t, s, r):
    z = vertices[triangles[t, 0], 2]
    return z + s * (vertices[triangles[t, 1], 2] - z) + r * (vertices[triangles[t, 2], 2] - z)


@kernel
def elevations(vertices, triangles, low, inverse, shape, starts, listed, xy, out):
    """Elevation of the surface at each place, NaN where there is no triangle."""
    slack = 1e-9
    for q in range(xy.shape[0]):
        x, y = xy[q, 0], xy[q, 1]
        out[q] = np.nan
        n = cell_of(x, low[0], inverse, shape[0]) * shape[1] + cell_of(y, low[1], inverse, shape[1])
        for k in range(starts[n], starts[n + 1]):
            t = listed[k]
            s, r = _weights(vertices, triangles, t, x, y)
            if s >= -slack and r >= -slack and s + r <= 1.0 + slack:
                out[q] = _elevation(vertices, triangles, t, s, r)
                break


@kernel
def locate(vertices, triangles, low, inverse, shape, starts, listed, xy, found, out):
    """The triangle under each place (-1 where there is none) and its elevation there.

    Of several that a place on an edge belongs to, the one it lies deepest in. Weights are taken in the order in which
    a triangle names its corners, so that the same triangle gives the same bits wherever it is found.
    """
    slack = 1e-9
    for q in range(xy.shape[0]):
        x, y = xy[q, 0], xy[q, 1]
        found[q], out[q], deepest = -1, np.nan, -slack
        n = cell_of(x, low[0], inverse, shape[0]) * shape[1] + cell_of(y, low[1], inverse, shape[1])
        for k in range(starts[n], starts[n + 1]):
            t = listed[k]
            s, r = _weights(vertices, triangles, t, x, y)
            depth = min(1.0 - s - r, min(s, r))
            if depth >= deepest:
                deepest, found[q] = depth, t
                out[q] = _elevation(vertices, triangles, t, s, r)


@kernel
def sort_rows(triangles):
    """Put the three numbers of each row in rising order."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        low, high = min(a, min(b, c)), max(a, max(b, c))
        triangles[t, 0], triangles[t, 1], triangles[t, 2] = low, a + b + c - low - high, high


@kernel
def sizes(vertices, triangles, what, out):
    """Of each triangle its plan area (``what`` 0, negative where it turns clockwise), its area along the surface (1) or its
    longest edge in plan (2)."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
        vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
        if what == 2:
            wx, wy = vx - ux, vy - uy
            out[t] = np.sqrt(max(ux * ux + uy * uy, max(vx * vx + vy * vy, wx * wx + wy * wy)))
            continue
        flat = 0.5 * (ux * vy - uy * vx)
        if what == 1:
            uz, vz = vertices[b, 2] - vertices[a, 2], vertices[c, 2] - vertices[a, 2]
            east, north = 0.5 * (uy * vz - uz * vy), 0.5 * (uz * vx - ux * vz)
            flat = np.sqrt(flat * flat + east * east + north * north)
        out[t] = flat


@kernel
def boxes(vertices, triangles, out):
    """Lowest and highest plan corner of each triangle, (m, 4)."""
    for t in range(triangles.shape[0]):
        out[t, 0], out[t, 1], out[t, 2], out[t, 3] = box_of(vertices, triangles, t)


@kernel
def touched(v, t, line, closed, room, out):
    """Mark the triangles that a segment of a line (n, 2) touches, or passes by less than ``room``; no more than few others."""
    n = line.shape[0]
    for s in range(t.shape[0]):
        a, b, c = t[s, 0], t[s, 1], t[s, 2]
        x0, x1 = min(v[a, 0], min(v[b, 0], v[c, 0])) - room, max(v[a, 0], max(v[b, 0], v[c, 0])) + room
        y0, y1 = min(v[a, 1], min(v[b, 1], v[c, 1])) - room, max(v[a, 1], max(v[b, 1], v[c, 1])) + room
        out[s] = False
        for k in range(n if closed else n - 1):
            r = k + 1 if k + 1 < n else 0
            px, py, qx, qy = line[k, 0], line[k, 1], line[r, 0], line[r, 1]
            if max(px, qx) < x0 or min(px, qx) > x1 or max(py, qy) < y0 or min(py, qy) > y1:
                continue
            ex, ey = qx - px, qy - py
            one = ex * (v[a, 1] - py) - ey * (v[a, 0] - px)
            two = ex * (v[b, 1] - py) - ey * (v[b, 0] - px)
            three = ex * (v[c, 1] - py) - ey * (v[c, 0] - px)
            by = room * np.sqrt(ex * ex + ey * ey)
            if min(one, min(two, three)) <= by and max(one, max(two, three)) >= -by:
                out[s] = True
                break


@kernel
def merge(points, first, xy, order, keys, place, vertices, many, some_xy, some_order, some_keys):
    """Make rows of (n, 3) points with the same ``first`` row one vertex with their mean elevation; how many vertices there are.

    ``place`` (n,) says which one each became; ``some_…`` take of places in order (see ``delaunay.Arranged``) those of vertices.
    """
    count = 0
    for k in range(len(points)):
        if first[k] == k:
            place[k], many[count] = count, 1
            vertices[count, 0], vertices[count, 1], vertices[count, 2] = points[k, 0], points[k, 1], points[k, 2]
            some_xy[count, 0], some_xy[count, 1] = xy[k, 0], xy[k, 1]
            count += 1
        else:
            own = place[first[k]]
            place[k] = own
            vertices[own, 2] += points[k, 2]
            many[own] += 1
    for k in range(count):
        vertices[k, 2] /= many[k]
    at = 0
    for k in range(len(order)):
        row = order[k]
        if first[row] == row:
            some_order[at], some_keys[at] = place[row], keys[k]
            at += 1
    return count


@kernel
def rim_marks(triangles, marks):
    """Of each vertex the sum over its triangles of the mark of the next corner less that of the one before.

    It is 0 where triangles go all the way round, since each neighbour is once the next and once the one before.
    """
    out = np.zeros(len(marks), np.int64)
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        out[a] += marks[b] - marks[c]
        out[b] += marks[c] - marks[a]
        out[c] += marks[a] - marks[b]
    return out


@kernel
def layers_over(vertices, triangles, low, inverse, shape, starts, listed, xy, room, out):
    """How many triangles hold each place; a place within ``room`` (a share of a triangle) of an edge is not in it."""
    for q in range(xy.shape[0]):
        x, y = xy[q, 0], xy[q, 1]
        out[q] = 0
        n = cell_of(x, low[0], inverse, shape[0]) * shape[1] + cell_of(y, low[1], inverse, shape[1])
        for k in range(starts[n], starts[n + 1]):
            s, r = _weights(vertices, triangles, listed[k], x, y)
            if s > room and r > room and s + r < 1.0 - room:
                out[q] += 1
