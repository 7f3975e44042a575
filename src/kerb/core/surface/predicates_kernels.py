"""On which side of a line a place lies, and whether it lies in a circle: exact signs of numbers computed in double precision.

A filter decides nearly always. What it leaves open is decided in whole numbers, where places are whole steps of a range under
2²⁶, and else by sums of unrounded terms (Shewchuk 1997, *Adaptive precision floating-point arithmetic and fast robust geometric
predicates*; the bounds of the filters follow from that paper's).
"""

from __future__ import annotations

import numpy as np

from kerb.core.jit import inline, kernel

EPSILON = 2.0**-53
SIDE_BOUND = (3.0 + 16.0 * EPSILON) * EPSILON
CIRCLE_BOUND = (10.0 + 256.0 * EPSILON) * EPSILON
# Veltkamp's factor, which parts a double into two halves of 26 bits.
HALVES = 134217729.0
# Whole numbers under 2⁵³ are parted at this bit for products in 64 bits.
PART = 27
MASK = (1 << PART) - 1
TERMS = 2048


@inline
def _add(terms, n, more):
    """Add a number to an exact sum of ``n`` terms that do not overlap (grow-expansion, noughts left out); how many it has."""
    rest, m = more, 0
    for k in range(n):
        total = rest + terms[k]
        part = total - rest
        error = (rest - (total - part)) + (terms[k] - part)
        rest = total
        if error != 0.0:
            terms[m] = error
            m += 1
    if rest != 0.0:
        terms[m] = rest
        m += 1
    return m


@inline
def _add_product(terms, n, a, b):
    """Add a product, unrounded (two-product of Dekker and Veltkamp)."""
    p = a * b
    t = HALVES * a
    a1 = t - (t - a)
    a0 = a - a1
    t = HALVES * b
    b1 = t - (t - b)
    b0 = b - b1
    error = a0 * b0 - (((p - a1 * b1) - a0 * b1) - a1 * b0)
    n = _add(terms, n, error)
    return _add(terms, n, p)


@kernel
def _difference(a, b, out):
    """a - b as two terms."""
    d = a - b
    part = a - d
    out[0] = (a - (d + part)) + (part - b)
    out[1] = d


@kernel
def _add_products(terms, n, e, f, sign):
    """Add ``sign`` times the product of two differences of two terms each."""
    for i in range(2):
        for j in range(2):
            n = _add_product(terms, n, sign * e[i], f[j])
    return n


@kernel
def exact_side(ax, ay, bx, by, cx, cy):
    """Sign of the area of a triangle, of any numbers."""
    d = np.empty((4, 2))
    _difference(ax, cx, d[0])
    _difference(by, cy, d[1])
    _difference(ay, cy, d[2])
    _difference(bx, cx, d[3])
    terms = np.empty(64)
    n = _add_products(terms, 0, d[0], d[1], 1.0)
    n = _add_products(terms, n, d[2], d[3], -1.0)
    return 0.0 if n == 0 else terms[n - 1]


@kernel
def exact_circle(ax, ay, bx, by, cx, cy, dx, dy):
    """Sign of the in-circle determinant, of any numbers."""
    d = np.empty((6, 2))
    _difference(ax, dx, d[0])
    _difference(ay, dy, d[1])
    _difference(bx, dx, d[2])
    _difference(by, dy, d[3])
    _difference(cx, dx, d[4])
    _difference(cy, dy, d[5])
    lift, cross, terms, n = np.empty(64), np.empty(64), np.empty(TERMS), 0
    for k in range(3):
        i, j = 2 * ((k + 1) % 3), 2 * ((k + 2) % 3)
        m = _add_products(lift, 0, d[2 * k], d[2 * k], 1.0)
        m = _add_products(lift, m, d[2 * k + 1], d[2 * k + 1], 1.0)
        o = _add_products(cross, 0, d[i], d[j + 1], 1.0)
        o = _add_products(cross, o, d[j], d[i + 1], -1.0)
        for p in range(m):
            for q in range(o):
                n = _add_product(terms, n, lift[p], cross[q])
    return 0.0 if n == 0 else terms[n - 1]


@kernel
def whole_circle(la, lb, lc, ca, cb, cc):
    """Sign of la ca + lb cb + lc cc of whole numbers under 2⁵³."""
    high, middle, low = np.int64(0), np.int64(0), np.int64(0)
    for lift, cross in ((la, ca), (lb, cb), (lc, cc)):
        a, b = np.int64(lift), np.int64(cross)
        a1, a0, b1, b0 = a >> PART, a & MASK, b >> PART, b & MASK
        high += a1 * b1
        middle += a1 * b0 + a0 * b1
        low += a0 * b0
    middle += low >> PART
    low &= MASK
    high += middle >> PART
    middle &= MASK
    if high != 0:
        return float(high)
    return float(middle | low)


@inline
def turn_at(ax, ay, bx, by, cx, cy, whole):
    """Above nought, when places a, b, c turn to the left; below it to the right; nought in line. Exact."""
    left = (ax - cx) * (by - cy)
    right = (ay - cy) * (bx - cx)
    area = left - right
    if not whole and abs(area) <= SIDE_BOUND * (abs(left) + abs(right)):
        area = exact_side(ax, ay, bx, by, cx, cy)
    return area


@inline
def circle_at(x0, y0, x1, y1, x2, y2, dx, dy, whole):
    """Whether the place d lies inside the circle through three that turn to the left; not, when it lies on it. Exact."""
    ax, ay, bx, by, cx, cy = x0 - dx, y0 - dy, x1 - dx, y1 - dy, x2 - dx, y2 - dy
    la, lb, lc = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    ca, cb, cc = bx * cy - cx * by, cx * ay - ax * cy, ax * by - bx * ay
    found = la * ca + lb * cb + lc * cc
    # Shewchuk's bound goes with la (|bx cy| + |cx by|) + ..., which is no more than this: 2 |u v| is no more than u² + v².
    if abs(found) <= CIRCLE_BOUND * (la * lb + lb * lc + lc * la):
        found = whole_circle(la, lb, lc, ca, cb, cc) if whole else exact_circle(x0, y0, x1, y1, x2, y2, dx, dy)
    return found > 0.0


@inline
def side(xy, a, b, c, whole):
    """:func:`turn_at` of rows of places (n, 2)."""
    return turn_at(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], whole)


@inline
def in_circle(xy, a, b, c, d, whole):
    """:func:`circle_at` of rows of places (n, 2)."""
    return circle_at(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], xy[d, 0], xy[d, 1], whole)
