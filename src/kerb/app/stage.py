"""What is on stage in a window: the tool that has the mouse, what is shown on wish, and which page is asked for."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from kerb.app.views.tooling import Mouse
from kerb.app.views.view import View


class Stage(QObject):
    """Gives the mouse to tools, and tells the window what others want to be shown."""

    tool_changed = Signal()
    hinted = Signal(str)
    toggled = Signal()
    page_wanted = Signal(str, str)
    statistics_wanted = Signal(object, object, str)

    def __init__(self, view: View, usual: Mouse, views: Callable[[], list[View]]) -> None:
        """``usual`` is the tool that has the mouse while no other is chosen; ``views`` gives those of all panes."""
        super().__init__(view)
        self.view, self.usual, self.views = view, usual, views
        self.shown: set[str] = set()
        view.tool = usual

    def use_tool(self, tool: Mouse) -> None:
        """Give the mouse to a tool."""
        if self.view.tool is not None:
            self.view.tool.leave()
        self.view.tool = tool
        self.view.setCursor(tool.cursor)
        self.hinted.emit(tool.hint)
        self.tool_changed.emit()
        self.view.setFocus()
        self.view.update()

    def use_edit_tool(self) -> None:
        """Give the mouse back to the shapes of the open study."""
        self.use_tool(self.usual)
        self.hinted.emit("")

    def toggle(self, what: str) -> None:
        """Show or hide noise points, what is set aside, or a layer of the open study."""
        self.shown ^= {what}
        self.toggled.emit()
