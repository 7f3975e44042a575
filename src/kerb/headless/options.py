"""Options that several verbs share, how inputs are named, and where outcomes go."""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import sys
import tempfile
import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path

from kerb.core.cloud.builder import build
from kerb.core.cloud.layout import PointStream
from kerb.core.cloud.outgoing import OutgoingStream, from_store
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError, OutputError
from kerb.core.placing import same_system, suggested
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem
from kerb.core.space import alive
from kerb.core.things import CLOUD
from kerb.core.units import LENGTH_UNITS, length_unit
from kerb.formats.points import Opening, in_unit, middle_of, open_points, placed, stated_unit
from kerb.formats.written import placed_when_complete
from kerb.job.holdings import HEIGHTS_FOR_ELEVATIONS
from kerb.job.job import SUFFIX, Job
from kerb.job.state import Holding
from kerb.studies.outcome import Note, Outcome


def progress_to_terminal() -> Progress:
    """Progress on standard error, and only when that is a terminal."""
    if not sys.stderr.isatty():
        return Progress()

    def report(fraction: float, sentence: str) -> None:
        sys.stderr.write(f"\r\x1b[K{100 * fraction:3.0f} %  {escaped(sentence)}")
        if fraction >= 1.0:
            sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()

    return Progress(report)


UNIT_HELP = "unit of the numbers in a file that does not say it (default: m)"


class SomeFailed(InputError):
    """Studies could not be computed; the others were. ``outcome`` tells of all."""

    def __init__(self, message: str, outcome: Outcome) -> None:
        super().__init__(message)
        self.outcome = outcome


def class_list(text: str) -> tuple[int, ...]:
    """Class numbers separated by commas. Raises ValueError for anything else."""
    codes = tuple(int(part) for part in text.split(","))
    if any(not 0 <= code <= 255 for code in codes):
        raise ValueError("class numbers are 0 to 255")
    return codes


def add_common(parser: argparse.ArgumentParser, report: bool = False, unit_help: str = UNIT_HELP) -> None:
    """Options every verb has: unit, JSON, overwriting, and a report where one is made."""
    parser.add_argument("--unit", choices=list(LENGTH_UNITS), help=unit_help)
    parser.add_argument("--json", metavar="PATH", help="write the outcome as JSON; '-' for standard output")
    parser.add_argument("--force", action="store_true", help="overwrite output files")
    parser.add_argument(
        "--partial",
        action="store_true",
        help="read the good points of a file that breaks off, with a warning",
    )
    if report:
        parser.add_argument("--report", metavar="FILE.pdf", type=Path, help="write the report as .pdf or .docx")


@contextmanager
def workspace() -> Iterator[Path]:
    """A temporary folder for imported clouds, removed whatever happens."""
    _sweep_workspaces()
    folder = Path(tempfile.mkdtemp(prefix=f"kerb-{os.getpid()}-"))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _sweep_workspaces() -> None:
    """Remove temporary folders of this user whose process was killed; imported clouds take room."""
    for left in Path(tempfile.gettempdir()).glob("kerb-*-*"):
        owner = re.fullmatch(r"kerb-(\d+)-\w+", left.name)
        with suppress(OSError):
            ours = left.stat(follow_symlinks=False).st_uid == os.getuid()
            if owner is not None and ours and not alive(int(owner.group(1))):
                shutil.rmtree(left)


def held_by(text: str) -> tuple[Job, Holding] | None:
    """The job and holding that ``JOB.kerb#name`` names; None for a file. Raises InputError, when there is none of it."""
    folder, _, name = text.partition("#")
    if SUFFIX not in text or not (Path(folder) / "job.json").exists():
        return None
    job = Job.open(Path(folder), Job.has_recovery(Path(folder)))
    holding = job.state.holding(name) if name else (job.state.holdings[0] if len(job.state.holdings) == 1 else None)
    if holding is None:
        names = ", ".join(one.name for one in job.state.holdings)
        raise InputError(f"{text}: name one holding as {Path(folder).name}#NAME; there are: {names}")
    return job, holding


def points_of(text: str, how: Opening) -> PointStream:
    """The points of a file, or of a cloud that a job holds. Raises InputError, FormatError or TruncatedError."""
    held = held_by(text)
    if held is None:
        return open_points(Path(text), how=how)
    job, holding = held
    if holding.kind != CLOUD:
        raise InputError(f"{text}: is no cloud")
    return OutgoingStream(from_store(job.store(holding).snapshot()))


class OpenedCloud:
    """A cloud named on the command line, opened: its store, path and what its file was said to be odd about."""

    def __init__(self, store: CloudStore, path: str, notes: tuple[Note, ...]) -> None:
        self.store, self.path, self.notes = store, path, notes


def open_cloud(
    text: str, folder: Path, args: argparse.Namespace, progress: Progress, beside: ReferenceSystem | None = None
) -> OpenedCloud:
    """Open a file, or a holding as ``JOB.kerb#name``; bring it to the unit and system of the cloud it stands ``beside``.

    Raises
    ------
    InputError naming the file and the reason; Cancelled.
    """
    if SUFFIX in text and (Path(text.partition("#")[0]) / "job.json").exists():
        return _from_job(text, beside)
    path = Path(text)
    stream = open_points(path, partial=args.partial)
    if args.unit and stream.layout.reference.certainty == "assumed":
        stream = stated_unit(stream, length_unit(args.unit))
    own = stream.layout.reference
    if beside is not None:
        stream = placed(stream, suggested(own, beside, beside.unit, middle_of(stream)))
    elif own.unit != own.vertical_unit:
        stream = in_unit(stream, own.unit)
    store = build(stream, folder / f"cloud-{len(list(folder.iterdir()))}", progress)
    # crs-missing and unit-conflict are judged by the study itself, from the store.
    notes = tuple(Note(*note) for note in stream.warnings if note[0] not in ("crs-missing", "unit-conflict"))
    if store.flat:
        notes = (*notes, Note("heights-for-elevations", HEIGHTS_FOR_ELEVATIONS))
    return OpenedCloud(store, text, notes)


def _from_job(text: str, beside: ReferenceSystem | None) -> OpenedCloud:
    held = held_by(text)
    assert held is not None
    job, chosen = held
    store = job.store(chosen)
    if beside is not None and store.reference.unit != beside.unit:
        raise InputError(f"{text}: is in {store.reference.unit.plural}, the other cloud in {beside.unit.plural}")
    if beside is not None and store.reference.wkt and beside.wkt and not same_system(store.reference, beside):
        raise InputError(f"{text}: is in {store.reference.name}, the other cloud in {beside.name}")
    return OpenedCloud(store, text, tuple(Note(*note) for note in chosen.notes if note[0] != "crs-missing"))


def check_output(path: Path | None, args: argparse.Namespace, inputs: list[str]) -> None:
    """Refuse an output that exists (without ``--force``) or that is one of the inputs, before any work is done.

    Raises
    ------
    OutputError, naming the file.
    """
    if path is None:
        return
    if path.exists() and any(os.path.exists(item) and path.samefile(item) for item in inputs):
        raise OutputError(f"{path}: is an input; inputs are never overwritten")
    if _in_a_job(path):
        raise OutputError(f"{path}: lies in a job folder, where only Kerb's own files are kept")
    if path.exists() and not args.force:
        raise OutputError(f"{path}: exists; not overwritten without --force")
    if not path.absolute().parent.is_dir():
        raise OutputError(f"{path}: the folder does not exist")


def _in_a_job(path: Path) -> bool:
    """Whether a file would lie in a job folder, whichever way it is named."""
    real = path.resolve()
    return any(folder.suffix == SUFFIX and (folder / "job.json").exists() for folder in real.parents)


# Options and places that name files which are written; everything else that is there is an input.
OUTPUTS = ("json", "report", "out", "flat", "output", "matrix_out")


def check_paths(args: argparse.Namespace) -> None:
    """Refuse two outputs at one place, and a place for the JSON that exists (without ``--force``) or is an input.

    Raises OutputError, naming the file, before any work is done.
    """
    outputs = [Path(str(value)) for name in OUTPUTS if (value := getattr(args, name, None)) and str(value) != "-"]
    for path in outputs:
        if sum(path.absolute() == other.absolute() for other in outputs) > 1:
            raise OutputError(f"{path}: is named as more than one output")
    given = getattr(args, "json", None)
    if not given or given == "-":
        return
    named: list[str] = []
    for name, value in vars(args).items():
        if name not in OUTPUTS:
            several = value if isinstance(value, (list, tuple)) else [value]
            named += [str(item).partition("#")[0] for item in several if isinstance(item, (str, Path)) and str(item)]
    check_output(Path(given), argparse.Namespace(force=getattr(args, "force", False)), named)


# Control and format characters, halves of pairs, and ends of lines and paragraphs (Unicode general categories).
COMMANDS = ("Cc", "Cf", "Cs", "Zl", "Zp")


def escaped(text: str) -> str:
    """A text with control characters shown: names of files and points may hold anything, and a terminal obeys some."""
    return "".join(
        c.encode("unicode_escape", "backslashreplace").decode() if unicodedata.category(c) in COMMANDS else c
        for c in text
    )


def printable(outcome: Outcome) -> Outcome:
    """The outcome with all its texts :func:`escaped`, so that each stays in its line."""
    tables = {}
    for name, table in outcome.tables.items():
        rows = tuple(tuple(escaped(cell) if isinstance(cell, str) else cell for cell in row) for row in table.rows)
        tables[name] = replace(table, rows=rows)
    return replace(
        outcome,
        tables=tables,
        inputs=[replace(item, path=escaped(item.path), detail=escaped(item.detail)) for item in outcome.inputs],
        warnings=[replace(note, text=escaped(note.text)) for note in outcome.warnings],
        settings={key: escaped(value) if isinstance(value, str) else value for key, value in outcome.settings.items()},
        figures={key: replace(figure, note=escaped(figure.note)) for key, figure in outcome.figures.items()},
        crs=escaped(outcome.crs),
    )


def say(text: str) -> None:
    """Write to standard output; letters that the locale does not have become question marks. Raises OutputError."""
    try:
        with suppress(AttributeError, ValueError):
            sys.stdout.reconfigure(errors="replace")  # type: ignore[union-attr]
        sys.stdout.write(text)
        sys.stdout.flush()
    except BrokenPipeError:
        raise
    except OSError as error:
        # What is left in the buffer cannot be written either, and must not be tried again at the end.
        with suppress(OSError, ValueError, AttributeError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise OutputError(f"standard output: {error.strerror or error}") from None


def write_json(outcome: Outcome, args: argparse.Namespace) -> None:
    """Write the outcome where ``--json`` says. Raises OutputError."""
    if args.json is None:
        return
    text = json.dumps(outcome.to_json(), indent=1, allow_nan=False, default=_plain) + "\n"
    if args.json == "-":
        say(text)
        return
    with placed_when_complete(Path(args.json)) as partial:
        partial.write_text(text, encoding="utf-8")


def _plain(value: object) -> object:
    return value.item() if hasattr(value, "item") else str(value)
