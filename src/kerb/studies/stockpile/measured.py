"""Numbers found for a heap, before they are worded."""

from __future__ import annotations

from dataclasses import dataclass, field

from kerb.core.arrays import Mask
from kerb.core.surface.volume import Volume
from kerb.studies.parts import Part
from kerb.studies.stockpile.heap import Heap
from kerb.studies.stockpile.shape import Slopes


@dataclass(frozen=True)
class Measured:
    """A heap with its two volumes, its uncertainty and what describes it."""

    heap: Heap
    volume: Volume
    second: Volume
    cell: float
    gap: Mask
    gap_edge: float
    surface: tuple[float, str]
    slopes: Slopes
    parts: list[Part] = field(default_factory=list)

    @property
    def gap_area(self) -> float:
        """Plan area that no point covers."""
        return float(self.heap.top.plan_areas[self.gap].sum())
