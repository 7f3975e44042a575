"""Drag the ends of the profile lines, or a whole line by its middle; the chart below follows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QMouseEvent

from kerb.app.tools.base import Tool
from kerb.app.views.overlay import ProfileLines
from kerb.app.views.view import PLAN, View

REACH = 9.0
MIDDLE = 2


class ProfileHandles(Tool):
    """The handles of the profile lines in plan."""

    def __init__(self, view: View, lines: ProfileLines, moved: Callable[[int], None]) -> None:
        super().__init__(view)
        self.lines, self.moved = lines, moved
        self.taken: tuple[int, int] | None = None
        self.last: np.ndarray | None = None

    def press(self, event: QMouseEvent) -> bool:
        if self.view.mode != PLAN or not self.lines.shown:
            return False
        for number, line in enumerate(self.lines.lines):
            grips = np.vstack([line, line.mean(axis=0)])
            at = self.view.to_widget(np.column_stack([grips, np.full(3, self.view.camera.target[2])]))
            away = np.hypot(*(at - (event.position().x(), event.position().y())).T)
            grip = int(np.argmin(away))
            # The middles of both lines often lie on each other: only the chosen line is moved whole.
            if away[grip] <= REACH and (grip != MIDDLE or number == self.lines.current):
                self.taken, self.last = (number, grip), self._place(event.position())
                self.lines.current = number
                return True
        return False

    def move(self, event: QMouseEvent) -> None:
        if self.taken is None:
            return
        number, grip = self.taken
        place = self._place(event.position())
        line = self.lines.lines[number].copy()
        if grip == MIDDLE:
            line += place - self.last
        else:
            line[grip] = place
        self.last = place
        if np.hypot(*(line[1] - line[0])) > 1e-6:
            self.lines.lines[number] = line
            self.moved(number)
            self.view.update()

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        self.taken = None

    def _place(self, position: QPointF) -> np.ndarray:
        x, y = position.x() * self.view.ratio, position.y() * self.view.ratio
        return self.view.camera.unproject(x, y, 0.0, self.view.pixels)[:2]
