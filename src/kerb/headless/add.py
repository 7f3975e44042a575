"""``kerb add JOB FILE...``: make a job folder if there is none and bring files into it, whatever they hold."""

from __future__ import annotations

import argparse
import shutil
from dataclasses import replace
from pathlib import Path

from kerb.core.cloud.sieve import MOST_EVERY, Sieve
from kerb.core.dates import date_of
from kerb.core.errors import InputError
from kerb.core.progress import Progress
from kerb.core.reference import from_text
from kerb.core.space import refusal
from kerb.core.units import length_unit
from kerb.formats.recognise import examine
from kerb.headless.options import progress_to_terminal
from kerb.job import site
from kerb.job.holdings import ImportWish, added, check_place, default_placing, import_file, stated
from kerb.job.job import SUFFIX, Job
from kerb.job.lock import FolderLock, held_by
from kerb.job.state import Holding, JobState, Title
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table

ANSWERS = "--crs or --unit-in say what its numbers are, --exchange exchanges easting and northing"


def run_add(args: argparse.Namespace) -> Outcome:
    """The verb ``add``. Raises InputError, JobError; Cancelled."""
    folder = Path(args.job)
    if folder.suffix != SUFFIX:
        raise InputError(f"{folder}: a job folder ends in {SUFFIX}")
    for file in args.files:
        if not Path(file).exists():
            raise InputError(f"{file}: no such file")
    wish = _wish(args)
    lock = FolderLock()
    made = _folder_made(folder)
    if not lock.take(folder):
        raise InputError(f"{folder}: is open in {held_by(folder)}; close it there first")
    try:
        if Job.has_recovery(folder):
            raise InputError(
                f"{folder}: has changes that were not saved; open it in the window, where they are offered"
            )
        if not (folder / "job.json").exists():
            return _add_to_new(args, wish, folder, made)
        job = Job.open(folder)
        job.autosaves = False
        job.sweep()
        return _whole(args, wish, job)
    finally:
        lock.release()


def _folder_made(folder: Path) -> bool:
    """Whether the folder is made here: who makes it takes its lock before anyone else looks into it."""
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.mkdir()
    except FileExistsError:
        return False
    except OSError as error:
        raise InputError(refusal(error, folder)) from None
    return True


def _add_to_new(args: argparse.Namespace, wish: ImportWish, folder: Path, made: bool) -> Outcome:
    """Into a job that is made for it; when not everything comes in, there is none afterwards."""
    try:
        job = Job.create(folder, JobState(Title(folder.stem)))
        job.autosaves = False
        return _whole(args, wish, job)
    except BaseException:
        # The lock is ours, so all that lies in it is ours too.
        if made:
            shutil.rmtree(folder, ignore_errors=True)
        raise


def _whole(args: argparse.Namespace, wish: ImportWish, job: Job) -> Outcome:
    """All files or none: the job is saved when the last one is in; else what came in goes again."""
    before = {holding.id for holding in job.state.holdings}
    try:
        outcome = _add(args, wish, job)
        job.save()
        return outcome
    except BaseException:
        for holding in job.state.holdings:
            if holding.id not in before:
                shutil.rmtree(job.folder / holding.data, ignore_errors=True)
        raise


def _add(args: argparse.Namespace, wish: ImportWish, job: Job) -> Outcome:
    progress = progress_to_terminal()
    outcome = Outcome("add", job.state.title.unit, "", {}, {"job": str(job.folder)})
    rows: list[tuple] = []
    for number, file in enumerate(args.files):
        share = progress.within(number / len(args.files), (number + 1) / len(args.files))
        for holding in _bring(job, replace(wish, path=Path(file)), share, args):
            low, high = job.bounds_of(holding)
            numbers = [None if value != value else value for value in (*low.tolist(), *high.tolist())]
            rows.append((holding.name, holding.kind, holding.points, *numbers))
            outcome.inputs.append(Input("file", file, holding.points, holding.points))
            outcome.warnings += [Note(*note) for note in holding.notes]
    reference = job.state.title.reference_system()
    outcome.unit, outcome.crs = job.state.title.unit, reference.code or reference.name
    code = outcome.unit
    bounds = tuple(Column(f"{end}_{axis}", code) for end in ("low", "high") for axis in "enz")
    columns = (Column("name"), Column("kind"), Column("count"), *bounds)
    outcome.tables["holdings"] = Table("Holdings", columns, tuple(rows))
    outcome.figures["count"] = Figure(sum(row[2] for row in rows), "", "Points and other items added")
    return outcome


def _wish(args: argparse.Namespace) -> ImportWish:
    if not 1 <= args.every <= MOST_EVERY:
        raise InputError(f"--every must be one to {MOST_EVERY}")
    if not 0 <= args.spacing < float("inf"):
        raise InputError("--spacing must be above zero")
    unit = length_unit(args.unit_in) if args.unit_in else None
    source = None
    if args.crs:
        source = replace(from_text(args.crs), certainty="confirmed")
        source = replace(source, vertical_unit=unit or source.vertical_unit)
    return ImportWish(
        Path(), unit, date_of(args.epoch), args.partial, source=source, sieve=Sieve(args.every, args.spacing)
    )


def _bring(job: Job, wish: ImportWish, progress: Progress, args: argparse.Namespace) -> list[Holding]:
    """Bring everything a file offers into the job; of a file that may be a cloud or points, the likelier one.

    Raises InputError, when the place check has an alarm that was neither seen nor answered; nothing of the file stays.
    """
    seen, unit = examine(wish.path), args.unit
    if not job.state.holdings and unit and seen.reference.certainty == "assumed" and wish.unit_in is None:
        wish = replace(wish, unit_in=length_unit(unit))
    offers = seen.offers[:1] if seen.format in ("text",) or seen.format.startswith(("PLY", "GeoTIFF")) else seen.offers
    if args.exchange:
        placing = default_placing(job.state, stated(wish, seen.reference), None)
        wish = replace(wish, placing=replace(placing, swap=True))
    made: list[Holding] = []
    for number, offer in enumerate(offers):
        one = replace(wish, kind=offer.kind, key=offer.key)
        share = progress.within(number / len(offers), (number + 1) / len(offers))
        holding = import_file(job.folder, job.state, one, share)
        alarms = _place_notes(job, holding)
        if alarms and not args.seen:
            shutil.rmtree(job.folder / holding.data, ignore_errors=True)
            words = "; ".join(text for _, text in alarms)
            raise InputError(f"{wish.path}: {words}. Not added: --seen takes it as it is, {ANSWERS}")
        holding = replace(holding, notes=(*holding.notes, *alarms))
        job.execute(added(job, holding))
        made.append(holding)
    return made


def _place_notes(job: Job, holding: Holding) -> list[tuple[str, str]]:
    """What the place check says of a holding that is not yet in the job."""
    new = site.of_holding(job, holding)
    if new is None or not job.state.holdings:
        return []
    return check_place(job, new).alarms


def text(outcome: Outcome) -> str:
    """What was added, as text."""
    lines = [f"{row[0]}: {row[2]} {_words(row[1])}" for row in outcome.tables["holdings"].rows]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])


def _words(kind: str) -> str:
    return {"lines": "lines", "surface": "triangles or cells", "model": "triangles", "picture": "pixels"}.get(
        kind, "points"
    )
