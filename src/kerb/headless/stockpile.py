"""``kerb stockpile CLOUD --toe POLY``: the stockpile study without a window."""

from __future__ import annotations

import argparse
from dataclasses import dataclass, replace
from pathlib import Path

from kerb.core.errors import InputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.placing import suggested
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.reference import ReferenceSystem
from kerb.core.setting import Setting, settings_of
from kerb.core.surface.design import DesignSurface
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import CLOUD, MODEL, SURFACE, relocated
from kerb.formats.polygons import NamedRing, one_polygon
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined, Offer, examine
from kerb.headless.choosing import add_only, chosen
from kerb.headless.options import (
    add_common,
    check_output,
    open_cloud,
    progress_to_terminal,
    workspace,
)  # fmt: skip
from kerb.job.job import SUFFIX, Job
from kerb.job.state import Title
from kerb.job.studies import base_of
from kerb.report.pdf import Chapter, ReportWish, write_report
from kerb.studies.outcome import Note, Outcome
from kerb.studies.stockpile import HeapData, StockpileSetup, run
from kerb.studies.stockpile.heap import BaseSource

NUMBERS = ("level", "cell", "gap_edge", "density", "bias", "toe_error")


def add_options(parser: argparse.ArgumentParser) -> None:
    """Options of the verb, from the described settings of the study."""
    parser.add_argument("cloud", metavar="CLOUD", help="cloud of the top: a LAS or LAZ file, or JOB.kerb#holding")
    parser.add_argument(
        "--toe", required=True, metavar="POLY",
        help="toe line: GeoJSON, GeoPackage, Shapefile, WKT or text with easting, northing; FILE#NAME chooses one",
    )  # fmt: skip
    for name, (about, default) in settings_of(StockpileSetup).items():
        flag = f"--{name.replace('_', '-')}"
        if about.choices:
            choices = [code for code, _ in about.choices]
            parser.add_argument(
                flag, choices=choices, default=default, help=_safe(f"{about.help} (default: {default})")
            )
        elif name in NUMBERS:
            parser.add_argument(flag, type=float, default=default, help=_help(about, default))
        else:
            parser.add_argument(flag, default=default, help=_safe(about.help))
    parser.add_argument("--classes", type=class_list, default=(), help="classes that count (default: all but noise)")
    add_only(parser)
    add_common(parser, report=True)


def class_list(text: str) -> tuple[int, ...]:
    """Class numbers separated by commas. Raises ValueError for anything else."""
    codes = tuple(int(part) for part in text.split(","))
    if any(not 0 <= code <= 255 for code in codes):
        raise ValueError("class numbers are 0 to 255")
    return codes


def run_stockpile(args: argparse.Namespace) -> Outcome:
    """The verb ``stockpile``. Raises InputError or OutputError; Cancelled."""
    named = [args.cloud, args.toe.partition("#")[0], args.base_surface]
    check_output(args.report, args, named)
    ring = _toe(args.toe)
    # A toe with typed elevations would override the ground; a file's elevations are rarely meant so: plan only.
    values = {name: getattr(args, name) for name in settings_of(StockpileSetup)}
    setup = StockpileSetup(
        cloud=args.cloud, toe=tuple(map(tuple, ring.xy.tolist())), classes=args.classes, only=tuple(args.only),
        **values
    )  # fmt: skip
    setup.check()
    progress = progress_to_terminal()
    with workspace() as folder:
        cloud = open_cloud(args.cloud, folder, args, progress.within(0.0, 0.4))
        if setup.part and setup.part not in cloud.store.part_names:
            known = ", ".join(cloud.store.part_names) or "none"
            raise InputError(f"{args.cloud}: has no part '{setup.part}'; there are: {known}")
        if args.only:
            chosen(cloud.store, args.only, args.cloud, Progress())
        base: OpenedBase | None = None
        unit = cloud.store.reference.unit
        if setup.base == "surface":
            base = open_base(args.base_surface, folder, args, progress.within(0.4, 0.5), cloud.store.reference)
        data = HeapData(
            cloud.store, unit, base.source if base else None, cloud.path, base.path if base else "",
            cloud.notes + (base.notes if base else ()),
        )  # fmt: skip
        outcome = run(setup, data, progress.within(0.5, 1.0))
        if args.report:
            title = Title(name=ring.name or "Stockpile", unit=unit.code, reference=cloud.store.reference.to_json())
            wish = ReportWish(replace(title, name=f"Stockpile report: {Path(args.cloud).stem}"))
            write_report(args.report, [Chapter(ring.name or "Heap", outcome, cloud.store)], wish, args.force)
    return outcome


@dataclass(frozen=True)
class OpenedBase:
    """What the heap stands on, as named on the command line."""

    source: BaseSource
    path: str
    notes: tuple[Note, ...] = ()


def open_base(
    text: str, folder: Path, args: argparse.Namespace, progress: Progress, reference: ReferenceSystem
) -> OpenedBase:
    """Open a cloud, or a surface of any readable format, in the system of the top. Raises InputError; Cancelled."""
    path = Path(text)
    if not path.is_file():
        job_folder, _, name = text.partition("#")
        if SUFFIX in text and (Path(job_folder) / "job.json").exists():
            job = Job.open(Path(job_folder))
            holding = job.state.holding(name)
            if holding is not None and holding.kind != CLOUD:
                return OpenedBase(base_of(job, holding), text)
    else:
        seen = examine(path)
        offer = next((o for o in seen.offers if o.kind in (SURFACE, MODEL)), None)
        if offer is not None:
            return _surface_base(seen, offer, progress, reference)
    cloud = open_cloud(text, folder, args, progress, target=reference.unit)
    return OpenedBase(cloud.store, cloud.path, cloud.notes)


def _surface_base(seen: Examined, offer: Offer, progress: Progress, reference: ReferenceSystem) -> OpenedBase:
    item, notes = read_offer(seen, offer, Reading(offer.usual if offer.kind == MODEL else ()), progress)
    placing = suggested(item.reference, reference, reference.unit)
    moved = relocated(item, placing)
    if not isinstance(moved.thing, (TriangleMesh, ElevationGrid)):
        raise InputError(f"{seen.path}: is no surface")
    said = [*notes, ("base-placed", f"base surface: {placing.sentence}")]
    source = DesignSurface.of(moved.thing, moved.reference)
    return OpenedBase(source, str(seen.path), tuple(Note(*note) for note in said))


def text(outcome: Outcome) -> str:
    """Figures and warnings as text."""
    lines = []
    for figure in outcome.figures.values():
        error = f"  ± {quantity(figure.u95, figure.unit)} (95 %)" if figure.u95 is not None else ""
        note = f"  {figure.note}" if figure.note else ""
        lines.append(f"{figure.label:28}{quantity(figure.value, figure.unit):>18}{error}{note}")
    return "\n".join([*lines, *(f"! {note.text}" for note in outcome.warnings)])


def _toe(named: str) -> NamedRing:
    path, _, name = named.partition("#")
    if not path:
        raise InputError("--toe needs a file")
    return one_polygon(Path(path), name)


def _help(about: Setting, default: float | None) -> str:
    unit = {"length": "job unit", "density": "see --density-unit"}.get(about.unit, about.unit)
    shown = about.automatic if default is None and about.automatic else ("none" if default is None else f"{default:g}")
    return _safe(f"{about.help}, in {unit} (default: {shown})")


def _safe(text: str) -> str:
    """Help for argparse, which takes a percent sign for a placeholder."""
    return text.replace("%", "%%")
