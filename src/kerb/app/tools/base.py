"""What a tool is: it gets the mouse and keys of the view first, and paints over the picture."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter

from kerb.app.views.view import View


class Tool:
    """A tool that does nothing. ``hint`` is shown in the status line while it is chosen."""

    hint: str = ""
    cursor: Qt.CursorShape = Qt.CursorShape.ArrowCursor
    # Letters that mean something to it while it has the mouse, whatever they mean in the menus.
    letters: frozenset[Qt.Key] = frozenset()

    def __init__(self, view: View) -> None:
        self.view = view

    def press(self, event: QMouseEvent) -> bool:
        """Take a left press; True keeps the view from moving."""
        return False

    def move(self, event: QMouseEvent) -> None:
        """Follow the mouse."""

    def release(self, event: QMouseEvent, clicked: bool) -> None:
        """End of a press; ``clicked`` when the view was not moved meanwhile."""

    def double_click(self, event: QMouseEvent) -> None:
        """Take a double click."""

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; True when it was used."""
        return False

    def take_back(self) -> bool:
        """Take back what was done last with it; False when there is nothing."""
        return False

    def paint(self, painter: QPainter) -> None:
        """Draw over the picture."""

    def leave(self) -> None:
        """Another tool is chosen."""


class PointingTool(Tool):
    """A cross that is followed, for tools that take places one by one."""

    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.mouse: QPointF | None = None

    def move(self, event: QMouseEvent) -> None:
        """Follow the mouse."""
        self.mouse = event.position()
        self.view.update()


class OutlineTool(PointingTool):
    """Takes an outline by clicks: double click or Enter closes it, Backspace takes a corner back, Esc stops."""

    def close(self) -> None:
        """Close the outline and do what it is for."""
        raise NotImplementedError

    def stop(self) -> None:
        """Give up."""
        raise NotImplementedError

    def double_click(self, event: QMouseEvent) -> None:
        """Close the outline."""
        self.close()

    def key(self, event: QKeyEvent) -> bool:
        """Enter closes, Backspace takes back, Esc stops."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.close()
        elif event.key() == Qt.Key.Key_Backspace:
            self.take_back()
        elif event.key() == Qt.Key.Key_Escape:
            self.stop()
        else:
            return False
        self.view.update()
        return True
