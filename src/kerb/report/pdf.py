"""The report for the client: outcomes to PDF, a page a study, with title block, summary and a place to sign."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from reportlab import rl_config
from reportlab.lib.enums import TA_RIGHT
from reportlab.lib.pagesizes import A4
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import (
    BaseDocTemplate,
    Flowable,
    Frame,
    KeepTogether,
    NextPageTemplate,
    PageBreak,
    PageTemplate,
    Paragraph,
    Spacer,
    Table,
)

from kerb import __version__
from kerb.core.cloud.store import CloudStore
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals, bound, count, quantity, readable
from kerb.job.state import Title
from kerb.report.appendix import page_flow
from kerb.report.flow import (
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
    register_fonts,
    shortened,
)  # fmt: skip
from kerb.report.pages import PAGES
from kerb.report.plan import plan_of
from kerb.report.reading import method_text
from kerb.report.repeat import repeat_lines
from kerb.report.sections_figure import section_figures
from kerb.report.tables import TURNED, UPRIGHT, Grid, rules, style_of, summary_table, table_flow, title_of
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
# Share of a page's width that the picture has.
PLAN_SHARE = 0.62
# Pictures go in as bytes, not as letters: a file smaller by a sixth, made sooner.
rl_config.useA85 = 0


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


def make_report(chapters: list[Chapter], wish: ReportWish, progress: Progress | None = None) -> bytes:
    """The report as the bytes of a PDF. Raises Cancelled."""
    story: list[Flowable] = []
    for part in pieces_of(chapters, wish, progress or Progress()):
        story += [*([PageBreak()] if story else []), *part]
    return _built(story, wish, 1)[0]


def make_parts(chapters: list[Chapter], wish: ReportWish, stopped: Callable[[], bool]) -> Iterator[bytes]:
    """The report part by part, each as a PDF of its own, for a preview that shows what is there; pages are numbered through."""
    page = 1
    for part in pieces_of(chapters, wish, Progress()):
        if stopped():
            return
        data, count_ = _built(part, wish, page)
        page += count_
        yield data


def pieces_of(chapters: list[Chapter], wish: ReportWish, progress: Progress) -> Iterator[list[Flowable]]:
    """What flows over the pages: a summary, the chapters with a page for each item, methods; at the end a place to sign."""
    register_fonts()
    room = _room(wish)
    signature = [KeepTogether([Spacer(1, 5 * mm), _signature(wish, room[0])])] if "signature" in wish.sections else []
    pages = [page for chapter in chapters for page in _pages(chapter, wish)]
    if len(chapters) > 1 and "summary" in wish.sections:
        yield _summary(chapters, wish, room)
    ending = [*_how(chapters, wish), *signature]
    for number, page in enumerate(pages):
        progress.step(number / len(pages), f"Report: {page.name}")
        yield [*_chapter(page, wish, room), *(ending if len(pages) == 1 else [])]
    if len(pages) > 1 and ending:
        yield ending
    if "appendix" in wish.sections:
        for key in dict.fromkeys(chapter.outcome.study for chapter in chapters):
            yield page_flow(method_text(study_kind(key).help_page), room[0])
    if not chapters:
        yield [Paragraph("Nothing was chosen for this report.", style_of(10))]


def _room(wish: ReportWish) -> tuple[float, float]:
    """Width of what stands on a page, and on one that is turned."""
    page = PAGES.get(wish.title.page, A4)
    return page[0] - 2 * MARGIN, page[1] - 2 * MARGIN


def _built(story: list[Flowable], wish: ReportWish, first: int) -> tuple[bytes, int]:
    """A PDF whose first page has a number, and how many pages it has."""
    out = io.BytesIO()
    page = PAGES.get(wish.title.page, A4)
    document = BaseDocTemplate(
        out, pagesize=page, leftMargin=MARGIN, rightMargin=MARGIN, topMargin=25 * mm, bottomMargin=14 * mm,
        title=readable(wish.title.name), author=readable(wish.title.analyst), creator=f"Kerb {__version__}",
    )  # fmt: skip

    def template(name: str, size: tuple[float, float]) -> PageTemplate:
        frame = Frame(
            MARGIN, 14 * mm, size[0] - 2 * MARGIN, size[1] - 38 * mm, leftPadding=0, rightPadding=0, topPadding=0,
            bottomPadding=0,
        )  # fmt: skip
        return PageTemplate(
            name, [frame], onPage=lambda c, d: _furniture(c, d.page + first - 1, size, wish), pagesize=size
        )

    document.addPageTemplates([template(UPRIGHT, page), template(TURNED, (page[1], page[0]))])
    document.build(story)
    return out.getvalue(), document.page


def _furniture(canvas: Canvas, page: int, size: tuple[float, float], wish: ReportWish) -> None:
    """Title block at the head and page number at the foot of every page."""
    title, (width, height) = wish.title, size
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
    canvas.drawRightString(right, 9 * mm, f"{page}")
    canvas.restoreState()


def _pages(chapter: Chapter, wish: ReportWish) -> list[Chapter]:
    """A chapter, and where it is wished a page for each item of it."""
    pages = [chapter]
    if "items" in wish.sections:
        pages += [
            Chapter(name, item, chapter.cloud, None, chapter.out_of_date)
            for name, item in chapter.outcome.items.items()
        ]
    return pages


def _summary(chapters: list[Chapter], wish: ReportWish, room: tuple[float, float]) -> list[Flowable]:
    """A table for each kind of study: its figures for the summary, and the sums of those that add."""
    story: list[Flowable] = [Paragraph("Summary", style_of(16, fontName=BOLD)), Spacer(1, 4 * mm)]
    groups: dict[str, list[Chapter]] = {}
    for chapter in chapters:
        groups.setdefault(chapter.outcome.study, []).append(chapter)
    for key, own in groups.items():
        story += _summary_of(study_kind(key), own, wish, room[0])
    if any(chapter.out_of_date for chapter in chapters):
        names = ", ".join(chapter.name for chapter in chapters if chapter.out_of_date)
        story.append(Paragraph(escape(f"Out of date: {names}."), style_of(9, fontName=BOLD, textColor=ALARM)))
    return story


def _summary_of(kind: StudyKind, chapters: list[Chapter], wish: ReportWish, room: float) -> list[Flowable]:
    decimals, about = wish.title.decimals, kind.where(SUMMARY)
    names = [figure.name for figure in about]
    heads = [kind.title, *(figure.label for figure in about)]
    first_figures = [chapter.outcome.figures.get(names[0]) for chapter in chapters]
    bounds = any(figure is not None and figure.u95 is not None for figure in first_figures)
    heads[2:2] = ["95 % bound"] if bounds else []
    heads.append("Notes")
    grid = Grid(heads, [], [n == 0 for n in range(len(heads))], [False] * len(heads))
    for chapter in chapters:
        figures = chapter.outcome.figures
        cells = [text_of(figures.get(figure.name), figure, decimals) for figure in about]
        first = figures.get(names[0])
        cells[1:1] = [bound(first.u95, first.unit, decimals) if first else "—"] if bounds else []
        name = f"{chapter.name} (out of date)" if chapter.out_of_date else chapter.name
        grid.rows.append([name, *cells, str(len(chapter.outcome.warnings) or "")])
    # Of two surveys of one yard nothing is summed: the same material would count twice.
    sums = len(chapters) > 1 and any(figure.adds for figure in about) and len({_survey_of(c) for c in chapters}) == 1
    if sums:
        grid.rows.append(_sums(kind, chapters, decimals, bounds))
    table = summary_table(grid, room, total=sums)
    story: list[Flowable] = [KeepTogether([table, Spacer(1, 3 * mm)]) if len(grid.rows) < 14 else table]
    if sums:
        same = " and ".join(kind.shared).lower()
        words = "Of the total's bound, parts that have nothing to do with each other add by root sum of squares"
        words += f"; the {same}, which studies of one survey share, adds plainly." if same else "."
        story.append(Paragraph(escape(words), style_of(7.5, textColor=QUIET)))
    return [*story, Spacer(1, 3 * mm)]


def _survey_of(chapter: Chapter) -> str:
    """The file that a chapter's compared points came from."""
    return chapter.outcome.inputs[0].path if chapter.outcome.inputs else ""


def _sums(kind: StudyKind, chapters: list[Chapter], decimals: Decimals, bounds: bool) -> list[Any]:
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
    cells[1:1] = [spread] if bounds else []
    return ["Total", *cells, ""]


def text_of(figure: Figure | None, about: FigureAbout, decimals: Decimals) -> str:
    """A figure as it is printed, a dash where there is none."""
    if figure is None:
        return "—"
    if about.quantity == COUNT and not figure.resolution:
        return "—" if figure.value is None else count(int(figure.value))
    return figure.text(decimals, about.signed)


def _chapter(chapter: Chapter, wish: ReportWish, room: tuple[float, float]) -> list[Flowable]:
    outcome, width = chapter.outcome, room[0]
    kind = study_kind(outcome.study)
    story: list[Flowable] = [
        Paragraph(escape(chapter.name), style_of(16, fontName=BOLD)),
        Paragraph(escape(" · ".join([kind.question, surveyed(outcome)])), style_of(9, textColor=QUIET)),
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
        for chart in charts_of(chapter):
            if isinstance(chart, Profile):
                story.append(ProfileFigure(chart, outcome.unit, width, 24 * mm, profiles))
                profiles += 1
            elif isinstance(chart, Sections):
                story += section_figures(chart, outcome.unit, width)
            else:
                story.append(PlotFigure(chart, width, 34 * mm))
    for table in chosen_tables(chapter, wish):
        story += table_flow(table, wish.title.decimals, *room)
    return _without_empty_pages(story)


def _how(chapters: list[Chapter], wish: ReportWish) -> list[Flowable]:
    """How the figures were made, study by study: methods, inputs and settings, running on from page to page."""
    story: list[Flowable] = []
    for chapter in chapters:
        outcome, own = chapter.outcome, []
        if "method" in wish.sections and outcome.method:
            own += [title_of("Method"), Paragraph(escape(outcome.method), style_of(7.5))]
        if "inputs" in wish.sections:
            own += _inputs(outcome)
        if "repeat" in wish.sections and chapter.setup is not None:
            own += _repeat(chapter, wish.title.decimals)
        if own and len(chapters) == 1:
            return own
        if own:
            name = Paragraph(escape(chapter.name), style_of(10.5, fontName=BOLD, spaceBefore=9, keepWithNext=1))
            story += [KeepTogether([name, *own[:2]]), *own[2:]]
    head = Paragraph("Methods, inputs and settings", style_of(16, fontName=BOLD))
    return [head, *story] if story else []


def _without_empty_pages(story: list[Flowable]) -> list[Flowable]:
    """A chapter that ends on a turned page goes on with nothing."""
    while story and isinstance(story[-1], (PageBreak, NextPageTemplate, Spacer)):
        story.pop()
    return [NextPageTemplate(UPRIGHT), *story]


def _out_of_date(chapter: Chapter, width: float) -> list[Flowable]:
    """A band across the page when the figure belongs to another state of the study."""
    if not chapter.out_of_date:
        return []
    words = Paragraph(escape(f"Out of date: {chapter.out_of_date}"), style_of(10, fontName=BOLD, textColor=ALARM))
    table = Table([[words]], colWidths=[width])
    table.setStyle([("BOX", (0, 0), (-1, -1), 1.2, ALARM), ("BACKGROUND", (0, 0), (-1, -1), WARN)])
    return [table, Spacer(1, 2 * mm)]


def headline_words(outcome: Outcome, kind: StudyKind, decimals: Decimals) -> tuple[str, str]:
    """The headline figure with its unit, and what stands beside it."""
    about = kind.headline
    figure = outcome.figures.get(about.name)
    details = []
    if figure is not None and figure.u95 is not None:
        details.append(bounded(figure, decimals))
    for other in kind.where("headline")[1:]:
        more = outcome.figures.get(other.name)
        if more is not None and more.value is not None:
            details.append(text_of(more, other, decimals))
    if kind.describe is not None:
        details += kind.describe(outcome.settings, outcome)
    return text_of(figure, about, decimals), about.label + (", " + " · ".join(details) if details else "")


def _headline(outcome: Outcome, kind: StudyKind, decimals: Decimals) -> list[Flowable]:
    figure, words = headline_words(outcome, kind, decimals)
    doubt = [Paragraph(escape(f"Warning: {outcome.verdict}"), style_of(11, fontName=BOLD, textColor=ALARM))]
    return [
        Paragraph(escape(figure), style_of(27, fontName=BOLD, leading=31)),
        *(doubt if outcome.verdict else []),
        Paragraph(escape(words), style_of(9, textColor=QUIET)),
    ]


def _warnings(outcome: Outcome, width: float) -> list[Flowable]:
    if not outcome.warnings:
        return []
    rows = []
    for subject, texts in _grouped(outcome):
        words = (
            " ".join(texts)
            if not subject
            else f'<font name="{MEDIUM}">{escape(subject)}</font>&nbsp;&nbsp;' + " ".join(texts)
        )
        rows.append([Paragraph(f'<font name="{BOLD}">Note</font>&nbsp;&nbsp;{words}', style_of(8))])
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


def _grouped(outcome: Outcome) -> list[tuple[str, list[str]]]:
    """Notes one by one, those of an item of the outcome together under its name, each said once."""
    groups: dict[str, list[str]] = {}
    for number, note in enumerate(outcome.warnings):
        name, _, rest = note.text.partition(": ")
        subject = name if rest and name in outcome.items else ""
        text = escape(rest[:1].upper() + rest[1:] if subject else note.text)
        text = text if text.endswith((".", "?", "!")) or not subject else text + "."
        own = groups.setdefault(subject or f"\0{number}", [])
        own += [text] if text not in own else []
    return [("" if key.startswith("\0") else key, texts) for key, texts in groups.items()]


def _figures_and_plan(chapter: Chapter, kind: StudyKind, wish: ReportWish, width: float) -> Flowable:
    outcome, decimals = chapter.outcome, wish.title.decimals
    left = width * (1 - PLAN_SHARE) - 3 * mm
    shown = [(about, outcome.figures[about.name]) for about in kind.where(REPORT) if about.name in outcome.figures]
    rows = [
        [Paragraph(escape(figure.label), style_of(8)), text_of(figure, about, decimals)]
        for about, figure in shown
        if not (about.optional and figure.value is None)
    ]
    values = max((stringWidth(words, REGULAR, 8) for _, words in rows), default=0.0) + 2
    values = min(values, 0.6 * left)
    table = Table(rows or [["", ""]], colWidths=[left - values, values])
    table.setStyle(
        [
            *rules(numbers_from=1),
            ("RIGHTPADDING", (0, 0), (0, -1), 4),
            ("FONT", (0, 0), (-1, 0), REGULAR, 8),
            ("TEXTCOLOR", (0, 0), (-1, 0), INK),
        ]
    )
    lines = [c.line for c in charts_of(chapter) if isinstance(c, Profile)] if "profiles" in wish.sections else []
    plan = plan_of(chapter.cloud, outcome, lines, decimals, look=chapter.look) if "plan" in wish.sections else None
    if plan is None:
        table.hAlign = "LEFT"
        return table
    picture = PlanFigure(plan, outcome.unit, width * PLAN_SHARE)
    both = Table([[table, picture]], colWidths=[width * (1 - PLAN_SHARE), width * PLAN_SHARE])
    both.setStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0),
                   ("RIGHTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 0)])  # fmt: skip
    return both


def chosen_tables(chapter: Chapter, wish: ReportWish) -> list[StudyTable]:
    """The tables of a chapter: those its kind puts into the report, or all of them."""
    outcome = chapter.outcome
    kind = study_kind(outcome.study)
    if "details" in wish.sections:
        return list(outcome.tables.values())
    names = kind.tables if "tables" in wish.sections else ()
    return [outcome.tables[name] for name in names if name in outcome.tables]


def input_words(outcome: Outcome) -> list[str]:
    """What went in, a sentence each."""
    made = []
    for item in outcome.inputs:
        name = Path(item.path).name or "cloud"
        role = item.role.capitalize()
        used = f", {count(item.used)} used" if item.used != item.points else ""
        survey = f"survey of {item.survey}" if item.survey else "date of survey not stated"
        made.append(
            f"{role}: {name}, {count(item.points)} {item.counts}{used}, {survey}. {item.detail[:1].upper()}{item.detail[1:]}"
        )
    return made


def _inputs(outcome: Outcome) -> list[Flowable]:
    return [title_of("Inputs"), *(Paragraph(escape(words), style_of(7.5)) for words in input_words(outcome))]


def surveyed(outcome: Outcome) -> str:
    """The date of the survey, or that it is not stated."""
    dates = [item.survey for item in outcome.inputs if item.survey]
    return f"Survey of {dates[0]}" if dates else "date of survey not stated"


def charts_of(chapter: Chapter) -> list[Chart]:
    """The charts of a chapter, profiles along its present lines."""
    outcome = chapter.outcome
    return Cutter(outcome).charts(chapter.setup) if chapter.setup is not None else outcome.charts


def _repeat(chapter: Chapter, decimals: Decimals) -> list[Flowable]:
    """Every setting the figure came from, and what was done to the data before."""
    assert chapter.setup is not None
    lines = [f"{label}: {words}" for label, words in repeat_lines(chapter.setup, chapter.outcome, decimals)]
    return [title_of("To repeat it"), Paragraph(escape(". ".join(lines) + "."), style_of(7))]


def _signature(wish: ReportWish, width: float) -> Flowable:
    right = style_of(7, textColor=QUIET, alignment=TA_RIGHT)
    table = Table(
        [["", "", ""], [Paragraph(f"Analyst: {escape(wish.title.analyst)}", style_of(7, textColor=QUIET)),
                        Paragraph("Signature", style_of(7, textColor=QUIET)), Paragraph("Date", right)]],
        colWidths=[width * 0.36, width * 0.4, width * 0.24], rowHeights=[8 * mm, None],
    )  # fmt: skip
    table.setStyle([("LINEABOVE", (0, 1), (-1, 1), 0.5, INK), ("LEFTPADDING", (0, 0), (0, -1), 0)])
    return table
