"""What is in a cloud at a glance: classes, returns, files, spread of elevation and intensity, and how dense it is."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kerb.core.arrays import AnyArray, Floats, Ints
from kerb.core.cloud.store import CloudStore
from kerb.core.parallel import each
from kerb.core.progress import Progress

BINS = 96
MAP_CELLS = 120


@dataclass
class Overview:
    """Counts of the points that are not set aside.

    ``tables`` has counts by value for the columns that are codes; ``spreads`` a histogram (edges, counts) for each of
    elevation and intensity; ``density`` (rows from the south, columns) points per square unit, on cells of ``cell``
    from ``low``.
    """

    count: int = 0
    aside: int = 0
    tables: dict[str, dict[int, int]] = field(default_factory=dict)
    spreads: dict[str, tuple[Floats, Ints]] = field(default_factory=dict)
    density: Floats = field(default_factory=lambda: np.zeros((1, 1)))
    cell: float = 1.0
    low: Floats = field(default_factory=lambda: np.zeros(2))

    @property
    def covered(self) -> float:
        """Plan area of the cells that hold points."""
        return float((self.density > 0).sum() * self.cell**2)

    @property
    def mean_density(self) -> float:
        """Points per square unit of the covered area."""
        return self.count / self.covered if self.covered else 0.0


CODES = ("classification", "return_number", "point_source_id", "source_file")


def overview_of(store: CloudStore, progress: Progress) -> Overview:
    """Look at every point once. Raises Cancelled."""
    low, high = store.bounds
    size = np.maximum(high - low, 1e-9)
    cell = float(max(size[0], size[1])) / MAP_CELLS
    shape = int(np.ceil(size[1] / cell)) + 1, int(np.ceil(size[0] / cell)) + 1
    spans = {"elevation": (float(low[2]), float(high[2]))}
    if store.has("intensity"):
        spans["intensity"] = _span(store, "intensity")
    out = Overview(cell=cell, low=low[:2], density=np.zeros(shape))
    aside = store.aside()

    def look(tile: int) -> tuple[Ints, dict[str, Ints], dict[str, Ints], int]:
        rows = store.rows_of(tile)
        keep = slice(None) if aside is None else np.asarray(aside[rows]) == 0
        points = store.coordinates(rows)[keep]
        cells = np.floor((points[:, :2] - low[:2]) / cell).astype(np.int64)
        flat = np.bincount(cells[:, 1] * shape[1] + cells[:, 0], minlength=shape[0] * shape[1])
        codes = {name: np.bincount(store.column(name)[rows][keep]) for name in CODES if _is_code(store, name)}
        spreads = {}
        for name, span in spans.items():
            values = points[:, 2] if name == "elevation" else np.asarray(store.column(name)[rows], float)[keep]
            spreads[name] = np.histogram(values[np.isfinite(values)], BINS, _wide(span))[0]
        return flat, codes, spreads, len(points)

    totals: dict[str, Ints] = {}
    for flat, codes, spreads, number in each(look, range(len(store.tiles)), progress, "Looking at the points"):
        out.density += flat.reshape(shape)
        out.count += number
        for name, counts in {**codes, **spreads}.items():
            totals[name] = _added(totals.get(name), counts)
    out.aside = store.count - out.count
    out.density /= cell**2
    for name in CODES:
        if name in totals:
            out.tables[name] = {int(code): int(n) for code, n in enumerate(totals[name]) if n}
    for name, span in spans.items():
        out.spreads[name] = np.linspace(*_wide(span), BINS + 1), totals[name]
    return out


def _is_code(store: CloudStore, name: str) -> bool:
    return store.has(name) and store.column(name).dtype.kind == "u" and store.column(name).ndim == 1


def _wide(span: tuple[float, float]) -> tuple[float, float]:
    return span if span[1] > span[0] else (span[0] - 0.5, span[0] + 0.5)


def _span(store: CloudStore, name: str) -> tuple[float, float]:
    values = store.column(name)
    low, high = np.inf, -np.inf
    for at in range(0, store.count, 5_000_000):
        some = np.asarray(values[at : at + 5_000_000], float)
        some = some[np.isfinite(some)]
        if len(some):
            low, high = min(low, float(some.min())), max(high, float(some.max()))
    return (low, high) if low <= high else (0.0, 1.0)


def _added(total: AnyArray | None, counts: AnyArray) -> AnyArray:
    if total is None:
        return counts.astype(np.int64)
    if len(counts) > len(total):
        total, counts = counts.astype(np.int64), total
    total = total.copy()
    total[: len(counts)] += counts
    return total
