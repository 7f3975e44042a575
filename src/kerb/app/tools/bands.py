"""The sections of the job as bands in plan: true depth, look arrow, ends marked A and B; dragged by their handles."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF

from kerb.app.keeper import SectionKeeper
from kerb.app.theme import font
from kerb.app.views.view import PLAN, View
from kerb.core.arrays import Floats
from kerb.core.section.placed import PlacedSection

REACH = 9.0
ARROW = 26.0
LEFT, RIGHT, TURN, MOVE, DEEP = "left", "right", "turn", "move", "deep"
VERBS = {
    LEFT: "Moved an end of",
    RIGHT: "Moved an end of",
    TURN: "Turned",
    MOVE: "Moved",
    DEEP: "Made thicker or thinner",
}


class Bands:
    """Paints the bands over the plan and drags that of the chosen section."""

    def __init__(self, view: View, keeper: SectionKeeper) -> None:
        self.view, self.keeper = view, keeper
        self.held = ""

    def press(self, event: QMouseEvent) -> bool:
        """Take a handle of the chosen section."""
        here = self.keeper.section()
        if here is None or self.view.mode != PLAN:
            return False
        for name, at in self._handles(here).items():
            away = at - event.position()
            if QPointF.dotProduct(away, away) <= REACH**2:
                self.held = name
                return True
        return False

    def move(self, event: QMouseEvent) -> bool:
        """Drag the handle that is held."""
        here = self.keeper.section()
        if not self.held or here is None:
            return False
        at = event.position() * self.view.ratio
        place = self.view.camera.unproject(at.x(), at.y(), 0.0, self.view.pixels)
        self.keeper.try_(dragged(here, self.held, place), VERBS[self.held])
        return True

    def release(self) -> bool:
        """Keep what was dragged."""
        held, self.held = self.held, ""
        if held:
            self.keeper.keep()
        return bool(held)

    def paint(self, painter: QPainter) -> None:
        """All bands; the chosen one strong and with handles."""
        if self.view.mode != PLAN:
            return
        here = self.keeper.section()
        for section in self.keeper.all():
            self._paint(painter, section, here is not None and section.id == here.id)

    def _handles(self, section: PlacedSection) -> dict[str, QPointF]:
        left, right, middle = self._ends(section)
        band = section.band()
        # Beside the middle: of a thin band both would lie on one another.
        (deep,) = self._at((3 * band[2] + band[3])[None] / 4)
        turn = _along(middle, self._ahead(section), ARROW)
        return {LEFT: left, RIGHT: right, TURN: turn, DEEP: deep, MOVE: middle}

    def _ahead(self, section: PlacedSection) -> QPointF:
        """Unit vector on the screen the way one looks; of a level section, up in its picture."""
        way = section.axes[2] if section.upright else section.axes[1]
        return QPointF(float(way[0]), -float(way[1]))

    def _ends(self, section: PlacedSection) -> tuple[QPointF, QPointF, QPointF]:
        """Left, right and middle on the screen."""
        left, right = self._at(section.ends)
        return left, right, QPointF((left.x() + right.x()) / 2, (left.y() + right.y()) / 2)

    def _at(self, xy: Floats) -> list[QPointF]:
        places = np.column_stack([xy, np.full(len(xy), self.view.camera.target[2])])
        return [QPointF(*p) for p in self.view.to_widget(places).tolist()]

    def _paint(self, painter: QPainter, section: PlacedSection, chosen: bool) -> None:
        theme = self.view.theme
        ink = QColor(theme.accent if chosen else theme.ink)
        ink.setAlpha(255 if chosen else 120)
        shade = QColor(ink)
        shade.setAlpha(45 if chosen else 18)
        painter.setPen(QPen(ink, 1.0))
        painter.setBrush(shade)
        painter.drawPolygon(QPolygonF(self._at(section.band())))
        left, right, middle = self._ends(section)
        for colour, wide in ((QColor(theme.sheet), 3.6), (ink, 1.8)) if chosen else ((ink, 1.2),):
            painter.setPen(QPen(colour, wide))
            painter.drawLine(left, right)
        ahead = self._ahead(section)
        side = QPointF(-ahead.y(), ahead.x())
        tip, back = _along(middle, ahead, ARROW), _along(middle, ahead, ARROW - 8)
        painter.drawLine(middle, tip)
        painter.setBrush(ink)
        painter.drawPolygon(QPolygonF([tip, _along(back, side, 4), _along(back, side, -4)]))
        painter.setFont(font(11))
        self._name(painter, QPointF(tip.x() + 6, tip.y() - 3), section.name)
        painter.setPen(QPen(ink, 1.4))
        for letter, end in zip(letters(section), (left, right), strict=True):
            painter.setBrush(QColor(theme.sheet))
            painter.drawEllipse(end, 8.0, 8.0)
            painter.drawText(QRectF(end.x() - 8, end.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, letter)
        if chosen:
            painter.setBrush(QColor(theme.sheet))
            for name in (DEEP, MOVE):
                at = self._handles(section)[name]
                painter.drawRect(QRectF(at.x() - 3.5, at.y() - 3.5, 7, 7))

    def _name(self, painter: QPainter, at: QPointF, text: str) -> None:
        """On a light patch: the data may be as dark as the ink."""
        metrics = painter.fontMetrics()
        back = QColor(self.view.theme.sheet)
        back.setAlpha(205)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(back)
        wide = metrics.horizontalAdvance(text)
        painter.drawRoundedRect(QRectF(at.x() - 3, at.y() - metrics.ascent(), wide + 6, metrics.height()), 3, 3)
        painter.setPen(QColor(self.view.theme.ink))
        painter.drawText(at, text)


def _along(start: QPointF, way: QPointF, length: float) -> QPointF:
    return QPointF(start.x() + way.x() * length, start.y() + way.y() * length)


def letters(section: PlacedSection) -> tuple[str, str]:
    """What its left and right end are called: A is the western one, or the southern."""
    (east, north), (east2, north2) = np.round(section.ends, 6).tolist()
    return ("A", "B") if (east, north) <= (east2, north2) else ("B", "A")


def dragged(section: PlacedSection, handle: str, place: Floats) -> PlacedSection:
    """The section when one of its handles is at another place (3,) in plan."""
    left, right = section.ends
    middle = np.array(section.middle)
    away = place[:2] - middle[:2]
    _, up, look = section.axes
    if handle in (LEFT, RIGHT):
        ends = (place[:2], right) if handle == LEFT else (left, place[:2])
        if float(np.hypot(*(ends[1] - ends[0]))) <= section.width * 1e-3:
            return section
        if not section.upright:
            return replace(section, width=2 * float(np.hypot(*away)))
        return section.with_ends(*ends)
    if handle == MOVE:
        return section.moved(np.append(away, 0.0))
    if handle == TURN:
        return replace(section, azimuth=float(np.degrees(np.arctan2(*away))) % 360.0) if np.hypot(*away) else section
    deep = 2 * abs(float(away @ (look if section.upright else up)[:2]))
    if deep <= 0:
        return section
    return replace(section, thickness=deep) if section.upright else replace(section, width=deep)
