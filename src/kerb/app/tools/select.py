"""Select points: an outline or box, a brush, a piece that hangs together, or the smooth surface at a point."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.selection import ADD, COMMON, REPLACE, TAKE_AWAY, TINT, Selection
from kerb.app.tools.base import OutlineTool
from kerb.app.views.selection_bar import BRUSH, OUTLINE, PIECE, SURFACE
from kerb.app.views.view import View
from kerb.core.arrays import Floats
from kerb.draw.select import brushed

LEAST_DRAG = 5.0
BRUSH_STEP, SMALLEST_BRUSH, LARGEST_BRUSH = 1.25, 3.0, 200.0
HINTS = {
    OUTLINE: "Click an outline (double-click or Enter closes it) or drag a box. Shift adds, Ctrl takes away, both keep "
    "what is common. Esc ends.",
    BRUSH: "Drag over points. [ and ] change the size of the brush. Shift adds, Ctrl takes away. Esc ends.",
    PIECE: "Click a point: what hangs together with it is selected. Shift adds, Ctrl takes away. Esc ends.",
    SURFACE: "Click a floor, road or soffit: the smooth surface grows to the next step or rough place. Esc ends.",
}


class SelectPoints(OutlineTool):
    """What a drag or click marks depends on ``shape``; Shift adds, Ctrl takes away, both keep what is common."""

    def __init__(
        self, view: View, selection: Selection, pick: Callable[[str, int, str], None], finished: Callable[[], None]
    ) -> None:
        super().__init__(view)
        self.selection, self.pick, self.finished = selection, pick, finished
        self.shape = OUTLINE
        self.hint = HINTS[OUTLINE]
        self.radius = 14.0
        self.outline: list[QPointF] = []
        self.path: list[QPointF] = []
        self.start: QPointF | None = None
        self.how = REPLACE

    def use(self, shape: str) -> None:
        """Mark in another way."""
        self.shape, self.hint = shape, HINTS[shape]
        self.outline.clear()
        self.path.clear()
        self.start = None
        self.view.update()

    def press(self, event: QMouseEvent) -> bool:
        self.start = event.position()
        if not self.outline:
            self.how = _how(event.modifiers(), self.selection.how)
        if self.shape == BRUSH:
            self.path = [event.position()]
            self._look()
        return True

    def move(self, event: QMouseEvent) -> None:
        super().move(event)
        if self.path:
            self.path.append(event.position())
        self._look()

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        start, self.start = self.start, None
        if event.button() != Qt.MouseButton.LeftButton or start is None:
            return
        end = event.position()
        if self.shape == BRUSH:
            self.path.append(end)
            self._take(self._rings())
            self.path = []
        elif self.shape in (PIECE, SURFACE):
            self._pick(end)
        elif (end - start).manhattanLength() >= LEAST_DRAG and not self.outline:
            self._take([_box(start, end)])
        elif not self.outline or end != self.outline[-1]:
            self.outline.append(end)
        self.view.update()

    def double_click(self, event: QMouseEvent) -> None:
        self.start = None
        if self.shape == OUTLINE:
            super().double_click(event)

    def key(self, event: QKeyEvent) -> bool:
        factor = {"[": 1 / BRUSH_STEP, "]": BRUSH_STEP}.get(event.text())
        if factor is not None and self.shape == BRUSH:
            self.radius = min(max(self.radius * factor, SMALLEST_BRUSH), LARGEST_BRUSH)
            self.view.update()
            return True
        return super().key(event)

    def take_back(self) -> bool:
        """Forget the last corner."""
        if not self.outline:
            return False
        self.outline.pop()
        self.view.update()
        return True

    def stop(self) -> None:
        if self.outline:
            self.outline.clear()
        else:
            self.finished()

    def close(self) -> None:
        """Close the outline and select what lies under it."""
        outline, self.outline = self.outline, []
        if len(outline) >= 3:
            self._take([_ring(outline)])
        self.view.update()

    def _rings(self) -> list[Floats]:
        """What is marked at this moment, in widget pixels."""
        if self.path:
            return brushed(_ring(self.path), self.radius)
        if self.start is not None and self.mouse is not None and not self.outline:
            return [_box(self.start, self.mouse)]
        if self.mouse is not None and len(self.outline) >= 2:
            return [_ring([*self.outline, self.mouse])]
        return []

    def _look(self) -> None:
        if self.shape in (OUTLINE, BRUSH):
            self.selection.look([ring for ring in self._rings() if len(ring) >= 3 and np.ptp(ring, axis=0).min() > 0])

    def _take(self, rings: list[Floats]) -> None:
        rings = [ring for ring in rings if len(ring) >= 3 and np.ptp(ring, axis=0).min() > 0]
        if rings:
            self.selection.take(rings, self.how)

    def _pick(self, at: QPointF) -> None:
        found = self.view.point_at(at)
        layer = self.selection.colouring.layer()
        if found is not None and layer is not None and found[0].store is layer.store:
            self.pick(self.shape, found[1], self.how)
        else:
            self.selection.session.said.emit("There is no point of the cloud here; click on one.")

    def leave(self) -> None:
        self.selection.forget()

    def paint(self, painter: QPainter) -> None:
        painter.setPen(QPen(QColor(TINT), 1.4, Qt.PenStyle.DashLine))
        if self.shape == BRUSH:
            shade = QColor(TINT)
            shade.setAlpha(60)
            painter.setBrush(shade if self.path else Qt.BrushStyle.NoBrush)
            for ring in self._rings() if self.path else []:
                painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in ring.tolist()]))
            if self.mouse is not None:
                painter.drawEllipse(self.mouse, self.radius, self.radius)
            return
        if self.start is not None and self.mouse is not None and not self.outline and self.shape == OUTLINE:
            painter.drawRect(QRectF(self.start, self.mouse).normalized())
        points = [*self.outline, *([self.mouse] if self.outline and self.mouse is not None else [])]
        if len(points) > 1:
            painter.drawPolygon(QPolygonF(points))


def _ring(points: list[QPointF]) -> Floats:
    return np.array([[p.x(), p.y()] for p in points])


def _box(start: QPointF, end: QPointF) -> Floats:
    return np.array([[start.x(), start.y()], [end.x(), start.y()], [end.x(), end.y()], [start.x(), end.y()]])


def _how(modifiers: Qt.KeyboardModifier, usual: str) -> str:
    shift = bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
    control = bool(modifiers & Qt.KeyboardModifier.ControlModifier)
    if shift and control:
        return COMMON
    if shift:
        return ADD
    return TAKE_AWAY if control else usual
