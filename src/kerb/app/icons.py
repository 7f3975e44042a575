"""Kerb's own line icons: shipped SVG files drawn in the ink of the theme."""

from __future__ import annotations

from functools import lru_cache
from importlib import resources

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QIcon, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer

SIZE = 20


@lru_cache(maxsize=256)
def icon(name: str, ink: str, size: int = SIZE) -> QIcon:
    """An icon by file name, at 1× and 2×."""
    made = QIcon()
    for ratio in (1, 2):
        made.addPixmap(pixmap(name, ink, size, ratio))
    return made


def pixmap(name: str, ink: str, size: int = SIZE, ratio: int = 1) -> QPixmap:
    """An icon as a picture."""
    text = (resources.files("kerb") / "assets" / "icons" / f"{name}.svg").read_text(encoding="utf-8")
    renderer = QSvgRenderer(QByteArray(text.replace("currentColor", ink).encode()))
    picture = QPixmap(size * ratio, size * ratio)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    renderer.render(painter, QRectF(0, 0, size * ratio, size * ratio))
    painter.end()
    picture.setDevicePixelRatio(ratio)
    return picture
