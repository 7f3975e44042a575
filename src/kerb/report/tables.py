"""Tables of a report: widths follow what stands in the columns, wide ones turn the page, long ones end with what is left."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape

from reportlab.lib.enums import TA_LEFT, TA_RIGHT
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.platypus import (
    CondPageBreak,
    Flowable,
    KeepTogether,
    NextPageTemplate,
    PageBreak,
    Paragraph,
    Spacer,
    Table,
)

from kerb.core.quantity import Decimals
from kerb.report.flow import ACCENT, BOLD, HAIR, INK, MEDIUM, QUIET, REGULAR
from kerb.report.text import bound_by, heading, printed_cell, printed_columns
from kerb.studies.outcome import Table as StudyTable

# Names of the page as it is and of the one that is turned.
UPRIGHT, TURNED = "page", "turned"
SIZE, HEAD_SIZE, PAD = 7.5, 7.0, 7.0
# A text is wrapped beyond the first of these widths; a word longer than the second is broken.
WRAPPED, LONGEST_WORD = 165.0, 110.0
# A table of more rows is set in several columns where it is narrow; of one of yet more the first rows are printed.
SEVERAL_BESIDE, MOST_ROWS, FIRST_ROWS = 30, 120, 40
GAP = 14.0
# Rows that stay together with the head of a table, and at its end.
TOGETHER, AT_END = 14, 3


def style_of(size: float, **more: Any) -> ParagraphStyle:
    """The style of a text of some size."""
    given = {"fontName": REGULAR, "textColor": INK, "leading": size * 1.32, "allowWidows": 0, "allowOrphans": 0, **more}
    return ParagraphStyle(f"s{size}", fontSize=size, **given)


def title_of(text: str) -> Flowable:
    """The title of a part of a page."""
    return Paragraph(
        text, style_of(8.5, fontName=MEDIUM, textColor=ACCENT, spaceBefore=6, spaceAfter=2, keepWithNext=1)
    )


def rules(numbers_from: int, total: bool = False) -> list[tuple]:
    """How every table looks: hairlines under the rows, numbers at the right, heads quiet, sums strong."""
    style: list[tuple] = [
        ("FONT", (0, 0), (-1, -1), REGULAR, 8),
        ("FONT", (0, 0), (-1, 0), MEDIUM, 7.5),
        ("TEXTCOLOR", (0, 0), (-1, 0), QUIET),
        ("TEXTCOLOR", (0, 1), (-1, -1), INK),
        ("LINEBELOW", (0, 0), (-1, -1), 0.35, HAIR),
        ("ALIGN", (numbers_from, 0), (-1, -1), "RIGHT"),
        ("TOPPADDING", (0, 0), (-1, -1), 1.5),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 1.9),
        ("LEFTPADDING", (0, 0), (-1, -1), 0),
        ("RIGHTPADDING", (0, 0), (-1, -1), PAD),
        ("RIGHTPADDING", (-1, 0), (-1, -1), 0),
        ("VALIGN", (0, 0), (-1, -1), "TOP"),
        ("VALIGN", (0, 0), (-1, 0), "BOTTOM"),
    ]
    if total:
        style.append(("FONT", (0, -1), (-1, -1), BOLD, 8))
    return style


class Rows(Table):
    """A table that never leaves a row or two alone on a page."""

    def split(self, width: float, height: float) -> list[Flowable]:
        """The parts that go on this page and on the next."""
        parts = super().split(width, height)
        if len(parts) == 2 and parts[1]._nrows - self.repeatRows < AT_END:
            rows = sum(self._rowHeights[-AT_END:])
            parts = super().split(width, height - rows) or parts
        return list(parts)


@dataclass(frozen=True)
class Grid:
    """Printed cells: heads and rows as texts, which columns hold texts, and which the reader can do without."""

    heads: list[str]
    rows: list[list[str]]
    texts: list[bool]
    minor: list[bool]

    def only(self, columns: list[int]) -> Grid:
        """Some of the columns."""
        take = lambda values: [values[n] for n in columns]  # noqa: E731
        return Grid(take(self.heads), [take(row) for row in self.rows], take(self.texts), take(self.minor))


def widths(grid: Grid, room: float, size: float = SIZE) -> list[float] | None:
    """Widths of the columns in a room; None where it cannot hold them without breaking words or numbers."""
    least, wanted = [], []
    for n, head in enumerate(grid.heads):
        cells = [row[n] for row in grid.rows]
        words = max((stringWidth(word, MEDIUM, HEAD_SIZE) for word in head.split()), default=0.0)
        whole = stringWidth(head, MEDIUM, HEAD_SIZE)
        long = max((stringWidth(cell, REGULAR, size) for cell in cells), default=0.0)
        words, long = words + 0.5, long + 0.5
        if grid.texts[n]:
            word = max((stringWidth(w, REGULAR, size) for cell in cells for w in cell.split()), default=0.0)
            least.append(max(words, min(word + 0.5, LONGEST_WORD)) + PAD)
            wanted.append(max(least[-1], min(long, WRAPPED) + PAD))
        else:
            least.append(max(words, long) + PAD)
            wanted.append(max(least[-1], min(whole, 1.5 * least[-1]) + PAD))
    if sum(least) > room:
        return None
    if sum(wanted) > room:
        share = (room - sum(least)) / (sum(wanted) - sum(least))
        return [a + share * (b - a) for a, b in zip(least, wanted, strict=True)]
    return wanted


def table_flow(table: StudyTable, decimals: Decimals, room: float, turned: float) -> list[Flowable]:
    """A table of a study with its title, in a page's room, or on a page that is turned."""
    grid = printed(filled(table), decimals)
    first = table.printed if table.printed is not None else FIRST_ROWS if len(grid.rows) > MOST_ROWS else len(grid.rows)
    more = max(len(grid.rows) - first, 0)
    if not first:
        words = f"{table.title}: {len(table.rows)} rows, in the tables that are saved with the report."
        return [Paragraph(escape(words), style_of(7.5))]
    grid = Grid(grid.heads, grid.rows[:first], grid.texts, grid.minor)
    rest = (
        [Paragraph(f"{more} more rows are in the tables that are saved with the report.", style_of(7.5))]
        if more
        else []
    )
    title = escape(table.title)
    for columns in _choices(grid):
        fitted = grid.only(columns)
        wide = widths(fitted, room)
        if wide is not None:
            return [*_set(title, fitted, wide, room), *rest]
    for columns in _choices(grid):
        fitted = grid.only(columns)
        wide = widths(fitted, turned)
        if wide is not None:
            return [*_turned([*_set(title, fitted, wide, turned), *rest])]
    return _turned(
        [*(piece for part in _parted(grid, turned) for piece in _set(title, part, widths(part, turned), turned)), *rest]
    )


def summary_table(grid: Grid, room: float, total: bool) -> Table:
    """A table of the summary, over the whole room; the last row sums up where there is a ``total``."""
    wide = widths(grid, room, 8) or [room / len(grid.heads)] * len(grid.heads)
    shown = _body(grid, _spread(wide, grid, room))
    if total:
        shown.setStyle([("FONT", (0, -1), (-1, -1), BOLD, SIZE)])
    return shown


def _choices(grid: Grid) -> list[list[int]]:
    every = list(range(len(grid.heads)))
    needed = [n for n in every if not grid.minor[n]]
    return [every] if len(needed) == len(every) else [every, needed]


def _turned(pieces: list[Flowable]) -> list[Flowable]:
    return [NextPageTemplate(TURNED), PageBreak(), *pieces, NextPageTemplate(UPRIGHT), PageBreak()]


def _parted(grid: Grid, room: float) -> list[Grid]:
    """A grid that is too wide for any page, part by part; the first column stands in each."""
    parts, now = [], [0]
    for n in range(1, len(grid.heads)):
        if len(now) > 1 and widths(grid.only([*now, n]), room) is None:
            parts.append(now)
            now = [0]
        now.append(n)
    return [grid.only(columns) for columns in [*parts, now]]


def _set(title: str, grid: Grid, wide: list[float] | None, room: float) -> list[Flowable]:
    wide = wide or [room / len(grid.heads)] * len(grid.heads)
    beside = int((room + GAP) // (sum(wide) + GAP)) if len(grid.rows) > SEVERAL_BESIDE else 1
    if beside > 1:
        beside = min(beside, 3)
        deep = -(-len(grid.rows) // beside)
        parts = [_body(Grid(grid.heads, grid.rows[k * deep : (k + 1) * deep], grid.texts, grid.minor), wide)
                 for k in range(beside)]  # fmt: skip
        return _several(title, parts, sum(wide), room)
    if len(grid.rows) > TOGETHER:
        return [CondPageBreak(45 * mm), title_of(title), _body(grid, _spread(wide, grid, room)), Spacer(1, 1 * mm)]
    return [KeepTogether([title_of(title), _body(grid, _spread(wide, grid, room))]), Spacer(1, 1 * mm)]


def _spread(wide: list[float], grid: Grid, room: float) -> list[float]:
    """Columns over the whole room; texts take what is left, or all of them where none is."""
    left = room - sum(wide)
    takers = [n for n, text in enumerate(grid.texts) if text and n] or list(range(len(wide)))
    return [w + (left / len(takers) if n in takers else 0.0) for n, w in enumerate(wide)]


def _several(title: str, parts: list[Table], wide: float, room: float) -> list[Flowable]:
    """Parts of a list beside one another."""
    gap = (room - len(parts) * wide) / max(len(parts) - 1, 1)
    cells: list[Any] = []
    columns: list[float] = []
    for part in parts:
        cells += [part, ""] if len(cells) < 2 * len(parts) - 2 else [part]
    columns = [gap if n % 2 else wide for n in range(len(cells))]
    outer = Table([cells], colWidths=columns)
    outer.setStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0),
                    ("RIGHTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 0),
                    ("BOTTOMPADDING", (0, 0), (-1, -1), 0)])  # fmt: skip
    return [CondPageBreak(60 * mm), title_of(title), outer, Spacer(1, 1 * mm)]


def _body(grid: Grid, wide: list[float]) -> Table:
    heads = [
        Paragraph(escape(head), style_of(HEAD_SIZE, fontName=MEDIUM, textColor=QUIET, splitLongWords=0,
                                         alignment=TA_LEFT if text or not n else TA_RIGHT))
        for n, (head, text) in enumerate(zip(grid.heads, grid.texts, strict=True))
    ]  # fmt: skip
    plain = style_of(SIZE)
    rows: list[list[Any]] = [heads]
    for row in grid.rows:
        rows.append(
            [
                Paragraph(escape(cell), plain) if text and cell else cell
                for cell, text in zip(row, grid.texts, strict=True)
            ]
        )
    shown = Rows(rows, colWidths=wide, repeatRows=1)
    style = [*rules(numbers_from=1), ("FONT", (0, 1), (-1, -1), REGULAR, SIZE)]
    style += [("ALIGN", (n, 0), (n, -1), "LEFT") for n, text in enumerate(grid.texts) if text]
    shown.setStyle(style)
    return shown


def printed(table: StudyTable, decimals: Decimals) -> Grid:
    """A table as it is printed."""
    bounds, columns = bound_by(table), printed_columns(table, decimals)
    texts = [any(isinstance(row[n], str) for row in table.rows) for n in range(len(table.columns))]
    rows = [[cell if isinstance(cell, str) else printed_cell(table, row, n, decimals, bounds) for n, cell in enumerate(row)]
            for row in table.rows]  # fmt: skip
    return Grid([heading(column) for column in columns], rows, texts, [column.minor for column in table.columns])


def filled(table: StudyTable) -> StudyTable:
    """The table without the columns in which no row has anything."""
    kept = [
        n for n in range(len(table.columns)) if not table.rows or any(row[n] not in (None, "") for row in table.rows)
    ]
    rows = tuple(tuple(row[n] for n in kept) for row in table.rows)
    return StudyTable(table.title, tuple(table.columns[n] for n in kept), rows, table.printed)
