"""The drawer below the view: profiles, histogram and tables of the open study."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QTabBar,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.core.quantity import number
from kerb.report.text import figures_table, heading, tab_separated, write_csv
from kerb.studies.outcome import Profile, Table

if TYPE_CHECKING:
    from kerb.app.charts.profile import Histogram, ProfileChart

TABS = ("Length", "Width", "Histogram", "Figures", "Uncertainty", "Toe line")
TIPS = (
    "Profile along the length of the heap, top over base",
    "Profile across the heap, top over base",
    "How the values that colour the points are spread",
    "All figures of the study",
    "Named parts of the uncertainty",
    "Vertices of the toe line as read",
)
TABLES = {3: "figures", 4: "uncertainty", 5: "toe"}


class Drawer(QWidget):
    """Tabs over charts and tables. Charts are made when first shown: they are heavy to load."""

    profile_chosen = Signal(int)
    histogram_wanted = Signal()

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        self.profiles: list[Profile] = []
        self._chart: ProfileChart | None = None
        self._drawn: tuple[Profile | None, str] | None = None
        self._histogram: Histogram | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 2, 14, 6)
        column.setSpacing(2)
        row = QHBoxLayout()
        self.tabs = QTabBar(drawBase=False, expanding=False)
        for words, tip in zip(TABS, TIPS, strict=True):
            self.tabs.setTabToolTip(self.tabs.addTab(words), tip)
        self.tabs.currentChanged.connect(lambda _i: self.mirror())
        self.filter = QLineEdit(placeholderText="Filter rows")
        self.filter.setFixedWidth(96)
        self.filter.textChanged.connect(self._filter)
        self.copy = QPushButton("Copy", toolTip="The table, tab-separated, for a spreadsheet (Ctrl+C)")
        self.copy.clicked.connect(self.copy_table)
        self.save = QPushButton("CSV…", toolTip="The table as a CSV file, full precision")
        self.save.clicked.connect(self._save)
        row.addWidget(self.tabs)
        row.addStretch(1)
        for widget in (self.filter, self.copy, self.save):
            row.addWidget(widget)
        column.addLayout(row)
        self.stack = QStackedWidget()
        self.table = QTableWidget()
        self.table.setSortingEnabled(True)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.stack.addWidget(self.table)
        column.addWidget(self.stack, 1)
        for signal in (session.changed, session.selected, session.answered):
            signal.connect(self.mirror)

    def mirror(self) -> None:
        """Show what the chosen tab is about."""
        if not self.isVisible():
            return
        tab = self.tabs.currentIndex()
        outcome = self.session.outcome()
        is_table = tab in TABLES
        for widget in (self.filter, self.copy, self.save):
            widget.setVisible(is_table)
        if tab < 2:
            profiles = self.profiles or (outcome.profiles if outcome else [])
            self._show_chart(profiles[tab] if tab < len(profiles) else None)
            self.profile_chosen.emit(tab)
        elif tab == 2:
            self.histogram_wanted.emit()
        else:
            self._show_table(self.current_table())

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self.mirror()

    def current_table(self) -> Table | None:
        """The table of the chosen tab."""
        outcome, name = self.session.outcome(), TABLES.get(self.tabs.currentIndex())
        if outcome is None or name is None:
            return None
        return figures_table(outcome) if name == "figures" else outcome.tables.get(name)

    def show_histogram(self, values: np.ndarray, title: str, unit: str) -> None:
        """Draw values in the histogram tab."""
        if self._histogram is None:
            from kerb.app.charts.profile import Histogram

            self._histogram = Histogram(self.theme)
            self.stack.addWidget(self._histogram)
        self._histogram.show_values(values, title, unit)
        self.stack.setCurrentWidget(self._histogram)

    def copy_table(self) -> None:
        """Put the shown table on the clipboard."""
        table = self.current_table()
        if table is not None:
            QGuiApplication.clipboard().setText(tab_separated(table))
            self.session.said.emit(f"{table.title}: copied as text")

    def _show_chart(self, profile: Profile | None) -> None:
        if self._chart is None:
            if profile is None:
                self.stack.setCurrentWidget(self.table)
                self.table.setRowCount(0)
                self.table.setColumnCount(0)
                return
            from kerb.app.charts.profile import ProfileChart

            self._chart = ProfileChart(self.theme)
            self.stack.addWidget(self._chart)
        # Asked for with every change of the job; most leave the profile as it is.
        if self._drawn is None or self._drawn[0] is not profile or self._drawn[1] != self.session.unit:
            self._drawn = (profile, self.session.unit)
            self._chart.show_profile(profile, self.session.unit)
        self.stack.setCurrentWidget(self._chart)

    def _show_table(self, table: Table | None) -> None:
        self.stack.setCurrentWidget(self.table)
        self.table.setSortingEnabled(False)
        self.table.clear()
        self.table.setRowCount(len(table.rows) if table else 0)
        self.table.setColumnCount(len(table.columns) if table else 0)
        if table is None:
            return
        self.table.setHorizontalHeaderLabels([heading(column) for column in table.columns])
        for row, values in enumerate(table.rows):
            for place, value in enumerate(values):
                self.table.setItem(row, place, _cell(value))
        self.table.resizeColumnsToContents()
        self.table.setSortingEnabled(True)
        self.table.horizontalHeader().setStretchLastSection(True)
        self._filter(self.filter.text())

    def _filter(self, text: str) -> None:
        words = text.lower()
        for row in range(self.table.rowCount()):
            cells = [self.table.item(row, c) for c in range(self.table.columnCount())]
            hit = any(words in cell.text().lower() for cell in cells if cell is not None)
            self.table.setRowHidden(row, bool(words) and not hit)

    def _save(self) -> None:
        table = self.current_table()
        if table is None:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Save table", f"{table.title}.csv", "CSV (*.csv)")
        if path:
            from pathlib import Path

            try:
                write_csv(table, Path(path), force=True)
            except Exception as error:
                self.session.complained.emit("The table was not saved", str(error))

    def keyPressEvent(self, event) -> None:
        if event.matches(QKeySequence.StandardKey.Copy) and self.tabs.currentIndex() in TABLES:
            self.copy_table()
        else:
            super().keyPressEvent(event)


class _Number(QTableWidgetItem):
    """A number that sorts as one."""

    def __init__(self, value: float) -> None:
        super().__init__(number(float(value), 0 if isinstance(value, int) else 4))
        self.value = float(value)
        self.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def __lt__(self, other: QTableWidgetItem) -> bool:
        return self.value < other.value if isinstance(other, _Number) else super().__lt__(other)


def _cell(value: object) -> QTableWidgetItem:
    if isinstance(value, (int, float, np.number)) and not isinstance(value, bool):
        return _Number(value.item() if isinstance(value, np.number) else value)
    return QTableWidgetItem("—" if value is None else str(value))
