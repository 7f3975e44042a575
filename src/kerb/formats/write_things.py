"""Write a thing or a cloud to a file by its ending: which endings fit which kind, and who writes them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from kerb.core.cloud.outgoing import Outgoing
from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import exact_in_arcs
from kerb.core.geometry.features import LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.placing import CONVERT, Placing
from kerb.core.progress import Progress
from kerb.core.quantity import first_of, round_number
from kerb.core.reference import is_geographic
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.gridding import grid_on
from kerb.core.things import CLOUD, LINES, MODEL, PICTURE, POINTS, SURFACE, PictureRef, Placed, relocated
from kerb.core.units import LengthUnit
from kerb.formats.dxf_write import Texts, write_dxf

Notes = list[tuple[str, str]]
ENDINGS = {
    CLOUD: (".laz", ".las", ".e57", ".ply", ".xyz", ".pts", ".csv", ".txt"),
    POINTS: (".csv", ".dxf", ".xml", ".gpkg", ".geojson", ".shp"),
    LINES: (".dxf", ".gpkg", ".geojson", ".shp", ".xml"),
    SURFACE: (".xml", ".dxf", ".obj", ".stl", ".ply", ".off", ".tif", ".asc"),
    MODEL: (".obj", ".stl", ".ply", ".off", ".dxf"),
    PICTURE: (".tif", ".png", ".jpg"),
}
# Clouds of these formats keep classes and added dimensions.
CLASSED = (".laz", ".las")
COLOURS = ("red", "green", "blue")
# Columns that a format has a place for, where it has not for all.
HOLDS = {
    ".xyz": ("intensity", *COLOURS), ".pts": ("intensity", *COLOURS),
    ".e57": ("intensity", *COLOURS, "row", "column", "point_source_id"),
}  # fmt: skip
MOST_NAMED = 8
# Formats that have one unit for plan and heights, or none.
ONE_UNIT = (".dxf", ".xml", ".obj", ".stl", ".ply", ".off")
# What holds elevations as cells, and how many there are along the longer side at least and at most.
RASTERS, FEWEST_ALONG, MOST_ALONG = (".tif", ".asc"), 400, 6000
# A degree on the ground, for the size of texts.
DEGREE = LengthUnit("deg", 111_000.0, "°", "degree")
NAMES = {
    ".laz": "LAZ", ".las": "LAS", ".e57": "E57", ".ply": "PLY", ".xyz": "XYZ text", ".pts": "PTS text",
    ".csv": "CSV text", ".txt": "Text", ".dxf": "DXF", ".xml": "LandXML", ".gpkg": "GeoPackage",
    ".geojson": "GeoJSON", ".shp": "Shapefile", ".obj": "OBJ", ".stl": "STL", ".off": "OFF", ".tif": "GeoTIFF",
    ".asc": "ESRI ASCII grid", ".png": "PNG with world file", ".jpg": "JPEG with world file",
}  # fmt: skip


def endings_for(kind: str, grid: bool = False) -> tuple[str, ...]:
    """Endings that a kind can be written with; grids only as grids and triangles only as triangles."""
    if kind != SURFACE:
        return ENDINGS[kind]
    return RASTERS + (".xml", ".obj", ".ply") if grid else tuple(e for e in ENDINGS[SURFACE] if e not in RASTERS)


def write_cloud(outgoing: Outgoing, path: Path, progress: Progress) -> tuple[int, Notes]:
    """Write points by the ending. Returns their number and notes, what the format cannot hold among them.

    Raises OutputError; Cancelled.
    """
    count, notes = _cloud(outgoing, path, progress)
    return count, [*notes, *_not_held(outgoing, path.suffix.lower())]


def _not_held(outgoing: Outgoing, suffix: str) -> Notes:
    """What of a cloud a format has no place for, by name."""
    names = list(outgoing.kinds)
    if suffix in HOLDS:
        left = [name for name in names if name not in HOLDS[suffix]]
    elif suffix in (".las", ".laz"):
        # Complex kinds, half precision and more than 32 letters have no place in extra dimensions.
        left = [name for name, kind in outgoing.kinds.items() if kind.kind not in "uif" or kind == np.float16]
    else:
        left = [name for name, kind in outgoing.kinds.items() if kind.kind not in "uif"]
    notes: Notes = []
    if left:
        shown = first_of(left, MOST_NAMED)
        notes.append(("not-held", f"{NAMES[suffix]} has no place for {len(left)} of {len(names)} columns: {shown}"))
    if outgoing.reference.wkt and suffix in (".csv", ".txt", ".xyz", ".pts"):
        notes.append(("crs-unsaid", f"{NAMES[suffix]} cannot say the reference system ({outgoing.reference.name})"))
    return notes


def _cloud(outgoing: Outgoing, path: Path, progress: Progress) -> tuple[int, Notes]:
    suffix = path.suffix.lower()
    if suffix in (".las", ".laz"):
        from kerb.formats.las_write import write_las

        clipped: dict[str, int] = {}
        count = write_las(outgoing, path, progress, clipped)
        over = [f"{number} of '{name}'" for name, number in clipped.items()]
        words = f"values beyond what LAS holds are written as its limits: {first_of(over, MOST_NAMED)}"
        return count, [("clipped", words)] if over else []
    if suffix == ".e57":
        from kerb.formats.e57_write import write_e57

        unit = outgoing.reference.unit
        notes = [] if unit.code == "m" else [("unit-converted", f"E57 knows metres only: converted from {unit.plural}")]
        if any(outgoing.kinds.get(name, np.dtype("u1")).itemsize > 1 for name in COLOURS):
            notes.append(("colour-bits", "E57 readers expect colours of 8 bits: of 16 the upper 8 are written"))
        return write_e57(outgoing, path, progress), notes
    if suffix == ".ply":
        from kerb.formats.ply import write_ply

        return write_ply(outgoing, path, progress), []
    if suffix in (".xyz", ".pts", ".csv", ".txt"):
        from kerb.formats.text_write import write_text_cloud

        notes = [] if suffix in (".csv", ".txt") else [("unit-unsaid", "the file cannot say its unit")]
        return write_text_cloud(outgoing, path, progress), notes
    raise OutputError(f"{path}: a cloud is written as {', '.join(ENDINGS[CLOUD])}")


def write_thing(
    item: Placed, path: Path, progress: Progress, source: Path | None = None, texts: Texts | None = None
) -> Notes:
    """Write points, lines, a surface, a model or a picture by the ending. Returns notes.

    ``source`` is the kept picture file; ``texts`` is what a DXF says beside its lines.
    Raises OutputError, when the ending does not fit; Cancelled.
    """
    progress.step(0.0, f"Writing {path.name}")
    suffix = path.suffix.lower()
    if suffix not in ENDINGS[item.kind]:
        names = ", ".join(ENDINGS[item.kind])
        raise OutputError(f"{path}: a holding of this kind is written as {names}")
    item, said = _in_one_unit(item, suffix)
    return [*said, *_thing(item, path, source, texts), *_lost(item, suffix)]


def _lost(item: Placed, suffix: str) -> Notes:
    """What of a thing a format has no place for, by name and count."""
    thing, lost = item.thing, []
    if isinstance(thing, SurveyPoints):
        if suffix in (".dxf", ".xml"):
            lost += [f"the column '{name}'" for name in thing.extra]
        if suffix == ".dxf":
            lost += ["which text is whose name"] if any(thing.names) else []
    elif isinstance(thing, LineSet):
        if suffix in (".dxf", ".xml"):
            lost += [f"the column '{name}'" for name in thing.fields]
        if suffix == ".dxf":
            lost += ["names of lines"] if any(line.name for line in thing.lines) else []
        bent = [a.name for a in thing.alignments if suffix != ".xml" and not (suffix == ".dxf" and exact_in_arcs(a))]
        if bent:
            shown = first_of([f"'{name}'" for name in bent], MOST_NAMED)
            lost.append(
                f"arcs, spirals, vertical curves and stations of {len(bent)} alignments (written as chords): {shown}"
            )
    elif isinstance(thing, TriangleMesh) and thing.elements:
        if suffix in (".stl", ".ply", ".off"):
            lost.append(f"names of {len(thing.elements)} elements")
        elif any(element.kind for element in thing.elements):
            lost.append("kinds of elements")
    notes: Notes = [("not-held", f"{NAMES[suffix]} has no place for {'; '.join(lost)}")] if lost else []
    if item.reference.wkt and suffix in (".dxf", ".obj", ".stl", ".ply", ".off", ".csv", ".asc"):
        notes.append(("crs-unsaid", f"{NAMES[suffix]} cannot say the reference system ({item.reference.name})"))
    return notes


def _in_one_unit(item: Placed, suffix: str) -> tuple[Placed, Notes]:
    """The thing with heights in the unit of its plan, where the format has but one unit."""
    own = item.reference
    if suffix not in ONE_UNIT or own.unit == own.vertical_unit or is_geographic(own):
        return item, []
    even = replace(own, vertical_unit=own.unit)
    words = f"{NAMES[suffix]} has one unit: heights converted from {own.vertical_unit.plural} to {own.unit.plural}"
    return relocated(item, Placing(CONVERT, own, even, horizontal=False)), [("unit-converted", words)]


def _thing(item: Placed, path: Path, source: Path | None, texts: Texts | None) -> Notes:
    suffix, thing = path.suffix.lower(), item.thing
    if suffix in (".gpkg", ".geojson", ".shp"):
        from kerb.formats.vector import write_features

        points = thing if isinstance(thing, SurveyPoints) else None
        return write_features(path, points, thing if isinstance(thing, LineSet) else None, item.reference)
    if isinstance(thing, PictureRef):
        return _picture(item, thing, path, source)
    if isinstance(thing, ElevationGrid):
        return _grid(item, thing, path)
    if suffix == ".csv" and isinstance(thing, SurveyPoints):
        from kerb.formats.text_write import write_survey_csv

        write_survey_csv(thing, path, item.reference)
    elif suffix == ".dxf":
        return _dxf(item, path, texts)
    elif suffix == ".xml":
        _landxml(item, path)
    elif isinstance(thing, TriangleMesh) and item.kind == SURFACE and suffix in RASTERS:
        return _gridded(item, thing, path)
    elif isinstance(thing, TriangleMesh):
        from kerb.formats.meshes import write_mesh

        return write_mesh(path, thing, item.reference.unit)
    return []


def _dxf(item: Placed, path: Path, texts: Texts | None) -> Notes:
    thing, degrees = item.thing, is_geographic(item.reference)
    notes = write_dxf(
        path, DEGREE if degrees else item.reference.unit,
        thing if isinstance(thing, SurveyPoints) else None,
        thing if isinstance(thing, LineSet) else None,
        thing if isinstance(thing, TriangleMesh) else None,
        texts,
    )  # fmt: skip
    return [*notes, ("unit-unsaid", "the numbers are degrees; a DXF cannot say so")] if degrees else notes


def _landxml(item: Placed, path: Path) -> None:
    from kerb.formats.landxml_write import LandXmlContent, write_landxml

    thing, surfaces = item.thing, None
    if isinstance(thing, TriangleMesh):
        surfaces = {element.name or path.stem: thing.part(element).tin() for element in thing.elements}
        surfaces = surfaces or {path.stem: thing.tin()}
    content = LandXmlContent(
        thing if isinstance(thing, SurveyPoints) else None, thing if isinstance(thing, LineSet) else None, surfaces
    )
    write_landxml(path, content, item.reference)


def _gridded(item: Placed, mesh: TriangleMesh, path: Path) -> Notes:
    """A surface of triangles as a grid, with cells half as wide as its triangles, or finer where those are few."""
    tin = mesh.tin()
    along = float(np.ptp(tin.points[:, :2], axis=0).max())
    cell = min(0.5 * float(np.sqrt(tin.plan_area / max(len(tin.triangles), 1))), along / FEWEST_ALONG)
    grid = grid_on(tin, round_number(max(cell, along / MOST_ALONG)))
    size = f"{grid.known} cells of {grid.cell:g} {item.reference.unit.symbol}"
    words = f"written as {size}, each with the level of the triangles in its middle"
    return [("gridded", words), *_grid(item, grid, path)]


def _grid(item: Placed, grid: ElevationGrid, path: Path) -> Notes:
    from kerb.formats.rasters import write_elevation

    if path.suffix.lower() in RASTERS:
        write_elevation(path, grid, item.reference)
        return [] if path.suffix.lower() == ".tif" else [("unit-unsaid", "an ESRI ASCII grid cannot say its unit")]
    tin = grid.tin()
    mesh = TriangleMesh(tin.points, tin.triangles)
    return write_thing(Placed(SURFACE, mesh, item.reference), path, Progress())


def _picture(item: Placed, picture: PictureRef, path: Path, source: Path | None) -> Notes:
    from kerb.formats.rasters import read_part, write_picture

    if source is None or picture.tiles:
        raise OutputError(f"{path}: pictures of a tile service stay with the service")
    image = read_part(source, (0, 0, picture.width, picture.height), (picture.width, picture.height))
    write_picture(path, image, picture.affine, item.reference)
    return []
