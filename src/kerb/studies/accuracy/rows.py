"""A point of an accuracy study, with what was found of it."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.accuracy.beneath import Beneath
from kerb.core.arrays import Floats


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
    def dz(self) -> float:
        """Tested minus point: positive where what is tested lies above the point."""
        return self.height - float(self.place[2])
