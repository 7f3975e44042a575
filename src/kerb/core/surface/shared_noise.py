"""Noise of the difference of two surfaces that neighbouring places share, from its own variogram.

Only places count that lie near the most common difference, which is taken for ground that did not change. Second
differences along random lines take out level and tilt; their spread at rising distances is that of independent noise, of
noise with an exponential covariance, and of ground that bends (which grows with the fourth power of the distance).
Exponential covariance and its integral: Chilès and Delfiner 2012 (recalled).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.robust import spread

# Places that are looked at for each distance, and the fewest that tell something.
PLACES, FEWEST = 6000, 60
FACTOR, MOST_LAGS = 1.6, 14
# Distances go from so many spacings to this share of the shorter side.
FIRST, SHARE = 2.0, 0.25
LENGTHS = 24
SEED = 7
# The shortest interval with this share of the differences is that of unchanged ground; its half width in standard deviations;
# how many of those belong to it; and how many times the noise of single points those may be, else all has changed.
SHORTEST, HALF_WIDTH, NEAR, MOST_SIGMAS = 0.35, 0.4538, 3.0, 6.0
# A covariance that explains less of the spread than this, or less than this much better than none, is not told from chance.
LEAST_SHARE, BETTER = 0.05, 0.7


@dataclass(frozen=True)
class SharedNoise:
    """Standard deviation and correlation length of what neighbours share; ``sigma`` 0 where none is found."""

    sigma: float
    length: float

    def variance(self, area: float) -> float:
        """Variance of the integral over an area: that of an exponential covariance far smaller than it, at most all of it."""
        return self.sigma**2 * area * min(2 * np.pi * self.length**2, area)


def shared_noise(
    difference: Callable[[Floats], Floats], low: Floats, high: Floats, spacing: float, single: float
) -> SharedNoise | None:
    """Of differences asked for at places (n, 2) of a plan box, NaN where there are none; None where no ground is unchanged.

    ``spacing`` is that of the data, ``single`` the noise of single points of both together.
    """
    rng = np.random.default_rng(SEED)
    level, sigma = _unchanged(difference(rng.uniform(low, high, (PLACES, 2))))
    if not sigma <= MOST_SIGMAS * single:
        return None
    furthest = SHARE * float(np.min(high - low))
    lags: list[float] = []
    spreads: list[float] = []
    lag = FIRST * spacing
    while lag <= furthest and len(lags) < MOST_LAGS:
        middle = rng.uniform(low, high, (PLACES, 2))
        way = rng.uniform(0, 2 * np.pi, PLACES)
        step = lag * np.column_stack([np.cos(way), np.sin(way)])
        places = np.concatenate([middle - step, middle, middle + step])
        found = difference(places).reshape(3, -1)
        calm = (np.abs(found - level) <= NEAR * sigma).all(axis=0)
        second = (found[0] - 2 * found[1] + found[2])[calm]
        if len(second) >= FEWEST:
            lags.append(lag)
            spreads.append(spread(second, 0.0) ** 2 / 6.0)
        lag *= FACTOR
    if len(lags) < 4 or not max(spreads) > 0:
        return SharedNoise(0.0, 0.0)
    return _fitted(np.array(lags), np.array(spreads))


def _unchanged(differences: Floats) -> tuple[float, float]:
    """The most common difference and the standard deviation round it, by the shortest interval that holds a share of all."""
    values = np.sort(differences[np.isfinite(differences)])
    many = int(SHORTEST * len(values))
    if many < FEWEST:
        return 0.0, np.inf
    widths = values[many:] - values[:-many]
    first = int(np.argmin(widths))
    return float(values[first : first + many].mean()), float(widths[first] / 2 / HALF_WIDTH)


def _fitted(lags: Floats, variances: Floats) -> SharedNoise:
    """The covariance that explains the spread at some distances best, by non-negative least squares for each of some lengths."""
    weight = 1.0 / np.maximum(variances, 0.05 * variances.max())
    bend = (lags / lags[-1]) ** 4
    plain = np.column_stack([np.ones(len(lags)), bend]) * weight[:, None]
    _, none = scipy.optimize.nnls(plain, variances * weight)
    best, found = none, SharedNoise(0.0, 0.0)
    for length in np.geomspace(lags[0] / 2, lags[-1], LENGTHS):
        share = (6 - 8 * np.exp(-lags / length) + 2 * np.exp(-2 * lags / length)) / 6
        amounts, rest = scipy.optimize.nnls(np.column_stack([plain, share * weight]), variances * weight)
        if rest < best and amounts[2] > LEAST_SHARE * variances.max():
            best, found = rest, SharedNoise(float(np.sqrt(amounts[2])), float(length))
    return found if best < BETTER * none else SharedNoise(0.0, 0.0)
