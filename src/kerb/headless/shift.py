"""``kerb shift CLOUD --dz D --out FILE``: the same points, moved by a stated amount."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.cloud.outgoing import from_stream
from kerb.core.cloud.setups import with_setups
from kerb.core.errors import InputError
from kerb.core.quantity import quantity
from kerb.core.reference import is_geographic
from kerb.core.units import length_unit
from kerb.formats.points import Opening, stated_unit
from kerb.formats.write_things import write_cloud
from kerb.headless.options import add_common, check_output, points_of, progress_to_terminal
from kerb.studies.outcome import Figure, Input, Note, Outcome

WORDS = {"dx": ("west", "east"), "dy": ("south", "north"), "dz": ("down", "up")}


def add_options(parser: argparse.ArgumentParser) -> None:
    """The options of the verb."""
    parser.add_argument("cloud", metavar="CLOUD", help="a cloud file, or JOB.kerb#holding")
    for name, (less, more) in WORDS.items():
        parser.add_argument(
            f"--{name}",
            type=float,
            default=0.0,
            help=f"how far, in the unit of the cloud: positive {more}, negative {less}",
        )
    parser.add_argument("--out", metavar="FILE", type=Path, required=True, help="the moved cloud")
    add_common(parser)


def run_shift(args: argparse.Namespace) -> Outcome:
    """The verb ``shift``. Raises InputError or OutputError, naming the file; Cancelled."""
    shift = np.array([args.dx, args.dy, args.dz])
    if not np.isfinite(shift).all():
        raise InputError("--dx, --dy and --dz must be numbers")
    if not shift.any():
        raise InputError("nothing to do: state --dz, --dx or --dy")
    check_output(args.out, args, [args.cloud.partition("#")[0]])
    stream = points_of(args.cloud, Opening(partial=args.partial))
    if args.unit and stream.layout.reference.certainty == "assumed":
        stream = stated_unit(stream, length_unit(args.unit))
    reference = stream.layout.reference
    if shift[:2].any() and is_geographic(reference):
        raise InputError(f"{args.cloud}: is in degrees; only --dz moves it by a length")
    outgoing = from_stream(stream)
    details = with_setups(outgoing.details, lambda places: places + shift)
    moved = replace(outgoing, origin=outgoing.origin + shift, details=details)
    count, notes = write_cloud(moved, args.out, progress_to_terminal())
    units = (reference.unit.code, reference.unit.code, reference.vertical_unit.code)
    said = ", ".join(
        f"{quantity(abs(by), code)} {words[int(by > 0)]}"
        for by, code, words in zip(shift.tolist(), units, WORDS.values(), strict=True) if by
    )  # fmt: skip
    settings = {"dx": args.dx, "dy": args.dy, "dz": args.dz, "out": str(args.out)}
    outcome = Outcome("shift", reference.unit.code, reference.code or reference.name,
                      {"count": Figure(count, "", "Points moved")}, settings)  # fmt: skip
    outcome.inputs = [Input("cloud", args.cloud, stream.count, count)]
    outcome.warnings = [Note(*note) for note in [*stream.warnings, *notes]]
    outcome.method = f"All points moved {said}; nothing else of them was changed."
    return outcome


def text(outcome: Outcome) -> str:
    """What was done, and warnings."""
    lines = [f"{outcome.figures['count'].value} points: {outcome.method}"]
    return "\n".join([*lines, *(f"! {note.code}: {note.text}" for note in outcome.warnings)])
