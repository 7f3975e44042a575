"""Lines and marks of the scene, painted over the picture of a view."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kerb.app.theme import font
from kerb.app.views.view import View
from kerb.draw.scene import LineLayer, MarkLayer
from kerb.draw.strokes import strokes

FAINT = 70
MARK = 3.2
# So many labels are kept apart from one another.
MOST_LABELS = 400


def paint_strokes(view: View, painter: QPainter) -> None:
    """The lines of the scene; where something lies before one, it is faint."""
    for line in view.scene.lines:
        paint_line(view, painter, line)


def paint_marks(view: View, painter: QPainter) -> None:
    """The marks and labels of the scene, over everything else; a label that would lie on another waits for a closer look."""
    taken: list[QRectF] = []
    for marks in view.scene.marks:
        _paint_marks(view, painter, marks, taken)


def paint_line(view: View, painter: QPainter, line: LineLayer, outside: bool = False) -> None:
    """One line, its hidden pieces faint; in a slice those outside of it only when they are wanted."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for stroke in strokes(line, view.camera, view.pixels, view.depth_now(), outside):
        colour = QColor(*line.colour)
        colour.setAlpha(FAINT if stroke.hidden else 255)
        pen = QPen(colour, line.width)
        if line.dash:
            pen.setCapStyle(Qt.PenCapStyle.FlatCap)
            pen.setDashPattern(line.dash)
        painter.setPen(pen)
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in (stroke.points / view.ratio).tolist()]))


def _paint_marks(view: View, painter: QPainter, layer: MarkLayer, taken: list[QRectF]) -> None:
    seen = view.camera.project(layer.xyz, view.pixels)
    near, far = view.camera.limits(view.pixels)
    painter.setFont(font(11, font(11).Weight.DemiBold))
    metrics = painter.fontMetrics()
    for row, (x, y, depth) in enumerate((seen / np.array([view.ratio, view.ratio, 1.0])).tolist()):
        if not (near <= depth <= far and -100 < x < view.width() + 100 and -50 < y < view.height() + 50):
            continue
        colour = QColor(*(int(v) for v in layer.colours[row]))
        at = QPointF(x, y)
        if layer.marked:
            painter.setPen(QPen(QColor(view.theme.sheet), 1))
            painter.setBrush(colour)
            painter.drawEllipse(at, MARK, MARK)
        if row < len(layer.texts):
            text = layer.texts[row]
            wide = metrics.horizontalAdvance(text)
            start = at + (QPointF(7, -5) if layer.marked else QPointF(-wide / 2, 4))
            patch = QRectF(start.x() - 4, start.y() - metrics.ascent() - 1, wide + 8, metrics.height() + 2)
            if not text or any(patch.intersects(other) for other in taken):
                continue
            if len(taken) < MOST_LABELS:
                taken.append(patch)
            back = QColor(view.theme.sheet)
            back.setAlpha(215)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(back)
            painter.drawRoundedRect(patch, 3, 3)
            painter.setPen(QColor(view.theme.ink))
            painter.drawText(start, text)
