"""A start for clouds that lie anyhow, upright or not: places that look alike round about, and the motion most of them agree on.

Fast point feature histograms (R. B. Rusu, N. Blodow, M. Beetz, Fast point feature histograms (FPFH) for 3D registration, ICRA
2009), of angles without signs, as normals of clouds have none; pairs of places are drawn by threes whose distances are alike
(Fischler and Bolles 1981), the motion of each three is held against all pairs, and the best against the clouds. All recalled.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy

from kerb.core.align.anyhow_kernels import agreeing
from kerb.core.arrays import TINY, Floats
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress

# Places that are looked at, neighbours that make a normal, and how far round a place is looked, in steps between places.
PLACES, NEIGHBOURS, ROUND = 3000, 24, 4.5
BINS, ALIKE, FEWEST = 11, 2, 200
# Threes that are drawn, how alike their distances are at least, how near a pair lies then, in steps, and how many motions are
# kept, tried at last, and tried that are nearly one.
DRAWS, SAME_LENGTH, NEAR, KEPT, TRIED, LIKE = 60_000, 0.85, 1.5, 600, 40, 6
# A share of the places of the smaller cloud must find one of the other; another motion is told when it finds so much of that.
LEAST_SHARE, AS_GOOD, OTHER_TURN, OTHER_STEPS = 0.3, 0.93, 15.0, 8.0
SEED = 20261
# Threes that are held against all pairs at a time, between two looks at whether to stop.
A_TURN = 200


@dataclass(frozen=True)
class AnyStart:
    """A motion to start from, the share of places that find one of the other cloud then, and whether another motion that is no
    neighbour of it does nearly as well."""

    motion: Rigid
    share: float
    doubtful: bool


def any_start(moving: Floats, fixed: Floats, progress: Progress) -> AnyStart:
    """The motion that brings ``moving`` (n, 3) to ``fixed`` (m, 3), coarsely: to a step between places or two.

    Raises NotDeterminable, when too few places are alike or agree; Cancelled.
    """
    if min(len(moving), len(fixed)) < FEWEST:
        raise NotDeterminable(f"a search needs {FEWEST} points of each")
    middles = moving.mean(axis=0), fixed.mean(axis=0)
    one, other = moving - middles[0], fixed - middles[1]
    step = max(_step(one), _step(other))
    clouds = []
    for number, cloud in enumerate((one, other)):
        progress.step(0.1 + 0.2 * number, "Describing places")
        places = _places(cloud, step)
        clouds.append((places, _described(places, _normals(places, cloud), ROUND * step)))
    (mine, looks), (theirs, their_looks) = clouds
    progress.step(0.5, "Searching for a start")
    tree: Any = scipy.spatial.cKDTree(their_looks)
    _, alike = tree.query(looks, ALIKE, workers=-1)
    first = np.repeat(np.arange(len(mine)), ALIKE)
    pairs = np.column_stack([first, alike.ravel()])
    best = _agreed(mine[pairs[:, 0]], theirs[pairs[:, 1]], step, progress.within(0.5, 0.8))
    if not best:
        raise NotDeterminable("no motion was found that places which look alike agree on; give pairs or a start")
    ground: Any = scipy.spatial.cKDTree(theirs)
    least = min(len(mine), len(theirs))
    ranked = []
    for motion in best:
        progress.check()
        away, near = ground.query(mine @ motion[0].T + motion[1], distance_upper_bound=NEAR * step)
        good = np.isfinite(away)
        if np.count_nonzero(good) > 3:
            # Once more from all that are near: a three is only as good as its places.
            motion = _motion(mine[good][None], theirs[near[good]][None])
            motion = motion[0][0], motion[1][0]
            away, _ = ground.query(mine @ motion[0].T + motion[1], distance_upper_bound=NEAR * step)
        ranked.append((np.count_nonzero(away <= step) / least, motion))
    ranked.sort(key=lambda one_: -one_[0])
    share, (turn, shift) = ranked[0]
    if share < LEAST_SHARE:
        raise NotDeterminable(f"the best motion brings only {share:.0%} of the places together; give pairs or a start")
    doubtful = any(found >= AS_GOOD * share and _apart((turn, shift), motion, step) for found, motion in ranked[1:])
    return AnyStart(Rigid.of(turn, middles[0], middles[1] + shift - middles[0]), float(min(share, 1.0)), doubtful)


def _step(cloud: Floats) -> float:
    """The side of cubes of which about so many as wanted hold points."""
    low, high = np.percentile(cloud, [1, 99], axis=0)
    step = float((high - low).max()) / 10
    for _ in range(40):
        if len(np.unique(np.floor((cloud - low) / step).astype(np.int64), axis=0)) >= PLACES:
            break
        step *= 0.85
    return step


def _places(cloud: Floats, step: float) -> Floats:
    """The middle of the points in each cube."""
    cell = np.floor((cloud - cloud.min(axis=0)) / step).astype(np.int64)
    _, place, many = np.unique(cell, axis=0, return_inverse=True, return_counts=True)
    number = np.asarray(place).ravel()
    return np.column_stack([np.bincount(number, cloud[:, k]) / many for k in range(3)])


def _normals(places: Floats, cloud: Floats) -> Floats:
    index = NeighbourIndex(cloud)
    _, near = index.nearest(places, min(NEIGHBOURS, len(cloud)))
    normals = np.empty_like(places)
    least_spread(cloud, near, 3, normals)
    return normals


def _described(places: Floats, normals: Floats, reach: float) -> Floats:
    """A histogram (n, 33) of each place: three angles to its neighbours and theirs."""
    pairs = scipy.spatial.cKDTree(places).query_pairs(reach, output_type="ndarray").astype(np.int64)
    pairs = np.concatenate([pairs, pairs[:, ::-1]])
    way = places[pairs[:, 1]] - places[pairs[:, 0]]
    length = np.linalg.norm(way, axis=1)
    way = way / np.maximum(length, TINY)[:, None]
    u, target = normals[pairs[:, 0]], normals[pairs[:, 1]]
    v = np.cross(u, way)
    v /= np.maximum(np.linalg.norm(v, axis=1), TINY)[:, None]
    w = np.cross(u, v)
    dot = lambda a, b: np.abs(np.einsum("ij,ij->i", a, b))  # noqa: E731
    turn = np.arctan2(dot(w, target), dot(u, target)) / (np.pi / 2)
    own = np.zeros((len(places), 3 * BINS))
    for k, value in enumerate((dot(v, target), dot(u, way), turn)):
        slot = np.clip(np.nan_to_num(value) * BINS, 0, BINS - 1).astype(np.int64) + k * BINS
        np.add.at(own, (pairs[:, 0], slot), 1.0)
    many = np.maximum(np.bincount(pairs[:, 0], minlength=len(places)), 1)
    own /= many[:, None]
    weight = 1.0 / np.maximum(length, TINY)
    beside = scipy.sparse.csr_array((weight, (pairs[:, 0], pairs[:, 1])), shape=(len(places), len(places)))
    total = np.maximum(np.asarray(beside.sum(axis=1)).ravel(), TINY)
    return np.asarray(own + (beside @ own) / total[:, None])


def _agreed(mine: Floats, theirs: Floats, step: float, progress: Progress) -> list[tuple[Floats, Floats]]:
    """Motions that bring most of the pairs together, the best first."""
    rng = np.random.default_rng(SEED)
    draws = rng.integers(0, len(mine), (DRAWS, 3))
    found: list[tuple[int, Floats, Floats]] = []
    keep = np.ones(len(draws), np.bool_)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        one = np.linalg.norm(mine[draws[:, a]] - mine[draws[:, b]], axis=1)
        other = np.linalg.norm(theirs[draws[:, a]] - theirs[draws[:, b]], axis=1)
        shorter, longer = np.minimum(one, other), np.maximum(one, other)
        # Threes that lie close together tell little of a turn.
        keep &= (shorter >= SAME_LENGTH * longer) & (shorter > 6 * step)
    draws = draws[keep]
    for first in range(0, len(draws), A_TURN):
        progress.step(first / len(draws), "Searching for a start")
        some = draws[first : first + A_TURN]
        turns, shifts = _motion(mine[some], theirs[some])
        count = agreeing(mine, theirs, turns, shifts, NEAR * step)
        best = np.argsort(-count)[:TRIED]
        found += [(int(count[k]), turns[k], shifts[k]) for k in best]
        found = sorted(found, key=lambda one: -one[0])[:KEPT]
    chosen: list[tuple[Floats, Floats]] = []
    for count, turn, shift in found:
        like = sum(not _apart((turn, shift), other, step) for other in chosen)
        if count >= 4 and like < LIKE and len(chosen) < TRIED:
            chosen.append((turn, shift))
    return chosen


def _motion(one: Floats, other: Floats) -> tuple[Floats, Floats]:
    """Rotations (h, 3, 3) and shifts (h, 3) of least squares from (h, k, 3) to (h, k, 3) places (Arun, Huang, Blostein 1987)."""
    middle, target = one.mean(axis=1, keepdims=True), other.mean(axis=1, keepdims=True)
    u, _, v = np.linalg.svd(np.einsum("hki,hkj->hij", one - middle, other - target))
    flip = np.ones((len(one), 3))
    flip[:, 2] = np.sign(np.linalg.det(np.einsum("hij,hjk->hik", u, v)))
    turns = np.einsum("hji,hj,hkj->hik", v, flip, u)
    return turns, target[:, 0] - np.einsum("hij,hj->hi", turns, middle[:, 0])


def _apart(one: tuple[Floats, Floats], other: tuple[Floats, Floats], step: float) -> bool:
    angle = np.degrees(np.arccos(np.clip((np.trace(one[0].T @ other[0]) - 1) / 2, -1, 1)))
    return bool(angle > OTHER_TURN or np.linalg.norm(one[1] - other[1]) > OTHER_STEPS * step)
