"""Preparing a cloud: polygon selection, ground, heights above ground."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
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
    """Points under an outline of 60 vertices drawn in plan, against Shapely on the same points; then set aside."""
    import shapely

    from kerb.core.cloud.sets import PointSets
    from kerb.draw.camera import Camera, fitted
    from kerb.draw.scene import CloudLayer
    from kerb.draw.select import under_outline

    def work(store) -> dict:
        size = (900, 600)
        camera = fitted(*store.bounds, size, Camera((0.0, 0.0, 0.0), 1.0))
        angle = np.linspace(0, 2 * np.pi, 60, endpoint=False)
        reach = 0.35 * size[1] * (1 + 0.1 * np.sin(5 * angle))[:, None]
        ring = np.array(size) / 2 + np.column_stack([np.cos(angle), np.sin(angle)]) * reach
        layer = CloudLayer(store)
        under_outline(layer, camera, size, [ring], silent())
        seconds, found = timed(lambda: under_outline(layer, camera, size, [ring], silent()), 3)
        aside, _ = timed(lambda: store.take_sets(PointSets(aside=store.keep_set(found))))
        back, _ = timed(lambda: store.take_sets(PointSets()))
        seen = camera.project(store.coordinates(slice(0, store.count)), size)[:, :2]
        plain, inside = timed(lambda: shapely.contains_xy(shapely.Polygon(ring), seen[:, 0], seen[:, 1]))
        assert int((found != inside).sum()) < 10
        return {"kerb": seconds, "plain": plain, "library": "shapely", "also": {"set aside": aside, "bring back": back}}

    return _with_store(count, work)


def filtering(count: int) -> dict:
    """Two filters together, a range of elevations and two classes, against NumPy on arrays in memory."""
    from kerb.core.cloud.filters import Filter, kept

    def work(store) -> dict:
        low, high = store.bounds[0][2] + 0.3, store.bounds[1][2] - 1.0
        both = (Filter("elevation", low=low, high=high), Filter("classification", (2, 8)))
        kept(store, both)
        seconds, found = timed(lambda: kept(store, both), 3)
        z, classes = store.coordinates(slice(0, store.count))[:, 2].copy(), np.array(store.column("classification"))
        plain, wanted = timed(lambda: (z >= low) & (z <= high) & np.isin(classes, (2, 8)), 3)
        assert int((found != wanted).sum()) == 0
        return {"kerb": seconds, "plain": plain, "library": "NumPy"}

    return _with_store(count, work)


def thinning(count: int) -> dict:
    """One point a cube, against NumPy's unique on the cells; the other ways beside it."""
    from kerb.core.cloud.thinning import Thinning, thinned

    def work(store) -> dict:
        among = store.in_use()
        seconds, _ = timed(lambda: thinned(store, Thinning("centre", 0.5), among, silent()))
        also = {
            way: timed(lambda: thinned(store, Thinning(way, 0.5), among, silent()))[0]  # noqa: B023
            for way in ("lowest", "median", "apart", "random")
        }
        if count > 5_000_000:
            return {"kerb": seconds, "also": also}
        xyz = store.coordinates(slice(0, store.count)) - store.bounds[0]
        plain, _ = timed(lambda: np.unique(np.floor(xyz / 0.5).astype(np.int32), axis=0, return_index=True))
        return {"kerb": seconds, "plain": plain, "library": "numpy.unique, the first of each cube", "also": also}

    return _with_store(count, work)


def normals(count: int) -> dict:
    """Normals from 16 neighbours, against SciPy's k-d tree on all cores and NumPy's eigh (up to 1 M points)."""
    from scipy.spatial import cKDTree

    from kerb.core.cloud.neighbours import NeighbourIndex
    from kerb.core.cloud.normals import FEWEST
    from kerb.core.cloud.normals import normals as of
    from kerb.core.cloud.normals_kernels import least_spread
    from kerb.core.parallel import each, ranges

    def work(store) -> dict:
        of(store, silent())  # the compiled kernels are loaded from disk here
        seconds, found = timed(lambda: of(store, silent()), 3 if count <= 1_000_000 else 1)
        if count > 1_000_000:
            return {"kerb": seconds}
        points = store.coordinates(slice(0, store.count)) - store.bounds[0]
        search, near = timed(lambda: NeighbourIndex(points).nearest(points, 16)[1], 3)
        planes = np.empty((count, 3), np.float32)

        def fitted() -> None:
            each(lambda span: least_spread(points, near[slice(*span)], FEWEST, planes[slice(*span)]), ranges(count))

        parts = {"search of the 16": search, "planes through them": timed(fitted, 3)[0]}
        xyz = store.coordinates(slice(0, store.count)) - store.bounds[0]

        def plainly() -> np.ndarray:
            near = xyz[cKDTree(xyz).query(xyz, k=16, workers=-1)[1]]
            near -= near.mean(axis=1, keepdims=True)
            return np.linalg.eigh(np.einsum("nki,nkj->nij", near, near))[1][:, :, 0]

        plain, wanted = timed(plainly)
        even = np.abs((found * wanted).sum(axis=1))
        assert float((even > 0.9999).mean()) > 0.999
        return {"kerb": seconds, "plain": plain, "library": "SciPy k-d tree, NumPy eigh", "also": parts}

    return _with_store(count, work)


def noise(count: int) -> dict:
    """Points far from their neighbours, against SciPy's k-d tree on all cores (up to 5 M points)."""
    from scipy.spatial import cKDTree

    from kerb.core.cloud.finders import FINDERS

    def work(store) -> dict:
        among = store.in_use()
        run = lambda key: FINDERS[key].find(store, FINDERS[key].usual(store), among, silent())  # noqa: E731
        seconds, _ = timed(lambda: run("outliers"))
        also = {FINDERS[key].title: timed(lambda: run(key))[0] for key in ("sparse", "low", "pieces", "duplicates")}  # noqa: B023
        if count > 5_000_000:
            return {"kerb": seconds, "also": also}
        xyz = store.coordinates(slice(0, store.count)) - store.bounds[0]
        plain, _ = timed(lambda: cKDTree(xyz).query(xyz, k=9, workers=-1)[0][:, 1:].mean(axis=1))
        return {"kerb": seconds, "plain": plain, "library": "SciPy k-d tree, all cores", "also": also}

    return _with_store(count, work)


def parts(count: int) -> dict:
    """A part of each class taken up by the store, against NumPy's assignment by masks; then back, and exact classes."""
    from kerb.core.cloud.sets import PointSets

    def work(store) -> dict:
        classes = np.array(store.column("classification"))
        codes = store.present("classification")
        masks = [classes == code for code in codes]

        def taken() -> None:
            kept = tuple((n, store.keep_set(mask)) for n, mask in enumerate(masks, 1))
            store.take_sets(PointSets(parts=kept))

        def plainly() -> None:
            numbers = np.zeros(count, np.uint8)
            for n, mask in enumerate(masks, 1):
                numbers[mask] = n

        seconds, _ = timed(taken)
        plain, _ = timed(plainly)
        back, _ = timed(lambda: store.take_sets(PointSets()))
        there, _ = timed(lambda: store.present("classification"))
        return {"kerb": seconds, "plain": plain, "library": "NumPy, by masks",
                "also": {"undone": back, "classes that are there": there}}  # fmt: skip

    return _with_store(count, work)


def starting(_count: int) -> dict:
    """From the command to the window shown, with the kernels compiled; best of three."""
    code = (
        "import os, sys; sys.argv = ['kerb']\n"
        "from kerb.app.main import application\n"
        "from kerb.app.window import Window\n"
        "from kerb.job.places import Settings\n"
        "app = application(); window = Window(Settings()); window.show(); app.processEvents(); os._exit(0)"
    )
    own = {"QT_QPA_PLATFORM": "offscreen", "PYTHONPYCACHEPREFIX": str(FOLDER / "bytecode")}
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"} | own
    command = [sys.executable, "-c", code]
    run = lambda: subprocess.run(command, env=environment, capture_output=True, check=True)  # noqa: E731
    run()
    return {"kerb": timed(run, 3)[0]}
