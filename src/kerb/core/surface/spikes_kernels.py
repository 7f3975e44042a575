"""Points put into a triangulation from the highest down, under held triangles none: kernels of the spike-free surface."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.surface.predicates_kernels import in_circle, side

STACK = 1 << 16
LEVELS = 3


@inline
def _held(xy, z, triangles, t, level, edge2, depth):
    """Whether a triangle lets nothing of an elevation through: its edges in plan are short, and it lies higher by a depth."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    n = z.shape[0]
    if a >= n or b >= n or c >= n or min(z[a], z[b], z[c]) - depth <= level:
        return False
    for i, j in ((a, b), (b, c), (c, a)):
        dx, dy = xy[i, 0] - xy[j, 0], xy[i, 1] - xy[j, 1]
        if dx * dx + dy * dy > edge2:
            return False
    return True


@inline
def _turn(beside, t, before, after):
    """Say to triangle t that its neighbour ``before`` is now ``after``."""
    if t >= 0:
        for k in range(3):
            if beside[t, k] == before:
                beside[t, k] = after


@inline
def _set(triangles, beside, t, a, b, c, na, nb, nc):
    triangles[t, 0], triangles[t, 1], triangles[t, 2] = a, b, c
    beside[t, 0], beside[t, 1], beside[t, 2] = na, nb, nc


@kernel
def locate(xy, whole, triangles, beside, t, p, chance):
    """The triangle in which, or on whose edge, place p lies: a walk from t that turns by chance, so that it ends everywhere."""
    while True:
        chance = (chance * 1103515245 + 12345) & 0x7FFFFFFF
        first, moved = (chance >> 16) % 3, False
        for step in range(3):
            k = (first + step) % 3
            if side(xy, triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3], p, whole) < 0:
                t, moved = beside[t, k], True
                break
        if not moved:
            return t, chance


@kernel
def put_in(xy, z, rows, whole, limits, low, cells, hints, triangles, beside, kept, state):
    """Put places (``rows``, from the highest down) into a triangulation, but those that lie in or on a triangle that is held.

    ``xy`` (n + 4, 2): places and the corners of a box round them, ``z`` (n,); ``triangles`` and the neighbours ``beside`` (m, 3)
    opposite their corners; ``kept`` (n,) is set where a place goes in; ``hints`` (LEVELS, ...) triangles near the middle of cells
    of sides ``cells``, -1 where there is none. Edges of held triangles are not turned (Khosravipour et al. 2016). ``limits`` are
    the square of the edge and the depth; ``state`` and what is returned are how many triangles there are, the last one touched
    and a number for chance.
    """
    edge2, depth = limits
    stack = np.empty(STACK, np.int32)
    made, last, chance = state
    for p in rows:
        level, t = z[p], last
        for k in range(LEVELS):
            column, row = int((xy[p, 0] - low[0]) / cells[k]), int((xy[p, 1] - low[1]) / cells[k])
            near = hints[k, row, column]
            if near >= 0:
                t = near
                break
        t, chance = locate(xy, whole, triangles, beside, t, p, chance)
        last = t
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        on = 0
        free = not _held(xy, z, triangles, t, level, edge2, depth)
        for k in range(3):
            if side(xy, triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3], p, whole) == 0:
                on += 1
                if beside[t, k] >= 0 and _held(xy, z, triangles, beside[t, k], level, edge2, depth):
                    free = False
        # On two edges it is where a corner is: of two points on one place the higher one stays.
        if not free or on > 1:
            continue
        na, nb, nc = beside[t, 0], beside[t, 1], beside[t, 2]
        one, two = made, made + 1
        made += 2
        _set(triangles, beside, t, p, b, c, na, one, two)
        _set(triangles, beside, one, p, c, a, nb, two, t)
        _set(triangles, beside, two, p, a, b, nc, t, one)
        _turn(beside, nb, t, one)
        _turn(beside, nc, t, two)
        kept[p] = True
        stack[0], stack[1], stack[2] = t, one, two
        many = 3
        while many:
            many -= 1
            s = stack[many]
            u = beside[s, 0]
            if u < 0 or _held(xy, z, triangles, u, level, edge2, depth):
                continue
            if not in_circle(xy, triangles[u, 0], triangles[u, 1], triangles[u, 2], p, whole):
                continue
            j = 0
            while beside[u, j] != s:
                j += 1
            b, c, d = triangles[s, 1], triangles[s, 2], triangles[u, j]
            sb, sc = beside[s, 1], beside[s, 2]
            uc, ub = beside[u, (j + 1) % 3], beside[u, (j + 2) % 3]
            _set(triangles, beside, s, p, b, d, uc, u, sc)
            _set(triangles, beside, u, p, d, c, ub, sb, s)
            _turn(beside, uc, u, s)
            _turn(beside, sb, s, u)
            if many + 2 <= STACK:
                stack[many], stack[many + 1] = s, u
                many += 2
        for k in range(LEVELS):
            hints[k, int((xy[p, 1] - low[1]) / cells[k]), int((xy[p, 0] - low[0]) / cells[k])] = t
    return made, last, chance
