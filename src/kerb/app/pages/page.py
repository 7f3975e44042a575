"""What the pages at the right have in common: a body that scrolls, and a bar with help and close that does not."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from kerb.app.colouring import Colouring
from kerb.app.doing.points import PointActions
from kerb.app.filtering import Filtering
from kerb.app.selection import Selection
from kerb.app.session import Session
from kerb.app.sheets.fields import column
from kerb.app.views.view import View
from kerb.app.widgets import Label, made


@dataclass(frozen=True)
class Desk:
    """What pages about points work with."""

    session: Session
    view: View
    colouring: Colouring
    selection: Selection
    filtering: Filtering
    points: PointActions


class Page(QWidget):
    """A page about the points of the main cloud. ``body`` takes its content, ``actions`` and ``more`` its buttons."""

    action_wanted = Signal(str)
    closed = Signal()

    # The method page that the bar offers.
    help_page = ""

    def __init__(self, desk: Desk, title: str, help_words: str) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.desk, self.session = desk, desk.session
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.scroller = made(QScrollArea(), widgetResizable=True)
        self.scroller.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = made(QWidget(), objectName="sheetBody")
        self.scroller.setWidget(inner)
        outer.addWidget(self.scroller, 1)
        self.body = column(inner, (18, 14, 18, 16))
        heading = Label(title)
        heading.setProperty("role", "heading")
        self.body.addWidget(heading)
        outer.addWidget(self._bar(help_words))

    def _bar(self, help_words: str) -> QWidget:
        bar = made(QWidget(), objectName="bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        rows = QVBoxLayout(bar)
        rows.setContentsMargins(18, 8, 14, 9)
        self.actions_row, self.more = QHBoxLayout(), QHBoxLayout()
        how = made(QPushButton(help_words), toolTip="Method, formulas, sources and limits")
        how.setProperty("role", "link")
        how.clicked.connect(lambda: self.action_wanted.emit(f"method:{self.help_page}"))
        close = made(QPushButton("Close"), toolTip="Back to the study")
        close.clicked.connect(self.shut)
        self.more.addWidget(how)
        self.more.addStretch(1)
        self.more.addWidget(close)
        rows.addLayout(self.actions_row)
        rows.addLayout(self.more)
        return bar

    def shut(self) -> None:
        """Put the page away."""
        self.closed.emit()

    def words(self, text: str) -> QLabel:
        """A small text in the body."""
        label = made(Label(text), wordWrap=True)
        label.setProperty("role", "small")
        self.body.addWidget(label)
        return label

    def result(self, text: str = "—") -> QLabel:
        """A text in the body that can be marked and copied."""
        label = made(Label(text), wordWrap=True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.body.addWidget(label)
        return label
