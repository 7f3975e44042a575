"""What do you want to know? Every question that Kerb answers, to choose from."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from kerb.app.widgets import SecondClick, there
from kerb.studies.registry import STUDIES


class StudyChooser(QDialog):
    """A list of questions; typing narrows it, Enter or a click takes one."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("What do you want to know?")
        self.resize(460, 320)
        column = QVBoxLayout(self)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Type part of a question")
        self.search.setAccessibleName("Part of a question")
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(self._take)
        column.addWidget(self.search)
        self.list = QListWidget()
        self.list.setAccessibleName("Questions")
        self.list.itemActivated.connect(lambda _item: self._take())
        self.list.itemClicked.connect(lambda _item: self._clicked())
        column.addWidget(self.list)
        self._fill("")
        self.search.setFocus()

    def _fill(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        for kind in sorted(STUDIES.values(), key=lambda k: k.group):
            whole = f"{kind.question} {kind.title} {kind.group}".lower()
            if all(word in whole for word in words):
                item = QListWidgetItem(
                    f"{kind.question}\n{' · '.join(dict.fromkeys(filter(None, (kind.title, kind.group, kind.key))))}"
                )
                item.setData(Qt.ItemDataRole.UserRole, kind.id)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _clicked(self) -> None:
        SecondClick(there(self.parent()))
        self._take()

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.accept()
            self.chosen.emit(item.data(Qt.ItemDataRole.UserRole))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down go through the list while the words are typed."""
        if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow((self.list.currentRow() + step) % max(self.list.count(), 1))
        else:
            super().keyPressEvent(event)
