"""A series of sections in the drawer: one at a time, stepped with buttons and keys, with what lies under the cursor."""

from __future__ import annotations

from html import escape

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from kerb.app.charts.plots import quiet_axes
from kerb.app.theme import Theme
from kerb.app.widgets import Label, made, there
from kerb.core.errors import InputError
from kerb.core.quantity import labelled, quantity
from kerb.core.section.frame import Frame
from kerb.core.section.stations import parsed
from kerb.core.units import length_unit
from kerb.studies.layers import Chart, Sections

STEP_KEYS = {Qt.Key.Key_PageUp: -1, Qt.Key.Key_PageDown: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}


class SectionsChart(QWidget):
    """One section of a series, square in scale unless it is stretched; ``shown`` tells which one."""

    shown = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme, self.unit = theme, "m"
        self.chart: Sections | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 0)
        column.setSpacing(2)
        row = QHBoxLayout()
        row.setContentsMargins(6, 0, 6, 0)
        self.back = made(QToolButton(), text="◂", toolTip="Section before (Page up)")
        self.field = made(QComboBox(), editable=True, toolTip="Station of the section; type one to go there")
        self.field.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.field.setMinimumWidth(130)
        self.forth = made(QToolButton(), text="▸", toolTip="Next section (Page down)")
        self.words, self.cursor_words = Label(""), Label("")
        self.words.setProperty("role", "small")
        self.cursor_words.setProperty("role", "small")
        self.square = made(
            QToolButton(),
            text="1 : 1",
            checkable=True,
            toolTip="Heights and offsets in one scale, or heights stretched to fill",
        )
        self.square.setChecked(True)
        for widget in (self.back, self.field, self.forth, self.words):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(self.cursor_words)
        row.addWidget(self.square)
        column.addLayout(row)
        self.plot = pg.PlotWidget(background=theme.sheet, enableMenu=False)
        self.plot.setToolTip("Wheel zooms, drag pans, Page up and down step from section to section")
        item = self.plot.getPlotItem()
        item.showGrid(x=True, y=True, alpha=0.2)
        quiet_axes(item, theme)
        column.addWidget(self.plot, 1)
        self.back.clicked.connect(lambda: self.step(-1))
        self.forth.clicked.connect(lambda: self.step(1))
        self.field.activated.connect(self.go)
        there(self.field.lineEdit()).returnPressed.connect(self._typed)
        self.square.clicked.connect(self._fit)
        self.plot.scene().sigMouseMoved.connect(self._moved)
        self.plot.installEventFilter(self)

    @property
    def number(self) -> int:
        """Which section is shown."""
        return max(self.field.currentIndex(), 0)

    def show_chart(self, chart: Chart, unit: str) -> None:
        """Show a series; the station that was looked at stays, where it still is one."""
        assert isinstance(chart, Sections)
        kept = self.field.currentText()
        self.chart, self.unit = chart, unit
        self.field.blockSignals(True)
        self.field.clear()
        self.field.addItems(list(chart.names))
        self.field.setCurrentIndex(max(self.field.findText(kept), 0))
        self.field.blockSignals(False)
        self._draw()

    def frame(self) -> Frame | None:
        """The frame of the section that is shown."""
        if self.chart is None or not len(self.chart.frames):
            return None
        return self.chart.frame(self.number)

    def step(self, by: int) -> None:
        """Go to a neighbouring section."""
        if self.chart is not None:
            self.go(int(np.clip(self.number + by, 0, len(self.chart.names) - 1)))

    def go(self, number: int) -> None:
        """Show a section by its number."""
        self.field.setCurrentIndex(number)
        self._draw()

    def _typed(self) -> None:
        """Go to the station that was typed, or the nearest to it."""
        if self.chart is None or not len(self.chart.frames):
            return
        text = self.field.currentText().strip()
        place = self.field.findText(text)
        if place < 0:
            try:
                wanted = parsed(text, length_unit(self.unit))
            except InputError:
                wanted = np.empty(0)
            if not len(wanted):
                self.field.setCurrentText(self.chart.names[self.number])
                return
            place = int(np.argmin(np.abs(self.chart.frames[:, 0] - wanted[0])))
        self.go(place)

    def _draw(self) -> None:
        chart, number = self.chart, self.number
        item = self.plot.getPlotItem()
        item.clear()
        if chart is None or not len(chart.names):
            return
        traces, points, shots, names = chart.one(number)
        if len(points):
            dots = pg.ScatterPlotItem(points[:, 0], points[:, 1], size=2, pen=None, brush=QColor(self.theme.quiet))
            item.addItem(dots)
        inks = [self.theme.ink, self.theme.edge, self.theme.base, "#6b7f4f", "#7a4f9a"]
        for n, trace in enumerate(traces):
            pen = pg.mkPen(inks[n % len(inks)], width=1.6)
            item.addItem(
                pg.PlotDataItem(trace.places[:, 0], trace.places[:, 1], pen=pen, connect="finite", name=trace.title)
            )
        if len(shots):
            item.addItem(
                pg.ScatterPlotItem(
                    shots[:, 0], shots[:, 1], size=7, pen=None, brush=QColor(self.theme.accent), symbol="d"
                )
            )
            for (x, z), name in zip(shots.tolist(), names, strict=True):
                word = pg.TextItem(name, color=QColor(self.theme.ink), anchor=(0, 1))
                word.setPos(x, z)
                item.addItem(word)
        item.setLabel("left", escape(labelled("Elevation", self.unit)), color=self.theme.quiet)
        item.setLabel("bottom", escape(labelled("Offset, right positive", self.unit)), color=self.theme.quiet)
        many = f"{number + 1} of {len(chart.names)}"
        titles = ", ".join(trace.title for trace in traces)
        self.words.setText(f"{many} · {titles}" + (f" · {len(shots)} survey points" if len(shots) else ""))
        self.back.setEnabled(number > 0)
        self.forth.setEnabled(number < len(chart.names) - 1)
        self._fit()
        self.shown.emit(number)

    def _fit(self) -> None:
        item = self.plot.getPlotItem()
        item.getViewBox().setAspectLocked(self.square.isChecked(), 1.0)
        item.autoRange(padding=0.04)

    def _moved(self, at: QPointF) -> None:
        """Offset and elevation under the cursor, and where in the job that is."""
        frame = self.frame()
        if frame is None:
            return
        place = self.plot.getPlotItem().getViewBox().mapSceneToView(at)
        e, n, _ = frame.job(np.array([place.x()]), np.array([place.y()]))[0].tolist()
        self.cursor_words.setText(
            f"offset {quantity(place.x(), self.unit)}  z {quantity(place.y(), self.unit)}  ·  {e:.3f} E  {n:.3f} N"
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Page up and down step, whatever of it has the keys."""
        by = STEP_KEYS.get(Qt.Key(event.key()))
        if by is not None:
            self.step(by)
        else:
            super().keyPressEvent(event)

    def eventFilter(self, watched: object, event: QEvent) -> bool:
        """Keys step from section to section while the picture has them."""
        if watched is self.plot and event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            by = STEP_KEYS.get(Qt.Key(event.key()))
            if by is not None:
                self.step(by)
                return True
        return False
