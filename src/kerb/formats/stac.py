"""Read a static STAC catalogue (SpatioTemporal Asset Catalog 1.0, through pystac): tiles of points to be fetched.

What matters of an item: its footprint in degrees, its date, the reference system (projection extension), and the
asset that is a LAS or LAZ file with its size and checksum (file extension). Picture tiles come as a link of relation
``xyz`` (web map links extension).
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import date
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote, urlparse

import numpy as np
import pyproj
import shapely
from pyproj.exceptions import CRSError, ProjError

from kerb.core.arrays import Floats
from kerb.core.errors import FormatError, InputError, KerbError
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem
from kerb.formats.fetch import is_remote, local_path, read_bytes

MOST_ITEMS = 20_000
POINT_SUFFIXES = (".laz", ".las", ".e57", ".ply")


@dataclass(frozen=True)
class CatalogueTile:
    """A file of points on offer. ``footprint`` is (n, 2) longitude, latitude; ``size`` in bytes, 0 where not said."""

    id: str
    title: str
    address: str
    footprint: Floats
    epoch: str
    system: str
    size: int
    checksum: str

    @property
    def file_name(self) -> str:
        """A name to keep it under: the last part of its address, and no path whatever the address holds."""
        name = PurePosixPath(unquote(urlparse(self.address).path)).name
        clean = "".join(letter for letter in name if letter.isalnum() or letter in "-_. ").lstrip(". ")
        return clean or f"{self.id or 'tile'}.laz"

    def footprint_in(self, system: ReferenceSystem) -> Floats | None:
        """Its outline in another system, (n, 2); None where there is no way to it (a local grid)."""
        if not system.wkt:
            return None
        try:
            crs = pyproj.CRS.from_wkt(system.wkt)
            horizontal = crs.sub_crs_list[0] if crs.is_compound else crs
            change = pyproj.Transformer.from_crs(4326, horizontal, always_xy=True)
            east, north = change.transform(self.footprint[:, 0], self.footprint[:, 1])
        except (CRSError, ProjError):
            return None
        out = np.column_stack([east, north])
        return out if np.isfinite(out).all() else None


@dataclass(frozen=True)
class TileService:
    """Picture tiles of the usual web scheme: ``template`` with {z}, {x} and {y}, in Web Mercator."""

    title: str
    template: str
    deepest: int = 20


@dataclass(frozen=True)
class Catalogue:
    """What a catalogue offers; ``skipped`` items have no file of points or make no sense."""

    title: str
    address: str
    tiles: tuple[CatalogueTile, ...]
    services: tuple[TileService, ...] = ()
    skipped: int = 0

    def between(self, first: str, last: str) -> tuple[CatalogueTile, ...]:
        """Tiles dated from ``first`` to ``last`` (year-month-day, empty for open ends)."""
        return tuple(t for t in self.tiles if (not first or t.epoch >= first) and (not last or t.epoch <= last))

    def touching(self, ring: Floats, system: ReferenceSystem) -> tuple[CatalogueTile, ...]:
        """Tiles whose footprint touches an area (n, 2) given in ``system``."""
        area = shapely.Polygon(ring[:, :2])
        found = []
        for tile in self.tiles:
            outline = tile.footprint_in(system)
            if outline is not None and len(outline) > 2 and shapely.Polygon(outline).intersects(area):
                found.append(tile)
        return tuple(found)


def read_catalogue(address: str, progress: Progress) -> Catalogue:
    """Read a catalogue, collections and items below it, from an address or a folder.

    Raises
    ------
    InputError, when it cannot be reached; FormatError, when it is no STAC catalogue or offers no file of points;
    Cancelled.
    """
    import pystac

    address = _entry(address.strip())
    try:
        root = pystac.Catalog.from_file(address, stac_io=_io(address, progress))
    except Exception as error:  # pystac raises a dozen kinds, and wraps ours
        raise _ours(error, f"{address}: is no STAC catalogue") from None
    tiles, skipped = [], 0
    try:
        for number, item in enumerate(root.get_items(recursive=True)):
            if number >= MOST_ITEMS:
                raise FormatError(f"{address}: has more than {MOST_ITEMS} items; connect to a part of it")
            progress.step(0.0, f"Reading the catalogue: {number + 1} items")
            tile = _tile(item)
            if tile is not None and is_remote(address) and not is_remote(tile.address):
                raise FormatError(f"{address}: names a file of this machine ({tile.address[:80]}); not read")
            skipped += tile is None
            tiles += [tile] if tile is not None else []
    except Exception as error:  # as above
        raise _ours(error, f"{address}: an item is damaged") from None
    services = tuple(_services(root))
    if not tiles and not services:
        raise FormatError(f"{address}: the catalogue offers no files of points")
    return Catalogue(root.title or root.id, address, tuple(tiles), services, skipped)


def _ours(error: BaseException, words: str) -> KerbError:
    """An error of ours that a library wrapped, else one that says what the library met."""
    inner: BaseException | None = error
    while inner is not None:
        if isinstance(inner, KerbError):
            return inner
        inner = inner.__cause__ or inner.__context__
    return FormatError(f"{words} ({' '.join(str(error).split())[:120]})")


def _entry(address: str) -> str:
    """The catalogue file of an address that names a folder."""
    if not address:
        raise InputError("give the address of a catalogue, or a folder")
    if is_remote(address):
        return address if address.endswith(".json") else address.rstrip("/") + "/catalog.json"
    path = local_path(address)
    for name in ("catalog.json", "collection.json"):
        if (path / name).is_file():
            return str((path / name).resolve())
    if not path.is_file():
        raise InputError(f"{path}: there is no catalogue (catalog.json) there")
    return str(path.resolve())


def _io(root: str, progress: Progress) -> Any:
    """How pystac reads: bounded, and a catalogue from the network may not name files of this machine."""
    from pystac.stac_io import DefaultStacIO

    class Bounded(DefaultStacIO):
        def read_text_from_href(self, href: str) -> str:
            progress.check()
            if is_remote(root) and not is_remote(href):
                raise FormatError(f"{root}: names a file of this machine ({href[:80]}); not read")
            return read_bytes(href, progress=progress).decode("utf-8", "replace")

    return Bounded()


def _tile(item: Any) -> CatalogueTile | None:
    asset = next(
        (a for a in item.assets.values() if urlparse(a.href).path.lower().endswith(POINT_SUFFIXES)),
        None,
    )
    outline = _outline(item)
    if asset is None or outline is None:
        return None
    extra = {**item.properties, **asset.extra_fields}
    when = item.datetime or item.properties.get("start_datetime") or ""
    epoch = when.date().isoformat() if hasattr(when, "date") else str(when)[:10]
    try:
        date.fromisoformat(epoch)
    except ValueError:
        epoch = ""
    system = str(extra.get("proj:code") or (f"EPSG:{extra['proj:epsg']}" if extra.get("proj:epsg") else ""))
    size = extra.get("file:size", 0)
    known = size if isinstance(size, int) and size > 0 else 0
    address = asset.get_absolute_href() or asset.href
    title = str(item.properties.get("title") or item.id)
    checksum = str(extra.get("file:checksum", ""))
    return CatalogueTile(str(item.id), title, address, outline, epoch, system, known, checksum)


def _outline(item: Any) -> Floats | None:
    try:
        shape = shapely.geometry.shape(item.geometry) if item.geometry else shapely.box(*item.bbox[:4])
        hull: Any = shape.convex_hull
        ring = shapely.get_coordinates(hull.exterior)
    except (AttributeError, TypeError, ValueError, IndexError, KeyError):
        return None
    good = len(ring) > 3 and np.isfinite(ring).all() and bool(np.all(np.abs(ring) <= [360.0, 90.0]))
    return np.asarray(ring[:, :2]) if good else None


def _services(root: Any) -> list[TileService]:
    found = []
    for link in root.links:
        template = str(link.extra_fields.get("href:template", "") or link.href)
        if link.rel == "xyz" and all(key in template for key in ("{z}", "{x}", "{y}")) and is_remote(template):
            found.append(TileService(link.title or "Picture tiles", template))
    return found


def kept_under(folder: Path, tile: CatalogueTile) -> Path:
    """Where a fetched tile is kept: inside ``folder``, whatever its address says; tiles of one name lie apart."""
    place = hashlib.sha256(tile.address.rpartition("/")[0].encode()).hexdigest()[:8]
    return folder / place / tile.file_name
