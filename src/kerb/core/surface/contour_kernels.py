"""Contours of a triangulation: crossings of each level with its edges, followed from edge to edge."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def cross_levels(z, triangles, base, interval, lowest, at, listed, fill):
    """Count (``fill`` False, into ``at[k + 1]``) or list (from ``at[k]`` on, which is consumed) the triangles that each level
    crosses; levels are base + k interval, numbers begin with k = ``lowest``."""
    for t in range(triangles.shape[0]):
        a, b, c = z[triangles[t, 0]], z[triangles[t, 1]], z[triangles[t, 2]]
        first = np.int64(np.floor((min(a, min(b, c)) - base) / interval)) - 1
        last = np.int64(np.floor((max(a, max(b, c)) - base) / interval)) + 1
        for k in range(first, last + 1):
            level = base + k * interval
            up = (a >= level) + (b >= level) + (c >= level)
            if up == 0 or up == 3:
                continue
            if fill:
                listed[at[k - lowest]] = t
                at[k - lowest] += 1
            else:
                at[k - lowest + 1] += 1


@kernel
def follow(vertices, triangles, edges, level, listed, across, seen, mark, out, starts):
    """The lines of one level: places (m, 2) in ``out``, where each line begins in ``starts``; how many places and lines.

    ``edges`` (t, 3) numbers the edge from each corner to the next, ``across`` (e, 2) is room for the two edges that one leads
    to and ``seen`` (e,) for marks; a closed line ends where it began. A corner on the level counts as above it.
    """
    for which in range(len(listed)):
        for k in range(3):
            across[edges[listed[which], k]] = -1
    for which in range(len(listed)):
        t = listed[which]
        one, other = -1, -1
        for k in range(3):
            u = vertices[triangles[t, k], 2] >= level
            v = vertices[triangles[t, (k + 1) % 3], 2] >= level
            if u != v:
                if one < 0:
                    one = edges[t, k]
                else:
                    other = edges[t, k]
        across[one, 1 if across[one, 0] >= 0 else 0] = other
        across[other, 1 if across[other, 0] >= 0 else 0] = one
    count, lines = 0, 0
    for closed in range(2):
        for which in range(len(listed)):
            t = listed[which]
            for k in range(3):
                e = edges[t, k]
                # Open lines first, from one of their ends; then what is left.
                if seen[e] == mark or across[e, 0] < 0 or (closed == 0 and across[e, 1] >= 0):
                    continue
                starts[lines] = count
                lines += 1
                first, before = e, -1
                while True:
                    seen[e] = mark
                    out[count] = e
                    count += 1
                    following = across[e, 0] if across[e, 0] != before else across[e, 1]
                    if across[e, 0] == across[e, 1]:
                        following = -1
                    if following < 0:
                        break
                    if following == first:
                        out[count] = first
                        count += 1
                        break
                    if seen[following] == mark:
                        break
                    before, e = e, following
    starts[lines] = count
    return lines


@kernel
def place(vertices, ends, level, crossed, out):
    """Where a level crosses edges, (n, 2): ends (e, 2) are their vertices, the lower number first."""
    for k in range(len(crossed)):
        a, b = ends[crossed[k], 0], ends[crossed[k], 1]
        za, zb = vertices[a, 2], vertices[b, 2]
        share = (level - za) / (zb - za)
        out[k, 0] = vertices[a, 0] + share * (vertices[b, 0] - vertices[a, 0])
        out[k, 1] = vertices[a, 1] + share * (vertices[b, 1] - vertices[a, 1])
