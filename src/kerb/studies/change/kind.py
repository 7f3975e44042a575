"""The declaration of the change study."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.cloud.outgoing import from_store
from kerb.core.errors import OutputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import Progress
from kerb.core.quantity import quantity, round_number
from kerb.core.surface.gridding import MEDIAN, cell_levels
from kerb.core.things import LINES, SURFACE, Placed
from kerb.formats.write_things import ENDINGS, write_cloud, write_thing
from kerb.studies.change.run import run
from kerb.studies.change.setup import ChangeSetup
from kerb.studies.kind import COUNT, HEADLINE, LENGTH, REPORT, SHEET, SUMMARY, FigureAbout, Option, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.trials import square

OUT, RASTER = ENDINGS["cloud"], (".tif", ".asc")
ABOUT = (
    FigureAbout("largest_change", "Largest change", LENGTH, (HEADLINE, SHEET, SUMMARY, REPORT), signed=True),
    FigureAbout("median", "Median", LENGTH, (SHEET, SUMMARY, REPORT), signed=True),
    FigureAbout("mean", "Mean", LENGTH, signed=True),
    FigureAbout("std", "Standard deviation", LENGTH),
    FigureAbout("rms", "RMS", LENGTH),
    FigureAbout("mean_abs", "Mean size", LENGTH, optional=True),
    FigureAbout("p05", "5th percentile", LENGTH, signed=True),
    FigureAbout("p95", "95th percentile", LENGTH, signed=True),
    FigureAbout("min", "Least", LENGTH, signed=True),
    FigureAbout("max", "Largest", LENGTH, signed=True),
    FigureAbout("count", "Points with a distance", COUNT),
    FigureAbout("unmatched", "Without a match", COUNT),
    FigureAbout("within", "Share within the tolerance", "share", optional=True),
    FigureAbout("significant_share", "Share beyond the level of detection", "share", optional=True),
    FigureAbout("detection", "Level of detection, median", LENGTH, optional=True),
)


def write(setup: ChangeSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the compared cloud with its distances as columns. Raises OutputError."""
    path = Path(paths["out"])
    if path.suffix.lower() == ".dxf":
        return _write_probes(outcome, sources, path)
    if path.suffix.lower() in RASTER:
        return _write_raster(setup, outcome, sources, path)
    if path.suffix.lower() not in OUT:
        raise OutputError(f"{path}: a cloud with distances is written as {', '.join(OUT)}")
    made = {name: attribute.values for name, attribute in outcome.attributes.items() if attribute.values is not None}
    units = {name: outcome.attributes[name].unit for name in made}
    _, notes = write_cloud(from_store(sources.store("compared"), made=dict(made), units=units), path, Progress())
    return notes


def _write_raster(setup: ChangeSetup, outcome: Outcome, sources: Sources, path: Path) -> list[tuple[str, str]]:
    """Distances as a grid seen from above, the median of each cell. Raises OutputError, InputError."""
    store, column = sources.store("compared"), outcome.attributes["distance"].values
    assert column is not None
    rows = np.flatnonzero(np.isfinite(column))
    xyz = store.coordinates(rows)
    xyz[:, 2] = column[rows]
    cell = setup.raster_cell if setup.raster_cell is not None else round_number(2 * store.spacing)
    return write_thing(Placed(SURFACE, cell_levels(xyz, cell, MEDIAN), store.reference), path, Progress())


def _write_probes(outcome: Outcome, sources: Sources, path: Path) -> list[tuple[str, str]]:
    """Probes as lines from the place on the reference to the compared point. Raises OutputError, when there are none."""
    table = outcome.tables.get("probes")
    if table is None or not table.rows:
        raise OutputError(f"{path}: a drawing has the probes, and none is set")
    rows = [[float(v) for v in row[1:]] for row in table.rows]
    lines = tuple(
        Line(np.array([row[3:6], row[:3]]), False, f"P{number[0]} {row[-1]:+.4g}", "probes")
        for row, number in zip(rows, table.rows, strict=True)
    )
    return write_thing(Placed(LINES, LineSet(lines), sources.store("compared").reference), path, Progress())


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the largest change: whether it is that of a region, and the way."""
    table = outcome.tables.get("regions")
    if table is not None and table.rows:
        volume = quantity(table.rows[0][5], f"{outcome.unit}3", signed=True, u95=table.rows[0][6])
        said = f"mean of the largest of {len(table.rows)} regions, {volume}"
    else:
        said = "percentile of all, no region of change"
    return [said, {"auto": "way proposed by Kerb", "normal": "along the normal"}.get(setup["method"], setup["method"])]


def trial() -> tuple[ChangeSetup, ...]:
    """A mound against itself, by each way that clouds have."""
    ring = square(2.0)
    ways = ("nearest", "plane", "triangulated", "quadric", "normal", "vertical", "auto")
    return tuple(ChangeSetup(area=ring, method=way, tolerance=0.1) for way in ways)


CHANGE = StudyKind(
    id="change",
    title="Change",
    question="How far did it move?",
    group="Change",
    name="Change",
    setup=ChangeSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option(
            "out",
            f"the compared cloud with its distances as columns: {', '.join(OUT)}; a raster of them: {', '.join(RASTER)}; "
            "the probes as lines: .dxf",
            endings=(*OUT, *RASTER, ".dxf"),
        ),
    ),
    write=write,
    help_page="change.md",
    example="kerb change may.laz --against march.laz --method plane --tolerance 0.05 --out distances.laz",
    key="Ctrl+Shift+G",
    panes=("plan", "orbit"),
    tables=("statistics", "shape", "probes", "elements", "parts", "regions"),
    describe=describe,
    trial=trial,
)
