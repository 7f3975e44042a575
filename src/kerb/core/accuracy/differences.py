"""The statistics of differences between a product and points that were measured better, as the standards ask for them.

NSSDA: FGDC-STD-007.3-1998. ASPRS: Positional Accuracy Standards for Digital Geospatial Data, 2014, and edition 2 of 2023
(numbers and forms of words recalled).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import TINY, Floats, Mask

NSSDA_FACTOR = 1.9600
FEWEST_NSSDA, FEWEST_2014, FEWEST_2023 = 20, 20, 30
# Below this an effect would come about by chance less often than once in twenty times.
SIGNIFICANT = 0.05
# A good point is not to be named: once in a hundred times.
DISTURBED = 0.01
QUARTER_SHARE = 0.2


@dataclass(frozen=True)
class Summary:
    """Of differences (n,): values in their unit; NaN where too few are there. ``accuracy95`` is 1.96 RMSE (NSSDA)."""

    n: int
    mean: float
    median: float
    std: float
    rms: float
    low: float
    high: float
    accuracy95: float
    p95: float
    mean_low: float
    mean_high: float
    rms_low: float
    rms_high: float


def summary(d: Floats) -> Summary:
    """The figures of differences; confidence intervals of 95 % by Student's t and chi square for normal ones."""
    n = len(d)
    if not n:
        return Summary(0, *([np.nan] * 12))
    rms = float(np.sqrt(np.mean(d**2)))
    std = float(np.std(d, ddof=1)) if n > 1 else np.nan
    mean = float(np.mean(d))
    half = float(scipy.stats.t.ppf(0.975, n - 1)) * std / np.sqrt(n) if n > 1 else np.nan
    low, high = (rms * float(np.sqrt(n / scipy.stats.chi2.ppf(q, n))) for q in (0.975, 0.025))
    return Summary(
        n, mean, float(np.median(d)), std, rms, float(d.min()), float(d.max()), NSSDA_FACTOR * rms,
        float(np.percentile(np.abs(d), 95)), mean - half, mean + half, low, high,
    )  # fmt: skip


def biased(d: Floats) -> tuple[float, bool]:
    """Probability of a mean as far from nought by chance (t test), and whether that is too small to believe in chance."""
    if len(d) < 3 or np.std(d) == 0:
        return np.nan, bool(len(d) >= 3 and np.mean(d) != 0)
    p = float(scipy.stats.ttest_1samp(d, 0.0).pvalue)
    return p, p < SIGNIFICANT


def normal(d: Floats) -> float:
    """Probability of a departure from the normal distribution as large by chance (Shapiro and Wilk 1965)."""
    return float(scipy.stats.shapiro(d).pvalue) if 3 <= len(d) <= 5000 and np.ptp(d) > 0 else np.nan


def outliers(d: Floats) -> Mask:
    """Which differences one after the other are too far off by Grubbs' test (1950) at 1 %."""
    out = np.zeros(len(d), bool)
    while True:
        rest = np.flatnonzero(~out)
        n = len(rest)
        spread = float(np.std(d[rest], ddof=1)) if n > 2 else 0.0
        if n < 6 or spread == 0:
            return out
        off = np.abs(d[rest] - d[rest].mean())
        t = scipy.stats.t.ppf(1 - DISTURBED / (2 * n), n - 2)
        if off.max() / spread <= (n - 1) / np.sqrt(n) * np.sqrt(t**2 / (n - 2 + t**2)):
            return out
        out[rest[np.argmax(off)]] = True


@dataclass(frozen=True)
class Tilt:
    """A plane through differences: rise per unit east and north, probability of one as steep by chance, spread left."""

    east: float
    north: float
    p: float
    rms: float

    @property
    def significant(self) -> bool:
        """Whether chance hardly makes it."""
        return bool(self.p < SIGNIFICANT)

    @property
    def slope(self) -> float:
        """Steepest rise over run."""
        return float(np.hypot(self.east, self.north))


def tilt(xy: Floats, d: Floats) -> Tilt | None:
    """Least-squares plane through differences (n,) at places (n, 2), against a level one by the F test; None under 5."""
    n = len(d)
    if n < 5:
        return None
    local = xy - xy.mean(axis=0)
    design = np.column_stack([local, np.ones(n)])
    solution, _, rank, _ = np.linalg.lstsq(design, d, rcond=1e-9)
    if rank < 3:
        return None
    left = d - design @ solution
    rest, whole = float(left @ left), float(np.sum((d - d.mean()) ** 2))
    f = ((whole - rest) / 2) / max(rest / (n - 3), TINY)
    return Tilt(float(solution[0]), float(solution[1]), float(scipy.stats.f.sf(f, 2, n - 3)), float(np.sqrt(rest / n)))


def spread_words(xy: Floats, low: Floats, high: Floats) -> str:
    """What is wanting of the spread of points over an area: a fifth of them in each quarter (NSSDA, 3.2.2); '' when well."""
    middle = (low + high) / 2
    names = ("south-west", "south-east", "north-west", "north-east")
    quarter = (xy[:, 0] >= middle[0]).astype(int) + 2 * (xy[:, 1] >= middle[1])
    shares = np.bincount(quarter, minlength=4) / max(len(xy), 1)
    empty = [name for name, share in zip(names, shares, strict=True) if share == 0]
    thin = [name for name, share in zip(names, shares, strict=True) if 0 < share < QUARTER_SHARE]
    parts = [f"none in the {', '.join(empty)}"] if empty else []
    parts += [f"fewer than a fifth in the {', '.join(thin)}"] if thin else []
    return "; ".join(parts)


def combined(rms: float, point_rms: float | None) -> float:
    """RMSE with the points' own error added by squares, as edition 2 of the ASPRS standards asks."""
    return float(np.hypot(rms, point_rms or 0.0))
