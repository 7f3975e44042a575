"""Write points as text: XYZ with blanks, PTS with its count, CSV with headings that name the unit."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

from kerb.core.cloud.outgoing import Outgoing, bounds
from kerb.core.errors import OutputError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem, is_geographic
from kerb.formats.written import placed_when_complete

TEXT_SUFFIXES = (".xyz", ".pts", ".csv", ".txt", ".asc")
# A tenth of a millimetre on the ground.
DEGREE_DECIMALS = 9
COLOURS = ("red", "green", "blue")


def write_text_cloud(outgoing: Outgoing, path: Path, progress: Progress) -> int:
    """Write points as text, all digits the coordinates have; the ending chooses the dialect.

    ``.csv`` and ``.txt`` have a heading that names unit and columns; ``.pts`` starts with the count and has intensity
    and colour after the place where the cloud has them; ``.xyz`` has them without a count.

    Returns the number of points. Raises OutputError, when nothing is left to write; Cancelled.
    """
    suffix = path.suffix.lower()
    count = bounds(outgoing)[2]
    if not count:
        raise OutputError(f"{path}: no points are left to write")
    digits = [max(0, int(np.ceil(-np.log10(abs(step)) - 1e-9))) for step in outgoing.scale]
    names = [name for name, kind in outgoing.kinds.items() if kind.kind in "uif"]
    if suffix not in (".csv", ".txt"):
        names = [name for name in ("intensity", *COLOURS) if name in outgoing.kinds]
    mark = "," if suffix in (".csv", ".txt") else " "
    formats = [f"%.{d}f" for d in digits] + [_format(outgoing.kinds[name]) for name in names]
    done = 0
    with placed_when_complete(path) as partial, open(partial, "w", encoding="utf-8", newline="\n") as stream:
        if suffix in (".csv", ".txt"):
            unit = "deg" if is_geographic(outgoing.reference) else outgoing.reference.unit.code
            heights = outgoing.reference.vertical_unit.code
            heads = [f"easting ({unit})", f"northing ({unit})", f"elevation ({heights})", *names]
            csv.writer(stream, lineterminator="\n").writerow(heads)
        elif suffix == ".pts":
            stream.write(f"{count}\n")
        for xyz, columns in outgoing.blocks():
            progress.step(done / count, f"Writing {path.name}")
            # Points are written as floats; rounding to the scale's digits gives back the integers they came from.
            table = np.column_stack([outgoing.places(xyz), *(np.asarray(columns[name], float) for name in names)])
            np.savetxt(stream, table, fmt=formats, delimiter=mark)
            done += len(xyz)
    return count


def _format(kind: np.dtype) -> str:
    if kind.kind in "ui":
        return "%d"
    return "%.9g" if kind.itemsize <= 4 else "%.17g"


def write_survey_csv(points: SurveyPoints, path: Path, reference: ReferenceSystem, order: str = "penzd") -> int:
    """Write survey points as CSV with a heading; ``order`` is the trade's: p name, e, n, z, d code.

    Plan and heights have as many decimals as a tenth of a millimetre needs in their unit.

    Returns the number of points. Raises OutputError.
    """
    degrees, heights = is_geographic(reference), reference.vertical_unit
    unit = "deg" if degrees else reference.unit.code
    plan, up = DEGREE_DECIMALS if degrees else reference.unit.decimals, heights.decimals
    heads = {"p": "name", "e": f"easting ({unit})", "n": f"northing ({unit})",
             "z": f"elevation ({heights.code})", "d": "code"}  # fmt: skip
    with placed_when_complete(path) as partial, open(partial, "w", encoding="utf-8", newline="") as stream:
        out = csv.writer(stream, lineterminator="\n")
        out.writerow([*(heads[letter] for letter in order), *points.extra])
        for row in range(points.count):
            e, n, z = points.xyz[row].tolist()
            cells = {"p": points.names[row], "e": f"{e:.{plan}f}", "n": f"{n:.{plan}f}",
                     "z": "" if np.isnan(z) else f"{z:.{up}f}", "d": points.codes[row]}  # fmt: skip
            out.writerow([*(cells[letter] for letter in order), *(values[row] for values in points.extra.values())])
    return points.count
