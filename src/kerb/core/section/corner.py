"""Where two lines meet that are fitted to the points of a slice: the flow line of a kerb, an edge, a break of slope."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.errors import NotDeterminable

FEWEST = 10
STARTS = 24
ROUNDS = 40
# Lines that meet at less than this (degrees) are one.
SHARPEST = 3.0
# Two lines must fit so much better than one: rms of distances.
BETTER = 0.6
LEAST_SHARE = 0.12


@dataclass(frozen=True)
class Corner:
    """The place (offset, height) where two lines meet, the angle between them in degrees, and how well they fit (rms)."""

    place: tuple[float, float]
    angle: float
    rms: float


def corner(local: Floats, radius: float) -> Corner:
    """The corner in points (n, 2) that lie within a radius of the origin of some circle.

    Two lines of least squares of distance, each point with the nearer one (Lloyd's rounds with lines for centres, as in
    Bradley and Mangasarian 2000), the best of 24 starts. Raises NotDeterminable where one line does as well, or they meet
    outside of the circle.
    """
    if len(local) < FEWEST:
        raise NotDeterminable(f"{len(local)} points lie in the circle, a corner needs {FEWEST}")
    middle = local.mean(axis=0)
    points = local - middle
    single = _apart(points, _line(points))
    best: tuple[float, Mask] | None = None
    for angle in np.pi * np.arange(STARTS) / STARTS:
        first = points @ [np.cos(angle), np.sin(angle)] > 0
        found = _settled(points, first)
        if found is not None and (best is None or found[0] < best[0]):
            best = found
    if best is None:
        raise NotDeterminable("the points in the circle do not part into two lines")
    first = best[1]
    a, b = _line(points[first]), _line(points[~first])
    rms = float(np.sqrt(best[0] / len(points)))
    one = float(np.sqrt(np.mean(single**2)))
    turn = abs(float(np.degrees(np.arcsin(np.clip(a[1][0] * b[1][1] - a[1][1] * b[1][0], -1, 1)))))
    if rms > BETTER * one or turn < SHARPEST:
        raise NotDeterminable("the points in the circle lie along one line, there is no corner")
    shares = np.linalg.solve(np.column_stack([a[1], -b[1]]), b[0] - a[0])
    place = a[0] + shares[0] * a[1]
    if float(np.hypot(*place)) > radius * 1.5 + float(np.hypot(*middle)):
        raise NotDeterminable("the two lines meet outside of the circle")
    east, up = (place + middle).tolist()
    return Corner((east, up), turn, rms)


def _settled(points: Floats, first: Mask) -> tuple[float, Mask] | None:
    """Sum of squared distances and which points belong to the first line, when the rounds have come to rest."""
    least = max(3, round(LEAST_SHARE * len(points)))
    away = np.empty(len(points))
    for _ in range(ROUNDS):
        if not least <= int(first.sum()) <= len(points) - least:
            return None
        near = [np.abs(_apart(points, _line(points[some]))) for some in (first, ~first)]
        now = near[0] < near[1]
        away = np.minimum(*near)
        if np.array_equal(now, first):
            break
        first = now
    return (float(np.sum(away**2)), first) if least <= int(first.sum()) <= len(points) - least else None


def _line(points: Floats) -> tuple[Floats, Floats]:
    """A place on the line of least squares of distance, and its direction."""
    middle = points.mean(axis=0)
    away = points - middle
    _, axes = np.linalg.eigh(away.T @ away)
    return middle, axes[:, 1]


def _apart(points: Floats, line: tuple[Floats, Floats]) -> Floats:
    away = points - line[0]
    return np.asarray(away[:, 0] * line[1][1] - away[:, 1] * line[1][0])
