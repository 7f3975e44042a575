"""``kerb ground`` and ``kerb heights``: classify the ground of a cloud, and the height of every point over it."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray
from kerb.core.cloud.classes import GROUND, KEY_POINTS, NOISE_CLASSES, UNCLASSIFIED
from kerb.core.cloud.ground import TERRAINS, GroundSettings, ground, terrain_of
from kerb.core.cloud.heights import HEIGHT, VEGETATION, banded, heights
from kerb.core.cloud.large import LargeThing
from kerb.core.cloud.layout import Columns
from kerb.core.cloud.outgoing import Outgoing, from_store, with_elevations
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError, NotDeterminable, OutputError
from kerb.core.progress import Progress
from kerb.core.quantity import number, quantity
from kerb.formats.write_things import CLASSED, write_cloud
from kerb.headless.options import add_common, check_output, class_list, open_cloud, progress_to_terminal, workspace
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table

MOST_TOLD = 12


def ground_options(parser: argparse.ArgumentParser) -> None:
    """Options of the verb ``ground``."""
    parser.add_argument("cloud", metavar="CLOUD", help="a cloud file, or JOB.kerb#holding")
    parser.add_argument("--out", required=True, type=Path, help="the classified cloud, .las or .laz")
    kinds = "; ".join(f"{name}: {kind.title.lower()}" for name, kind in TERRAINS.items())
    parser.add_argument("--terrain", choices=list(TERRAINS), help=f"{kinds} (default: what the cloud is most like)")
    parser.add_argument("--slope", type=float, help="steepest ground, rise over run (default: by terrain)")
    parser.add_argument("--step", type=float, help="height over the ground's surface that is still ground, in job unit")
    parser.add_argument("--object-size", type=float, help="width of the largest thing to remove, in job unit")
    parser.add_argument("--cell", type=float, help="width of the cells whose lowest points count, in job unit")
    parser.add_argument(
        "--turn", type=_place, action="append", default=[], metavar="E,N",
        help="a place on a large thing that is to be taken for the opposite of what its edge says; any number",
    )  # fmt: skip
    add_common(parser)


def _place(text: str) -> tuple[float, float]:
    east, north = (float(part) for part in text.split(","))
    if not (math.isfinite(east) and math.isfinite(north)):
        raise ValueError("an easting and a northing")
    return east, north


def heights_options(parser: argparse.ArgumentParser) -> None:
    """Options of the verb ``heights``."""
    parser.add_argument("cloud", metavar="CLOUD", help="a cloud file with ground classes, or JOB.kerb#holding")
    parser.add_argument("--out", required=True, type=Path, help="the cloud with the added dimension, .las or .laz")
    parser.add_argument("--ground-classes", type=class_list, default=(2,), help="classes of the ground (default: 2)")
    parser.add_argument(
        "--bands", type=_limits,
        help="three heights in job unit, such as 0.1,0.5,2: between them points that are neither ground, building nor "
        "noise become low, medium and high vegetation (classes 3, 4, 5)",
    )  # fmt: skip
    parser.add_argument(
        "--as-elevations", action="store_true",
        help="write the heights in place of the elevations, which are kept as the dimension 'elevation'",
    )  # fmt: skip
    add_common(parser)


def _limits(text: str) -> tuple[float, float, float]:
    low, medium, high = (float(part) for part in text.split(","))
    if not 0 <= low < medium < high < float("inf"):
        raise ValueError("three rising heights")
    return low, medium, high


def run_ground(args: argparse.Namespace) -> Outcome:
    """The verb ``ground``. Raises InputError or OutputError; Cancelled."""
    _check_out(args)
    progress = progress_to_terminal()
    with workspace() as folder:
        cloud = open_cloud(args.cloud, folder, args, progress.within(0.0, 0.4))
        store = cloud.store
        terrain = args.terrain or terrain_of(store)
        settings = GroundSettings.usual(terrain, store)
        given = {name: getattr(args, name) for name in ("slope", "step", "object_size", "cell")}
        settings = replace(settings, **{name: value for name, value in given.items() if value is not None})
        settings = replace(settings, turned=tuple(args.turn))
        told: list[LargeThing] = []
        classes = _named(args.cloud, lambda: ground(store, settings, progress.within(0.4, 0.8), told=told))
        outcome = _outcome("ground", store, {"terrain": terrain, **vars(settings), "out": str(args.out)})
        _write(from_store(store, made={"classification": classes}), args.out, outcome, progress.within(0.8, 1.0))
        counted = classes[store.in_use()]
        outcome.inputs = [Input("cloud", args.cloud, store.count, len(counted))]
    outcome.figures = {
        "ground": Figure(int((counted == GROUND).sum()), "", "Ground (class 2)"),
        "other": Figure(int((counted == UNCLASSIFIED).sum()), "", "Other (class 1)"),
        "noise": Figure(int(np.isin(counted, NOISE_CLASSES).sum()), "", "Noise, left as it was (classes 7 and 18)"),
    }
    if args.terrain is None:
        outcome.warnings.append(
            Note("terrain", f"taken for {TERRAINS[terrain].title.lower()}; --terrain says otherwise")
        )
    unit = store.reference.unit
    told.sort(key=lambda thing: -thing.length * thing.width)
    for thing in told[:MOST_TOLD]:
        east, north = thing.middle
        words = f"{thing.words(unit.symbol)}; --turn {east:.1f},{north:.1f} takes it for the opposite"
        outcome.warnings.append(Note("large", words))
    if len(told) > MOST_TOLD:
        outcome.warnings.append(Note("large", f"and {len(told) - MOST_TOLD} smaller ones"))
    columns = (Column("e", unit.code), Column("n", unit.code), Column("length", unit.code), Column("width", unit.code),
               Column("height", store.reference.vertical_unit.code), Column("stepped", ""), Column("ground", ""))  # fmt: skip
    rows = tuple((*t.middle, t.length, t.width, t.height, t.stepped, int(t.ground)) for t in told)
    outcome.tables["large"] = Table("Large things, judged by their edges", columns, rows)
    outcome.warnings += cloud.notes
    return outcome


def run_heights(args: argparse.Namespace) -> Outcome:
    """The verb ``heights``. Raises InputError or OutputError; Cancelled."""
    _check_out(args)
    progress = progress_to_terminal()
    with workspace() as folder:
        cloud = open_cloud(args.cloud, folder, args, progress.within(0.0, 0.3))
        store = cloud.store
        if store.flat:
            raise InputError(f"{args.cloud}: holds heights in place of elevations already; once is enough")
        over = _named(args.cloud, lambda: heights(store, args.ground_classes, progress.within(0.3, 0.8)))
        classes = np.asarray(store.column("classification"))
        settings = {"ground_classes": list(args.ground_classes), "bands": args.bands, "out": str(args.out)}
        outcome = _outcome("heights", store, {**settings, "as_elevations": args.as_elevations})
        unit = store.reference.vertical_unit.code
        made: Columns = {HEIGHT: over.astype(np.float32)}
        if args.bands:
            made["classification"] = banded(classes, over, args.bands)
            _count_bands(outcome, made["classification"][store.in_use()], classes[store.in_use()])
        outgoing = from_store(store, made=made, units={HEIGHT: unit})
        if args.as_elevations:
            outgoing = _flat(outgoing, args.cloud)
        _write(outgoing, args.out, outcome, progress.within(0.8, 1.0))
        counted = store.in_use()
        classes, over = classes[counted], over[counted]
    is_ground = np.isin(classes, args.ground_classes)
    known = np.isfinite(over)
    outcome.inputs = [Input("cloud", args.cloud, store.count, int(known.sum()))]
    outcome.figures = {
        "ground": Figure(int(is_ground.sum()), "", "Ground points"),
        "other": Figure(int((~is_ground).sum()), "", "Other points"),
        "min": Figure(float(np.nanmin(over)), unit, "Lowest height above ground"),
        "max": Figure(float(np.nanmax(over)), unit, "Highest height above ground"),
    }
    outcome.warnings += [*cloud.notes, *_height_notes(args, classes, known)]
    return outcome


def _height_notes(args: argparse.Namespace, classes: np.ndarray, known: np.ndarray) -> list[Note]:
    notes = []
    keys = int((classes == KEY_POINTS).sum())
    if keys and KEY_POINTS not in args.ground_classes:
        words = f"{keys} points of class 8 (key points) were not taken for ground; where 8 is used they belong to it"
        notes.append(Note("key-points", f"{words}: --ground-classes 2,8"))
    outside = int((~known).sum())
    if outside:
        gone = "were left out" if args.as_elevations else "have no height (NaN)"
        notes.append(Note("outside-ground", f"{outside} points lie outside the outline of the ground and {gone}"))
    return notes


def _count_bands(outcome: Outcome, after: np.ndarray, before: np.ndarray) -> None:
    rows = tuple(
        (name, code, int((after == code).sum()), int((before == code).sum()))
        for name, code in zip(("low", "medium", "high"), VEGETATION, strict=True)
    )
    columns = (Column("band"), Column("class"), Column("count"), Column("count_before"))
    outcome.tables["bands"] = Table("Height bands", columns, rows)


def _flat(outgoing: Outgoing, name: str) -> Outgoing:
    try:
        return with_elevations(outgoing, HEIGHT)
    except ValueError as error:
        raise InputError(f"{name}: {error}") from None


def _check_out(args: argparse.Namespace) -> None:
    check_output(args.out, args, [args.cloud.partition("#")[0]])
    if args.out.suffix.lower() not in CLASSED:
        raise OutputError(f"{args.out}: classes and added dimensions are kept by .las and .laz")


def _named(name: str, work: Callable[[], AnyArray]) -> AnyArray:
    """Do the work; what cannot be determined names the file."""
    try:
        return work()
    except (NotDeterminable, InputError) as error:
        raise InputError(f"{name}: {error}") from None


def _write(outgoing: Outgoing, path: Path, outcome: Outcome, progress: Progress) -> None:
    _, notes = write_cloud(outgoing, path, progress)
    outcome.warnings += [Note(*note) for note in notes]


def _outcome(verb: str, store: CloudStore, settings: dict) -> Outcome:
    reference = store.reference
    return Outcome(verb, reference.unit.code, reference.code or reference.name, {}, settings)


def _shown(figure: Figure) -> str:
    return quantity(figure.value, figure.unit) if figure.unit else number(figure.value, 0)


def text(outcome: Outcome) -> str:
    """Figures, bands and warnings as text."""
    lines = [f"{figure.label:44}{_shown(figure):>16}" for figure in outcome.figures.values()]
    for table in outcome.tables.values():
        lines += ["  ".join(map(str, row)) for row in ((column.name for column in table.columns), *table.rows)]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])
