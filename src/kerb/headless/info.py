"""``kerb info FILE``: what a file holds, and what is odd about it; clouds are read in one pass."""

from __future__ import annotations

import argparse
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats, Ints, Ints32
from kerb.core.cloud.classes import CLASS_NAMES
from kerb.core.cloud.layout import PointStream
from kerb.core.errors import FormatError
from kerb.core.progress import Progress
from kerb.core.quantity import count, number, symbol
from kerb.core.reference import ReferenceSystem, local_grid, outside_area_of_use, unfit
from kerb.core.things import CLOUD
from kerb.core.units import FOOT, METRE, length_unit
from kerb.formats.points import Opening, open_points, stated_unit
from kerb.formats.recognise import examine
from kerb.headless import info_things
from kerb.headless.info_things import bounds_figures, describe, reference_table
from kerb.headless.options import held_by, points_of, progress_to_terminal
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table

CHUNK = 1_000_000
MOST_FOR_DUPLICATES = 100_000_000
FAR_RANGES = 12.0


@dataclass
class Seen:
    """What one pass over the points found."""

    count: int = 0
    classes: Ints = field(default_factory=lambda: np.zeros(256, np.int64))
    returns: Ints = field(default_factory=lambda: np.zeros(16, np.int64))
    xyz: list[Ints32] = field(default_factory=list)
    columns: list[str] = field(default_factory=list)


def info(path: Path, unit: str | None = None, partial: bool = False, progress: Progress | None = None) -> Outcome:
    """Describe any readable file. Raises InputError or FormatError naming the file; Cancelled."""
    progress = progress or Progress()
    held = held_by(str(path))
    if held is not None:
        job, holding = held
        if holding.kind != CLOUD:
            return info_things.describe_item(job.thing(holding), str(path))
        return _of_stream(points_of(str(path), Opening(partial)), path, progress)
    seen_file = examine(path)
    if seen_file.offers[0].kind != CLOUD:
        if unit and seen_file.reference.certainty == "assumed":
            seen_file = replace(seen_file, reference=local_grid(length_unit(unit)))
        return describe(seen_file, progress)
    stream = open_points(path, partial)
    if unit and stream.layout.reference.certainty == "assumed":
        stream = stated_unit(stream, length_unit(unit))
    return _of_stream(stream, path, progress)


def _of_stream(stream: PointStream, path: Path, progress: Progress) -> Outcome:
    seen = _pass_over(stream, progress)
    if not seen.count:
        said = "; ".join(text for _, text in stream.warnings)
        raise FormatError(f"{path}: holds no point that can be read{f' ({said})' if said else ''}")
    xyz = np.concatenate(seen.xyz)
    low = stream.layout.origin + stream.layout.scale * xyz.min(axis=0)
    high = stream.layout.origin + stream.layout.scale * xyz.max(axis=0)
    reference = stream.layout.reference
    outcome = Outcome("info", reference.unit.code, reference.code or reference.name, {}, {"format": _format(stream)})
    outcome.inputs = [Input("file", str(path), stream.count, seen.count, reference.sentence)]
    spacing = _spacing(xyz, stream)
    outcome.figures = {
        "count": Figure(seen.count, "", "Points"),
        "spacing": Figure(spacing, reference.unit.code, "Spacing"),
        **bounds_figures(low, high, reference),
    }
    outcome.tables = _tables(seen, reference)
    outcome.warnings = [Note(*note) for note in stream.warnings]
    outcome.warnings += _oddities(stream, xyz, (low, high))
    words = unfit(reference, low, high) if not reference.wkt else ""
    outcome.warnings += [Note("degrees", words)] if words else []
    return outcome


def _pass_over(stream: PointStream, progress: Progress) -> Seen:
    seen = Seen()
    for records in stream.chunks(CHUNK):
        progress.step(seen.count / max(stream.count, 1), "Reading points")
        columns = stream.layout.split(records)
        seen.columns = list(columns)
        seen.count += len(records)
        seen.xyz.append(np.ascontiguousarray(records["xyz"]))
        if "classification" in columns:
            seen.classes += np.bincount(columns["classification"], minlength=256)[:256]
        if "return_number" in columns and columns["return_number"].dtype.kind == "u":
            seen.returns += np.bincount(columns["return_number"], minlength=16)[:16]
    return seen


def _format(stream: PointStream) -> str:
    details = stream.layout.details
    version = details.get("las_version")
    kind = stream.layout.source_format
    return f"{kind} {version}, point format {details['point_format']}" if version else kind


def _tables(seen: Seen, reference: ReferenceSystem) -> dict[str, Table]:
    classes = tuple((code, CLASS_NAMES.get(code, f"Class {code}"), int(n)) for code, n in enumerate(seen.classes) if n)
    returns = tuple((number_, int(n)) for number_, n in enumerate(seen.returns) if n)
    return {
        "classes": Table("Classes", (Column("class"), Column("name"), Column("count")), classes),
        "returns": Table("Returns", (Column("return"), Column("count")), returns),
        "reference": reference_table(reference),
        "dimensions": Table("Dimensions", (Column("name"),), tuple((name,) for name in seen.columns)),
    }


def _spacing(xyz: Ints32, stream: PointStream) -> float:
    """Spacing from the plan area that the points touch, in cells of about sixteen points."""
    plan = (xyz[:, :2] - xyz[:, :2].min(axis=0).astype(np.int64)) * stream.layout.scale[:2]
    size = np.maximum(np.ptp(plan, axis=0), 1e-9)
    area = float(size.prod())
    for _ in range(3):
        cell = 4 * np.sqrt(area / len(plan))
        keys = np.floor(plan / cell).astype(np.int64)
        area = len(np.unique(keys[:, 0] * 4_000_037 + keys[:, 1])) * cell**2
    return float(np.sqrt(area / len(plan)))


def _oddities(stream: PointStream, xyz: Ints32, box: tuple[Floats, Floats]) -> list[Note]:
    notes = []
    details = stream.layout.details
    if "stated_low" in details:
        off = max(
            float(np.abs(np.array(details[f"stated_{end}"]) - corner).max())
            for end, corner in (("low", box[0]), ("high", box[1]))
        )
        if not off <= 2 * float(np.abs(stream.layout.scale).max()):
            notes.append(Note("header-bounds", f"the header's bounds are off by up to {off:.3g} from the points read"))
    far = _far_points(xyz)
    if far:
        notes.append(Note("far-points", f"{far} points lie far away from all others"))
    doubles = _duplicates(xyz)
    if doubles is None:
        notes.append(Note("duplicates-unchecked", "too many points to look for duplicates in one go"))
    elif doubles:
        notes.append(Note("duplicate-points", f"{doubles} points have the same coordinates as another"))
    return notes + _place_notes(stream.layout.reference, (box[0] + box[1]) / 2)


def _far_points(xyz: Ints32) -> int:
    step = max(1, len(xyz) // 500_000)
    some = xyz[::step].astype(np.int64)
    low, high = np.percentile(some, [2, 98], axis=0)
    reach = FAR_RANGES * np.maximum((high - low).max(), 1)
    return int(np.any((xyz < low - reach) | (xyz > high + reach), axis=1).sum())


def _duplicates(xyz: Ints32) -> int | None:
    if len(xyz) > MOST_FOR_DUPLICATES:
        return None
    key = np.ascontiguousarray(xyz).view(np.dtype((np.void, 12))).ravel()
    low = xyz.min(axis=0).astype(np.int64)
    size = xyz.max(axis=0).astype(np.int64) - low + 1
    if float(size[0]) * float(size[1]) * float(size[2]) < 2**63:
        offset = xyz - low
        key = (offset[:, 0] * size[1] + offset[:, 1]) * size[2] + offset[:, 2]
    ordered = np.sort(key)
    return int(np.count_nonzero(ordered[1:] == ordered[:-1]))


def _place_notes(reference: ReferenceSystem, middle: Floats) -> list[Note]:
    """Whether the coordinates fit the system's area of use, or would in another unit."""
    outside = outside_area_of_use(reference, float(middle[0]), float(middle[1]))
    if not outside:
        return []
    for unit in (METRE, FOOT):
        factor = unit.metres / reference.unit.metres
        if factor != 1.0 and outside_area_of_use(reference, middle[0] * factor, middle[1] * factor) is False:
            text = f"the system is in {reference.unit.plural}, but the coordinates fit its area only as {unit.plural}"
            return [Note("unit-conflict", text)]
    return [Note("outside-area", f"the coordinates lie outside the area of use of {reference.name}")]


def run_info(args: argparse.Namespace) -> Outcome:
    """The verb ``info``."""
    return info(args.file, args.unit, args.partial, progress_to_terminal())


def text(outcome: Outcome) -> str:
    """The description as text."""
    if "contents" in outcome.tables:
        return info_things.text(outcome)
    figures = outcome.figures
    lines = [f"{outcome.inputs[0].path}", f"  {outcome.settings['format']}", f"  {outcome.inputs[0].detail}"]
    lines.append(f"  {count(int(figures['count'].value or 0))} points, spacing {number(figures['spacing'].value, 3)}")
    for axis, label in (("e", "Easting"), ("n", "Northing"), ("z", "Elevation")):
        low, high = figures[f"low_{axis}"], figures[f"high_{axis}"]
        lines.append(f"  {label:10}{number(low.value, 3)} … {number(high.value, 3)} {symbol(low.unit)}")
    for code, name, n in outcome.tables["classes"].rows:
        lines.append(f"  class {code:3}  {name:24}{count(n):>12}")
    for which, n in outcome.tables["returns"].rows:
        lines.append(f"  return {which}  {count(n):>12}")
    lines.append(f"  dimensions: {', '.join(row[0] for row in outcome.tables['dimensions'].rows)}")
    lines += [f"  ! {note.code}: {note.text}" for note in outcome.warnings]
    return "\n".join(lines)
