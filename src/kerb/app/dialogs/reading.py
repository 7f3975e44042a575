"""Windows to read in: the method of a study, the job record, keys and mouse."""

from __future__ import annotations

import threading
from contextlib import suppress

from PySide6.QtCore import Qt, QUrl, Signal
from PySide6.QtGui import QGuiApplication, QImage, QTextDocument
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from kerb.app.actions import actions
from kerb.app.widgets import made, plain
from kerb.report.reading import (
    FORMULA,
    HEADING,
    ITEM,
    PICTURE,
    TABLE,
    Block,
    blocks_of,
    contents_of,
    formula_picture,
    method_folder,
    method_text,
)

STYLE = """
    h1 { font-size: 20px; } h2 { font-size: 16px; margin-top: 18px; } h3 { font-size: 14px; margin-top: 12px; }
    p { margin-top: 0px; margin-bottom: 9px; line-height: 135%; }
    th { color: #6f7577; }
"""

MOUSE = """
### Mouse
| what | where | does |
| --- | --- | --- |
| wheel | every view | zooms at the cursor |
| drag | plan, section | moves the view |
| drag | orbit | turns about the point under the cursor |
| Shift + drag, middle or right drag | orbit | moves the view |
| drag a vertex | drawn lines | moves it, the figure follows; Shift snaps to other vertices |
| click on the line | drawn lines | inserts a vertex |
| right click on a vertex | drawn lines | types its place or elevation, deletes it |

### Keys on drawn lines
| key | does |
| --- | --- |
| Tab, Shift + Tab | goes from vertex to vertex |
| arrows | move the chosen vertex, or the cross while drawing; Shift by ten times as much |
| Space | sets a vertex while drawing |
| Insert, Delete | adds a vertex behind the chosen one, takes it out |
| Enter | ends the drawing, keeps what was moved |
| menu key | types place or elevation |

### Sections
| what | does |
| --- | --- |
| clicks, or arrows and Space | set the ends of a section |
| A, F, L, B, E | across a surface, looking at its face, level, between two picks of a body, two ends again |
| drag A or B | moves that end |
| drag the square in the middle, the one beside it | moves the section, makes it thicker or thinner |
| drag the arrow | turns it |

### Keys of measuring and picking
| key | does |
| --- | --- |
| N, L, H | nearest, lowest, highest point in the circle |
| K, O | corner or break of slope in a section, centre of a painted target |
| C, D | copies what was measured, keeps it as a line |
| T | types name and code of the next point that is picked |

### Mouse on the legend
| what | where | does |
| --- | --- | --- |
| drag an end | legend | sets a limit; double-click fits what is in view |
"""


class Reading(QDialog):
    """A page of text with a list of its contents, and a button to copy it. Links go to other pages of the kind."""

    formulas_set = Signal(object)

    def __init__(self, title: str, text: str, parent: QWidget, markdown: bool = True) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(900 if markdown else 760, 640)
        self._blocks: list[Block] = []
        self.formulas_set.connect(self._set)
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        self.contents = QListWidget()
        self.contents.setAccessibleName("Contents")
        self.contents.setFixedWidth(210)
        self.contents.setWordWrap(True)
        self.contents.itemActivated.connect(self._go)
        self.contents.itemClicked.connect(self._go)
        self.page = made(QTextBrowser(), openLinks=False)
        self.page.setAccessibleName(title)
        self.page.anchorClicked.connect(self._follow)
        row.addWidget(self.contents)
        row.addWidget(self.page, 1)
        column.addLayout(row)
        if markdown:
            self.show_page(text)
        else:
            self.contents.hide()
            self.page.setPlainText(text)
        row = QHBoxLayout()
        copy = QPushButton("Copy as text")
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.page.toPlainText()))
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        row.addWidget(copy)
        row.addStretch(1)
        row.addWidget(close)
        column.addLayout(row)

    def _go(self, item: QListWidgetItem) -> None:
        self.page.scrollToAnchor(item.data(Qt.ItemDataRole.UserRole))

    def show_page(self, text: str) -> None:
        """Show a page in Markdown; its formulas are set beside the window and put in when they are there."""
        self._blocks = blocks_of(text)
        self._lay_out({})
        self.contents.clear()
        for level, words, anchor in contents_of(self._blocks):
            item = QListWidgetItem("    " * max(level - 2, 0) + words)
            item.setData(Qt.ItemDataRole.UserRole, anchor)
            self.contents.addItem(item)
        self.contents.setVisible(self.contents.count() > 2)
        wanted = {number: block.text for number, block in enumerate(self._blocks) if block.kind == FORMULA}
        ink, ratio = self.palette().text().color().name(), self.devicePixelRatioF()
        blocks = self._blocks

        def work() -> None:
            found = {number: formula_picture(tex, ink, 13.0, ratio) for number, tex in wanted.items()}
            with suppress(RuntimeError):  # the page was closed meanwhile
                self.formulas_set.emit((blocks, found))

        if wanted:
            threading.Thread(target=work, name="formulas", daemon=True).start()

    def _set(self, result: object) -> None:
        """Formulas are there: put them in, unless another page is shown by now."""
        if isinstance(result, tuple) and result[0] is self._blocks:
            at = self.page.verticalScrollBar().value()
            self._lay_out(result[1])
            self.page.verticalScrollBar().setValue(at)

    def _lay_out(self, formulas: dict[int, bytes]) -> None:
        document = QTextDocument(self.page)
        document.setDefaultStyleSheet(STYLE)
        parts = []
        for number, block in enumerate(self._blocks):
            mark = f'<a name="{block.anchor}"></a>' if block.anchor else ""
            if block.kind == FORMULA:
                parts.append(self._formula(document, number, formulas.get(number, b"")))
            elif block.kind == PICTURE:
                parts.append(self._picture(document, block.text))
            elif block.kind == TABLE:
                parts.append(_table(block.rows))
            elif block.kind == HEADING:
                parts.append(f"<h{block.level}>{mark}{block.text}</h{block.level}>")
            elif block.kind == ITEM:
                parts.append(f'<p style="margin-left: 18px">{mark}•&nbsp; {block.text}</p>')
            else:
                parts.append(f"<p>{mark}{block.text}</p>")
        document.setHtml("".join(parts))
        self.page.setDocument(document)

    def _formula(self, document: QTextDocument, number: int, data: bytes) -> str:
        if not data:
            return '<p style="margin-left: 24px">…</p>'
        picture, ratio = QImage.fromData(data), self.devicePixelRatioF()
        picture.setDevicePixelRatio(ratio)
        document.addResource(QTextDocument.ResourceType.ImageResource, QUrl(f"formula{number}"), picture)
        return f'<p style="margin-left: 24px"><img src="formula{number}" width="{picture.width() / ratio:.0f}"></p>'

    def _picture(self, document: QTextDocument, name: str) -> str:
        folder = method_folder()
        picture = QImage(str(folder / name)) if folder is not None else QImage()
        if picture.isNull():
            return ""
        document.addResource(QTextDocument.ResourceType.ImageResource, QUrl(name), picture)
        return f'<p style="line-height: 100%"><img src="{name}" width="{min(picture.width() // 2, 560)}"></p>'

    def _follow(self, link: QUrl) -> None:
        """Go to a place of this page, to another page, or show where an outside link leads: nothing is fetched."""
        target = link.toString()
        if target.startswith("#"):
            self.page.scrollToAnchor(target[1:])
        elif target.endswith(".md") and "/" not in target:
            self.show_page(method_text(target))
        else:
            QGuiApplication.clipboard().setText(target)
            self.page.setToolTip(plain(f"{target} was copied; Kerb opens nothing outside of itself"))


def _table(rows: tuple[tuple[str, ...], ...]) -> str:
    made_ = []
    for number, row in enumerate(rows):
        tag = "th" if number == 0 else "td"
        made_.append("<tr>" + "".join(f"<{tag} align='left'>{cell}</{tag}>" for cell in row) + "</tr>")
    return f"<table cellspacing='0' cellpadding='4'>{''.join(made_)}</table>"


def keys_page() -> str:
    """All shortcuts, from the registry, and the mouse."""
    rows = [
        f"| {', '.join(k for k in (entry.shortcut, entry.also) if k)} | {entry.title} | {entry.help} |"
        for entry in actions()
        if entry.shortcut
    ]
    return "\n".join(["### Keys", "| key | action | what it does |", "| --- | --- | --- |", *rows]) + "\n" + MOUSE
