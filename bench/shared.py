"""What several measures share: a folder, a clock, made-up terrain."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

FOLDER = Path(tempfile.gettempdir()) / "kerb-bench"
FAR = np.array([500_000.0, 5_800_000.0, 100.0])


def timed(work: Callable, times: int = 1) -> tuple[float, object]:
    """Median of some runs, and the last result."""
    taken, result = [], None
    for _ in range(times):
        start = time.perf_counter()
        result = work()
        taken.append(time.perf_counter() - start)
    return float(np.median(taken)), result


def terrain(count: int) -> np.ndarray:
    """Points on a rolling yard with a heap, in flight-line order."""
    rng = np.random.default_rng(1)
    side = np.sqrt(count / 160.0)
    xy = rng.uniform(0, side, (count, 2))
    xy = xy[np.lexsort((xy[:, 0], np.floor(xy[:, 1] / 6.0)))]
    z = 0.5 * np.sin(xy[:, 0] / 25) + np.clip(12 - np.hypot(xy[:, 0] - side / 2, xy[:, 1] - side / 2) * 0.6, 0, 8)
    return np.column_stack([xy, z + rng.normal(0, 0.01, count)]) + FAR
