"""Select points: click an outline round them, or drag a box."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.selection import ADD, REPLACE, TAKE_AWAY, TINT, Selection
from kerb.app.tools.base import OutlineTool
from kerb.app.views.view import View

LEAST_DRAG = 5.0


class SelectPoints(OutlineTool):
    """Clicks make an outline that a double click or Enter closes; a drag makes a box. Shift adds, Ctrl takes away."""

    hint = "Click an outline (double-click or Enter closes it) or drag a box. Shift adds, Ctrl takes away. Esc ends."

    def __init__(self, view: View, selection: Selection, finished: Callable[[], None]) -> None:
        super().__init__(view)
        self.selection, self.finished = selection, finished
        self.outline: list[QPointF] = []
        self.start: QPointF | None = None
        self.how = REPLACE

    def press(self, event: QMouseEvent) -> bool:
        self.start = event.position()
        if not self.outline:
            self.how = _how(event.modifiers())
        return True

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        start, self.start = self.start, None
        if event.button() != Qt.MouseButton.LeftButton or start is None:
            return
        end = event.position()
        if (end - start).manhattanLength() >= LEAST_DRAG and not self.outline:
            box = QRectF(start, end).normalized()
            if box.width() > 1 and box.height() > 1:
                corners = [box.topLeft(), box.topRight(), box.bottomRight(), box.bottomLeft()]
                self._take(corners)
        elif not self.outline or end != self.outline[-1]:
            self.outline.append(end)
        self.view.update()

    def double_click(self, event: QMouseEvent) -> None:
        self.start = None
        super().double_click(event)

    def take_back(self) -> None:
        if self.outline:
            self.outline.pop()

    def stop(self) -> None:
        if self.outline:
            self.outline.clear()
        else:
            self.finished()

    def close(self) -> None:
        """Close the outline and select what lies under it."""
        outline, self.outline = self.outline, []
        if len(outline) >= 3:
            self._take(outline)
        self.view.update()

    def _take(self, outline: list[QPointF]) -> None:
        self.selection.take(np.array([[p.x(), p.y()] for p in outline]), self.how)

    def leave(self) -> None:
        self.selection.forget()

    def paint(self, painter: QPainter) -> None:
        painter.setPen(QPen(QColor(TINT), 1.4, Qt.PenStyle.DashLine))
        if self.start is not None and self.mouse is not None and not self.outline:
            painter.drawRect(QRectF(self.start, self.mouse).normalized())
        points = [*self.outline, *([self.mouse] if self.outline and self.mouse is not None else [])]
        if len(points) > 1:
            painter.drawPolygon(QPolygonF(points))


def _how(modifiers: Qt.KeyboardModifier) -> str:
    if modifiers & Qt.KeyboardModifier.ShiftModifier:
        return ADD
    return TAKE_AWAY if modifiers & Qt.KeyboardModifier.ControlModifier else REPLACE
