"""Spread and errors that a few stray values do not move."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats

# Turns a median absolute deviation into the standard deviation of a normal distribution.
MAD_TO_SIGMA = 1.4826
# The same of a mean absolute deviation: the square root of half of pi.
MEAN_TO_SIGMA = 1.2533
# A median deviation that is so little of the mean one is what rounding makes of nought.
ROUNDING = 1e-6
# Standard error of a median over that of a mean, for a normal distribution; what covers 95 % of it.
MEDIAN_COST, COVERS_95 = 1.2533, 1.96


def spread(values: Floats, about: float | None = None) -> float:
    """1.4826 times the median absolute deviation of values (n,) from their median, or from what is told.

    Where most are one and the same number but for rounding, as heights in whole centimetres are, that is nought and says
    nothing: then 1.2533 times the mean absolute deviation (Iglewicz and Hoaglin 1993, How to detect and handle outliers,
    recalled).
    """
    off = np.abs(values - (np.median(values) if about is None else about))
    median, mean = float(np.median(off)), float(np.mean(off))
    return MAD_TO_SIGMA * median if median > ROUNDING * mean else MEAN_TO_SIGMA * mean


def median_error(sigma: float, count: int) -> float:
    """Standard error of the median of so many values of a standard deviation, as if each were independent."""
    return MEDIAN_COST * sigma / float(np.sqrt(count))
