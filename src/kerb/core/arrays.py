"""Names for the array types that signatures use, so that they say dtype rather than 'array'."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from kerb.core.parallel import each, ranges

Floats = npt.NDArray[np.float64]
Floats32 = npt.NDArray[np.float32]
Ints = npt.NDArray[np.int64]
Ints32 = npt.NDArray[np.int32]
Bytes = npt.NDArray[np.uint8]
Mask = npt.NDArray[np.bool_]
AnyArray = npt.NDArray[Any]


def distinct(numbers: AnyArray) -> AnyArray:
    """Different values of whole numbers in rising order. Sorted, which takes a third of the time of ``np.unique``'s table."""
    ordered = np.sort(numbers, axis=None)
    return ordered[np.concatenate([[True], ordered[1:] != ordered[:-1]])] if len(ordered) else ordered


def among(numbers: AnyArray, others: AnyArray) -> Mask:
    """Which of some whole numbers (any shape) are among others."""
    held = distinct(others)
    if not len(held):
        return np.zeros(numbers.shape, np.bool_)
    return np.asarray(held[np.minimum(np.searchsorted(held, numbers), len(held) - 1)] == numbers)


# What divides is never less: so little that nothing else feels it.
TINY = 1e-30


def ends(points: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest of each column of (n, k) numbers, on all cores; column by column, ten times faster than along an axis.

    Raises ValueError, when there are none.
    """
    if not len(points):
        raise ValueError("there are no lowest and highest of no numbers")

    def some(span: tuple[int, int]) -> list[tuple[float, float]]:
        return [(column.min(), column.max()) for column in points[slice(*span)].T]

    found = np.array(each(some, ranges(len(points), 100_000)))
    return found[:, :, 0].min(axis=0), found[:, :, 1].max(axis=0)
