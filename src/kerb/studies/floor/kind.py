"""The declaration of the floor study."""

from __future__ import annotations

import csv
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Bytes, Floats
from kerb.core.errors import OutputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.quantity import labelled, round_number
from kerb.core.surface.contours import contours
from kerb.core.surface.elevation import Affine, ElevationGrid
from kerb.core.surface.tin import Tin
from kerb.core.things import SURFACE, Placed
from kerb.draw.ramps import SIGNED, banded
from kerb.formats.dxf_write import Text, Texts, write_dxf
from kerb.formats.rasters import write_picture
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
from kerb.studies.layers import FoundLabels, FoundLine
from kerb.studies.outcome import Outcome, Table
from kerb.studies.sources import Sources

BOTH = (SHEET, REPORT)
ABOUT = (
    FigureAbout("ff", "FF, flatness", COUNT, (HEADLINE, SHEET, SUMMARY, REPORT)),
    FigureAbout("fl", "FL, levelness", COUNT, (SHEET, SUMMARY, REPORT)),
    FigureAbout("ff95_low", "FF, lower 95 % bound", COUNT, BOTH),
    FigureAbout("fl95_low", "FL, lower 95 % bound", COUNT, BOTH),
    FigureAbout("ff90_low", "FF, lower 90 % bound", COUNT, BOTH),
    FigureAbout("fl90_low", "FL, lower 90 % bound", COUNT, BOTH),
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
PIXELS = 2000


def write(setup: FloorSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the deviations as a grid or a table, a drawing with contours, labels and plan, the floor as a surface, or the map as
    a picture to scale.

    Raises OutputError.
    """
    reference, mesh = sources.store("cloud").reference, outcome.mesh("map")
    spacing = outcome.value("spacing") or 1.0
    notes: list[tuple[str, str]] = []
    if mesh is None or mesh.values is None:
        raise OutputError("there is no map to write")
    if paths.get("picture"):
        grid = _grid(mesh.vertices, mesh.values, spacing)
        image, affine = coloured(grid, mesh.bands, PIXELS)
        write_picture(Path(paths["picture"]), image, affine, reference)
    if not paths.get("out"):
        return notes
    path = Path(paths["out"])
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise OutputError(f"{path}: a floor is written as {', '.join(ENDINGS)}")
    if ending in TABLES:
        _write_rows(outcome.tables["points"], path)
        return notes
    if ending in SURFACES:
        item = Placed(SURFACE, TriangleMesh(mesh.vertices, mesh.triangles), reference)
        return write_thing(item, path, Progress())
    if ending in RASTER:
        return write_thing(Placed(SURFACE, _grid(mesh.vertices, mesh.values, spacing), reference), path, Progress())
    lines = _lines(outcome, mesh.vertices, mesh.values, mesh.triangles, spacing)
    return write_dxf(path, reference.unit, None, lines, None, _labels(setup, outcome, reference.unit.metres))


def coloured(grid: ElevationGrid, bands: tuple[float, ...], pixels: int) -> tuple[Bytes, Affine]:
    """A grid as a picture (height, width, 4) in the colours of its bands, transparent where it has no value, with some so many
    pixels along its longer side; and where it lies."""
    known = np.isfinite(grid.z)
    image = np.zeros((*grid.z.shape, 4), np.uint8)
    image[..., :3] = 255
    image[known, :3] = banded(np.asarray(grid.z[known], float), bands, SIGNED)
    image[known, 3] = 255
    times = max(1, round(pixels / max(grid.z.shape)))
    a, b, c, d, e, f = grid.affine
    return np.repeat(np.repeat(image, times, axis=0), times, axis=1), (a / times, b / times, c, d / times, e / times, f)


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
    made += [
        Line(layer.xyz * [1, 1, 0], layer.closed, name, layer.title.lower())
        for name, layer in outcome.layers.items()
        if isinstance(layer, FoundLine) and name.startswith(("plan ", "flow "))
    ]
    span = float(np.ptp(values))
    if span > 0 and len(triangles):
        step = round_number(max(float(outcome.settings["tolerance"]), span / 40))
        for one in contours(Tin.of(np.column_stack([vertices[:, :2], values]), triangles), step):
            xy = one.xy[:-1] if one.closed else one.xy
            side = "high" if one.level > 0 else "low" if one.level < 0 else "on the reference"
            made.append(Line(np.column_stack([xy, np.full(len(xy), one.level)]), one.closed, f"{one.level:+g}", side))
    return LineSet(tuple(made))


def _labels(setup: FloorSetup, outcome: Outcome, metres: float) -> Texts:
    """What is written beside nodes, in the unit of the job with four decimals."""
    layer = outcome.layers.get("labels")
    if not isinstance(layer, FoundLabels) or len(layer.xyz) < 1:
        return Texts()
    sign = "+" if layer.signed else ""
    more = tuple(
        Text((float(x), float(y), 0.0), f"{value + 0.0:{sign}.4f}", layer=layer.title.lower())
        for (x, y, _), value in zip(layer.xyz, layer.values, strict=True)
        if value is not None
    )
    steps = np.diff(np.unique(np.round(layer.xyz[:, 0], 6)))
    usual = float(steps.min()) / 6 if len(steps) else 0.05 / metres
    return Texts(more, setup.letters or usual)


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
        Option("picture", "the map as a picture to scale: .tif, .png, .jpg", endings=(".png", ".jpg", ".tif")),
    ),
    write=write,
    help_page="floor.md",
    example="kerb floor slab.laz --tolerance 0.005 --straightedge 2 --report floor.pdf",
    key="Ctrl+Alt+F",
    panes=("plan",),
    tables=("lines", "dates", "bays", "areas", "evenness", "traffic", "ponds", "outlets"),
    describe=describe,
    follow=lambda setup, cloud: replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=())),
    trial=trial,
    contoured=False,
)
