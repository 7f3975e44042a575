"""A rough line pulled to the break of slope at the foot of a heap."""

from __future__ import annotations

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.surface.along import outwards, straight
from kerb.core.surface.grid import HeightGrid

FLATTEST_BREAK = np.tan(np.radians(8.0))
# What is left without loops is at least this share of all that the line goes round.
BODY = 0.9


def pulled(grid: HeightGrid, ring: Floats, reach: float) -> Floats:
    """A rough line moved to the break of slope within ``reach`` on either side of it.

    Across the line, at places along it, two straight pieces are fitted to the profile of the ground by least squares;
    where the inner one is clearly steeper, the line moves to where they meet. Moves are smoothed along the line by a
    running median so that one stray profile moves nothing.

    Raises
    ------
    NotDeterminable, when no break of slope is seen at a third of the places or more, or the moved line would cross
    itself.
    """
    step = max(2 * grid.cell, polygon.perimeter(ring) / 150)
    xy = polygon.along(ring, step)
    normal = outwards(xy)
    distances = np.arange(-reach, reach + grid.cell / 2, grid.cell)
    lines = xy[:, None, :] + normal[:, None, :] * distances[None, :, None]
    profiles = grid.at(lines.reshape(-1, 2)).reshape(len(xy), len(distances))
    moves = np.array([_break_of_slope(distances, profile) for profile in profiles])
    seen = np.isfinite(moves)
    if seen.sum() < max(3, len(xy) // 3):
        raise NotDeterminable("no clear break of slope was found near the line; draw it closer to the toe")
    moves = straight(xy, moves, seen)
    neighbours = np.stack([np.roll(moves, shift) for shift in range(-2, 3)])
    moved = _without_loops(xy + normal * np.median(neighbours, axis=0)[:, None])
    try:
        thin = np.array(shapely.LinearRing(moved).simplify(grid.cell / 2).coords)
        return polygon.checked(thin, "pulled toe")
    except InputError as error:
        raise NotDeterminable(f"the pulled line is not usable ({error}); draw it closer to the toe") from None


def _without_loops(ring: Floats) -> Floats:
    """The line without the small loops that moves inwards make at its corners; as it is, where they are not small."""
    parts = shapely.get_parts(shapely.make_valid(shapely.Polygon(ring)))
    sizes = shapely.area(parts)
    largest = int(np.argmax(sizes))
    if sizes[largest] < BODY * sizes.sum():
        return ring
    return shapely.get_coordinates(parts[largest].exterior)[:-1]


def _break_of_slope(t: Floats, z: Floats) -> float:
    """Where a profile from inside (negative t) to outside breaks; NaN where it does not."""
    usable = np.isfinite(z)
    if usable.sum() < 9:
        return np.nan
    t, z = t[usable], z[usable] - z[usable].mean()
    best = np.inf
    for k in range(3, len(t) - 3):
        inner, inner_error = _line(t[:k], z[:k])
        outer, outer_error = _line(t[k:], z[k:])
        if inner_error + outer_error < best:
            best = inner_error + outer_error
            fall = abs(inner[0]) - abs(outer[0])
            crossing = (outer[1] - inner[1]) / (inner[0] - outer[0]) if inner[0] != outer[0] else t[k]
            meet = crossing if t[k - 3] <= crossing <= t[k + 2] else t[k]
    _, straight = _line(t, z)
    return float(meet) if fall > FLATTEST_BREAK and best < 0.6 * straight else np.nan


def _line(t: Floats, z: Floats) -> tuple[tuple[float, float], float]:
    """Least-squares line (slope, value at 0) and its sum of squares."""
    tm, zm = t.mean(), z.mean()
    dt, dz = t - tm, z - zm
    slope = float((dt @ dz) / (dt @ dt))
    error = float(dz @ dz - slope * (dt @ dz))
    return (slope, float(zm - slope * tm)), max(error, 0.0)
