"""Run a series of sections: what lies in each slice, its line, the exact cuts of surfaces, survey points in it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.alignment import Alignment
from kerb.core.geometry.features import SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.parallel import each
from kerb.core.progress import Progress
from kerb.core.quantity import first_of, round_number
from kerb.core.section.cut import cut, joined_by_gaps
from kerb.core.section.frame import Frame, frames
from kerb.core.section.slab import line_of, simplified, slab, spread_about, within
from kerb.core.section.stations import written
from kerb.core.surface.surfaces import Surface
from kerb.studies.layers import FoundLabels, FoundLine, Profile, Sections, Trace
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table
from kerb.studies.sections.setup import ALONG, SectionsSetup
from kerb.studies.sources import Sources, numbered

STUDY = "sections"
STEP_SPACINGS = 4.0
# Points of each section that its picture keeps.
MOST_DRAWN = 4000
FEW_POINTS = 20
MOST_STEPS = 4000
# Chords of a curve stay this share of the thickness near to it.
CHORD_SHARE = 20.0
CLOUD_ROLE, SURFACE_ROLE = "top", "base"


@dataclass
class CutSection:
    """What one section has: lines by title, points of the first cloud, shots as rows of the table."""

    frame: Frame
    count: int = 0
    lowest: float | None = None
    highest: float | None = None
    spread: float | None = None
    local: dict[str, Floats] = field(default_factory=dict)
    lines: dict[str, Floats] = field(default_factory=dict)
    cuts: dict[str, list[Floats]] = field(default_factory=dict)
    sample: Floats = field(default_factory=lambda: np.empty((0, 2)))
    shots: list[tuple[str, float, float, float]] = field(default_factory=list)


def run(setup: SectionsSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'what does it look like across the line?'.

    Raises InputError, when the setup or the line cannot be; Cancelled.
    """
    setup.check()
    if not (setup.thickness > 0 and (setup.width > 0 or setup.way == ALONG)):
        raise InputError("width and thickness must be above zero")
    alignment = setup.alignment(sources)
    if setup.way == ALONG:
        return run_along(setup, sources, alignment, progress)
    stations = setup.chosen(alignment, sources.unit)
    step = step_of(setup, sources, setup.width)
    made = frames(alignment, stations, setup.width, setup.thickness, setup.skew)
    series = [replace(one, station=alignment.shown(one.station)) for one in made]
    cutter = Slicer(setup, sources, step, series)
    found = each(cutter.section, series, progress, "Cutting sections")
    return _told(setup, sources, found, step)


def step_of(setup: SectionsSetup, sources: Sources, length: float) -> float:
    """The step of lines of a length: what is set, else about four point spacings of the cloud, made round."""
    if setup.step:
        return setup.step
    return round_number(max(STEP_SPACINGS * sources.store("cloud").spacing, length / MOST_STEPS))


class Slicer:
    """Makes the sections of one setup, one by one."""

    def __init__(self, setup: SectionsSetup, sources: Sources, step: float, series: list[Frame]) -> None:
        self.setup, self.step = setup, step
        self.clouds: dict[str, CloudView] = {}
        for name, scope in (("cloud", setup.cloud), *((numbered("others", n), s) for n, s in enumerate(setup.others))):
            self.clouds[_title(sources, name, self.clouds)] = scope.of(sources.store(name))
        self.bodies: dict[str, tuple[Floats, np.ndarray]] = {}
        corners = np.concatenate([one.corners() for one in series])
        box = corners.min(axis=0), corners.max(axis=0)
        for n, scope in enumerate(setup.surfaces):
            name = numbered("surfaces", n)
            title = _title(sources, name, {**self.clouds, **self.bodies})
            self.bodies[title] = _triangles(sources, name, sources.surface(name, scope), box)
        self.points: SurveyPoints | None = sources.points("points") if setup.points else None

    def section(self, frame: Frame) -> CutSection:
        """What one section has."""
        found = CutSection(frame)
        for number, (title, view) in enumerate(self.clouds.items()):
            local = slab(view, frame)
            # So many of them as a picture shows are a fair sample too.
            every = max(1, -(-len(local) // MOST_DRAWN))
            found.local[title] = local
            if number == 0:
                found.count = len(local)
                if len(local):
                    found.lowest, found.highest = float(local[:, 2].min()), float(local[:, 2].max())
                found.sample = local[::every][:, [0, 2]]
            offset, z = line_of(local, frame.width, self.step, self.setup.take)
            if number == 0:
                found.spread = spread_about(local[::every], offset, z)
            if self.setup.tolerance:
                offset, z = simplified(offset, z, self.setup.tolerance)
            found.lines[title] = np.column_stack([offset, z])
        for title, (vertices, triangles) in self.bodies.items():
            found.cuts[title] = cut(frame, vertices, triangles)
        if self.points is not None:
            found.shots = _shots(frame, self.points)
        return found


def run_along(setup: SectionsSetup, sources: Sources, alignment: Alignment, progress: Progress) -> Outcome:
    """One section along a line or alignment, unrolled: each straight, or chord of a curve, is a slice of its own.

    Raises InputError; Cancelled.
    """
    vertices, stations = alignment.flattened(setup.thickness / CHORD_SHARE)
    vertices = vertices[:, :2]
    pieces = [
        Frame(float((s + t) / 2), tuple(((a + b) / 2).tolist()), float(np.arctan2(*(b - a)) - np.pi / 2),
              float(np.hypot(*(b - a))), setup.thickness)
        for (a, b), (s, t) in zip(pairwise(vertices), pairwise(stations.tolist()), strict=True)
    ]  # fmt: skip
    step = step_of(setup, sources, float(stations[-1] - stations[0]))
    cutter = Slicer(setup, sources, step, pieces)
    parts = each(cutter.section, pieces, progress, "Cutting along the line")
    start, length = float(stations[0]), float(stations[-1] - stations[0])
    whole = CutSection(Frame(start, tuple(vertices.mean(axis=0).tolist()), pieces[0].azimuth, length, setup.thickness))
    for title in cutter.clouds:
        local = np.concatenate([p.local[title] + [p.frame.station - start, 0.0, 0.0] for p in parts])
        if title == next(iter(cutter.clouds)):
            whole.count = len(local)
            whole.lowest = float(local[:, 2].min()) if len(local) else None
            whole.highest = float(local[:, 2].max()) if len(local) else None
        # Steps count from the start of the line.
        offset, z = line_of(local, 2 * length, step, setup.take)
        offset, z = offset[offset >= 0], z[offset >= 0]
        if title == next(iter(cutter.clouds)):
            whole.spread = spread_about(local, offset, z)
        if setup.tolerance:
            offset, z = simplified(offset, z, setup.tolerance)
        whole.lines[title] = np.column_stack([offset + start, z])
    for title in cutter.bodies:
        whole.cuts[title] = [line + [p.frame.station, 0.0] for p in parts for line in p.cuts[title]]
    whole.shots = [(name, offset + p.frame.station, z, away) for p in parts for name, offset, z, away in p.shots]
    return _told_along(setup, sources, whole, alignment, (stations, vertices, step))


def _told_along(
    setup: SectionsSetup, sources: Sources, whole: CutSection, alignment: Alignment, path: tuple[Floats, Floats, float]
) -> Outcome:
    """The outcome of a section along a line: distances are stations, and offsets of what lies in it are nought."""
    stations, vertices, step = path
    outcome = _told(setup, sources, [whole], step)
    unit = outcome.unit
    shown = alignment.shown
    across = lambda name: tuple((shown(row[1]), 0.0, *row[2:]) for row in outcome.tables[name].rows)  # noqa: E731
    for name in ("line", "surfaces"):
        if name in outcome.tables:
            outcome.tables[name] = replace(outcome.tables[name], rows=across(name))
    if "shots" in outcome.tables:
        outcome.settings["shot_stations"] = [row[2] for row in outcome.tables["shots"].rows]
        rows = tuple((shown(row[2]), row[1], 0.0, *row[3:]) for row in outcome.tables["shots"].rows)
        outcome.tables["shots"] = replace(outcome.tables["shots"], rows=rows)
    outcome.settings |= {"stations": stations.tolist(), "path": vertices.tolist()}
    place = lambda s: np.column_stack([np.interp(s, stations, vertices[:, k]) for k in (0, 1)])  # noqa: E731
    outcome.layers = {}
    for title, line in whole.lines.items():
        for number, run_ in enumerate(_runs(line)):
            xyz = np.column_stack([place(run_[:, 0]), run_[:, 1]])
            outcome.layers[f"line {title} {number}"] = FoundLine(xyz, "cut", title)
    outcome.charts = [_profile(whole, stations, vertices, step)]
    outcome.method = (
        f"One upright section along the line, unrolled at its bends; points within {setup.thickness / 2:g} {unit} of it "
        f"belong to it, and its line takes the {setup.take} within half a step of {step:.3g} {unit}. Distances are stations"
        f"{'; tables write them as the station equations count, the drawing counts on' if alignment.equations else ''}."
    )
    return outcome


def _profile(whole: CutSection, stations: Floats, vertices: Floats, step: float) -> Profile:
    """The section as a profile; of surfaces the upper line of their cut."""
    distance = np.arange(0.0, float(stations[-1] - stations[0]) + step / 2, step)
    traces = [(t, CLOUD_ROLE, _read(line, distance + stations[0])) for t, line in whole.lines.items()]
    for title, lines in whole.cuts.items():
        levels = [_read(line, distance + stations[0]) for line in lines]
        top = np.fmax.reduce(levels) if levels else np.full(len(distance), np.nan)
        traces.append((title, SURFACE_ROLE, top))
    return Profile("Along the line", vertices[[0, -1]], distance, tuple(traces))


def _read(line: Floats, at: Floats) -> Floats:
    """The upper elevation of a line (n, 2) at places in order, NaN in its gaps and beyond it; it may run back, as rings do."""
    out = np.full(len(at), np.nan)
    for (x0, z0), (x1, z1) in pairwise(line):
        if np.isfinite(z0) and np.isfinite(z1) and x0 != x1:
            first, last = np.searchsorted(at, [min(x0, x1) - 1e-9, max(x0, x1) + 1e-9])
            share = (at[first:last] - x0) / (x1 - x0)
            out[first:last] = np.fmax(out[first:last], z0 + share * (z1 - z0))
    return out


def _title(sources: Sources, name: str, taken: dict) -> str:
    title = sources.source(name).name
    return title if title not in taken else f"{title} ({name})"


def _triangles(sources: Sources, name: str, surface: Surface, box: tuple[Floats, Floats]) -> tuple[Floats, np.ndarray]:
    """The triangles of a surface round the sections; of a model all of them, undersides and walls too."""
    item = sources.source(name).item
    if item is not None and isinstance(item.thing, TriangleMesh):
        return item.thing.vertices, item.thing.triangles
    try:
        tin = surface.tin(*box)
    except NotDeterminable:
        return np.empty((0, 3)), np.empty((0, 3), np.int32)
    return tin.points, tin.triangles


def _shots(frame: Frame, points: SurveyPoints) -> list[tuple[str, float, float, float]]:
    local = frame.local(points.xyz)
    rows = np.flatnonzero(within(frame, local))
    rows = rows[np.argsort(local[rows, 0], kind="stable")]
    return [(points.names[r], float(local[r, 0]), float(local[r, 2]), float(local[r, 1])) for r in rows.tolist()]


def _told(setup: SectionsSetup, sources: Sources, found: list[CutSection], step: float) -> Outcome:
    store, unit = sources.store("cloud"), sources.unit
    settings = {**setup.settings(), "step": step, "stations": [one.frame.station for one in found]}
    figures = {
        "sections": Figure(len(found), "", "Sections"),
        "empty": Figure(sum(not one.count for one in found), "", "Without points"),
        "lowest": Figure(min((f.lowest for f in found if f.lowest is not None), default=None), unit.code, "Lowest point"),
        "highest": Figure(max((f.highest for f in found if f.highest is not None), default=None), unit.code, "Highest point"),
        "shots": Figure(sum(len(one.shots) for one in found) if setup.points else None, "", "Survey points in sections"),
    }  # fmt: skip
    outcome = Outcome(STUDY, unit.code, store.reference.code or store.reference.name, figures, settings)
    outcome.inputs = [sources.input("cloud", "compared", sum(one.count for one in found), setup.cloud.words(store))]
    outcome.inputs += [sources.input(numbered("others", n), "compared") for n in range(len(setup.others))]
    outcome.inputs += [sources.input(numbered("surfaces", n), "against") for n in range(len(setup.surfaces))]
    outcome.inputs += [sources.input("points", "against")] if setup.points else []
    outcome.inputs += [sources.input("along", "where")] if setup.along else []
    outcome.tables = tables(found, unit.code)
    outcome.warnings = _warnings(setup, found, sources)
    outcome.method = _method(setup, step, unit.symbol)
    _draw(outcome, found, sources)
    return outcome


def tables(found: list[CutSection], code: str) -> dict[str, Table]:
    """A row a section, a place of its line, a place of a surface's cut, and a survey point in it."""
    station, offset, z = (
        Column("station", code, "Station"),
        Column("offset", code, "Offset"),
        Column("z", code, "Elevation"),
    )
    source = Column("source", "", "Of")
    made = {
        "sections": Table("Sections", (
            station, Column("points", "", "Points"), Column("lowest", code, "Lowest"), Column("highest", code, "Highest"),
            Column("spread", code, "Spread about the line"), Column("shots", "", "Survey points"),
            Column("easting", code, "Easting"), Column("northing", code, "Northing"), Column("azimuth", "deg", "Azimuth"),
        ), tuple(
            (f.frame.station, f.count, f.lowest, f.highest, f.spread, len(f.shots), *f.frame.place,
             float(np.degrees(f.frame.azimuth) % 360))
            for f in found
        )),
        "line": Table("Lines", (station, offset, z, source), tuple(
            (f.frame.station, *place, title) for f in found for title, line in f.lines.items()
            for place in line[np.isfinite(line[:, 1])].tolist()
        )),
    }  # fmt: skip
    if any(f.cuts for f in found):
        made["surfaces"] = Table("Cuts of surfaces", (station, offset, z, source), tuple(
            (f.frame.station, *place, title) for f in found for title, lines in f.cuts.items() for line in lines
            for place in line.tolist()
        ))  # fmt: skip
    if any(f.shots for f in found):
        made["shots"] = Table(
            "Survey points", (station, Column("name", "", "Point"), offset, z, Column("from_plane", code, "From the plane")),
            tuple((f.frame.station, name, *values) for f in found for name, *values in f.shots),
        )  # fmt: skip
    return made


def _warnings(setup: SectionsSetup, found: list[CutSection], sources: Sources) -> list[Note]:
    notes = list(sources.stated)
    unit = sources.unit
    empty = [written(f.frame.station, unit) for f in found if not f.count]
    few = [written(f.frame.station, unit) for f in found if 0 < f.count < FEW_POINTS]
    for code, words, names in (
        ("empty", "no point of the cloud lies in", empty),
        ("few", f"fewer than {FEW_POINTS} points lie in", few),
    ):
        if names:
            notes.append(Note(code, f"{words} {len(names)} of {len(found)} sections: {first_of(names, 8)}"))
    uncut = [title for title in (found[0].cuts if found else {}) if not any(f.cuts[title] for f in found)]
    notes += [Note("uncut", f"{title} is cut by none of the sections") for title in uncut]
    if setup.points and not any(f.shots for f in found):
        notes.append(Note("no-shots", "no survey point lies in any of the slices"))
    return notes


def _method(setup: SectionsSetup, step: float, symbol: str) -> str:
    turned = f"turned {setup.skew:g}° clockwise from square" if setup.skew else "square"
    words = {
        "median": "the median elevation, the fall along the section taken out,",
        "lowest": "the lowest point",
        "highest": "the highest point",
    }
    simple = f" Vertices are left out within {setup.tolerance:g} {symbol}." if setup.tolerance else ""
    return (
        f"Upright sections {turned} to the line; offsets are positive to the right of it, looking along. Points within "
        f"{setup.thickness / 2:g} {symbol} before and behind the plane belong to a section; its line takes "
        f"{words[setup.take]} within half a step of {step:.3g} {symbol}, gaps stay open.{simple} Surfaces and models "
        "are cut exactly by the plane."
    )


def _draw(outcome: Outcome, found: list[CutSection], sources: Sources) -> None:
    ends = []
    for f in found:
        name = written(f.frame.station, sources.unit)
        title = next(iter(f.lines), "")
        line = f.lines.get(title, np.empty((0, 2)))
        known = line[np.isfinite(line[:, 1])]
        level = float(known[:, 1].mean()) if len(known) else 0.0
        outcome.layers[f"band {name}"] = FoundLine(
            np.column_stack([f.frame.corners(), np.full(4, level)]), "mark", f"Section {name}", closed=True
        )
        for number, run_ in enumerate(_runs(line)):
            outcome.layers[f"line {name} {number}"] = FoundLine(
                f.frame.job(run_[:, 0], run_[:, 1]), "cut", f"Line of {name}"
            )
        ends.append(f.frame.job(np.array([f.frame.width / 2]), np.array([level]))[0])
    if ends:
        outcome.layers["stations"] = FoundLabels(
            np.array(ends), tuple(written(f.frame.station, sources.unit) for f in found), title="Stations"
        )
    outcome.charts = [chart(found, sources)]


def _runs(line: Floats) -> list[Floats]:
    """The parts of a line between its gaps, those of two places and more."""
    known = np.isfinite(line[:, 1])
    parts = np.split(np.arange(len(line)), np.flatnonzero(np.diff(known.astype(np.int8))) + 1)
    return [line[rows] for rows in parts if len(rows) > 1 and known[rows[0]]]


def chart(found: list[CutSection], sources: Sources) -> Sections:
    """All sections as they are drawn in drawer and report."""
    traces = []
    for title in found[0].lines if found else ():
        traces.append(Trace(title, CLOUD_ROLE, _stacked([f.lines[title] for f in found])))
    for title in found[0].cuts if found else ():
        traces.append(Trace(title, SURFACE_ROLE, _stacked([joined_by_gaps(f.cuts[title]) for f in found])))
    shots = [(n, *values[:2]) for n, f in enumerate(found) for _, *values in f.shots]
    frames_ = [(f.frame.station, *f.frame.place, f.frame.azimuth, f.frame.width, f.frame.thickness) for f in found]
    return Sections(
        "Cross-sections", tuple(written(f.frame.station, sources.unit) for f in found), np.array(frames_, float).reshape(-1, 6),
        tuple(traces), _stacked([f.sample for f in found]), np.array(shots, float).reshape(-1, 3),
        tuple(name for f in found for name, *_ in f.shots),
    )  # fmt: skip


def _stacked(lines: list[Floats]) -> Floats:
    """Lines (n, 2) of all sections under one another, the number of the section before each place, (m, 3)."""
    rows = [np.column_stack([np.full(len(line), float(n)), line]) for n, line in enumerate(lines) if len(line)]
    return np.concatenate(rows) if rows else np.empty((0, 3))
