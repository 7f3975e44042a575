"""What several tests share: points as a stream, throw-away stores, shapes with known volumes."""

from __future__ import annotations

import contextlib
import functools
import io
import json
import resource
import tempfile
import threading
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.__main__ import main
from kerb.core.cloud.builder import build
from kerb.core.cloud.layout import Layout
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.demo.files import DemoFiles, write_files
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.stockpile.run import run
from kerb.studies.stockpile.setup import StockpileSetup

DATA = Path(__file__).parent / "data"
YARD = DATA / "yard_small.laz"
FAR = np.array([500_000.0, 5_800_000.0, 100.0])


@functools.lru_cache(maxsize=1)
def demo_files() -> DemoFiles:
    """The files that come with the demo, made once and gone with the process."""
    return write_files(Path(tempfile.mkdtemp(prefix="kerb-test-files-")), silent())


def near(found, wanted, atol=1e-7, msg=""):
    """Arrays that differ by no more than ``atol``. NumPy's own default would let large coordinates be off by half a metre."""
    np.testing.assert_allclose(found, wanted, rtol=0, atol=atol, err_msg=str(msg))


@contextlib.contextmanager
def room_for(size: int):
    """No file may grow beyond ``size`` bytes."""
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (size, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def journals_done() -> None:
    """Wait until no job writes to its journal any more."""
    for thread in threading.enumerate():
        if thread.name == "kerb-journal":
            thread.join()


class Folder(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.addCleanup(journals_done)
        self.folder = Path(holder.name)


def run_kerb(*words: object) -> tuple[int, str, str]:
    """Exit status, standard output and standard error of a command line."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = main([str(word) for word in words])
        except SystemExit as stop:
            status = stop.code
    return status, out.getvalue(), err.getvalue()


class CommandLine(Folder):
    """A test that calls the command line; ``error`` is what it wrote to standard error last."""

    def kerb(self, *words: object) -> tuple[int, str]:
        """Exit status and standard output."""
        status, out, self.error = run_kerb(*words)
        return status, out

    def json(self, *words: object) -> dict:
        """The outcome of a verb that must succeed."""
        status, out = self.kerb(*words, "--json", "-")
        self.assertEqual(status, 0, self.error)
        return json.loads(out)


class Points:
    """Points (n, 3) as a stream for the store."""

    def __init__(self, points, unit=METRE, scale=0.0001, classes=None, brightness=None):
        origin = np.floor(points.mean(axis=0))
        record = np.dtype([("xyz", "<i4", (3,)), ("classification", "u1"), ("number", "<i8"), ("intensity", "<u2")])
        self.records = np.zeros(len(points), record)
        self.records["xyz"] = np.round((points - origin) / scale)
        self.records["classification"] = 2 if classes is None else classes
        self.records["number"] = np.arange(len(points))
        self.records["intensity"] = 0 if brightness is None else brightness
        names = ("classification", "number", *(() if brightness is None else ("intensity",)))
        self.count, self.warnings = len(points), []
        split = lambda rows: {name: rows[name] for name in names}  # noqa: E731
        self.layout = Layout(np.full(3, scale), origin, record, split, local_grid(unit), "test points")

    def chunks(self, size):
        for at in range(0, self.count, size):
            yield self.records[at : at + size]


def store_of(points, unit=METRE, scale=0.0001, classes=None, brightness=None):
    """A store in a folder that goes with the process."""
    folder = Path(tempfile.mkdtemp(prefix="kerb-test-"))
    return build(Points(points, unit, scale, classes, brightness), folder / "cloud", silent())


def jittered(half: float, step: float, seed: int = 1):
    """Places (n, 2) evenly spread over a square with half side ``half``."""
    rng = np.random.default_rng(seed)
    side = np.arange(-half, half, step)
    grid = np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2)
    return grid + rng.uniform(0, step, grid.shape)


def circle(radius: float, vertices: int = 120):
    """A closed line (n, 2), counter-clockwise."""
    angle = np.linspace(0, 2 * np.pi, vertices, endpoint=False)
    return radius * np.column_stack([np.cos(angle), np.sin(angle)])


def frustum(xy, big=10.0, small=4.0, height=6.0):
    """Height of a cone frustum over its base, zero outside."""
    return np.clip((big - np.hypot(*xy.T)) / (big - small), 0, 1) * height


def toe_of(ring):
    """A ring as a setup wants it."""
    return Drawn.of(np.asarray(ring))


def heap_setup(ring, cloud=None, **values):
    """A stockpile study of the cloud ``cloud`` inside a ring; ``cloud`` narrows it."""
    return StockpileSetup(cloud=replace(cloud or Scope(), holding="cloud"), toe=toe_of(ring), **values)


def sources_of(store, unit=METRE, **others):
    """What a study reads: a cloud, and other clouds or things by field."""
    items = {"cloud": Source("cloud", "Cloud", "/data/yard.laz", store=store)}
    for name, other in others.items():
        if isinstance(other, Source):
            items[name] = other
        elif hasattr(other, "thing"):
            items[name] = Source(name, name, kind=other.kind, load=lambda other=other: other)
        elif other is not None:
            items[name] = Source(name, name, store=other)
    return Sources(unit, items)


def measured(store, ring, unit=METRE, surface=None, **values):
    """The outcome of a stockpile study of a store."""
    if surface is not None:
        values |= {"base": "surface", "surface": Scope("surface")}
    setup = heap_setup(ring, **values)
    return run(setup, sources_of(store, unit, surface=surface), silent())
