"""What a view asks of the tool that has the mouse, so that views know no tools."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter


class Mouse(Protocol):
    """Gets the mouse and keys of the view first, and paints over the picture."""

    @property
    def hint(self) -> str:
        """What it waits for, for the status line."""

    @property
    def cursor(self) -> Qt.CursorShape:
        """How the mouse looks."""

    @property
    def letters(self) -> frozenset[Qt.Key]:
        """Letters that mean something to it, whatever they mean in the menus."""

    def press(self, event: QMouseEvent) -> bool:
        """Take a left press; True keeps the view from moving."""

    def move(self, event: QMouseEvent) -> None:
        """Follow the mouse."""

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """End of a press; ``clicked`` when the view was not moved meanwhile."""

    def double_click(self, event: QMouseEvent) -> None:
        """Take a double click."""

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; True when it was used."""

    def take_back(self) -> bool:
        """Take back what was done last with it; False when there is nothing."""

    def paint(self, painter: QPainter) -> None:
        """Draw over the picture."""

    def leave(self) -> None:
        """Another tool is chosen."""
