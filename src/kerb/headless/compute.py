"""``kerb compute JOB``: recompute what is out of date in a job, and deliver: the month's work in one line."""

from __future__ import annotations

import argparse
from pathlib import Path

from kerb.core.errors import InputError, KerbError
from kerb.headless.options import SomeFailed, check_output, progress_to_terminal
from kerb.job import studies
from kerb.job.job import Job
from kerb.job.lock import FolderLock, held_by
from kerb.job.state import StudyRecord
from kerb.report.deliver import chapters_of
from kerb.report.pdf import ReportWish
from kerb.report.write import write_report
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table
from kerb.studies.registry import study_kind


def add_options(parser: argparse.ArgumentParser) -> None:
    """Options of the verb."""
    parser.add_argument("job", metavar="JOB", help="job folder, NAME.kerb")
    parser.add_argument("--study", action="append", default=[], metavar="NAME", help="only this study; any number")
    parser.add_argument("--all", action="store_true", help="compute studies that are up to date as well")
    parser.add_argument(
        "--report",
        metavar="FILE.pdf",
        type=Path,
        help="write the report of the job as .pdf or .docx",
    )
    parser.add_argument("--json", metavar="PATH", help="write the outcome as JSON; '-' for standard output")
    parser.add_argument("--force", action="store_true", help="overwrite output files")


def run_compute(args: argparse.Namespace) -> Outcome:
    """The verb ``compute``. Raises InputError, OutputError, JobError, SomeFailed; Cancelled."""
    folder = Path(args.job)
    check_output(args.report, args, [])
    lock = FolderLock()
    if not folder.exists():
        raise InputError(f"{folder}: no such job")
    if not lock.take(folder):
        raise InputError(f"{folder}: is open in {held_by(folder)}; close it there first")
    try:
        if Job.has_recovery(folder):
            raise InputError(
                f"{folder}: has changes that were not saved; open it in the window, where they are offered"
            )
        job = Job.open(folder)
        job.autosaves = False
        return _compute(job, args)
    finally:
        lock.release()


def _wanted(job: Job, names: list[str]) -> list[StudyRecord]:
    unknown = [name for name in names if not any(study.name == name for study in job.state.studies)]
    if unknown:
        there = ", ".join(study.name for study in job.state.studies) or "none"
        raise InputError(f"{job.folder}: has no study '{unknown[0]}'; there are: {there}")
    return [study for study in job.state.studies if not names or study.name in names]


def _compute(job: Job, args: argparse.Namespace) -> Outcome:
    progress, wanted = progress_to_terminal(), _wanted(job, args.study)
    title = job.state.title
    reference = title.reference_system()
    outcome = Outcome("compute", title.unit, reference.code or reference.name, {}, {"job": str(job.folder)})
    rows, failed = [], []
    for number, study in enumerate(wanted):
        share = progress.within(number / len(wanted), (number + 1) / len(wanted))
        try:
            done = args.all or not studies.is_fresh(job.state, study)
            if done:
                found, print_ = studies.run_study(job, study, share)
                job.execute(studies.answered(study, found, print_))
                for change in studies.made_holdings(job, study, found):
                    job.execute(change)
            found_ = studies.outcome_of(job, job.state.study(study.id) or study)
            if found_ is None:
                raise InputError("its outcome cannot be read; compute it again with --all")
            outcome.warnings += [Note(note.code, f"{study.name}: {note.text}") for note in found_.warnings]
            kind = study_kind(study.kind)
            figure = found_.figures[kind.headline.name]
            if figure.value is None:
                failed.append(study.name)
            rows.append(
                (study.name, kind.id, "computed" if done else "up to date", figure.value, figure.unit, figure.u95)
            )
        except KerbError as error:
            failed.append(study.name)
            rows.append((study.name, study.kind, f"not computed: {error}", None, "", None))
            outcome.warnings.append(Note("not-computed", f"{study.name}: {error}"))
    job.save()
    columns = ("study", "kind", "state", "value", "unit", "u95")
    outcome.tables["studies"] = Table("Studies", tuple(Column(name) for name in columns), tuple(rows))
    outcome.inputs = [Input("job", str(job.folder), len(job.state.studies), len(wanted))]
    computed = sum(row[2] == "computed" for row in rows)
    outcome.figures = {
        "computed": Figure(computed, "", "Studies computed"),
        "up_to_date": Figure(len(rows) - computed - len(failed), "", "Up to date"),
        "failed": Figure(len(failed), "", "Without a figure"),
    }  # fmt: skip
    if args.report:
        write_report(args.report, chapters_of(job), ReportWish(title), args.force)
    if failed:
        raise SomeFailed(
            f"{job.folder}: {len(failed)} of {len(rows)} studies have no figure: {', '.join(failed)}", outcome
        )
    return outcome


def text(outcome: Outcome) -> str:
    """A line a study."""
    rows = outcome.tables["studies"].rows
    lines = [f"{row[0]}: {'—' if row[3] is None else f'{row[3]:.3f} {row[4]}'}  {row[2]}" for row in rows]
    return "\n".join([*lines, *(f"! {note.text}" for note in outcome.warnings)])
