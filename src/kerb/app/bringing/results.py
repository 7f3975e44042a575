"""What became of the files of a batch: each with its own word, and what can still be done about it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kerb.app.sheets.fields import hairline
from kerb.app.widgets import Label, made, plain
from kerb.job.endings import IN, IN_PART, NOT, Ending, sentence

MARKS = {IN: "✓", IN_PART: "◐", NOT: "✕"}


class Results(QDialog):
    """A line a file. ``wanted`` asks for what can still be brought in."""

    wanted = Signal(list)

    def __init__(self, endings: list[Ending], parent: QWidget) -> None:
        super().__init__(parent)
        self.endings = endings
        self.setWindowTitle("What came in")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(640, min(180 + 34 * len(endings), 520))
        outer = QVBoxLayout(self)
        outer.setContentsMargins(18, 16, 18, 14)
        outer.setSpacing(10)
        heading = made(Label(sentence(endings)), wordWrap=True)
        heading.setProperty("role", "heading")
        outer.addWidget(heading)
        scroll = made(QScrollArea(), widgetResizable=True)
        scroll.setWidget(self._lines())
        outer.addWidget(scroll, 1)
        outer.addWidget(hairline())
        row = QHBoxLayout()
        copy = made(QPushButton("Copy as text"), toolTip="The list, tab-separated")
        copy.setProperty("role", "link")
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.text()))
        close = made(QPushButton("Close"), default=True)
        close.clicked.connect(self.accept)
        row.addWidget(copy)
        row.addStretch(1)
        row.addWidget(close)
        outer.addLayout(row)

    def _lines(self) -> QWidget:
        body = made(QWidget(), objectName="page")
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(8)
        grid.setColumnStretch(2, 1)
        top = Qt.AlignmentFlag.AlignTop
        for row, one in enumerate(self.endings):
            word = Label(f"{MARKS[one.word]}  {one.word}")
            word.setProperty("role", "warning" if one.word != IN else "")
            name = made(Label(one.name), toolTip=one.name)
            name.setMaximumWidth(210)
            why = made(Label(one.why[:1].upper() + one.why[1:]), wordWrap=True)
            why.setProperty("role", "small")
            why.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            grid.addWidget(word, row, 0, top)
            grid.addWidget(name, row, 1, top)
            grid.addWidget(why, row, 2, top)
            if one.again is not None:
                button = made(
                    QPushButton("Import what is good"), toolTip=plain("With a warning that stays with the cloud")
                )
                button.clicked.connect(lambda _on, o=one, b=button: self._again(o, b))
                grid.addWidget(button, row, 3, top)
        grid.setRowStretch(len(self.endings), 1)
        return body

    def _again(self, one: Ending, button: QPushButton) -> None:
        button.setEnabled(False)
        self.wanted.emit([one.again])

    def text(self) -> str:
        """The list as text, tab-separated."""
        return "\n".join("\t".join((one.name, one.word, one.why)) for one in self.endings)
