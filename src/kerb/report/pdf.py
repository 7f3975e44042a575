"""The report for the client: outcomes to PDF, a page a study, with title block, summary and a place to sign."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from reportlab import rl_config
from reportlab.lib.enums import TA_LEFT, TA_RIGHT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import (
    BaseDocTemplate,
    Flowable,
    Frame,
    KeepInFrame,
    PageBreak,
    PageTemplate,
    Paragraph,
    Spacer,
    Table,
)

from kerb import __version__
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import OutputError
from kerb.core.quantity import Decimals, bound, count, quantity, readable
from kerb.formats.written import placed_when_complete
from kerb.job.state import Title
from kerb.report.appendix import page_flow
from kerb.report.flow import (
    ACCENT,
    ALARM,
    BOLD,
    HAIR,
    INK,
    MEDIUM,
    QUIET,
    REGULAR,
    WARN,
    PlanFigure,
    PlotFigure,
    ProfileFigure,
    Smaller,
    register_fonts,
    shortened,
)  # fmt: skip
from kerb.report.pages import PAGES
from kerb.report.plan import plan_of
from kerb.report.reading import method_text
from kerb.report.repeat import repeat_lines
from kerb.report.sections_figure import section_figures
from kerb.report.text import bound_by, heading, printed_cell, printed_columns
from kerb.studies.kind import COUNT, REPORT, SUMMARY, FigureAbout, StudyKind
from kerb.studies.layers import Chart, Profile, Sections
from kerb.studies.outcome import Figure, Outcome, bounded
from kerb.studies.outcome import Table as StudyTable
from kerb.studies.parts import joined, parts_of
from kerb.studies.profiles import Cutter
from kerb.studies.registry import study_kind
from kerb.studies.setup import Setup

SECTIONS = {
    "summary": "Summary table",
    "plan": "Plan picture",
    "profiles": "Profiles",
    "tables": "Tables of the study",
    "method": "Method",
    "inputs": "Inputs",
    "repeat": "What is needed to repeat it",
    "items": "A page for each item",
    "details": "All tables",
    "signature": "Place to sign",
    "appendix": "Methods as an appendix",
}
USUAL = ("summary", "plan", "profiles", "tables", "method", "inputs", "repeat", "items", "signature")
MARGIN = 17 * mm
MOST_ROWS = 400
# Pictures go in as bytes, not as letters: a file smaller by a sixth, made sooner.
rl_config.useA85 = 0
SCALES = (1.0, 0.94, 0.88, 0.82, 0.76, 0.7)


@dataclass(frozen=True)
class Chapter:
    """One study of the report: its name, what it found, the cloud its picture is drawn from, and how it was asked.

    ``out_of_date`` says in words that the outcome does not belong to what the study says now; ``look`` is how its map is.
    """

    name: str
    outcome: Outcome
    cloud: CloudStore | None = None
    setup: Setup | None = None
    out_of_date: str = ""
    look: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class ReportWish:
    """Title block, sections and page of a report."""

    title: Title = field(default_factory=Title)
    sections: tuple[str, ...] = USUAL
    day: str = ""


def write_report(path: Path, chapters: list[Chapter], wish: ReportWish, force: bool = False) -> None:
    """Write the report as PDF, beside its name first and moved there when complete.

    Raises
    ------
    OutputError, when the file exists (unless ``force``) or cannot be written.
    """
    if path.exists() and not force:
        raise OutputError(f"{path}: exists; not overwritten without --force")
    data = make_report(chapters, wish)
    with placed_when_complete(path) as partial:
        partial.write_bytes(data)


def make_report(chapters: list[Chapter], wish: ReportWish) -> bytes:
    """The report as the bytes of a PDF."""
    register_fonts()
    out = io.BytesIO()
    page = PAGES.get(wish.title.page, A4)
    document = BaseDocTemplate(
        out, pagesize=page, leftMargin=MARGIN, rightMargin=MARGIN, topMargin=25 * mm, bottomMargin=14 * mm,
        title=readable(wish.title.name), author=readable(wish.title.analyst), creator=f"Kerb {__version__}",
    )  # fmt: skip
    frame = Frame(
        MARGIN, 14 * mm, page[0] - 2 * MARGIN, page[1] - 38 * mm, leftPadding=0, rightPadding=0, topPadding=0,
        bottomPadding=0,
    )  # fmt: skip
    document.addPageTemplates(PageTemplate("page", [frame], onPage=lambda c, d: _furniture(c, d, wish)))
    width, height = page[0] - 2 * MARGIN, page[1] - 38 * mm - 1
    story: list[Flowable] = []
    if len(chapters) > 1 and "summary" in wish.sections:
        story += _summary(chapters, wish, width)
    for chapter in chapters:
        if story:
            story.append(PageBreak())
        for page in _pages(chapter, wish):
            if page is not chapter:
                story.append(PageBreak())
            # A page a study: a little smaller where there is much to say. Long tables may run on as long as they like.
            long = "details" in wish.sections or any(len(t.rows) > 12 for t in _chosen_tables(page, wish))
            long = long or any(isinstance(chart, Sections) for chart in page.outcome.charts)
            story += _chapter(page, wish, width) if long else [_on_a_page(page, wish, width, height)]
    if "appendix" in wish.sections:
        story += _appendix(chapters, width)
    document.build(story or [Paragraph("Nothing was chosen for this report.", _style(10))])
    return out.getvalue()


def _on_a_page(chapter: Chapter, wish: ReportWish, width: float, height: float) -> Flowable:
    """A chapter on one page, set smaller as a whole where it is long: all its parts keep their width."""
    for scale in SCALES:
        pieces = _chapter(chapter, wish, width / scale)
        needed = sum(
            piece.wrap(width / scale, 1e6)[1] + piece.getSpaceBefore() + piece.getSpaceAfter() for piece in pieces
        )
        if needed <= height / scale or scale == SCALES[-1]:
            break
    pieces = _chapter(chapter, wish, width / scale)
    return Smaller(KeepInFrame(width / scale, height / scale, pieces, mode="shrink"), scale)


def _furniture(canvas: Canvas, document: BaseDocTemplate, wish: ReportWish) -> None:
    """Title block at the head and page number at the foot of every page."""
    title, (width, height) = wish.title, document.pagesize
    left, right, top = MARGIN, width - MARGIN, height - 13 * mm
    canvas.saveState()
    if title.logo and Path(title.logo).exists():
        try:
            canvas.drawImage(
                title.logo, left, top - 3 * mm, height=9 * mm, width=30 * mm, preserveAspectRatio=True, anchor="sw",
                mask="auto",
            )  # fmt: skip
            left += 34 * mm
        except (OSError, ValueError):
            pass  # a logo that cannot be read must not stop a report
    canvas.setFont(BOLD, 10)
    canvas.setFillColor(INK)
    room = right - left - 55 * mm
    canvas.drawString(left, top, shortened(canvas, title.name, room))
    canvas.setFont(REGULAR, 8)
    canvas.setFillColor(QUIET)
    under = " · ".join(part for part in (title.site, title.client) if part)
    canvas.drawString(left, top - 10, shortened(canvas, under, room))
    canvas.drawRightString(right, top, f"Report of {wish.day or date.today().isoformat()}")
    analyst = shortened(canvas, f"Analyst: {title.analyst}", 52 * mm) if title.analyst else ""
    canvas.drawRightString(right, top - 10, analyst)
    canvas.setStrokeColor(HAIR)
    canvas.setLineWidth(0.5)
    canvas.line(MARGIN, top - 16, right, top - 16)
    canvas.setFont(REGULAR, 7)
    system = title.reference_system()
    datum = "" if system.vertical_name else " · vertical datum not stated"
    words = f"{system.sentence}{datum} · Kerb {__version__}"
    canvas.drawString(MARGIN, 9 * mm, shortened(canvas, words, right - MARGIN - 12 * mm))
    canvas.drawRightString(right, 9 * mm, f"{document.page}")
    canvas.restoreState()


def _style(size: float, **more: Any) -> ParagraphStyle:
    given = {"fontName": REGULAR, "textColor": INK, "leading": size * 1.32, **more}
    return ParagraphStyle(f"s{size}", fontSize=size, **given)


def _pages(chapter: Chapter, wish: ReportWish) -> list[Chapter]:
    """A chapter, and where it is wished a page for each item of it."""
    pages = [chapter]
    if "items" in wish.sections:
        pages += [
            Chapter(name, item, chapter.cloud, None, chapter.out_of_date)
            for name, item in chapter.outcome.items.items()
        ]
    return pages


def _summary(chapters: list[Chapter], wish: ReportWish, width: float) -> list[Flowable]:
    """A table for each kind of study: its figures for the summary, and the sums of those that add."""
    story: list[Flowable] = [Paragraph("Summary", _style(16, fontName=BOLD)), Spacer(1, 4 * mm)]
    groups: dict[str, list[Chapter]] = {}
    for chapter in chapters:
        groups.setdefault(chapter.outcome.study, []).append(chapter)
    for key, own in groups.items():
        story += _summary_of(study_kind(key), own, wish, width)
    if any(chapter.out_of_date for chapter in chapters):
        names = ", ".join(chapter.name for chapter in chapters if chapter.out_of_date)
        story.append(Paragraph(escape(f"Out of date: {names}."), _style(9, fontName=BOLD, textColor=ALARM)))
    return story


def _summary_of(kind: StudyKind, chapters: list[Chapter], wish: ReportWish, width: float) -> list[Flowable]:
    decimals, about = wish.title.decimals, kind.where(SUMMARY)
    names = [figure.name for figure in about]
    heads = [kind.title, *(figure.label for figure in about)]
    heads.insert(2, "95 % bound")
    heads.append("Notes")
    first_, *others = heads
    at_right = _style(7.5, fontName=MEDIUM, textColor=QUIET, alignment=TA_RIGHT)
    rows: list[list[Any]] = [[first_, *(Paragraph(escape(words), at_right) for words in others)]]
    for chapter in chapters:
        figures = chapter.outcome.figures
        cells = [_text_of(figures.get(figure.name), figure, decimals) for figure in about]
        first = figures.get(names[0])
        cells.insert(1, bound(first.u95, first.unit, decimals) if first else "—")
        name = f"{chapter.name} (out of date)" if chapter.out_of_date else chapter.name
        rows.append([Paragraph(escape(name), _style(8)), *cells, str(len(chapter.outcome.warnings) or "")])
    # Of two surveys of one yard nothing is summed: the same material would count twice.
    sums = len(chapters) > 1 and any(figure.adds for figure in about) and len({_survey_of(c) for c in chapters}) == 1
    if sums:
        rows.append(_sums(kind, chapters, decimals))
    wide = 0.2 if len(about) > 3 else 0.28
    shares = [0.75 if figure.quantity == COUNT else 1.4 for figure in about]
    shares.insert(1, 1.1)
    rest = [width * (1 - wide - 0.08) * share / sum(shares) for share in shares]
    table = Table(rows, colWidths=[width * wide, *rest, width * 0.08], repeatRows=1)
    table.setStyle(_table_style(numbers_from=1, total=sums))
    story: list[Flowable] = [table, Spacer(1, 3 * mm)]
    if sums:
        same = " and ".join(kind.shared).lower()
        words = "Of the total's bound, parts that have nothing to do with each other add by root sum of squares"
        words += f"; the {same}, which studies of one survey share, adds plainly." if same else "."
        story.append(Paragraph(escape(words), _style(7.5, textColor=QUIET)))
    return [*story, Spacer(1, 3 * mm)]


def _survey_of(chapter: Chapter) -> str:
    """The file that a chapter's compared points came from."""
    return chapter.outcome.inputs[0].path if chapter.outcome.inputs else ""


def _sums(kind: StudyKind, chapters: list[Chapter], decimals: Decimals) -> list[Any]:
    """The last row: sums of what adds, where every study has it in the same unit."""
    cells: list[str] = []
    spread = ""
    for place, figure in enumerate(kind.where(SUMMARY)):
        own = [chapter.outcome.figures.get(figure.name) for chapter in chapters]
        known = [one for one in own if one is not None and one.value is not None]
        units = {one.unit for one in known}
        if not figure.adds or len(known) < len(own) or len(units) != 1:
            cells.append("")
            continue
        parts = [parts_of(c.outcome) or {"": one.u95 or 0.0} for c, one in zip(chapters, known, strict=True)]
        together = joined(parts, kind.shared)
        whole = sum(one.value or 0.0 for one in known)
        cells.append(quantity(whole, units.pop(), decimals, u95=together if place == 0 else None))
        if place == 0:
            spread = bound(together, known[0].unit, decimals)
    cells.insert(1, spread)
    return ["Total", *cells, ""]


def _text_of(figure: Figure | None, about: FigureAbout, decimals: Decimals) -> str:
    if figure is None:
        return "—"
    if about.quantity == COUNT:
        return "—" if figure.value is None else count(int(figure.value))
    return quantity(figure.value, figure.unit, decimals, signed=about.signed, u95=figure.u95)


def _table_style(numbers_from: int, total: bool = False) -> list[tuple]:
    style: list[tuple] = [
        ("FONT", (0, 0), (-1, -1), REGULAR, 8),
        ("FONT", (0, 0), (-1, 0), MEDIUM, 7.5),
        ("TEXTCOLOR", (0, 0), (-1, 0), QUIET),
        ("TEXTCOLOR", (0, 1), (-1, -1), INK),
        ("LINEBELOW", (0, 0), (-1, -1), 0.35, HAIR),
        ("ALIGN", (numbers_from, 0), (-1, -1), "RIGHT"),
        ("TOPPADDING", (0, 0), (-1, -1), 1.5),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 1.9),
        ("LEFTPADDING", (0, 0), (0, -1), 0),
        ("RIGHTPADDING", (-1, 0), (-1, -1), 0),
        ("VALIGN", (0, 0), (-1, -1), "TOP"),
    ]
    if total:
        style.append(("FONT", (0, -1), (-1, -1), BOLD, 8))
    return style


def _chapter(chapter: Chapter, wish: ReportWish, width: float) -> list[Flowable]:
    outcome = chapter.outcome
    kind = study_kind(outcome.study)
    story: list[Flowable] = [
        Paragraph(escape(chapter.name), _style(16, fontName=BOLD)),
        Paragraph(escape(" · ".join([kind.question, _surveyed(outcome)])), _style(9, textColor=QUIET)),
        Spacer(1, 1.5 * mm),
        *_out_of_date(chapter, width),
        *_headline(outcome, kind, wish.title.decimals),
        *_warnings(outcome, width),
        Spacer(1, 3 * mm),
        _figures_and_plan(chapter, kind, wish, width),
        Spacer(1, 3 * mm),
    ]
    if "profiles" in wish.sections:
        profiles = 0
        for chart in _charts(chapter):
            if isinstance(chart, Profile):
                story.append(ProfileFigure(chart, outcome.unit, width, 24 * mm, profiles))
                profiles += 1
            elif isinstance(chart, Sections):
                story += section_figures(chart, outcome.unit, width)
            else:
                story.append(PlotFigure(chart, width, 34 * mm))
    for table in _chosen_tables(chapter, wish):
        story += _table(table, wish.title.decimals, width)
    if "method" in wish.sections and outcome.method:
        story += [_heading("Method"), Paragraph(escape(outcome.method), _style(7.5))]
    if "inputs" in wish.sections:
        story += _inputs(outcome)
    if "repeat" in wish.sections and chapter.setup is not None:
        story += _repeat(chapter, wish.title.decimals)
    if "signature" in wish.sections:
        story += [Spacer(1, 3 * mm), _signature(wish, width)]
    return story


def _out_of_date(chapter: Chapter, width: float) -> list[Flowable]:
    """A band across the page when the figure belongs to another state of the study."""
    if not chapter.out_of_date:
        return []
    words = Paragraph(escape(f"Out of date: {chapter.out_of_date}"), _style(10, fontName=BOLD, textColor=ALARM))
    table = Table([[words]], colWidths=[width])
    table.setStyle([("BOX", (0, 0), (-1, -1), 1.2, ALARM), ("BACKGROUND", (0, 0), (-1, -1), WARN)])
    return [table, Spacer(1, 2 * mm)]


def _headline(outcome: Outcome, kind: StudyKind, decimals: Decimals) -> list[Flowable]:
    about = kind.headline
    figure = outcome.figures.get(about.name)
    details = []
    if figure is not None and figure.u95 is not None:
        details.append(bounded(figure, decimals))
    for other in kind.where("headline")[1:]:
        more = outcome.figures.get(other.name)
        if more is not None and more.value is not None:
            details.append(_text_of(more, other, decimals))
    if kind.describe is not None:
        details += kind.describe(outcome.settings, outcome)
    words = about.label + (", " + " · ".join(details) if details else "")
    doubt = [Paragraph(escape(f"Warning: {outcome.verdict}"), _style(11, fontName=BOLD, textColor=ALARM))]
    return [
        Paragraph(escape(_text_of(figure, about, decimals)), _style(27, fontName=BOLD, leading=31)),
        *(doubt if outcome.verdict else []),
        Paragraph(escape(words), _style(9, textColor=QUIET)),
    ]


def _warnings(outcome: Outcome, width: float) -> list[Flowable]:
    if not outcome.warnings:
        return []
    rows = [
        [Paragraph(f'<font name="{BOLD}">Note</font>&nbsp;&nbsp;{escape(note.text)}', _style(8))]
        for note in outcome.warnings
    ]
    table = Table(rows, colWidths=[width])
    table.setStyle(
        [
            ("BACKGROUND", (0, 0), (-1, -1), WARN),
            ("TOPPADDING", (0, 0), (-1, -1), 2.5),
            ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
            ("LEFTPADDING", (0, 0), (-1, -1), 6),
        ]
    )
    return [Spacer(1, 2.5 * mm), table]


def _figures_and_plan(chapter: Chapter, kind: StudyKind, wish: ReportWish, width: float) -> Flowable:
    outcome, decimals = chapter.outcome, wish.title.decimals
    left = width * 0.44
    rows = [
        [outcome.figures[about.name].label, _text_of(outcome.figures[about.name], about, decimals)]
        for about in kind.where(REPORT)
        if about.name in outcome.figures and not (about.optional and outcome.figures[about.name].value is None)
    ]  # fmt: skip
    table = Table(rows or [["", ""]], colWidths=[left * 0.6, left * 0.4])
    table.setStyle(
        [
            *_table_style(numbers_from=1),
            ("FONT", (0, 0), (-1, 0), REGULAR, 8),
            ("TEXTCOLOR", (0, 0), (-1, 0), INK),
        ]
    )
    lines = [c.line for c in _charts(chapter) if isinstance(c, Profile)] if "profiles" in wish.sections else []
    plan = plan_of(chapter.cloud, outcome, lines, decimals, look=chapter.look) if "plan" in wish.sections else None
    if plan is None:
        return table
    picture = PlanFigure(plan, outcome.unit, width * 0.50)
    both = Table([[table, picture]], colWidths=[width * 0.50, width * 0.50])
    both.setStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0),
                   ("RIGHTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 0)])  # fmt: skip
    return both


def _heading(text: str) -> Flowable:
    return Paragraph(text, _style(8.5, fontName=MEDIUM, textColor=ACCENT, spaceBefore=6, spaceAfter=2))


def _chosen_tables(chapter: Chapter, wish: ReportWish) -> list[StudyTable]:
    """The tables of a chapter: those its kind puts into the report, or all of them."""
    outcome = chapter.outcome
    kind = study_kind(outcome.study)
    if "details" in wish.sections:
        return list(outcome.tables.values())
    names = kind.tables if "tables" in wish.sections else ()
    return [outcome.tables[name] for name in names if name in outcome.tables]


def _table(table: StudyTable, decimals: Decimals, width: float) -> list[Flowable]:
    """A table of a study: numbers at the right with their unit in the heading, long texts wrapped, no empty columns."""
    table = _filled(table)
    bounds, columns = bound_by(table), printed_columns(table, decimals)
    count_ = len(table.columns)
    texts = [any(isinstance(row[n], str) for row in table.rows) for n in range(count_)]
    words = [max((len(word) for word in heading(c).split()), default=4) for c in columns]
    longest = [max((len(r[n]) for r in table.rows[:50] if isinstance(r[n], str)), default=0) for n in range(count_)]
    weights = [max(min(length, 44), word + 2) if text else max(9, word + 1)
               for length, word, text in zip(longest, words, texts, strict=True)]  # fmt: skip
    size = 7.5 if count_ <= 8 else 5.4
    heads = [
        Paragraph(
            escape(heading(c)),
            _style(size, fontName=MEDIUM, textColor=QUIET, alignment=TA_LEFT if text or not n else TA_RIGHT),
        )
        for n, (c, text) in enumerate(zip(columns, texts, strict=True))
    ]
    rows: list[list[Any]] = [heads]
    for row in table.rows[:MOST_ROWS]:
        cells: list[Any] = []
        for place, cell in enumerate(row):
            if isinstance(cell, str):
                cells.append(Paragraph(escape(cell), _style(size)))
            else:
                cells.append(printed_cell(table, row, place, decimals, bounds))
        rows.append(cells)
    shown = Table(rows, colWidths=[width * w / sum(weights) for w in weights], repeatRows=1)
    style = [*_table_style(numbers_from=1), ("FONT", (0, 1), (-1, -1), REGULAR, size)]
    style += [("ALIGN", (n, 0), (n, -1), "LEFT") for n, text in enumerate(texts) if text]
    shown.setStyle(style)
    more = len(table.rows) - MOST_ROWS
    tail = [Paragraph(f"and {more} more rows, in the files that come with this report", _style(7))] if more > 0 else []
    return [_heading(escape(table.title)), shown, *tail]


def _filled(table: StudyTable) -> StudyTable:
    """The table without the columns in which no row has anything."""
    kept = [
        n for n in range(len(table.columns)) if not table.rows or any(row[n] not in (None, "") for row in table.rows)
    ]
    rows = tuple(tuple(row[n] for n in kept) for row in table.rows)
    return StudyTable(table.title, tuple(table.columns[n] for n in kept), rows)


def _inputs(outcome: Outcome) -> list[Flowable]:
    story: list[Flowable] = [_heading("Inputs")]
    for item in outcome.inputs:
        name = Path(item.path).name or "cloud"
        role = item.role.capitalize()
        used = f", {count(item.used)} used" if item.used != item.points else ""
        survey = f"survey of {item.survey}" if item.survey else "date of survey not stated"
        text = f"{role}: {name}, {count(item.points)} {item.counts}{used}, {survey}. {item.detail[:1].upper()}{item.detail[1:]}"
        story.append(Paragraph(escape(text), _style(7.5)))
    return story


def _surveyed(outcome: Outcome) -> str:
    """The date of the survey, or that it is not stated."""
    dates = [item.survey for item in outcome.inputs if item.survey]
    return f"Survey of {dates[0]}" if dates else "date of survey not stated"


def _charts(chapter: Chapter) -> list[Chart]:
    outcome = chapter.outcome
    return Cutter(outcome).charts(chapter.setup) if chapter.setup is not None else outcome.charts


def _repeat(chapter: Chapter, decimals: Decimals) -> list[Flowable]:
    """Every setting the figure came from, and what was done to the data before."""
    assert chapter.setup is not None
    lines = [f"{label}: {words}" for label, words in repeat_lines(chapter.setup, chapter.outcome, decimals)]
    return [_heading("To repeat it"), Paragraph(escape(". ".join(lines) + "."), _style(7))]


def _appendix(chapters: list[Chapter], width: float) -> list[Flowable]:
    """The method page of each kind of study in the report."""
    story: list[Flowable] = []
    for key in dict.fromkeys(chapter.outcome.study for chapter in chapters):
        story.append(PageBreak())
        story += page_flow(method_text(study_kind(key).help_page), width)
    return story


def _signature(wish: ReportWish, width: float) -> Flowable:
    right = _style(7, textColor=QUIET, alignment=TA_RIGHT)
    table = Table(
        [["", "", ""], [Paragraph(f"Analyst: {escape(wish.title.analyst)}", _style(7, textColor=QUIET)),
                        Paragraph("Signature", _style(7, textColor=QUIET)), Paragraph("Date", right)]],
        colWidths=[width * 0.36, width * 0.4, width * 0.24], rowHeights=[8 * mm, None],
    )  # fmt: skip
    table.setStyle([("LINEABOVE", (0, 1), (-1, 1), 0.5, INK), ("LEFTPADDING", (0, 0), (0, -1), 0)])
    return table
