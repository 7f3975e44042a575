"""Keys that belong to the window although a field has them: undo where nothing was typed, and menu letters."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import QLineEdit, QWidget


class UndoThroughFields(QObject):
    """Lets Ctrl+Z through fields in which nothing was typed since they were last shown or taken: it means the job."""

    def follow(self, _old: QWidget | None, new: QWidget | None) -> None:
        """Watch the field that has the keys now; watching every event of the application would cost too much."""
        if isinstance(new, QLineEdit):
            new.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Keep a field from taking undo and redo for itself."""
        if event.type() != QEvent.Type.ShortcutOverride or not isinstance(watched, QLineEdit):
            return False
        assert isinstance(event, QKeyEvent)
        undoing = event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo)
        if undoing and not watched.isModified():
            event.ignore()
            return True
        return False


def lettered(titles: list[str]) -> list[str]:
    """Titles with ``&`` before a letter that no other of them has, the first letter of a word where that is free."""
    taken: set[str] = set()
    found = []
    for title in titles:
        starts = [n for n, letter in enumerate(title) if letter.isalnum() and (n == 0 or title[n - 1] == " ")]
        rest = [n for n, letter in enumerate(title) if letter.isalnum() and n not in starts]
        place = next((n for n in (*starts, *rest) if title[n].lower() not in taken), None)
        if place is None:
            found.append(title)
            continue
        taken.add(title[place].lower())
        found.append(f"{title[:place]}&{title[place:]}")
    return found
