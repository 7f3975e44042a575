"""The declaration of the study of tunnels, shafts and pipes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.cloud.outgoing import from_store
from kerb.core.errors import InputError, OutputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.section.drawing import SectionDrawing
from kerb.core.things import POINTS, SURFACE, Placed
from kerb.formats.dxf_read import read_dxf
from kerb.formats.sections_write import Series, write_flat, write_sections
from kerb.formats.write_things import write_cloud, write_thing
from kerb.studies.kind import (
    AREA,
    HEADLINE,
    LENGTH,
    PERCENT,
    REPORT,
    SHEET,
    SUMMARY,
    VOLUME,
    FigureAbout,
    Option,
    StudyKind,
)
from kerb.studies.layers import Sections
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources
from kerb.studies.tunnel.run import run
from kerb.studies.tunnel.setup import TunnelSetup

ALL = (SHEET, SUMMARY, REPORT)
ABOUT = (
    FigureAbout("under_volume", "Underbreak", VOLUME, (HEADLINE, *ALL), adds=True),
    FigureAbout("over_volume", "Overbreak", VOLUME, ALL, adds=True),
    FigureAbout("under_volume_end_areas", "Underbreak, average end area", VOLUME),
    FigureAbout("over_volume_end_areas", "Overbreak, average end area", VOLUME),
    FigureAbout("under_area", "Underbreak area, mean of sections", AREA),
    FigureAbout("over_area", "Overbreak area, mean of sections", AREA),
    FigureAbout("max_under", "Max. underbreak", LENGTH, ALL),
    FigureAbout("max_over", "Max. overbreak", LENGTH, ALL),
    FigureAbout("thickness", "Mean thickness", LENGTH, ALL, optional=True),
    FigureAbout("thickness_volume", "Volume of the thickness", VOLUME, optional=True),
    FigureAbout("below_share", "Below specified thickness", PERCENT, optional=True),
    FigureAbout("detection", "Level of detection", LENGTH, optional=True),
    FigureAbout("wall_area", "Wall area", AREA),
    FigureAbout("design_area", "Design area", AREA),
    FigureAbout("length", "Length evaluated", LENGTH),
    FigureAbout("uncovered_share", "Not scanned", PERCENT),
    FigureAbout("noise", "Noise of the wall points", LENGTH),
)
CLOUDS, LINES, MESHES = (".laz", ".las", ".ply", ".e57"), (".dxf", ".gpkg", ".csv", ".xml"), (".obj",)


def write(setup: TunnelSetup, outcome: Outcome, sources: Sources, paths: dict[str, Any]) -> list[tuple[str, str]]:
    """Write the sections, the cloud with its deviations, the wall as a mesh, or the patches. Raises OutputError."""
    store, notes = sources.store("cloud"), []
    if paths.get("out"):
        path = Path(paths["out"])
        ending = path.suffix.lower()
        if ending in CLOUDS:
            attribute = outcome.attributes["deviation"]
            made = from_store(store, made={"deviation": attribute.values}, units={"deviation": attribute.unit})
            notes += write_cloud(made, path, Progress())[1]
        elif ending in MESHES:
            mesh = outcome.mesh("map")
            assert mesh is not None
            notes += write_thing(
                Placed(SURFACE, TriangleMesh(mesh.vertices, mesh.triangles), store.reference), path, Progress()
            )
        elif ending in LINES:
            notes += write_sections(_series(setup, outcome, sources), path)
        else:
            raise OutputError(f"{path}: a tunnel is written as {', '.join((*LINES, *CLOUDS, *MESHES))}")
    if paths.get("flat"):
        notes += write_flat(_series(setup, outcome, sources), Path(paths["flat"]))
    if paths.get("patches"):
        notes += write_thing(
            Placed(POINTS, _patches(setup, outcome, sources), store.reference), Path(paths["patches"]), Progress()
        )
    return notes


def _series(setup: TunnelSetup, outcome: Outcome, sources: Sources) -> Series:
    shown = next(chart for chart in outcome.charts if isinstance(chart, Sections))
    made = []
    for number, name in enumerate(shown.names):
        lines = tuple((trace.title, trace.places) for trace in shown.one(number)[0])
        made.append(SectionDrawing(shown.frame(number), name, lines, ()))
    return Series(made, setup.line(sources), sources.store("cloud").reference)


def _patches(setup: TunnelSetup, outcome: Outcome, sources: Sources) -> SurveyPoints:
    """The worst places of patches as points with station, offset and depth, for who drills or scales."""
    rows = outcome.tables["patches"].rows
    if not rows:
        raise OutputError("no patches beyond the tolerance")
    line = setup.line(sources)
    stations, offsets = (np.array([row[k] for row in rows], float) for k in (1, 2))
    along = np.interp(stations, line.marks, line.starts)
    place, azimuth = line.plan_at(along)
    xy = place + offsets[:, None] * np.column_stack([np.cos(azimuth), -np.sin(azimuth)])
    xyz = np.column_stack([xy, [float(row[3]) for row in rows]])
    extra = {
        name: tuple(f"{row[k]:.3f}" for row in rows)
        for k, name in ((1, "station"), (2, "offset"), (4, "area"), (5, "volume"), (6, "depth"))
    }
    return SurveyPoints(
        xyz, tuple(str(row[0]) for row in rows), tuple("under" if row[0][0] == "U" else "over" for row in rows), extra
    )


def read_words(field: str, path: Path, metres: float) -> str:
    """The design line of a file as words: the one closed line of a drawing, or the columns x and y of a text file, in a unit
    of so many metres. Raises InputError."""
    if field != "profile":
        return str(path)
    if path.suffix.lower() == ".dxf":
        drawing = read_dxf(path)
        closed = [line for line in drawing.lines if line.closed or np.hypot(*(line.xyz[0] - line.xyz[-1])[:2]) < 1e-6]
        if len(closed) != 1:
            raise InputError(f"{path}: has {len(closed)} closed lines, one is needed for the profile")
        times = drawing.unit.metres / metres if drawing.unit is not None else 1.0
        corners = closed[0].xyz[:, :2] * times
    else:
        corners = _columns(path)
    return " ".join(f"{x:.12g},{y:.12g}" for x, y in corners)


def _columns(path: Path) -> Any:
    rows: list[tuple[float, float]] = []
    for number, row in enumerate(path.read_text(encoding="utf-8-sig", errors="replace").splitlines()):
        words = [word for word in row.replace(";", ",").replace("\t", ",").split(",") if word.strip()]
        try:
            x, y = (float(word) for word in words[:2])
        except ValueError:
            if rows or (number and words):
                raise InputError(f"{path}: line {number + 1} is no pair of numbers x,y") from None
            continue
        rows.append((x, y))
    if len(rows) < 3:
        raise InputError(f"{path}: has {len(rows)} corners; a profile needs three at least")
    return np.array(rows)


def describe(setup: dict[str, Any], outcome: Outcome) -> list[str]:
    """What stands beside the volume inside: that beyond."""
    over = outcome.figures["over_volume"]
    return [f"overbreak {over.text()}", f"tolerance {setup['tolerance']:g} {outcome.unit}"]


def trial() -> tuple[TunnelSetup, ...]:
    """The mound as the roof of a wide bore along a line over it, by both ways."""
    plain = TunnelSetup(
        alignment="alignment", profile="circle:8", interval=3.0, thickness=1.0, cell=1.0, stands_off=6.0
    )
    return plain, replace(plain, way="normal", profile="horseshoe:14x12", alignment_error=0.01)


TUNNEL = StudyKind(
    id="tunnel",
    title="Tunnel",
    question="Where and how large are overbreak and underbreak?",
    group="Structures",
    name="Tunnel",
    setup=TunnelSetup,
    run=run,
    figures=ABOUT,
    options=(
        Option(
            "out",
            "sections in place: .dxf, .gpkg, .csv, .xml; the cloud with its deviations: .laz, .las, .ply, .e57; the wall as a "
            "mesh: .obj",
            endings=(*LINES, *CLOUDS, *MESHES),
        ),
        Option("flat", "sections arranged on a sheet (.dxf)", endings=(".dxf",)),
        Option(
            "patches",
            "deepest point of each patch with station, offset and depth: .csv, .xml, .dxf",
            endings=(".csv", ".xml", ".dxf"),
        ),
    ),
    write=write,
    help_page="tunnel.md",
    example="kerb tunnel drive.laz --alignment axis.xml --profile circle:3.5 --interval 5 --report tunnel.pdf",
    key="Ctrl+Alt+T",
    panes=("orbit", "section"),
    tables=("stations", "patches", "earlier"),
    describe=describe,
    follow=lambda setup, cloud: replace(setup, cloud=replace(setup.cloud, holding=cloud, part="", only=())),
    trial=trial,
    contoured=False,
    read_words=read_words,
)
