"""Closest points brought onto the planes of what they are matched with, again and again, coarse to fine, with robust weights.

Point to plane (Chen and Medioni 1992), Tukey's weights (Huber and Ronchetti 2009). Directions that the normal equations do not
determine (Gelfand et al. 2003; Zhang, Kaess, Singh 2016) are not moved along, and named.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from kerb.core.align.targets import Target, cube_for, one_a_cube
from kerb.core.arrays import TINY, Floats, Mask, ends
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.robust import COVERS_95, median_error, spread

# About so many points, one a cube, are matched at each level; what they are matched with is so much finer.
LEVELS, FINER = (4_000, 20_000, 100_000), 0.5
ROUNDS = 40
TUKEY = 4.685
FEWEST_PAIRS = 50
# Cubes along the longest side in which changes of the scene are looked for, and in which errors are taken to be shared; pairs
# and cubes it takes; how many times the usual difference a changed one is off; rounds, and the share of points that settles.
CUBES, CLUSTERS, FEWEST_IN_CUBE, FEWEST_CUBES, TIMES_OFF = 40, 12, 8, 15, 4.0
# In spacings of what stays: less than this is how it is sampled.
LEAST_UNEVEN, LEAST_OFF = 0.25, 0.05
CHANGE_ROUNDS, SETTLED, MOST_KEPT = 4, 0.002, 20_000
# The search limit at first, and the least, in spacings of the target; between them so many times the usual distance.
FIRST_SPACINGS, LEAST_SPACINGS, TIMES_USUAL = 40.0, 3.0, 4.0
# Mean square of what normals and lever arms say of a direction (0 to 1), below which it is not determined; and how many times
# what noise of the normals makes of it.
LEAST_SHARE, TIMES_NOISE = 2e-4, 3.0
# What nothing determines has no bound that is less than this gives.
LEAST_VALUE = 1e-12
STILL = 1e-4
# The width within which distances count shrinks by so much a round, down to the usual one.
NARROWER = 0.8
# Errors of neighbours are alike over some spacings: so many points count as one.
ALIKE_SPACINGS = 4.0


@dataclass(frozen=True)
class Direction:
    """One of six ways a fit may err: ``slide`` (3,) and ``turn`` (3,) are unit, whichever is meant; its 95 % bound (of a
    turn: at the mean distance from the middle), and whether the data determine it."""

    slide: Floats
    turn: Floats
    turning: bool
    u95: float
    determined: bool

    @property
    def name(self) -> str:
        """In words: along a bearing, up and down, or about an axis."""
        way = self.turn if self.turning else self.slide
        if abs(way[2]) > 0.9:
            return "turn about the vertical" if self.turning else "up and down"
        bearing = float(np.degrees(np.arctan2(way[0], way[1])) % 180)
        lean = "" if abs(way[2]) < 0.3 else f", leaning {np.degrees(np.arcsin(min(abs(way[2]), 1.0))):.0f}°"
        return f"{'turn about an axis' if self.turning else 'slide'} along {bearing:.0f}°{lean}"


@dataclass(frozen=True)
class Fit:
    """A motion, how it came about and how good it is.

    ``history`` is the rms of distances to the planes after each round; ``left`` (n,) are those of the ``places`` (n, 3) that
    were matched at last, before they were moved. ``changed`` is the share of the moving points where the scene itself differs,
    which did not count; ``changed_places`` (k, 3) are some of them. ``uneven`` says that distances differ more from cube to
    cube of the scene than they do within them: no one motion brings most of it into line.
    """

    motion: Rigid
    iterations: int
    rms: float
    mean_abs: float
    overlap: float
    history: tuple[float, ...]
    directions: tuple[Direction, ...]
    places: Floats
    left: Floats
    changed: float = 0.0
    changed_places: Floats = field(default_factory=lambda: np.empty((0, 3)))
    uneven: bool = False


@dataclass(frozen=True)
class HowFit:
    """``overlap`` is the share of points that are matched at most (nearest first), ``limit`` the largest distance of a pair."""

    overlap: float | None = None
    limit: float | None = None


def refined(moving: Floats, target: Target, start: Rigid, how: HowFit, progress: Progress) -> Fit:
    """Bring points (n, 3) into line with a target, from a start. All are counted from one origin near the data.

    Raises NotDeterminable, when too few pairs are found; Cancelled.
    """
    motion, history, whole = start, [], target
    limit = how.limit if how.limit is not None else FIRST_SPACINGS * target.spacing
    # At first whatever is matched counts: slopes that are few among much flat ground would else be taken for outliers.
    width = np.inf
    levels = [*(most for most in LEVELS[:-1] if most < len(moving)), LEVELS[-1]]
    for number, most in enumerate(levels, 1):
        cell = cube_for(moving, most)
        points = one_a_cube(moving, cell) if cell else moving
        target = whole.coarser(FINER * cell) if number < len(levels) else whole
        for k in range(ROUNDS):
            progress.step((number - 1 + k / ROUNDS) / len(levels), "Bringing into line")
            pairs = _matched(points, target, motion, limit, how)
            width = min(NARROWER * width, limit)
            step, rms = _step(pairs, motion(points.mean(axis=0)[None])[0], target, width)
            motion = motion.then(step)
            history.append(rms)
            # The search limit shrinks with the distances: some times the usual one, never under a few spacings.
            limit = min(limit, max(TIMES_USUAL * float(np.median(pairs.away)), LEAST_SPACINGS * target.spacing))
            if width <= _usual_width(pairs.left) and _moves(step, points, motion) < STILL * target.spacing + 1e-9:
                break
    every, gone, uneven = points, np.zeros(len(points), np.bool_), False
    for _ in range(CHANGE_ROUNDS):
        now, uneven = _changed(every, target, motion, limit)
        if np.count_nonzero(now ^ gone) < SETTLED * len(every) or np.count_nonzero(~now) < FEWEST_PAIRS:
            break
        gone, points = now, every[~now]
        for _ in range(ROUNDS):
            pairs = _matched(points, target, motion, limit, how)
            step, rms = _step(pairs, motion(points.mean(axis=0)[None])[0], target, _usual_width(pairs.left))
            motion = motion.then(step)
            history.append(rms)
            if _moves(step, points, motion) < STILL * target.spacing + 1e-9:
                break
    pairs = _matched(points, target, motion, limit, how)
    middle = motion(points.mean(axis=0)[None])[0]
    left, weight = pairs.left, _tukey(pairs.left)
    rms, mean_abs = float(np.sqrt(np.average(left**2, weights=weight))), float(np.average(np.abs(left), weights=weight))
    directions = _directions(pairs, middle, target, rms)
    near = float(np.mean(target.match(motion(every), LEAST_SPACINGS * target.spacing)[2] < np.inf))
    back = motion.inverse()(pairs.places)
    share = float(np.count_nonzero(gone) / len(every))
    return Fit(
        motion,
        len(history),
        rms,
        mean_abs,
        near,
        tuple(history),
        directions,
        back,
        left,
        share,
        every[gone][:MOST_KEPT],
        uneven,
    )


def _changed(points: Floats, target: Target, motion: Rigid, limit: float) -> tuple[Mask, bool]:
    """Which of the moving points (n, 3) lie in cubes where the scene itself differs: the median distance to the planes there is
    off from that of most cubes by far more than these differ among themselves; and whether most cubes differ as much."""
    found = np.zeros(len(points), np.bool_)
    moved = motion(points)
    near, normals, away = target.match(moved, limit)
    good = np.flatnonzero(np.isfinite(away) & np.isfinite(normals).all(axis=1))
    if len(good) < FEWEST_PAIRS:
        return found, False
    left = np.einsum("ij,ij->i", moved[good] - near[good], normals[good])
    low, high = ends(points)
    cell = np.floor((points - low) / max(float((high - low).max()) / CUBES, TINY)).astype(np.int64)
    _, cube = np.unique(cell, axis=0, return_inverse=True)
    cube = cube.ravel()
    order = np.argsort(cube[good], kind="stable")
    starts = np.flatnonzero(np.concatenate([[True], np.diff(cube[good][order]) != 0]))
    groups = [group for group in np.split(order, starts[1:]) if len(group) >= FEWEST_IN_CUBE]
    if len(groups) < FEWEST_CUBES:
        return found, False
    middle = np.array([np.median(left[group]) for group in groups])
    within = np.array([spread(left[group]) for group in groups])
    own = np.array([median_error(value, len(group)) for value, group in zip(within, groups, strict=True)])
    usual = float(np.median(middle))
    among = spread(middle, usual)
    off = np.abs(middle - usual) > np.maximum(TIMES_OFF * np.hypot(among, own), LEAST_OFF * target.spacing)
    odd = np.array([cube[good[group[0]]] for group, is_off in zip(groups, off, strict=True) if is_off], np.int64)
    return np.isin(cube, odd), bool(among > max(float(np.median(within)), target.spacing * LEAST_UNEVEN))


@dataclass(frozen=True)
class _Pairs:
    """Moved places (m, 3), normals (m, 3) of what they are matched with, distances to the planes and to the places there."""

    places: Floats
    normals: Floats
    left: Floats
    away: Floats


def _matched(points: Floats, target: Target, motion: Rigid, limit: float, how: HowFit) -> _Pairs:
    moved = motion(points)
    near, normals, away = target.match(moved, limit)
    good = np.isfinite(away) & np.isfinite(normals).all(axis=1)
    if how.overlap is not None and good.any():
        most = np.quantile(np.where(good, away, np.inf), how.overlap, method="lower")
        good &= away <= most
    if np.count_nonzero(good) < FEWEST_PAIRS:
        raise NotDeterminable(
            f"{np.count_nonzero(good)} points have a match within {limit:.3g}; {FEWEST_PAIRS} are needed: start nearer"
        )
    left = np.einsum("ij,ij->i", moved[good] - near[good], normals[good])
    return _Pairs(moved[good], normals[good], left, away[good])


def _usual_width(left: Floats) -> float:
    """Beyond which distances count for nothing: 4.685 times their spread."""
    return max(TUKEY * spread(left), TINY)


def _tukey(left: Floats, width: float = 0.0) -> Floats:
    """Tukey's weights of distances from their median, of the usual width or a wider one. Not all of them are nought."""
    u = (left - np.median(left)) / max(width, _usual_width(left))
    return np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0)


def _design(pairs: _Pairs, middle: Floats) -> tuple[Floats, float]:
    """Rows (m, 6) of turn and slide; turns in lengths at the mean distance from the middle, which is returned."""
    arm = pairs.places - middle
    radius = float(np.sqrt(np.mean(np.einsum("ij,ij->i", arm, arm)))) or 1.0
    return np.column_stack([np.cross(arm, pairs.normals) / radius, pairs.normals]), radius


def _step(pairs: _Pairs, middle: Floats, target: Target, width: float) -> tuple[Rigid, float]:
    design, radius = _design(pairs, middle)
    weight = _tukey(pairs.left, width)
    total = float(weight.sum())
    normal = (design * weight[:, None]).T @ design / total
    gradient = (design * weight[:, None]).T @ pairs.left / total
    values, vectors = np.linalg.eigh(normal)
    sure = values > _least(target)
    x = -vectors[:, sure] @ ((vectors[:, sure].T @ gradient) / values[sure])
    turn = Rotation.from_rotvec(x[:3] / radius).as_matrix()
    return Rigid.of(turn, middle, x[3:]), float(np.sqrt(np.average(pairs.left**2, weights=weight)))


def _least(target: Target) -> float:
    return max(LEAST_SHARE, TIMES_NOISE * target.normal_noise)


def _moves(step: Rigid, points: Floats, motion: Rigid) -> float:
    """How far a step moves the corners of the points at most."""
    moved = motion(np.array(list(itertools.product(*np.transpose(ends(points))))))
    return float(np.linalg.norm(step(moved) - moved, axis=1).max())


def _by_clusters(pairs: _Pairs, design: Floats, weight: Floats, normal: Floats) -> Floats | None:
    """Covariance (6, 6) of a step from what whole cubes of the scene pull at it, so that errors which neighbours share count as
    one (cluster-robust covariance: Liang and Zeger 1986, recalled); None where there are too few cubes."""
    low, high = ends(pairs.places)
    cell = np.floor((pairs.places - low) / max(float((high - low).max()) / CLUSTERS, TINY)).astype(np.int64)
    _, cube = np.unique(cell, axis=0, return_inverse=True)
    many = int(cube.max()) + 1
    if many < FEWEST_CUBES:
        return None
    pull = design * (weight * (pairs.left - np.average(pairs.left, weights=weight)))[:, None]
    sums = np.column_stack([np.bincount(cube.ravel(), pull[:, k], many) for k in range(6)])
    inverse = np.linalg.pinv(normal, rcond=LEAST_VALUE)
    return np.asarray(inverse @ (sums.T @ sums) @ inverse * many / (many - 6))


def _directions(pairs: _Pairs, middle: Floats, target: Target, rms: float) -> tuple[Direction, ...]:
    """The eigenvectors of the normal equations with the bound of each, the least determined first."""
    design, _ = _design(pairs, middle)
    weight = _tukey(pairs.left)
    total = float(weight.sum())
    normal = (design * weight[:, None]).T @ design / total
    values, vectors = np.linalg.eigh(normal)
    loose = values <= _least(target)
    if np.count_nonzero(loose) > 1:
        # Of several loose directions any mixture is one: those are told that slide most, and what is left of turns.
        _, _, mixed = np.linalg.svd(vectors[3:, loose])
        vectors[:, loose] = vectors[:, loose] @ mixed.T
        values[loose] = np.einsum("ik,ij,jk->k", vectors[:, loose], normal, vectors[:, loose])
    # Where a border of cubes runs along a surface, its noise lies in two for one: the lesser of two counts.
    alike = ALIKE_SPACINGS * target.spacing
    count = min(total, *(len(one_a_cube(pairs.places, alike, below)) for below in (0.0, 0.5)))
    # Where distances are skewed, as in vegetation, weights take out a part only of what pulls to one side.
    skew = abs(float(np.average(pairs.left, weights=weight)) - float(np.median(pairs.left)))
    shared = _by_clusters(pairs, design, weight, normal * total)
    found = []
    for value, vector, free in zip(values, vectors.T, loose, strict=True):
        turn, slide = vector[:3], vector[3:]
        turning = bool(np.linalg.norm(turn) > np.linalg.norm(slide))
        unit = lambda v: v / max(float(np.linalg.norm(v)), TINY)  # noqa: E731
        u95 = float(COVERS_95 * rms / np.sqrt(max(value, LEAST_VALUE) * count))
        if shared is not None and not free:
            u95 = max(u95, float(COVERS_95 * np.sqrt(vector @ shared @ vector)))
        u95 = float(np.hypot(u95, skew / np.sqrt(max(value, LEAST_VALUE)))) if not free else u95
        found.append(Direction(unit(slide), unit(turn), turning, u95, not free))
    return tuple(found)
