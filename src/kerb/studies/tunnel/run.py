"""Run a tunnel: the wall held against the design line by section and as a map."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Ints32
from kerb.core.progress import Progress
from kerb.core.quantity import labelled
from kerb.core.section.stations import written
from kerb.studies.layers import FoundLabels, FoundLine, FoundMesh, FoundPoints, Plot, Sections, Trace, histogram
from kerb.studies.outcome import Attribute, Outcome
from kerb.studies.sources import Sources
from kerb.studies.tunnel.figures import figures, put_notes, put_tables, section_lines
from kerb.studies.tunnel.found import Found, find
from kerb.studies.tunnel.setup import NORMAL, TunnelSetup

STUDY = "tunnel"
MOST_LABELLED, MOST_POINTS, ROOM = 12, 2000, 1.3


def run(setup: TunnelSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'where does the rock stand?'. Raises InputError, NotDeterminable; Cancelled."""
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    found = find(setup, sources, progress)
    progress.step(0.9, "Figures")
    outcome = Outcome(STUDY, unit.code, store.reference.code or store.reference.name, figures(found), setup.settings())
    outcome.inputs = [
        sources.input("cloud", "cloud", found.used, setup.cloud.words(store)),
        sources.input("alignment", "alignment"),
    ]
    outcome.inputs += [sources.input("earlier", "earlier scan")] if setup.earlier.holding else []
    put_tables(outcome, found)
    put_notes(outcome, found)
    _draw(outcome, found)
    column = np.full(store.count, np.nan, np.float32)
    column[found.rows] = found.radial
    outcome.attributes = {"deviation": Attribute("Deviation from design", "", "", unit.code, column)}
    outcome.method = _method(found)
    return outcome


def _draw(outcome: Outcome, found: Found) -> None:
    unit, tolerance = found.unit, found.setup.tolerance
    vertices, triangles, values = _mesh(found, found.off_line)
    limit = max(3 * tolerance, float(np.percentile(np.abs(values), 98)) if len(values) else 0.0)
    outcome.layers["map"] = FoundMesh(
        vertices, triangles, "map", "Deviation from design", unit.code, values, limits=(-limit, limit),
        bands=(-tolerance, tolerance) if tolerance > 0 else (),
    )  # fmt: skip
    if found.earlier is not None:
        thick = found.earlier.d - found.wall.d
        vertices, triangles, values = _mesh(found, thick)
        outcome.layers["since"] = FoundMesh(
            vertices, triangles, "map", "Change since the earlier scan", unit.code, values, shown=False
        )
    if found.wall.off.any():
        middle = found.design.centre + found.bins.way * found.bins.radius[:, None]
        rows, columns = np.nonzero(found.wall.off)
        outcome.layers["off"] = FoundPoints(
            found.axis.world(found.wall.along[rows], middle[columns]), "gap", "Objects off the wall", shown=False
        )
    outcome.layers["alignment"] = FoundLine(found.axis.vertices, "base", "Alignment")
    patches = outcome.tables["patches"].rows[:MOST_LABELLED]
    if patches:
        stations = np.array([row[1] for row in patches], float)
        along = np.interp(stations, found.axis.alignment.marks, found.axis.alignment.starts)
        level = np.interp(along, found.axis.along, found.axis.vertices[:, 2])
        across = np.column_stack([[row[2] for row in patches], np.array([row[3] for row in patches]) - level])
        outcome.layers["patches"] = FoundLabels(
            found.axis.world(along, across), tuple(str(row[0]) for row in patches), title="Patches",
            values=tuple(float(row[6]) for row in patches), bounds=(None,) * len(patches), unit=unit.code,
        )  # fmt: skip
    outcome.charts = [_sections(found), _along(outcome, unit.code)]
    outcome.charts.append(
        histogram("Deviation from design", found.off_line[found.wall.seen], labelled("deviation", unit.code), "cells")
    )


def _mesh(found: Found, values: Floats) -> tuple[Floats, Ints32, Floats]:
    """The wall as a mesh with values, once round; cells without one left open."""
    places, known = found.places(), np.isfinite(values) & found.wall.seen
    number = np.full(values.shape, -1, np.int64)
    number[known] = np.arange(int(known.sum()))
    after = np.roll(number, -1, axis=1)
    a, b, c, d = number[:-1].ravel(), after[:-1].ravel(), after[1:].ravel(), number[1:].ravel()
    whole = (a >= 0) & (b >= 0) & (c >= 0) & (d >= 0)
    triangles = np.concatenate([np.column_stack([a, b, c])[whole], np.column_stack([a, c, d])[whole]])
    return places[known], triangles.astype(np.int32), values[known]


def _sections(found: Found) -> Sections:
    line, unit = found.axis.alignment, found.unit
    wall, design, points, frames, names = [], [], [], [], []
    wide = ROOM * float(np.abs(found.design.corners[:, 0]).max()) * 2
    for number, section in enumerate(found.sections):
        measured, planned = section_lines(found, number)
        wall.append(np.column_stack([np.full(len(measured), number), measured]))
        design.append(np.column_stack([np.full(len(planned), number), planned]))
        level = float(np.interp(section.along, found.axis.along, found.axis.vertices[:, 2]))
        some = section.slice[:: max(1, len(section.slice) // MOST_POINTS)]
        points.append(np.column_stack([np.full(len(some), number), some + [0.0, level]]))
        place = found.axis.world(np.array([section.along]), np.zeros((1, 2)))[0]
        azimuth = float(np.interp(section.along, found.axis.along, found.axis.azimuth))
        frames.append((float(line.shown(section.station)), place[0], place[1], azimuth, wide, found.setup.thickness))
        names.append(written(float(line.shown(section.station)), unit))
    traces = (Trace("Wall", "edge", np.concatenate(wall)), Trace("Design profile", "base", np.concatenate(design)))
    return Sections("Sections", tuple(names), np.array(frames), traces, np.concatenate(points), np.empty((0, 3)))


def _along(outcome: Outcome, unit: str) -> Plot:
    rows = outcome.tables["stations"].rows
    stations, over, under = (np.array([row[k] for row in rows], float) for k in (0, 4, 5))
    return Plot(
        "Overbreak minus underbreak, by station",
        "curve",
        stations,
        over - under,
        labelled("station", unit),
        labelled("area", f"{unit}2"),
    )


def _method(found: Found) -> str:
    setup, mark = found.setup, found.unit.symbol
    how = "normal to the design profile" if setup.way == NORMAL else "radial from the centre of the design profile"
    return (
        "Points by station, offset and height above the alignment; sections are vertical and perpendicular to it in plan. The "
        f"wall in each cell of {found.wall.width:.3g} {mark} is the median of its outer points; deviations {how}, overbreak "
        "positive. Volumes: section areas times length, corrected for curvature; the average end area volume of the sections "
        f"is given for comparison. Objects more than {setup.stands_off:g} {mark} off the wall are excluded. Patches are "
        f"connected cells beyond {setup.tolerance:g} {mark}."
    )
