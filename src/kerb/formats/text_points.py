"""Read text files of points: clouds as a stream, survey points with their names and codes."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.layout import Columns, free_name
from kerb.core.cloud.quantise import About, FloatStream
from kerb.core.errors import FormatError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.formats.text_table import (
    BLANK,
    BLUE,
    CLASS,
    CODE,
    EASTING,
    ELEVATION,
    GREEN,
    INTENSITY,
    KEEP,
    NAME,
    NORTHING,
    RED,
    Sniffed,
    TextPlan,
    headed,
    sniffed,
    split,
    value,
)  # fmt: skip

MOST_POINTS = 5_000_000
CHANNELS = (RED, GREEN, BLUE)
# Dimensions of LAS that a written text file names as LAS does, so that they come back as what they were.
LAS_KINDS: dict[str, Any] = {
    "return_number": np.uint8, "number_of_returns": np.uint8, "point_source_id": np.uint16, "user_data": np.uint8,
    "nir": np.uint16, "source_file": np.uint16, "scan_direction_flag": np.uint8, "edge_of_flight_line": np.uint8,
    "synthetic": np.uint8, "key_point": np.uint8, "withheld": np.uint8, "overlap": np.uint8, "scanner_channel": np.uint8,
    "classification_flags": np.uint8,
}  # fmt: skip
# Numbers with a sign that LAS keeps whole.
SIGNED = {"scan_angle": np.int16, "scan_angle_rank": np.int8}


class TextStream(FloatStream):
    """The points of a text file, read in chunks."""

    def __init__(self, path: Path, plan: TextPlan | None = None, reference: ReferenceSystem = UNKNOWN) -> None:
        """``plan`` None lets the reader guess. Raises FormatError naming file and line."""
        self.path = path
        look = sniffed(path) if plan is None else None
        self.plan = look.plan if look is not None else plan or TextPlan()
        self.plan.check(path)
        if reference == UNKNOWN:
            reference = headed(self.plan)
        about = About(str(path), "text", reference, {"text_plan": _plan_json(self.plan)})
        super().__init__(self._read, about, look.about if look else max(path.stat().st_size // 30, 1))
        if reference == UNKNOWN:
            self.warnings.append(("crs-missing", "a text file names no reference system; its unit is unknown"))
        if self.plan.column(ELEVATION) is None:
            self.warnings.append(("no-elevation", "no column holds elevations; they are zero"))

    def _read(self, size: int) -> Iterator[tuple[Floats, Columns]]:
        """Chunks of numbers; pandas reads, and where it fails the line is found and named."""
        import pandas

        used = {c: role for c, role in enumerate(self.plan.roles) if _is_number(role)}
        kinds = dict.fromkeys(used, np.dtype(np.float64)) | self._whole_columns(used)
        options = _pandas_options(self.plan)
        columns = None if len(used) == len(self.plan.roles) else list(used)
        source: Any = self.path if len(self.plan.comment) < 2 else _Uncommented(self.path, self.plan.comment)
        try:
            reader = pandas.read_csv(
                source, header=None, usecols=columns, dtype=kinds, chunksize=max(size, 1),
                skiprows=self.plan.skip, on_bad_lines="error", encoding="utf-8", encoding_errors="replace",
                low_memory=True, **options,
            )  # fmt: skip
            with reader:
                for table in reader:
                    yield _numbers(table, used, self.plan)
        except (ValueError, pandas.errors.ParserError, OverflowError) as error:
            said = str(error)
            if "EOF inside string" in said:
                said = "a quotation mark is opened and never closed"
            raise FormatError(f"{self.path}: {_first_bad_line(self.path, self.plan) or said}") from None
        except pandas.errors.EmptyDataError:
            raise FormatError(f"{self.path}: holds no points") from None

    def _whole_columns(self, used: dict[int, str]) -> dict[int, np.dtype]:
        """Columns of other numbers that hold nothing but whole ones, which are kept whole; found by reading them once."""
        found = {}
        for column, role in used.items():
            if role == KEEP and _plain_whole(self.path, self.plan, column):
                found[column] = np.dtype(np.int64)
        return found


def _plain_whole(path: Path, plan: TextPlan, column: int) -> bool:
    """Whether a column of a text file holds whole numbers only, all the way down."""
    import pandas

    source: Any = path if len(plan.comment) < 2 else _Uncommented(path, plan.comment)
    try:
        with pandas.read_csv(
            source, header=None, usecols=[column], dtype=np.int64, chunksize=1_000_000, skiprows=plan.skip,
            encoding="utf-8", encoding_errors="replace", **_pandas_options(plan),
        ) as reader:  # fmt: skip
            return all(len(table) >= 0 for table in reader)
    except (ValueError, OverflowError, pandas.errors.ParserError, pandas.errors.EmptyDataError):
        return False


def read_survey_points(path: Path, plan: TextPlan | None = None) -> SurveyPoints:
    """Named points of a text file, in the order of the file.

    Raises
    ------
    FormatError, naming file and line, when a place is no number or there are too many points for a list.
    """
    plan = plan or sniffed(path).plan
    plan.check(path)
    places = [plan.column(role) for role in (EASTING, NORTHING, ELEVATION)]
    texts = {role: plan.column(role) for role in (NAME, CODE)}
    kept = [c for c, role in enumerate(plan.roles) if role not in (EASTING, NORTHING, ELEVATION, NAME, CODE, "skip")]
    xyz: list[tuple[float, ...]] = []
    words: dict[str, list[str]] = {NAME: [], CODE: []}
    extra: dict[int, list[str]] = {c: [] for c in kept}
    for number, cells in _rows(path, plan):
        if len(xyz) >= MOST_POINTS:
            raise FormatError(f"{path}: more than {MOST_POINTS} points; bring it in as a cloud")
        xyz.append(_place(path, plan, number, cells, places))
        for role, column in texts.items():
            words[role].append(cells[column] if column is not None and column < len(cells) else "")
        for column in kept:
            extra[column].append(cells[column] if column < len(cells) else "")
    if not xyz:
        raise FormatError(f"{path}: holds no points")
    names = words[NAME] if texts[NAME] is not None else [str(n + 1) for n in range(len(xyz))]
    titles = {c: plan.headings[c] if c < len(plan.headings) else f"column {c + 1}" for c in kept}
    return SurveyPoints(
        np.array(xyz), tuple(names), tuple(words[CODE]), {titles[c]: tuple(v) for c, v in extra.items()}
    )


def _place(
    path: Path, plan: TextPlan, number: int, cells: list[str], places: list[int | None]
) -> tuple[float, float, float]:
    found = []
    for axis, column in enumerate(places):
        cell = cells[column] if column is not None and column < len(cells) else ""
        if axis == 2 and not cell:
            found.append(np.nan)
            continue
        try:
            found.append(value(cell, plan.style))
        except ValueError:
            raise FormatError(f"{path}: line {number}: '{cell[:40]}' is not a number") from None
        if not np.isfinite(found[-1]) and axis < 2:
            raise FormatError(f"{path}: line {number}: '{cell[:40]}' is no place")
    return found[0], found[1], found[2]


def _rows(path: Path, plan: TextPlan) -> Iterator[tuple[int, list[str]]]:
    """Cells of each data line with its line number."""
    with open(path, encoding="utf-8-sig", errors="replace", newline=None) as stream:
        for number, line in enumerate(stream, 1):
            if number <= plan.skip or not line.strip() or (plan.comment and line.lstrip().startswith(plan.comment)):
                continue
            yield number, split(line.rstrip("\r\n"), plan.delimiter)


def _pandas_options(plan: TextPlan) -> dict[str, Any]:
    options: dict[str, Any] = {"decimal": plan.style.decimal, "skipinitialspace": True}
    options["sep"] = r"\s+" if plan.delimiter == BLANK else plan.delimiter
    if plan.style.thousands:
        options["thousands"] = plan.style.thousands
    if len(plan.comment) == 1:
        options["comment"] = plan.comment
    return options


def _is_number(role: str) -> bool:
    return role in (EASTING, NORTHING, ELEVATION, INTENSITY, CLASS, *CHANNELS, KEEP)


def _numbers(table: Any, used: dict[int, str], plan: TextPlan) -> tuple[Floats, Columns]:
    columns = {role: table[c].to_numpy() for c, role in used.items() if role != KEEP}
    east, north = columns.pop(EASTING), columns.pop(NORTHING)
    up = columns.pop(ELEVATION, np.zeros(len(east)))
    out: Columns = {}
    channels = [columns.pop(role) for role in CHANNELS if role in columns]
    if len(channels) == 3:
        for role, channel in zip(CHANNELS, channels, strict=True):
            out[role] = _whole(channel, 65535, np.uint16)
    if CLASS in columns:
        out[CLASS] = _whole(columns.pop(CLASS), 255, np.uint8)
    if INTENSITY in columns:
        out[INTENSITY] = columns.pop(INTENSITY).astype(np.float32)
    for c, role in used.items():
        if role == KEEP:
            title = plan.headings[c] if c < len(plan.headings) else f"column {c + 1}"
            name = free_name(title, out)
            values = table[c].to_numpy()
            if name in LAS_KINDS:
                values = _whole(values, np.iinfo(LAS_KINDS[name]).max, LAS_KINDS[name])
            elif name in SIGNED and values.dtype.kind == "i":
                values = values.astype(SIGNED[name])
            out[name] = values
    return np.column_stack([east, north, up]), out


def _whole(values: Floats, most: int, kind: type) -> Any:
    return np.nan_to_num(np.clip(values, 0, most)).astype(kind)


def _first_bad_line(path: Path, plan: TextPlan) -> str:
    """Which line is not what the plan says, in words; only looked for after reading failed."""
    numbers = [c for c, role in enumerate(plan.roles) if _is_number(role)]
    for number, cells in _rows(path, plan):
        if len(cells) > len(plan.roles):
            return f"line {number} has {len(cells)} columns, the others {len(plan.roles)}"
        for c in numbers:
            cell = cells[c] if c < len(cells) else ""
            try:
                value(cell, plan.style) if cell else None
            except ValueError:
                return f"line {number}: '{cell[:40]}' is not a number"
    return ""


class _Uncommented(io.TextIOBase):
    """A text file without the lines that start with a mark of several characters."""

    def __init__(self, path: Path, mark: str) -> None:
        self._stream = open(path, encoding="utf-8-sig", errors="replace")  # noqa: SIM115
        self._mark, self._rest = mark, ""

    def readable(self) -> bool:
        return True

    def read(self, size: int | None = -1) -> str:
        wanted = size if size is not None and size >= 0 else 1 << 62
        parts, have = [self._rest], len(self._rest)
        while have < wanted:
            line = self._stream.readline()
            if not line:
                break
            text = "\n" if line.lstrip().startswith(self._mark) else line
            parts.append(text)
            have += len(text)
        whole = "".join(parts)
        self._rest = whole[wanted:]
        return whole[:wanted]

    def __iter__(self) -> Iterator[str]:  # type: ignore[override]
        for line in self._stream:
            yield "\n" if line.lstrip().startswith(self._mark) else line

    def close(self) -> None:
        self._stream.close()
        super().close()


def _plan_json(plan: TextPlan) -> dict[str, Any]:
    return {
        "delimiter": plan.delimiter, "decimal": plan.style.decimal, "thousands": plan.style.thousands,
        "skip": plan.skip, "comment": plan.comment, "headings": list(plan.headings), "roles": list(plan.roles),
    }  # fmt: skip


def looks_like_survey(path: Path, look: Sniffed) -> bool:
    """Whether a text file is more likely a list of survey points than a cloud: it has names or codes, and is short."""
    if path.suffix.lower() in (".xyz", ".pts", ".asc", ".ptx"):
        return False
    return look.named and look.about <= 200_000
