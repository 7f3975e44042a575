"""Preparing a cloud: polygon selection, ground, heights above ground."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from functools import partial

import numpy as np

from bench.shared import FOLDER, terrain, timed
from kerb.core.progress import silent

STREET = 0.12


def _cloud(count: int) -> tuple[np.ndarray, np.ndarray]:
    """Terrain with boxes and bushes on a ninth of it, and true classes."""
    xyz = terrain(count)
    rng = np.random.default_rng(3)
    low = xyz[:, :2].min(axis=0)
    cell = np.floor((xyz[:, :2] - low) / 15.0).astype(int)
    inside = ((xyz[:, :2] - low) / 15.0) % 1.0
    built = (cell.sum(axis=1) % 3 == 0) & (inside > STREET * 2).all(axis=1) & (inside < 0.8).all(axis=1)
    bush = (cell.sum(axis=1) % 3 == 1) & (np.hypot(*(inside - 0.5).T) < STREET)
    xyz[built, 2] += 5.0
    xyz[bush, 2] += rng.uniform(0, 4, int(bush.sum()))
    classes = np.where(built, 6, np.where(bush, 5, 2)).astype(np.uint8)
    return xyz, classes


class _Stream:
    """The cloud as a stream for the store."""

    def __init__(self, count: int) -> None:
        from kerb.core.cloud.layout import Layout
        from kerb.core.reference import local_grid
        from kerb.core.units import METRE

        xyz, classes = _cloud(count)
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1")])
        origin = np.floor(xyz.min(axis=0))
        self.records = np.zeros(count, record)
        self.records["xyz"] = np.round((xyz - origin) * 1000)
        self.records["classification"] = classes
        self.count, self.warnings = count, []
        split = lambda rows: {"classification": rows["classification"]}  # noqa: E731
        self.layout = Layout(np.full(3, 0.001), origin, record, split, local_grid(METRE), "bench")

    def chunks(self, size: int):
        """Blocks of records."""
        for at in range(0, self.count, size):
            yield self.records[at : at + size]


def _with_store(count: int, work: Callable) -> dict:
    from kerb.core.cloud.builder import build

    folder = FOLDER / f"prepare-{count}"
    shutil.rmtree(folder, ignore_errors=True)
    store = build(_Stream(count), folder, silent())
    try:
        return work(store)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def ground(count: int) -> dict:
    """The ground filter with its usual settings for rolling ground."""
    from kerb.core.cloud.ground import GroundSettings
    from kerb.core.cloud.ground import ground as find

    def work(store) -> dict:
        settings = GroundSettings.usual("rolling", store)
        seconds, _ = timed(partial(find, store, settings, silent()))
        return {"kerb": seconds}

    return _with_store(count, work)


def heights(count: int) -> dict:
    """Heights over the given ground, against SciPy's interpolation on a Delaunay triangulation (up to 1 M points)."""
    from scipy.interpolate import LinearNDInterpolator

    from kerb.core.cloud.heights import heights as over

    def work(store) -> dict:
        seconds, _ = timed(partial(over, store, (2,), silent()))
        if count > 1_000_000:
            return {"kerb": seconds}
        points = store.coordinates(slice(0, store.count))
        is_ground = np.asarray(store.column("classification")) == 2
        plain, _ = timed(lambda: LinearNDInterpolator(points[is_ground, :2], points[is_ground, 2])(points[:, :2]))
        return {"kerb": seconds, "plain": plain, "library": "scipy"}

    return _with_store(count, work)


def selecting(count: int) -> dict:
    """Points inside a polygon of 60 vertices, against Shapely."""
    import shapely

    from kerb.core.cloud.view import CloudView, Narrowing

    def work(store) -> dict:
        low, high = store.bounds
        angle = np.linspace(0, 2 * np.pi, 60, endpoint=False)
        reach = 0.35 * (high - low)[:2] * (1 + 0.1 * np.sin(5 * angle))[:, None]
        ring = (low + high)[:2] / 2 + np.column_stack([np.cos(angle), np.sin(angle)]) * reach
        CloudView(store, Narrowing(ring=ring)).all_rows()
        seconds, rows = timed(lambda: CloudView(store, Narrowing(ring=ring)).all_rows())
        xy = store.coordinates(slice(0, store.count))[:, :2]
        plain, inside = timed(lambda: shapely.contains_xy(shapely.Polygon(ring), xy[:, 0], xy[:, 1]))
        assert abs(len(rows) - int(inside.sum())) < 10
        return {"kerb": seconds, "plain": plain, "library": "shapely"}

    return _with_store(count, work)
