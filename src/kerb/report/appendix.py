"""Method pages as an appendix of a report."""

from __future__ import annotations

import io
import re
from typing import Any

from PIL import Image
from reportlab.lib.styles import ParagraphStyle
from reportlab.platypus import Flowable, Paragraph, Spacer, Table
from reportlab.platypus import Image as PictureFlow

from kerb.report.flow import ACCENT, BOLD, HAIR, INK, MEDIUM, QUIET, REGULAR
from kerb.report.reading import FORMULA, HEADING, ITEM, PICTURE, TABLE, blocks_of, formula_picture, method_folder

SIZES = {1: 13.0, 2: 10.5, 3: 9.0}
DOTS = 4.0


def page_flow(text: str, width: float) -> list[Flowable]:
    """The flowing pieces of a method page; formulas are set, links are words."""
    story: list[Flowable] = []
    for block in blocks_of(text):
        if block.kind == HEADING:
            colour = INK if block.level == 1 else ACCENT
            story.append(Paragraph(_plain(block.text), _style(SIZES.get(block.level, 9.0), fontName=BOLD, textColor=colour,
                                                             spaceBefore=6, spaceAfter=2)))  # fmt: skip
        elif block.kind == FORMULA:
            story += [_formula(block.text), Spacer(1, 3)]
        elif block.kind == TABLE:
            story += [_table(block.rows, width), Spacer(1, 5)]
        elif block.kind == PICTURE:
            story += _picture(block.text, width)
        elif block.kind == ITEM:
            story.append(Paragraph(_plain(block.text), _style(8, leftIndent=10, bulletIndent=2), bulletText="•"))
        else:
            story.append(Paragraph(_plain(block.text), _style(8, spaceAfter=4)))
    return story


def _plain(html: str) -> str:
    """HTML as the report's paragraphs take it."""
    html = re.sub(r"</?a[^>]*>", "", html)
    for tag, font in (("strong", MEDIUM), ("code", REGULAR), ("em", REGULAR)):
        html = html.replace(f"<{tag}>", f'<font name="{font}">').replace(f"</{tag}>", "</font>")
    return html


def _formula(tex: str) -> Flowable:
    data = formula_picture(tex, "#23282a", 9.5, DOTS)
    size = Image.open(io.BytesIO(data)).size
    made = PictureFlow(io.BytesIO(data), size[0] / DOTS, size[1] / DOTS)
    made.hAlign = "LEFT"
    return made


def _picture(name: str, width: float) -> list[Flowable]:
    folder = method_folder()
    path = folder / name if folder is not None else None
    if path is None or not path.is_file():
        return []
    with Image.open(path) as picture:
        wide, high = picture.size
    shown = min(width * 0.7, wide * 0.5)
    return [PictureFlow(str(path), shown, shown * high / wide), Spacer(1, 4)]


def _table(rows: tuple[tuple[str, ...], ...], width: float) -> Flowable:
    count = max(map(len, rows))
    longest = [max(len(row[n]) if n < len(row) else 0 for row in rows) for n in range(count)]
    weights = [min(max(length, 8), 70) for length in longest]
    cells = [[Paragraph(_plain(cell), _style(7, textColor=QUIET if number == 0 else INK)) for cell in row]
             for number, row in enumerate(rows)]  # fmt: skip
    made = Table(cells, colWidths=[width * weight / sum(weights) for weight in weights], repeatRows=1)
    made.setStyle([("LINEBELOW", (0, 0), (-1, -1), 0.35, HAIR), ("VALIGN", (0, 0), (-1, -1), "TOP"),
                   ("LEFTPADDING", (0, 0), (0, -1), 0), ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                   ("BOTTOMPADDING", (0, 0), (-1, -1), 2)])  # fmt: skip
    return made


def _style(size: float, **more: Any) -> ParagraphStyle:
    given = {"fontName": REGULAR, "textColor": INK, "leading": size * 1.36, **more}
    return ParagraphStyle(f"m{size}", fontSize=size, **given)
