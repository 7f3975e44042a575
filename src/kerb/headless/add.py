"""``kerb add JOB FILE...``: make a job folder if there is none and import files into it."""

from __future__ import annotations

import argparse
from pathlib import Path

from kerb.core.errors import InputError
from kerb.core.units import length_unit
from kerb.headless.options import progress_to_terminal
from kerb.job.holdings import ImportWish, added, import_cloud
from kerb.job.job import SUFFIX, Job
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table


def run_add(args: argparse.Namespace) -> Outcome:
    """The verb ``add``. Raises InputError, JobError; Cancelled."""
    folder = Path(args.job)
    if folder.suffix != SUFFIX:
        raise InputError(f"{folder}: a job folder ends in {SUFFIX}")
    for file in args.files:
        if not Path(file).exists():
            raise InputError(f"{file}: no such file")
    job = Job.open(folder) if folder.exists() else Job.create(folder)
    progress = progress_to_terminal()
    outcome = Outcome("add", job.state.title.unit, "", {}, {"job": str(folder)})
    rows = []
    unit = length_unit(args.unit_in) if args.unit_in else None
    for number, file in enumerate(args.files):
        share = progress.within(number / len(args.files), (number + 1) / len(args.files))
        holding = import_cloud(folder, job.state, ImportWish(Path(file), unit, args.epoch, args.partial), share)
        job.execute(added(job, holding))
        job.save()
        low, high = job.store(holding).bounds
        rows.append((holding.name, holding.points, *low.tolist(), *high.tolist()))
        outcome.inputs.append(Input("file", file, holding.points, holding.points))
        outcome.warnings += [Note(*note) for note in holding.notes]
    reference = job.state.title.reference_system()
    outcome.unit, outcome.crs = job.state.title.unit, reference.code or reference.name
    code = outcome.unit
    bounds = tuple(Column(f"{end}_{axis}", code) for end in ("low", "high") for axis in "enz")
    outcome.tables["holdings"] = Table("Holdings", (Column("name"), Column("count"), *bounds), tuple(rows))
    outcome.figures["count"] = Figure(sum(row[1] for row in rows), "", "Points added")
    return outcome


def text(outcome: Outcome) -> str:
    """What was added, as text."""
    lines = [f"{row[0]}: {row[1]} points" for row in outcome.tables["holdings"].rows]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])
