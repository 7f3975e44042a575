"""Choose tiles of a catalogue in plan: their footprints over the job, ticked by click or by box."""

from __future__ import annotations

import numpy as np
import shapely
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.pages.catalogue import CataloguePage
from kerb.app.tools.base import Tool
from kerb.app.views.view import PLAN, View


class ChooseTiles(Tool):
    """Footprints over the plan: a click ticks a tile, Shift and drag ticks what the box touches."""

    hint = "Click a tile to tick it; Shift and drag ticks what the box touches."

    def __init__(self, view: View, page: CataloguePage) -> None:
        super().__init__(view)
        self.page = page
        self.corner: QPointF | None = None
        self.mouse = QPointF()

    def press(self, event: QMouseEvent) -> bool:
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.corner = self.mouse = event.position()
            return True
        return False

    def move(self, event: QMouseEvent) -> None:
        self.mouse = event.position()
        if self.corner is not None:
            self.view.update()

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if self.corner is not None:
            a, b = (self.view.camera.unproject(p.x() * self.view.ratio, p.y() * self.view.ratio, 0.0, self.view.pixels)
                    for p in (self.corner, event.position()))  # fmt: skip
            self.corner = None
            self._take(shapely.box(min(a[0], b[0]), min(a[1], b[1]), max(a[0], b[0]), max(a[1], b[1])), False)
        elif clicked and event.button() == Qt.MouseButton.LeftButton:
            place = self.view.place_under(event.position())
            if place is not None:
                self._take(shapely.Point(place[:2]), True)
        self.view.update()

    def _take(self, shape: shapely.Geometry, toggle: bool) -> None:
        listed = {tile.id for tile in self.page.listed()}
        keys = {
            k for k, outline in self.page.outlines.items() if k in listed and shapely.Polygon(outline).intersects(shape)
        }
        if toggle and len(keys) > 1:
            # Epochs lie over each other: a click means the latest that is listed.
            epochs = {tile.id: tile.epoch for tile in self.page.listed()}
            keys = {max(keys, key=lambda key: epochs[key])}
        (self.page.toggle if toggle else self.page.choose)(keys)

    def paint(self, painter: QPainter) -> None:
        if self.view.mode != PLAN:
            return
        theme = self.view.theme
        listed = {tile.id for tile in self.page.listed()}
        for key, outline in self.page.outlines.items():
            if key not in listed:
                continue
            places = np.column_stack([outline, np.full(len(outline), self.view.camera.target[2])])
            shape = QPolygonF([QPointF(x, y) for x, y in self.view.to_widget(places).tolist()])
            fill = QColor(theme.accent)
            fill.setAlpha(70 if key in self.page.chosen else 8)
            painter.setPen(QPen(QColor(theme.accent), 1.8 if key in self.page.chosen else 0.9))
            painter.setBrush(fill)
            painter.drawPolygon(shape)
        if self.corner is not None:
            painter.setPen(QPen(QColor(theme.ink), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.corner, self.mouse).normalized())
