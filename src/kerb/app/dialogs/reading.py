"""Windows to read in: the method of a study, the job record, keys and mouse."""

from __future__ import annotations

import sys
from importlib import resources
from pathlib import Path

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from kerb.app.actions import actions
from kerb.app.widgets import made

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

### Mouse on the legend
| what | where | does |
| --- | --- | --- |
| drag an end | legend | sets a limit; double-click fits what is in view |
"""


class Reading(QDialog):
    """A page of text with a button to copy it."""

    def __init__(self, title: str, text: str, parent: QWidget, markdown: bool = True) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.resize(760, 640)
        column = QVBoxLayout(self)
        self.page = made(QTextBrowser(), openExternalLinks=False)
        if markdown:
            self.page.setMarkdown(text)
        else:
            self.page.setPlainText(text)
        column.addWidget(self.page)
        row = QHBoxLayout()
        copy = QPushButton("Copy as text")
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.page.toPlainText()))
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        row.addWidget(copy)
        row.addStretch(1)
        row.addWidget(close)
        column.addLayout(row)


def method_page(name: str) -> str:
    """The text of a method page: from the checkout, or as installed."""
    for folder in (
        Path(__file__).resolve().parents[4] / "docs" / "methods",
        Path(sys.prefix) / "share/kerb/methods",
    ):
        if (folder / name).exists():
            return (folder / name).read_text(encoding="utf-8")
    packed = resources.files("kerb") / "assets" / "methods" / name
    return packed.read_text(encoding="utf-8") if packed.is_file() else f"The page {name} was not found."


def keys_page() -> str:
    """All shortcuts, from the registry, and the mouse."""
    rows = [f"| {entry.shortcut} | {entry.title} | {entry.help} |" for entry in actions() if entry.shortcut]
    return "\n".join(["### Keys", "| key | action | what it does |", "| --- | --- | --- |", *rows]) + "\n" + MOUSE
