"""Which samples of a toe line lie over ground and which over a wall, a valley between heaps, a machine: by evidence.

The ground is the lowest plane that much of the line agrees with, in level and in fall. What stands above it and is
parted from it by a step, a steep stretch or a gap is not ground; nor is a place from which the surface rises outwards.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.robust import MAD_TO_SIGMA
from kerb.core.surface.toe_kernels import (
    BEYOND,
    COUNT,
    EAST,
    INNER,
    LEVEL,
    NORTH,
    OUTER,
    RISE_EAST,
    RISE_NORTH,
    SCATTER,
)  # fmt: skip

STEEP = float(np.tan(np.radians(12.0)))
# No ground to pile on is steeper; a plane this steep that much of a line agrees with is a flank.
STEEPEST = float(np.tan(np.radians(40.0)))
USUAL_TURN = float(np.tan(np.radians(3.0)))
TRIES = 300
LEAST_SHARE = 0.1
SE = 3.0


@dataclass(frozen=True)
class Evidence:
    """What each of m samples shows: ``outer`` and ``inner`` levels at the line, the ``ground`` level read for it.

    ``rising`` (m,) are those from which the surface climbs outwards; ``steep`` is the fall of the surface read, less that
    of the plane of the ground ``trend``; ``off`` how far the level stands above that plane.
    """

    xy: Floats
    outer: Floats
    inner: Floats
    ground: Floats
    rising: Mask
    steep: Floats
    off: Floats
    trend: Floats


def weighed(xy: Floats, zones: Floats, width: float, jump: float) -> Evidence:
    """Levels from the zones (m, 3, 7) of the samples, the flank kept out where the line stands on it a little."""
    outer, inner = _at_line(zones[:, OUTER]), _at_line(zones[:, INNER])
    trend = np.zeros(3)
    local = xy - xy.mean(axis=0)
    for _ in range(2):
        beyond, error = _extrapolated(zones[:, BEYOND], trend[:2], width)
        distance = np.hypot(zones[:, BEYOND, EAST], zones[:, BEYOND, NORTH])
        above = beyond - outer
        with np.errstate(invalid="ignore"):
            rising = above > np.maximum(SE * error, STEEP * distance)
            take_outer = ~np.isfinite(beyond) | (above > np.maximum(SE * error, 0.1 * jump))
        ground = np.where(take_outer, outer, beyond)
        rise = np.where(take_outer[:, None], zones[:, OUTER, RISE_EAST:SCATTER], zones[:, BEYOND, RISE_EAST:SCATTER])
        usable = np.isfinite(ground)
        with np.errstate(invalid="ignore"):
            usable &= ~(np.abs(outer - inner) > jump)
        if usable.sum() >= 3:
            trend = _lowest_plane(local[usable], ground[usable], rise[usable], 0.5 * jump, width)
    off = ground - local @ trend[:2] - trend[2]
    return Evidence(xy, outer, inner, ground, rising, np.hypot(*(rise - trend[:2]).T), off, trend)


def on_ground(seen: Evidence, jump: float) -> tuple[Mask, Mask]:
    """Which samples lie over ground, and which stand at a step; from the evidence of the samples in order."""
    known = np.isfinite(seen.ground)
    with np.errstate(invalid="ignore"):
        step = known & (np.abs(seen.outer - seen.inner) > jump)
        off, steep = np.abs(seen.off), seen.steep > STEEP
        agrees = known & (off < 0.5 * jump)
    usual = MAD_TO_SIGMA * float(np.median(off[agrees])) if agrees.any() else 0.0
    far = max(2 / 3 * jump, 4 * usual)
    barrier = ~known | step | steep | seen.rising
    ground = known & ~step & ~seen.rising & ~(steep & (seen.off > 0.25 * jump))
    for row in _runs(~barrier, _parted(seen, jump)):
        if agrees[row].mean() < 0.2 and np.median(off[row]) > far:
            ground[row] = False
    # Between two kinds the surface climbs: a sample there that already stands high belongs to what is higher.
    beside = ~np.roll(ground, 1) | ~np.roll(ground, -1)
    ground &= ~(beside & (seen.off > 0.5 * jump))
    if ground.sum() < max(3, LEAST_SHARE * known.sum()):
        ground = known & ~step
    return ground, step


def _at_line(zone: Floats) -> Floats:
    return np.asarray(zone[:, LEVEL] - zone[:, EAST] * zone[:, RISE_EAST] - zone[:, NORTH] * zone[:, RISE_NORTH])


def _extrapolated(zone: Floats, trend: Floats, width: float) -> tuple[Floats, Floats]:
    """Level at the line from the zone beyond, and its standard error.

    The zone's own fall is taken as far as it is well determined, else that of the plane of the whole ground.
    """
    of_rise = zone[:, SCATTER] / (np.sqrt(zone[:, COUNT]) * 0.29 * width)
    share = USUAL_TURN**2 / (USUAL_TURN**2 + of_rise**2)
    east = trend[0] + share * (zone[:, RISE_EAST] - trend[0])
    north = trend[1] + share * (zone[:, RISE_NORTH] - trend[1])
    distance = np.hypot(zone[:, EAST], zone[:, NORTH])
    error = np.hypot(zone[:, SCATTER] / np.sqrt(zone[:, COUNT]), share * of_rise * distance)
    return zone[:, LEVEL] - zone[:, EAST] * east - zone[:, NORTH] * north, error


def _lowest_plane(xy: Floats, z: Floats, rise: Floats, near: float, width: float) -> Floats:
    """Rise east and north and level at (0, 0) of the plane that most samples agree with and few lie under.

    Candidates go through three samples, or through one with its own rise or none; steep ones count for less. The best
    is fitted anew to the samples that agree with it, levels and rises alike, so that a single straight side fixes it.
    """
    n = len(z)
    rng = np.random.default_rng(0)
    triples = np.array([rng.choice(n, 3, replace=False) for _ in range(TRIES)])
    sides = np.concatenate([xy[triples], np.ones((TRIES, 3, 1))], axis=2)
    fixed = np.abs(np.linalg.det(sides)) > 1e-3 * max(float(np.prod(np.ptp(xy, axis=0))), 1e-12)
    planes = [np.linalg.solve(sides[fixed], z[triples[fixed]][..., None])[..., 0]] if fixed.any() else []
    step = max(1, n // 100)
    for slope in (rise, np.zeros_like(rise)):
        level = z - np.sum(slope * xy, axis=1)
        planes.append(np.column_stack([slope, level])[::step])
    candidates = np.concatenate(planes)
    rest = z - candidates[:, :2] @ xy.T - candidates[:, 2:]
    turn = np.hypot(rise[:, 0] - candidates[:, :1], rise[:, 1] - candidates[:, 1:2])
    agree = (np.abs(rest) < near) & (turn < STEEP)
    score = agree.sum(axis=1) - 2.0 * (rest < -near).sum(axis=1)
    gentle = 1 - np.hypot(candidates[:, 0], candidates[:, 1]) / STEEPEST
    score = np.where(score > 0, score * np.maximum(gentle, 0.0), score)
    best = int(np.argmax(score))
    chosen = agree[best]
    if chosen.sum() < 3:
        return np.asarray(candidates[best])
    k = int(chosen.sum())
    design = np.zeros((3 * k, 3))
    design[:k, :2], design[:k, 2] = xy[chosen], 1.0
    design[k : 2 * k, 0] = design[2 * k :, 1] = 0.3 * width
    wanted = np.concatenate([z[chosen], 0.3 * width * rise[chosen, 0], 0.3 * width * rise[chosen, 1]])
    return np.asarray(np.linalg.lstsq(design, wanted, rcond=None)[0])


def _parted(seen: Evidence, jump: float) -> Mask:
    """Which samples stand much higher or lower over the plane of the ground than the one before them."""
    away = np.hypot(*(seen.xy - np.roll(seen.xy, 1, axis=0)).T)
    with np.errstate(invalid="ignore"):
        return np.asarray(np.abs(seen.off - np.roll(seen.off, 1)) > np.maximum(STEEP * away, 0.25 * jump))


def _runs(flags: Mask, parted: Mask) -> list[Ints]:
    """Rows of neighbouring true samples of a closed line, cut before samples that are parted from the one before."""
    n = len(flags)
    starts = np.flatnonzero(flags & (~np.roll(flags, 1) | parted))
    if not len(starts):
        return [np.arange(n)] if flags.all() else []
    rows = []
    for start in starts:
        length = 1
        while length < n and flags[(start + length) % n] and not parted[(start + length) % n]:
            length += 1
        rows.append((start + np.arange(length)) % n)
    return rows
