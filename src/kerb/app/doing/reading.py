"""Actions that open something to read."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from kerb import __version__
from kerb.app.dialogs.questions import ask, shown_once
from kerb.app.dialogs.reading import Reading, keys_page
from kerb.app.session import Session
from kerb.report.reading import method_text


class HelpActions(QObject):
    """The doing of actions of the menu Help."""

    guide_wanted = Signal(bool)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.parent_ = session, parent

    def placing_help(self) -> None:
        """How numbers are converted, and what the place check looks for."""
        shown_once(Reading("Units, reference systems and the place check", method_text("placing.md"), self.parent_))

    def ground_help(self) -> None:
        """How ground is found."""
        self.method("ground.md")

    def cleaning_help(self) -> None:
        """How noise, repeats and surfaces are found."""
        self.method("cleaning.md")

    def looking_help(self) -> None:
        """How sections are placed, and what comes out of them."""
        self.method("looking.md")

    def statistics_help(self) -> None:
        """What the figures of clouds and areas are."""
        self.method("statistics.md")

    def method(self, page: str) -> None:
        """Show a page about a method."""
        shown_once(Reading("How it is done", method_text(page), self.parent_))

    def guide(self) -> None:
        """Bring the guided start back."""
        self.session.settings.set("guide_dismissed", False)
        self.guide_wanted.emit(True)

    def shortcuts(self) -> None:
        """What keys and mouse buttons do."""
        shown_once(Reading("Keys and mouse", keys_page(), self.parent_))

    def about(self) -> None:
        """Version and licence."""
        text = (
            "Compares point clouds with what they should be.\n\n"
            "Free software under the GNU General Public License 3 or later. Font: IBM Plex Sans (SIL OFL 1.1)."
        )
        ask(self.parent_, f"Kerb {__version__}", text, "Close")
