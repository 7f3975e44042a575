"""Tables and figures of outcomes as text: CSV for files, tab-separated for the clipboard."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from kerb.core.errors import OutputError
from kerb.core.quantity import plain, symbol
from kerb.studies.outcome import Column, Outcome, Table


def figures_table(outcome: Outcome) -> Table:
    """All figures of an outcome as a table."""
    rows = tuple(
        (figure.label, figure.value, figure.u95, symbol(figure.unit), figure.note)
        for figure in outcome.figures.values()
    )
    columns = (
        Column("figure", "", "Figure"), Column("value", "", "Value"), Column("u95", "", "± 95 %"),
        Column("unit", "", "Unit"), Column("note", "", "Note"),
    )  # fmt: skip
    return Table("Figures", columns, rows)


def heading(column: Column) -> str:
    """Column heading with its unit."""
    label = column.label or column.name
    return f"{label} ({symbol(column.unit)})" if symbol(column.unit) else label


def tab_separated(table: Table) -> str:
    """A table for pasting into a spreadsheet: full precision, point as decimal mark."""
    lines = ["\t".join(heading(column) for column in table.columns)]
    lines += ["\t".join(plain(cell).replace("\t", " ") for cell in row) for row in table.rows]
    return "\n".join(lines) + "\n"


def comma_separated(table: Table) -> str:
    """A table as CSV (RFC 4180)."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([heading(column) for column in table.columns])
    writer.writerows([_cell(cell) for cell in row] for row in table.rows)
    return out.getvalue()


def write_csv(table: Table, path: Path, force: bool = False) -> None:
    """Write a table as CSV. Raises OutputError when the file exists (unless ``force``) or cannot be written."""
    if path.exists() and not force:
        raise OutputError(f"{path}: exists; not overwritten without --force")
    partial = path.with_name(path.name + ".partial")
    try:
        partial.write_text(comma_separated(table), encoding="utf-8", newline="")
        partial.replace(path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise OutputError(f"{path}: {error.strerror or error}") from None


def _cell(value: object) -> str:
    text = plain(value)
    # A spreadsheet would run text that starts like a formula; names come from files.
    return f"'{text}" if isinstance(value, str) and text.startswith(tuple("=+-@\t")) else text
