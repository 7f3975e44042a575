"""Fill a field of the open study by clicks."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent

from kerb.app.session import Session
from kerb.app.tools.base import Tool
from kerb.app.views.view import PLAN, View
from kerb.core.arrays import Floats
from kerb.core.errors import KerbError
from kerb.job import studies
from kerb.studies.kind import PlaceStep


class PickPlace(Tool):
    """Each click is one step of the study; Backspace takes the last one back, Esc ends."""

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, view: View, session: Session, step: PlaceStep, finished: Callable[[], None]) -> None:
        super().__init__(view)
        self.session, self.step, self.finished = session, step, finished
        self.hint = f"{step.help}. Backspace takes one back, Esc ends."
        self.count = 0

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """Add what lies there."""
        job, setup = self.session.job, self.session.setup
        place = self.view.place_under(event.position())
        if not clicked or event.button() != Qt.MouseButton.LeftButton or job is None or setup is None or place is None:
            return
        try:
            values = self.step.apply(setup, studies.sources_of(job, setup), self._exactly(event.position(), place))
        except KerbError as error:
            self.session.said.emit(f"Nothing was added: {error}.")
            return
        self.session.commit(f"{self.step.label}: {', '.join(map(str, values.values()))}", **values)
        self.count += 1

    def _exactly(self, position: QPointF, place: Floats) -> Floats:
        """The place with the elevation of the point that is drawn there; in plan without, for it may be one of another cloud that
        lies above what is meant."""
        found = self.view.point_at(position) if self.view.mode != PLAN else None
        if found is None:
            return np.append(place[:2], np.nan)
        layer, row = found
        return np.asarray(layer.store.coordinates(slice(row, row + 1))[0])

    def key(self, event: QKeyEvent) -> bool:
        """Esc ends, Backspace takes back."""
        if event.key() == Qt.Key.Key_Escape:
            self.finished()
            return True
        return event.key() == Qt.Key.Key_Backspace and self.take_back()

    def take_back(self) -> bool:
        """Undo the last click."""
        if not self.count:
            return False
        self.session.undo()
        self.count -= 1
        return True
