"""Closed lines in plan: area, length, validity, points inside, offsetting and sampling along the line."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.errors import InputError
from kerb.core.geometry.polygon_kernels import bands, cover, inside
from kerb.core.parallel import each, ranges

MOST_BANDS = 4096


def checked(ring: Floats, name: str = "polygon") -> Floats:
    """A ring as (n, 2) without a doubled last vertex, counter-clockwise.

    Raises
    ------
    InputError, when it has fewer than three vertices, holds values that are not finite, crosses itself or has no
    area; the message names it.
    """
    ring = np.asarray(ring, float)[:, :2]
    if not np.isfinite(ring).all():
        raise InputError(f"{name}: a vertex is not a number")
    # Of vertices on one place one stays, and so it is with the first and the last.
    ring = ring[np.any(ring != np.roll(ring, -1, axis=0), axis=1)]
    if len(ring) < 3:
        raise InputError(f"{name}: needs at least three vertices")
    shape = shapely.Polygon(ring - ring[0])
    if not shape.is_valid:
        raise InputError(f"{name}: the line crosses or touches itself")
    if shape.area == 0.0:
        raise InputError(f"{name}: encloses no area")
    return ring if area(ring) > 0 else ring[::-1].copy()


def box(low: Sequence[float] | Floats, high: Sequence[float] | Floats) -> Floats:
    """The corners (4, 2) of the upright rectangle between two places in plan, counter-clockwise."""
    return np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]], float)


def area(ring: Floats) -> float:
    """Signed area by coordinates (counter-clockwise positive), reduced to the first vertex for precision."""
    x, y = (ring[:, :2] - ring[0, :2]).T
    return float(0.5 * np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


def perimeter(ring: Floats) -> float:
    """Length of the closed line in plan."""
    return float(np.hypot(*(np.roll(ring[:, :2], -1, axis=0) - ring[:, :2]).T).sum())


def contains(ring: Floats, points: Floats) -> Mask:
    """Which of (n, 2 or more) points lie inside the ring, in plan."""
    out = np.zeros(len(points), bool)
    shift = ring[0, :2]
    px, py = np.ascontiguousarray((ring[:, :2] - shift).T)
    table = _bands(py)

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        x = np.ascontiguousarray(points[rows, 0] - shift[0])
        y = np.ascontiguousarray(points[rows, 1] - shift[1])
        inside(x, y, px, py, *table, out[rows])

    each(some, ranges(len(points), least=50_000))
    return out


def _bands(py: Floats) -> tuple[float, float, Ints, Ints]:
    """Where bands of northings begin, bands a unit, and the edges that meet each, so that a point is asked about few of them."""
    low, high = float(py.min()), float(py.max())
    starts = np.zeros(max(1, min(2 * len(py), MOST_BANDS)) + 1, np.int64)
    inverse = (len(starts) - 1) / (high - low) if high > low else 0.0
    listed = np.empty(8 * len(py) + len(starts), np.int64)
    needed = int(bands(py, low, inverse, starts, listed))
    if needed > len(listed):
        listed = np.empty(needed, np.int64)
        bands(py, low, inverse, starts, listed)
    return low, inverse, starts, listed


def coverage(ring: Floats, low: Floats, cell: float, shape: tuple[int, int]) -> Floats:
    """Share of each grid cell inside the ring, 0 to 1, exact. ``shape`` is (rows of y, columns of x)."""
    share = np.zeros(shape)
    cover(ring[:, 0].copy(), ring[:, 1].copy(), float(low[0]), float(low[1]), cell, share)
    return share


def offset(ring: Floats, distance: float) -> list[Floats]:
    """Rings at a distance outside (positive) or inside the ring; several when it falls apart, none when it vanishes."""
    shift = ring[0, :2]
    grown = shapely.Polygon(ring[:, :2] - shift).buffer(distance, join_style="mitre", mitre_limit=2.0)
    parts = getattr(grown, "geoms", [grown])
    return [checked(np.array(part.exterior.coords)) + shift for part in parts if part.area > 0]


def along(ring: Floats, step: float) -> Floats:
    """Points on the closed line, every vertex among them, at most ``step`` apart. (m, 2), starting at vertex 0."""
    pieces = []
    for start, end in zip(ring[:, :2], np.roll(ring[:, :2], -1, axis=0), strict=True):
        parts = max(1, int(np.ceil(np.hypot(*(end - start)) / step)))
        share = np.arange(parts)[:, None] / parts
        pieces.append(start + share * (end - start))
    return np.concatenate(pieces)
