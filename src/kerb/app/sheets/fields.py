"""Pieces of a sheet: sections, lines of label and value, and fields for numbers, choices and text."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QLayout, QLineEdit, QVBoxLayout, QWidget

from kerb.app.widgets import Choice, Label, emptied, plain
from kerb.core.setting import Setting

LEAST_WIDTH = 120


def hairline() -> QFrame:
    """A thin line across."""
    line = QFrame()
    line.setProperty("role", "hair")
    line.setFixedHeight(1)
    return line


def section(text: str) -> QLabel:
    """The heading of a section."""
    label = Label(text)
    label.setProperty("role", "section")
    return label


def fill_warnings(layout: QLayout, texts: list[str]) -> None:
    """Show texts as warnings in a layout, in place of those that were there."""
    emptied(layout)
    for text in texts:
        label = Label(f"▲  {text}")
        label.setWordWrap(True)
        label.setProperty("role", "warning")
        label.setProperty("text_shown", text)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(label)


class Line(QWidget):
    """A label at the left and a value or field at the right."""

    def __init__(self, words: str, right: QWidget | None = None, tip: str = "") -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        self.label = Label(words)
        self.value = right or Label("—")
        self.label.setToolTip(plain(tip or self.value.toolTip()))
        if tip:
            self.value.setToolTip(plain(tip))
        if isinstance(self.value, QLabel):
            self.value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        else:
            self.value.setAccessibleName(words)
            self.label.setBuddy(self.value)
        row.addWidget(self.label)
        row.addStretch(1)
        row.addWidget(self.value)
        self.setMinimumHeight(24)


class NumberField(QLineEdit):
    """A number with its unit as a placeholder. An empty field means automatic or none; bad text turns red and waits."""

    committed = Signal(object)

    def __init__(self, about: Setting, optional: bool) -> None:
        super().__init__()
        self.about, self.optional = about, optional
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setFixedWidth(126)
        self.editingFinished.connect(self._finish)
        self._shown: float | None = None

    def show_value(self, value: float | None, unit: str) -> None:
        """Mirror a value; ``unit`` is the printed symbol."""
        automatic = self.about.automatic or "none"
        self.setPlaceholderText(automatic if self.optional else unit)
        self.setToolTip(plain(f"{self.about.help} ({unit})" + (f". Empty: {automatic}" if self.optional else "")))
        self._shown = value
        if not self.hasFocus() or not self.isModified():
            self.setText("" if value is None else f"{value:.6g}" if abs(value) < 1e5 else f"{value:.3f}")
            self._mark(True)

    def _finish(self) -> None:
        if not self.isModified():
            return
        self.setModified(False)
        text = self.text().replace(",", ".").replace("\u2009", "").replace(" ", "").strip()
        if not text and self.optional:
            self._mark(True)
            self.committed.emit(None)
            return
        try:
            value = float(text)
            good = value == value and abs(value) != float("inf")
        except ValueError:
            good = False
        good = good and (self.about.low is None or value >= self.about.low)
        self._mark(good)
        if good and value != self._shown:
            self.committed.emit(value)

    def _mark(self, good: bool) -> None:
        self.setProperty("bad", "" if good else "yes")
        self.style().polish(self)
        if not good:
            least = f" of at least {self.about.low:g}" if self.about.low is not None else ""
            self.setToolTip(plain(f"Not a number{least}: the old value stays in force"))


class ChoiceField(Choice):
    """One of some choices."""

    committed = Signal(object)

    def __init__(self, choices: tuple[tuple[str, str], ...]) -> None:
        super().__init__()
        self.setMaximumWidth(222)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.set_choices(choices)
        self.activated.connect(lambda _i: self.committed.emit(self.currentData()))

    def minimumSizeHint(self) -> QSize:
        """Narrow where the sheet is: long words are cut rather than the sheet's edge."""
        hint = super().minimumSizeHint()
        return QSize(min(hint.width(), LEAST_WIDTH), hint.height())

    def set_choices(self, choices: tuple[tuple[str, str], ...]) -> None:
        """Replace the choices, keeping the current one where it is still there."""
        kept = self.currentData()
        self.clear()
        for key, words in choices:
            self.addItem(words, key)
        self.setCurrentIndex(max(self.findData(kept), 0))

    def offer(self, choices: tuple[tuple[str, str], ...]) -> None:
        """Offer choices, leaving everything as it is where they are the same."""
        now = tuple((self.itemData(place), self.itemText(place)) for place in range(self.count()))
        if now != choices:
            self.set_choices(choices)

    def show_value(self, value: Any, _unit: str = "") -> None:
        """Mirror a value."""
        place = self.findData(value)
        if place != self.currentIndex():
            self.setCurrentIndex(place)


class TextField(QLineEdit):
    """A short text."""

    committed = Signal(object)

    def __init__(self, tip: str) -> None:
        super().__init__()
        self.setFixedWidth(126)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setToolTip(plain(tip))
        self.editingFinished.connect(self._finish)

    def show_value(self, value: str, _unit: str = "") -> None:
        """Mirror a value."""
        if not self.hasFocus():
            self.setText(value)
            self.setModified(False)

    def _finish(self) -> None:
        if self.isModified():
            self.setModified(False)
            self.committed.emit(self.text().strip())


def column(parent: QWidget | None = None, margins: tuple[int, int, int, int] = (0, 0, 0, 0)) -> QVBoxLayout:
    """An empty column."""
    made = QVBoxLayout(parent) if parent is not None else QVBoxLayout()
    made.setContentsMargins(*margins)
    made.setSpacing(5)
    return made
