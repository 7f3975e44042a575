"""Kernels of tunnels: where points lie along a line."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def along_line(xy, vertices, starts, stride, along, offset):
    """Distance along a polyline (k, 2) of its place nearest to each of points (n, 2 or more), and how far to its right they lie.

    ``starts`` (k,) are the distances of its vertices. The nearest of every ``stride``-th vertex is looked for first, then the
    legs about it. Beyond the ends the line goes on straight.
    """
    k = len(vertices)
    for i in range(len(xy)):
        x, y = xy[i, 0], xy[i, 1]
        best, near = 1e300, 0
        for j in range(0, k, stride):
            dx, dy = vertices[j, 0] - x, vertices[j, 1] - y
            apart = dx * dx + dy * dy
            if apart < best:
                best, near = apart, j
        dx, dy = vertices[k - 1, 0] - x, vertices[k - 1, 1] - y
        if dx * dx + dy * dy < best:
            near = k - 1
        best = 1e300
        for j in range(max(near - stride, 0), min(near + stride, k - 1)):
            ax, ay = vertices[j, 0], vertices[j, 1]
            ex, ey = vertices[j + 1, 0] - ax, vertices[j + 1, 1] - ay
            long = (ex * ex + ey * ey) ** 0.5
            if long == 0.0:
                continue
            share = ((x - ax) * ex + (y - ay) * ey) / (long * long)
            if share < 0.0 and j > 0:
                share = 0.0
            if share > 1.0 and j < k - 2:
                share = 1.0
            px, py = x - ax - share * ex, y - ay - share * ey
            apart = px * px + py * py
            if apart < best:
                best = apart
                along[i] = starts[j] + share * long
                side = ex * (y - ay) - ey * (x - ax)
                offset[i] = -(apart**0.5) if side > 0.0 else apart**0.5
