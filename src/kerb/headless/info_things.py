"""What ``kerb info`` says of files that hold no cloud: points, lines, surfaces, models, pictures."""

from __future__ import annotations

from collections import Counter

import numpy as np

from kerb.core.geometry.features import LineSet, SurveyPoints, bounds_of
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.place_check import Site, check
from kerb.core.progress import Progress
from kerb.core.quantity import count, number, symbol
from kerb.core.reference import ReferenceSystem, is_geographic
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, PictureRef, Placed, sample_of
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table


def describe(seen: Examined, progress: Progress) -> Outcome:
    """Figures and tables of everything a file offers. Raises as reading it does."""
    reference = seen.reference
    outcome = Outcome("info", reference.unit.code, reference.code or reference.name, {}, {"format": seen.format})
    notes = dict.fromkeys(map(tuple, seen.notes))
    rows, places, total = [], [], 0
    for number_, offer in enumerate(seen.offers):
        if number_ and offer.kind in [o.kind for o in seen.offers[:number_]] and offer.kind != "surface":
            continue
        share = progress.within(number_ / len(seen.offers), (number_ + 1) / len(seen.offers))
        if offer.kind in ("picture", CLOUD) and number_ > 0:
            # The same again in another form, as the vertices of a mesh are: what it could be, and no more of it.
            rows.append((offer.kind, offer.label, offer.count))
            continue
        item, more = read_offer(seen, offer, Reading(offer.usual if offer.kind == "model" else ()), share)
        notes.update(dict.fromkeys(map(tuple, more)))
        rows.append((offer.kind, offer.label, item.count))
        places.append(np.array(item.bounds))
        total += item.count
        _describe(item, outcome)
        if number_ == 0:
            outcome.warnings += [Note(*alarm) for alarm in check(Site(sample_of(item.thing), reference), None).alarms]
    outcome.figures = {"count": Figure(total, "", "Items"), **_bounds(places, reference), **outcome.figures}
    outcome.inputs = [Input("file", str(seen.path), total, total, reference.sentence)]
    outcome.tables["contents"] = Table("Contents", (Column("kind"), Column("what"), Column("count")), tuple(rows))
    parts = [(offer.kind, name, n) for offer in seen.offers for name, n in offer.parts]
    if parts:
        columns = (Column("kind"), Column("name"), Column("count"))
        outcome.tables["parts"] = Table("Layers and parts", columns, tuple(parts))
    outcome.tables["reference"] = reference_table(reference)
    outcome.warnings = [Note(*note) for note in notes] + outcome.warnings
    return outcome


def describe_item(item: Placed, path: str) -> Outcome:
    """Figures and tables of something that a job holds."""
    reference = item.reference
    outcome = Outcome("info", reference.unit.code, reference.code or reference.name, {}, {"format": "held by a job"})
    _describe(item, outcome)
    bounds = _bounds([np.array(item.bounds)], reference)
    outcome.figures = {"count": Figure(item.count, "", "Items"), **bounds, **outcome.figures}
    outcome.inputs = [Input("file", path, item.count, item.count, reference.sentence)]
    columns = (Column("kind"), Column("what"), Column("count"))
    outcome.tables["contents"] = Table("Contents", columns, ((item.kind, "", item.count),))
    outcome.tables["reference"] = reference_table(reference)
    return outcome


def _describe(item: Placed, outcome: Outcome) -> None:
    thing, unit = item.thing, item.reference.unit
    if isinstance(thing, TriangleMesh):
        _mesh(thing, outcome, unit.code)
    elif isinstance(thing, ElevationGrid):
        outcome.figures["cells"] = Figure(thing.known, "", "Cells with an elevation")
        outcome.figures["cell"] = Figure(thing.cell, unit.code, "Cell size")
        outcome.figures["mean"] = Figure(
            float(np.nanmean(thing.z)), item.reference.vertical_unit.code, "Mean elevation"
        )
    elif isinstance(thing, SurveyPoints):
        outcome.figures["points"] = Figure(thing.count, "", "Survey points")
        flat = int(np.isnan(thing.xyz[:, 2]).sum())
        if flat:
            outcome.warnings.append(Note("no-elevation", f"{flat} points have no elevation"))
        doubles = [name for name, n in Counter(thing.names).items() if n > 1]
        if doubles:
            words = f"{len(doubles)} names stand more than once: {', '.join(doubles[:5])}"
            outcome.warnings.append(Note("duplicate-names", words))
        codes = Counter(code or "(none)" for code in thing.codes)
        table = Table("Codes", (Column("code"), Column("count")), tuple(sorted(codes.items())))
        outcome.tables["codes"] = table
    elif isinstance(thing, LineSet):
        outcome.figures["lines"] = Figure(thing.count, "", "Lines and areas")
        outcome.figures["areas"] = Figure(sum(line.closed for line in thing.lines), "", "Closed ones")
        # Degrees have no length.
        total = None if is_geographic(item.reference) else _length(thing)
        outcome.figures["total_length"] = Figure(total, unit.code, "Total length in plan")
        if thing.alignments:
            outcome.tables["alignments"] = _alignments(thing, unit.code)
    elif isinstance(thing, PictureRef):
        outcome.figures["width"] = Figure(thing.width, "", "Width in pixels")
        outcome.figures["height"] = Figure(thing.height, "", "Height in pixels")
        outcome.figures["pixel"] = Figure(float(np.hypot(thing.affine[0], thing.affine[3])), unit.code, "Pixel size")


def _mesh(mesh: TriangleMesh, outcome: Outcome, unit: str) -> None:
    """Add a mesh to what is said of those before it: of several surfaces all figures are sums."""
    parts = [mesh.part(element) for element in mesh.elements] or [mesh]
    open_parts = sum(not part.closed for part in parts)
    so_far = outcome.figures if "triangles" in outcome.figures else {}
    known = lambda name: (so_far[name].value or 0) if so_far else 0  # noqa: E731
    closed = open_parts == 0 and (not so_far or bool(known("closed")))
    volume = known("volume") + sum(part.volume or 0.0 for part in parts) if closed else None
    outcome.figures["triangles"] = Figure(known("triangles") + len(mesh.triangles), "", "Triangles")
    outcome.figures["closed"] = Figure(closed, "", "Closed")
    outcome.figures["volume"] = Figure(volume, f"{unit}3", "Volume")
    outcome.figures["surface_area"] = Figure(known("surface_area") + mesh.surface_area, f"{unit}2", "Surface area")
    outcome.figures["plan_area"] = Figure(known("plan_area") + mesh.plan_area, f"{unit}2", "Area in plan")
    if open_parts:
        words = (
            f"{open_parts} of {len(parts)} elements do not enclose a body"
            if len(parts) > 1
            else "the mesh is not closed"
        )
        outcome.warnings.append(Note("not-closed", f"{words}, so there is no volume"))
    if len(parts) > 1:
        columns = (Column("name"), Column("kind"), Column("triangles"), Column("volume", f"{unit}3"))
        rows = tuple((e.name, e.kind, e.count, part.volume) for e, part in zip(mesh.elements, parts, strict=True))
        outcome.tables["elements"] = Table("Elements", columns, rows)


def _length(lines: LineSet) -> float:
    total = 0.0
    for line in lines.lines:
        xy = np.vstack([line.xyz, line.xyz[:1]]) if line.closed else line.xyz
        total += float(np.hypot(*np.diff(xy[:, :2], axis=0).T).sum())
    return total


def _alignments(lines: LineSet, unit: str) -> Table:
    columns = (Column("name"), Column("start", unit), Column("end", unit), Column("elements"), Column("profile"))
    rows = [(a.name, a.start_station, a.end_station, len(a.elements), len(a.profile)) for a in lines.alignments]
    return Table("Alignments", columns, tuple(rows))


def _bounds(places: list[np.ndarray], reference: ReferenceSystem) -> dict[str, Figure]:
    low, high = bounds_of(np.concatenate(places)) if places else (np.full(3, np.nan), np.full(3, np.nan))
    return bounds_figures(low, high, reference)


def bounds_figures(low: np.ndarray, high: np.ndarray, reference: ReferenceSystem) -> dict[str, Figure]:
    """Lowest and highest easting, northing and elevation, None where there is none."""
    plan = "deg" if is_geographic(reference) else reference.unit.code
    units = (plan, plan, reference.vertical_unit.code)
    figures = {}
    for end, corner, words in (("low", low, "Lowest"), ("high", high, "Highest")):
        for axis, label, code, value in zip("enz", ("easting", "northing", "elevation"), units, corner, strict=True):
            known = None if np.isnan(value) else float(value)
            figures[f"{end}_{axis}"] = Figure(known, code, f"{words} {label}")
    return figures


def reference_table(reference: ReferenceSystem) -> Table:
    """What is known of the reference system, as rows."""
    rows = (
        ("horizontal", reference.name or "unknown"),
        ("vertical", reference.vertical_name or "unknown"),
        ("code", reference.code),
        ("unit", reference.unit.name),
        ("vertical unit", reference.vertical_unit.name),
        ("certainty", reference.certainty),
    )
    return Table("Reference system", (Column("what"), Column("is")), rows)


def text(outcome: Outcome) -> str:
    """The description as text."""
    lines = [outcome.inputs[0].path, f"  {outcome.settings['format']}", f"  {outcome.inputs[0].detail}"]
    lines += [f"  {row[1]}: {count(int(row[2]))}" for row in outcome.tables["contents"].rows]
    for axis, label in (("e", "Easting"), ("n", "Northing"), ("z", "Elevation")):
        low, high = outcome.figures[f"low_{axis}"], outcome.figures[f"high_{axis}"]
        lines.append(f"  {label:10}{number(low.value, 3)} … {number(high.value, 3)} {symbol(low.unit)}")
    for name, figure in outcome.figures.items():
        if name == "closed":
            lines.append(f"  {figure.label:26}{'yes' if figure.value else 'no':>16}")
        elif name != "count" and not name.startswith(("low_", "high_")):
            places = 0 if figure.unit == "" else 3
            lines.append(f"  {figure.label:26}{number(figure.value, places):>16} {symbol(figure.unit)}".rstrip())
    for row in outcome.tables["parts"].rows if "parts" in outcome.tables else ():
        lines.append(f"  {row[0]:8}{row[1][:40]:40}{count(row[2]):>12}")
    return "\n".join([*lines, *(f"  ! {note.code}: {note.text}" for note in outcome.warnings)])
