"""The 95 % bound of a figure from named parts, joined by root sum of squares (JCGM 100:2008, 5.1), for studies of any kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

K95 = 1.96


@dataclass(frozen=True)
class Part:
    """One source of uncertainty: its 95 % share of the figure and how it was reckoned; None where nothing says it."""

    name: str
    u95: float | None
    how: str


def combined(items: Sequence[Part]) -> float:
    """Root sum of squares of independent parts, those that are known."""
    return float(np.sqrt(sum((item.u95 or 0.0) ** 2 for item in items)))
