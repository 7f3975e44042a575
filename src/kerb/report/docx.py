"""A report as a Word document (Office Open XML, ISO/IEC 29500), which a client can edit: the same words, figures, tables and
pictures as the PDF."""

from __future__ import annotations

import io
from typing import Any

import docx
import pypdfium2 as pdfium
from docx.enum.table import WD_TABLE_ALIGNMENT
from docx.enum.text import WD_ALIGN_PARAGRAPH
from docx.oxml import OxmlElement
from docx.oxml.ns import qn
from docx.shared import Mm, Pt, RGBColor
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

from kerb.core.progress import Progress
from kerb.report import pdf
from kerb.report.flow import PlanFigure, PlotFigure, ProfileFigure, register_fonts
from kerb.report.pdf import Chapter
from kerb.report.plan import plan_of
from kerb.report.repeat import repeat_lines
from kerb.report.sections_figure import section_figures
from kerb.report.tables import FIRST_ROWS, MOST_ROWS, Grid, filled, printed
from kerb.studies.kind import REPORT
from kerb.studies.layers import Profile, Sections
from kerb.studies.outcome import Outcome
from kerb.studies.outcome import Table as StudyTable
from kerb.studies.registry import study_kind

FONT, SIZE, SMALL = "Arial", 9.5, 8.0
ALARM, QUIET, PAPER = RGBColor(0xA8, 0x3A, 0x1E), RGBColor(0x6A, 0x70, 0x72), "FDF3DF"
WIDTH_MM, SCALE = 170.0, 3.0
# Letters that a property of a document may have.
PROPERTY = 255


def make_document(chapters: list[Chapter], wish: pdf.ReportWish, progress: Progress | None = None) -> bytes:
    """The report as the bytes of a Word document. Raises Cancelled."""
    register_fonts()
    watch = progress or Progress()
    document = docx.Document()
    _set_up(document, wish)
    for number, chapter in enumerate(chapters):
        watch.step(number / len(chapters), f"Report: {chapter.name}")
        if number:
            document.add_page_break()
        _chapter(document, chapter, wish)
    if "signature" in wish.sections:
        _signature(document, wish)
    out = io.BytesIO()
    document.save(out)
    return out.getvalue()


def _set_up(document: Any, wish: pdf.ReportWish) -> None:
    """Page, fonts, title and footer."""
    style = document.styles["Normal"]
    style.font.name, style.font.size = FONT, Pt(SIZE)
    style.paragraph_format.space_after = Pt(3)
    for name in ("Title", "Heading 1", "Heading 2"):
        own = document.styles[name]
        own.font.name, own.font.color.rgb = FONT, RGBColor(0x23, 0x28, 0x2A)
        own.element.rPr.rFonts.set(qn("w:asciiTheme"), "")
        for key in ("w:asciiTheme", "w:hAnsiTheme", "w:eastAsiaTheme", "w:cstheme"):
            own.element.rPr.rFonts.attrib.pop(qn(key), None)
    section = document.sections[0]
    section.page_width, section.page_height = Mm(210), Mm(297)
    section.left_margin = section.right_margin = Mm(20)
    section.top_margin = section.bottom_margin = Mm(18)
    title = wish.title
    about_it = document.core_properties
    about_it.title, about_it.author = _plain(title.name)[:PROPERTY], _plain(title.analyst)[:PROPERTY]
    document.add_heading(_plain(title.name) or "Report", 0)
    about = [words for words in (title.client, title.site, title.analyst, wish.day) if words]
    if about:
        _say(document, " · ".join(about), SMALL, colour=QUIET)
    section.footer.paragraphs[0].text = _plain(title.name)


def _say(document: Any, words: str, size: float = SIZE, bold: bool = False, colour: RGBColor | None = None) -> Any:
    paragraph = document.add_paragraph()
    run = paragraph.add_run(_plain(words))
    run.font.size, run.bold = Pt(size), bold
    if colour is not None:
        run.font.color.rgb = colour
    return paragraph


def _plain(words: str) -> str:
    """Without what XML cannot hold: control characters that a name of a file may have."""
    return "".join(
        letter for letter in words if letter in "\t\n" or (ord(letter) >= 32 and not 0xD800 <= ord(letter) <= 0xDFFF)
    )


def _chapter(document: Any, chapter: Chapter, wish: pdf.ReportWish) -> None:
    outcome, decimals = chapter.outcome, wish.title.decimals
    kind = study_kind(outcome.study)
    document.add_heading(_plain(chapter.name), 1)
    _say(document, f"{kind.question} · {pdf.surveyed(outcome)}", SMALL, colour=QUIET)
    if chapter.out_of_date:
        _say(document, chapter.out_of_date, SIZE, True, ALARM)
    headline, words = pdf.headline_words(outcome, kind, decimals)
    _say(document, headline, 22, True)
    if outcome.verdict:
        _say(document, f"Warning: {outcome.verdict}", 11, True, ALARM)
    _say(document, words, SMALL, colour=QUIET)
    for note in dict.fromkeys(note.text for note in outcome.warnings):
        _shade(_say(document, f"Note: {note}", SMALL))
    rows = [
        (figure.label, pdf.text_of(figure, about, decimals))
        for about in kind.where(REPORT)
        if (figure := outcome.figures.get(about.name)) is not None and not (about.optional and figure.value is None)
    ]
    _table(document, Grid(["", ""], [list(row) for row in rows], [True, False], [False, False]), heads=False)
    _pictures(document, chapter, wish)
    for table in pdf.chosen_tables(chapter, wish):
        _study_table(document, table, wish)
    _how(document, chapter, wish)


def _pictures(document: Any, chapter: Chapter, wish: pdf.ReportWish) -> None:
    outcome, width = chapter.outcome, WIDTH_MM / 25.4 * 72
    lines = [chart.line for chart in pdf.charts_of(chapter) if isinstance(chart, Profile)]
    if "plan" in wish.sections:
        plan = plan_of(chapter.cloud, outcome, lines, wish.title.decimals, look=chapter.look)
        if plan is not None:
            _picture(document, PlanFigure(plan, outcome.unit, width))
    if "profiles" not in wish.sections:
        return
    profiles = 0
    for chart in pdf.charts_of(chapter):
        if isinstance(chart, Profile):
            _picture(document, ProfileFigure(chart, outcome.unit, width, 68.0, profiles))
            profiles += 1
        elif isinstance(chart, Sections):
            for piece in section_figures(chart, outcome.unit, width):
                _picture(document, piece)
        else:
            _picture(document, PlotFigure(chart, width, 96.0))


def _picture(document: Any, piece: Flowable) -> None:
    """What the PDF draws, as a picture."""
    width = WIDTH_MM / 25.4 * 72
    wide, high = piece.wrap(width, 700.0)
    if wide <= 0 or high <= 0:
        return
    page = io.BytesIO()
    canvas = Canvas(page, pagesize=(width, high))
    piece.drawOn(canvas, 0, 0)
    canvas.showPage()
    canvas.save()
    drawn = pdfium.PdfDocument(page.getvalue())
    image = io.BytesIO()
    drawn[0].render(scale=SCALE).to_pil().save(image, "PNG", optimize=True)
    drawn.close()
    image.seek(0)
    document.add_picture(image, width=Mm(WIDTH_MM))


def _study_table(document: Any, table: StudyTable, wish: pdf.ReportWish) -> None:
    """A table, as many of its rows as the PDF has."""
    grid = printed(filled(table), wish.title.decimals)
    rows = len(grid.rows)
    first = table.printed if table.printed is not None else FIRST_ROWS if rows > MOST_ROWS else rows
    if not first:
        _say(document, f"{table.title}: {rows} rows, in the tables that are saved with the report.", SMALL)
        return
    document.add_heading(_plain(table.title), 2)
    _table(document, Grid(grid.heads, grid.rows[:first], grid.texts, grid.minor))
    if rows > first:
        _say(document, f"{rows - first} more rows are in the tables that are saved with the report.", SMALL)


def _table(document: Any, grid: Grid, heads: bool = True) -> None:
    if not grid.rows:
        return
    table = document.add_table(rows=int(heads), cols=len(grid.heads))
    table.style, table.alignment = "Light Grid", WD_TABLE_ALIGNMENT.LEFT
    if heads:
        _fill(table.rows[0], grid.heads, grid.texts, True)
        # The heads stand again on each page.
        properties = table.rows[0]._tr.get_or_add_trPr()
        again = OxmlElement("w:tblHeader")
        again.set(qn("w:val"), "true")
        properties.append(again)
    for row in grid.rows:
        _fill(table.add_row(), row, grid.texts, False)
    document.add_paragraph()


def _fill(row: Any, cells: list[str], texts: list[bool], bold: bool) -> None:
    for cell, words, text in zip(row.cells, cells, texts, strict=True):
        paragraph = cell.paragraphs[0]
        paragraph.paragraph_format.space_after = Pt(0)
        run = paragraph.add_run(_plain(words))
        run.font.size, run.bold = Pt(SMALL), bold
        if not text:
            paragraph.alignment = WD_ALIGN_PARAGRAPH.RIGHT


def _shade(paragraph: Any) -> None:
    shade = OxmlElement("w:shd")
    for key, value in (("val", "clear"), ("color", "auto"), ("fill", PAPER)):
        shade.set(qn(f"w:{key}"), value)
    paragraph._p.get_or_add_pPr().append(shade)


def _how(document: Any, chapter: Chapter, wish: pdf.ReportWish) -> None:
    outcome: Outcome = chapter.outcome
    if "method" in wish.sections and outcome.method:
        document.add_heading("Method", 2)
        _say(document, outcome.method, SMALL)
    if "inputs" in wish.sections and outcome.inputs:
        document.add_heading("Inputs", 2)
        for words in pdf.input_words(outcome):
            _say(document, words, SMALL)
    if "repeat" in wish.sections and chapter.setup is not None:
        lines = [f"{label}: {words}" for label, words in repeat_lines(chapter.setup, outcome, wish.title.decimals)]
        document.add_heading("To repeat it", 2)
        _say(document, ". ".join(lines) + ".", SMALL)


def _signature(document: Any, wish: pdf.ReportWish) -> None:
    document.add_paragraph()
    _say(document, "_" * 60, SMALL)
    _say(document, f"Analyst: {wish.title.analyst}        Signature        Date", SMALL, colour=QUIET)
