"""Charts of the drawer: profiles with what lies between filled, plots of numbers, and the histogram of the colours."""

from __future__ import annotations

from html import escape

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QMouseEvent, QPen
from PySide6.QtWidgets import QGraphicsPathItem

from kerb.app.theme import Theme, font
from kerb.app.widgets import plain
from kerb.core.quantity import labelled, quantity
from kerb.studies.layers import Chart, Plot, Profile, between, bins_of, normal_curve
from kerb.studies.profiles import ends_of

pg.setConfigOptions(antialias=True)
BASE = "Base"
FILL = {"light": "#f3e2c2", "dark": "#4a4029"}
CUT = {"light": "#d6daf0", "dark": "#2e3454"}


class ProfileChart(pg.PlotWidget):
    """One profile; the wheel zooms, dragging pans, a double-click fits."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(background=theme.sheet, enableMenu=False)
        self.theme = theme
        item = self.getPlotItem()
        item.showGrid(x=False, y=True, alpha=0.25)
        quiet_axes(item, theme)
        self.ends = [pg.TextItem("", color=QColor(theme.ink), anchor=(side, 1.0)) for side in (0, 1)]
        for end in self.ends:
            end.setFont(font(12, font(12).Weight.DemiBold))
        # What lies above the second line and what lies below it: fill and cut.
        self.between, self.below = QGraphicsPathItem(), QGraphicsPathItem()
        for item, colour in ((self.between, FILL), (self.below, CUT)):
            item.setPen(QPen(Qt.PenStyle.NoPen))
            item.setBrush(QColor(colour[theme.name]))
        self.lines: list[pg.PlotDataItem] = []
        self._made: tuple[tuple[str, ...], str] = ((), "")
        self._said = ""
        self.setToolTip("Wheel zooms, drag pans, double-click fits")

    def show_chart(self, profile: Chart, unit: str, number: int = 0) -> None:
        """Draw a profile, the ``number``-th of its outcome; A is at its left end.

        What is drawn stays and gets other numbers: making it anew takes three times as long, with every step of undo.
        """
        assert isinstance(profile, Profile)
        item = self.getPlotItem()
        roles = tuple(role for _, role, _ in profile.traces)
        if (roles, unit) != self._made:
            self._made = roles, unit
            self._make(roles, unit)
        for line, (_, _, trace) in zip(self.lines, profile.traces, strict=True):
            line.setData(profile.distance, trace)
        both = np.isfinite(profile.top) & np.isfinite(profile.base)
        there, top, base = between(profile)
        for area, edge in ((self.between, np.maximum(top, base)), (self.below, np.minimum(top, base))):
            area.setPath(pg.arrayToQPath(np.concatenate([there, there[::-1]]), np.concatenate([edge, base[::-1]])))
            area.setVisible(bool(both.any()))
        said = ""
        if both.any():
            heights = np.where(both, profile.top - profile.base, 0.0)
            at = int(np.argmax(np.abs(heights)))
            side, other = "below" if heights[at] < 0 else "above", profile.traces[1][0]
            said = (
                f"Most: {quantity(abs(float(heights[at])), unit)} {side} {other.lower() if other == BASE else other}, "
                f"{quantity(float(profile.distance[at]), unit)} from {ends_of(number)[0]}"
            )
        if said != self._said:
            self._said = said
            # Above the picture: on it the words would lie on the curves.
            item.setTitle(escape(said), color=self.theme.quiet, size="9pt")
        known = np.concatenate([trace[np.isfinite(trace)] for _, _, trace in profile.traces])
        for end in self.ends:
            end.setVisible(bool(len(known)))
        if len(known):
            floor = float(known.min()) - 0.04 * float(np.ptp(known))
            for end, letter, at_end in zip(self.ends, ends_of(number), profile.distance[[0, -1]].tolist(), strict=True):
                end.setText(letter)
                end.setPos(at_end, floor)
        self.fit()

    def _make(self, roles: tuple[str, ...], unit: str) -> None:
        """Lines and what is filled between them, still without numbers."""
        item = self.getPlotItem()
        item.clear()
        item.addItem(self.between)
        item.addItem(self.below)
        self.lines = [
            pg.PlotDataItem(
                connect="finite", pen=pg.mkPen(self.theme.edge if role == "base" else self.theme.ink, width=1.6)
            )
            for role in roles
        ]
        for thing in (*reversed(self.lines), *self.ends):
            item.addItem(thing)
        item.setLabel("left", escape(labelled("Elevation", unit)), color=self.theme.quiet)
        item.getAxis("bottom").setToolTip(plain(labelled("Distance along the line", unit)))

    def fit(self) -> None:
        """Show all of it."""
        self.getPlotItem().autoRange(padding=0.04)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Fit."""
        if event.button() == Qt.MouseButton.LeftButton:
            self.fit()
        else:
            super().mouseDoubleClickEvent(event)


class PlotChart(pg.PlotWidget):
    """Bars, points, a curve or a histogram of an outcome."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(background=theme.sheet, enableMenu=False)
        self.theme = theme
        item = self.getPlotItem()
        quiet_axes(item, theme)
        self.setToolTip("Wheel zooms, drag pans")

    def show_chart(self, plot: Chart, _unit: str) -> None:
        """Draw a plot."""
        item = self.getPlotItem()
        item.clear()
        assert isinstance(plot, Plot)
        x, y = plot.x, plot.y
        brush = QColor(self.theme.base)
        if plot.kind == "histogram":
            y, edges = bins_of(x, 60)
            item.addItem(pg.BarGraphItem(x0=edges[:-1], x1=edges[1:], y0=0, y1=y, pen=None, brush=brush))
            curve = normal_curve(x, edges) if plot.normal else np.empty((0, 2))
            if len(curve):
                item.addItem(pg.PlotDataItem(curve[:, 0], curve[:, 1], pen=pg.mkPen(self.theme.ink, width=1.4)))
        elif plot.kind == "bars":
            width = 0.8 * (float(np.min(np.diff(np.sort(x)))) if len(x) > 1 else 1.0)
            item.addItem(pg.BarGraphItem(x=x, height=y, width=width, pen=None, brush=brush))
        elif plot.kind == "curve":
            item.addItem(pg.PlotDataItem(x, y, pen=pg.mkPen(self.theme.ink, width=1.6), connect="finite"))
        else:
            item.addItem(pg.ScatterPlotItem(x, y, size=6, pen=None, brush=brush))
        item.setLabel("bottom", escape(plot.x_title), color=self.theme.quiet)
        item.setLabel("left", escape(plot.y_title), color=self.theme.quiet)
        names = list(enumerate(plot.names)) if plot.names and plot.kind == "bars" else None
        item.getAxis("bottom").setTicks([names] if names else None)
        item.autoRange(padding=0.04)


class Histogram(pg.PlotWidget):
    """How the values that colour a cloud are spread."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(background=theme.sheet, enableMenu=False)
        self.theme = theme
        item = self.getPlotItem()
        quiet_axes(item, theme)
        item.setMouseEnabled(x=True, y=False)

    def show_values(self, values: np.ndarray, title: str, unit: str) -> None:
        """Draw the histogram of a fair sample of values."""
        item = self.getPlotItem()
        item.clear()
        values = values[np.isfinite(values)]
        if not len(values):
            return
        low, high = np.percentile(values, [0.2, 99.8])
        counts, edges = np.histogram(values, bins=120, range=(low, high if high > low else low + 1))
        bars = pg.BarGraphItem(
            x0=edges[:-1],
            x1=edges[1:],
            y0=0,
            y1=100 * counts / len(values),
            pen=None,
            brush=QColor(self.theme.base),
        )
        item.addItem(bars)
        item.setLabel("bottom", escape(labelled(title, unit)), color=self.theme.quiet)
        item.setLabel("left", "Share of points (%)", color=self.theme.quiet)
        item.autoRange(padding=0.03)


def quiet_axes(item: pg.PlotItem, theme: Theme) -> None:
    """Axes in hairlines and quiet text, without unit prefixes of their own making; no buttons and no menu."""
    item.hideButtons()
    item.setMenuEnabled(False)
    # Half a line above, where the topmost number of the axis stands out.
    item.layout.setContentsMargins(0, 6, 0, 0)
    for side in ("left", "bottom"):
        axis = item.getAxis(side)
        axis.setPen(QColor(theme.hair))
        axis.setTextPen(QColor(theme.quiet))
        axis.setTickFont(font(11))
        axis.enableAutoSIPrefix(False)
