"""Terrain with known truth for the tests of ground and heights: flat, sloping and stepped, with things standing on it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from kerb.core.cloud.layout import Layout
from kerb.core.reference import ReferenceSystem

SIDE = 120.0
UTM = np.array([512_345.0, 5_412_345.0, 250.0])
LANDS: dict[str, Callable[[np.ndarray, np.ndarray], np.ndarray]] = {
    "flat": lambda x, y: 0.01 * x + 0.05 * np.sin(x / 9) * np.cos(y / 7),
    "sloping": lambda x, y: 0.36 * x + 1.5 * np.sin(x / 15) * np.cos(y / 18),
    "stepped": lambda x, y: 3.0 * np.floor(x / 24) + 0.02 * y,
}


@dataclass
class Given:
    """Points held in memory as a stream, with classes."""

    xyz: np.ndarray
    classes: np.ndarray
    reference: ReferenceSystem

    def __post_init__(self) -> None:
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1")])
        origin = np.floor(self.xyz.min(axis=0))
        self.records = np.zeros(len(self.xyz), record)
        self.records["xyz"] = np.round((self.xyz - origin) * 1000)
        self.records["classification"] = self.classes
        self.count, self.warnings = len(self.xyz), []
        self.layout = Layout(
            np.full(3, 0.001), origin, record, lambda rows: {"classification": rows["classification"]}, self.reference
        )

    def chunks(self, size: int) -> Iterator[np.ndarray]:
        """Blocks of records."""
        for at in range(0, self.count, size):
            yield self.records[at : at + size]


def made(kind: str, seed: int = 7, density: float = 8.0) -> tuple[np.ndarray, np.ndarray]:
    """Points (n, 3) in metres and their true classes: 2 ground, 1 vehicles, 5 trees, 6 buildings, 7 low noise."""
    rng = np.random.default_rng(seed)
    land = LANDS[kind]
    xy = rng.uniform(0, SIDE, (int(density * SIDE * SIDE), 2))
    z = land(*xy.T) + rng.normal(0, 0.02, len(xy))
    classes = np.full(len(xy), 2, np.uint8)
    sizes = [(14.0, 10.0, 5.0, 6), (20.0, 12.0, 7.0, 6), (9.0, 9.0, 3.5, 6), *[(4.6, 1.9, 1.6, 1)] * 8]
    for width, depth, height, code in sizes:
        x0, y0 = rng.uniform(6, SIDE - 6 - np.array([width, depth]))
        if kind == "stepped":
            x0 = 24 * np.floor(x0 / 24) + min(2 + x0 % 24, 22 - width)
        on = (xy[:, 0] > x0) & (xy[:, 0] < x0 + width) & (xy[:, 1] > y0) & (xy[:, 1] < y0 + depth) & (classes == 2)
        corners = land(np.array([x0, x0 + width]), np.array([y0, y0 + depth]))
        z[on] = np.maximum(corners.max() + height, z[on] + 0.5) + rng.normal(0, 0.02, on.sum())
        classes[on] = code
    trees = rng.uniform(3, SIDE - 3, (40, 2))
    for tree in trees:
        hit = (np.hypot(*(xy - tree).T) < rng.uniform(1.0, 3.0)) & (classes == 2) & (rng.uniform(size=len(xy)) < 0.75)
        z[hit] += rng.uniform(0.5, 7.0, hit.sum())
        classes[hit] = 5
    low = rng.choice(np.nonzero(classes == 2)[0], 12, replace=False)
    z[low] -= rng.uniform(4, 12, 12)
    classes[low] = 7
    return np.column_stack([xy, z]), classes


def scores(found: np.ndarray, truth: np.ndarray) -> tuple[float, float, float]:
    """Type I error, type II error and Cohen's kappa of ground against everything else (Sithole and Vosselman 2004)."""
    ground, other = truth, ~truth
    one, two = float((ground & ~found).sum() / ground.sum()), float((other & found).sum() / other.sum())
    agree = float((ground == found).mean())
    chance = float(ground.mean() * found.mean() + other.mean() * (~found).mean())
    return one, two, (agree - chance) / (1 - chance)
