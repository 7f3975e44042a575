"""Tables and figures of outcomes as text: CSV for files, tab-separated for the clipboard."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable
from dataclasses import replace
from math import isfinite
from pathlib import Path
from typing import Any

from kerb.core.errors import OutputError
from kerb.core.quantity import Decimals, finer, fitting, labelled, least, number, places_for, plain, symbol
from kerb.formats.written import placed_when_complete
from kerb.studies.outcome import Column, Outcome, Table
from kerb.studies.registry import STUDIES, study_kind

FIGURE_COLUMNS = (
    Column("figure", "", "Figure"), Column("value", "", "Value"), Column("u95", "", "± 95 %"), Column("unit", "", "Unit"),
    Column("note", "", "Note"),
)  # fmt: skip
# Digits of a number of no unit that is no whole one.
DIGITS = 4


def figures_table(outcome: Outcome) -> Table:
    """All figures of an outcome as a table, with full precision."""
    rows = tuple(
        (f.label, _written_in(f.value, f.unit), _written_in(f.u95, f.unit), symbol(f.unit), f.note)
        for f in outcome.figures.values()
    )
    return Table("Figures", FIGURE_COLUMNS, rows)


def figures_shown(outcome: Outcome, decimals: Decimals) -> Table:
    """All figures of an outcome as they are printed: in the units the job prints in, with no more digits than bounds allow."""
    rows = []
    for figure in outcome.figures.values():
        factor, unit = decimals.printed(figure.unit)
        u95 = None if figure.u95 is None else figure.u95 * factor
        value = None if figure.value is None else figure.value * factor
        most = fitting(u95, finer(decimals.of(unit), figure.resolution * factor))
        rows.append((figure.label, number(value, most), least(u95, most), symbol(unit), figure.note))
    return Table("Figures", FIGURE_COLUMNS, tuple(rows))


def _written_in(cell: Any, unit: str) -> Any:
    """A number as it is written beside the symbol of its unit: a share in hundredths."""
    return round(100 * cell, 12) if unit == "share" and isinstance(cell, float) else cell


def _written_cells(table: Table) -> list[list[Any]]:
    units = [column.unit for column in table.columns]
    return [[_written_in(cell, unit) for cell, unit in zip(row, units, strict=True)] for row in table.rows]


def heading(column: Column) -> str:
    """Column heading with its unit."""
    return labelled(column.label or column.name, column.unit)


def printed_columns(table: Table, decimals: Decimals) -> tuple[Column, ...]:
    """The columns with the units that the job prints in."""
    return tuple(replace(column, unit=decimals.printed(column.unit)[1]) for column in table.columns)


def bound_by(table: Table) -> dict[int, int]:
    """Which column holds the 95 % bounds of another, by number; such a column bounds itself too."""
    found: dict[int, int] = {}
    named = {column.name: place for place, column in enumerate(table.columns)}
    for place, column in enumerate(table.columns):
        if column.bound:
            found[place] = named[column.bound]
        if column.name == "u95" or column.name.endswith("_u95"):
            found[place] = place
            before = next((n for n in range(place - 1, -1, -1) if table.columns[n].unit == column.unit), None)
            if before is not None and column.unit:
                found[before] = place
    return found


def printed_cell(table: Table, row: tuple[Any, ...], place: int, decimals: Decimals, bounds: dict[int, int]) -> str:
    """A number of a table as it is printed: in the unit the job prints in, with no more digits than its bound allows."""
    cell, unit = row[place], table.columns[place].unit
    if cell is None:
        return "—"
    if isinstance(cell, str):
        return cell
    if isinstance(cell, (bool, int)):
        return str(cell)
    if table.columns[place].exact:
        return f"{cell:.12g}"
    factor, shown = decimals.printed(unit)
    u95 = row[bounds[place]] if place in bounds else None
    most = decimals.of(shown)
    if not unit and isfinite(cell) and cell % 1:
        # Of no unit and no whole number: no count, which nought decimals would make of it.
        most = 0 if table.columns[place].resolution else places_for(cell, DIGITS)
    most = finer(most, table.columns[place].resolution * factor)
    places = fitting(abs(float(u95)) * factor, most) if isinstance(u95, (int, float)) else most
    return (least if bounds.get(place) == place else number)(float(cell) * factor, places)


def tab_separated(table: Table) -> str:
    """A table for pasting into a spreadsheet: full precision, point as decimal mark."""
    lines = ["\t".join(heading(column) for column in table.columns)]
    lines += ["\t".join(plain(cell).replace("\t", " ") for cell in row) for row in _written_cells(table)]
    return "\n".join(lines) + "\n"


def comma_separated(table: Table) -> str:
    """A table as CSV (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([heading(column) for column in table.columns])
    writer.writerows([_cell(cell) for cell in row] for row in _written_cells(table))
    return out.getvalue()


def write_csv(table: Table, path: Path, force: bool = False) -> None:
    """Write a table as CSV. Raises OutputError when the file exists (unless ``force``) or cannot be written."""
    _written(path, force, lambda partial: partial.write_text(comma_separated(table), encoding="utf-8", newline=""))


def write_table(table: Table, path: Path, force: bool = False) -> None:
    """Write a table as CSV, or as .xlsx. Raises OutputError when the file exists (unless ``force``) or cannot be written."""
    if path.suffix.lower() != ".xlsx":
        write_csv(table, path, force)
        return
    _written(path, force, lambda partial: _book([("", [table])], partial))


def write_figures(outcomes: list[tuple[str, Outcome]], path: Path, force: bool = False) -> None:
    """Write the figures of named outcomes and the tables of their reports: one after the other as CSV, or as .xlsx, with a
    sheet for each table there is.

    Raises OutputError when the file exists (unless ``force``) or cannot be written.
    """
    if path.suffix.lower() == ".xlsx":
        _written(path, force, lambda partial: _workbook(outcomes, partial))
        return
    parts: list[str] = []
    for name, one in outcomes:
        parts.append(f"{_cell(name)}\r\n{comma_separated(figures_table(one))}")
        own = study_kind(one.study).tables if one.study in STUDIES else ()
        tables = [one.tables[key] for key in own if key in one.tables]
        parts += [f"{_cell(table.title)}\r\n{comma_separated(table)}" for table in tables]
    text = "".join(f"{part}\r\n" for part in parts)
    _written(path, force, lambda partial: partial.write_text(text, encoding="utf-8", newline=""))


def _workbook(outcomes: list[tuple[str, Outcome]], path: Path) -> None:
    several = [(name, [figures_table(outcome), *outcome.tables.values()]) for name, outcome in outcomes]
    _book(several, path)


def _book(several: list[tuple[str, list[Table]]], path: Path) -> None:
    """A sheet for each table of each name."""
    from openpyxl import Workbook

    book = Workbook(write_only=True)
    taken: set[str] = set()
    for name, tables in several:
        for table in tables:
            sheet = book.create_sheet(_sheet_name(f"{name} {table.title}", taken))
            sheet.append([heading(column) for column in table.columns])
            for row in _written_cells(table):
                sheet.append([_value(cell) for cell in row])
    if not several:
        book.create_sheet("Nothing")
    book.save(path)


def _sheet_name(wanted: str, taken: set[str]) -> str:
    """A name as spreadsheets allow it: 31 letters, none of them special, and no other sheet's."""
    base = re.sub(r"[\[\]:*?/\\']", " ", wanted)[:31].strip() or "Table"
    name, number = base, 2
    while name.lower() in taken:
        name, number = f"{base[:27]} {number}", number + 1
    taken.add(name.lower())
    return name


def _value(cell: object) -> Any:
    if hasattr(cell, "item"):
        cell = cell.item()
    if isinstance(cell, (int, float)):
        return cell if cell == cell and abs(cell) != float("inf") else None
    return None if cell is None else _cell(cell)


def _written(path: Path, force: bool, write: Callable[[Path], object]) -> None:
    if path.exists() and not force:
        raise OutputError(f"{path}: exists; not overwritten without --force")
    with placed_when_complete(path) as partial:
        write(partial)


def _cell(value: object) -> str:
    text = plain(value)
    # A spreadsheet would run text that starts like a formula; names come from files.
    return f"'{text}" if isinstance(value, str) and text.startswith(tuple("=+-@\t")) else text
