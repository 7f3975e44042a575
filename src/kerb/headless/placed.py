"""Areas, lines and surfaces named on the command line, in the system and unit of the cloud they are used with.

They go through the one placing code of the imports; what was done to their numbers is said in a note.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import FormatError, InputError
from kerb.core.geometry.area import Area, ring_of
from kerb.core.geometry.features import Line, LineSet
from kerb.core.placing import AS_IS, LABEL, suggested
from kerb.core.progress import Progress
from kerb.core.quantity import first_of
from kerb.core.reference import ReferenceSystem, is_geographic
from kerb.core.things import LINES, MODEL, POINTS, SURFACE, Placed, relocated
from kerb.core.units import length_unit
from kerb.formats.polygons import read_line, read_polygons
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined, examine
from kerb.formats.text_table import CODE, EASTING, ELEVATION, KEEP, NAME, NORTHING, SKIP, TextPlan
from kerb.studies.outcome import Note

PLAIN = (".txt", ".csv", ".wkt", ".xyz", "")
MOST_NAMES = 10
# Words for the columns of a text file.
COLUMN_WORDS = {
    "e": EASTING, "x": EASTING, "easting": EASTING, "n": NORTHING, "y": NORTHING, "northing": NORTHING, "z": ELEVATION,
    "h": ELEVATION, "elevation": ELEVATION, "height": ELEVATION, "name": NAME, "point": NAME, "id": NAME, "code": CODE,
}  # fmt: skip
# What the placing says in its own words.
QUIET = ("crs-missing", "unit-missing")


@dataclass(frozen=True)
class NamedArea:
    """An area of a file with its name and the fields it came with."""

    name: str
    area: Area
    fields: dict[str, Any]


def areas_of(text: str, reference: ReferenceSystem) -> tuple[list[NamedArea], list[Note]]:
    """The areas of ``FILE`` or the one of ``FILE#NAME``, holes included, in a reference system.

    Raises InputError or FormatError naming the file, when there are none, none of that name or no way to the system.
    """
    path, name = _split(text)
    found, notes = _plain(path, reference) if path.suffix.lower() in PLAIN else _drawn(path, reference)
    if not found:
        raise FormatError(f"{path}: holds no polygon")
    if name:
        named = [item for item in found if item.name == name]
        if not named:
            raise InputError(f"{path}: no polygon is named '{name}'; there are {_names(found)}")
        return named, notes
    return found, notes


def one_area(text: str, reference: ReferenceSystem) -> tuple[NamedArea, list[Note]]:
    """The only area of a file, or the named one. Raises as :func:`areas_of`, and InputError when there are several."""
    found, notes = areas_of(text, reference)
    if len(found) > 1:
        path = text.partition("#")[0]
        raise InputError(f"{path}: holds {len(found)} polygons; choose one as FILE#NAME: {_names(found)}")
    return found[0], notes


def thing_of(
    path: Path, kinds: tuple[str, ...], reference: ReferenceSystem | None, progress: Progress, columns: str = "",
    unit: str = "",
) -> tuple[Placed, list[Note]] | None:  # fmt: skip
    """The first thing of some kinds that a file offers, placed, with notes on it; None where it offers none.

    Without a reference system it stays in its own. ``columns`` says what those of a text file hold: ``name,e,n,z,role``;
    ``unit`` is what its numbers are in where it does not say so itself.

    Raises InputError or FormatError naming the file; Cancelled.
    """
    seen = examine(path)
    offer = next((o for o in seen.offers if o.kind in kinds), None)
    if offer is None:
        return None
    how = Reading(offer.usual if offer.kind == MODEL else (), _plan(seen, columns) if columns else None)
    item, said = read_offer(seen, offer, how, progress)
    if reference is None:
        return item, [Note(code, f"{path.name}: {text}") for code, text in said if code not in QUIET]
    if unit and item.reference.certainty == "assumed":
        own = length_unit(unit)
        item = replace(item, reference=replace(item.reference, unit=own, vertical_unit=own, certainty="confirmed"))
    placing = suggested(item.reference, reference, reference.unit, item.middle)
    notes = [Note(code, f"{path.name}: {text}") for code, text in said if code not in QUIET]
    return relocated(item, placing), [*notes, Note("placed", f"{path.name}: {placing.sentence}")]


def _plan(seen: Examined, columns: str) -> TextPlan:
    """How a text file is read by columns that were named in order. Raises InputError, naming the file."""
    if seen.text is None:
        raise InputError(f"{seen.path}: --columns is about text files only")
    words = [word.strip() for word in columns.split(",")]
    plan = seen.text.plan
    roles = [COLUMN_WORDS.get(word.lower(), SKIP if word in ("", "-") else KEEP) for word in words]
    if len(words) > len(plan.roles):
        raise InputError(f"{seen.path}: has {len(plan.roles)} columns, --columns names {len(words)}")
    rest = len(plan.roles) - len(words)
    headings = (*words, *(f"column {n}" for n in range(len(words) + 1, len(plan.roles) + 1)))
    return replace(plan, roles=(*roles, *([SKIP] * rest)), headings=headings)


def lines_of(path: Path, reference: ReferenceSystem, progress: Progress) -> tuple[Placed, list[Note]] | None:
    """The lines and alignments of a file, placed; None where it offers none.

    Text and WKT name no system: their numbers are the cloud's. Raises as :func:`thing_of`.
    """
    if path.suffix.lower() not in PLAIN:
        return thing_of(path, (LINES,), reference, progress)
    ring = read_line(path)
    z = np.full(len(ring.xy), np.nan) if ring.z is None else ring.z
    line = Line(np.column_stack([ring.xy, z]), False, ring.name)
    return Placed(LINES, LineSet((line,)), reference), []


def _drawn(path: Path, reference: ReferenceSystem) -> tuple[list[NamedArea], list[Note]]:
    seen = examine(path)
    offer = next((o for o in seen.offers if o.kind == LINES), None)
    if offer is None:
        raise FormatError(f"{path}: holds no polygon")
    item, said = read_offer(seen, offer, Reading(), Progress())
    if not isinstance(item.thing, LineSet):
        raise FormatError(f"{path}: holds no polygon")
    placing = suggested(item.reference, reference, reference.unit, item.middle)
    if is_geographic(item.reference) and not reference.wkt:
        raise InputError(f"{path}: is in degrees, and the cloud names no reference system to bring it to")
    moved = relocated(item, placing).thing
    assert isinstance(moved, LineSet)
    notes = [Note(code, f"{path.name}: {text}") for code, text in said if code not in QUIET]
    if placing.how not in (AS_IS, LABEL):
        notes.append(Note("placed", f"{path.name}: {placing.sentence}"))
    return _named(moved), notes


def _named(lines: LineSet) -> list[NamedArea]:
    found = []
    for number, (rows, area) in enumerate(zip(lines.areas(), lines.shapes(), strict=True), 1):
        # One without a name is called by its layer and number.
        name = area.name or f"{lines.lines[rows[0]].layer} {number}".strip()
        fields = {key: values[rows[0]] for key, values in lines.fields.items()}
        found.append(NamedArea(name, Area(area.rings, name), fields))
    return found


def _plain(path: Path, reference: ReferenceSystem) -> tuple[list[NamedArea], list[Note]]:
    """Text and WKT name no system: their numbers are the cloud's."""
    del reference
    rings = read_polygons(path)
    return [NamedArea(ring.name, Area((ring_of(ring.xy), *ring.holes), ring.name), {}) for ring in rings], []


def _names(found: list[NamedArea]) -> str:
    return first_of([item.name for item in found], MOST_NAMES)


def _split(text: str) -> tuple[Path, str]:
    path, _, name = text.partition("#")
    if not path:
        raise InputError("a file is needed")
    if not Path(path).exists():
        raise InputError(f"{path}: no such file")
    return Path(path), name


SURFACES = (SURFACE, MODEL)
KINDS = {"lines": (LINES,), "alignment": (LINES,), "points": (POINTS,), "surface": SURFACES}
