"""The 95 % bound of a figure from named parts, joined by root sum of squares (JCGM 100:2008, 5.1), for studies of any kind, and
that of a sum of figures: what they share adds plainly (5.2: fully correlated inputs)."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import TINY
from kerb.studies.outcome import Outcome

K95 = 1.96
TABLE, COMBINED = "uncertainty", "Combined"


@dataclass(frozen=True)
class Part:
    """One source of uncertainty: its 95 % share of the figure and how it was reckoned; None where nothing says it."""

    name: str
    u95: float | None
    how: str


def combined(items: Sequence[Part]) -> float:
    """Root sum of squares of independent parts, those that are known."""
    return float(np.sqrt(sum((item.u95 or 0.0) ** 2 for item in items)))


def against(second: float, first: float, u95: float | None) -> float | None:
    """By how many percent a second way is above the first, of the size of the first; None where that is within its bound of 0."""
    return 100 * (second - first) / abs(first) if abs(first) > max(u95 or 0.0, TINY) else None


def parts_of(outcome: Outcome) -> dict[str, float]:
    """The named parts of an outcome's bound that are known, without the combined one."""
    table = outcome.tables.get(TABLE)
    rows = table.rows if table is not None else ()
    return {str(row[0]): float(row[1]) for row in rows if row[0] != COMBINED and row[1] is not None}


def joined(parts: Sequence[dict[str, float]], shared: Collection[str], weights: Sequence[float] = ()) -> float:
    """The 95 % bound of a weighted sum of figures from the named parts of each; ``shared`` ones are the same in all of them."""
    factors = weights or [1.0] * len(parts)
    squares = 0.0
    for name in sorted({name for one in parts for name in one}):
        own = np.array([weight * one.get(name, 0.0) for weight, one in zip(factors, parts, strict=True)])
        squares += float(own.sum()) ** 2 if name in shared else float(np.sum(own**2))
    return float(np.sqrt(squares))
