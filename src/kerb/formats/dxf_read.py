"""Read DXF drawings through ezdxf: points, lines and areas, and 3D faces as meshes, by layer.

Curves are flattened to a stated tolerance. ``$INSUNITS`` names the unit (DXF reference: 1 in, 2 ft, 4 mm, 5 cm, 6 m,
7 km, 10 yd, 21 US survey ft).
"""

from __future__ import annotations

import contextlib
import io
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import FormatError
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element, TriangleMesh, checked, joined
from kerb.core.quantity import first_of
from kerb.core.units import FILE_UNITS, LengthUnit
from kerb.formats.opened import first_bytes

UNITS = {1: "in", 2: "ft", 4: "mm", 5: "cm", 6: "m", 7: "km", 10: "yd", 21: "us-ft"}
LARGEST = 600_000_000
MOST_ENTITIES = 5_000_000
DEEPEST = 8
NAME_TAGS = ("NAME", "PTNAME", "POINT", "NUMBER", "PT", "NO", "ID")
CODE_TAGS = ("CODE", "DESC", "DESCRIPTION")
ELEVATION_TAGS = ("ELEV", "ELEVATION", "Z", "HEIGHT")
TEXTS = {"TEXT", "MTEXT"}
LONGEST_TEXT = 40
# Points of the frame that a polyline was smoothed by; they do not lie on it (DXF reference, vertex flag 16).
FRAME = 16
CURVES = {"LINE", "LWPOLYLINE", "POLYLINE", "SPLINE", "ARC", "CIRCLE", "ELLIPSE", "HELIX"}
FACES = {"3DFACE", "MESH", "SOLID", "TRACE"}


@dataclass
class Drawing:
    """What a drawing holds, by layer; ``unit`` None where it does not say."""

    points: list[tuple[str, tuple[float, float, float], str, str]] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    meshes: dict[str, list[TriangleMesh]] = field(default_factory=dict)
    unit: LengthUnit | None = None
    notes: list[tuple[str, str]] = field(default_factory=list)

    def layer_counts(self) -> dict[str, dict[str, int]]:
        """Points, lines and triangles of each layer."""
        counts: dict[str, Counter] = {}
        for layer, *_ in self.points:
            counts.setdefault(layer, Counter())["points"] += 1
        for line in self.lines:
            counts.setdefault(line.layer, Counter())["lines"] += 1
        for layer, meshes in self.meshes.items():
            counts.setdefault(layer, Counter())["triangles"] += sum(len(mesh.triangles) for mesh in meshes)
        return {layer: dict(count) for layer, count in sorted(counts.items())}

    def survey_points(self, layers: tuple[str, ...] = ()) -> SurveyPoints:
        """The points of some layers or of all; the code of one without is its layer."""
        some = [p for p in self.points if not layers or p[0] in layers]
        names = tuple(name or str(n) for n, (_, _, name, _) in enumerate(some, 1))
        xyz = np.array([place for _, place, _, _ in some]).reshape(-1, 3)
        return SurveyPoints(xyz, names, tuple(code or layer for layer, _, _, code in some))

    def line_set(self, layers: tuple[str, ...] = ()) -> LineSet:
        """The lines of some layers or of all."""
        return LineSet(tuple(line for line in self.lines if not layers or line.layer in layers))

    def mesh(self, layers: tuple[str, ...] = ()) -> TriangleMesh:
        """The faces of some layers or of all, an element a layer."""
        parts = []
        for layer, meshes in self.meshes.items():
            if layers and layer not in layers:
                continue
            whole = joined(meshes)
            parts.append(
                TriangleMesh(whole.vertices, whole.triangles, (Element(layer, "layer", 0, len(whole.triangles)),))
            )
        return joined(parts)


def read_dxf(path: Path, tolerance: float = 0.001) -> Drawing:
    """Read the model space of a drawing; a damaged one is mended as far as possible, with a note.

    ``tolerance`` is how far chords may stray from curves, in the drawing's unit.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it is no drawing or holds nothing.
    """
    document, notes = _document(path)
    _check_size(document, path)
    drawing = Drawing(notes=notes)
    code = int(document.header.get("$INSUNITS", 0) or 0)
    drawing.unit = FILE_UNITS.get(UNITS.get(code, ""))
    if drawing.unit is None:
        drawing.notes.append(("unit-missing", "the drawing does not say its unit"))
    skipped: Counter = Counter()
    unseen: Counter = Counter()
    texts: list[str] = []
    hidden = {layer.dxf.name.lower() for layer in document.layers if layer.is_off() or layer.is_frozen()}
    for number, entity in enumerate(_entities(document.layout("Model"), 0)):
        if number >= MOST_ENTITIES:
            raise FormatError(f"{path}: has more than {MOST_ENTITIES} entities")
        layer = _layer_of(entity)
        if layer.lower() in hidden:
            unseen[layer] += 1
            continue
        if entity.dxftype() in TEXTS:
            texts.append(_words_of(entity))
            continue
        try:
            if not _take(drawing, entity, tolerance):
                skipped[entity.dxftype()] += 1
        except Exception:  # one damaged entity must not cost the rest; how many were is said
            skipped[f"damaged {entity.dxftype()}"] += 1
    _leave_out_broken(drawing)
    if skipped:
        words = ", ".join(f"{count} {kind}" for kind, count in skipped.most_common(6))
        drawing.notes.append(("not-read", f"not read: {words}"))
    if unseen:
        words = ", ".join(f"{count} on '{layer}'" for layer, count in unseen.most_common(6))
        drawing.notes.append(("hidden-layers", f"left out, since their layer is off or frozen: {words}"))
    if texts:
        words = first_of([f"'{text}'" for text in texts if text], 6)
        drawing.notes.append(("texts", f"{len(texts)} texts are not drawn: {words}"))
    if not (drawing.points or drawing.lines or drawing.meshes):
        raise FormatError(f"{path}: holds no points, lines or faces")
    return drawing


def _check_size(document: Any, path: Path) -> None:
    """Refuse a drawing whose blocks, put into one another many times over, make too much, before any of it is made."""
    known: dict[tuple[str, int], int] = {}

    def size(space: Any, depth: int) -> int:
        total = 0
        for entity in space:
            if entity.dxftype() != "INSERT" or depth >= DEEPEST or _is_point_block(entity):
                total += 1
                continue
            name = str(entity.dxf.get("name", ""))
            key = (name, depth + 1)
            if key not in known:
                block = document.blocks.get(name)
                known[key] = 0 if block is None else size(block, depth + 1)
            total += max(int(entity.mcount), 1) * known[key]
        return total

    try:
        whole = size(document.layout("Model"), 0)
    except Exception:  # a damaged insert is passed over when it is read, as any damaged entity
        return
    if whole > MOST_ENTITIES:
        raise FormatError(f"{path}: its blocks make {whole:.3g} entities; the most is {MOST_ENTITIES}")


def _layer_of(entity: Any) -> str:
    """The layer of an entity; entities of no known kind have no such attribute."""
    try:
        return str(entity.dxf.get("layer", "0"))
    except Exception:  # the library has an error of its own for it, and others for damaged ones
        return "0"


def _document(path: Path) -> tuple[Any, list[tuple[str, str]]]:
    from ezdxf import filemanagement, recover
    from ezdxf.lldxf.validator import is_binary_dxf_file

    start = first_bytes(path, 4096, LARGEST)
    if not is_binary_dxf_file(str(path)) and b"SECTION" not in start:
        raise FormatError(f"{path}: not a DXF drawing (no SECTION at its start)")
    try:
        return filemanagement.readfile(path), []
    except Exception:
        pass
    try:
        document, auditor = recover.read(io.BytesIO(path.read_bytes()))
    except Exception as error:  # the recovery of ezdxf lets through what it meets
        raise FormatError(
            f"{path}: the drawing is damaged beyond repair ({' '.join(str(error).split())[:120]})"
        ) from None
    mended = len(auditor.errors) + len(auditor.fixes)
    return document, [("mended", f"the drawing is damaged; it was mended in {mended} places")]


def _entities(space: Any, depth: int) -> Iterator[Any]:
    """Entities with the contents of blocks in place of the blocks, except blocks that mark a survey point."""
    for entity in space:
        if entity.dxftype() == "INSERT" and depth < DEEPEST and not _is_point_block(entity):
            try:
                inserts = entity.multi_insert() if entity.mcount > 1 else [entity]
                inside = [part for insert in inserts for part in insert.virtual_entities()]
            except Exception:  # a block that cannot be exploded is passed over like any damaged entity
                continue
            for part in inside:
                # What lies on layer 0 of a block belongs to the layer the block is put on.
                if str(part.dxf.get("layer", "0")) == "0":
                    part.dxf.layer = entity.dxf.get("layer", "0")
            yield from _entities(inside, depth + 1)
        else:
            yield entity


def _is_point_block(entity: Any) -> bool:
    return bool(entity.attribs) and any(a.dxf.tag.upper() in NAME_TAGS + ELEVATION_TAGS for a in entity.attribs)


def _take(drawing: Drawing, entity: Any, tolerance: float) -> bool:
    kind, layer = entity.dxftype(), str(entity.dxf.get("layer", "0"))
    if kind == "POINT":
        drawing.points.append((layer, tuple(entity.dxf.location), "", ""))
    elif kind == "INSERT":
        _take_block(drawing, entity, layer)
    elif kind == "POLYLINE" and (entity.is_poly_face_mesh or entity.is_polygon_mesh):
        _take_builder(drawing, entity, layer)
    elif kind in FACES:
        _take_faces(drawing, entity, kind, layer)
    elif kind in CURVES:
        _take_curve(drawing, entity, layer, tolerance)
    else:
        return kind in ("ATTDEF", "ATTRIB", "VIEWPORT", "SEQEND")
    return True


def _take_block(drawing: Drawing, entity: Any, layer: str) -> None:
    tags = {attrib.dxf.tag.upper(): str(attrib.dxf.text).strip() for attrib in entity.attribs}
    name = next((tags[tag] for tag in NAME_TAGS if tags.get(tag)), "")
    code = next((tags[tag] for tag in CODE_TAGS if tags.get(tag)), "")
    place = tuple(entity.ocs().to_wcs(entity.dxf.insert))
    elevation = next((tags[tag] for tag in ELEVATION_TAGS if tags.get(tag)), "")
    if place[2] == 0.0 and elevation:
        with contextlib.suppress(ValueError):
            place = (place[0], place[1], float(elevation))
    drawing.points.append((layer, place, name, code))


def _take_curve(drawing: Drawing, entity: Any, layer: str, tolerance: float) -> None:
    xyz = np.array(_vertices(entity, tolerance), float).reshape(-1, 3)
    moved = np.any(np.diff(xyz, axis=0) != 0, axis=1)
    if moved.any():
        xyz = xyz[np.concatenate([[True], moved])]
    closed = len(xyz) > 3 and bool(np.allclose(xyz[0], xyz[-1], rtol=0, atol=tolerance * 1e-3))
    if len(xyz) > 1:
        drawing.lines.append(Line(xyz[:-1] if closed else xyz, closed, "", layer))


def _vertices(entity: Any, tolerance: float) -> list[tuple[float, ...]]:
    """Vertices of a curve, chords no farther from it than the tolerance.

    Arcs are cut by their own radius: the general path of ezdxf goes by Bézier curves, which stray from an arc by
    0.03 % of its radius whatever tolerance is asked for.
    """
    kind = entity.dxftype()
    if kind == "LINE":
        return [tuple(entity.dxf.start), tuple(entity.dxf.end)]
    if kind in ("LWPOLYLINE", "POLYLINE"):
        if kind == "POLYLINE" and entity.is_3d_polyline and not entity.has_arc:
            places = [tuple(vertex.dxf.location) for vertex in entity.vertices if not vertex.dxf.flags & FRAME]
            return [*places, places[0]] if entity.is_closed and places else places
        if kind == "POLYLINE" and any(vertex.dxf.flags & FRAME for vertex in entity.vertices):
            return _smoothed(entity)
        return _chained([_vertices(part, tolerance) for part in entity.virtual_entities()])
    return [tuple(vertex) for vertex in entity.flattening(tolerance)]


def _smoothed(entity: Any) -> list[tuple[float, ...]]:
    """The vertices of a smoothed polyline without those of its frame."""
    own = entity.ocs()
    level = entity.dxf.elevation.z if entity.dxf.hasattr("elevation") else 0.0
    places = [vertex.dxf.location for vertex in entity.vertices if not vertex.dxf.flags & FRAME]
    moved = [tuple(own.to_wcs((place.x, place.y, level))) for place in places]
    return [*moved, moved[0]] if entity.is_closed and moved else moved


def _words_of(entity: Any) -> str:
    text = entity.plain_text() if hasattr(entity, "plain_text") else str(entity.dxf.get("text", ""))
    return " ".join(text.split())[:LONGEST_TEXT]


def _chained(pieces: list[list[tuple[float, ...]]]) -> list[tuple[float, ...]]:
    """Pieces of a polyline end to end; an arc always runs counter-clockwise, so some come reversed."""
    chain: list[tuple[float, ...]] = []
    for number, piece in enumerate(pieces):
        following = pieces[number + 1] if number + 1 < len(pieces) else None
        if chain:
            turned = _gap(chain[-1], piece[-1]) < _gap(chain[-1], piece[0])
        else:
            turned = following is not None and min(_gap(piece[0], end) for end in (following[0], following[-1])) < min(
                _gap(piece[-1], end) for end in (following[0], following[-1])
            )
        chain += reversed(piece) if turned else piece
    return chain


def _gap(a: tuple[float, ...], b: tuple[float, ...]) -> float:
    return float(np.hypot(a[0] - b[0], a[1] - b[1]))


def _take_faces(drawing: Drawing, entity: Any, kind: str, layer: str) -> None:
    if kind == "MESH":
        _take_builder(drawing, entity, layer)
        return
    corners = np.array([tuple(vertex) for vertex in entity.wcs_vertices()], float)
    if kind in ("SOLID", "TRACE") and len(corners) == 4:
        corners = corners[[0, 1, 2, 3]]
    faces = [[0, 1, 2]] if len(corners) == 3 else [[0, 1, 2], [0, 2, 3]]
    _keep_mesh(drawing, layer, corners, np.array(faces))


def _take_builder(drawing: Drawing, entity: Any, layer: str) -> None:
    from ezdxf.render.mesh import MeshBuilder

    builder = MeshBuilder.from_mesh(entity) if entity.dxftype() == "MESH" else MeshBuilder.from_polyface(entity)
    vertices = np.array([tuple(vertex) for vertex in builder.vertices], float)
    faces = [(face[0], face[k], face[k + 1]) for face in builder.faces for k in range(1, len(face) - 1)]
    _keep_mesh(drawing, layer, vertices, np.array(faces))


def _keep_mesh(drawing: Drawing, layer: str, vertices: Any, faces: Any) -> None:
    if np.isfinite(vertices).all():
        mesh = checked(vertices, faces, layer)
        if len(mesh.triangles):
            drawing.meshes.setdefault(layer, []).append(mesh)


def _leave_out_broken(drawing: Drawing) -> None:
    before = len(drawing.points) + len(drawing.lines)
    drawing.points = [point for point in drawing.points if np.isfinite(point[1]).all()]
    drawing.lines = [line for line in drawing.lines if np.isfinite(line.xyz).all()]
    lost = before - len(drawing.points) - len(drawing.lines)
    if lost:
        drawing.notes.append(("not-finite", f"{lost} entities have a coordinate that is no number; left out"))
