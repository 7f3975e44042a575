"""How setups, strips or files lie to one another on a face that all of them saw: distances along its normal, pair by pair."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from kerb.core.arrays import Floats, Ints
from kerb.core.errors import NotDeterminable
from kerb.core.robust import COVERS_95, median_error, spread

FEWEST = 20
# A face is flat where points lie nearer to it than this share of its lesser extent.
FLAT_SHARE = 0.2
UPRIGHT = 0.02


@dataclass(frozen=True)
class Pair:
    """How far the points of ``other`` lie from those of ``one``, counted along the normal, with its 95 % bound."""

    one: int
    other: int
    distance: float
    u95: float


@dataclass(frozen=True)
class Face:
    """A face as several sources saw it: its normal (3,), and of each source its points and their spread about it (1σ)."""

    normal: Floats
    counts: dict[int, int]
    spreads: dict[int, float]
    pairs: tuple[Pair, ...]


def face_of(points: Floats, sources: Ints) -> Face:
    """Compare sources (n,) on a face by its points (n, 3).

    The normal is that of the plane of least squares through all of them when each source is moved to its own mean, so that
    what is looked for does not turn it; distances are between medians, spreads 1.4826 times the median absolute deviation.
    It points up, of an upright face to the side of greater northing. Sources with fewer than 20 points do not count. Raises
    NotDeterminable for fewer than two sources, or where the points make no flat face.
    """
    numbers, counts = np.unique(sources, return_counts=True)
    used = [int(n) for n, c in zip(numbers, counts, strict=True) if c >= FEWEST]
    if len(used) < 2:
        raise NotDeterminable(f"{len(used)} setup or strip has {FEWEST} points or more here; a comparison needs two")
    keep = np.isin(sources, used)
    points, sources = points[keep] - points[keep].mean(axis=0), sources[keep]
    centred = points.copy()
    for n in used:
        centred[sources == n] -= points[sources == n].mean(axis=0)
    _, extents, axes = np.linalg.svd(centred, full_matrices=False)
    if extents[2] > FLAT_SHARE * extents[1]:
        raise NotDeterminable("the points do not lie on one flat face; draw the box round a part of it that is flat")
    normal = axes[2] * (1.0 if _upward(axes[2]) else -1.0)
    # Along the face a source may cover another part of it: what is compared is the distance from one common plane.
    height = points @ normal
    middles = {n: float(np.median(height[sources == n])) for n in used}
    spreads = {n: spread(height[sources == n]) for n in used}
    sizes = {n: int(np.sum(sources == n)) for n in used}
    error = {n: median_error(spreads[n], sizes[n]) for n in used}
    pairs = tuple(
        Pair(a, b, middles[b] - middles[a], float(COVERS_95 * np.hypot(error[a], error[b])))
        for a, b in combinations(used, 2)
    )
    return Face(normal, sizes, spreads, pairs)


def _upward(normal: Floats) -> bool:
    # What leans less than this from upright is upright.
    components = [value for value in normal[::-1].tolist() if abs(value) > UPRIGHT]
    return components[0] > 0
