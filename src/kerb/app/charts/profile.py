"""The profile in the drawer: top over base, the part between filled, the greatest height written in it."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor

from kerb.app.theme import Theme, font
from kerb.core.quantity import quantity, symbol
from kerb.studies.outcome import Profile

pg.setConfigOptions(antialias=True)
FILL = {"light": "#f3e2c2", "dark": "#4a4029"}


class ProfileChart(pg.PlotWidget):
    """One profile; the wheel zooms, dragging pans, a double-click fits."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(background=theme.sheet)
        self.theme = theme
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.showGrid(x=False, y=True, alpha=0.25)
        _quiet_axes(item, theme)
        self.words = pg.TextItem("", color=QColor(theme.ink), anchor=(0.5, 0.5))
        self.words.setFont(font(12))
        self.setToolTip("Wheel zooms, drag pans, double-click fits")

    def show_profile(self, profile: Profile | None, unit: str) -> None:
        """Draw a profile, or nothing."""
        item = self.getPlotItem()
        item.clear()
        if profile is None:
            return
        top = pg.PlotDataItem(profile.distance, profile.top, pen=pg.mkPen(self.theme.ink, width=1.6), connect="finite")
        base = pg.PlotDataItem(
            profile.distance, profile.base, pen=pg.mkPen(self.theme.toe, width=1.6), connect="finite"
        )
        both = np.isfinite(profile.top) & np.isfinite(profile.base)
        if both.any():
            upper = pg.PlotCurveItem(profile.distance[both], profile.top[both], pen=pg.mkPen(None))
            lower = pg.PlotCurveItem(profile.distance[both], profile.base[both], pen=pg.mkPen(None))
            item.addItem(pg.FillBetweenItem(upper, lower, brush=QColor(FILL[self.theme.name])))
        item.addItem(base)
        item.addItem(top)
        item.setLabel("left", f"Elevation ({symbol(unit)})", color=self.theme.quiet)
        item.getAxis("bottom").setToolTip(f"Distance along the line ({symbol(unit)})")
        if both.any():
            heights = np.where(both, profile.top - profile.base, -np.inf)
            at = int(np.argmax(heights))
            self.words.setText(f"{quantity(float(heights[at]), unit)} above base")
            self.words.setPos(profile.distance[at], (profile.top[at] + profile.base[at]) / 2)
            item.addItem(self.words)
        self.fit()

    def fit(self) -> None:
        """Show all of it."""
        self.getPlotItem().autoRange(padding=0.04)

    def mouseDoubleClickEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.fit()
        else:
            super().mouseDoubleClickEvent(event)


class Histogram(pg.PlotWidget):
    """How the values that colour a cloud are spread."""

    def __init__(self, theme: Theme) -> None:
        super().__init__(background=theme.sheet)
        self.theme = theme
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        _quiet_axes(item, theme)
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
        item.setLabel("bottom", f"{title} ({symbol(unit)})" if symbol(unit) else title, color=self.theme.quiet)
        item.setLabel("left", "Share of points (%)", color=self.theme.quiet)
        item.autoRange(padding=0.03)


def _quiet_axes(item: pg.PlotItem, theme: Theme) -> None:
    """Axes in hairlines and quiet text, without unit prefixes of their own making."""
    for side in ("left", "bottom"):
        axis = item.getAxis(side)
        axis.setPen(QColor(theme.hair))
        axis.setTextPen(QColor(theme.quiet))
        axis.setTickFont(font(11))
        axis.enableAutoSIPrefix(False)
