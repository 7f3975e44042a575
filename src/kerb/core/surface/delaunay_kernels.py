"""Divide and conquer of Guibas and Stolfi (1985) over places in Morton order: straight cuts by the bits of their keys.

Edges are pairs of half edges ``e`` and ``e ^ 1``. ``origin`` is where one starts, ``after`` the next one round that place
counter-clockwise and ``before`` the next one clockwise; the edge that follows on the face to the left of e is therefore
``before[e ^ 1]``. A part of ``n`` places has room for 3 n edges, which no plane graph exceeds; what is taken out is used again.

What builds takes half edges as numbers without sign (arrays of uint32, where GONE is NONE): an index that could be negative costs
Numba a test each time one is followed, a twentieth of all.
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel
from kerb.core.surface.predicates_kernels import circle_at, side, turn_at

NONE = -1
ONE, EVEN, GONE = np.uint64(1), ~np.uint64(1), np.uint64(0xFFFFFFFF)
# Levels of cuts between places whose keys differ lie above those of places with the same key.
DIFFERENT = 64
MOST_TIES = 200


@kernel
def morton(xy, low, factor, keys):
    """Keys (n,) of places (n, 2): bits of their steps east (odd ones) and north (even ones) from ``low``, 26 of each."""
    top = 67108863.0
    for k in range(xy.shape[0]):
        key = np.uint64(0)
        for axis in range(2):
            v = np.uint64(min(max(np.floor((xy[k, axis] - low[axis]) * factor), 0.0), top))
            v = (v | (v << np.uint64(16))) & np.uint64(0x0000FFFF0000FFFF)
            v = (v | (v << np.uint64(8))) & np.uint64(0x00FF00FF00FF00FF)
            v = (v | (v << np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
            v = (v | (v << np.uint64(2))) & np.uint64(0x3333333333333333)
            v = (v | (v << np.uint64(1))) & np.uint64(0x5555555555555555)
            key |= v << np.uint64(1 - axis)
        keys[k] = key


@inline
def _take(state, after):
    """A new edge: one that was taken out, or the next of the room. ``state`` is (first taken out, next, end)."""
    e = np.uint64(state[0])
    if e != GONE:
        state[0] = after[e]
    else:
        e = np.uint64(state[1])
        state[1] += 2
    return e


@inline
def _link(e, a, b, origin, after, before):
    """Make e lead from where half edge ``a`` starts, clockwise before it, to where ``b`` starts, counter-clockwise after it."""
    origin[e], origin[e ^ ONE] = origin[a], origin[b]
    last = before[a]
    after[last], before[e] = e, last
    after[e], before[a] = a, e
    f, following = e ^ ONE, after[b]
    after[b], before[f] = f, b
    after[f], before[following] = following, f


@inline
def _drop(e, state, after, before):
    """Take an edge out."""
    for h in (e, e ^ ONE):
        n, p = after[h], before[h]
        after[p], before[n] = n, p
    e = e & EVEN
    after[e] = state[0]
    state[0] = e


@inline
def _further(xy, a, b, level):
    """Whether place a lies further along the cut's axis than b: east (then north), or north (then west)."""
    if level & 1 or level < DIFFERENT:
        return xy[a, 0] > xy[b, 0] or (xy[a, 0] == xy[b, 0] and xy[a, 1] > xy[b, 1])
    return xy[a, 1] > xy[b, 1] or (xy[a, 1] == xy[b, 1] and xy[a, 0] < xy[b, 0])


@inline
def _beside(e, f, after, before):
    """Two half edges alone round their place."""
    after[e], before[e], after[f], before[f] = f, f, e, e


@kernel
def _with_third(e, v, xy, whole, origin, after, before, state):
    """The triangulation of three places: one edge and a place beside it, or in line with it."""
    a, b = np.uint64(origin[e]), np.uint64(origin[e ^ ONE])
    turn = side(xy, a, b, v, whole)
    ux, uy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
    if turn != 0.0 or (xy[v, 0] - xy[a, 0]) * ux + (xy[v, 1] - xy[a, 1]) * uy > 0.0:
        f = _take(state, after)
        origin[f], origin[f ^ ONE] = b, v
        _beside(e ^ ONE, f, after, before)
        after[f ^ ONE], before[f ^ ONE] = f ^ ONE, f ^ ONE
        if turn != 0.0:
            g = _take(state, after)
            origin[g], origin[g ^ ONE] = v, a
            _beside(f ^ ONE, g, after, before)
            _beside(g ^ ONE, e, after, before)
    else:
        g = _take(state, after)
        origin[g], origin[g ^ ONE] = v, a
        after[g], before[g] = g, g
        _beside(g ^ ONE, e, after, before)
    return np.int64(e if turn >= 0.0 else e ^ ONE)


@kernel
def join(one, other, level, xy, whole, origin, after, before, state):
    """Join two triangulations that a straight cut parts; the lower one along the axis first.

    Each is a half edge of its outline with the outside on its right, or -1 - place of a single one; so is what comes back.
    """
    if one < 0 and other < 0:
        e = _take(state, after)
        f = e ^ ONE
        origin[e], origin[f] = -1 - one, -1 - other
        after[e], before[e], after[f], before[f] = e, e, f, f
        return np.int64(e)
    inner, outer = np.uint64(one), np.uint64(other)
    if one < 0 and after[outer] == outer and after[outer ^ ONE] == outer ^ ONE:
        return _with_third(outer, np.uint64(-1 - one), xy, whole, origin, after, before, state)
    if other < 0 and after[inner] == inner and after[inner ^ ONE] == inner ^ ONE:
        return _with_third(inner, np.uint64(-1 - other), xy, whole, origin, after, before, state)
    # Inner ends: of the first the half edge out of its furthest place with the outside on its left, of the other the one out of
    # its nearest place with the outside on its right.
    left, right = GONE, GONE
    if one >= 0:
        left, e = inner ^ ONE, np.uint64(after[inner ^ ONE])
        while e != inner:
            if _further(xy, origin[e ^ ONE], origin[left], level):
                left = e ^ ONE
            e = np.uint64(after[e ^ ONE])
    if other >= 0:
        right, e = outer, np.uint64(after[outer ^ ONE])
        while e != outer:
            if _further(xy, origin[right], origin[e], level):
                right = e
            e = np.uint64(after[e ^ ONE])
    p = np.uint64(-1 - one) if one < 0 else np.uint64(origin[left])
    q = np.uint64(-1 - other) if other < 0 else np.uint64(origin[right])
    while True:
        if one >= 0 and side(xy, q, origin[left], origin[left ^ ONE], whole) > 0.0:
            left = np.uint64(before[left ^ ONE])
            p = np.uint64(origin[left])
        elif other >= 0 and side(xy, p, origin[right ^ ONE], origin[right], whole) > 0.0:
            right = np.uint64(after[right ^ ONE])
            q = np.uint64(origin[right])
        else:
            break
    base = _take(state, after)
    f = base ^ ONE
    origin[base], origin[f] = q, p
    after[base], before[base], after[f], before[f] = base, base, f, f
    if other >= 0:
        last = before[right]
        after[last], before[base] = base, last
        after[base], before[right] = right, base
    if one >= 0:
        following = after[left]
        after[left], before[f] = f, left
        after[f], before[following] = following, f
    first = f
    px, py, qx, qy = xy[p, 0], xy[p, 1], xy[q, 0], xy[q, 1]
    while True:
        left = np.uint64(after[base ^ ONE])
        lx, ly = xy[origin[left ^ ONE], 0], xy[origin[left ^ ONE], 1]
        at_left = turn_at(lx, ly, px, py, qx, qy, whole) > 0.0
        if at_left:
            following = np.uint64(after[left])
            while following != base ^ ONE:
                fx, fy = xy[origin[following ^ ONE], 0], xy[origin[following ^ ONE], 1]
                if not circle_at(px, py, qx, qy, lx, ly, fx, fy, whole):
                    break
                _drop(left, state, after, before)
                left, lx, ly = following, fx, fy
                following = np.uint64(after[left])
        right = np.uint64(before[base])
        rx, ry = xy[origin[right ^ ONE], 0], xy[origin[right ^ ONE], 1]
        at_right = turn_at(rx, ry, px, py, qx, qy, whole) > 0.0
        if at_right:
            following = np.uint64(before[right])
            while following != base:
                fx, fy = xy[origin[following ^ ONE], 0], xy[origin[following ^ ONE], 1]
                if not circle_at(px, py, qx, qy, rx, ry, fx, fy, whole):
                    break
                _drop(right, state, after, before)
                right, rx, ry = following, fx, fy
                following = np.uint64(before[right])
        if not at_left and not at_right:
            return np.int64(first)
        e = _take(state, after)
        if not at_left or (at_right and circle_at(lx, ly, px, py, qx, qy, rx, ry, whole)):
            _link(e, right ^ ONE, base ^ ONE, origin, after, before)
            qx, qy = rx, ry
        else:
            _link(e, base, left ^ ONE, origin, after, before)
            px, py = lx, ly
        base = e


@kernel
def cut_level(a, b, at):
    """Level of the cut between two neighbours in order: the highest bit in which their keys differ, above all of those between
    places with the same key, which are cut in halves by their number."""
    differ = a ^ b
    if differ == 0:
        level, rest = 0, at
        while rest & 1 == 0 and level < 62:
            rest >>= 1
            level += 1
        return level
    level = DIFFERENT
    if differ >> np.uint64(32):
        differ >>= np.uint64(32)
        level += 32
    if differ >> np.uint64(16):
        differ >>= np.uint64(16)
        level += 16
    if differ >> np.uint64(8):
        differ >>= np.uint64(8)
        level += 8
    if differ >> np.uint64(4):
        differ >>= np.uint64(4)
        level += 4
    if differ >> np.uint64(2):
        differ >>= np.uint64(2)
        level += 2
    if differ >> np.uint64(1):
        level += 1
    return level


@kernel
def divide(first, last, keys, xy, whole, origin, after, before, state):
    """Triangulate the places of a range in order. Comes back with a half edge of the outline, or -1 - place of a single one.

    A cut is joined when those on both sides of what it parts are of a higher level: the same tree as by recursion.
    """
    held, levels = np.empty(192, np.int64), np.empty(192, np.int64)
    many = 0
    state[0], state[1], state[2] = GONE, 6 * first, 6 * last
    for k in range(first, last):
        now = np.int64(-1 - k)
        level = cut_level(keys[k], keys[k + 1], k + 1) if k + 1 < last else 1 << 30
        while many and levels[many - 1] < level:
            many -= 1
            now = join(held[many], now, levels[many], xy, whole, origin, after, before, state)
        held[many], levels[many] = now, level
        many += 1
    # What was not used goes to the rest, so that parts can be joined.
    for e in range(state[1], state[2], 2):
        after[e] = state[0]
        origin[e] = GONE
        state[0] = e
    return held[0]


@kernel
def clear_dropped(state, origin, after):
    """Mark what was taken out."""
    e = np.uint64(state[0])
    while e != GONE:
        origin[e] = GONE
        e = np.uint64(after[e])


@kernel
def add_free(state, other, after):
    """Put what another part has left over to this part's."""
    e = np.uint64(other[0])
    if e == GONE:
        return
    while after[e] != GONE:
        e = np.uint64(after[e])
    after[e] = state[0]
    state[0] = other[0]


@kernel
def steps_of(xy, low, step, most, out):
    """Write places (n, 2) as whole steps from ``low``; how far they stray from them, at once when it is more than ``most``."""
    stray = 0.0
    for k in range(xy.shape[0]):
        for axis in range(2):
            away = xy[k, axis] - low[axis]
            whole = np.rint(away / step)
            out[k, axis] = whole
            stray = max(stray, abs(away - whole * step))
        if stray > most:
            break
    return stray


@kernel
def sort_ties(xy, keys, order):
    """Put rows with one key in order of easting and northing; False where too many have the same one."""
    n, k = len(keys), 0
    while k < n:
        last = k + 1
        while last < n and keys[last] == keys[k]:
            last += 1
        if last - k > MOST_TIES:
            return False
        for i in range(k + 1, last):
            row, j = order[i], i
            while j > k and (
                xy[order[j - 1], 0] > xy[row, 0]
                or (xy[order[j - 1], 0] == xy[row, 0] and xy[order[j - 1], 1] > xy[row, 1])
            ):
                order[j] = order[j - 1]
                j -= 1
            order[j] = row
        k = last
    return True


@kernel
def take_rows(xy, rows, out):
    """``out`` = ``xy[rows]`` of (n, 2) places."""
    for k in range(len(rows)):
        out[k, 0], out[k, 1] = xy[rows[k], 0], xy[rows[k], 1]


@kernel
def faces(first, last, xy, whole, origin, before, order, left_out, out):
    """Write the triangles whose lowest half edge lies in a range, and how many there are; corners by the given order. Those whose
    half edges are marked in ``left_out`` (n,), which may be empty, do not count."""
    count = 0
    for e in range(first, last):
        if origin[e & ~1] == NONE or (len(left_out) and left_out[e]):
            continue
        f = before[e ^ 1]
        g = before[f ^ 1]
        if f <= e or g <= e or before[g ^ 1] != e:
            continue
        a, b, c = origin[e], origin[f], origin[g]
        if side(xy, a, b, c, whole) <= 0.0:
            continue
        out[count, 0], out[count, 1], out[count, 2] = order[a], order[b], order[c]
        count += 1
    return count
