"""Studies measured: a drag, a full answer, many heaps at once, and what a step costs in a large job."""

from __future__ import annotations

import gc
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from bench.shared import FAR, FOLDER, timed
from kerb.core.cloud.builder import build
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.store import CloudStore
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.studies.drawn import Drawn, Item
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources

PER_M2 = 160.0
ACROSS, ALONG = 8, 5
RADIUS, HEIGHT = 9.0, 5.0


def ring_at(middle: np.ndarray, radius: float, vertices: int = 24) -> np.ndarray:
    angle = np.linspace(0, 2 * np.pi, vertices, endpoint=False)
    return middle + radius * np.column_stack([np.cos(angle), np.sin(angle)])


def one_heap(cloud: CloudStore, count: int, **items):
    """A setup with a ring that holds ``count`` points in the middle of the bench's terrain, and its sources."""
    from kerb.studies.stockpile.setup import StockpileSetup

    side = np.sqrt(cloud.count / PER_M2)
    ring = ring_at(FAR[:2] + side / 2, np.sqrt(count / PER_M2 / np.pi))
    sources = Sources(METRE, {"cloud": Source("cloud", "Cloud", store=cloud), **items})
    return StockpileSetup(Scope("cloud"), toe=Drawn.of(ring)), sources


def moves(setup, sources) -> dict:
    """Seconds of a drag of one vertex, and of making ready for it."""
    from kerb.studies.stockpile.live import LiveHeap

    ready, live = timed(lambda: LiveHeap(setup, sources))
    live.answer(setup)
    times = []
    for step in range(12):
        east, north = setup.toe.xy[3]
        moved = replace(setup, toe=setup.toe.moved(3, (east, north + 0.05 * (step + 1))))
        times.append(timed(lambda: live.answer(moved))[0])  # noqa: B023
    return {"kerb": float(np.median(times)), "also": {"slowest of 12": max(times), "made ready once": ready}}


def dragging(count: int) -> dict:
    from bench.measures import store

    return moves(*one_heap(store(int(count * 2)), count))


def dragging_over_design(triangles: int) -> dict:
    """The same over a design of many triangles that covers twice the heap's width."""
    from bench.measures import store
    from kerb.core.geometry.mesh import TriangleMesh
    from kerb.core.things import SURFACE, Placed

    count = 500_000
    cloud = store(2 * count)
    side = np.sqrt(cloud.count / PER_M2)
    lines = int(np.sqrt(triangles / 2)) + 1
    xy = np.stack(np.meshgrid(np.linspace(0, side, lines), np.linspace(0, side, lines)), axis=-1).reshape(-1, 2)
    points = np.column_stack([xy, 0.5 * np.sin(xy[:, 0] / 25)]) + FAR
    corner = (np.arange(lines - 1)[:, None] * lines + np.arange(lines - 1)).ravel()
    cells = np.column_stack([corner, corner + 1, corner + lines, corner + 1, corner + lines + 1, corner + lines])
    design = Placed(SURFACE, TriangleMesh(points, cells.reshape(-1, 3).astype(np.int32)), local_grid(METRE))
    setup, sources = one_heap(cloud, count, surface=Source("surface", "Design", kind=SURFACE, load=lambda: design))
    return moves(replace(setup, base="surface", surface=Scope("surface")), sources)


def computing(count: int) -> dict:
    from bench.measures import store
    from kerb.studies.stockpile.run import run

    run(
        *one_heap(store(40_000), 20_000), silent()
    )  # the compiled kernels are loaded from disk here, as when the window starts
    setup, sources = one_heap(store(int(count * 2)), count)
    return {"kerb": timed(lambda: run(setup, sources, silent()), 3)[0]}


class Yard:
    """A flat yard with forty cones as a stream."""

    def __init__(self, count: int) -> None:
        self.count, self.warnings = count, []
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1")])
        split = lambda rows: {"classification": rows["classification"]}  # noqa: E731
        self.layout = Layout(np.full(3, 0.001), FAR, record, split, local_grid(METRE), "bench")
        self.size = np.sqrt(count / PER_M2 * np.array([ACROSS / ALONG, ALONG / ACROSS]))

    def middles(self) -> np.ndarray:
        places = np.stack(np.meshgrid(np.arange(ACROSS), np.arange(ALONG)), axis=-1).reshape(-1, 2) + 0.5
        return places * self.size / [ACROSS, ALONG]

    def chunks(self, size: int):
        middles = self.middles()
        for at in range(0, self.count, size):
            n = min(size, self.count - at)
            rng = np.random.default_rng(at)
            xy = rng.uniform(0, 1, (n, 2)) * self.size
            cell = np.floor(xy / self.size * [ACROSS, ALONG]).astype(int)
            away = np.hypot(*(xy - middles[cell[:, 1] * ACROSS + cell[:, 0]]).T)
            z = np.clip(1 - away / RADIUS, 0, 1) * HEIGHT + rng.normal(0, 0.01, n)
            rows = np.zeros(n, self.layout.record)
            rows["xyz"], rows["classification"] = np.round(np.column_stack([xy, z]) * 1000), 2
            yield rows


def inventory(count: int) -> dict:
    """Forty heaps as one inventory; the plain way is the same stockpile studies one after the other."""
    from kerb.studies.inventory.run import propose, run
    from kerb.studies.inventory.setup import InventorySetup, heap_setup
    from kerb.studies.stockpile.run import run as one

    folder = FOLDER / f"yard-{count}"
    FOLDER.mkdir(exist_ok=True)
    yard = Yard(count)
    cloud = CloudStore.open(folder) if folder.exists() else build(yard, folder, silent())
    sources = Sources(METRE, {"cloud": Source("cloud", "Cloud", store=cloud)})
    items = tuple(
        Item(f"h{n}", f"Heap {n}", Drawn.of(ring_at(FAR[:2] + middle, RADIUS + 0.4)))
        for n, middle in enumerate(yard.middles(), 1)
    )
    setup = InventorySetup(Scope("cloud"), heaps=items)
    one(heap_setup(setup, items[0]), sources, silent())
    whole, outcome = timed(lambda: run(setup, sources, silent()))
    apart, nets = timed(lambda: [one(heap_setup(setup, item), sources, silent()).value("net") for item in items])
    assert abs(outcome.value("total_net") - sum(nets)) < 1e-6 * sum(nets)
    found, proposed = timed(lambda: propose(replace(setup, heaps=()), sources, silent()))
    also = {"heaps proposed": found, "seconds for each of 40": whole / len(items)}
    assert len(proposed.heaps) == len(items), len(proposed.heaps)
    return {"kerb": whole, "plain": apart, "library": "the same 40 stockpile studies one by one", "also": also}


def stepping(steps: int) -> dict:
    """A step in a job with 200 studies, each with an outcome, one of them with a table of 200 000 rows."""
    from kerb.app.garbage import NEVER
    from kerb.job import studies
    from kerb.job.job import Change, Job
    from kerb.studies.outcome import Column, Outcome, Table
    from kerb.studies.stockpile.setup import StockpileSetup

    with tempfile.TemporaryDirectory() as folder:
        job = Job.create(Path(folder) / "large.kerb")
        toe = Drawn.of(ring_at(FAR[:2], 20.0, 60))
        for number in range(200):
            change, study = studies.made(job.state, "stockpile", f"Heap {number}", StockpileSetup(Scope("c"), toe=toe))
            job.execute(change)
            rows = 200_000 if number == 0 else 20
            columns = (Column("n"), Column("z", "m"))
            table = Table("Rows", columns, tuple(zip(range(rows), np.linspace(0, 1, rows).tolist(), strict=True)))
            found = Outcome("stockpile", "m", "", {}, {}, tables={"rows": table})
            job.execute(studies.answered(job.state.study(study.id), found, "p"))
        times, rename = [], []
        # As in the window, where full collections wait until nobody acts.
        usual = gc.get_threshold()
        gc.set_threshold(*usual[:2], NEVER)
        for number in range(steps):
            study = job.state.studies[number % 200]
            place = (float(number), float(number))
            moved = StockpileSetup(Scope("c"), toe=toe.moved(number % 60, place))
            start = time.perf_counter()
            job.execute(studies.changed(study, "moved a vertex", moved))
            times.append(time.perf_counter() - start)
        gc.set_threshold(*usual)
        start = time.perf_counter()
        job.execute(Change("Renamed", lambda s: s.with_study(replace(s.studies[0], name="Other"))))
        rename.append(time.perf_counter() - start)
        flushed, _ = timed(job.flush)
        saved, _ = timed(job.save)
        size = (job.folder / "job.json").stat().st_size / 1e6
        also = {"slowest step": max(times), "rename of the study with the table": rename[0],
                "kept on disk after the last step": flushed, "save": saved, "job.json, MB": size}  # fmt: skip
    return {"kerb": float(np.percentile(times, 99)), "also": also}
