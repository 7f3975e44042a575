"""The report for the client: outcomes to PDF, a page a study, with title block, summary and a place to sign."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from datetime import date
from importlib import resources
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from reportlab.lib.enums import TA_RIGHT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
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
from kerb.core.quantity import Decimals, count, quantity, symbol
from kerb.job.state import Title
from kerb.report.flow import (
    ACCENT,
    BOLD,
    HAIR,
    INK,
    MEDIUM,
    QUIET,
    REGULAR,
    WARN,
    PlanFigure,
    ProfileFigure,
)  # fmt: skip
from kerb.report.pages import PAGES
from kerb.report.plan import heap_plan
from kerb.studies.outcome import Outcome
from kerb.studies.registry import study_kind

SECTIONS = {
    "summary": "Summary table",
    "plan": "Plan picture",
    "profiles": "Profiles",
    "uncertainty": "Uncertainty parts",
    "method": "Method",
    "inputs": "Inputs",
    "toe": "Toe line table",
    "signature": "Place to sign",
}
USUAL = ("summary", "plan", "profiles", "uncertainty", "method", "inputs", "signature")
MARGIN = 17 * mm
DETAILS = (
    "above", "below", "plan_area", "surface_area", "highest", "height", "mean_slope", "steepest_slope", "gap_area",
    "check_net", "check_percent",
)  # fmt: skip


@dataclass(frozen=True)
class Chapter:
    """One study of the report: its name, what it found, and the cloud its picture is drawn from."""

    name: str
    outcome: Outcome
    cloud: CloudStore | None = None


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
    partial = path.with_name(path.name + ".partial")
    try:
        partial.write_bytes(data)
        partial.replace(path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise OutputError(f"{path}: {error.strerror or error}") from None


def make_report(chapters: list[Chapter], wish: ReportWish) -> bytes:
    """The report as the bytes of a PDF."""
    _register_fonts()
    out = io.BytesIO()
    page = PAGES.get(wish.title.page, A4)
    document = BaseDocTemplate(
        out, pagesize=page, leftMargin=MARGIN, rightMargin=MARGIN, topMargin=25 * mm, bottomMargin=14 * mm,
        title=wish.title.name, author=wish.title.analyst, creator=f"Kerb {__version__}",
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
        pieces = _chapter(chapter, wish, width)
        # A page a heap: a little smaller where there is much to say. The toe table may run on as long as it likes.
        fits = [KeepInFrame(width, height, pieces, mode="shrink")]
        story += pieces if "toe" in wish.sections else fits
    document.build(story or [Paragraph("Nothing was chosen for this report.", _style(10))])
    return out.getvalue()


def _register_fonts() -> None:
    if REGULAR in pdfmetrics.getRegisteredFontNames():
        return
    folder = resources.files("kerb") / "assets" / "fonts"
    for name, file in ((REGULAR, "Regular"), (MEDIUM, "Medium"), (BOLD, "SemiBold")):
        pdfmetrics.registerFont(TTFont(name, str(folder / f"PlexSans-{file}.ttf")))


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
    canvas.drawString(left, top, title.name)
    canvas.setFont(REGULAR, 8)
    canvas.setFillColor(QUIET)
    canvas.drawString(left, top - 10, " · ".join(part for part in (title.site, title.client) if part))
    canvas.drawRightString(right, top, wish.day or date.today().isoformat())
    canvas.drawRightString(right, top - 10, f"Analyst: {title.analyst}" if title.analyst else "")
    canvas.setStrokeColor(HAIR)
    canvas.setLineWidth(0.5)
    canvas.line(MARGIN, top - 16, right, top - 16)
    canvas.setFont(REGULAR, 7)
    system = title.reference_system().sentence
    canvas.drawString(MARGIN, 9 * mm, f"{system} · Kerb {__version__}")
    canvas.drawRightString(right, 9 * mm, f"{document.page}")
    canvas.restoreState()


def _style(size: float, **more: Any) -> ParagraphStyle:
    given = {"fontName": REGULAR, "textColor": INK, "leading": size * 1.32, **more}
    return ParagraphStyle(f"s{size}", fontSize=size, **given)


def _summary(chapters: list[Chapter], wish: ReportWish, width: float) -> list[Flowable]:
    decimals = wish.title.decimals
    rows = [["", "Net volume", "± 95 %", "Plan area", "Mass", "Notes"]]
    total, mass, spread = 0.0, 0.0, 0.0
    for chapter in chapters:
        figures = chapter.outcome.figures
        net = figures["net"]
        total += net.value or 0.0
        spread += (net.u95 or 0.0) ** 2
        mass += figures["mass"].value or 0.0
        rows.append(
            [
                chapter.name,
                quantity(net.value, net.unit, decimals),
                quantity(net.u95, net.unit, decimals),
                quantity(figures["plan_area"].value, figures["plan_area"].unit, decimals),
                quantity(figures["mass"].value, figures["mass"].unit, decimals),
                str(len(chapter.outcome.warnings) or ""),
            ]
        )
    unit = chapters[0].outcome.figures["net"].unit
    mass_units = {chapter.outcome.figures["mass"].unit for chapter in chapters}
    mass_text = quantity(mass or None, next(iter(mass_units)), decimals) if len(mass_units) == 1 else "—"
    rows.append(["Total", quantity(total, unit, decimals), quantity(spread**0.5, unit, decimals), "", mass_text, ""])
    table = Table(rows, colWidths=[width * share for share in (0.30, 0.18, 0.14, 0.15, 0.14, 0.09)])
    table.setStyle(_table_style(numbers_from=1, total=True))
    return [
        Paragraph("Summary", _style(16, fontName=BOLD)),
        Spacer(1, 4 * mm),
        table,
        Spacer(1, 3 * mm),
        Paragraph("The total's uncertainty takes the heaps as independent.", _style(7.5, textColor=QUIET)),
    ]


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
        Paragraph(escape(kind.question), _style(9, textColor=QUIET)),
        Spacer(1, 1.5 * mm),
        *_headline(outcome, kind.headline, wish.title.decimals),
        *_warnings(outcome, width),
        Spacer(1, 3 * mm),
        _figures_and_plan(chapter, wish, width),
        Spacer(1, 3 * mm),
    ]
    if "profiles" in wish.sections:
        story += [ProfileFigure(profile, outcome.unit, width, 22 * mm) for profile in outcome.profiles]
    if "uncertainty" in wish.sections and "uncertainty" in outcome.tables:
        story += _uncertainty(outcome, wish.title.decimals, width)
    if "toe" in wish.sections and "toe" in outcome.tables:
        story += _toe_table(outcome, wish.title.decimals, width)
    if "method" in wish.sections:
        story += [_heading("Method"), Paragraph(escape(outcome.method), _style(7.5))]
    if "inputs" in wish.sections:
        story += _inputs(outcome)
    if "signature" in wish.sections:
        story += [Spacer(1, 3 * mm), _signature(wish, width)]
    return story


def _headline(outcome: Outcome, name: str, decimals: Decimals) -> list[Flowable]:
    figure = outcome.figures[name]
    value = quantity(figure.value, figure.unit, decimals)
    details = []
    if figure.u95 is not None:
        details.append(f"± {quantity(figure.u95, figure.unit, decimals)} (95 %)")
    mass = outcome.figures.get("mass")
    if mass is not None and mass.value is not None:
        density = outcome.settings.get("density")
        at = f" at {density:g} {symbol(outcome.settings.get('density_unit', ''))}" if density else ""
        details.append(f"{quantity(mass.value, mass.unit, decimals)}{at}")
    material = outcome.settings.get("material")
    if material:
        details.append(str(material))
    return [
        Paragraph(f"{value}", _style(27, fontName=BOLD, leading=31)),
        Paragraph(escape(f"{figure.label} volume, " + " · ".join(details)), _style(9, textColor=QUIET)),
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


def _figures_and_plan(chapter: Chapter, wish: ReportWish, width: float) -> Flowable:
    outcome, decimals = chapter.outcome, wish.title.decimals
    left = width * 0.44
    rows = []
    for name in DETAILS:
        figure = outcome.figures.get(name)
        if figure is not None:
            signed = name == "check_percent"
            text = quantity(figure.value, figure.unit, decimals, signed=signed)
            rows.append([figure.label, text])
    table = Table(rows, colWidths=[left * 0.6, left * 0.4])
    table.setStyle(
        [
            *_table_style(numbers_from=1),
            ("FONT", (0, 0), (-1, 0), REGULAR, 8),
            ("TEXTCOLOR", (0, 0), (-1, 0), INK),
        ]
    )
    plan = None
    if "plan" in wish.sections and chapter.cloud is not None:
        plan = heap_plan(chapter.cloud, outcome)
    if plan is None:
        return table
    picture = PlanFigure(plan, outcome.lines["toe"], outcome.unit, width * 0.50)
    both = Table([[table, picture]], colWidths=[width * 0.50, width * 0.50])
    both.setStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (-1, -1), 0),
                   ("RIGHTPADDING", (0, 0), (-1, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 0)])  # fmt: skip
    return both


def _heading(text: str) -> Flowable:
    return Paragraph(text, _style(8.5, fontName=MEDIUM, textColor=ACCENT, spaceBefore=6, spaceAfter=2))


def _uncertainty(outcome: Outcome, decimals: Decimals, width: float) -> list[Flowable]:
    table = outcome.tables["uncertainty"]
    unit = table.columns[1].unit
    rows: list[list[Any]] = [["Part", "± 95 %", "How"]]
    for part, value, how in table.rows:
        rows.append([part, quantity(value, unit, decimals), Paragraph(escape(how), _style(7, textColor=QUIET))])
    shown = Table(rows, colWidths=[width * 0.2, width * 0.15, width * 0.65])
    style = [
        *_table_style(numbers_from=1, total=True),
        ("ALIGN", (2, 0), (2, -1), "LEFT"),
        ("LEFTPADDING", (2, 0), (2, -1), 10),
    ]
    shown.setStyle(style)
    return [_heading("Uncertainty of the volume"), shown]


def _toe_table(outcome: Outcome, decimals: Decimals, width: float) -> list[Flowable]:
    table = outcome.tables["toe"]
    rows = [[f"{c.label}" for c in table.columns]]
    for row in table.rows:
        rows.append([f"{cell:.{decimals.length}f}" if isinstance(cell, float) else str(cell) for cell in row])
    shown = Table(rows, colWidths=[width / len(rows[0])] * len(rows[0]), repeatRows=1)
    shown.setStyle(_table_style(numbers_from=1))
    return [_heading(f"Toe line ({symbol(outcome.unit)})"), shown]


def _inputs(outcome: Outcome) -> list[Flowable]:
    story: list[Flowable] = [_heading("Inputs")]
    for item in outcome.inputs:
        name = Path(item.path).name or "cloud"
        role = "Compared (top)" if item.role == "compared" else "Against (base)"
        text = f"{role}: {name}, {count(item.points)} points, {count(item.used)} used. {item.detail}"
        story.append(Paragraph(escape(text), _style(7.5)))
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
