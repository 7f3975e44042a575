"""``kerb stockpile CLOUD --toe POLY``: the stockpile study without a window."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from kerb.core.errors import InputError
from kerb.core.quantity import quantity
from kerb.formats.polygons import NamedRing, one_polygon
from kerb.headless.options import (
    OpenedCloud,
    add_common,
    check_output,
    open_cloud,
    progress_to_terminal,
    workspace,
)  # fmt: skip
from kerb.job.state import Title
from kerb.report.pdf import Chapter, ReportWish, write_report
from kerb.studies.outcome import Outcome
from kerb.studies.setting import Setting, settings_of
from kerb.studies.stockpile import HeapData, StockpileSetup, run

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
        cloud=args.cloud, toe=tuple(map(tuple, ring.xy.tolist())), classes=args.classes, **values
    )  # fmt: skip
    setup.check()
    progress = progress_to_terminal()
    with workspace() as folder:
        cloud = open_cloud(args.cloud, folder, args, progress.within(0.0, 0.4))
        base: OpenedCloud | None = None
        unit = cloud.store.reference.unit
        if setup.base == "surface":
            base = open_cloud(args.base_surface, folder, args, progress.within(0.4, 0.5), target=unit)
        data = HeapData(
            cloud.store, unit, base.store if base else None, cloud.path, base.path if base else "",
            cloud.notes + (base.notes if base else ()),
        )  # fmt: skip
        outcome = run(setup, data, progress.within(0.5, 1.0))
        if args.report:
            title = Title(name=ring.name or "Stockpile", unit=unit.code, reference=cloud.store.reference.to_json())
            wish = ReportWish(replace(title, name=f"Stockpile report: {Path(args.cloud).stem}"))
            write_report(args.report, [Chapter(ring.name or "Heap", outcome, cloud.store)], wish, args.force)
    return outcome


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
