"""Picture tiles of the usual web scheme (z/x/y in Web Mercator, EPSG:3857), put together in another system.

Tiles are kept in a folder, so that each is asked for once. The scheme is common practice of web maps.
"""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pyproj
from pyproj.exceptions import CRSError, ProjError

from kerb.core.arrays import Bytes, Floats
from kerb.core.errors import Cancelled, FormatError, InputError
from kerb.core.surface.elevation import Affine
from kerb.formats.fetch import read_bytes

SIDE = 256
HALF = 20_037_508.342789244
DEEPEST = 20
MOST_TILES = 64
MOST_BYTES = 4_000_000
MOST_SIDE = 1600
MESH = 24


class TileCache:
    """Fetched tiles in a folder, by service and number."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def tile(self, template: str, number: tuple[int, int, int]) -> Bytes:
        """A tile as (256, 256, 4). Raises InputError, when it cannot be fetched; FormatError, when it is no picture."""
        from PIL import Image, UnidentifiedImageError

        zoom, x, y = number
        service = hashlib.sha256(template.encode()).hexdigest()[:16]
        path = self.folder / service / str(zoom) / str(x) / f"{y}.tile"
        address = template.replace("{z}", str(zoom)).replace("{x}", str(x)).replace("{y}", str(y))
        data = path.read_bytes() if path.exists() else read_bytes(address, MOST_BYTES)
        try:
            with Image.open(io.BytesIO(data), formats=("PNG", "JPEG", "WEBP")) as picture:
                if picture.width > 4 * SIDE or picture.height > 4 * SIDE:
                    raise FormatError(f"{address}: a tile of {picture.width} × {picture.height} pixels")
                image = np.asarray(picture.convert("RGBA").resize((SIDE, SIDE)))
        except (UnidentifiedImageError, OSError, ValueError) as error:
            raise FormatError(f"{address}: is no picture ({' '.join(str(error).split())[:80]})") from None
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            partial = path.with_suffix(".partial")
            partial.write_bytes(data)
            partial.replace(path)
        return image


def mosaic(
    template: str, cache: TileCache, part: tuple[Floats, Floats, float], wkt: str, stopped: Callable[[], bool]
) -> tuple[Bytes, Affine]:
    """Tiles over a plan box, warped into the system of ``wkt``.

    Parameters
    ----------
    part: lowest and highest corner (2,) of the box, and the size of a screen pixel, in the system's unit.

    Returns
    -------
    Image (h, w, 4) and its place.

    Raises
    ------
    InputError, when there is no way from Web Mercator to the system or no tile can be fetched; Cancelled.
    """
    low, high, pixel = part
    to_mercator = _to_mercator(wkt)
    size = np.clip(np.ceil((high - low) / pixel), 8, MOST_SIDE).astype(int)
    step = (high - low) / size
    affine: Affine = (float(step[0]), 0.0, float(low[0]), 0.0, float(-step[1]), float(high[1]))
    places = _warped(affine, (int(size[0]), int(size[1])), to_mercator)
    if not np.isfinite(places).all():
        raise InputError("the place in sight has no picture tiles")
    zoom = _zoom(places)
    width = 2 * HALF / 2**zoom
    column, row = (places[..., 0] + HALF) / width, (HALF - places[..., 1]) / width
    first = int(np.floor(column.min())), int(np.floor(row.min()))
    last = int(np.floor(column.max())), int(np.floor(row.max()))
    sheet = _sheet(template, cache, (zoom, *first, *last), stopped)
    px = np.clip(((column - first[0]) * SIDE).astype(int), 0, sheet.shape[1] - 1)
    py = np.clip(((row - first[1]) * SIDE).astype(int), 0, sheet.shape[0] - 1)
    return np.ascontiguousarray(sheet[py, px]), affine


def _to_mercator(wkt: str) -> pyproj.Transformer:
    if not wkt:
        raise InputError("picture tiles need a job with a reference system; this one is on a local grid")
    try:
        crs = pyproj.CRS.from_wkt(wkt)
        return pyproj.Transformer.from_crs(crs.sub_crs_list[0] if crs.is_compound else crs, 3857, always_xy=True)
    except (CRSError, ProjError) as error:
        raise InputError(f"no way from the job's system to the picture tiles: {error}") from None


def _warped(affine: Affine, size: tuple[int, int], change: pyproj.Transformer) -> Floats:
    """Web Mercator places (h, w, 2) of pixel centres: exact on a coarse mesh, linear in between."""
    columns = np.linspace(0.5, size[0] - 0.5, min(MESH, size[0]))
    rows = np.linspace(0.5, size[1] - 0.5, min(MESH, size[1]))
    x, y = np.meshgrid(affine[0] * columns + affine[2], affine[4] * rows + affine[5])
    mesh = np.stack(change.transform(x, y), axis=-1)
    full = np.empty((len(rows), size[0], 2))
    for axis in (0, 1):
        for k in range(len(rows)):
            full[k, :, axis] = np.interp(np.arange(size[0]) + 0.5, columns, mesh[k, :, axis])
    at = np.arange(size[1]) + 0.5
    lower = np.clip(np.searchsorted(rows, at) - 1, 0, max(len(rows) - 2, 0))
    span = rows[lower + 1] - rows[lower] if len(rows) > 1 else np.ones(len(at))
    share = ((at - rows[lower]) / span)[:, None, None]
    upper = np.minimum(lower + 1, len(rows) - 1)
    return np.asarray(full[lower] * (1 - share) + full[upper] * share)


def _zoom(places: Floats) -> int:
    """The level whose pixels are about as fine as the screen's, and that needs no more than so many tiles."""
    step = float(np.hypot(*(places[0, -1] - places[0, 0]))) / max(places.shape[1] - 1, 1)
    zoom = int(np.clip(np.round(np.log2(2 * HALF / SIDE / max(step, 1e-9))), 0, DEEPEST))
    extent = np.ptp(places.reshape(-1, 2), axis=0)
    while zoom > 0 and np.prod(np.ceil(extent / (2 * HALF / 2**zoom)) + 1) > MOST_TILES:
        zoom -= 1
    return zoom


def _sheet(template: str, cache: TileCache, span: tuple[int, int, int, int, int], stopped: Callable[[], bool]) -> Bytes:
    """Tiles put side by side; those that cannot be fetched stay empty, unless none can."""
    zoom, x0, y0, x1, y1 = span
    sheet = np.zeros(((y1 - y0 + 1) * SIDE, (x1 - x0 + 1) * SIDE, 4), np.uint8)
    numbers = [(x, y) for y in range(y0, y1 + 1) for x in range(x0, x1 + 1) if 0 <= x < 2**zoom and 0 <= y < 2**zoom]
    trouble: list[InputError] = []

    def fetch(number: tuple[int, int]) -> None:
        if stopped():
            return
        x, y = number
        try:
            tile = cache.tile(template, (zoom, x, y))
        except InputError as error:
            trouble.append(error)
            return
        sheet[(y - y0) * SIDE : (y - y0 + 1) * SIDE, (x - x0) * SIDE : (x - x0 + 1) * SIDE] = tile

    with ThreadPoolExecutor(4, thread_name_prefix="kerb-core-tiles") as pool:
        list(pool.map(fetch, numbers))
    if stopped():
        raise Cancelled
    if trouble and len(trouble) == len(numbers):
        raise trouble[0]
    return sheet
