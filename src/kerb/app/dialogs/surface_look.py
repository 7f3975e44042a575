"""How surfaces look: what colours them, their triangles, their contour lines. All that are shown look alike."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from kerb.app import scenes
from kerb.app.session import Session
from kerb.app.widgets import made
from kerb.core.quantity import symbol
from kerb.draw.scene import Style

TIPS = {
    "elevation": "By the elevation of each triangle",
    "slope": "By how steep each triangle is, in degrees: 0 level, 90 upright",
    "aspect": "By where each triangle falls to, in degrees clockwise from grid north; level ones stay plain",
    "plain": "One tone, shaded only",
}


class SurfaceLook(QDialog):
    """Every choice is seen at once; how a thing looks is no step of the work."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Look of surfaces")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        holding = scenes.first_surface(session)
        style = scenes.style_of(holding) if holding is not None else Style()
        outer = QVBoxLayout(self)
        form = QFormLayout()
        outer.addLayout(form)
        self.by = made(QComboBox(), toolTip="What colours the triangles of surfaces")
        self.by.setAccessibleName("Coloured by")
        for place, (code, (words, _)) in enumerate(scenes.SURFACE_BY.items()):
            self.by.addItem(words, code)
            self.by.setItemData(place, TIPS[code], Qt.ItemDataRole.ToolTipRole)
        self.by.setCurrentIndex(self.by.findData(scenes.surface_by(style)))
        self.by.activated.connect(
            lambda _i: self._style(by=self.by.currentData(), low=None, high=None, bands=(), ramp="Shore")
        )
        form.addRow("Coloured by", self.by)
        self.edges = made(
            QCheckBox("Edges of triangles"), toolTip="Draw the edges where triangles are larger than a few pixels"
        )
        self.edges.setChecked(style.edges)
        self.edges.clicked.connect(lambda on: self._style(edges=on))
        form.addRow("", self.edges)
        unit = symbol(session.unit)
        self.contour = made(
            QLineEdit(f"{style.contour:g}" if style.contour else ""), placeholderText="none",
            toolTip=f"Interval of contour lines in {unit}; every fifth is stronger; empty for none",
        )  # fmt: skip
        self.contour.setAccessibleName("Contour lines every")
        self.contour.editingFinished.connect(self._take_interval)
        form.addRow(f"Contour lines every ({unit})", self.contour)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.accept)
        outer.addWidget(buttons)

    def _take_interval(self) -> None:
        try:
            value = float(self.contour.text().strip().replace(",", ".") or 0.0)
        except ValueError:
            value = -1.0
        holding = scenes.first_surface(self.session)
        if holding is None:
            return
        if not (np.isfinite(value) and value >= 0.0):
            self.contour.setText("")
            value = 0.0
        if value != scenes.style_of(holding).contour:
            self._style(contour=value)

    def _style(self, **values: object) -> None:
        holding = scenes.first_surface(self.session)
        if holding is not None:
            self.session.execute(scenes.style_change(holding, **values))
