"""Contours of anything with elevations: lines, their length, index lines and labels."""

from __future__ import annotations

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import Progress
from kerb.core.quantity import decimals_of, number
from kerb.core.surface.contours import Contour, contours, index_every, label_places, smoothed
from kerb.core.surface.surfaces import Surface
from kerb.core.things import LINES, Placed
from kerb.formats.dxf_write import Text, Texts
from kerb.studies.contours.setup import ContoursSetup
from kerb.studies.fields import COUNTED
from kerb.studies.layers import FoundLabels, FoundLine
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.sources import Sources

STUDY = "contours"
MOST_TRIANGLES = 25_000_000
# Views draw so many lines at most; files get all.
MOST_DRAWN = 3000
LABELS_A_SIDE = 3
# In a drawing letters are this share of its longer side.
LETTERS_A_SIDE = 200


def run(setup: ContoursSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'where do the levels run?'. Raises InputError; NotDeterminable; Cancelled."""
    setup.check()
    surface = sources.surface("surface", setup.surface, setup.strays == COUNTED, setup.longest)
    unit = sources.unit
    low, high = surface.bounds
    lines = lines_of(setup, surface, progress)
    outcome = Outcome(STUDY, unit.code, surface.reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("surface", "surface")]
    levels = sorted({line.level for line in lines})
    outcome.figures = {
        "lines": Figure(float(len(lines)), "", "Lines"),
        "total_length": Figure(float(sum(line.length for line in lines)), unit.code, "Length in all"),
        "levels": Figure(float(len(levels)), "", "Levels"),
        "lowest": Figure(levels[0] if levels else None, unit.code, "Lowest level"),
        "highest": Figure(levels[-1] if levels else None, unit.code, "Highest level"),
    }
    if not lines:
        outcome.warnings.append(Note("no-lines", "no level lies between the lowest and the highest place"))
    by_level = {level: [line for line in lines if line.level == level] for level in levels}
    outcome.tables["levels"] = Table(
        "Contours by level",
        (Column("level", unit.code, "Level"), Column("lines", "", "Lines"), Column("length", unit.code, "Length")),
        tuple((level, len(own), float(sum(line.length for line in own))) for level, own in by_level.items()),
    )
    _draw(outcome, setup, lines, high[:2] - low[:2])
    outcome.method = (
        f"Contours every {setup.interval:g} {unit.symbol} from {setup.base:g}: "
        + ("triangles parted into sixteen along cubic edges" if setup.smooth else "exact on the triangles")
        + "; index lines every fifth."
    )
    if setup.keep:
        item = Placed(LINES, line_set(lines, setup.interval, setup.base), surface.reference)
        outcome.makes = [Made(f"Contours of {sources.source('surface').name}", item)]
    return outcome


def lines_of(setup: ContoursSetup, surface: Surface, progress: Progress) -> list[Contour]:
    """The contours of a surface. Raises InputError, when it has too many triangles; NotDeterminable; Cancelled."""
    low, high = surface.bounds
    progress.step(0.05, "Reading the surface")
    tin = surface.tin(low, high)
    if setup.longest is not None:
        tin = tin.only(tin.longest_edges <= setup.longest)
    if len(tin.triangles) > MOST_TRIANGLES:
        raise InputError(f"{len(tin.triangles)} triangles are too many; make a thinner surface first")
    if setup.smooth:
        tin = smoothed(tin)
    return contours(tin, setup.interval, setup.base, progress.within(0.3, 0.9))


def line_set(lines: list[Contour], interval: float, base: float) -> LineSet:
    """Contours as lines with elevations, named by their level; index lines on a layer of their own."""
    digits = decimals_of(interval)
    made = []
    for line in lines:
        xy = line.xy[:-1] if line.closed else line.xy
        layer = "index contours" if index_every(interval, line.level, base) else "contours"
        xyz = np.column_stack([xy, np.full(len(xy), line.level)])
        made.append(Line(xyz, line.closed, number(line.level, digits), layer))
    return LineSet(tuple(made), fields={"elevation": tuple(line.level for line in lines)})


def labels_of(lines: list[Contour], setup: ContoursSetup) -> Texts:
    """Levels written along the index contours of a drawing, or along all where none is one; each reads from below."""
    if not lines:
        return Texts()
    ends = np.concatenate([line.xy for line in lines])
    size = float(np.ptp(ends, axis=0).max())
    main = [line for line in lines if index_every(setup.interval, line.level, setup.base)] or lines
    rows, places = label_places(main, size / LABELS_A_SIDE)
    digits, more = decimals_of(setup.interval), []
    for row, place in zip(rows.tolist(), places, strict=True):
        xy = main[row].xy
        nearest = int(np.argmin(np.hypot(*(xy - place).T)))
        step = xy[min(nearest + 1, len(xy) - 1)] - xy[max(nearest - 1, 0)]
        turn = float((np.degrees(np.arctan2(step[1], step[0])) + 90) % 180 - 90)
        at = (float(place[0]), float(place[1]), main[row].level)
        more.append(Text(at, number(main[row].level, digits), turn, "contour levels"))
    return Texts(tuple(more), size / LETTERS_A_SIDE)


def _draw(outcome: Outcome, setup: ContoursSetup, lines: list[Contour], size: np.ndarray) -> None:
    longest = sorted(lines, key=lambda line: -line.length)[:MOST_DRAWN]
    if len(lines) > MOST_DRAWN:
        outcome.warnings.append(
            Note("not-drawn", f"the {MOST_DRAWN} longest of {len(lines)} lines are drawn; files get all")
        )
    for row, line in enumerate(longest):
        main = index_every(setup.interval, line.level, setup.base)
        xyz = np.column_stack([line.xy, np.full(len(line.xy), line.level)])
        outcome.layers[f"contour {row}"] = FoundLine(xyz, "edge" if main else "base")
    main_lines = [line for line in longest if index_every(setup.interval, line.level, setup.base)] or longest
    rows, places = label_places(main_lines, float(max(size)) / LABELS_A_SIDE)
    level = np.array([main_lines[row].level for row in rows])
    digits = decimals_of(setup.interval)
    words = tuple(number(float(value), digits) for value in level)
    outcome.layers["labels"] = FoundLabels(np.column_stack([places, level]), words, title="Levels")
