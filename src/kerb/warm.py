"""Compile every kernel once, on tiny data, so that nothing the analyst does waits for a compiler."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray
from kerb.core.cloud.builder import build
from kerb.core.cloud.finders import FINDERS
from kerb.core.cloud.ground import GroundSettings, ground
from kerb.core.cloud.heights import heights
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals import slopes
from kerb.core.cloud.sieve import CellSet
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.thinning import WAYS, Thinning, thinned
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.progress import Progress, silent
from kerb.core.reference import local_grid
from kerb.core.surface.tin import triangulate
from kerb.core.things import LINES, POINTS, Placed
from kerb.core.units import METRE
from kerb.report.reading import formula_picture
from kerb.studies.fields import LINES as LINE_FIELD
from kerb.studies.fields import POINTS as POINT_FIELD
from kerb.studies.fields import SCOPE, SURFACE
from kerb.studies.kind import StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources


class _Few:
    """A few points on a heap, as a stream."""

    def __init__(self, count: int = 60_000) -> None:
        rng = np.random.default_rng(0)
        xy = rng.uniform(-10, 10, (count, 2))
        z = np.clip(6 - np.hypot(*xy.T), 0, 3)
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1")])
        self.records = np.zeros(count, record)
        self.records["xyz"] = np.round(np.column_stack([xy, z]) * 1000)
        self.count = count
        self.warnings: list[tuple[str, str]] = []
        self.layout = Layout(
            np.full(3, 0.001), np.zeros(3), record, lambda rows: {"classification": rows["classification"]}
        )

    def chunks(self, size: int) -> Iterator[AnyArray]:
        """All points at once."""
        yield self.records


def warm() -> float:
    """Run every kernel once. Returns the seconds it took."""
    from kerb.draw.camera import Camera
    from kerb.draw.picture import render
    from kerb.draw.scene import CloudLayer, MeshLayer, PictureLayer, Scene, Style
    from kerb.draw.select import under_outline
    from kerb.studies.registry import STUDIES

    start = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        store = build(_Few(), Path(folder) / "few", silent())
        for kind in STUDIES.values():
            try_out(kind, store)
        base = triangulate(store.coordinates(slice(0, 500)))
        for by in ("elevation", "classification"):
            scene = Scene([CloudLayer(store, Style(by=by, contour=0.5))])
            scene.meshes = [MeshLayer(base.points, base.triangles, (200, 80, 40), 0.5)]
            for camera in (Camera((0, 0, 1), 0.1), Camera((0, 0, 1), 0.1, tilt=30, perspective=True)):
                render(scene, camera, (200, 160), budget=30_000)
        picture = PictureLayer(np.zeros((8, 8, 4), np.uint8), (1.0, 0.0, -4.0, 0.0, -1.0, 4.0), 1.0, 0.5)
        render(Scene([CloudLayer(store)], pictures=[picture]), Camera((0, 0, 1), 0.1), (100, 80))
        CellSet(0.5).first_in_cell(store.coordinates(slice(0, 100)))
        hidden = Scene([CloudLayer(store, Style(beyond="hide", low=0.0, high=1.0))])
        render(hidden, Camera((0, 0, 1), 0.1), (100, 80))
        points = store.coordinates(slice(0, 2000))
        index = NeighbourIndex(points)
        index.nearest(points, 4)
        index.within(points, 0.5)
        slopes(store, silent())
        among = store.in_use()
        for finder in FINDERS.values():
            if finder.id != "overlap":
                finder.find(store, finder.usual(store), *([0] if finder.seeded else []), among, silent())
        for way, _ in WAYS:
            thinned(store, Thinning(way, 1.0), among, silent())
        square = np.array([[10.0, 10.0], [60.0, 10.0], [60.0, 60.0]])
        under_outline(CloudLayer(store), Camera((0, 0, 1), 0.1), (100, 80), [square], silent())
        store.lend("classification", ground(store, GroundSettings.of("benches", METRE, store.spacing), silent()))
        heights(store, (2,), silent())
    # The first formula ever lists the fonts of the machine, which takes seconds.
    formula_picture("x", "#000000", 10.0)
    return time.perf_counter() - start


def _few_points() -> Placed:
    """Points round the mound of the trials."""
    angle = np.linspace(0, 2 * np.pi, 8, endpoint=False)
    xyz = np.column_stack([5 * np.cos(angle), 4 * np.sin(angle), 0.1 * np.arange(8)])
    return Placed(POINTS, SurveyPoints(xyz, tuple("abcdefgh"), ("",) * 8), local_grid(METRE))


def _a_line() -> Placed:
    """A line with elevations over the mound of the trials, from west to east."""
    line = Line(np.array([[-12.0, 0.0, -4.0], [12.0, 0.0, -4.0]]), False, "line")
    return Placed(LINES, LineSet((line,)), local_grid(METRE))


def try_out(
    kind: StudyKind, store: CloudStore, watch: Callable[[], Progress] = silent, beside: CloudStore | None = None
) -> tuple[list[Outcome], list[Outcome]]:
    """Run the trials of a kind of study on a cloud, live answer and steps included. Returns what those found, and the live ones.

    ``watch`` gives the progress of each run; ``beside`` is what a cloud is compared with, itself where there is none.
    """
    found, quick = [], []
    for setup in kind.trial() if kind.trial is not None else ():
        name = setup.main()
        asked = replace(setup, **{name: Scope(name)})
        items = {name: Source(name, "Mound", store=store)}
        for other, about in setup.declared().items():
            if other != name and about.kind in (SCOPE, SURFACE) and about.needed:
                asked = replace(asked, **{other: Scope(other)})
                items[other] = Source(other, "Mound", store=beside or store)
        items |= {
            n: Source(n, "Points", kind=POINTS, load=_few_points) for n in setup.named(POINT_FIELD) if getattr(setup, n)
        }
        items |= {n: Source(n, "Line", kind=LINES, load=_a_line) for n in setup.named(LINE_FIELD) if getattr(setup, n)}
        sources = Sources(METRE, items)
        found.append(kind.run(asked, sources, watch()))
        if kind.live is not None:
            quick.append(kind.live(asked, sources).answer(asked))
        for step in kind.steps:
            # A mound of the trial need not be one that a step finds its way on; its kernels are compiled all the same.
            with suppress(NotDeterminable):
                step.apply(asked, sources, silent())
    return found, quick


if __name__ == "__main__":
    sys.stderr.write(f"Kernels ready ({warm():.0f} s).\n")
