"""Fill a field of the open study by clicks in plan."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent

from kerb.app.session import Session
from kerb.app.tools.base import Tool
from kerb.app.views.view import View
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
            values = self.step.apply(setup, studies.sources_of(job, setup), place[:2])
        except KerbError as error:
            self.session.said.emit(f"Nothing was added: {error}.")
            return
        self.session.commit(f"{self.step.label}: {', '.join(map(str, values.values()))}", **values)
        self.count += 1

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
