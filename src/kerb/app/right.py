"""The right side: the sheet of the open study, or a page about data in its place."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton, QStackedWidget, QVBoxLayout, QWidget

from kerb.app.pages.catalogue import CataloguePage
from kerb.app.pages.controller import ControllerPage
from kerb.app.pages.find import FindPage
from kerb.app.pages.heights import HeightsPage
from kerb.app.pages.holding import HoldingPage
from kerb.app.pages.page import Desk
from kerb.app.pages.statistics import StatisticsPage
from kerb.app.sheets.bar import ComputeBar
from kerb.app.sheets.sheet import StudySheet
from kerb.app.theme import Theme
from kerb.app.widgets import Label, plain
from kerb.studies.registry import STUDIES

WIDTH = 338


class RightSide(QWidget):
    """A stack: ``study`` with its compute bar, ``holding``, ``catalogue``, ``controller``, ``find``, ``statistics``,
    ``heights``."""

    action_wanted = Signal(str)
    page_changed = Signal(str)

    def __init__(self, desk: Desk, theme: Theme, run: Callable[[str], None]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.session = session = desk.session
        self.run = run
        self.setFixedWidth(WIDTH)
        self.page = "study"
        column = QVBoxLayout(self)
        column.setContentsMargins(1, 0, 0, 0)
        column.setSpacing(0)
        self.sheet, self.bar = StudySheet(session, run), ComputeBar(session)
        self.holding_page = HoldingPage(session, theme)
        self.catalogue, self.controller = CataloguePage(session, theme), ControllerPage(session)
        self.find_page, self.statistics = FindPage(desk), StatisticsPage(desk)
        self.heights = HeightsPage(desk)
        self.stack = QStackedWidget()
        study = QWidget()
        inner = QVBoxLayout(study)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(0)
        inner.addWidget(self._empty_sheet(), 1)
        inner.addWidget(self.sheet, 1)
        inner.addWidget(self.bar)
        self.pages = {
            "study": study, "holding": self.holding_page, "catalogue": self.catalogue, "controller": self.controller,
            "find": self.find_page, "statistics": self.statistics, "heights": self.heights,
        }  # fmt: skip
        for page in self.pages.values():
            self.stack.addWidget(page)
        column.addWidget(self.stack)
        for page in (self.holding_page, self.catalogue, self.controller, self.find_page, self.statistics, self.heights):
            page.closed.connect(lambda: self.show_page("study"))
        for widget in (self.bar, self.holding_page, self.find_page, self.statistics, self.heights):
            widget.action_wanted.connect(self.action_wanted)
        session.selected.connect(lambda: self.show_page("study"))
        session.opened.connect(lambda: self.show_page("study"))

    def _empty_sheet(self) -> QWidget:
        self.no_study = QWidget()
        column = QVBoxLayout(self.no_study)
        column.setContentsMargins(18, 16, 18, 16)
        words = Label("No study is open. A study answers one question about the data. What do you want to know?")
        words.setWordWrap(True)
        words.setProperty("role", "quiet")
        column.addWidget(words)
        for kind in STUDIES.values():
            button = QPushButton(kind.question)
            button.setToolTip(plain(f"New {kind.title.lower()}" + (f" ({kind.key})" if kind.key else "")))
            button.clicked.connect(lambda _on, k=kind.id: self.run(f"new_study:{k}"))
            column.addWidget(button)
        column.addStretch(1)
        return self.no_study

    def show_page(self, name: str, key: str = "") -> None:
        """Show a page; of a holding with its id."""
        self.page = name
        self.stack.setCurrentWidget(self.pages[name])
        if name == "holding":
            self.holding_page.show_holding(key)
        elif name == "find":
            self.find_page.show_finder(key)
        self.page_changed.emit(name)

    def stop_services(self) -> None:
        """End what runs for the pages: stand-ins and listening."""
        self.catalogue.stop_agency()
        self.controller.stop_all()
