"""Statistics: of what is shown, of a selection, or of each area of a layer, kept as fields of the areas."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
)

from kerb.app.pages.page import Desk, Page
from kerb.app.sheets.fields import hairline
from kerb.app.widgets import Choice, made, there
from kerb.core.arrays import Mask
from kerb.core.cloud.classes import CLASS_NAMES
from kerb.core.cloud.heights import HEIGHT
from kerb.core.cloud.statistics import figures, of_areas, plain_name, unit_of
from kerb.core.errors import KerbError
from kerb.core.geometry.features import LineSet
from kerb.core.progress import Progress
from kerb.core.quantity import count, number, plain, symbol
from kerb.job import measured
from kerb.job.job import Change
from kerb.job.state import Holding

SHOWN, SELECTED, AREAS = "shown", "selected", "areas:"
WORDS = {
    "area": "Area", "count": "Points", "lowest": "Lowest elevation", "highest": "Highest elevation",
    "mean": "Mean elevation", "std": "Standard deviation", "p05": "5th percentile", "p25": "25th percentile",
    "p50": "Median", "p75": "75th percentile", "p95": "95th percentile", "intensity_min": "Intensity, lowest",
    "intensity_max": "Intensity, highest", "intensity_mean": "Intensity, mean", "intensity_std": "Intensity, deviation",
    "height_min": "Above ground, lowest", "height_max": "Above ground, highest", "height_mean": "Above ground, mean",
    "height_std": "Above ground, deviation",
}  # fmt: skip


def in_words(name: str) -> str:
    """A figure in words."""
    if name.startswith("class_") and name.endswith("_share") and name.count("_") == 2:
        code = int(name.split("_")[1])
        return f"Share of class {code} {CLASS_NAMES.get(code, '')}".rstrip()
    plain_ = plain_name(name)
    words = WORDS.get(plain_) or plain_.replace("_", " ")
    rest = name.removeprefix(plain_)
    if rest.startswith("_change_"):
        return f"{words}, change {rest.removeprefix('_change_').replace('_to_', ' to ')}"
    return f"{words}, {rest[1:]}" if rest else words


def shown(name: str, value: Any, unit: str) -> str:
    """A figure with its unit."""
    if value is None:
        return "—"
    if name == "count":
        return count(int(value))
    if plain_name(name).endswith("_share"):
        return f"{number(100 * value, 2)} %"
    code = unit_of(name, unit)
    return f"{number(float(value), 3 if code else 1, signed='_change_' in name)} {symbol(code)}".rstrip()


class StatisticsPage(Page):
    """A table of figures that can be copied; of areas one figure at a time, which is shown on them in plan too."""

    help_page = "statistics.md"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk, "Statistics", "How it is computed")
        self.names: list[str] = []
        self.values: dict[str, list[Any]] = {}
        self.areas_key = ""
        self.what = made(Choice(), toolTip="Points the figures are of")
        self.what.activated.connect(lambda _i: self._chosen())
        self.body.addWidget(self.what)
        self.only_shown = made(
            QCheckBox("Only points that are shown"), toolTip="Filters and hidden classes and parts count"
        )
        self.body.addWidget(self.only_shown)
        self.note = self.words("")
        self.body.addWidget(hairline())
        self.field = made(Choice(), toolTip="The figure that is listed and shown on the areas in plan")
        self.field.activated.connect(lambda _i: self._show_field())
        self.body.addWidget(self.field)
        self.table = QTableWidget(0, 2)
        self.table.setAccessibleName("Figures")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.verticalHeader().hide()
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.table.setShowGrid(False)
        self.body.addWidget(self.table, 1)
        again = made(QPushButton("Compute"), toolTip="Compute the figures of the points as they are now")
        again.setProperty("role", "main")
        again.clicked.connect(self._chosen)
        self.copy = made(QPushButton("Copy"), toolTip="All figures with tabs, for a spreadsheet")
        self.copy.clicked.connect(self.copy_text)
        self.write = made(
            QPushButton("Write areas…"), toolTip="The areas with their fields: GeoPackage, GeoJSON, Shapefile"
        )
        self.write.clicked.connect(lambda: self.action_wanted.emit(f"write_holding:{self.areas_key}"))
        self.again = again
        for widget in (self.copy, self.write):
            self.actions_row.addWidget(widget)
        self.actions_row.addStretch(1)
        self.actions_row.addWidget(again)
        self.session.changed.connect(self._fill_choices)

    def show_points(self, holding: Holding, points: Mask, words: str) -> None:
        """Figures of points, (n,), of a cloud."""
        self._fill_choices()
        self.what.setCurrentIndex(self.what.findData(SELECTED if "selection" in words else SHOWN))
        store = self.session.open_job.store(holding)
        self.areas_key = ""

        def keep(found: dict[str, Any]) -> None:
            self.names, self.values = [holding.name], {name: [value] for name, value in found.items()}
            self.note.setText(self._about(holding, words))
            self._mirror()

        self.session.start(lambda _p: figures(store, np.flatnonzero(points)), "Computing figures", keep)

    def measure_areas(self, key: str) -> None:
        """Figures of the points in each area of a holding; they become fields of the areas, one step of undo."""
        job, cloud = self.session.open_job, self.session.open_cloud
        areas = there(job.state.holding(key))
        try:
            names, shapes = measured.shapes_of(job, areas)
        except KerbError as error:
            self.note.setText(str(error))
            self.names, self.values = [], {}
            self._mirror()
            return
        self._fill_choices()
        self.what.setCurrentIndex(self.what.findData(AREAS + key))
        store, layer = job.store(cloud), self.desk.colouring.layer()
        limited = self.only_shown.isChecked() and layer is not None
        # What is set aside does not count, even while it is shown in grey.
        among = layer.shown() & store.in_use() if limited and layer is not None else None

        def work(progress: Progress) -> dict[str, list[Any]]:
            return of_areas(store, shapes, progress, among)

        def keep(values: dict[str, list[Any]]) -> None:
            try:
                self.session.execute(measured.with_fields(job, there(job.state.holding(key)), cloud, values))
            except KerbError as error:
                self.session.complained.emit("The figures could not be kept", str(error))
                return
            self.areas_key, self.names, self.values = key, names, values | self._compared(key)
            empty = sum(not number_ for number_ in values["count"])
            more = f" {empty} of {len(names)} areas have no points." if empty else ""
            which = "what is shown in" if limited else ""
            self.note.setText(
                self._about(cloud, f"{which} the areas of {areas.name}, kept as their fields".strip()) + more
            )
            self._mirror()

        self.session.start(work, "Statistics of areas", keep)

    def _compared(self, key: str) -> dict[str, list[Any]]:
        """Changes between the dates that the areas have figures of, as kept in their fields."""
        job = self.session.open_job
        thing = job.thing(there(job.state.holding(key))).thing
        if not isinstance(thing, LineSet):
            return {}
        rows = [outline for outline, *_ in thing.areas()]
        return {name: [column[row] for row in rows] for name, column in thing.fields.items() if "_change_" in name}

    def _about(self, holding: Holding, words: str) -> str:
        store = self.session.open_job.store(holding)
        text = f"{holding.name}: {words}. Noise classes and what is set aside do not count."
        if store.has(HEIGHT) and store.outdated(HEIGHT):
            text += " Heights above ground were computed before classes or set-aside points changed."
        return text

    def _fill_choices(self) -> None:
        kept = self.what.currentData()
        self.what.clear()
        self.what.addItem("What is shown", SHOWN)
        if self.desk.selection.count:
            self.what.addItem("The selection", SELECTED)
        if self.session.job is not None:
            for holding in measured.area_layers(self.session.open_job.state):
                self.what.addItem(f"Each area of {holding.name}", AREAS + holding.id)
        self.what.setCurrentIndex(max(self.what.findData(kept), 0))

    def _chosen(self) -> None:
        key = self.what.currentData()
        if self.session.main_cloud() is None:
            self.note.setText("There is no cloud yet; bring one in (Ctrl+I).")
        elif key.startswith(AREAS):
            self.measure_areas(key.removeprefix(AREAS))
        else:
            self.action_wanted.emit("selection_statistics" if key == SELECTED else "cloud_statistics")

    def _mirror(self) -> None:
        several = bool(self.areas_key)
        self.only_shown.setVisible(str(self.what.currentData()).startswith(AREAS))
        self.field.setVisible(several)
        self.write.setVisible(several)
        unit = self.session.unit
        if several:
            chosen = self.field.currentData() or "mean"
            self.field.clear()
            for name in self.values:
                self.field.addItem(in_words(name), name)
            self.field.setCurrentIndex(max(self.field.findData(chosen), 0))
            rows, heads = self._area_rows(self.field.currentData(), unit)
        else:
            rows = [(in_words(name), shown(name, column[0], unit)) for name, column in self.values.items()]
            heads = ("Figure", "Value")
        self.table.setColumnCount(len(heads))
        for place in range(1, len(heads)):
            self.table.horizontalHeader().setSectionResizeMode(place, QHeaderView.ResizeMode.ResizeToContents)
        self.table.setRowCount(len(rows))
        self.table.setHorizontalHeaderLabels(heads)
        for row, cells in enumerate(rows):
            for place, text in enumerate(cells):
                item = QTableWidgetItem(text)
                if place:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, place, item)

    def _area_rows(self, name: str, unit: str) -> tuple[list[tuple[str, ...]], tuple[str, ...]]:
        """A figure of each area; of a change the figures of both dates beside it."""
        if "_change_" in name:
            job = self.session.open_job
            thing = job.thing(there(job.state.holding(self.areas_key))).thing
            stem, _, dates = name.partition("_change_")
            assert isinstance(thing, LineSet)
            kept = {date: thing.fields[f"{stem}_{date}"] for date in dates.split("_to_")}
            rows_ = [outline for outline, *_ in thing.areas()]
            both = [[shown(stem, column[row], unit) for row in rows_] for column in kept.values()]
            change = [shown(name, value, unit) for value in self.values[name]]
            return list(zip(self.names, *both, change, strict=True)), ("Area", *kept, "Change")
        cells: list[tuple[str, ...]] = [
            (area, shown(name, value, unit)) for area, value in zip(self.names, self.values[name], strict=True)
        ]
        return cells, ("Area", in_words(name))

    def _show_field(self) -> None:
        """List another figure, and show it on the areas in plan."""
        holding = self.session.open_job.state.holding(self.areas_key)
        if holding is not None:
            after = replace(holding, style={**holding.style, "field": self.field.currentData()})
            words = f"Shows {in_words(self.field.currentData())} on the areas of {holding.name}"
            self.session.execute(Change(words, lambda state: state.with_holding(after)).as_look())
        self._mirror()

    def text(self) -> str:
        """All figures with tabs: a row for each area, or for each figure."""
        unit = self.session.unit
        heads = [name + (f" ({code})" if (code := unit_of(name, unit)) else "") for name in self.values]
        if not self.areas_key:
            return "\n".join(
                f"{head}\t{plain(column[0])}" for head, column in zip(heads, self.values.values(), strict=True)
            )
        rows = zip(self.names, *self.values.values(), strict=True)
        return "\n".join(
            "\t".join(cells) for cells in (["name", *heads], *([row[0], *map(plain, row[1:])] for row in rows))
        )

    def copy_text(self) -> None:
        """Put all figures on the clipboard."""
        QGuiApplication.clipboard().setText(self.text())
        self.session.said.emit("The figures were copied as text")
