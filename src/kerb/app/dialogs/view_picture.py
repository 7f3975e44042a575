"""What is to be written of a view: its colours or the values behind them, and how large a pixel is."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from kerb.app.widgets import made, taken_or_told
from kerb.core.quantity import symbol
from kerb.draw.seen import EACH, HIGHEST, LOWEST, MEDIAN

COLOURS = "colours"


class ViewPicture(QDialog):
    """``what`` is chosen, and ``pixel`` its size in the unit of the job."""

    def __init__(self, pixel: float, values: str, unit: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Picture of the view")
        outer = QVBoxLayout(self)
        form = QFormLayout()
        outer.addLayout(form)
        self.choice = made(QComboBox(), toolTip="The colours of the view, or the numbers behind them")
        self.choice.setAccessibleName("What is written")
        for code, words in (
            (COLOURS, "The colours, as a picture"), (EACH, f"{values}, at each pixel"),
            (MEDIAN, f"{values}, median of each cell"), (LOWEST, f"{values}, lowest of each cell"),
            (HIGHEST, f"{values}, highest of each cell"),
        ):  # fmt: skip
            self.choice.addItem(words, code)
        form.addRow("What", self.choice)
        self.size_ = made(
            QLineEdit(f"{pixel:.6g}"), toolTip=f"Side of a pixel or cell in {symbol(unit)}; without perspective"
        )
        self.size_.setAccessibleName("Pixel or cell")
        form.addRow(f"Pixel or cell ({symbol(unit)})", self.size_)
        self.trouble = taken_or_told(self, outer)
        self.pixel = pixel

    @property
    def what(self) -> str:
        """What is chosen."""
        return str(self.choice.currentData())

    def accept(self) -> None:
        """Take the size, or say that it cannot be."""
        text = self.size_.text().strip().replace(",", ".")
        try:
            self.pixel = float(text)
        except ValueError:
            self.pixel = -1.0
        if not 0 < self.pixel < float("inf"):
            self.trouble.setText(f"“{text}” is no size.")
            self.trouble.show()
            return
        super().accept()
