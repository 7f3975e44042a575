"""The centre of a painted or paper target: what differs in brightness from what is round it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.robust import spread

FEWEST = 30
# Places across the circle: each counts once, and is as bright as the nearest point.
ACROSS = 90
# Bright and dark must differ by so many times their own spread (halves of one normal distribution do by 2.3), and the mark
# must have so much of the circle.
CLEARLY, LEAST_SHARE, MOST_SHARE = 4.0, 0.02, 0.6


@dataclass(frozen=True)
class Target:
    """Where the middle of the mark lies (2,), whether it is brighter than what is round it, and its share of the circle."""

    place: tuple[float, float]
    brighter: bool
    share: float


def target(xy: Floats, brightness: Floats, radius: float) -> Target:
    """The middle of the mark in a circle about the origin, by points (n, 2) and their brightness (n,).

    The threshold is Otsu's (1979) between the two classes; the mark is the class that lies further in. Its middle is that of the
    places it covers, so that uneven density does not pull it. Raises NotDeterminable where nothing stands out.
    """
    inside = np.hypot(*xy.T) <= radius
    xy, brightness = xy[inside], np.asarray(brightness, float)[inside]
    if len(xy) < FEWEST:
        raise NotDeterminable(f"{len(xy)} points lie in the circle, a target needs {FEWEST}")
    limit = otsu(brightness)
    bright = brightness > limit
    if not bright.any() or bright.all():
        raise NotDeterminable("all points in the circle are alike in brightness")
    wide = max(spread(brightness[bright]), spread(brightness[~bright]))
    if np.median(brightness[bright]) - np.median(brightness[~bright]) < CLEARLY * wide:
        raise NotDeterminable("no mark stands out in brightness in the circle")
    at = (np.arange(ACROSS) + 0.5) * 2 * radius / ACROSS - radius
    places = np.column_stack([a.ravel() for a in np.meshgrid(at, at)])
    places = places[np.hypot(*places.T) <= radius]
    light = bright[scipy.spatial.cKDTree(xy).query(places)[1]]
    if not light.any() or light.all():
        raise NotDeterminable("no mark stands out in brightness in the circle")
    further_in = np.hypot(*places[light].T).mean() < np.hypot(*places[~light].T).mean()
    mine = places[light if further_in else ~light]
    part = len(mine) / len(places)
    if not LEAST_SHARE <= part <= MOST_SHARE:
        raise NotDeterminable("the mark fills too much or too little of the circle; zoom so that it lies well inside")
    # Single points that are too bright or dark elsewhere do not pull it.
    middle = np.median(mine, axis=0)
    reach = 1.5 * np.sqrt(part) * radius
    for _ in range(3):
        middle = mine[np.hypot(*(mine - middle).T) <= reach].mean(axis=0)
    return Target((float(middle[0]), float(middle[1])), bool(further_in), part)


def otsu(values: Floats, bins: int = 64) -> float:
    """The threshold that parts values best in two: that of the greatest variance between them (Otsu 1979)."""
    counts, edges = np.histogram(values, bins)
    middle = (edges[:-1] + edges[1:]) / 2
    below, total = np.cumsum(counts)[:-1], counts.sum()
    first = np.cumsum(counts * middle)[:-1]
    above = total - below
    with np.errstate(invalid="ignore", divide="ignore"):
        between = below * above * (first / below - ((counts * middle).sum() - first) / above) ** 2
    between = np.nan_to_num(between)
    # Of many that are alike (a gap between the classes) the middle one.
    best = np.flatnonzero(between >= between.max() * (1 - 1e-12))
    return float(edges[1:-1][best].mean())
