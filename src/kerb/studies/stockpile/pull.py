"""Pull to toe: the line moved to the break of slope near it, and whether that makes the volume less sure."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.studies.drawn import Drawn
from kerb.studies.parts import combined
from kerb.studies.sources import Sources
from kerb.studies.stockpile.heap import Ground, shape_heap
from kerb.studies.stockpile.live import LiveHeap
from kerb.studies.stockpile.run import measure
from kerb.studies.stockpile.setup import StockpileSetup

PULL_SHARE = 0.08
BOUND_POINTS = 60_000
WORSE = 1.05


def pull(setup: StockpileSetup, sources: Sources, progress: Progress) -> StockpileSetup:
    """The toe line moved to the break of slope near it. Raises InputError or NotDeterminable; Cancelled."""
    ring = setup.ring()
    progress.step(0.1, "Reading the ground")
    heap = LiveHeap(setup, sources)
    progress.step(0.6, "Looking for the break of slope")
    moved = heap.pulled_toe(setup, PULL_SHARE * float(np.ptp(ring, axis=0).max()))
    return replace(setup, toe=Drawn.of(moved))


def wider(before: StockpileSetup, after: StockpileSetup, sources: Sources) -> str:
    """That the line after a pull makes the volume less sure than the one before, where it does."""
    heap = LiveHeap(before, sources)
    was, now = (bound_of(heap.ground, one, sources) for one in (before, after))
    if was is None or now is None or now <= WORSE * was:
        return ""
    cubic = sources.unit.volume_code()
    return (
        f"The pulled line widens the 95 % bound from ± {quantity(was, cubic)} to ± {quantity(now, cubic)}: "
        "the line before was surer."
    )


def bound_of(ground: Ground, setup: StockpileSetup, sources: Sources) -> float | None:
    """The 95 % bound of a volume from a fair share of the points, fast enough to compare two lines; None without one."""
    step = max(1, len(ground.points) // BOUND_POINTS)
    order = np.random.default_rng(0).permutation(len(ground.points))[: len(ground.points) // step]
    some = Ground(ground.points[order], ground.spacing * float(np.sqrt(step)), ground.unit)
    try:
        surface = sources.surface("surface", setup.surface) if setup.base == "surface" else None
        heap = shape_heap(some, setup, surface, Progress())
        return combined(measure(heap, setup, Progress()).parts)
    except (NotDeterminable, InputError):
        return None
