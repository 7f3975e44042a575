"""Surfaces, what lies between them, distances, and bringing into line; plain libraries beside each."""

from __future__ import annotations

import tempfile
from functools import partial
from pathlib import Path

import numpy as np

from bench.shared import FAR, FOLDER, timed
from kerb.core.cloud.builder import build
from kerb.core.cloud.layout import Layout
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE


def _tin(count: int, seed: int, lift: float = 0.0):
    from kerb.core.surface.tin import triangulate

    rng = np.random.default_rng(seed)
    side = np.sqrt(count / 10.0)
    xy = rng.uniform(0, side, (count, 2))
    z = 3 * np.sin(xy[:, 0] / 17) * np.cos(xy[:, 1] / 23) + lift * np.cos(xy[:, 1] / 9)
    return triangulate(np.column_stack([xy, z]) + FAR)


def overlaying(count: int) -> dict:
    """Two surfaces of so many triangles laid over one another; each made once before."""
    from kerb.core.surface.overlay import change

    earlier, later = _tin(count // 2, 1), _tin(count // 2, 2, 0.3)
    change(_tin(2000, 3), _tin(2000, 4))
    earlier.index  # noqa: B018
    return {"kerb": timed(partial(change, earlier, later), 2)[0]}


def mended_step(count: int) -> dict:
    """One step of each kind on a surface of so many triangles, the slowest; the plain way is to triangulate all of it anew."""
    from scipy.spatial import Delaunay

    from kerb.core.surface import mending

    ring = FAR[:2] + np.array([[30.0, 30], [50, 30], [52, 48], [30, 50]])
    line = np.column_stack([FAR[:2] + np.array([[60.0, 60], [80, 66], [95, 90]]), [np.nan] * 3])
    steps = {
        "a vertex": lambda m: mending.with_vertex(m, ring[0] + 0.2, 101.0),
        "a break line": lambda m: mending.along_line(m, line)[0],
        "raised inside a ring": lambda m: mending.raised(m, ring, 0.5),
        "water inside a ring": lambda m: mending.water(m, ring, 100.0),
        "vertices inside a ring out": lambda m: mending.without_vertices(m, mending.inside(m, ring)),
    }
    small, large = (mending.Mended.of(_tin(n, 1)) for n in (40_000, count // 2))
    also = {}
    for name, step in steps.items():
        step(small)
        step(large)
        also[name] = timed(partial(step, large), 5)[0]
    theirs, _ = timed(lambda: Delaunay(large.vertices[:, :2]))
    return {"kerb": max(also.values()), "plain": theirs, "library": "SciPy, all of it anew", "also": also}


def spikes(count: int) -> dict:
    """So many points of a crown over ground, without those under held triangles; the plain way only triangulates them."""
    from scipy.spatial import Delaunay

    from kerb.core.surface.spikes import Spikes, spike_free

    rng = np.random.default_rng(7)
    side = 0.3 * np.sqrt(count)
    xy = rng.uniform(0, side, (count, 2))
    z = 0.02 * xy[:, 0]
    crown = np.hypot(*(xy - side / 2).T) < side / 4
    z[crown] += 10 - rng.choice([0.0, 6.0], np.count_nonzero(crown)) * rng.uniform(0.3, 1, np.count_nonzero(crown))
    points = np.column_stack([np.round(xy, 3), z]) + FAR
    spike_free(points[:2000], Spikes(1.0, 0.5), silent())
    ours, _ = timed(lambda: spike_free(points, Spikes(1.0, 0.5), silent()))
    if count > 1_000_000:
        return {"kerb": ours}
    return {"kerb": ours, "plain": timed(lambda: Delaunay(points[:, :2]))[0], "library": "SciPy Delaunay of all"}


class _Cloud:
    """Points (n, 3) as a stream."""

    def __init__(self, points: np.ndarray) -> None:
        self.points, self.count, self.warnings = points, len(points), []
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1")])
        split = lambda rows: {"classification": rows["classification"]}  # noqa: E731
        self.layout = Layout(np.full(3, 0.001), FAR, record, split, local_grid(METRE), "bench")

    def chunks(self, size: int):
        for at in range(0, self.count, size):
            rows = np.zeros(min(size, self.count - at), self.layout.record)
            rows["xyz"] = np.round((self.points[at : at + size] - FAR) * 1000)
            yield rows


def _stored(points: np.ndarray):
    """A store of points in a folder of its own."""
    FOLDER.mkdir(exist_ok=True)
    return build(_Cloud(points), Path(tempfile.mkdtemp(dir=FOLDER)) / "cloud", silent())


def leaning_face(count: int) -> dict:
    """Two dates of a face of so many points each, laid out on its plane."""
    from kerb.studies.rockface.run import run
    from kerb.studies.rockface.setup import RockfaceSetup
    from kerb.studies.scope import Scope
    from kerb.studies.sources import Source, Sources

    def face(seed: int, deep: float) -> np.ndarray:
        rng = np.random.default_rng(seed)
        s, t = rng.uniform(0, [60, 20], (count, 2)).T
        out = 0.3 * np.sin(s / 2) - np.clip(deep - 0.4 * np.hypot(s - 30, t - 10), 0, None)
        return np.column_stack([0.9 * out + 0.3 * t, s, t - 0.3 * out]) + FAR

    earlier, later = _stored(face(1, 0.0)), _stored(face(2, 2.0))
    sources = Sources(
        earlier.reference.unit, {"earlier": Source("e", "a", store=earlier), "later": Source("l", "b", store=later)}
    )
    return {"kerb": timed(lambda: run(RockfaceSetup(Scope("e"), Scope("l")), sources, silent()))[0]}


def floor(count: int) -> dict:
    """A floor of so many points to map, F-numbers, straightedge and water; the plain way only takes medians of cells."""
    from scipy.stats import binned_statistic_2d

    from kerb.studies.floor.run import run
    from kerb.studies.floor.setup import FloorSetup
    from kerb.studies.scope import Scope
    from kerb.studies.sources import Source, Sources

    rng = np.random.default_rng(1)
    side = np.sqrt(count / 2000)
    xy = rng.uniform(0, side, (count, 2))
    points = np.column_stack([xy, 0.003 * np.sin(xy[:, 0]) + rng.normal(0, 0.0005, count)]) + FAR
    store = _stored(points)
    sources = Sources(store.reference.unit, {"cloud": Source("cloud", "a", store=store)})
    setup = FloorSetup(Scope("cloud"))
    run(setup, sources, silent())
    ours = timed(lambda: run(setup, sources, silent()))[0]
    bins = int(side / 0.15)
    theirs = timed(lambda: binned_statistic_2d(xy[:, 0], xy[:, 1], points[:, 2], "median", bins))[0]
    return {"kerb": ours, "plain": theirs, "library": "SciPy, medians of cells alone"}


def contouring(count: int) -> dict:
    """Contours of so many triangles, against contourpy by way of Matplotlib on the same triangles."""
    import matplotlib.figure
    import matplotlib.tri

    from kerb.core.surface.contours import contours

    tin = _tin(count // 2, 1)
    contours(_tin(2000, 3), 0.25)
    ours, lines = timed(partial(contours, tin, 0.25), 2)
    plain = matplotlib.tri.Triangulation(*tin.points[:, :2].T, tin.triangles)
    levels = sorted({line.level for line in lines})
    axes = matplotlib.figure.Figure().subplots()
    theirs, _ = timed(lambda: axes.tricontour(plain, tin.points[:, 2], levels=levels))
    return {"kerb": ours, "plain": theirs, "library": "contourpy, by Matplotlib"}


def spotting(count: int) -> dict:
    """So many nodes on a cloud of 5 M points, the median within a radius, against SciPy's k-d tree."""
    from scipy.spatial import cKDTree

    from bench.measures import store
    from kerb.core.surface.spots import SpotGrid, spot_levels
    from kerb.studies.scope import Scope

    cloud = store(5_000_000)
    low, high = cloud.bounds
    spacing = float(np.sqrt(np.prod((high - low)[:2]) / count))
    nodes, _ = SpotGrid(spacing, tuple(low[:2].tolist())).nodes(low[:2], high[:2])
    view = Scope("cloud").of(cloud)
    spot_levels(view, nodes[:500], "median", 0.2, silent())
    ours, _ = timed(partial(spot_levels, view, nodes, "median", 0.2, silent()))
    points = cloud.coordinates(slice(0, cloud.count))
    theirs, _ = timed(lambda: cKDTree(points[:, :2]).query_ball_point(nodes, 0.2, workers=-1))
    return {"kerb": ours, "plain": theirs, "library": "SciPy k-d tree, only the search"}


def changing(count: int) -> dict:
    """Distances of two clouds by a plane through eight neighbours, and along the normal."""
    from bench.measures import store
    from kerb.core.change.distances import How, distances
    from kerb.studies.scope import Scope

    one, other = store(count), store(count)
    view = Scope("cloud").of
    small = store(20_000)
    distances(view(small), view(small), How("plane"), silent())
    distances(view(small), view(small), How("normal"), silent())
    found = {
        way: timed(partial(distances, view(one), view(other), How(way), silent()))[0]
        for way in ("nearest", "triangulated")
    }
    how = How("normal", scale=1.0, cylinder=0.5, depth=1.0)
    found["normal"] = timed(partial(distances, view(one), view(other), how, silent()))[0]
    return {"kerb": timed(partial(distances, view(one), view(other), How("plane"), silent()))[0], "also": found}


def to_mesh(count: int) -> dict:
    """So many points against a mesh of a fifth as many triangles."""
    from kerb.core.geometry.closest import MeshDistance
    from kerb.core.geometry.mesh import TriangleMesh

    tin = _tin(count // 10, 1)
    mesh = TriangleMesh(tin.points, tin.triangles)
    rng = np.random.default_rng(5)
    low, high = tin.points.min(axis=0), tin.points.max(axis=0)
    points = rng.uniform(low, high, (count, 3))
    small = _tin(500, 2)
    MeshDistance(TriangleMesh(small.points, small.triangles)).nearest(points[:100])
    ready, distance = timed(lambda: MeshDistance(mesh))
    return {"kerb": timed(partial(distance.nearest, points))[0], "also": {"made ready": ready}}


def aligning(count: int) -> dict:
    """Two clouds of so many points brought into line from a degree and half a metre."""
    from bench.measures import store
    from kerb.core.geometry.rigid import Rigid
    from kerb.studies.align.run import run
    from kerb.studies.align.setup import AlignSetup
    from kerb.studies.scope import Scope
    from kerb.studies.sources import Source, Sources

    fixed, moving = store(count), store(count).snapshot()
    moving.place(Rigid.turned(1.0, np.mean(fixed.bounds, axis=0), np.array([0.3, -0.3, 0.2])))
    sources = Sources(
        fixed.reference.unit, {"moving": Source("moving", "a", store=moving), "to": Source("to", "b", store=fixed)}
    )
    setup = AlignSetup(Scope("moving"), Scope("to"))
    return {"kerb": timed(partial(run, setup, sources, silent()))[0]}


def turned_anyhow(count: int) -> dict:
    """A start for clouds of so many points that lie turned anyhow; beside it the counting of pairs alone, in NumPy."""
    from scipy.spatial.transform import Rotation

    from kerb.core.align.anyhow import any_start
    from kerb.core.align.anyhow_kernels import reference_agreeing

    rng = np.random.default_rng(1)

    def land(low: float) -> np.ndarray:
        xy = rng.uniform([low, 0], [low + 32, 40], (count, 2))
        z = 1.5 * np.sin(xy[:, 0] / 5) + 1.2 * np.cos(xy[:, 1] / 7)
        for east, north, wide, high in ((12, 12, 5, 4), (24, 9, 4, 6), (20, 28, 7, 3), (14, 34, 3, 5)):
            z[(np.abs(xy - [east, north]) < wide / 2).all(axis=1)] = high
        return np.column_stack([xy, z + rng.normal(0, 0.01, count)])

    one, other = land(0), land(5)
    moved = Rotation.random(random_state=1).apply(one) + FAR
    any_start(moved[::8], other[::8], silent())
    ours, _ = timed(lambda: any_start(moved, other, silent()), 2)
    turns, shifts = Rotation.random(200, random_state=2).as_matrix(), rng.normal(0, 1, (200, 3))
    pairs = rng.uniform(-20, 20, (2, 6000, 3))
    theirs, _ = timed(lambda: [reference_agreeing(*pairs, turns, shifts, 1.0) for _ in range(25)])
    return {"kerb": ours, "plain": theirs, "library": "NumPy, the counting only"}
