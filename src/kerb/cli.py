"""The command line: verbs, exit codes and messages. CLI words are a published contract."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import NoReturn

from kerb import __version__
from kerb.core.errors import Cancelled, KerbError
from kerb.core.space import refusal
from kerb.core.units import FILE_UNITS
from kerb.headless import options
from kerb.headless.options import SomeFailed, escaped, printable
from kerb.studies.outcome import Outcome

STANDARD_ERROR = 2
DONE, FAULT, UNUSABLE, INTERRUPTED = 0, 1, 2, 130


@dataclass(frozen=True)
class Verb:
    """A verb: its options, what it runs, and how its outcome reads as text."""

    options: Callable[[argparse.ArgumentParser], None]
    run: Callable[[argparse.Namespace], Outcome]
    text: Callable[[Outcome], str]


def _info_options(parser: argparse.ArgumentParser) -> None:
    from pathlib import Path

    parser.add_argument("file", type=Path, metavar="FILE", help="any file that Kerb reads")
    options.add_common(parser)


def _convert_options(parser: argparse.ArgumentParser) -> None:
    from kerb.core.cloud.thinning import WAYS
    from kerb.headless import choosing

    parser.add_argument("files", nargs="+", metavar="IN... OUT", help="input files, then the output file")
    parser.add_argument("--every", type=int, default=1, help="keep every N-th point (default: 1)")
    parser.add_argument(
        "--spacing",
        type=float,
        default=0.0,
        help="keep one point in each cube of this size, in the input's unit (default: 0, all)",
    )
    parser.add_argument(
        "--thin", choices=[way for way, _ in WAYS],
        help="which points stay: by --spacing, in the output's unit, by --every, or --count at random",
    )  # fmt: skip
    parser.add_argument("--count", type=int, default=100_000, help="points that stay with --thin random")
    parser.add_argument(
        "--without", type=choosing.searches, default=(), metavar="LIST",
        help=f"leave out what is found: {', '.join(choosing.LEFT_OUT)}, separated by commas; settings that are not the "
        "usual ones as low:drop=0.3:cell=2",
    )  # fmt: skip
    choosing.add_only(parser)
    parser.add_argument("--classes", type=options.class_list, default=(), help="keep these classes, such as 2,8")
    parser.add_argument("--within", metavar="POLY", help="keep points inside this polygon")
    parser.add_argument("--unit-in", choices=list(FILE_UNITS), help="what unit the numbers are in")
    parser.add_argument("--crs", metavar="EPSG:n", help="what reference system the numbers are in")
    parser.add_argument("--to-crs", metavar="EPSG:n", help="transform to this reference system")
    options.add_common(parser, unit_help="unit that the numbers shall be in (default: as they are)")


def _add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("job", metavar="JOB", help="job folder, NAME.kerb")
    parser.add_argument("files", nargs="+", metavar="FILE", help="files to import")
    parser.add_argument("--unit-in", choices=list(FILE_UNITS), help="what unit the numbers are in")
    parser.add_argument("--crs", metavar="EPSG:n", help="what reference system the numbers are in")
    parser.add_argument("--every", type=int, default=1, help="keep every N-th point (default: 1)")
    parser.add_argument(
        "--spacing", type=float, default=0.0, help="keep one point in each cube of this size, in the job unit"
    )
    parser.add_argument("--epoch", default="", metavar="DATE", help="date of the survey")
    parser.add_argument("--seen", action="store_true", help="take files although the place check has an alarm")
    parser.add_argument("--exchange", action="store_true", help="exchange easting and northing")
    options.add_common(parser)


def _convert_text(outcome: Outcome) -> str:
    figures = outcome.figures
    lines = [f"{figures['count_out'].value} of {figures['count_in'].value} to {outcome.settings['out']}"]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])


# What each verb of files and jobs is for; each kind of study is a verb as well.
VERBS = {
    "add": "import files into a job folder",
    "info": "what a file holds and what is odd about it",
    "convert": "any readable file to any writable one of its kind, filtered",
    "ground": "find the ground of a cloud and classify it",
    "heights": "height of every point above the ground",
    "stats": "what the points inside each area look like",
    "shift": "move a cloud by a stated amount",
    "compute": "recompute what is out of date in a job, and write its report",
}


def verb_of(name: str) -> Verb:
    """What a verb needs. Only its own modules are loaded, so that ``kerb info`` need not wait for all studies."""
    if name == "add":
        from kerb.headless import add

        return Verb(_add_options, add.run_add, add.text)
    if name == "info":
        from kerb.headless import info

        return Verb(_info_options, info.run_info, info.text)
    if name == "convert":
        from kerb.headless import convert

        return Verb(_convert_options, convert.run_convert, _convert_text)
    if name in ("ground", "heights"):
        from kerb.headless import prepare

        if name == "ground":
            return Verb(prepare.ground_options, prepare.run_ground, prepare.text)
        return Verb(prepare.heights_options, prepare.run_heights, prepare.text)
    if name == "stats":
        from kerb.headless import stats

        return Verb(stats.add_options, stats.run_stats, stats.text)
    if name == "shift":
        from kerb.headless import shift

        return Verb(shift.add_options, shift.run_shift, shift.text)
    if name == "compute":
        from kerb.headless import compute

        return Verb(compute.add_options, compute.run_compute, compute.text)
    from kerb.headless import study
    from kerb.studies.registry import study_kind

    return Verb(study.add_options(study_kind(name)), study.runner(name), study.text)


def verbs(wanted: str = "") -> dict[str, str]:
    """Every verb and what it is for, or the wanted one only: those of files and jobs, and one for each kind of study."""
    from kerb.studies.registry import STUDIES

    if wanted in VERBS:
        return {wanted: VERBS[wanted]}
    kinds = [STUDIES[wanted]] if wanted in STUDIES else STUDIES.values()
    found = {kind.id: f"{kind.title}: {kind.question}" for kind in kinds}
    return found if wanted in STUDIES else VERBS | found


class OneLine(argparse.ArgumentParser):
    """A parser that says in one line what is wrong."""

    def error(self, message: str) -> NoReturn:
        """Say it and leave with the status of what cannot be used."""
        self.exit(UNUSABLE, f"{self.prog}: {escaped(message)} (see {self.prog} --help)\n")


def parser(wanted: str = "") -> argparse.ArgumentParser:
    """The parser of the whole command line, or of one verb only."""
    top = OneLine(
        prog="kerb",
        description="Kerb compares point clouds with what they should be. Without a verb the window opens.",
    )
    top.add_argument("--version", action="version", version=f"kerb {__version__}")
    subparsers = top.add_subparsers(dest="verb", metavar="VERB")
    for name, about in verbs(wanted).items():
        sub = subparsers.add_parser(name, help=about, description=about)
        verb_of(name).options(sub)
    opening = subparsers.add_parser("open", help="open a job in the window, or bring files into it")
    opening.add_argument(
        "paths",
        metavar="JOB|FILE",
        nargs="*",
        help="job folder, or files to bring in; without any the window opens empty",
    )
    demo = subparsers.add_parser("demo", help="open the demo job in the window")
    demo.add_argument("--fresh", action="store_true", help="make the demo job anew")
    return top


def is_verb(name: str) -> bool:
    """Whether a word runs something headless."""
    from kerb.studies.registry import STUDIES

    return name in VERBS or name in STUDIES


@contextlib.contextmanager
def only_our_words() -> Iterator[None]:
    """Keep libraries from writing to standard error: a damaged LAZ makes lazrs print a page before it says so."""
    try:
        real = sys.stderr.fileno() == STANDARD_ERROR
    except (OSError, ValueError, AttributeError):
        real = False
    if not real:
        yield
        return
    before, kept = sys.stderr, os.dup(STANDARD_ERROR)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        with os.fdopen(os.dup(kept), "w", buffering=1, errors="backslashreplace") as ours:
            sys.stderr = ours
            os.dup2(nowhere, STANDARD_ERROR)
            yield
    finally:
        os.dup2(kept, STANDARD_ERROR)
        sys.stderr = before
        os.close(kept)
        os.close(nowhere)


def run_verb(args: argparse.Namespace) -> int:
    """Run one headless verb; returns the exit status."""
    with only_our_words(), warnings.catch_warnings():
        # What a library warns of is none of its user's business; Kerb says what matters itself.
        warnings.simplefilter("ignore")
        return _run(args)


def _complain(text: str) -> None:
    sys.stderr.write(f"kerb: {escaped(' '.join(text.split()))}\n")


def _run(args: argparse.Namespace) -> int:
    verb = verb_of(args.verb)
    try:
        options.check_paths(args)
        outcome = verb.run(args)
        options.write_json(outcome, args)
        if args.json != "-":
            options.say(verb.text(printable(outcome)) + "\n")
    except SomeFailed as failed:
        # What could be computed is told; the exit status says that not all could.
        options.write_json(failed.outcome, args)
        if args.json != "-":
            options.say(verb.text(printable(failed.outcome)) + "\n")
        _complain(str(failed))
        return UNUSABLE
    except (KeyboardInterrupt, Cancelled):
        sys.stderr.write("kerb: interrupted\n")
        return INTERRUPTED
    except KerbError as error:
        _complain(str(error))
        return UNUSABLE
    except BrokenPipeError:
        return DONE
    except OSError as error:
        _complain(refusal(error, args.verb))
        return UNUSABLE
    except MemoryError:
        sys.stderr.write("kerb: not enough memory for this\n")
        return FAULT
    return DONE
