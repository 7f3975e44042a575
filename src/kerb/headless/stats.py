"""``kerb stats CLOUD --areas POLYS``: what the points inside each area look like, as a table and as fields."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from kerb.core.cloud.filters import to_json
from kerb.core.cloud.statistics import changes, dated, of_areas, unit_of
from kerb.core.errors import InputError
from kerb.core.quantity import first_of
from kerb.core.reference import ReferenceSystem
from kerb.formats.areas import Areas, check_areas_output, read_areas, write_areas
from kerb.headless.choosing import add_only, chosen
from kerb.headless.options import add_common, check_output, open_cloud, progress_to_terminal, workspace
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table


def add_options(parser: argparse.ArgumentParser) -> None:
    """Options of the verb."""
    parser.add_argument("cloud", metavar="CLOUD", help="a cloud file, or JOB.kerb#holding")
    parser.add_argument("--areas", required=True, type=Path, metavar="POLYS", help="polygons in the cloud's system")
    parser.add_argument("--out", type=Path, help="the areas with the figures as fields: .geojson or .gpkg")
    parser.add_argument(
        "--epoch", default="", metavar="DATE",
        help="also write the fields as NAME_DATE, so that those of other epochs stay beside them",
    )  # fmt: skip
    add_only(parser)
    add_common(parser)


def run_stats(args: argparse.Namespace) -> Outcome:
    """The verb ``stats``. Raises InputError or OutputError; Cancelled."""
    check_output(args.out, args, [args.cloud.partition("#")[0], str(args.areas)])
    if args.out is not None:
        check_areas_output(args.out)
    if args.epoch and not re.fullmatch(r"[\w-]+", args.epoch):
        raise InputError(f"--epoch {args.epoch}: letters, digits and hyphens only")
    areas = read_areas(args.areas)
    progress = progress_to_terminal()
    with workspace() as folder:
        cloud = open_cloud(args.cloud, folder, args, progress.within(0.0, 0.6))
        store = cloud.store
        among = chosen(store, args.only, args.cloud, progress.within(0.6, 0.65)) if args.only else store.in_use()
        values = of_areas(store, areas.shapes, progress.within(0.65, 1.0), among)
    used = sum(int(number or 0) for number in values["count"])
    reference = store.reference
    unit = reference.unit.code
    columns = (Column("name"), *(Column(name, unit_of(name, unit)) for name in values))
    table = tuple(zip(areas.names, *values.values(), strict=True))
    settings = {
        "areas": str(args.areas), "out": str(args.out or ""), "epoch": args.epoch, "only": to_json(tuple(args.only)),
    }  # fmt: skip
    outcome = Outcome("stats", unit, reference.code or reference.name, {}, settings)
    outcome.inputs = [
        Input("cloud", args.cloud, store.count, used),
        Input("areas", str(args.areas), len(areas.names), len(areas.names)),
    ]
    outcome.figures = {
        "areas": Figure(len(areas.names), "", "Areas"),
        "count": Figure(used, "", "Points inside, noise left out"),
    }
    outcome.tables = {"areas": Table("Areas", columns, table)}
    outcome.warnings = [*cloud.notes, *_notes(areas, values["count"], reference)]
    if args.out is not None:
        added = values | dated(values, args.epoch)
        added |= changes({**areas.fields, **added}, values, args.epoch)
        outcome.warnings += [Note(*note) for note in write_areas(areas, added, args.out, reference)]
    return outcome


def _notes(areas: Areas, counts: list, reference: ReferenceSystem) -> list[Note]:
    notes = []
    empty = [name for name, count in zip(areas.names, counts, strict=True) if not count]
    if empty:
        notes.append(Note("empty-areas", f"{len(empty)} of {len(counts)} areas have no points: {first_of(empty, 5)}"))
    other = areas.reference
    same = other.unit == reference.unit and (other.name == reference.name or other.code == reference.code)
    if other.wkt and reference.wkt and not same:
        words = f"the areas are in {other.sentence}, the cloud in {reference.sentence}"
        notes.append(Note("crs-conflict", f"{words}; the numbers were taken as they are"))
    return notes


def text(outcome: Outcome) -> str:
    """The table with tabs, and warnings."""
    table = outcome.tables["areas"]
    heads = [column.name + (f" ({column.unit})" if column.unit else "") for column in table.columns]
    lines = ["\t".join(heads), *("\t".join(map(_cell, row)) for row in table.rows)]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])


def _cell(value: object) -> str:
    if value is None:
        return ""
    return f"{value:.4f}" if isinstance(value, float) else str(value)
