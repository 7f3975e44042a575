"""A plan thumbnail: new data over what the job has and what comes with it; the place check stands in words below it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QWidget

from kerb.app.theme import Theme, font
from kerb.core.arrays import Floats
from kerb.core.geometry.features import bounds_of

MARGIN = 14
SMALLEST = 5.0
# Room for the key below.
KEY = 12
# So few places are drawn as dots that can be seen one by one.
FEW = 1000


class Thumbnail(QWidget):
    """Two samples of places in one scale, north up; far apart ones become marks with a line between."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.new: Floats = np.empty((0, 3))
        self.other: Floats = np.empty((0, 3))
        self.words = ""
        self.setMinimumSize(220, 190)
        self.setAccessibleName("Plan of the new data over the other data")

    def show_places(self, new: Floats, other: Floats | None, words: str = "") -> None:
        """Show new places (n, 3) over those that they are held against."""
        self.new, self.other, self.words = new, np.empty((0, 3)) if other is None else other, words
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self.theme.hair), 1))
        painter.setBrush(QColor(self.theme.canvas))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        if not len(self.new):
            painter.setPen(QColor(self.theme.quiet))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.words or "Looking at the file…")
            return
        both = np.concatenate([self.new[:, :2], self.other[:, :2]])
        both = both[np.isfinite(both).all(axis=1)]
        low, high = bounds_of(both)
        size = np.maximum(high - low, 1e-9)
        free = np.array([self.width(), self.height() - KEY])
        room = free - 2 * MARGIN
        scale = float(np.min(room / size))
        corner = free / 2 - np.array([1, -1]) * (low + high) / 2 * scale
        self._dots(painter, self.other, (corner, scale), QColor(self.theme.quiet), 150)
        self._dots(painter, self.new, (corner, scale), QColor(self.theme.edge), 190)
        self._outlines(painter, (corner, scale))
        self._key(painter)

    def _dots(self, painter: QPainter, xyz: Floats, how: tuple[Floats, float], ink: QColor, alpha: int) -> None:
        """Places as pixels of an image, few of them as dots: thousands cost no more than a few."""
        if not len(xyz):
            return
        at = how[0] + xyz[:, :2] * how[1] * [1, -1]
        at = at[np.isfinite(at).all(axis=1)].astype(int)
        if len(at) <= FEW:
            at = (at[:, None, :] + np.mgrid[-1:2, -1:2].reshape(2, -1).T).reshape(-1, 2)
        inside = np.all((at >= 0) & (at < [self.width(), self.height()]), axis=1)
        image = np.zeros((self.height(), self.width(), 4), np.uint8)
        image[at[inside, 1], at[inside, 0]] = (ink.blue(), ink.green(), ink.red(), alpha)
        picture = QImage(image.data, self.width(), self.height(), self.width() * 4, QImage.Format.Format_ARGB32)
        painter.drawImage(0, 0, picture.copy())

    def _outlines(self, painter: QPainter, how: tuple[Floats, float]) -> None:
        boxes: list[QRectF] = []
        for xyz, ink in ((self.other, self.theme.quiet), (self.new, self.theme.edge)):
            if not len(xyz):
                continue
            low, high = bounds_of(xyz)
            a, b = (how[0] + corner[:2] * how[1] * [1, -1] for corner in (low, high))
            box = QRectF(QPointF(a[0], b[1]), QPointF(b[0], a[1])).normalized()
            grow = max(SMALLEST - min(box.width(), box.height()), 0) / 2
            box.adjust(-grow, -grow, grow, grow)
            painter.setPen(QPen(QColor(ink), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
            boxes.append(box)
        if len(boxes) == 2 and not boxes[0].intersects(boxes[1]):
            painter.setPen(QPen(QColor(self.theme.ink), 1, Qt.PenStyle.DotLine))
            painter.drawLine(boxes[0].center(), boxes[1].center())

    def _key(self, painter: QPainter) -> None:
        painter.setFont(font(11))
        x = 10.0
        for words, ink in (("new", self.theme.edge), ("other data", self.theme.quiet)):
            if words == "other data" and not len(self.other):
                continue
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(ink))
            painter.drawRect(QRectF(x, self.height() - 17, 8, 8))
            painter.setPen(QColor(self.theme.ink))
            painter.drawText(QPointF(x + 12, self.height() - 9), words)
            x += 50
