"""Take the colour of a point that is clicked."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent

from kerb.app.tools.base import Tool
from kerb.app.views.view import View
from kerb.core.cloud.filters import colour_of


class PickColour(Tool):
    """One click on a point gives its colour; Esc gives none."""

    hint = "Click a point: points of about its colour are shown. Esc ends."
    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, view: View, taken: Callable[[tuple[int, ...] | None], None]) -> None:
        super().__init__(view)
        self.taken = taken

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        found = self.view.point_at(event.position()) if clicked else None
        if found is not None and found[0].store.has("red"):
            self.taken(colour_of(found[0].store, found[1]))

    def key(self, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self.taken(None)
            return True
        return False
