"""A throw-away kind of study: how high does the ground stand in an area? Setup, run and one line in the registry.

It has a field of every kind that a study may declare, so that whatever follows from a declaration is tried on each.
"""

from __future__ import annotations

import contextlib
import sys
import types
from dataclasses import dataclass, replace
from unittest import mock

import numpy as np
import shapely

from kerb.core.errors import NotDeterminable
from kerb.core.geometry.features import Line, LineSet
from kerb.core.quantity import quantity
from kerb.core.things import LINES as LINE_HOLDING
from kerb.core.things import Placed
from kerb.studies import fields as f
from kerb.studies.drawn import Drawn
from kerb.studies.kind import HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Step, StudyKind
from kerb.studies.layers import FoundDimensions, FoundLabels, FoundLine, FoundMesh, FoundPoints, Plot
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

WHERE = (HEADLINE, SHEET, SUMMARY, REPORT)


@dataclass(frozen=True)
class LevelSetup(Setup):
    """Points in an area, over a level."""

    cloud: Scope = f.scope("Cloud", "Points whose elevations count", needed="Choose a cloud.")
    over: Scope = f.surface("Over", "Heights are counted from it where it is given", rare=True)
    area: Drawn = f.drawn(f.RING, "Area", "Where elevations are averaged", needed="Draw the area.", key="T")
    axis: Drawn = f.drawn(f.LINE, "Axis", "Distances along it are written", rare=True)
    at: Drawn = f.drawn(f.PLACES, "Places", "Elevations are read here too", rare=True)
    marks: str = f.holding(f.POINTS, "Marks", "Named points", rare=True)
    road: str = f.holding(f.ALIGNMENT, "Road", "Station and offset are told", rare=True)
    level: float | None = f.number("Level", "Heights are counted from this elevation", default=0.0, low=-500.0, high=9000.0)
    mean: str = f.choice("Mean", "Which middle is taken", (("mean", "Mean"), ("median", "Median")))
    remark: str = f.text("Remark", "A word for the report")
    keep: bool = f.switch("Keep the area", "Put the area into the job as lines")


def run(setup: LevelSetup, sources, progress) -> Outcome:
    """Mean or median of the elevations in the area, less the level."""
    setup.check()
    store = sources.store("cloud")
    ring = setup.area.ring("area")
    xyz = setup.cloud.of(store, ring).points(progress)
    if not len(xyz):
        raise NotDeterminable("no points lie in the area")
    z = xyz[:, 2] - (setup.level or 0.0)
    middle = float(np.median(z) if setup.mean == "median" else z.mean())
    unit = sources.unit.code
    closed = np.column_stack([ring, np.full(len(ring), middle)])
    centre = closed.mean(axis=0)
    figures = {
        "level": Figure(middle, unit, "Level", 1.96 * float(z.std()) / len(z) ** 0.5),
        "points": Figure(float(len(z)), "", "Points"),
    }
    outcome = Outcome("third", unit, store.reference.code, figures, setup.settings())
    outcome.inputs = [sources.input("cloud", "cloud", len(xyz), setup.cloud.words(store))]
    outcome.layers = {
        "area/outer": FoundLine(closed, "edge", "Area", closed=True),
        "lid/a": FoundMesh(closed[:3], np.array([[0, 1, 2]], np.int32), "top", "Lid", unit, closed[:3, 2] - middle),
        "some": FoundPoints(xyz[:5], "mark", "Some", unit, xyz[:5, 2], tuple("abcde")),
        "word": FoundLabels(centre[None], (quantity(middle, unit),), title="Word"),
        "span": FoundDimensions(closed[None, :2], ("one side",), title="Side", shown=False),
    }
    outcome.charts = [Plot("Elevations", "curve", np.arange(len(z)) * 1.0, np.sort(z), "order", f"elevation ({unit})")]
    outcome.tables = {"heights": Table("Heights", (Column("n", "", "No."), Column("z", unit, "Elevation")),
                                       tuple((n, v) for n, v in enumerate(z[:50].tolist())))}  # fmt: skip
    outcome.warnings = [Note("few", "fewer than a hundred points")] if len(z) < 100 else []
    outcome.method = "Arithmetic mean." if setup.mean == "mean" else "Median."
    if setup.keep:
        item = Placed(LINE_HOLDING, LineSet((Line(closed, True, "area"),)), store.reference)
        outcome.makes = [Made("Area of it", item, "Kept the area")]
    return outcome


class LiveLevel:
    """The elevations of the cloud, read once."""

    def __init__(self, setup: LevelSetup, sources) -> None:
        self.asked, self.unit = setup.cloud, sources.unit.code
        store = sources.store("cloud")
        self.xyz = store.coordinates(slice(0, store.count))

    def covers(self, setup: LevelSetup) -> bool:
        """As long as the same points count."""
        return setup.cloud == self.asked

    def answer(self, setup: LevelSetup) -> Outcome:
        """The mean of what lies in the area."""
        setup.check()
        inside = shapely.contains_xy(shapely.Polygon(setup.area.ring("area")), self.xyz[:, :2])
        value = float(self.xyz[inside, 2].mean()) - (setup.level or 0.0)
        return Outcome("third", self.unit, "", {"level": Figure(value, self.unit, "Level")}, {}, live=True)


def shrink(setup: LevelSetup, _sources, _progress) -> LevelSetup:
    """The area half as wide."""
    places = setup.area.places
    return replace(setup, area=Drawn.of(places.mean(axis=0) + (places - places.mean(axis=0)) / 2))


THIRD = StudyKind(
    id="third", title="Level", question="How high does it stand?", group="Levels", name="Level", setup=LevelSetup,
    run=run, live=LiveLevel, help_page="placing.md", example="kerb third yard.laz --area area.geojson",
    figures=(FigureAbout("level", "Level", LENGTH, WHERE, signed=True), FigureAbout("points", "Points", "count")),
    steps=(Step("shrink", "Shrink", "Make the area half as wide", "area", shrink, "Made it smaller."),),
    sheet="third", key="Ctrl+Shift+L", tables=("heights",),
)  # fmt: skip


@contextlib.contextmanager
def registered(own_widget=None):
    """With the third kind in the registry, and with the module of its own widget where one is given."""
    kind = THIRD if own_widget is not None else replace(THIRD, sheet="")
    module = types.ModuleType("kerb.app.sheets.third")
    module.make = own_widget
    # not by patching the whole dictionary of modules, which would forget what is imported meanwhile
    sys.modules[module.__name__] = module
    try:
        with mock.patch.dict(STUDIES, {"third": kind}):
            yield kind
    finally:
        del sys.modules[module.__name__]
