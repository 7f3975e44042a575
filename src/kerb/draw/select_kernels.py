"""Kernel of selection: which points of a tile are drawn under rings on the screen."""

from __future__ import annotations

from kerb.core.jit import kernel
from kerb.draw.raster_kernels import _project


@kernel
def under_edges(xyz, centre, matrix, perspective, near, far, edges, box, out):
    """Mark in ``out`` (n,) the points of integer coordinates (n, 3) that lie under rings, by the even-odd rule.

    ``edges`` (k, 4) are x, y of start and end of the edges that can matter, ``box`` the rings' lowest x, y and highest
    x, y; the rest as in the kernel that draws the points.
    """
    for i in range(xyz.shape[0]):
        out[i] = False
        x, y, depth = _project(matrix, xyz[i, 0] - centre[0], xyz[i, 1] - centre[1], xyz[i, 2] - centre[2], perspective)
        if depth < near or depth > far or (perspective and depth <= 1e-9):
            continue
        if x < box[0] or x > box[2] or y < box[1] or y > box[3]:
            continue
        odd = False
        for k in range(edges.shape[0]):
            y0, y1 = edges[k, 1], edges[k, 3]
            if (y1 > y) != (y0 > y) and x < (edges[k, 0] - edges[k, 2]) * (y - y1) / (y0 - y1) + edges[k, 2]:
                odd = not odd
        out[i] = odd
