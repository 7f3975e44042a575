"""The declaration of the cut and fill study."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import OutputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.quantity import quantity, round_number
from kerb.core.surface.contours import contours
from kerb.core.surface.tin import Tin
from kerb.core.things import LINES, SURFACE, Placed
from kerb.formats.landxml_write import LandXmlContent, write_landxml
from kerb.formats.write_things import write_thing
from kerb.studies.cutfill.compared import compared, difference_grid
from kerb.studies.cutfill.figures import ABOUT
from kerb.studies.cutfill.live import ready
from kerb.studies.cutfill.run import run
from kerb.studies.cutfill.series import follow, propose
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.kind import Correction, Option, Step, StudyKind
from kerb.studies.layers import FoundLine
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.trials import item, square

RASTER, DRAWING, SURFACES = (".tif", ".asc"), (".dxf", ".gpkg", ".geojson", ".shp"), (".xml",)
PIXELS = 1000
LINES_OF_DIFFERENCE = 12


def write(setup: CutfillSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write differences as a grid, the line of no change and contours of the difference, or both surfaces, by the ending.

    Raises OutputError; what reading raises.
    """
    path = Path(paths["out"])
    ending, reference = path.suffix.lower(), sources.surface("earlier", setup.earlier).reference
    mesh = outcome.mesh("difference")
    if ending not in (*RASTER, *DRAWING, *SURFACES) or mesh is None:
        raise OutputError(f"{path}: differences are written as {', '.join((*RASTER, *DRAWING, *SURFACES))}")
    found = compared(setup, sources, Progress())
    if ending in RASTER:
        low, high = mesh.vertices.min(axis=0)[:2], mesh.vertices.max(axis=0)[:2]
        cell = setup.cell if setup.cell is not None else round_number(float((high - low).max()) / PIXELS)
        grid = difference_grid(found, setup.named_areas(), (low, high), cell)
        return write_thing(Placed(SURFACE, grid, reference), path, Progress())
    if ending in SURFACES:
        write_landxml(
            path, LandXmlContent(None, None, {found.names[0]: found.earlier, found.names[1]: found.later}), reference
        )
        return []
    lines = [Line(layer.xyz, layer.closed, "0", "no change") for name, layer in outcome.layers.items()
             if name.startswith("zero ") and isinstance(layer, FoundLine)]  # fmt: skip
    assert mesh.values is not None
    difference = Tin.of(np.column_stack([mesh.vertices[:, :2], mesh.values]), mesh.triangles)
    span = float(np.ptp(mesh.values)) if len(mesh.values) else 0.0
    if span > 0:
        step = round_number(span / LINES_OF_DIFFERENCE)
        for one in contours(_welded(difference), step):
            if abs(one.level) > step / 2:
                xy = one.xy[:-1] if one.closed else one.xy
                side = "fill" if one.level > 0 else "cut"
                lines.append(
                    Line(np.column_stack([xy, np.full(len(xy), one.level)]), one.closed, f"{one.level:+g}", side)
                )
    return write_thing(Placed(LINES, LineSet(tuple(lines)), reference), path, Progress())


def _welded(tin: Tin) -> Tin:
    """With corners at the same place as one vertex, so that lines go on from triangle to triangle."""
    key = np.round(tin.vertices[:, :2] * 1e5).astype(np.int64)
    _, first, place = np.unique(key, axis=0, return_index=True, return_inverse=True)
    triangles = place.ravel()[tin.triangles].astype(np.int32)
    keep = (triangles != np.roll(triangles, 1, axis=1)).all(axis=1)
    return Tin(tin.vertices[first], triangles[keep], tin.origin)


def corrections(outcome: Outcome) -> tuple[Correction, ...]:
    """What would bring the later surface to the earlier one: the offset of the stable ground."""
    offset = outcome.value("stable_offset")
    if offset is None or outcome.settings.get("take_out") != "none" or outcome.settings.get("exchanged"):
        return ()
    way = "lowered" if offset > 0 else "raised"
    words = f"{way} by {quantity(abs(offset), outcome.unit)}, the offset of its stable ground"
    return (Correction("later", Rigid(shift=(0.0, 0.0, -offset)), words, f"Stable ground: {words.partition(',')[0]}"),)


def describe(_setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the net volume: which is compared with which."""
    return [outcome.method.partition(". ")[0]]


def trial() -> tuple[CutfillSetup, ...]:
    """A mound against a level: whole, within rings, by a grid, with a dead band."""
    areas = item("a", square(3.0)), item("b", square(1.0))
    return (
        CutfillSetup(level=0.5),
        CutfillSetup(level=0.5, exchanged=True, areas=areas, detect=0.1, swell=20.0, shrink=10.0),
        CutfillSetup(level=0.5, method="grid", cell=0.5),
    )


CUTFILL = StudyKind(
    id="cutfill",
    title="Cut and fill",
    question="How much was cut and filled?",
    group="Surfaces",
    name="Cut and fill",
    setup=CutfillSetup,
    run=run,
    figures=ABOUT,
    live=ready,
    options=(
        Option(
            "out",
            "differences as a grid (.tif, .asc), the line of no change with contours of the difference (.dxf, .gpkg, .geojson, "
            ".shp), or both surfaces (.xml, LandXML)",
            endings=(*RASTER, *DRAWING, *SURFACES),
        ),
    ),
    write=write,
    help_page="cutfill.md",
    example="kerb cutfill march.laz may.laz --within pit.geojson --stable road.geojson --report cutfill.pdf",
    key="Ctrl+Shift+X",
    panes=("plan", "section"),
    tables=("areas", "series", "uncertainty"),
    shared=("Offset",),
    describe=describe,
    corrections=corrections,
    steps=(
        Step(
            "propose_stable",
            "Propose stable ground",
            "Find areas where most of the ground agrees; look at each, untick what moved",
            "stable",
            propose,
            "Stable ground was proposed: look at each area, untick what is none. Ctrl+Z takes them back.",
            fresh=True,
        ),
    ),
    follow=follow,
    trial=trial,
)
