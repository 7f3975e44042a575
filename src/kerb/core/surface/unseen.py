"""How far the mean of a surface that is not seen may lie from an estimate made of samples beside it.

The surface is a plane trend and a random field whose variogram the samples themselves tell: range, share of noise and
smoothness are averaged over by their likelihood (restricted, variance integrated out), so that few samples make a wide
bound. The likelihood counts at half power, since no such model is the ground's own. Estimation variance of any linear
estimator, universal block kriging: Journel & Huijbregts, Mining Geostatistics, 1978, ch. II and V; Chilès & Delfiner,
Geostatistics, 2012, ch. 3 (both recalled). Averaging over the parameters: Handcock & Stein, Technometrics 35, 1993
(recalled).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats

RANGES = 8
LONGEST = 2.0
NOISES = (1e-4, 1e-3, 0.01, 0.1, 1.0, 8.0)
POWER = 0.5
FEWEST_FREE = 4.0
MOST_SAMPLES = 120


@dataclass(frozen=True)
class MeanError:
    """``u95`` bound of the mean's error; ``spread`` standard deviation of the field, ``range`` of its correlation."""

    u95: float
    spread: float
    range: float


def mean_error(samples: Floats, weights: Floats, block: Floats) -> MeanError:
    """95 % bound of (sum of ``weights`` (n,) times the samples' levels) less the mean level over a ``block``.

    ``samples`` are (n, 3), ``weights`` sum to one, ``block`` (k, 2) are places spread evenly over what is not seen.
    Fewer than six samples, or samples on one line, have a bound of infinity.
    """
    shift = np.append(samples[:, :2].mean(axis=0), samples[:, 2].mean())
    local, places = samples - shift, block - shift[:2]
    size = float(np.hypot(*np.ptp(np.concatenate([local[:, :2], places]), axis=0)))
    trend = np.column_stack([np.ones(len(local)), local[:, :2] / size])
    if len(local) < 6 or np.linalg.matrix_rank(trend, tol=1e-6 * np.sqrt(len(local))) < 3:
        return MeanError(np.inf, np.nan, np.nan)
    away = _apart(local, local)
    nearest = np.sort(away + np.where(np.eye(len(away), dtype=bool), np.inf, 0), axis=1)[:, 0]
    least = max(2.0 * float(np.median(nearest)), 0.01 * size)
    field = _Field(local[:, 2], trend, np.append(1.0, places.mean(axis=0) / size), weights)
    to_block, in_block = _apart(local, places), _apart(places, places)
    found: list[tuple[float, float, float, float, float]] = []
    for length in np.geomspace(least, max(LONGEST * size, 1.5 * least), RANGES):
        for shape in (_exponential, _smooth):
            near, over, inside = shape(away / length), shape(to_block / length).mean(axis=1), shape(in_block / length)
            for noise in NOISES:
                got = field.judged(near, over, float(inside.mean()), noise)
                if got is not None:
                    found.append((*got, length))
    if not found:
        return MeanError(np.inf, np.nan, np.nan)
    table = np.array(found)
    weight = np.exp(POWER * (table[:, 0] - table[:, 0].max()))
    weight /= weight.sum()
    # Samples closer together than the range tell the same: the variance is known from few of them.
    freedom = np.clip(len(local) * np.median(nearest) / table[:, 4], FEWEST_FREE, len(local) - 3)
    u95 = _bound(weight, table[:, 1], table[:, 2], freedom)
    spread = float(np.sqrt(np.sum(weight * table[:, 3])))
    return MeanError(u95, spread, float(np.exp(np.sum(weight * np.log(table[:, 4])))))


@dataclass(frozen=True)
class _Field:
    """Levels (n,), trend functions at the samples (n, 3) and over the block (3,), and the estimator's weights (n,)."""

    z: Floats
    trend: Floats
    over_block: Floats
    weights: Floats

    def judged(
        self, near: Floats, over: Floats, inside: float, noise: float
    ) -> tuple[float, float, float, float] | None:
        """Log likelihood, expected error, its scale and the field's variance for one correlation; None if singular."""
        n, p = self.trend.shape
        try:
            root = scipy.linalg.cholesky(near + noise * np.eye(n), lower=True)
        except scipy.linalg.LinAlgError:
            return None
        asked = np.column_stack([self.trend, self.z, over])
        half = scipy.linalg.solve_triangular(root, asked, lower=True, check_finite=False)
        half_t, half_z, half_o = half[:, :p], half[:, p], half[:, -1]
        normal = half_t.T @ half_t
        plane = np.linalg.solve(normal, half_t.T @ half_z)
        rest = half_z - half_t @ plane
        square = max(float(rest @ rest), 1e-18 * n)
        likely = -np.log(np.diag(root)).sum() - 0.5 * np.linalg.slogdet(normal)[1] - 0.5 * (n - p) * np.log(square)
        mean = float(self.over_block @ plane + half_o @ rest)
        gap = self.over_block - half_t.T @ half_o
        variance = inside - float(half_o @ half_o) + float(gap @ np.linalg.solve(normal, gap))
        sigma2 = square / (n - p)
        return float(likely), float(self.weights @ self.z) - mean, float(np.sqrt(max(variance, 0.0) * sigma2)), sigma2


def _bound(weight: Floats, middle: Floats, scale: Floats, freedom: Floats) -> float:
    """u so that a mixture of Student's t distributions lies within ± u with 95 %."""
    scale = np.maximum(scale, 1e-12)

    def missing(u: float) -> float:
        low, high = (-u - middle) / scale, (u - middle) / scale
        return float(weight @ (scipy.stats.t.cdf(high, freedom) - scipy.stats.t.cdf(low, freedom))) - 0.95

    return float(scipy.optimize.brentq(missing, 0.0, np.abs(middle).max() + 50 * scale.max()))


def _apart(a: Floats, b: Floats) -> Floats:
    """Distances in plan (n, k) of places (n, 2 or more) from others (k, 2 or more)."""
    return np.asarray(np.hypot(a[:, None, 0] - b[None, :, 0], a[:, None, 1] - b[None, :, 1]))


def _exponential(h: Floats) -> Floats:
    return np.asarray(np.exp(-3 * h))


def _smooth(h: Floats) -> Floats:
    """Matérn correlation of smoothness 5/2, scaled so that the range is where 5 % are left, as above."""
    d = 5.918 * h
    return np.asarray((1 + d + d**2 / 3) * np.exp(-d))


def thinned(samples: Floats, weights: Floats, most: int = MOST_SAMPLES) -> tuple[Floats, Floats]:
    """Neighbouring samples (n, 3) of a line joined to means, their weights added, so that no more than ``most`` remain."""
    n = len(samples)
    if n <= most:
        return samples, weights
    group = np.arange(n) * most // n
    count = np.bincount(group)
    joined = np.column_stack([np.bincount(group, samples[:, k]) / count for k in range(3)])
    return joined, np.bincount(group, weights).astype(float)
