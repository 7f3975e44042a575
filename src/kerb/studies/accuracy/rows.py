"""A point of an accuracy study, with what was found of it."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.accuracy.beneath import Beneath
from kerb.core.arrays import Floats

# Why a point has no difference in height; a target is one all the same.
NO_ELEVATION, OUTSIDE, NO_POINTS = "has no elevation", "outside the data", "no points near it"
NO_HEIGHT = (NO_ELEVATION, OUTSIDE, NO_POINTS)
# The longest bar or arrow of a difference is this share of the extent of the points.
BAR_SHARE = 0.08


@dataclass
class TestedPoint:
    """One point: its role and reason, what lies beneath it, the difference, and what is odd about it."""

    name: str
    code: str
    role: str
    place: Floats
    found: Beneath
    height: float
    used: bool = False
    reason: str = ""
    remark: str = ""
    vegetated: bool = False

    @property
    def open(self) -> bool:
        """Whether it counts for the figures of open ground: those of points in vegetation are apart (ASPRS 2014)."""
        return self.used and not self.vegetated

    @property
    def dz(self) -> float:
        """Tested minus point: positive where what is tested lies above the point."""
        return self.height - float(self.place[2])
