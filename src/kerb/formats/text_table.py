"""Columns of numbers and words in a text file: how they are separated, how numbers are written, what they mean.

``sniffed`` looks at the start of a file and guesses; what it guesses can be corrected before anything is read.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from kerb.core.errors import FormatError, InputError
from kerb.core.reference import UNKNOWN, ReferenceSystem, local_grid
from kerb.core.units import FILE_UNITS, LengthUnit

LOOK_BYTES = 256_000
LONGEST_LINE = 200_000
MOST_COLUMNS = 400
PREVIEW_ROWS = 60
BLANK = " "
DELIMITERS = (",", ";", "\t", "|", BLANK)
COMMENTS = ("#", "//", "!", "%", "*", "REM ")

EASTING, NORTHING, ELEVATION, NAME, CODE = "easting", "northing", "elevation", "name", "code"
RED, GREEN, BLUE, INTENSITY, CLASS = "red", "green", "blue", "intensity", "classification"
ROLES = (EASTING, NORTHING, ELEVATION, NAME, CODE, RED, GREEN, BLUE, INTENSITY, CLASS)
KEEP, SKIP = "keep", "skip"
_HEADINGS = {
    EASTING: ("e", "x", "easting", "east", "eastings", "rechtswert", "xcoord", "lon", "longitude"),
    NORTHING: ("n", "y", "northing", "north", "northings", "hochwert", "ycoord", "lat", "latitude"),
    ELEVATION: ("z", "h", "elevation", "elev", "height", "level", "rl", "altitude", "zcoord"),
    NAME: ("name", "point", "pt", "pointname", "pointid", "ptid", "id", "no", "number", "station", "p"),
    CODE: ("code", "desc", "description", "d", "feature", "featurecode", "remark"),
    RED: ("r", "red"), GREEN: ("g", "green"), BLUE: ("b", "blue"),
    INTENSITY: ("i", "intensity", "reflectance", "scalar"),
    CLASS: ("class", "classification", "cls"),
}  # fmt: skip
_TAIL = re.compile(r"[\s_]*[(\[].*$|_(?:m|ft|usft|mm)$")


@dataclass(frozen=True)
class NumberStyle:
    """How numbers are written: decimal mark and what groups thousands."""

    decimal: str = "."
    thousands: str = ""

    @property
    def pattern(self) -> re.Pattern[str]:
        """What a number looks like in this style."""
        mark, group = re.escape(self.decimal), re.escape(self.thousands)
        whole = rf"(?:\d{{1,3}}(?:{group}\d{{3}})+|\d+)" if group else r"\d+"
        return re.compile(rf"[+-]?(?:{whole}(?:{mark}\d*)?|{mark}\d+)(?:[eE][+-]?\d+)?$|[+-]?(?:nan|inf)$", re.I)


STYLES = (
    NumberStyle(), NumberStyle(",", ""), NumberStyle(".", ","), NumberStyle(",", "."), NumberStyle(".", "'"),
    NumberStyle(".", BLANK), NumberStyle(",", BLANK),
)  # fmt: skip


@dataclass(frozen=True)
class TextPlan:
    """How a text file is to be read.

    ``skip`` lines stand before the data, the heading among them; ``roles`` has one of ROLES, KEEP (with the heading as
    name) or SKIP for each column.
    """

    delimiter: str = ","
    style: NumberStyle = NumberStyle()
    skip: int = 0
    comment: str = ""
    headings: tuple[str, ...] = ()
    roles: tuple[str, ...] = ()

    def column(self, role: str) -> int | None:
        """The column with a role."""
        return self.roles.index(role) if role in self.roles else None

    def with_role(self, column: int, role: str) -> TextPlan:
        """The plan with another role for a column; a role that may stand only once is taken from its old column."""
        roles = [SKIP if r == role and role in ROLES else r for r in self.roles]
        roles[column] = role
        return replace(self, roles=tuple(roles))

    def check(self, path: Path) -> None:
        """Raise InputError when easting and northing are not both there."""
        if self.column(EASTING) is None or self.column(NORTHING) is None:
            raise InputError(f"{path}: say which columns are easting and northing")


@dataclass(frozen=True)
class Sniffed:
    """A plan with the first rows as cells, whether a text column hints at survey points, and about how many rows."""

    plan: TextPlan
    rows: tuple[tuple[str, ...], ...]
    named: bool
    about: int


def headed(plan: TextPlan) -> ReferenceSystem:
    """The local grid of the units that the headings name in brackets, ``easting (ft)``; unknown where they do not."""
    east, up = (_unit_in(plan, role) for role in (EASTING, ELEVATION))
    if east is None:
        return UNKNOWN
    return replace(local_grid(east), vertical_unit=up or east)


def _unit_in(plan: TextPlan, role: str) -> LengthUnit | None:
    column = plan.column(role)
    text = plan.headings[column] if column is not None and column < len(plan.headings) else ""
    named = re.search(r"[(\[]\s*([A-Za-z-]+)\s*[)\]]\s*$", text)
    return FILE_UNITS.get(named.group(1).lower()) if named else None


def sniffed(path: Path) -> Sniffed:
    """Guess how a text file is to be read.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it is no text, empty, or has no columns of numbers.
    """
    text, whole = _start(path)
    lines = text.splitlines()
    if not whole and len(lines) > 1:
        lines = lines[:-1]
    if any(len(line) > LONGEST_LINE for line in lines) or (len(lines) < 2 and not whole):
        raise FormatError(f"{path}: a line is longer than {LONGEST_LINE} characters; this is no list of points")
    comment = next((mark for mark in COMMENTS if any(line.lstrip().startswith(mark) for line in lines)), "")
    numbered = [
        (number, line)
        for number, line in enumerate(lines)
        if line.strip() and not (comment and line.lstrip().startswith(comment))
    ]
    if not numbered:
        raise FormatError(f"{path}: holds no data")
    if _gridded([line for _, line in numbered[:10]]):
        raise FormatError(
            f"{path}: begins with counts and matrices, as gridded scans do; that is no open format: export E57 instead"
        )
    delimiter, style, width = _shape(path, [line for _, line in numbered])
    fitting = [
        (number, cells)
        for number, line in numbered
        for cells in [split(line, delimiter)]
        if len(cells) == width and sum(map(_matcher(style), cells)) >= 2
    ]
    if not fitting:
        raise FormatError(f"{path}: no columns of numbers were found")
    skip = fitting[0][0]
    headings = _headings(numbered, skip, delimiter, width, comment, lines)
    rows = tuple(tuple(cells) for _, cells in fitting[:PREVIEW_ROWS])
    roles, named = guessed_roles(rows, headings, style)
    about = len(fitting) if whole else int(path.stat().st_size * len(fitting) / max(len(text), 1))
    return Sniffed(TextPlan(delimiter, style, skip, comment, headings, roles), rows, named, about)


def read_as(path: Path, plan: TextPlan) -> Sniffed:
    """The start of a file as a corrected plan reads it: other separation, other numbers, more lines skipped.

    Headings and roles are guessed anew. Raises FormatError, when no line fits.
    """
    text, whole = _start(path)
    lines = text.splitlines()
    numbered = [
        (number, line)
        for number, line in enumerate(lines)
        if line.strip() and not (plan.comment and line.lstrip().startswith(plan.comment))
    ]
    table = [(number, split(line, plan.delimiter)) for number, line in numbered if number >= plan.skip]
    widths = Counter(len(cells) for _, cells in table)
    width = max(widths, key=lambda w: (widths[w], w), default=0)
    rows = tuple(tuple(cells) for _, cells in table if len(cells) == width)[:PREVIEW_ROWS]
    if width < 2 or not rows:
        raise FormatError(f"{path}: read this way it has no two columns")
    headings = _headings(numbered, plan.skip, plan.delimiter, width, plan.comment, lines)
    roles, named = guessed_roles(rows, headings, plan.style)
    fitting = sum(len(cells) == width for _, cells in table)
    about = fitting if whole else int(path.stat().st_size * fitting / max(len(text), 1))
    return Sniffed(replace(plan, headings=headings, roles=roles), rows, named, about)


def split(line: str, delimiter: str) -> list[str]:
    """Cells of a line, stripped; quotes hold a cell together."""
    if delimiter == BLANK:
        cells = (
            line.split() if '"' not in line else next(csv.reader([line.strip()], delimiter=" ", skipinitialspace=True))
        )
        return [cell for cell in cells if cell]
    if '"' in line:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter, skipinitialspace=True))]
    return [cell.strip() for cell in line.split(delimiter)]


def guessed_roles(
    rows: tuple[tuple[str, ...], ...], headings: tuple[str, ...], style: NumberStyle
) -> tuple[tuple[str, ...], bool]:
    """Roles of columns from their headings, else from what is in them; and whether names or codes are among them."""
    width = len(rows[0])
    # A word among many numbers is a fault of that line, not a column of words; reading will name the line.
    fits = [sum(bool(style.pattern.match(row[c])) or not row[c] for row in rows) for c in range(width)]
    numeric = [fit >= 0.8 * len(rows) for fit in fits]
    if headings:
        roles = _by_heading(headings)
        if EASTING in roles and NORTHING in roles:
            return tuple(roles), NAME in roles or CODE in roles
    return _by_content(rows, numeric, style)


def _start(path: Path) -> tuple[str, bool]:
    try:
        with open(path, "rb") as stream:
            raw = stream.read(LOOK_BYTES)
        whole = len(raw) == path.stat().st_size
    except OSError as error:
        raise InputError(f"{path}: {error.strerror or error}") from None
    if not raw.strip():
        raise FormatError(f"{path}: is empty")
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise FormatError(f"{path}: is UTF-16 text; save it as UTF-8")
    if b"\0" in raw:
        raise FormatError(f"{path}: is not a text file")
    return raw.decode("utf-8-sig", "replace"), whole


def _gridded(lines: list[str]) -> bool:
    """Two counts, four rows of three numbers and four rows of four."""
    shape = [len(line.split()) for line in lines]
    return shape == [1, 1, 3, 3, 3, 3, 4, 4, 4, 4] and all(line.strip().isdigit() for line in lines[:2])


def _matcher(style: NumberStyle) -> Callable[[str], bool]:
    pattern = style.pattern
    return lambda cell: bool(pattern.match(cell))


def _shape(path: Path, lines: list[str]) -> tuple[str, NumberStyle, int]:
    """Delimiter, number style and column count that most lines agree on, with the most numbers in them."""
    some = lines[:200]
    best: tuple[float, str, NumberStyle, int] | None = None
    for order, delimiter in enumerate(DELIMITERS):
        table = [split(line, delimiter) for line in some]
        widths = Counter(len(cells) for cells in table)
        width, _ = max(widths.items(), key=lambda item: (item[1] * min(item[0], 8), item[0]))
        if width < 2:
            continue
        if width > MOST_COLUMNS:
            raise FormatError(f"{path}: has {width} columns; the most is {MOST_COLUMNS}")
        fitting = [cells for cells in table if len(cells) == width]
        for rank, style in enumerate(STYLES):
            if delimiter in (style.decimal, style.thousands):
                continue
            is_number = _matcher(style)
            numbers = sum(is_number(cell) for cells in fitting for cell in cells) / width
            # Every line that fits counts, numbers in it more; earlier delimiters and plainer styles win ties.
            score = numbers + 0.2 * len(fitting) - 0.001 * order - 0.002 * rank
            if best is None or score > best[0]:
                best = (score, delimiter, style, width)
    if best is None:
        raise FormatError(f"{path}: no columns were found; a list of points has two or more in a line")
    return best[1], best[2], best[3]


def _headings(
    numbered: list[tuple[int, str]], skip: int, delimiter: str, width: int, comment: str, lines: list[str]
) -> tuple[str, ...]:
    """Names of the columns from the line before the data, be it a comment or not."""
    before = [line for number, line in numbered if number < skip]
    if comment:
        before += [line.lstrip()[len(comment) :] for line in lines[:skip] if line.lstrip().startswith(comment)]
    for line in reversed(before):
        cells = split(line, delimiter)
        if len(cells) != width and delimiter != BLANK:
            cells = split(line, BLANK)
        if len(cells) == width and any(re.search(r"[A-Za-z]", cell) for cell in cells):
            return tuple(cells)
    return ()


def _by_heading(headings: tuple[str, ...]) -> list[str]:
    roles = []
    for heading in headings:
        plain = _TAIL.sub("", heading.strip().lower()).replace(" ", "").replace("_", "").strip('"')
        role = next((role for role, names in _HEADINGS.items() if plain in names and role not in roles), KEEP)
        roles.append(role)
    return roles


def _by_content(
    rows: tuple[tuple[str, ...], ...], numeric: list[bool], style: NumberStyle
) -> tuple[tuple[str, ...], bool]:
    """Roles without headings: words are names and codes, three numbers a place, small whole ones colours."""
    width = len(numeric)
    roles = [SKIP] * width
    numbers = [c for c in range(width) if numeric[c]]
    words = [c for c in range(width) if not numeric[c]]
    named = bool(words)
    counting = [c for c in numbers if _whole(rows, c, style)]
    numbered = len(numbers) in (4, 5) and not any(c in counting for c in numbers[1:4])
    if numbers[:1] == [0] and 0 in counting and numbered and (words or len(numbers) == 4):
        # A whole number before three others with decimals is a point number.
        words, named = [0, *words], True
        numbers = numbers[1:]
    if words:
        roles[words[0]] = NAME if words[0] < (numbers[0] if numbers else 0) else CODE
        if len(words) > 1 and NAME in roles:
            roles[words[1]] = CODE
    place = (NORTHING, EASTING, ELEVATION) if NAME in roles else (EASTING, NORTHING, ELEVATION)
    for role, c in zip(place, numbers, strict=False):
        roles[c] = role
    rest = numbers[3:]
    small = [c for c in rest if c in counting and _between(rows, c, style, 0, 255)]
    if len(small) >= 3:
        for role, c in zip((RED, GREEN, BLUE), small[-3:], strict=True):
            roles[c] = role
        rest = [c for c in rest if c not in small[-3:]]
    if rest:
        roles[rest[0]] = INTENSITY
    for c in rest[1:]:
        roles[c] = KEEP
    return tuple(roles), named


def value(text: str, style: NumberStyle) -> float:
    """A number as written. Raises ValueError when it is none."""
    if style.thousands:
        text = text.replace(style.thousands, "")
    return float(text.replace(style.decimal, ".")) if style.decimal != "." else float(text)


def _whole(rows: tuple[tuple[str, ...], ...], column: int, style: NumberStyle) -> bool:
    numbers = [row[column] for row in rows if style.pattern.match(row[column])]
    return bool(numbers) and all(re.fullmatch(r"[+-]?\d+", number) for number in numbers)


def _between(rows: tuple[tuple[str, ...], ...], column: int, style: NumberStyle, low: float, high: float) -> bool:
    return all(low <= value(row[column], style) <= high for row in rows if style.pattern.match(row[column]))
