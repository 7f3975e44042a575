"""Place a section by clicks: two ends, one click square to a surface, or two picks of a body that it lies between."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen

from kerb.app.keeper import SectionKeeper
from kerb.app.tools.base import PointingTool
from kerb.app.tools.drawing import ARROWS, KEY_PIXELS
from kerb.app.tools.measure import paint_note
from kerb.app.views.view import PLAN, View
from kerb.core.arrays import Floats
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.errors import NotDeterminable
from kerb.core.quantity import quantity, round_number
from kerb.core.section.placed import ACROSS, FACE, LEVEL, PlacedSection, between, normal_of, square_to, through

ENDS, BETWEEN = "ends", "between"
# Key, words, and how many clicks it takes.
WAYS = {
    ENDS: (Qt.Key.Key_E, "between two ends", 2),
    ACROSS: (Qt.Key.Key_A, "across the surface", 1),
    FACE: (Qt.Key.Key_F, "looking at the face", 1),
    LEVEL: (Qt.Key.Key_L, "level", 1),
    BETWEEN: (Qt.Key.Key_B, "between two picks of a body", 2),
}
# A section that is set by one click is so much of the picture wide.
SHARE = 0.25
PATCH_PIXELS = 14.0
PATCH_SPACINGS = 4.0


class PlaceSection(PointingTool):
    """Clicks make a section; E, A, F, L and B choose how, before the click or after the first of two."""

    hint = "Click two ends (or arrows and Space); A across a surface, F its face, L level, B between two picks, E two ends; Esc."
    letters = frozenset(key for key, _, _ in WAYS.values())

    def __init__(self, view: View, keeper: SectionKeeper, finished: Callable[[], None]) -> None:
        super().__init__(view)
        self.keeper, self.finished = keeper, finished
        self.way = ENDS
        self.places: list[Floats] = []

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if clicked and event.button() == Qt.MouseButton.LeftButton:
            self.click(event.position())

    def click(self, position: QPointF) -> None:
        """Take a place, and make the section when there are enough of them."""
        place = self._place(position)
        if place is None:
            self.keeper.session.said.emit("There is no point here; click on the data.")
            return
        self.places.append(place)
        if len(self.places) >= WAYS[self.way][2]:
            self._make()
        self.view.update()

    def key(self, event: QKeyEvent) -> bool:
        key = Qt.Key(event.key())
        found = next((way for way, (letter, _, _) in WAYS.items() if letter == key), None)
        if found is not None:
            self.way = found
            # After a click: one that is enough for the new way is used at once.
            if self.places and WAYS[found][2] == 1:
                self._make()
        elif key in ARROWS:
            self._move_cross(ARROWS[key], bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif key == Qt.Key.Key_Space:
            self.click(self._cross())
        elif key == Qt.Key.Key_Backspace:
            return self.take_back()
        elif key == Qt.Key.Key_Escape:
            self.finished()
        else:
            return False
        self.view.update()
        return True

    def _cross(self) -> QPointF:
        """Where the next place is: under the mouse, else in the middle."""
        return self.mouse if self.mouse is not None else QPointF(self.view.rect().center())

    def _move_cross(self, way: tuple[float, float], wide: bool) -> None:
        step = KEY_PIXELS * (10.0 if wide else 1.0)
        here = self._cross()
        x = min(max(here.x() + way[0] * step, 0.0), self.view.width() - 1.0)
        y = min(max(here.y() - way[1] * step, 0.0), self.view.height() - 1.0)
        self.mouse = QPointF(x, y)

    def take_back(self) -> bool:
        """Forget the last click."""
        if not self.places:
            return False
        self.places.pop()
        self.view.update()
        return True

    def _place(self, position: QPointF) -> Floats | None:
        """The point under the cursor; for the two ends of a section the place in plan is enough."""
        if self.way == ENDS:
            # Exactly where was clicked, at the elevation of what lies there.
            place = self.view.place_under(position)
            return None if place is None else np.where(np.isfinite(place), place, self.view.camera.target)
        picture = self.view.picture
        if picture is None:
            return None
        share = self.view.ratio * picture.size[0] / self.view.pixels[0]
        return picture.place_at(position.x() * share, position.y() * share, reach=round(6 * share))

    def _make(self) -> None:
        places, self.places = self.places, []
        width, thickness = self.keeper.usual()
        seen = round_number(SHARE * self.view.width() * self.view.ratio * self.view.camera.scale)
        try:
            if self.way == ENDS:
                if np.hypot(*(places[1] - places[0])[:2]) <= 0:
                    raise NotDeterminable("both ends are the same place")
                made: PlacedSection = through(places[0], places[1], thickness)
            elif self.way == BETWEEN:
                made = between(places[0], places[1], seen)
            else:
                normal = self._normal(places[0]) if self.way != LEVEL else np.array([0.0, 0.0, 1.0])
                made = square_to(
                    places[0], normal, self.way, (seen if self.way != LEVEL else max(seen, width), thickness)
                )
        except NotDeterminable as error:
            self.keeper.session.said.emit(f"No section: {error}.")
            return
        self.finished()
        self.keeper.add(made)

    def _normal(self, place: Floats) -> Floats:
        """How the surface stands at a place, its outside towards the eye; of what is seen from above, to where it falls."""
        spacing = max((layer.store.spacing for layer in self.view.scene.clouds), default=0.0)
        radius = max(PATCH_PIXELS * self.view.ratio * self.view.camera.scale, PATCH_SPACINGS * spacing)
        low, high = place - radius, place + radius
        box = (low[0], low[1], low[2]), (high[0], high[1], high[2])
        found = [CloudView(layer.store, Narrowing(box=box)).points() for layer in self.view.scene.clouds]
        towards = np.array([0.0, 0.0, 1.0]) if self.view.mode == PLAN else -self.view.camera.axes[2]
        return normal_of(np.concatenate([np.empty((0, 3)), *found]), towards)

    def paint(self, painter: QPainter) -> None:
        """What was clicked, and how the next click counts."""
        theme = self.view.theme
        points = [QPointF(*p) for p in self.view.to_widget(np.array(self.places)).tolist()] if self.places else []
        # On a light ground: the data may be as dark as the ink.
        for ink, wide in ((QColor(theme.sheet), 4.0), (QColor(theme.accent), 1.8)):
            painter.setPen(QPen(ink, wide))
            for point in points:
                painter.drawEllipse(point, 4.0, 4.0)
            if points and self.mouse is not None:
                painter.drawLine(points[-1], self.mouse)
        if self.mouse is None:
            return
        words = [WAYS[self.way][1]]
        at = self._place(self.mouse) if points and self.way in (ENDS, BETWEEN) else None
        if at is not None:
            apart = float(np.hypot(*(at - self.places[-1])[:2]))
            words.append(quantity(apart, self.keeper.session.unit, self.keeper.session.decimals))
        for dx, dy in ((7.0, 0.0), (0.0, 7.0)):
            painter.drawLine(self.mouse - QPointF(dx, dy), self.mouse + QPointF(dx, dy))
        paint_note(painter, self.mouse + QPointF(16, 10), ["  ".join(words)], self.view)
