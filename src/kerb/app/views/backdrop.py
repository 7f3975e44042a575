"""Pictures under and over the data: the part in sight at the resolution of the screen, read in the background."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app.session import Session
from kerb.app.tasks import Latest
from kerb.app.views.view import PLAN, View
from kerb.app.widgets import made
from kerb.core.arrays import Bytes, Floats
from kerb.core.errors import KerbError
from kerb.core.surface.elevation import Affine, unplaced
from kerb.core.things import PICTURE, PictureRef
from kerb.draw.scene import PictureLayer
from kerb.formats.rasters import read_part
from kerb.formats.tiles import TileCache, mosaic
from kerb.job.state import Holding

MOST_SIDE = 2048
ROOM = 0.35
REST_MS = 90


@dataclass(frozen=True)
class Wanted:
    """A part of a picture: the plan box wanted of it and the size of a screen pixel there."""

    holding: Holding
    picture: PictureRef
    low: Floats
    high: Floats
    pixel: float


@dataclass(frozen=True)
class Texture:
    """A part that was read, and the plan box and pixel size it is good for."""

    image: Bytes
    affine: Affine
    low: Floats
    high: Floats
    pixel: float

    def serves(self, wanted: Wanted) -> bool:
        """Whether it covers what is wanted, neither too coarse nor much too fine."""
        covers = np.all(self.low <= wanted.low + 1e-9) and np.all(self.high >= wanted.high - 1e-9)
        return bool(covers) and 0.3 <= wanted.pixel / self.pixel <= 1.6


class Backdrop(QObject):
    """Keeps a texture for each visible picture and says when a better one is there."""

    changed = Signal()
    failed = Signal(str)

    def __init__(self, session: Session, view: View, cache: TileCache) -> None:
        super().__init__(view)
        self.session, self.view, self.cache = session, view, cache
        self.textures: OrderedDict[str, Texture] = OrderedDict()
        self._said: set[str] = set()
        self._worker = Latest("backdrop", self)
        self._worker.done.connect(self._read)
        self._closing = threading.Event()
        self._rest = made(QTimer(self), singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(self._ask)
        view.camera_changed.connect(self._rest.start)
        session.changed.connect(self._rest.start)

    def layers(self, level: float) -> list[PictureLayer]:
        """Layers for the scene, from what is there already."""
        found = []
        for holding in self._pictures():
            texture = self.textures.get(holding.id)
            if texture is not None:
                opacity = float(holding.style.get("opacity", 1.0))
                over = opacity if holding.style.get("drape", False) else 0.0
                found.append(PictureLayer(texture.image, texture.affine, opacity, over, level))
        return found

    def idle(self) -> bool:
        """Whether everything in sight was read."""
        return self._worker.idle() and not self._rest.isActive()

    def close(self) -> None:
        """End the thread."""
        self._closing.set()
        self._rest.stop()
        self._worker.close()

    def _pictures(self) -> list[Holding]:
        job = self.session.job
        return [h for h in job.state.of_kind(PICTURE) if h.visible] if job is not None else []

    def _ask(self) -> None:
        job = self.session.job
        wanted: list[Wanted] = []
        if job is None:
            return
        for holding in self._pictures():
            picture = job.thing(holding).thing
            part = self._part(holding, picture) if isinstance(picture, PictureRef) else None
            known = self.textures.get(holding.id)
            if part is not None and not (known is not None and known.serves(part)):
                wanted.append(part)
        if wanted:
            folder, system = job.folder, job.state.title.reference_system()
            self._worker.submit(lambda overtaken: self._work(wanted, folder, system.wkt, overtaken))

    def _part(self, holding: Holding, picture: PictureRef) -> Wanted | None:
        low, high, pixel = ground_in_sight(self.view)
        room = ROOM * (high - low)
        low, high = low - room, high + room
        if not picture.tiles:
            corners = picture.corners
            low, high = np.maximum(low, corners.min(axis=0)), np.minimum(high, corners.max(axis=0))
        return Wanted(holding, picture, low, high, pixel) if np.all(high > low) else None

    def _work(self, wanted: list[Wanted], folder: Path, wkt: str, overtaken: Callable[[], bool]) -> object:
        found: dict[str, Texture | str] = {}
        for part in wanted:
            try:
                if part.picture.tiles:
                    image, affine = mosaic(part.picture.tiles, self.cache, (part.low, part.high, part.pixel), wkt,
                                           lambda: overtaken() or self._closing.is_set())  # fmt: skip
                    found[part.holding.id] = Texture(image, affine, part.low, part.high, part.pixel)
                else:
                    found[part.holding.id] = _read_picture(part, folder / part.holding.data / part.picture.file)
            except KerbError as error:
                found[part.holding.id] = str(error)
            if overtaken():
                break
        return found

    def _read(self, found: object) -> None:
        if not isinstance(found, dict):
            return
        fresh = False
        for key, texture in found.items():
            if isinstance(texture, Texture):
                self.textures[key] = texture
                fresh = True
            elif texture not in self._said:
                self._said.add(texture)
                self.failed.emit(texture)
        if fresh:
            self.changed.emit()


def ground_in_sight(view: View) -> tuple[Floats, Floats, float]:
    """Plan box of the ground in the picture, and the size of a screen pixel on it."""
    camera, size = view.camera, view.pixels
    if view.mode == PLAN:
        half = np.array(size) * camera.scale / 2
        middle = np.array(camera.target[:2])
        return middle - half, middle + half, camera.scale
    reach = 0.75 * max(size) * camera.scale / max(np.sin(np.radians(abs(camera.tilt))), 0.25)
    middle = np.array(camera.target[:2])
    return middle - reach, middle + reach, camera.scale


def _read_picture(part: Wanted, path: Path) -> Texture:
    picture = part.picture
    a, b, c, d, e, f = picture.affine
    corners = np.array(
        [[part.low[0], part.low[1]], [part.high[0], part.low[1]], part.high, [part.low[0], part.high[1]]]
    )
    pixels = unplaced(picture.affine, corners)
    left, top = np.clip(np.floor(pixels.min(axis=0)), 0, [picture.width - 1, picture.height - 1]).astype(int)
    right, bottom = np.clip(np.ceil(pixels.max(axis=0)), 1, [picture.width, picture.height]).astype(int)
    width, height = max(int(right - left), 1), max(int(bottom - top), 1)
    own = float(np.hypot(a, d))
    coarser = max(part.pixel / own, width / MOST_SIDE, height / MOST_SIDE, 1.0)
    size = max(1, round(width / coarser)), max(1, round(height / coarser))
    image = read_part(path, (int(left), int(top), width, height), size)
    sx, sy = width / size[0], height / size[1]
    affine = (a * sx, b * sy, a * left + b * top + c, d * sx, e * sy, d * left + e * top + f)
    return Texture(image, affine, part.low, part.high, max(part.pixel, own))
