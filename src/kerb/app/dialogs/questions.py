"""Short messages and questions in the look of the window: what went wrong with which file, and what can be done about it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from kerb.app.widgets import Label, made
from kerb.job.state import Holding

WIDTH = 440


def shown_once(dialog: QDialog) -> int:
    """Show a dialog until it is closed, and let go of it: its parent would keep it, and all that it shows, for good."""
    try:
        return dialog.exec()
    finally:
        dialog.deleteLater()


class Box(QDialog):
    """A heading, a text that can be copied, and buttons; the first is the usual one, Esc means the last."""

    def __init__(self, parent: QWidget, heading: str, text: str, buttons: tuple[str, ...]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Kerb")
        self.answer = buttons[-1]
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 20, 22, 16)
        column.setSpacing(10)
        self.heading, self.words = made(Label(heading), wordWrap=True), made(Label(text), wordWrap=True)
        self.heading.setProperty("role", "heading")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        for label in (self.heading, self.words):
            label.setFixedWidth(WIDTH)
            column.addWidget(label)
        self.words.setVisible(bool(text))
        column.addSpacing(6)
        row = QHBoxLayout()
        row.addStretch(1)
        self.buttons: dict[str, QPushButton] = {}
        for number, words in enumerate(reversed(buttons)):
            button = QPushButton(words)
            button.clicked.connect(lambda _on, w=words: self._take(w))
            # Only the usual one is pressed by Enter where no other was gone to.
            button.setAutoDefault(False)
            if number == len(buttons) - 1:
                button.setDefault(True)
                button.setProperty("role", "main")
            self.buttons[words] = button
            row.addWidget(button)
        column.addLayout(row)
        # Not before it has its place: the first of the row would have the keyboard else.
        self.buttons[buttons[0]].setFocus()

    def _take(self, words: str) -> None:
        self.answer = words
        self.accept()


def ask(parent: QWidget, heading: str, text: str, *buttons: str) -> str:
    """The button that was pressed; the last one where the question is given up."""
    box = Box(parent, heading, text, buttons)
    box.exec()
    box.deleteLater()
    return box.answer


def complain(parent: QWidget, title: str, text: str) -> None:
    """Say what went wrong, without stopping the window."""
    box = Box(parent, title, text, ("Close",))
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    box.open()


def offer_search(parent: QWidget, holding: Holding, search: Callable[[], None]) -> None:
    """Offer to find the file a holding came from; the imported data work without it."""
    text = f"{holding.source} is not there. The imported data stay usable without it."
    box = Box(parent, f"The source of {holding.name} has moved", text, ("Find the file…", "Go on without it"))
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    box.buttons["Find the file…"].clicked.connect(search)
    box.open()
