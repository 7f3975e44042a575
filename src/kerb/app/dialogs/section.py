"""The numbers of a section, typed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from kerb.app.widgets import made, taken_or_told
from kerb.core.quantity import symbol
from kerb.core.section.placed import DOWN, UPRIGHT, PlacedSection

STANDS = ((UPRIGHT, "Upright"), (DOWN, "Level, from above"), (-DOWN, "Level, from below"))
# Field, words, what it is, and the least it may be (above).
NUMBERS = (
    ("easting", "Easting of its middle", None), ("northing", "Northing of its middle", None),
    ("elevation", "Elevation of its middle", None), ("azimuth", "Looks to (degrees from north)", None),
    ("width", "Width", 0.0), ("thickness", "Thickness", 0.0), ("step", "Step (0: its thickness)", -1e-12),
    ("exaggeration", "Heights ×", 0.0),
)  # fmt: skip


class SectionNumbers(QDialog):
    """Type where a section stands, which way one looks, how wide and thick it is, and how far a step goes."""

    def __init__(self, section: PlacedSection, unit: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.section = section
        self.setWindowTitle(f"Section {section.name}")
        outer = QVBoxLayout(self)
        form = QFormLayout()
        outer.addLayout(form)
        self.name = QLineEdit(section.name)
        self.name.setAccessibleName("Name")
        form.addRow("Name", self.name)
        self.stands = made(QComboBox(), toolTip="Upright, or a level slice")
        for tilt, words in STANDS:
            self.stands.addItem(words, tilt)
        self.stands.setCurrentIndex(max(self.stands.findData(section.tilt), 0))
        form.addRow("Stands", self.stands)
        east, north, up = section.middle
        values = {"easting": east, "northing": north, "elevation": up, "azimuth": section.azimuth, "width": section.width,
                  "thickness": section.thickness, "step": section.step, "exaggeration": section.exaggeration}  # fmt: skip
        self.fields: dict[str, QLineEdit] = {}
        for key, words, _ in NUMBERS:
            lengths = key not in ("azimuth", "exaggeration")
            label = f"{words} ({symbol(unit)})" if lengths else words
            field = made(QLineEdit(f"{round(values[key], 4):.10g}"), toolTip=label)
            self.fields[key] = field
            form.addRow(label, field)
        self.trouble = taken_or_told(self, outer)

    def accept(self) -> None:
        """Take the numbers, or say which of them cannot be."""
        found: dict[str, float] = {}
        for key, words, least in NUMBERS:
            text = self.fields[key].text().strip().replace(",", ".")
            try:
                value = float(text)
            except ValueError:
                value = float("nan")
            if not np.isfinite(value) or (least is not None and not value > least):
                self.trouble.setText(f"{words}: “{text}” is no number that can be.")
                self.trouble.show()
                self.fields[key].setFocus()
                return
            found[key] = value
        middle = found.pop("easting"), found.pop("northing"), found.pop("elevation")
        name = self.name.text().strip() or self.section.name
        self.section = replace(
            self.section, name=name, middle=middle, tilt=self.stands.currentData(), azimuth=found["azimuth"] % 360.0,
            width=found["width"], thickness=found["thickness"], step=max(found["step"], 0.0),
            exaggeration=found["exaggeration"],
        )  # fmt: skip
        super().accept()
