"""Check the size of things: two clicks on something whose true length is known, and what would explain a difference."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QInputDialog

from kerb.app.session import Session
from kerb.app.tools.measure import Measure
from kerb.app.views.view import View
from kerb.core.errors import InputError
from kerb.core.quantity import quantity, symbol
from kerb.core.ratio import Verdict, judge

LEAST = 1e-4
CLICK_PIXELS = 1.5


class KnownLength(Measure):
    """Two clicks, then the true length is typed; the verdict stands beside the line."""

    hint = "Click both ends of something whose true length you know. Esc ends."

    def __init__(self, view: View, session: Session, finished: Callable[[], None]) -> None:
        super().__init__(view, session, finished)
        self.verdict: Verdict | None = None

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        if clicked and len(self.places) >= 2:
            self.places.clear()
            self.verdict = None
        before = len(self.places)
        super().release(event, clicked)
        if before == 1 and len(self.places) == 2:
            self._ask()

    def _ask(self) -> None:
        measured = float(np.linalg.norm(self.places[1] - self.places[0]))
        unit = symbol(self.session.unit)
        words = f"It measures {quantity(measured, self.session.unit, self.session.decimals)}. True length in {unit}:"
        text, accepted = QInputDialog.getText(self.view, "Check a known length", words)
        if accepted and text.strip():
            self.judge(text)

    def judge(self, text: str) -> None:
        """Compare with a true length as typed."""
        measured = float(np.linalg.norm(self.places[1] - self.places[0]))
        try:
            true = float(text.strip().replace(",", "."))
            # A click is good to a pixel or so at either end.
            tolerance = max(CLICK_PIXELS * self.view.camera.scale / max(measured, 1e-12), LEAST)
            self.verdict = judge(measured, true, tolerance)
        except ValueError:
            self.session.said.emit(f"“{text}” is not a length")
            return
        except InputError as error:
            self.session.said.emit(str(error))
            return
        self.session.said.emit(self.verdict.sentence)
        self.view.update()

    def lines(self) -> list[str]:
        lines = super().lines()
        if self.verdict is not None:
            words = self.verdict.sentence.split()
            row = ""
            for word in words:
                if len(row) + len(word) > 52:
                    lines.append(row)
                    row = ""
                row = f"{row} {word}".strip()
            lines.append(row)
        return lines

    def key(self, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self.verdict = None
        return super().key(event)
