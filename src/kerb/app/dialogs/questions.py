"""Short messages and questions: what went wrong with which file, and what can be done about it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget

from kerb.app.widgets import plain
from kerb.job.state import Holding


def complain(parent: QWidget, title: str, text: str) -> None:
    """Say what went wrong, without stopping the window."""
    box = QMessageBox(QMessageBox.Icon.Warning, "Kerb", plain(title), QMessageBox.StandardButton.Ok, parent)
    box.setInformativeText(plain(text))
    box.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    box.open()


def offer_search(parent: QWidget, holding: Holding, search: Callable[[], None]) -> None:
    """Offer to find the file a holding came from; the imported data work without it."""
    box = QMessageBox(
        QMessageBox.Icon.Information, "Kerb", plain(f"The source of {holding.name} has moved"), parent=parent
    )
    box.setInformativeText(plain(f"{holding.source} is not there. The imported data stay usable without it."))
    find = box.addButton("Find the file…", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Go on without it", QMessageBox.ButtonRole.RejectRole)
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    find.clicked.connect(search)
    box.open()
