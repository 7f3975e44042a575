"""What is in a file: its format, and what it offers to bring in. The file's bytes decide where its name does not.

One entry in FORMATS for each; the import dialog, ``info``, ``add`` and ``convert`` all start here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kerb.core.errors import FormatError, InputError
from kerb.core.reference import UNKNOWN, ReferenceSystem, local_grid
from kerb.core.things import CLOUD, LINES, MODEL, PICTURE, POINTS, SURFACE
from kerb.formats.opened import first_bytes
from kerb.formats.text_points import looks_like_survey
from kerb.formats.text_table import Sniffed, headed, sniffed

Notes = list[tuple[str, str]]
FIRST_TOLERANCE = 0.01
NO_SYSTEM = ("crs-missing", "the file names no reference system; its unit is unknown")


@dataclass(frozen=True)
class Offer:
    """One thing a file offers: its kind, a key for the reader, words for the analyst, and how much it is.

    ``parts`` can be ticked one by one (layers, element types, setups), each with its count; ``usual`` are ticked first.
    """

    kind: str
    key: str
    label: str
    count: int
    parts: tuple[tuple[str, int], ...] = ()
    usual: tuple[str, ...] = ()


@dataclass(frozen=True)
class Examined:
    """What a file is. ``offers`` come with the most likely one first; ``text`` is the look at a text file.

    ``kept`` is what was read already of a file that can only be looked at by reading it whole.
    """

    path: Path
    format: str
    reference: ReferenceSystem
    offers: tuple[Offer, ...]
    notes: Notes = field(default_factory=list)
    text: Sniffed | None = None
    kept: Any = field(default=None, compare=False, repr=False)

    def offer(self, kind: str = "", key: str = "") -> Offer:
        """The offer of a kind and key, the first where nothing is said. Raises InputError when there is none."""
        for offer in self.offers:
            if (not kind or offer.kind == kind) and (not key or offer.key == key):
                return offer
        raise InputError(f"{self.path}: holds no {kind}")


def examine(path: Path) -> Examined:
    """Look at a file without reading all of it.

    Raises
    ------
    InputError, when it cannot be opened or is of no kind Kerb reads; FormatError, when it is damaged.
    """
    if path.is_dir():
        raise InputError(f"{path}: is a folder, not a file")
    start = first_bytes(path, 4096)
    if not start:
        raise FormatError(f"{path}: is empty")
    for known in FORMATS:
        if known.fits(path.suffix.lower(), start):
            return known.look(path)
    if start[:4] == b"PK\x03\x04":
        raise InputError(f"{path}: is a ZIP archive; unpack it and bring in what is in it")
    try:
        return _text(path)
    except FormatError as error:
        if path.suffix.lower() in TEXT_SUFFIXES and "no columns" not in str(error):
            raise
        endings = " ".join(SUFFIXES)
        raise InputError(f"{path}: is of no kind that Kerb reads ({endings})") from None


def _las(path: Path) -> Examined:
    from kerb.formats.las_read import LasStream

    stream = LasStream(path, partial=True)
    offer = Offer(CLOUD, "", "Point cloud", stream.count)
    version = f"{stream.layout.source_format} {stream.layout.details['las_version']}"
    words = f"{version}, point format {stream.layout.details['point_format']}"
    if any(record.user == "copc" for record in stream.head.records):
        words += ", COPC"
    return Examined(path, words, stream.layout.reference, (offer,), stream.warnings)


def _e57(path: Path) -> Examined:
    from kerb.formats.e57_read import E57Stream

    stream = E57Stream(path)
    parts = tuple((setup.name, setup.count) for setup in stream.setups)
    many = f", {len(parts)} setups" if len(parts) > 1 else ""
    offer = Offer(CLOUD, "", f"Point cloud{many}", stream.count, parts, tuple(name for name, _ in parts))
    return Examined(path, "E57", stream.layout.reference, (offer,), stream.warnings)


def _ply(path: Path) -> Examined:
    from kerb.formats.ply import ply_reference, read_ply_head

    head = read_ply_head(path)
    vertex = head.element("vertex")
    cloud = Offer(CLOUD, "", "Point cloud of its vertices", vertex.count if vertex else 0)
    offers = (Offer(MODEL, "", "Mesh", head.faces), cloud) if head.faces else (cloud,)
    words = f"PLY, {'binary' if head.order else 'ascii'}"
    return Examined(path, words, ply_reference(head), offers, [] if head.unit else [NO_SYSTEM])


def _mesh(path: Path) -> Examined:
    from kerb.formats.meshes import read_mesh, unit_said

    mesh = read_mesh(path)
    parts = tuple((element.name, element.count) for element in mesh.elements)
    offer = Offer(MODEL, "", "Mesh", len(mesh.triangles), parts if len(parts) > 1 else (), tuple(n for n, _ in parts))
    unit, kind = unit_said(path), path.suffix[1:].upper()
    if unit is not None:
        return Examined(path, kind, local_grid(unit), (offer,), kept=mesh)
    return Examined(path, kind, UNKNOWN, (offer,), [NO_SYSTEM], kept=mesh)


def _ifc(path: Path) -> Examined:
    from kerb.formats.ifc_read import read_ifc_head

    head = read_ifc_head(path)
    offer = Offer(MODEL, "", "Elements of the model", sum(head.types.values()), tuple(head.types.items()), head.usual)
    return Examined(path, head.schema, head.reference, (offer,), head.notes)


def _dxf(path: Path) -> Examined:
    from kerb.formats.dxf_read import read_dxf

    drawing = read_dxf(path, FIRST_TOLERANCE)
    layers = drawing.layer_counts()
    offers = []
    for kind, what, label in (
        (LINES, "lines", "Lines and areas"), (POINTS, "points", "Points"), (MODEL, "triangles", "Faces"),
    ):  # fmt: skip
        parts = tuple((layer, counts[what]) for layer, counts in layers.items() if counts.get(what))
        if parts:
            offers.append(Offer(kind, "", label, sum(count for _, count in parts), parts, tuple(n for n, _ in parts)))
    reference = local_grid(drawing.unit) if drawing.unit is not None else UNKNOWN
    return Examined(path, "DXF", reference, tuple(offers), drawing.notes, kept=drawing)


def _landxml(path: Path) -> Examined:
    from kerb.formats.landxml_read import read_landxml

    found = read_landxml(path)
    offers = [Offer(SURFACE, name, f"Surface “{name}”", len(mesh.triangles)) for name, mesh in found.surfaces.items()]
    layers: dict[str, int] = {}
    for line in found.lines:
        layers[line.layer] = layers.get(line.layer, 0) + 1
    if found.alignments:
        layers["alignments"] = len(found.alignments)
    if layers:
        label = "Alignments" if set(layers) == {"alignments"} else "Lines"
        offers.append(Offer(LINES, "", label, sum(layers.values()), tuple(layers.items()), tuple(layers)))
    if found.points.count:
        offers.append(Offer(POINTS, "", "Points", found.points.count))
    return Examined(path, "LandXML", found.reference, tuple(offers), found.notes, kept=found)


def _vector(path: Path) -> Examined:
    from kerb.formats.vector import VECTOR_SUFFIXES, vector_layers

    layers, reference = vector_layers(path)
    offers = []
    for kind, label in ((LINES, "Lines and areas"), (POINTS, "Points")):
        parts = tuple((layer.name, layer.of_kind(kind)) for layer in layers if layer.of_kind(kind))
        if parts:
            offers.append(Offer(kind, "", label, sum(count for _, count in parts), parts, tuple(n for n, _ in parts)))
    notes: Notes = [NO_SYSTEM] if reference.certainty == "assumed" else []
    return Examined(path, VECTOR_SUFFIXES[path.suffix.lower()], reference, tuple(offers), notes)


def _raster(path: Path) -> Examined:
    from kerb.formats.rasters import read_raster_head

    head = read_raster_head(path)
    picture = Offer(PICTURE, "", f"Picture, {head.width} × {head.height} pixels", head.width * head.height)
    surface = Offer(SURFACE, "grid", f"Elevation grid, {head.width} × {head.height} cells", head.width * head.height)
    offers = (surface, picture) if head.kind == "elevation" else (picture,)
    names = {"GTiff": "GeoTIFF", "AAIGrid": "ESRI ASCII grid"}
    return Examined(path, names.get(head.driver, head.driver), head.reference, offers, head.notes)


def _text(path: Path) -> Examined:
    look = sniffed(path)
    cloud = Offer(CLOUD, "", "Point cloud", look.about)
    survey = Offer(POINTS, "", "Survey points", look.about)
    offers = (survey, cloud) if looks_like_survey(path, look) else (cloud, survey)
    reference = headed(look.plan)
    return Examined(path, "text", reference, offers, [NO_SYSTEM] if reference == UNKNOWN else [], look)


@dataclass(frozen=True)
class Format:
    """One readable format: its endings, the look at it, and how its first bytes look."""

    suffixes: tuple[str, ...]
    look: Callable[[Path], Examined]
    starts: Callable[[bytes], bool] = lambda start: False

    def fits(self, suffix: str, start: bytes) -> bool:
        """Whether a file is of this format by its first bytes or, where those do not tell, by its ending."""
        return self.starts(start) or suffix in self.suffixes


def _starts_as_raster(start: bytes) -> bool:
    pictures = start[:4] in (b"II*\0", b"MM\0*", b"\x89PNG") or start[:3] == b"\xff\xd8\xff"
    return pictures or start.lstrip()[:5].lower() == b"ncols"


FORMATS = (
    Format((".las", ".laz"), _las, lambda start: start[:4] == b"LASF"),
    Format((".e57",), _e57, lambda start: start[:8] == b"ASTM-E57"),
    Format((".ply",), _ply, lambda start: start[:4] in (b"ply\n", b"ply\r")),
    Format((".obj", ".stl", ".off"), _mesh),
    Format((".ifc",), _ifc, lambda start: start[:12] == b"ISO-10303-21" and b"IFC" in start),
    Format((".dxf",), _dxf),
    Format((".tif", ".tiff", ".png", ".jpg", ".jpeg"), _raster, _starts_as_raster),
    Format((".geojson", ".json", ".gpkg", ".shp", ".kml"), _vector),
    Format((".xml", ".landxml"), _landxml, lambda start: b"<LandXML" in start),
)
TEXT_SUFFIXES = (".xyz", ".pts", ".csv", ".txt", ".asc")
SUFFIXES = tuple(sorted({*TEXT_SUFFIXES, *(suffix for known in FORMATS for suffix in known.suffixes)}))
