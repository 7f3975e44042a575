"""The drawer below the view: charts, histogram and tables of the open study, as its outcome has them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import (
    QItemSelectionModel,
    QModelIndex,
    QPoint,
    QSortFilterProxyModel,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QStackedWidget,
    QTabBar,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from kerb.app.dialogs.write import ask_target
from kerb.app.panels.table_model import SORTED, TableModel
from kerb.app.session import Session
from kerb.app.theme import Theme
from kerb.app.widgets import Label, made
from kerb.core.arrays import AnyArray
from kerb.core.quantity import first_of
from kerb.core.section.frame import Frame
from kerb.report.text import figures_shown, figures_table, tab_separated, write_table
from kerb.studies.kind import RowStep
from kerb.studies.layers import Chart, Profile, Sections
from kerb.studies.outcome import Outcome, Table

if TYPE_CHECKING:
    from kerb.app.charts.plots import Histogram, PlotChart, ProfileChart
    from kerb.app.charts.sections import SectionsChart

    ChartWidget = ProfileChart | PlotChart | SectionsChart

CHART, HISTOGRAM, TABLE, FIGURES = "chart", "histogram", "table", "figures"
# Columns of a table that say a place: easting, northing, elevation.
PLACE_COLUMNS = (("e", "easting"), ("n", "northing"), ("z", "elevation"))


def chart_widget(chart: Chart, theme: Theme) -> ChartWidget:
    """What draws a chart, loaded with the first one: it takes a fifth of a second, which the start need not wait for."""
    from kerb.app.charts.plots import PlotChart, ProfileChart
    from kerb.app.charts.sections import SectionsChart

    if isinstance(chart, Profile):
        return ProfileChart(theme)
    return SectionsChart(theme) if isinstance(chart, Sections) else PlotChart(theme)


MOST_MEASURED = 60


@dataclass(frozen=True)
class Tab:
    """A tab: what it shows, and of tables and charts which one."""

    words: str
    what: str
    key: str = ""
    tip: str = ""


class Drawer(QWidget):
    """Tabs over charts and tables. Charts are made when first shown: they are heavy to load."""

    profile_chosen = Signal(int)
    histogram_wanted = Signal()
    section_shown = Signal()
    place_chosen = Signal(object)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        self.list: list[Tab] = []
        self._charts: dict[str, ChartWidget] = {}
        self._drawn: dict[str, tuple[object, str]] = {}
        self._histogram: Histogram | None = None
        self._spread: tuple[AnyArray, str, str] | None = None
        self._tabled: object = None
        # What the first cell of the chosen row says.
        self._chosen = ""
        self.menu_shown: QMenu | None = None
        # Whether the histogram is wanted, and not only there because there was nothing else.
        self._asked = False
        box = QVBoxLayout(self)
        box.setContentsMargins(14, 2, 14, 6)
        box.setSpacing(2)
        row = QHBoxLayout()
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.currentChanged.connect(lambda _i: self._show())
        self.tabs.tabBarClicked.connect(self._clicked)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter rows")
        self.filter.setAccessibleName("Filter rows of the table")
        self.filter.setFixedWidth(96)
        self.copy = QPushButton("Copy")
        self.copy.setToolTip("The table, tab-separated, for a spreadsheet (Ctrl+C)")
        self.copy.clicked.connect(self.copy_table)
        self.save = QPushButton("Save…")
        self.save.setToolTip("The table as a CSV file, full precision")
        self.save.clicked.connect(self._save)
        row.addWidget(self.tabs)
        row.addStretch(1)
        for widget in (self.filter, self.copy, self.save):
            row.addWidget(widget)
        box.addLayout(row)
        self.stack = QStackedWidget()
        self.nothing = Label("")
        self.nothing.setProperty("role", "quiet")
        self.nothing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.table = QTableView()
        self.table.setAccessibleName("Table of the study")
        self.table.setSortingEnabled(True)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.verticalHeader().hide()
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._row_menu)
        self.table.setShowGrid(False)
        self.rows = QSortFilterProxyModel(self)
        self.rows.setFilterKeyColumn(-1)
        self.rows.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.rows.setSortRole(SORTED)
        self.filter.textChanged.connect(self.rows.setFilterFixedString)
        for page in (self.nothing, self.table):
            self.stack.addWidget(page)
        box.addWidget(self.stack, 1)
        # A chart takes as long to draw as all else that follows a change: it has a turn of its own, and one for them all.
        self._soon = made(QTimer(self), singleShot=True, interval=15)
        self._soon.timeout.connect(self.mirror)
        for signal in (session.changed, session.answered, session.drafted, session.live.answered):
            signal.connect(self._soon.start)

    # Tabs

    def mirror(self) -> None:
        """Bring tabs and what the chosen one shows in line with the study."""
        if not self.isVisible():
            return
        wanted = self._wanted(self.session.shown().outcome)
        if [(t.words, t.what, t.key) for t in wanted] != [(t.words, t.what, t.key) for t in self.list]:
            self._set_tabs(wanted)
        self._show()

    def _wanted(self, outcome: Outcome | None) -> list[Tab]:
        """A tab for each chart and table; those of the outcome before stay until there is another one."""
        histogram = Tab("Histogram", HISTOGRAM, "", "How the values that colour the points are spread")
        if outcome is None or outcome.live:
            last = self.session.outcome()
            if last is None:
                return [histogram]
            outcome = last
        charts = [Tab(chart.title, CHART, str(n)) for n, chart in enumerate(outcome.charts)]
        tables = [Tab(table.title, TABLE, name) for name, table in outcome.tables.items()]
        return [*charts, histogram, Tab("Figures", FIGURES, "", "All figures of the study"), *tables]

    def _set_tabs(self, wanted: list[Tab]) -> None:
        kept = self.current()
        self.tabs.blockSignals(True)
        while self.tabs.count():
            self.tabs.removeTab(0)
        for tab in wanted:
            short = tab.words if len(tab.words) <= 26 else tab.words.partition(" (")[0]
            self.tabs.setTabToolTip(self.tabs.addTab(short), tab.tip or tab.words)
        self.list = wanted
        # What was looked at stays; else a chart, else the first table of the study's own.
        own = [tab for tab in wanted if tab.what == CHART] or [tab for tab in wanted if tab.what == TABLE]
        chosen = kept if kept in wanted and (kept.what != HISTOGRAM or self._asked) else (own or wanted)[0]
        self.tabs.setCurrentIndex(wanted.index(chosen))
        self.tabs.blockSignals(False)

    def _clicked(self, place: int) -> None:
        self._asked = 0 <= place < len(self.list) and self.list[place].what == HISTOGRAM

    def current(self) -> Tab | None:
        """The chosen tab."""
        place = self.tabs.currentIndex()
        return self.list[place] if 0 <= place < len(self.list) else None

    def choose(self, what: str, key: str = "") -> None:
        """Choose the tab of a chart, table or the histogram."""
        place = next((n for n, t in enumerate(self.list) if t.what == what and t.key == key), -1)
        if place >= 0:
            self.tabs.setCurrentIndex(place)
            self.mirror()

    def _show(self) -> None:
        tab = self.current()
        is_table = tab is not None and tab.what in (TABLE, FIGURES)
        for widget in (self.filter, self.copy, self.save):
            widget.setVisible(is_table)
        if tab is None:
            return
        if tab.what == HISTOGRAM:
            self.histogram_wanted.emit()
        elif tab.what == CHART:
            self._show_chart(int(tab.key))
            self.profile_chosen.emit(int(tab.key))
        else:
            self._show_table(self.current_table())

    def showEvent(self, event: QShowEvent) -> None:
        """Show what the study is now."""
        super().showEvent(event)
        self.mirror()

    # Charts

    def charts(self) -> list[Chart]:
        """The charts as they are now: of the state on screen, along the lines where they are."""
        shown, setup, cutter = self.session.shown(), self.session.setup, self.session.cutter()
        if not shown.whole or shown.outcome is None or setup is None:
            return []
        return cutter.charts(setup) if cutter is not None else shown.outcome.charts

    def section(self) -> Frame | None:
        """The section of a series that is looked at; None while another tab is chosen."""
        widget = self.stack.currentWidget()
        if (sections := self._sections()) is not None:
            return sections.frame()
        chart, outcome = self._drawn.get(Profile.__name__, (None,))[0], self.session.shown().outcome
        profile = self._charts.get(Profile.__name__)
        if (
            profile is not None
            and widget is profile
            and isinstance(chart, Profile)
            and not chart.field
            and outcome is not None
        ):
            # A section along a line that is no profile line of its own: looked along from end to end.
            first, last = chart.line
            middle, step = (first + last) / 2, last - first
            azimuth, thickness = float(np.arctan2(*step)) - np.pi / 2, outcome.settings.get("thickness") or 1.0
            return Frame(0.0, tuple(middle.tolist()), azimuth, float(np.hypot(*step)), float(thickness))
        return None

    def step_section(self, by: int) -> bool:
        """Go to a neighbour in the series that is looked at; False where none is."""
        sections = self._sections()
        if sections is not None:
            sections.step(by)
        return sections is not None

    def _sections(self) -> SectionsChart | None:
        """The chart of sections, while it is looked at."""
        drawn: Any = self._charts.get(Sections.__name__)
        seen = self.isVisible() and self.stack.currentWidget() is drawn
        return drawn if seen else None

    def _show_chart(self, place: int) -> None:
        charts = self.charts()
        if place >= len(charts):
            self.nothing.setText(self.session.shown().words or "Follows when the study is computed.")
            self.stack.setCurrentWidget(self.nothing)
            return
        chart = charts[place]
        key = type(chart).__name__
        if key not in self._charts:
            new: Any = chart_widget(chart, self.theme)
            self._charts[key] = new
            if isinstance(chart, Sections):
                new.shown.connect(lambda _n: self.section_shown.emit())
            self.stack.addWidget(new)
            # To make it took as long as one turn of the event loop may: it is filled in the next one.
            self._soon.start()
            return
        widget: Any = self._charts[key]
        # Asked for with every change of the job; most leave the chart as it is.
        drawn = self._drawn.get(key)
        if drawn is None or drawn[0] is not chart or drawn[1] != self.session.unit:
            self._drawn[key] = (chart, self.session.unit)
            if isinstance(chart, Profile):
                widget.show_chart(chart, self.session.unit, [c for c in charts if isinstance(c, Profile)].index(chart))
            else:
                widget.show_chart(chart, self.session.unit)
        self.stack.setCurrentWidget(widget)
        self.section_shown.emit()

    def show_histogram(self, values: AnyArray | None, title: str, unit: str) -> None:
        """Draw values in the histogram tab; None leaves it as it is."""
        if self._histogram is None:
            from kerb.app.charts.plots import Histogram

            self._histogram = Histogram(self.theme)
            self.stack.addWidget(self._histogram)
        if values is not None:
            # In the turn after the one in which the chart was made.
            self._spread = (values, title, unit)
            QTimer.singleShot(0, self._histogram, self._fill_histogram)
        self.stack.setCurrentWidget(self._histogram)

    def _fill_histogram(self) -> None:
        if self._spread is not None and self._histogram is not None:
            self._histogram.show_values(*self._spread)
            self._spread = None

    # Tables

    def current_table(self) -> Table | None:
        """The table of the chosen tab, of the state on screen."""
        tab, outcome = self.current(), self.session.shown().outcome
        if tab is None or outcome is None:
            return None
        if tab.what == FIGURES:
            return figures_table(outcome)
        return outcome.tables.get(tab.key) if tab.what == TABLE else None

    def _show_table(self, table: Table | None) -> None:
        if table is None:
            self.nothing.setText(self.session.shown().words or "Follows when the study is computed.")
            self.stack.setCurrentWidget(self.nothing)
            return
        self.stack.setCurrentWidget(self.table)
        shown = (table, self.session.decimals)
        if self._tabled == shown:
            return
        self._tabled = shown
        tab, outcome = self.current(), self.session.shown().outcome
        if tab is not None and tab.what == FIGURES and outcome is not None:
            model = TableModel(figures_shown(outcome, self.session.decimals), self.session.decimals, ("value", "u95"))
        else:
            model = TableModel(*shown)
        self.rows.setSourceModel(model)
        self.table.setModel(self.rows)
        self._choose_again(table)
        self.table.selectionModel().currentRowChanged.connect(self._row_chosen)
        self.table.sortByColumn(-1, Qt.SortOrder.AscendingOrder)
        self.table.horizontalHeader().setResizeContentsPrecision(MOST_MEASURED)
        self.table.resizeColumnsToContents()
        self.table.horizontalHeader().setStretchLastSection(True)

    def _choose_again(self, table: Table) -> None:
        """The row that was chosen in the table before stays so: what it says may be what was changed."""
        row = next((n for n, cells in enumerate(table.rows) if cells and str(cells[0]) == self._chosen), -1)
        if row >= 0:
            index = self.rows.mapFromSource(self.rows.sourceModel().index(row, 0))
            flags = QItemSelectionModel.SelectionFlag
            self.table.selectionModel().setCurrentIndex(index, flags.ClearAndSelect | flags.Rows)

    def _row_chosen(self, now: QModelIndex, _before: QModelIndex) -> None:
        """A row with a place: go there."""
        table = self.current_table()
        if table is None or not now.isValid():
            return
        row = table.rows[self.rows.mapToSource(now).row()]
        self._chosen = str(row[0])
        cells = {column.name: value for column, value in zip(table.columns, row, strict=True)}
        place = [next((cells[name] for name in names if name in cells), None) for names in PLACE_COLUMNS]
        if place[0] is not None and place[1] is not None:
            self.place_chosen.emit(np.array([np.nan if value is None else value for value in place], float))

    def row_steps(self) -> list[RowStep]:
        """What can be done with rows of the table that is shown."""
        tab, kind = self.current(), self.session.kind
        return (
            [s for s in kind.row_steps if tab is not None and tab.what == TABLE and s.table == tab.key] if kind else []
        )

    def chosen_names(self) -> tuple[str, ...]:
        """What the first column says of the chosen rows."""
        table = self.current_table()
        rows = self.table.selectionModel().selectedRows() if table is not None and self.table.selectionModel() else []
        return (
            tuple(str(table.rows[self.rows.mapToSource(index).row()][0]) for index in rows) if table is not None else ()
        )

    def _row_menu(self, at: QPoint) -> None:
        steps, names = self.row_steps(), self.chosen_names()
        if not steps or not names:
            return
        menu = QMenu(self)
        for step in steps:
            menu.addAction(step.label, lambda s=step: self.take_row_step(s, names))
        menu.popup(self.table.viewport().mapToGlobal(at))
        self.menu_shown = menu

    def take_row_step(self, step: RowStep, names: tuple[str, ...]) -> None:
        """Do something with chosen rows, as one step of the study."""
        text, setup = "", self.session.setup
        if step.asks:
            text, accepted = QInputDialog.getText(self, step.label.rstrip("…"), f"{step.asks}:", text=step.usual)
            if not accepted:
                return
        if setup is not None:
            self.session.commit(
                f"{step.label.rstrip('…').partition(':')[0]}: {first_of(names, 4)}", **step.apply(setup, names, text)
            )

    def copy_table(self) -> None:
        """Put the shown table on the clipboard, in the order and with the rows that are shown."""
        table = self.current_table()
        if table is not None:
            order = [self.rows.mapToSource(self.rows.index(n, 0)).row() for n in range(self.rows.rowCount())]
            chosen = Table(table.title, table.columns, tuple(table.rows[row] for row in order))
            QGuiApplication.clipboard().setText(tab_separated(chosen))
            self.session.said.emit(f"{table.title}: copied as text")

    def _save(self) -> None:
        table = self.current_table()
        if table is None:
            return
        path = ask_target(self, self.session, table.title, (".csv", ".xlsx"), "Save table")
        if path is not None:
            try:
                write_table(table, path, force=True)
            except Exception as error:
                self.session.complained.emit("The table was not saved", str(error))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Ctrl+C copies the table."""
        tab = self.current()
        if event.matches(QKeySequence.StandardKey.Copy) and tab is not None and tab.what in (TABLE, FIGURES):
            self.copy_table()
        else:
            super().keyPressEvent(event)
