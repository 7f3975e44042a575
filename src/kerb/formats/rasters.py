"""Elevation grids and pictures: GeoTIFF, ESRI ASCII grid, PNG and JPEG with a world file, through rasterio (GDAL).

The driver is chosen by the file's first bytes and no other is allowed, so that a file cannot name further files. A
picture is kept as a tiled GeoTIFF with overviews, so that any part is read at any resolution at once.
"""

from __future__ import annotations

import math
import warnings
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Bytes, Floats
from kerb.core.errors import FormatError, InputError, OutputError
from kerb.core.progress import Progress
from kerb.core.reference import UNKNOWN, ReferenceSystem, definition, from_text
from kerb.core.space import NO_SPACE, full, why
from kerb.core.surface.elevation import Affine, ElevationGrid
from kerb.core.units import FILE_UNITS, LengthUnit
from kerb.formats.opened import first_bytes
from kerb.formats.written import placed_when_complete, refuse_others

MOST_CELLS = 400_000_000
# The best packing (a thousand to one) leaves a byte for this many cells; a file that claims more holds next to nothing.
FEW_CELLS, CELLS_A_BYTE = 4_000_000, 600
MOST_PIXELS = 10_000_000_000
TILE = 256
ROWS = 1024
WORLD_FILES = {".png": ".pgw", ".jpg": ".jgw", ".jpeg": ".jgw", ".tif": ".tfw", ".tiff": ".tfw"}
UNIT_NAMES = {"metre": "m", "meter": "m", "m": "m", "foot": "ft", "feet": "ft", "ft": "ft", "us survey foot": "us-ft",
              "us-ft": "us-ft", "ftus": "us-ft"}  # fmt: skip


@dataclass(frozen=True)
class RasterHead:
    """What a raster says of itself. ``kind`` is ``elevation`` or ``picture``; ``placed`` whether it has a place."""

    path: Path
    driver: str
    kind: str
    width: int
    height: int
    bands: int
    affine: Affine
    placed: bool
    reference: ReferenceSystem
    notes: list[tuple[str, str]] = field(default_factory=list)

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest plan corner, (2,) each."""
        a, b, c, d, e, f = self.affine
        corners = [(a * x + b * y + c, d * x + e * y + f) for x in (0, self.width) for y in (0, self.height)]
        table = np.array(corners)
        return table.min(axis=0), table.max(axis=0)


def driver_of(path: Path) -> str:
    """GDAL's name for the format by the first bytes. Raises InputError or FormatError."""
    start = first_bytes(path, 512)
    if start[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return "GTiff"
    if start.startswith(b"\x89PNG\r\n\x1a\n"):
        return "PNG"
    if start.startswith(b"\xff\xd8\xff"):
        return "JPEG"
    if start.lstrip()[:5].lower() == b"ncols":
        return "AAIGrid"
    raise FormatError(f"{path}: is neither TIFF, PNG, JPEG nor an ESRI ASCII grid")


def read_raster_head(path: Path) -> RasterHead:
    """Look at a raster without reading its pixels. Raises InputError or FormatError naming it."""
    with Opened(path) as file:
        if file.width * file.height > MOST_PIXELS:
            raise FormatError(f"{path}: {file.width} × {file.height} pixels are too many")
        affine: Affine = tuple(file.transform)[:6]
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            placed = file.transform != type(file.transform).identity()
        reference, notes = _reference(file)
        kind = "picture" if file.dtypes[0] == "uint8" or file.driver in ("PNG", "JPEG") else "elevation"
        if not placed:
            notes.append(("no-place", "the file does not say where it lies (no world file beside it)"))
        values = np.array(affine)
        if not np.isfinite(values).all() or abs(affine[0] * affine[4] - affine[1] * affine[3]) == 0:
            raise FormatError(f"{path}: its place makes no sense ({', '.join(f'{v:g}' for v in affine)})")
        return RasterHead(
            path, file.driver, kind, file.width, file.height, file.count, affine, placed, reference, notes
        )


def read_elevation(path: Path, progress: Progress, step: int = 1) -> tuple[ElevationGrid, RasterHead]:
    """The first band as elevations, NaN for no data; every ``step``-th pixel.

    Raises
    ------
    FormatError, when it is too large, damaged or has no value at all; Cancelled.
    """
    head = read_raster_head(path)
    if not head.placed:
        raise FormatError(f"{path}: does not say where it lies, so its elevations cannot be used")
    if head.width * head.height / step**2 > MOST_CELLS:
        raise FormatError(f"{path}: {head.width} × {head.height} cells; the most is {MOST_CELLS}")
    if head.width * head.height > max(FEW_CELLS, CELLS_A_BYTE * path.stat().st_size):
        raise FormatError(f"{path}: claims {head.width} × {head.height} cells, which a file of its size cannot hold")
    with Opened(path) as file:
        shape = math.ceil(file.height / step), math.ceil(file.width / step)
        z = np.empty(shape, np.float32 if file.dtypes[0] != "float64" else np.float64)
        scale, offset = float(file.scales[0] or 1.0), float(file.offsets[0] or 0.0)
        for at in range(0, file.height, ROWS * step):
            progress.step(at / file.height, f"Reading {path.name}")
            rows = min(ROWS * step, file.height - at)
            try:
                # Every row is read and some are kept: which pixel a coarser reading takes is up to the library.
                band = file.read(1, window=((at, at + rows), (0, file.width)), masked=True)[::step, ::step]
            except Exception as error:  # rasterio passes on whatever GDAL says of a damaged file
                raise FormatError(f"{path}: cannot be read ({_words(error)})") from None
            values = np.ma.filled(band.astype(z.dtype), np.nan) * scale + offset
            z[at // step : at // step + len(values)] = values
    z[np.abs(z) > 1e30] = np.nan
    if not np.isfinite(z).any():
        raise FormatError(f"{path}: no cell has an elevation")
    a, b, c, d, e, f = head.affine
    # Each value is that of one pixel: it holds at that pixel's centre, not at the middle of the pixels left out.
    aside = (1 - step) / 2
    c, f = c + aside * (a + b), f + aside * (d + e)
    return ElevationGrid(z, (a * step, b * step, c, d * step, e * step, f)), head


def write_elevation(path: Path, grid: ElevationGrid, reference: ReferenceSystem) -> None:
    """Write a grid as GeoTIFF (LZW, -9999 for no data) or ESRI ASCII grid, by the ending. Raises OutputError."""
    import rasterio

    z = np.where(np.isfinite(grid.z), grid.z, -9999.0)
    if path.suffix.lower() == ".asc":
        _write_ascii_grid(path, grid, z)
        return
    profile = {"driver": "GTiff", "width": z.shape[1], "height": z.shape[0], "count": 1, "dtype": z.dtype.name,
               "transform": rasterio.Affine(*grid.affine), "nodata": -9999.0, "compress": "lzw", "predictor": 3,
               "tiled": True, "crs": _crs(reference)}  # fmt: skip
    with placed_when_complete(path) as partial:
        try:
            with rasterio.open(partial, "w", **profile) as out:
                out.write(z, 1)
                out.set_band_unit(1, reference.vertical_unit.name)
            _read_once(partial)
        except rasterio.errors.RasterioError as error:
            raise OutputError(f"{path}: {why(_words(error), path.parent)}") from None


def _read_once(path: Path) -> None:
    """Read what was written: the library lets a disk that is full when a file is closed pass without a word.

    Raises RasterioError, when it is not whole.
    """
    import rasterio

    with warnings.catch_warnings(), rasterio.open(path) as back:
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        for _, window in back.block_windows(1):
            back.read(window=window)


def _write_ascii_grid(path: Path, grid: ElevationGrid, z: Any) -> None:
    a, b, c, d, e, f = map(float, grid.affine)
    if b or d or not math.isclose(a, -e, rel_tol=1e-9):
        raise OutputError(f"{path}: an ESRI ASCII grid has square, north-up cells; choose GeoTIFF")
    head = (f"ncols {z.shape[1]}\nnrows {z.shape[0]}\nxllcorner {c!r}\nyllcorner {f + e * z.shape[0]!r}\n"
            f"cellsize {a!r}\nNODATA_value -9999\n")  # fmt: skip
    with placed_when_complete(path) as partial, open(partial, "w", encoding="ascii") as out:
        out.write(head)
        np.savetxt(out, z, fmt="%.9g" if z.dtype == np.float32 else "%.17g")


def store_picture(
    path: Path, target: Path, how: tuple[Affine | None, Any], progress: Progress
) -> tuple[int, int, Affine]:
    """Copy a picture into a tiled GeoTIFF with overviews, red, green, blue and opacity, 8 bit.

    ``how`` is (another place for it or None, a (source, target) pair of reference systems to warp between or None).

    Returns
    -------
    Width, height and place of what was written.

    Raises
    ------
    FormatError, naming the file; Cancelled, which leaves nothing behind.
    """
    import rasterio
    from rasterio.enums import Resampling
    from rasterio.vrt import WarpedVRT

    affine, systems = how
    with placed_when_complete(target) as partial, Opened(path) as file:
        source: Any = file
        place = affine or tuple(file.transform)[:6]
        if systems is not None:
            options = {"src_crs": systems[0], "crs": systems[1], "src_transform": rasterio.Affine(*place)}
            source = WarpedVRT(file, resampling=Resampling.bilinear, add_alpha=file.count in (1, 3), **options)
            place = tuple(source.transform)[:6]
        profile = {"driver": "GTiff", "width": source.width, "height": source.height, "count": 4, "dtype": "uint8",
                   "tiled": True, "blockxsize": TILE, "blockysize": TILE, "compress": "deflate", "BIGTIFF": "IF_SAFER",
                   "transform": rasterio.Affine(*place), "photometric": "RGB", "alpha": "yes"}  # fmt: skip
        limits = _stretch(source)
        try:
            with rasterio.open(partial, "w", **profile) as out:
                for at in range(0, source.height, TILE):
                    progress.step(0.8 * at / source.height, f"Reading {path.name}")
                    window = ((at, min(at + TILE, source.height)), (0, source.width))
                    out.write(_four_channels(source, window, limits), window=window)
            levels = [2**k for k in range(1, 12) if min(profile["width"], profile["height"]) >> k >= 64]
            progress.step(0.85, "Making overviews")
            if levels:
                with rasterio.open(partial, "r+") as out:
                    out.build_overviews(levels, Resampling.average)
            _read_once(partial)
        except rasterio.errors.RasterioError as error:
            if full(target.parent):
                raise OutputError(f"{target}: {NO_SPACE}") from None
            raise FormatError(f"{path}: cannot be read ({_words(error)})") from None
        return profile["width"], profile["height"], place


def read_part(path: Path, window: tuple[int, int, int, int], size: tuple[int, int]) -> Bytes:
    """A part of a kept picture: ``window`` (column, row, width, height) at ``size`` (width, height) pixels.

    Returns (height, width, 4). Raises FormatError.
    """
    from rasterio.enums import Resampling
    from rasterio.windows import Window

    with Opened(path) as file:
        out = file.read(
            window=Window(*window), out_shape=(file.count, size[1], size[0]), resampling=Resampling.bilinear,
            boundless=False,
        )  # fmt: skip
    return np.ascontiguousarray(np.moveaxis(out, 0, -1))


def write_picture(path: Path, image: Bytes, affine: Affine, reference: ReferenceSystem) -> None:
    """Write an image (height, width, 3 or 4) as GeoTIFF, or as PNG or JPEG with a world file. Raises OutputError."""
    import rasterio

    suffix = path.suffix.lower()
    driver = {".tif": "GTiff", ".tiff": "GTiff", ".png": "PNG", ".jpg": "JPEG", ".jpeg": "JPEG"}.get(suffix)
    if driver is None:
        raise OutputError(f"{path}: a picture is written as .tif, .png or .jpg")
    bands = 3 if driver == "JPEG" else image.shape[2]
    profile: dict[str, Any] = {"driver": driver, "width": image.shape[1], "height": image.shape[0], "count": bands,
                               "dtype": "uint8"}  # fmt: skip
    if driver == "GTiff":
        profile |= {"transform": rasterio.Affine(*affine), "crs": _crs(reference), "compress": "deflate"}
    if driver != "GTiff":
        refuse_others(path, path.with_suffix(WORLD_FILES[suffix]))
    with placed_when_complete(path) as partial, warnings.catch_warnings():
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        try:
            with rasterio.open(partial, "w", **profile) as out:
                out.write(np.moveaxis(image[:, :, :bands], -1, 0))
            _read_once(partial)
        except rasterio.errors.RasterioError as error:
            raise OutputError(f"{path}: {why(_words(error), path.parent)}") from None
        partial.with_name(partial.name + ".aux.xml").unlink(missing_ok=True)
    if driver != "GTiff":
        write_world_file(path.with_suffix(WORLD_FILES[suffix]), affine)


def write_world_file(path: Path, affine: Affine) -> None:
    """Six lines: x size, rotation, rotation, negative y size, centre of the upper left pixel. Raises OutputError."""
    a, b, c, d, e, f = map(float, affine)
    lines = (a, d, b, e, c + a / 2 + b / 2, f + d / 2 + e / 2)
    with placed_when_complete(path) as partial:
        partial.write_text("".join(f"{value!r}\n" for value in lines), encoding="ascii")


class Opened:
    """A raster opened with the one driver its first bytes allow, errors turned into ours."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> Any:
        import rasterio

        driver = driver_of(self.path)
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
                self.file = rasterio.open(self.path, driver=driver)
        except Exception as error:  # rasterio passes on whatever GDAL says of a damaged file
            raise FormatError(f"{self.path}: cannot be read as {driver} ({_words(error)})") from None
        return self.file

    def __exit__(self, *_args: object) -> None:
        self.file.close()


def _reference(file: Any) -> tuple[ReferenceSystem, list[tuple[str, str]]]:
    notes: list[tuple[str, str]] = []
    reference = UNKNOWN
    if file.crs:
        try:
            reference = from_text(file.crs.to_wkt())
        except (InputError, ValueError):
            notes.append(("crs-conflict", "the reference system of the file cannot be understood"))
    vertical = _named_unit(file.units[0]) if file.count else None
    if not file.crs:
        notes.append(("crs-missing", "the file names no reference system; its unit is unknown"))
    if vertical is not None:
        reference = replace(reference, vertical_unit=vertical)
    if reference.unit != reference.vertical_unit and reference.wkt:
        words = f"plan is in {reference.unit.plural}, heights in {reference.vertical_unit.plural}"
        notes.append(("unit-conflict", words))
    return reference, notes


def _named_unit(text: str | None) -> LengthUnit | None:
    code = UNIT_NAMES.get((text or "").strip().lower())
    return FILE_UNITS[code] if code else next((u for u in FILE_UNITS.values() if u.name == text), None)


def _crs(reference: ReferenceSystem) -> Any:
    import rasterio

    wkt = definition(reference)
    return rasterio.crs.CRS.from_wkt(wkt) if wkt else None


def _stretch(source: Any) -> tuple[float, float] | None:
    """Limits that bring a deeper picture down to 8 bits; None for one of 8 bits."""
    if source.dtypes[0] == "uint8":
        return None
    step = max(1, int(max(source.width, source.height) / 1000))
    some = source.read(1, out_shape=(max(source.height // step, 1), max(source.width // step, 1)), masked=True)
    values = np.asarray(some.compressed(), float)
    values = values[np.isfinite(values)]
    if not len(values):
        return 0.0, 1.0
    low, high = np.percentile(values, [1, 99])
    return float(low), float(high if high > low else low + 1)


def _four_channels(source: Any, window: Any, limits: tuple[float, float] | None) -> Bytes:
    bands = source.read(window=window)
    mask = source.dataset_mask(window=window)
    if limits is not None:
        scaled = (np.nan_to_num(bands.astype(float)) - limits[0]) * (255 / (limits[1] - limits[0]))
        bands = np.clip(scaled, 0, 255).astype(np.uint8)
    palette = _palette(source)
    if palette is not None:
        bands = palette[bands[0]].transpose(2, 0, 1)
    elif len(bands) in (1, 2):
        bands = np.repeat(bands[:1], 3, axis=0)
    return np.concatenate([bands[:3], mask[None]]).astype(np.uint8)


def _palette(source: Any) -> Bytes | None:
    try:
        table = source.colormap(1)
    except (ValueError, AttributeError):
        return None
    colours = np.zeros((256, 3), np.uint8)
    for index, colour in table.items():
        if 0 <= index < 256:
            colours[index] = colour[:3]
    return colours


def _words(error: BaseException) -> str:
    return " ".join(str(error).split())[:160]
