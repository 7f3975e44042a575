"""Kernels of mending a surface: what a place or a line touches among a million triangles, without an index over them."""

from __future__ import annotations

from kerb.core.jit import inline, kernel


@inline
def _beyond(ax, ay, bx, by, cx, cy, x, y):
    """Above zero where a place lies inside the circle through a, b, c, which run counter-clockwise."""
    ax, ay, bx, by, cx, cy = ax - x, ay - y, bx - x, by - y, cx - x, cy - y
    a, b, c = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    return ax * (by * c - b * cy) - ay * (bx * c - b * cx) + a * (bx * cy - by * cx)


@kernel
def in_circles(v, t, x, y, out):
    """Mark the triangles whose circle round their corners holds a place."""
    for s in range(t.shape[0]):
        a, b, c = t[s, 0], t[s, 1], t[s, 2]
        out[s] = _beyond(v[a, 0], v[a, 1], v[b, 0], v[b, 1], v[c, 0], v[c, 1], x, y) > 0.0


@kernel
def in_box(v, t, low, high, out):
    """Mark the triangles whose plan box touches a box."""
    for s in range(t.shape[0]):
        a, b, c = t[s, 0], t[s, 1], t[s, 2]
        out[s] = (
            max(v[a, 0], max(v[b, 0], v[c, 0])) >= low[0] and min(v[a, 0], min(v[b, 0], v[c, 0])) <= high[0]
            and max(v[a, 1], max(v[b, 1], v[c, 1])) >= low[1] and min(v[a, 1], min(v[b, 1], v[c, 1])) <= high[1]
        )  # fmt: skip


@kernel
def crossings(v, edges, line, closed, found):
    """Where edges (pairs of vertices) cross the segments of a line (n, 2): edge, segment, share along each; how many there are.

    Those that find no room in ``found`` (k, 4) are counted. Edges that run along a segment cross it nowhere.
    """
    n = line.shape[0]
    count = 0
    for e in range(edges.shape[0]):
        ax, ay = v[edges[e, 0], 0], v[edges[e, 0], 1]
        bx, by = v[edges[e, 1], 0], v[edges[e, 1], 1]
        for s in range(n if closed else n - 1):
            r = s + 1 if s + 1 < n else 0
            px, py, qx, qy = line[s, 0], line[s, 1], line[r, 0], line[r, 1]
            if max(ax, bx) < min(px, qx) or min(ax, bx) > max(px, qx):
                continue
            if max(ay, by) < min(py, qy) or min(ay, by) > max(py, qy):
                continue
            ex, ey, fx, fy = bx - ax, by - ay, qx - px, qy - py
            det = ex * fy - ey * fx
            if det * det <= 1e-18 * (ex * ex + ey * ey) * (fx * fx + fy * fy):
                continue
            u = ((px - ax) * fy - (py - ay) * fx) / det
            w = ((px - ax) * ey - (py - ay) * ex) / det
            if -1e-9 <= u <= 1.0 + 1e-9 and -1e-9 <= w <= 1.0 + 1e-9:
                if count < found.shape[0]:
                    found[count, 0], found[count, 1], found[count, 2], found[count, 3] = e, s, u, w
                count += 1
    return count
