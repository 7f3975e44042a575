"""Pick points that were not surveyed: one click a point, snapped to the data, into a list that can be undone."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter
from PySide6.QtWidgets import QInputDialog

from kerb.app.session import Session
from kerb.app.theme import font
from kerb.app.tools.measure import RADIUS, Measure
from kerb.app.views.view import View
from kerb.core.arrays import Floats
from kerb.core.errors import KerbError
from kerb.core.geometry.features import SurveyPoints
from kerb.core.quantity import quantity
from kerb.job import picked


class Pick(Measure):
    """Click points; each goes into the list of picked points with a name that runs on. T types name and code."""

    hint = (
        "Click: the lowest or highest (L, H) or nearest (N) point in the circle, a corner (K) or a target (O) becomes a "
        "point of its own; "
        "T types name and code, Backspace takes one back, Esc ends."
    )

    letters = frozenset({*Measure.snaps, Qt.Key.Key_T})

    def __init__(self, view: View, session: Session, finished: Callable[[], None]) -> None:
        super().__init__(view, session, finished)
        self.list, self.name, self.code = "", "P1", ""
        self.count = 0
        kept = next((h for h in session.open_job.state.holdings if h.name.startswith(picked.LIST)), None)
        if kept is not None:
            self.list = kept.id
            self.name = self._following()

    def take(self, place: Floats) -> None:
        """Keep it as a point of its own."""
        job = self.session.open_job
        if job.state.holding(self.list) is None:
            self.list = ""
        try:
            change, holding = picked.added(job, self.list, place, self.name, self.code, self.snap)
        except KerbError as error:
            self.session.complained.emit("The point could not be kept", str(error))
            return
        self.session.execute(change)
        self.list, self.count = holding.id, self.count + 1
        z = quantity(float(place[2]), self.session.unit, self.session.decimals)
        self.session.said.emit(f"{self.name}  Z {z}")
        self.name = picked.next_name(self.name)

    def key_typed(self) -> None:
        """Ask for the name and code of the next point."""
        text, accepted = QInputDialog.getText(
            self.view, "Next point", "Name and code, such as P101 kerb:", text=f"{self.name} {self.code}".strip()
        )
        if accepted and text.strip():
            self.name, _, code = text.strip().partition(" ")
            self.code = code.strip()

    def key(self, event: QKeyEvent) -> bool:
        """T types, Backspace takes back, Esc ends, N, L and H choose the snap."""
        key = Qt.Key(event.key())
        if key == Qt.Key.Key_T:
            self.key_typed()
        elif key == Qt.Key.Key_Backspace:
            return self.take_back()
        elif key == Qt.Key.Key_Escape:
            self.finished()
        elif key in (Qt.Key.Key_C, Qt.Key.Key_D):
            return False
        else:
            return super().key(event)
        self.view.update()
        return True

    def take_back(self) -> bool:
        """Undo the last point picked with this tool."""
        if not self.count:
            return False
        self.session.undo()
        self.count -= 1
        self.name = self._following()
        return True

    def _following(self) -> str:
        """The name after the last one of the list."""
        kept = self.session.open_job.state.holding(self.list)
        thing = self.session.open_job.thing(kept).thing if kept is not None else None
        return picked.next_name(thing.names[-1]) if isinstance(thing, SurveyPoints) and thing.names else "P1"

    def paint(self, painter: QPainter) -> None:
        """The circle of the snap and the name of the next point."""
        super().paint(painter)
        if self.mouse is not None:
            painter.setPen(QColor(self.view.theme.ink))
            painter.setFont(font(11))
            at = self.mouse + QPointF(RADIUS + 3, RADIUS + 10)
            painter.drawText(at, f"{self.name} {self.code}".strip())
