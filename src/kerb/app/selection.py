"""The selected points: what is chosen and how it is combined, counted while a line is drawn, tinted in the view."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, QRectF, Signal
from PySide6.QtGui import QColor, QImage, QPainter

from kerb.app.colouring import Colouring
from kerb.app.session import Session
from kerb.app.tasks import Latest
from kerb.app.views.view import View
from kerb.core.arrays import AnyArray, Floats, Mask
from kerb.core.cloud.noise import piece_of
from kerb.core.cloud.smooth import Smooth, smooth_surface
from kerb.core.cloud.store import CloudStore
from kerb.core.progress import Progress, silent
from kerb.draw.picture import Picture
from kerb.draw.scene import CloudLayer
from kerb.draw.select import drawn_rows, under_outline

# Not in any ramp, nor the colour of a line: what is selected must stand out on all of them.
TINT = "#d0369a"
REPLACE, ADD, TAKE_AWAY, COMMON = "replace", "add", "take away", "common"


class Selection(QObject):
    """Points of the window's main cloud that are selected."""

    changed = Signal()
    counted = Signal(int)
    taken = Signal()

    def __init__(self, session: Session, view: View, colouring: Colouring) -> None:
        super().__init__(view)
        self.session, self.view, self.colouring = session, view, colouring
        self.key, self.count = "", 0
        self.mask: Mask | None = None
        self.only_seen = self.outside = False
        self.how = REPLACE
        self._looking = False
        # Of each view, by its number.
        self._painted: dict[int, tuple[Picture, QImage]] = {}
        self._worker = Latest("selecting", self)
        self._worker.done.connect(self._looked)

    def forget(self) -> None:
        """Select nothing."""
        self._keep("", None)

    def idle(self) -> bool:
        """Whether nothing is being counted."""
        return self._worker.idle()

    def close(self) -> None:
        """End the thread."""
        self._worker.close()

    def look(self, rings: list[Floats]) -> None:
        """Count what rings (k, 2) in widget pixels would select, while they are drawn."""
        work = self._finding(rings)
        if work is not None:
            self._looking = True
            self._worker.submit(lambda _overtaken: int(np.count_nonzero(work(silent()))))

    def take(self, rings: list[Floats], how: str) -> None:
        """Select what lies under rings (k, 2) in widget pixels, in the background."""
        work, holding = self._finding(rings), self.session.main_cloud()
        if work is not None and holding is not None:
            self.session.start(work, "Selecting points", lambda found: self.combine(holding.id, found, how))

    def take_piece(self, row: int, gap: float, how: str) -> None:
        """Select the piece of shown points that hangs together with one."""
        self._around(lambda store, shown, progress: piece_of(store, row, gap, shown, progress), how)

    def take_smooth(self, row: int, settings: Smooth, how: str) -> None:
        """Select the smooth surface of shown points that one lies on."""
        self._around(lambda store, shown, progress: smooth_surface(store, settings, row, shown, progress), how)

    def _around(self, work: Callable[[CloudStore, Mask, Progress], Mask], how: str) -> None:
        layer, holding = self.colouring.layer(), self.session.main_cloud()
        if layer is not None and holding is not None:
            self.session.start(
                lambda progress: work(layer.store, layer.shown(), progress), "Selecting points",
                lambda found: self.combine(holding.id, found, how),
                lambda text, _error: self.session.said.emit(text),
            )  # fmt: skip

    def _finding(self, rings: list[Floats]) -> Callable[[Progress], Mask] | None:
        view, layer = self.view, self.colouring.layer()
        if layer is None or not rings:
            return None
        camera, size, pixels = view.camera, view.pixels, [ring * view.ratio for ring in rings]
        rows = view.picture.buffer.rows if self.only_seen and view.picture is not None else None
        outside = self.outside

        def work(progress: Progress) -> Mask:
            found = under_outline(layer, camera, size, pixels, progress)
            if outside:
                found = ~found & layer.shown()
            return found if rows is None else found & drawn_rows(layer, rows)

        return work

    def _looked(self, result: object) -> None:
        if isinstance(result, int) and self._looking:
            self.counted.emit(result)

    def combine(self, key: str, found: Mask, how: str = REPLACE) -> None:
        """Put found points of a cloud together with those that are selected."""
        before = self.mask if self.key == key else None
        if how == ADD and before is not None:
            found = found | before
        elif how == TAKE_AWAY:
            found = before & ~found if before is not None else np.zeros_like(found)
        elif how == COMMON:
            found = before & found if before is not None else np.zeros_like(found)
        self._keep(key, found)
        self.taken.emit()

    def invert(self) -> None:
        """Select the shown points that are not selected."""
        layer = self.colouring.layer()
        if self.mask is not None and layer is not None:
            self._keep(self.key, ~self.mask & layer.shown())

    def _keep(self, key: str, mask: Mask | None) -> None:
        # What was still being counted came too late.
        self._looking = False
        self.key, self.mask = key, mask
        self.count = int(np.count_nonzero(mask)) if mask is not None else 0
        self._painted.clear()
        self.changed.emit()
        self.view.update()

    def paint(self, view: View, painter: QPainter) -> None:
        """Tint the pixels that show a selected point."""
        layer, picture = self.colouring.layer(), view.picture
        if not self.count or layer is None or picture is None or self.mask is None:
            return
        holding = self.session.main_cloud()
        if picture.camera != view.camera or holding is None or holding.id != self.key:
            return
        known = self._painted.get(id(view))
        if known is None or known[0] is not picture:
            known = self._painted[id(view)] = (picture, _tinted(picture.buffer.rows, layer, self.mask))
        painter.drawImage(QRectF(0, 0, view.width(), view.height()), known[1])


def _tinted(rows: AnyArray, layer: CloudLayer, mask: Mask) -> QImage:
    mine = (rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)
    tinted = np.zeros(rows.shape, np.bool_)
    tinted[mine] = mask[rows[mine] - layer.first_row]
    colour = QColor(TINT)
    pixels = np.zeros((*rows.shape, 4), np.uint8)
    pixels[tinted] = (colour.blue(), colour.green(), colour.red(), 255)
    # Every other pixel in a chequer: what lies under the tint stays readable.
    pixels[::2, ::2] = 0
    pixels[1::2, 1::2] = 0
    image = QImage(pixels.data, rows.shape[1], rows.shape[0], rows.shape[1] * 4, QImage.Format.Format_ARGB32)
    return image.copy()
