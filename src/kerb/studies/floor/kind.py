"""The declaration of the floor study."""

from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import OutputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, round_number
from kerb.core.surface.contours import contours
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.tin import Tin
from kerb.core.things import SURFACE, Placed
from kerb.formats.dxf_write import Text, Texts, write_dxf
from kerb.formats.write_things import write_thing
from kerb.formats.written import placed_when_complete
from kerb.studies.drawn import Drawn
from kerb.studies.floor.run import run
from kerb.studies.floor.setup import FloorSetup
from kerb.studies.kind import (
    AREA,
    COUNT,
    HEADLINE,
    LENGTH,
    REPORT,
    SHEET,
    SUMMARY,
    VOLUME,
    FigureAbout,
    Option,
    StudyKind,
)
from kerb.studies.layers import FoundLine
from kerb.studies.outcome import Outcome, Table
from kerb.studies.sources import Sources

BOTH = (SHEET, REPORT)
ABOUT = (
    FigureAbout("ff", "FF, flatness", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("fl", "FL, levelness", COUNT, (SHEET, SUMMARY, REPORT)),
    FigureAbout("ff95_low", "FF, lower 95 % bound", COUNT, BOTH),
    FigureAbout("fl95_low", "FL, lower 95 % bound", COUNT, BOTH),
    FigureAbout("ff_without_noise", "FF without the noise of the cloud", COUNT, BOTH),
    FigureAbout("within_area", "Within the tolerance", AREA),
    FigureAbout("above_area", "Above the tolerance", AREA),
    FigureAbout("below_area", "Below the tolerance", AREA),
    FigureAbout("high_volume", "To be ground off", VOLUME),
    FigureAbout("low_volume", "To be filled", VOLUME),
    FigureAbout("max_high", "Highest above", LENGTH, (SHEET, SUMMARY, REPORT)),
    FigureAbout("max_low", "Lowest below", LENGTH, (SHEET, SUMMARY, REPORT)),
    FigureAbout("straightedge", "Largest gap under the straightedge", LENGTH, (SHEET, SUMMARY, REPORT)),
    FigureAbout("mean", "Mean level", LENGTH),
    FigureAbout("std", "Standard deviation", LENGTH),
    FigureAbout("area", "Floor area", AREA),
    FigureAbout("spacing", "Between nodes", LENGTH),
    FigureAbout("noise", "Scatter of the points about it", LENGTH),
)
RASTER, DRAWING, TABLES, SURFACES = (".tif", ".asc"), (".dxf",), (".csv",), (".xml",)
ENDINGS = (*RASTER, *DRAWING, *TABLES, *SURFACES)
LABELS_A_SIDE, LETTERS = 25, 0.35


def write(_setup: FloorSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the deviations as a grid or a table, a drawing with contours, labels and outline, or the floor as a surface.

    Raises OutputError.
    """
    path = Path(paths["out"])
    ending, reference = path.suffix.lower(), sources.store("cloud").reference
    mesh = outcome.mesh("map")
    if ending not in ENDINGS or mesh is None:
        raise OutputError(f"{path}: a floor is written as {', '.join(ENDINGS)}")
    if ending in TABLES:
        _write_rows(outcome.tables["points"], path)
        return []
    if ending in SURFACES:
        item = Placed(SURFACE, TriangleMesh(mesh.vertices, mesh.triangles), reference)
        return write_thing(item, path, Progress())
    assert mesh.values is not None
    spacing = outcome.value("spacing") or 1.0
    if ending in RASTER:
        return write_thing(Placed(SURFACE, _grid(mesh.vertices, mesh.values, spacing), reference), path, Progress())
    return write_dxf(path, reference.unit, None, _lines(outcome, mesh.vertices, mesh.values, mesh.triangles, spacing), None,
                     _labels(mesh.vertices, mesh.values, spacing, reference.unit.metres))  # fmt: skip


def _write_rows(table: Table, path: Path) -> None:
    with placed_when_complete(path) as partial, open(partial, "w", encoding="utf-8", newline="") as stream:
        out = csv.writer(stream, lineterminator="\n")
        out.writerow([labelled(column.label, column.unit) for column in table.columns])
        out.writerows([f"{cell:.4f}" if isinstance(cell, float) else cell for cell in row] for row in table.rows)


def _grid(vertices: Floats, values: Floats, spacing: float) -> ElevationGrid:
    """Deviations as a grid, rows from the north."""
    low = vertices[:, :2].min(axis=0)
    place = np.round((vertices[:, :2] - low) / spacing).astype(int)
    rows, columns = place[:, 1].max() + 1, place[:, 0].max() + 1
    z = np.full((rows, columns), np.nan, np.float32)
    z[rows - 1 - place[:, 1], place[:, 0]] = values
    north = float(low[1]) + (rows - 0.5) * spacing
    return ElevationGrid(z, (spacing, 0.0, float(low[0]) - 0.5 * spacing, 0.0, -spacing, north))


def _lines(outcome: Outcome, vertices: Floats, values: Floats, triangles: Any, spacing: float) -> LineSet:
    """Contours of the deviation, and the sample lines."""
    made = [
        Line(layer.xyz, False, name, "sample lines")
        for name, layer in outcome.layers.items()
        if isinstance(layer, FoundLine) and name.startswith("line ")
    ]
    span = float(np.ptp(values))
    if span > 0 and len(triangles):
        step = round_number(max(float(outcome.settings["tolerance"]), span / 40))
        for one in contours(Tin.of(np.column_stack([vertices[:, :2], values]), triangles), step):
            xy = one.xy[:-1] if one.closed else one.xy
            side = "high" if one.level > 0 else "low" if one.level < 0 else "on the reference"
            made.append(Line(np.column_stack([xy, np.full(len(xy), one.level)]), one.closed, f"{one.level:+g}", side))
    return LineSet(tuple(made))


def _labels(vertices: Floats, values: Floats, spacing: float, metres: float) -> Texts:
    """Deviations beside some nodes, in millimetres of the job's metre, or with four decimals of a foot."""
    extent = np.ptp(vertices[:, :2], axis=0)
    every = max(1, round(float(extent.max()) / spacing / LABELS_A_SIDE))
    place = np.round((vertices[:, :2] - vertices[:, :2].min(axis=0)) / spacing).astype(int)
    some = np.flatnonzero((place % every == 0).all(axis=1))
    digits = 4
    more = tuple(
        Text((float(x), float(y), 0.0), f"{d + 0.0:+.{digits}f}", layer="deviations")
        for (x, y, _), d in zip(vertices[some], values[some], strict=True)
    )
    return Texts(more, LETTERS * every * spacing / 2 if every * spacing > 0 else 0.05 / metres)


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside FF: FL, and what the floor is held against."""
    fl = outcome.figures.get("fl")
    said = [f"FL {fl.value:.1f}"] if fl is not None and fl.value is not None else []
    share = (outcome.value("within_area") or 0.0) / (outcome.value("area") or 1.0)
    return [*said, f"{100 * share:.0f} % within {setup['tolerance']:g} {outcome.unit}"]


def trial() -> tuple[FloorSetup, ...]:
    """The mound as a floor that runs on over its slope, against its mean and a fitted plane."""
    seed = Drawn.of(np.array([[0.0, 0.0]]))
    wide = FloorSetup(spacing=0.5, step=1.0, band=1.0, edge=0.0, radius=0.5, foot=0.5)
    return wide, replace(wide, reference="fit", take="lowest", seed=seed, din="row-3")


FLOOR = StudyKind(
    id="floor",
    title="Floor",
    question="How flat and level is it?",
    group="Surfaces",
    name="Floor",
    setup=FloorSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option(
            "out",
            "deviations as a grid (.tif, .asc) or a table (.csv), contours and labels of them (.dxf), or the floor as a "
            "surface (.xml)",
            endings=ENDINGS,
        ),
    ),
    write=write,
    help_page="floor.md",
    example="kerb floor slab.laz --tolerance 0.005 --straightedge 2 --report floor.pdf",
    key="Ctrl+Alt+F",
    panes=("plan",),
    tables=("lines", "bays", "areas", "evenness", "traffic", "ponds", "outlets"),
    describe=describe,
    follow=lambda setup, cloud: replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=())),
    trial=trial,
    contoured=False,
)
