"""Method pages as blocks that a window and a report lay out each in its own way: headings, texts, tables, formulas."""

from __future__ import annotations

import io
import re
import sys
import threading
from dataclasses import dataclass
from html import escape
from importlib import resources
from pathlib import Path

HEADING, TEXT, TABLE, FORMULA, ITEM, PICTURE = "heading", "text", "table", "formula", "item", "picture"
_LEAD = re.compile(r"^<strong>(.{3,60}?)\.?</strong>")


@dataclass(frozen=True)
class Block:
    """A piece of a page: ``text`` is HTML of the simplest kind (b, i, code, a), TeX of a formula, or a picture's file.

    ``rows`` are those of a table, the first its heading; ``level`` that of a heading, ``anchor`` its name for links.
    """

    kind: str
    text: str = ""
    level: int = 0
    anchor: str = ""
    rows: tuple[tuple[str, ...], ...] = ()


def method_folder() -> Path | None:
    """Where the method pages lie: in the checkout, or as installed."""
    for folder in (Path(__file__).resolve().parents[3] / "docs" / "methods", Path(sys.prefix) / "share/kerb/methods"):
        if folder.is_dir():
            return folder
    packed = Path(str(resources.files("kerb"))) / "assets" / "methods"
    return packed if packed.is_dir() else None


def method_text(name: str) -> str:
    """The text of a method page."""
    folder = method_folder()
    path = folder / name if folder is not None else None
    return (
        path.read_text(encoding="utf-8") if path is not None and path.is_file() else f"The page {name} was not found."
    )


def blocks_of(text: str) -> list[Block]:
    """The blocks of a page in Markdown. A fenced block named ``math`` is a formula in TeX."""
    from markdown_it import MarkdownIt

    tokens = MarkdownIt("commonmark", {"html": False}).enable("table").parse(text)
    found: list[Block] = []
    place, item = 0, False
    while place < len(tokens):
        token = tokens[place]
        inline = tokens[place + 1] if place + 1 < len(tokens) else None
        if token.type == "heading_open" and inline is not None:
            found.append(Block(HEADING, _inline(inline), int(token.tag[1]), _anchor(inline.content)))
            place += 3
        elif token.type == "paragraph_open" and inline is not None:
            found.append(_paragraph(_inline(inline), inline.content, item))
            place += 3
        elif token.type == "fence" or token.type == "code_block":
            kind = FORMULA if token.info.strip() == "math" else TEXT
            found.append(
                Block(kind, token.content.strip() if kind == FORMULA else f"<code>{escape(token.content)}</code>")
            )
            place += 1
        elif token.type == "table_open":
            end = next(n for n in range(place, len(tokens)) if tokens[n].type == "table_close")
            found.append(Block(TABLE, rows=_rows(tokens[place:end])))
            place = end + 1
        else:
            item = token.type == "list_item_open" or (
                item and token.type not in ("bullet_list_close", "ordered_list_close")
            )
            place += 1
    return found


def contents_of(blocks: list[Block]) -> list[tuple[int, str, str]]:
    """(level, words, anchor) of headings, and of texts that begin with words in bold."""
    return [(b.level, re.sub("<[^>]+>", "", b.text if b.kind == HEADING else _lead(b.text)), b.anchor)
            for b in blocks if b.anchor]  # fmt: skip


def _paragraph(html: str, source: str, item: bool) -> Block:
    picture = re.fullmatch(r"!\[[^\]]*\]\(([\w./-]+)\)", source.strip())
    if picture:
        return Block(PICTURE, picture[1])
    lead = _lead(html)
    return Block(ITEM if item else TEXT, html, 3 if lead else 0, _anchor(lead) if lead else "")


def _lead(html: str) -> str:
    found = _LEAD.match(html)
    return found[1] if found else ""


def _anchor(words: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", re.sub("<[^>]+>", "", words).lower()).strip("-")


def _inline(token: object) -> str:
    """The HTML of inline text, of the simplest kind."""
    made = []
    for part in getattr(token, "children", None) or ():
        if part.type == "text":
            made.append(escape(part.content))
        elif part.type in ("softbreak", "hardbreak"):
            made.append(" ")
        elif part.type == "code_inline":
            made.append(f"<code>{escape(part.content)}</code>")
        elif part.type == "link_open":
            made.append(f'<a href="{escape(str(part.attrGet("href") or ""))}">')
        elif part.type.endswith(("_open", "_close")):
            tag = {"strong": "strong", "em": "em", "link": "a"}.get(part.type.rsplit("_", 1)[0])
            made.append("" if tag is None else f"</{tag}>" if part.type.endswith("_close") else f"<{tag}>")
    return "".join(made)


def _rows(tokens: list) -> tuple[tuple[str, ...], ...]:
    rows: list[list[str]] = []
    for token in tokens:
        if token.type == "tr_open":
            rows.append([])
        elif token.type == "inline":
            rows[-1].append(_inline(token))
    return tuple(tuple(row) for row in rows)


_SETTING = threading.Lock()


def formula_picture(tex: str, colour: str, size: float, ratio: float = 1.0) -> bytes:
    """A formula in TeX as the bytes of a PNG with a clear ground, ``size`` points high letters, 72 · ``ratio`` dots an inch.

    What the setter cannot read is shown as it is written.
    """
    from matplotlib import mathtext
    from matplotlib.figure import Figure
    from matplotlib.font_manager import FontProperties

    # The setter keeps what it parsed for all threads and is not safe for two at once.
    with _SETTING:
        letters = FontProperties(size=size)
        text = f"${tex}$"
        try:
            parser = mathtext.MathTextParser("path")
            width, height, depth, _, _ = parser.parse(text, 72, letters)
        except ValueError:
            text = tex.replace("$", "")
            width, height, depth = 0.6 * size * len(tex), 1.2 * size, 0.3 * size
        figure = Figure(figsize=((width + 2) / 72, (height + 2) / 72))
        figure.text(0, (depth + 1) / (height + 2), text, fontproperties=letters, color=colour)
        out = io.BytesIO()
        figure.savefig(out, dpi=72 * ratio, format="png", transparent=True)
    return out.getvalue()
