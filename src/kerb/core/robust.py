"""Spread and errors that a few stray values do not move."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats

# Turns a median absolute deviation into the standard deviation of a normal distribution.
MAD_TO_SIGMA = 1.4826
# Standard error of a median over that of a mean, for a normal distribution; what covers 95 % of it.
MEDIAN_COST, COVERS_95 = 1.2533, 1.96


def spread(values: Floats) -> float:
    """1.4826 times the median absolute deviation of values (n,) from their median."""
    return MAD_TO_SIGMA * float(np.median(np.abs(values - np.median(values))))


def median_error(sigma: float, count: int) -> float:
    """Standard error of the median of so many values of a standard deviation, as if each were independent."""
    return MEDIAN_COST * sigma / float(np.sqrt(count))
