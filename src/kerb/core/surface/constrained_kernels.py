"""Lines that the edges of a triangulation follow: edges that cross one are flipped until it is one itself (Sloan 1993), then
those that were made are flipped until each that is free is Delaunay's again. Half edges are those of
:mod:`kerb.core.surface.delaunay_kernels`.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.surface.delaunay_kernels import NONE, _link
from kerb.core.surface.predicates_kernels import in_circle, side

# What became of a line: done; it crosses another one; there was no room for what it crosses, or no way through.
DONE, CROSSES, LOST = 0, 1, 2
MOST_ROUNDS = 200


@kernel
def starts(origin, at):
    """One half edge out of each place, (n,)."""
    for e in range(len(origin)):
        if origin[e & ~1] != NONE:
            at[origin[e]] = e


@inline
def _flip(e, origin, after, before, at):
    """Turn an edge in the quadrilateral of its two triangles."""
    f = before[e ^ 1]
    g = before[f ^ 1]
    h = before[e]
    if at[origin[e]] == e:
        at[origin[e]] = h
    if at[origin[e ^ 1]] == e ^ 1:
        at[origin[e ^ 1]] = f
    for x in (e, e ^ 1):
        n, p = after[x], before[x]
        after[p], before[n] = n, p
    _link(np.uint64(e), np.uint64(h ^ 1), np.uint64(g), origin, after, before)


@kernel
def insert(a, b, mark, xy, whole, origin, after, before, at, fixed, crossed, made):
    """Make the straight line between places a and b edges, and note ``mark`` in ``fixed`` (n,) of half edges.

    Places that lie on it part it. ``crossed`` and ``made`` are room for edges. Comes back with DONE, CROSSES or LOST.
    """
    while a != b:
        # The edge itself, one along it, or the triangle it leaves through.
        first, e, end, through = at[a], np.int64(at[a]), np.int64(NONE), np.int64(NONE)
        while True:
            u = np.int64(origin[e ^ 1])
            turn = side(xy, a, b, u, whole)
            if u == b or (
                turn == 0.0
                and (xy[u, 0] - xy[a, 0]) * (xy[b, 0] - xy[a, 0]) + (xy[u, 1] - xy[a, 1]) * (xy[b, 1] - xy[a, 1]) > 0.0
            ):
                end = u
                fixed[e] |= mark
                fixed[e ^ 1] |= mark
                break
            following = np.int64(after[e])
            if turn < 0.0 and side(xy, a, b, origin[following ^ 1], whole) > 0.0:
                through = np.int64(before[e ^ 1])
                break
            e = following
            if e == first:
                break
        if end != NONE:
            a = end
            continue
        if through == NONE:
            return LOST
        count, e = 0, through
        while True:
            if fixed[e]:
                return CROSSES
            if count == len(crossed):
                return LOST
            crossed[count] = e & ~1
            count += 1
            # Beyond e, which leads from the right of the line to its left.
            h = np.int64(before[e])
            x = np.int64(origin[h ^ 1])
            if x == b:
                end = b
                break
            turn = side(xy, a, b, x, whole)
            if turn == 0.0:
                end = x
                break
            e = h if turn > 0.0 else np.int64(before[h ^ 1])
        done = _cross(a, end, count, mark, xy, whole, origin, after, before, at, fixed, crossed, made)
        if done != DONE:
            return done
        a = end
    return DONE


@kernel
def insert_all(lines, walls, marks, xy, whole, origin, after, before, at, fixed, crossed, made):
    """Insert lines (k, 2), the first ``walls`` of them with the first of two marks. DONE, or what became of
    the one that failed."""
    for k in range(len(lines)):
        mark = marks[0] if k < walls else marks[1]
        done = insert(lines[k, 0], lines[k, 1], mark, xy, whole, origin, after, before, at, fixed, crossed, made)
        if done != DONE:
            return done
    return DONE


@kernel
def _cross(a, b, count, mark, xy, whole, origin, after, before, at, fixed, crossed, made):
    """Flip what a line crosses until it is an edge, then what was made until it is Delaunay's."""
    first, left, many, tries = 0, count, 0, 0
    room = len(crossed)
    while left:
        e = np.int64(crossed[first % room])
        first += 1
        left -= 1
        tries += 1
        if tries > MOST_ROUNDS * (count + 10):
            return LOST
        p, q = np.int64(origin[e]), np.int64(origin[e ^ 1])
        x, y = np.int64(origin[before[e ^ 1] ^ 1]), np.int64(origin[before[e] ^ 1])
        if not (side(xy, y, x, p, whole) > 0.0 and side(xy, y, x, q, whole) < 0.0):
            crossed[(first + left) % room] = e
            left += 1
            continue
        _flip(e, origin, after, before, at)
        s, t = side(xy, a, b, x, whole), side(xy, a, b, y, whole)
        if x != a and x != b and y != a and y != b and ((s > 0.0 and t < 0.0) or (s < 0.0 and t > 0.0)):
            crossed[(first + left) % room] = e
            left += 1
        else:
            made[many] = e
            many += 1
            if (x == a and y == b) or (x == b and y == a):
                fixed[e] |= mark
                fixed[e ^ 1] |= mark
    changed = True
    rounds = 0
    while changed and rounds < MOST_ROUNDS:
        changed, rounds = False, rounds + 1
        for k in range(many):
            e = np.int64(made[k])
            if fixed[e]:
                continue
            p, q = np.int64(origin[e]), np.int64(origin[e ^ 1])
            x, y = np.int64(origin[before[e ^ 1] ^ 1]), np.int64(origin[before[e] ^ 1])
            if in_circle(xy, p, q, x, y, whole):
                _flip(e, origin, after, before, at)
                changed = True
    return DONE


@kernel
def outside(hull, after, before, fixed, walls, out, stack):
    """Mark half edges (n,) whose face lies outside: reached from beyond the outline without crossing an edge of ``walls``."""
    many = 0
    e = hull
    while True:
        h = e ^ 1
        if not out[h]:
            out[h] = 1
            stack[many] = h
            many += 1
        e = np.int64(after[h])
        if e == hull:
            break
    while many:
        many -= 1
        h = np.int64(stack[many])
        if fixed[h] & walls:
            continue
        e = np.int64(h ^ 1)
        if out[e]:
            continue
        f = np.int64(before[e ^ 1])
        g = np.int64(before[f ^ 1])
        for x in (e, f, g):
            if not out[x]:
                out[x] = 1
                stack[many] = x
                many += 1
