"""Does the 95 % bound of a stockpile hold? Simulated heaps on simulated ground, measured with lines drawn by hand.

    python -m bench.bound        the table of docs/methods/stockpile.md, 60 heaps for each ground
    ./run bench bound            the same as a row of the bench

Each heap has a height profile of its own (cone, flat top, ridge), a size of 4 to 12 m, sides of 28 to 38 degrees, a
spacing of 0.05 to 0.3 m and noise of 3 to 50 mm; its line has 20 to 60 vertices that each lie off the true toe by up to
0.2 m either way. The truth is what lies over the ground that the simulation knows.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.progress import silent
from kerb.core.units import METRE
from kerb.studies.drawn import Drawn
from kerb.studies.parts import combined
from kerb.studies.stockpile.heap import Ground, local_spacing, shape_heap
from kerb.studies.stockpile.run import measure
from kerb.studies.stockpile.setup import StockpileSetup

FAR = np.array([512_000.0, 5_804_000.0, 60.0])
HAND = 0.2
Field = Callable[[Floats], Floats]


def waves(rng: np.random.Generator, spread: float, shortest: float, longest: float) -> Field:
    """A random field of 60 waves with a standard deviation."""
    length = np.exp(rng.uniform(np.log(shortest), np.log(longest), 60))
    way, phase = rng.uniform(0, 2 * np.pi, (2, 60))
    number = 2 * np.pi / length[:, None] * np.column_stack([np.cos(way), np.sin(way)])
    # Longer waves are higher, as on ground.
    high = length / np.sqrt(np.sum(length**2) / 2) * spread
    return lambda xy: np.cos(xy @ number.T + phase) @ high


def plane(rng: np.random.Generator, steepest: float) -> Field:
    """A plane of up to some degrees."""
    slope, way = np.tan(np.radians(rng.uniform(0, steepest))), rng.uniform(0, 2 * np.pi)
    return lambda xy: slope * (xy @ [np.cos(way), np.sin(way)])


def tracks(rng: np.random.Generator) -> Field:
    """Pairs of wheel tracks, 5 to 15 cm deep."""
    way, depth = rng.uniform(0, np.pi), rng.uniform(0.05, 0.15)
    at = np.cumsum(rng.uniform(2.0, 7.0, 12)) - 24.0
    across = np.array([-np.sin(way), np.cos(way)])

    def field(xy: Floats) -> Floats:
        off = (xy @ across)[:, None] - np.concatenate([at, at + 1.8])
        return -depth * np.exp(-((off / 0.25) ** 2)).sum(axis=1)

    return field


GROUNDS: dict[str, Callable[[np.random.Generator], list[Field]]] = {
    "smooth": lambda rng: [plane(rng, 2)],
    "undulating": lambda rng: [plane(rng, 2), waves(rng, rng.uniform(0.02, 0.1), 3, 25)],
    "sloping": lambda rng: [plane(rng, 20), waves(rng, rng.uniform(0.05, 0.25), 15, 60)],
    "rutted": lambda rng: [plane(rng, 2), tracks(rng), waves(rng, 0.02, 3, 25)],
}


def heap_of(rng: np.random.Generator, size: float) -> Field:
    """Height over the trend at the middle, below zero outside the foot; ``size`` is about its half length."""
    steep = np.tan(np.radians(rng.uniform(28, 38)))
    most = rng.uniform(0.4, 1.0) * size * steep
    half = rng.uniform(0, 0.6) * size
    way = rng.uniform(0, 2 * np.pi)
    turn = np.array([[np.cos(way), np.sin(way)], [-np.sin(way), np.cos(way)]])
    wide = size - half

    def height(xy: Floats) -> Floats:
        local = xy @ turn.T
        along = np.maximum(np.abs(local[:, 0]) - half, 0)
        return np.minimum(steep * (wide - np.hypot(along, local[:, 1])), most)

    return height


def one(ground: str, seed: int, base: str = "toe") -> dict[str, Any]:
    """Error, bound and truth of one simulated heap, in cubic metres."""
    rng = np.random.default_rng([seed, list(GROUNDS).index(ground)])
    fields = GROUNDS[ground](rng)
    size = rng.uniform(4, 12)
    height = heap_of(rng, size)
    # A heap follows the fall of its ground, not its unevenness.
    trend = fields[0]
    level: Field = lambda xy: np.sum([field(xy) for field in fields], axis=0)  # noqa: E731
    top: Field = lambda xy: np.maximum(level(xy), trend(xy) + height(xy))  # noqa: E731
    side = np.arange(-1.6 * size, 1.6 * size, 0.05)
    cells = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
    truth = float(np.sum(top(cells) - level(cells))) * 0.05**2
    spacing = rng.uniform(0.05, 0.3)
    noise = np.exp(rng.uniform(np.log(0.003), np.log(0.05)))
    half = 1.35 * size + 2.5
    xy = rng.uniform(-half, half, (int((2 * half / spacing) ** 2), 2))
    points = np.column_stack([xy, top(xy) + rng.normal(0, noise, len(xy))]) + FAR
    angle = np.linspace(0, 2 * np.pi, int(rng.integers(20, 61)), endpoint=False)
    way = np.column_stack([np.cos(angle), np.sin(angle)])
    ring = (foot(level, lambda p: trend(p) + height(p), way, 2 * size) + rng.uniform(-HAND, HAND, len(way)))[
        :, None
    ] * way
    setup = StockpileSetup(toe=Drawn.of(ring + FAR[:2]), base=base)
    heap = shape_heap(Ground(points, local_spacing(points, ring + FAR[:2], spacing), METRE), setup, None, silent())
    found = measure(heap, setup, silent())
    return {
        "error": found.volume.net - truth, "bound": combined(found.parts), "truth": truth, "noise": noise,
        "spacing": spacing, "size": size, "parts": {part.name: part.u95 for part in found.parts},
    }  # fmt: skip


def foot(level: Field, heap: Field, way: Floats, far: float) -> Floats:
    """Distance from the middle to where a heap meets its ground, in some directions."""
    low, high = np.zeros(len(way)), np.full(len(way), far)
    for _ in range(40):
        middle = (low + high) / 2
        at = way * middle[:, None]
        outside = heap(at) < level(at)
        low, high = np.where(outside, low, middle), np.where(outside, middle, high)
    return np.asarray((low + high) / 2)


def table(count: int, base: str = "toe") -> dict[str, dict[str, float]]:
    """For each ground: share of truths inside the bound, mean bound over mean error, mean error of the volume in %."""
    found = {}
    for ground in GROUNDS:
        rows = [one(ground, seed, base) for seed in range(count)]
        error = np.array([row["error"] for row in rows])
        bound, truth = (np.array([row[name] for row in rows]) for name in ("bound", "truth"))
        found[ground] = {
            "inside": float(np.mean(np.abs(error) <= bound)), "ratio": float(bound.mean() / np.abs(error).mean()),
            "bias_percent": float(100 * np.mean(error / truth)), "error_percent": float(100 * np.mean(np.abs(error) / truth)),
            "bound_percent": float(100 * np.mean(bound / truth)),
        }  # fmt: skip
    return found


def bound(count: int) -> dict[str, Any]:
    """A row of the bench: seconds a heap, and for each ground the share inside and the mean bound over the mean error."""
    start = time.perf_counter()
    found = table(count)
    also = {f"{ground}, {key}": row[key] for ground, row in found.items() for key in ("inside", "ratio")}
    return {"kerb": (time.perf_counter() - start) / (count * len(found)), "also": also}


if __name__ == "__main__":
    json.dump(table(int(sys.argv[1]) if len(sys.argv) > 1 else 60), sys.stdout, indent=1)
