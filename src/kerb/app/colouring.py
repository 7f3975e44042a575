"""How the cloud is coloured: the strip's choice, the legend and its limits, hidden values, the histogram."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer

from kerb.app import scenes
from kerb.core.cloud import filters
from kerb.core.cloud.store import PART
from kerb.core.quantity import symbol
from kerb.core.things import CLOUD
from kerb.draw.scene import CloudLayer
from kerb.job import pointwork
from kerb.job.state import Holding

if TYPE_CHECKING:
    from kerb.app.window import Window


class Colouring(QObject):
    """The colours of one window's view."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window = window
        self._resting = QTimer(self, singleShot=True, interval=300)
        self._resting.timeout.connect(self._keep_limits)

    def connect(self) -> None:
        """Listen to the legend."""
        legend = self.window.legend
        legend.limits_changed.connect(lambda low, high: self._preview(low=low, high=high))
        legend.fit_wanted.connect(self._fit_limits)
        legend.style_wanted.connect(lambda values: self.style(**values))
        legend.value_toggled.connect(self._toggle_value)

    def _keep_limits(self) -> None:
        low, high = self.window.legend.limits
        self.style(low=low, high=high)

    def main_cloud(self) -> Holding | None:
        """The cloud that controls and new studies mean: clicked last, of the open study, or the first shown."""
        if self.window.session.job is None:
            return None
        state = self.window.session.job.state
        clicked = state.holding(self.window.chosen_cloud) if self.window.chosen_cloud else None
        if clicked is not None and clicked.kind == CLOUD and clicked.visible:
            return clicked
        study = self.window.session.study
        chosen = state.holding(study.setup.get("cloud", "")) if study else None
        clouds = state.of_kind(CLOUD)
        shown = [h for h in clouds if h.visible] or list(clouds)
        if chosen is not None and (chosen.visible or chosen in shown):
            return chosen
        return shown[0] if shown else None

    def layer(self) -> CloudLayer | None:
        """The main cloud as drawn."""
        holding, drawn = self.main_cloud(), self.window.view.scene.clouds
        if holding is None or not drawn:
            return None
        store = self.window.session.job.store(holding)
        return next((layer for layer in drawn if layer.store is store), drawn[0])

    def mirror(self) -> None:
        """Bring strip and legend in line with the main cloud's style."""
        layer = self.layer()
        self.window.strip.setVisible(layer is not None)
        if layer is None:
            self.window.legend.hide()
            return
        style, unit = layer.style, self.window.session.unit
        self.window.strip.set_unit(symbol(unit))
        self.window.strip.set_colours(scenes.colour_choices(layer.store), style.by)
        self.window.strip.set_contour(style.contour)
        column = scenes.VALUE_COLUMNS.get(style.by, "")
        if style.by == "class":
            codes = list(layer.store.present(column))
            self.window.legend.show_classes(codes, filters.hidden_values(layer.filters, column, codes))
        elif column:
            entries = scenes.value_entries(layer.store, style.by, self.main_cloud())
            off = filters.hidden_values(layer.filters, column, [code for code, _, _ in entries])
            off |= set(layer.hidden_parts) if style.by == PART else set()
            self.window.legend.show_values(scenes.TITLES[style.by], entries, off)
        elif style.by in ("colour", "plain"):
            self.window.legend.hide()
        elif layer.store.has(style.by) or style.by == "elevation":
            title = scenes.TITLES.get(style.by, style.by.replace("_", " ").capitalize())
            code = scenes.unit_of(layer.store, style.by, unit)
            self.window.legend.show_ramp(style, title, code, scenes.data_span(layer), layer.limits())

    def colour_by(self, by: str) -> None:
        """Colour the cloud by something; slope is computed first where it is not there yet."""
        holding = self.main_cloud()
        store = self.window.session.job.store(holding)
        if by == "slope" and not store.has("slope"):
            self.window.handlers.slope()
            return
        if by == scenes.OVER_BASE and not scenes.lend_height_over_base(self.window.session):
            self.window.session.said.emit("Draw the toe line first: height above base is measured inside it.")
            self.mirror()
            return
        self.style(by=by, low=None, high=None)

    def style(self, **values: object) -> None:
        """Keep style values of the main cloud, as a change that can be undone."""
        holding = self.main_cloud()
        if holding is not None:
            self.window.session.execute(scenes.style_change(holding, **values))

    def _preview(self, **values: float) -> None:
        """Show limits while an end of the legend is dragged; they are kept when the mouse rests."""
        layer = self.layer()
        if layer is None:
            return
        layer.style = replace(layer.style, **values)
        self.window.view.redraw(moving=True)
        self._resting.start()

    def _toggle_value(self, code: int) -> None:
        """Hide a class, setup, file or part in the view, or show it again."""
        by, holding = self.layer().style.by, self.main_cloud()
        part = holding.part(code) if by == PART else None
        if part is not None:
            self.window.session.execute(pointwork.altered_part(holding, code, shown=not part.shown))
        elif by != PART:
            self.window.filtering.set(filters.toggled(holding.filters, scenes.VALUE_COLUMNS[by], code))

    def _fit_limits(self) -> None:
        """Limits from what is in view."""
        layer, picture = self.layer(), self.window.view.picture
        if layer is None or picture is None:
            return
        rows = picture.buffer.rows
        mine = rows[(rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)] - layer.first_row
        values = layer.values(mine)
        values = values[np.isfinite(values)]
        if len(values):
            low, high = np.percentile(values, [0.5, 99.5])
            self.style(low=float(low), high=float(high if high > low else low + 1))

    def show_histogram(self) -> None:
        """The drawer's histogram of what the cloud is coloured by, from a fair sample of each tile."""
        layer = self.layer()
        if layer is None:
            return
        tiles = layer.store.tiles
        most = max(1, 300_000 // len(tiles))
        rows = np.concatenate(
            [np.arange(f, f + min(c, most)) for f, c in zip(tiles["first"], tiles["count"], strict=True)]
        )
        plain = ("colour", "plain", *scenes.VALUE_COLUMNS)
        by = layer.style.by if layer.style.by not in plain else "elevation"
        shown = CloudLayer(layer.store, replace(layer.style, by=by))
        code = scenes.unit_of(layer.store, by, self.window.session.unit)
        self.window.drawer.show_histogram(shown.values(rows), scenes.TITLES.get(by, by), code)
