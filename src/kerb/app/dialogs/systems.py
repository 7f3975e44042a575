"""Choose a reference system: by name, code or country, with heights, or a local grid that only has a unit."""

from __future__ import annotations

import threading
from contextlib import suppress
from dataclasses import replace

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kerb.app.widgets import Label, made
from kerb.core import systems
from kerb.core.errors import InputError
from kerb.core.reference import ReferenceSystem, from_text, local_grid
from kerb.core.units import FILE_UNITS, LENGTH_UNITS

LOCAL = "local grid"
HORIZONTAL = ("projected", "projected with heights", "degrees")


class SystemDialog(QDialog):
    """Search and choose; ``chosen`` is the result once accepted."""

    was_read = Signal()

    def __init__(self, current: ReferenceSystem, parent: QWidget, job: bool = False) -> None:
        super().__init__(parent)
        self.setWindowTitle("Reference system")
        self.resize(620, 520)
        self.chosen = current
        column = QVBoxLayout(self)
        words = made(
            Label(
                "The numbers stay as they are; this only says what they are in." if job else "What the numbers are in."
            ),
            wordWrap=True,
        )
        words.setProperty("role", "quiet")
        column.addWidget(words)
        self.search = made(QLineEdit(), placeholderText="Name, code or country: “utm 30n”, “2229”, “Lambert France”")
        self.search.setAccessibleName("Search reference systems")
        column.addWidget(self.search)
        self.list = QListWidget()
        self.list.setAccessibleName("Reference systems found")
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.heights = QComboBox()
        self.heights.setToolTip("Height system; those that meet the area of the chosen system")
        self.heights.setAccessibleName("Height system")
        self.unit = QComboBox()
        self.unit.setToolTip("Unit of a local grid")
        self.unit.setAccessibleName("Unit")
        for code, unit in (LENGTH_UNITS if job else FILE_UNITS).items():
            self.unit.addItem(unit.name, code)
        self.unit.setCurrentIndex(max(self.unit.findData(current.unit.code), 0))
        self.height_label, self.unit_label = Label("Heights"), Label("Unit")
        for widget in (self.height_label, self.heights, self.unit_label, self.unit):
            row.addWidget(widget)
        row.addStretch(1)
        column.addLayout(row)
        self.about = made(Label(""), wordWrap=True)
        self.about.setProperty("role", "small")
        column.addWidget(self.about)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self._wait = made(QTimer(self), singleShot=True, interval=120)
        self._wait.timeout.connect(self._find)
        self.search.textChanged.connect(lambda _t: self._wait.start())
        self.list.currentItemChanged.connect(lambda *_: self._mirror())
        self.list.itemDoubleClicked.connect(lambda _i: self.accept())
        self.heights.activated.connect(lambda _i: self._describe())
        self.was_read.connect(self._find)
        if not self.ready:
            threading.Thread(target=self._read, name="reference systems", daemon=True).start()
        self._find()

    @property
    def ready(self) -> bool:
        """Whether the list of systems was read; until then a search waits for it."""
        return systems.are_read()

    def _read(self) -> None:
        systems.all_systems()
        with suppress(RuntimeError):  # the dialog was closed meanwhile
            self.was_read.emit()

    def _find(self) -> None:
        self.list.clear()
        text = self.search.text().strip()
        item = QListWidgetItem("Local grid (no relation to others, only a unit)")
        item.setData(Qt.ItemDataRole.UserRole, LOCAL)
        self.list.addItem(item)
        if text and not self.ready:
            waiting = QListWidgetItem("Reading the list of systems…")
            waiting.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(waiting)
            self.list.setCurrentRow(0)
            return
        if text:
            for entry in systems.search(text, HORIZONTAL):
                item = QListWidgetItem(f"{entry.name}    {entry.code}\n{entry.kind} · {entry.area}"[:150])
                item.setData(Qt.ItemDataRole.UserRole, entry.code)
                self.list.addItem(item)
        elif self.chosen.wkt:
            item = QListWidgetItem(f"{self.chosen.name}    {self.chosen.code}\nas it is now")
            item.setData(Qt.ItemDataRole.UserRole, "")
            self.list.addItem(item)
        self.list.setCurrentRow(1 if self.list.count() > 1 else 0)

    def _mirror(self) -> None:
        code = self._code()
        local = code == LOCAL
        self.heights.clear()
        self.heights.addItem("not stated", "")
        if code not in (None, LOCAL, "") and "+" not in code:
            for entry in systems.vertical_for(code)[:60]:
                self.heights.addItem(f"{entry.name}  {entry.code}", entry.code.partition(":")[2])
        for widget in (self.height_label, self.heights):
            widget.setVisible(not local and self.heights.count() > 1)
        for widget in (self.unit_label, self.unit):
            widget.setVisible(local)
        self._describe()

    def _code(self) -> str | None:
        item = self.list.currentItem()
        return None if item is None else item.data(Qt.ItemDataRole.UserRole)

    def _made(self) -> ReferenceSystem | None:
        code = self._code()
        if code is None:
            return None
        if code == LOCAL:
            return local_grid(FILE_UNITS[self.unit.currentData()])
        if code == "":
            return self.chosen
        heights = self.heights.currentData()
        return replace(from_text(f"{code}+{heights}" if heights else code), certainty="confirmed")

    def _describe(self) -> None:
        try:
            made = self._made()
            words = made.sentence if made is not None else ""
            good = made is not None
        except InputError as error:
            words, good = str(error), False
        self.about.setText(words)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(good)

    def accept(self) -> None:
        made = self._made()
        if made is not None:
            self.chosen = made
            super().accept()
