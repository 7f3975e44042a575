"""Read what a file offers, other than clouds: points, lines, surfaces, models. Pictures are copied, not read."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kerb.core.errors import InputError
from kerb.core.progress import Progress
from kerb.core.things import LINES, MODEL, PICTURE, POINTS, SURFACE, PictureRef, Placed
from kerb.formats.recognise import FIRST_TOLERANCE, Examined, Offer
from kerb.formats.text_table import TextPlan

Notes = list[tuple[str, str]]


@dataclass(frozen=True)
class Reading:
    """How an offer is to be read: which parts, text columns, and the tolerance of flattened curves in file units."""

    parts: tuple[str, ...] = ()
    plan: TextPlan | None = None
    tolerance: float = 0.01
    step: int = 1


def read_offer(seen: Examined, offer: Offer, how: Reading, progress: Progress) -> tuple[Placed, Notes]:
    """The thing an offer names, in the numbers of the file.

    Raises
    ------
    InputError or FormatError, naming the file; Cancelled.
    """
    path, reader = seen.path, _READERS.get(seen.format.split(",")[0])
    progress.step(0.0, f"Reading {path.name}")
    if offer.kind == PICTURE:
        return _picture(path)
    if seen.format.startswith("IFC"):
        reader = _ifc
    if reader is None:
        raise InputError(f"{path}: {offer.label} cannot be read from a {seen.format} file")
    return reader(seen, offer, how, progress)


def _text(seen: Examined, _offer: Offer, how: Reading, _progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.text_points import read_survey_points

    plan = how.plan or (seen.text.plan if seen.text else None)
    return Placed(POINTS, read_survey_points(seen.path, plan), seen.reference), seen.notes


def _vector(seen: Examined, offer: Offer, how: Reading, _progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.vector import read_features

    points, lines, reference = read_features(seen.path, how.parts)
    thing = points if offer.kind == POINTS else lines
    if not thing.count:
        raise InputError(f"{seen.path}: holds no {offer.label.lower()} in the chosen layers")
    return Placed(offer.kind, thing, reference if reference.wkt else seen.reference), seen.notes


def _dxf(seen: Examined, offer: Offer, how: Reading, _progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.dxf_read import read_dxf

    same = seen.kept is not None and how.tolerance == FIRST_TOLERANCE
    drawing = seen.kept if same else read_dxf(seen.path, how.tolerance)
    if offer.kind == POINTS:
        return Placed(POINTS, drawing.survey_points(how.parts), seen.reference), drawing.notes
    if offer.kind == LINES:
        return Placed(LINES, drawing.line_set(how.parts), seen.reference), drawing.notes
    return Placed(MODEL, drawing.mesh(how.parts), seen.reference), drawing.notes


def _landxml(seen: Examined, offer: Offer, how: Reading, _progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.landxml_read import read_landxml

    found = seen.kept or read_landxml(seen.path)
    if offer.kind == POINTS:
        return Placed(POINTS, found.points, found.reference), found.notes
    if offer.kind == LINES:
        return Placed(LINES, found.line_set(how.parts, how.tolerance), found.reference), found.notes
    return Placed(SURFACE, found.surfaces[offer.key], found.reference), found.notes


def _grid(seen: Examined, _offer: Offer, how: Reading, progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.rasters import read_elevation

    grid, head = read_elevation(seen.path, progress, how.step)
    return Placed(SURFACE, grid, head.reference), head.notes


def _mesh(seen: Examined, _offer: Offer, how: Reading, _progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.meshes import read_mesh, stl_corner

    mesh = seen.kept or read_mesh(seen.path)
    corner = stl_corner(seen.path) if seen.path.suffix.lower() == ".stl" else None
    if corner is not None:
        mesh = mesh.mapped(lambda vertices: vertices + corner)
    if how.parts:
        mesh = mesh.only(lambda element: element.name in how.parts)
    return Placed(MODEL, mesh, seen.reference), seen.notes


def _ifc(seen: Examined, _offer: Offer, how: Reading, progress: Progress) -> tuple[Placed, Notes]:
    from kerb.formats.ifc_read import read_ifc

    mesh, notes = read_ifc(seen.path, how.parts, progress)
    return Placed(MODEL, mesh, seen.reference), notes


def _picture(path: Path) -> tuple[Placed, Notes]:
    from kerb.formats.rasters import read_raster_head

    head = read_raster_head(path)
    if not head.placed:
        words = "put a world file (six lines) beside it, or give it as GeoTIFF"
        raise InputError(f"{path}: does not say where it lies; {words}")
    return Placed(PICTURE, PictureRef(head.width, head.height, head.affine), head.reference), head.notes


_READERS = {
    "text": _text, "GeoJSON": _vector, "GPKG": _vector, "ESRI Shapefile": _vector, "KML": _vector, "DXF": _dxf,
    "LandXML": _landxml, "GeoTIFF": _grid, "ESRI ASCII grid": _grid, "OBJ": _mesh, "STL": _mesh, "OFF": _mesh,
    "PLY": _mesh,
}  # fmt: skip
