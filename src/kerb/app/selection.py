"""The selected points: what is chosen, how it is shown over the picture, and the bar that says what can be done."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QWidget

from kerb.core.arrays import Mask
from kerb.core.quantity import count
from kerb.draw.select import drawn_rows, under_outline

if TYPE_CHECKING:
    from kerb.app.views.view import View
    from kerb.app.window import Window

# Not in any ramp, nor the colour of a line: what is selected must stand out on all of them.
TINT = "#d0369a"
ABOVE_SCALE = 66
REPLACE, ADD, TAKE_AWAY = "replace", "add", "take away"


class Selection(QObject):
    """Points of the window's main cloud that are selected."""

    changed = Signal()

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window = window
        self.key, self.mask, self.count = "", None, 0
        self.only_seen = False
        self._painted: tuple[object, QImage] | None = None

    def forget(self) -> None:
        """Select nothing."""
        self._keep("", None)

    def take(self, outline: np.ndarray, how: str) -> None:
        """Select what lies under an outline (k, 2) in widget pixels, in the background."""
        view, layer, holding = self.window.view, self.window.colouring.layer(), self.window.colouring.main_cloud()
        if layer is None or holding is None:
            return
        camera, size, pixels = view.camera, view.pixels, outline * view.ratio
        rows = view.picture.buffer.rows if self.only_seen and view.picture is not None else None

        def work(progress) -> Mask:
            found = under_outline(layer, camera, size, pixels, progress)
            return found if rows is None else found & drawn_rows(layer, rows)

        self.window.session.start(work, "Selecting points", lambda found: self._combine(holding.id, found, how))

    def _combine(self, key: str, found: Mask, how: str) -> None:
        before = self.mask if self.key == key else None
        if how == ADD and before is not None:
            found = found | before
        elif how == TAKE_AWAY:
            found = before & ~found if before is not None else np.zeros_like(found)
        self._keep(key, found)

    def invert(self) -> None:
        """Select the shown points that are not selected."""
        layer = self.window.colouring.layer()
        if self.mask is None or layer is None:
            return
        shown, values = layer.mask()
        other = ~self.mask
        if len(shown) > 1:
            other &= values[np.minimum(shown, 255)]
        self._keep(self.key, other)

    def _keep(self, key: str, mask: Mask | None) -> None:
        self.key, self.mask = key, mask
        self.count = int(np.count_nonzero(mask)) if mask is not None else 0
        self._painted = None
        self.changed.emit()
        self.window.view.update()

    def paint(self, view: View, painter: QPainter) -> None:
        """Tint the pixels that show a selected point."""
        layer, picture = self.window.colouring.layer(), view.picture
        if not self.count or layer is None or picture is None or self.window.colouring.main_cloud().id != self.key:
            return
        if picture.camera != view.camera:
            return
        if self._painted is None or self._painted[0] is not picture:
            rows = picture.buffer.rows
            mine = (rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)
            tinted = np.zeros(rows.shape, np.bool_)
            tinted[mine] = self.mask[rows[mine] - layer.first_row]
            colour = QColor(TINT)
            pixels = np.zeros((*rows.shape, 4), np.uint8)
            pixels[tinted] = (colour.blue(), colour.green(), colour.red(), 255)
            # Every other pixel in a chequer: what lies under the tint stays readable.
            pixels[::2, ::2] = 0
            pixels[1::2, 1::2] = 0
            image = QImage(pixels.data, rows.shape[1], rows.shape[0], rows.shape[1] * 4, QImage.Format.Format_ARGB32)
            self._painted = (picture, image.copy())
        painter.drawImage(QRectF(0, 0, view.width(), view.height()), self._painted[1])


class SelectionBar(QWidget):
    """How many points are selected, and what can be done with them."""

    def __init__(self, window: Window) -> None:
        super().__init__(window.view)
        self.window = window
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 8, 6)
        row.setSpacing(6)
        self.label = QLabel()
        row.addWidget(self.label)
        self.seen = QCheckBox("only what is seen", toolTip="Leave out points hidden behind others in this view")
        self.seen.toggled.connect(self._only_seen)
        row.addWidget(self.seen)
        self.buttons: dict[str, QPushButton] = {}
        for key, words, tip in (
            ("set_aside", "Set aside", "Out of sight and out of every computation (A); Ctrl+Z brings them back"),
            ("keep_only", "Keep only this", "Set aside everything else of the cloud"),
            ("invert", "Invert", "Select the shown points that are not selected"),
            ("drop", "Done", "Select nothing and put the tool away (Esc)"),
        ):
            button = QPushButton(words, toolTip=tip)
            button.clicked.connect(lambda _on, k=key: self._do(k))
            self.buttons[key] = button
            row.addWidget(button)
        self.hide()

    def _only_seen(self, on: bool) -> None:
        self.window.selection.only_seen = on

    def _do(self, key: str) -> None:
        if key == "invert":
            self.window.selection.invert()
        elif key == "drop":
            self.window.use_edit_tool()
        else:
            self.window.handlers.run(key)

    def mirror(self, selecting: bool) -> None:
        """Show the bar while something is selected or the tool is in hand."""
        chosen = self.window.selection.count
        self.label.setText(f"{count(chosen)} points selected" if chosen else "Click an outline or drag a box")
        for key in ("set_aside", "keep_only", "invert"):
            self.buttons[key].setEnabled(chosen > 0)
        self.setVisible(selecting or chosen > 0)
        self.adjustSize()
        view = self.window.view
        self.move(max((view.width() - self.width()) // 2, 8), view.height() - self.height() - ABOVE_SCALE)
