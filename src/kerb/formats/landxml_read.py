"""Read LandXML 1.0–1.2: points, TIN surfaces, break lines, plan features and alignments with their profiles.

LandXML 1.2 schema: coordinates are "northing easting [elevation]"; faces name vertices by point id; a face with i="1"
is invisible. Text that declares a DTD or entities is refused before it is parsed.
"""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import FormatError, InputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import Element, TriangleMesh, checked
from kerb.core.reference import UNKNOWN, ReferenceSystem, from_text, local_grid
from kerb.core.units import FILE_UNITS, LengthUnit
from kerb.formats.landxml_alignment import levels, read_alignment
from kerb.formats.opened import first_bytes

UNITS = {"meter": "m", "foot": "ft", "USSurveyFoot": "us-ft", "millimeter": "mm", "centimeter": "cm", "kilometer": "km",
         "inch": "in"}  # fmt: skip
LARGEST = 4_000_000_000
DONE = ("CgPoint", "Pnts", "Faces", "Surface", "Breakline", "Boundary", "Contour", "PlanFeature", "Alignment")
TAKEN = ("Metric", "Imperial", "CoordinateSystem", *DONE)


@dataclass
class LandXml:
    """What a file holds. Coordinates are easting, northing, elevation in ``unit``."""

    unit: LengthUnit | None = None
    reference: ReferenceSystem = UNKNOWN
    points: SurveyPoints = field(default_factory=lambda: SurveyPoints(np.empty((0, 3)), (), ()))
    lines: list[Line] = field(default_factory=list)
    alignments: list[Alignment] = field(default_factory=list)
    surfaces: dict[str, TriangleMesh] = field(default_factory=dict)
    notes: list[tuple[str, str]] = field(default_factory=list)

    def line_set(self, layers: tuple[str, ...] = (), tolerance: float = 0.01) -> LineSet:
        """Break lines, features and flattened alignments of some layers or of all."""
        lines = [line for line in self.lines if not layers or line.layer in layers]
        alignments = [a for a in self.alignments if not layers or "alignments" in layers]
        for alignment in alignments:
            lines.append(Line(alignment.flattened(tolerance)[0], False, alignment.name, "alignments"))
        return LineSet(tuple(lines), tuple(alignments))


def read_landxml(path: Path) -> LandXml:
    """Read a file.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, naming the file and the line or the item that is wrong.
    """
    check_xml(path)
    reader = _Reader(path)
    if _all_bytes(path).find(b"pntRef") >= 0:
        reader.named = _named_points(path)
    from lxml import etree

    options = {"resolve_entities": False, "no_network": True, "load_dtd": False, "huge_tree": True}
    try:
        with open(path, "rb") as stream:
            events = etree.iterparse(stream, events=("end",), tag=[f"{{*}}{tag}" for tag in TAKEN], **options)
            for _, node in events:
                reader.take(node)
            root = events.root
    except etree.XMLSyntaxError as error:
        raise FormatError(f"{path}: is no valid XML ({' '.join(str(error.msg).split())})") from None
    if root is None or root.tag.rpartition("}")[2] != "LandXML":
        name = "" if root is None else root.tag.rpartition("}")[2][:40]
        raise FormatError(f"{path}: is XML, but not LandXML (its root is '{name}')")
    return reader.finished()


def check_xml(path: Path) -> None:
    """Refuse what is no XML or declares entities, before a parser sees it. Raises InputError or FormatError."""
    start = first_bytes(path, 1 << 16, LARGEST)
    plain = start.replace(b"\0", b"").lstrip(b"\xef\xbb\xbf\xff\xfe \t\r\n")
    if not plain.startswith(b"<"):
        raise FormatError(f"{path}: is not an XML file")
    # A DTD can only stand before the first element, so the start of the file tells.
    if b"<!DOCTYPE" in plain or b"<!ENTITY" in plain:
        raise FormatError(f"{path}: declares a document type or entities, which no LandXML file needs; not read")


class _Reader:
    """Takes elements as they end and forgets them, so that memory holds the numbers and not the text.

    Points and faces of a surface come as one element each, a million of them read in a few steps.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.out = LandXml()
        self.names: list[str] = []
        self.codes: list[str] = []
        self.places: list[tuple[float, float, float]] = []
        self.vertices: dict[str, int] = {}
        self.corners: Floats = np.empty((0, 3))
        self.faces: Any = np.empty((0, 3), np.int64)
        self.counter = 0
        self.named: dict[str, str] | None = None

    def take(self, node: Any) -> None:
        """Take an element that has ended. Raises FormatError naming its line."""
        tag = node.tag.rpartition("}")[2]
        try:
            if self.named is not None:
                self._resolve(node)
            self._end(tag, node)
        except (ValueError, IndexError, KeyError) as error:
            raise FormatError(f"{self.path}: line {node.sourceline}: <{tag}> makes no sense ({error})") from None
        if tag in DONE:
            node.clear()

    def _resolve(self, node: Any) -> None:
        """Places that are given by the name of a point get the point's numbers."""
        assert self.named is not None
        for child in node.iter():
            key = child.get("pntRef")
            if key is not None and not (child.text or "").strip():
                if key not in self.named:
                    raise ValueError(f"names point '{key}', which the file does not have")
                child.text = self.named[key]

    def _end(self, tag: str, node: Any) -> None:
        if tag in ("Metric", "Imperial"):
            self.out.unit = FILE_UNITS.get(UNITS.get(node.get("linearUnit", ""), ""))
        elif tag == "CoordinateSystem":
            self._system(node)
        elif tag == "CgPoint":
            self._point(node)
        elif tag == "Pnts":
            self._vertices(node)
        elif tag == "Faces":
            self._faces(node)
        elif tag == "Surface":
            self._surface(node)
        elif tag in ("Breakline", "Boundary", "Contour"):
            self._source_line(tag, node)
        elif tag == "PlanFeature":
            self._feature(node)
        elif tag == "Alignment":
            alignment, notes = read_alignment(node)
            if alignment is not None:
                self.out.alignments.append(alignment)
            self.out.notes += notes

    def _system(self, node: Any) -> None:
        for key in ("epsgCode", "ogcWktCode", "name"):
            text = (node.get(key) or "").strip()
            if not text:
                continue
            try:
                self.out.reference = from_text(f"EPSG:{text}" if key == "epsgCode" and text.isdigit() else text)
                return
            except InputError:
                continue

    def _point(self, node: Any) -> None:
        if not (node.text or "").strip():
            return
        self.counter += 1
        self.places.append(_place(node.text, heights=False))
        self.names.append(node.get("name") or str(self.counter))
        self.codes.append(node.get("code") or node.get("desc") or "")

    def _vertices(self, node: Any) -> None:
        """Vertices of a surface, "northing easting elevation" each, by id."""
        points = list(_children(node, "P"))
        self.vertices = {point.get("id", ""): place for place, point in enumerate(points)}
        numbers = _numbers(" ".join(point.text or "" for point in points))
        if len(numbers) != 3 * len(points):
            bad = next(p for p in points if len((p.text or "").split()) != 3)
            raise ValueError(f"point '{bad.get('id', '')}' is '{(bad.text or '').strip()[:40]}', not three numbers")
        self.corners = numbers.reshape(-1, 3)[:, [1, 0, 2]]

    def _faces(self, node: Any) -> None:
        """Visible faces of a surface, by the ids of their vertices."""
        texts = [(face.text or "").split() for face in _children(node, "F") if face.get("i") != "1"]
        try:
            corners = [[self.vertices[key] for key in ids] for ids in texts]
        except KeyError as error:
            raise ValueError(f"a face names point {error}, which its surface does not have") from None
        if any(len(corner) not in (3, 4) for corner in corners):
            raise ValueError("a face has neither three nor four corners")
        fans = [(c[0], c[k], c[k + 1]) for c in corners for k in range(1, len(c) - 1)]
        # A surface may have several lists of faces; each adds to it.
        self.faces = np.concatenate([self.faces, np.array(fans, np.int64).reshape(-1, 3)])

    def _surface(self, node: Any) -> None:
        wanted = node.get("name") or "surface"
        name, number = wanted, 2
        while name in self.out.surfaces:
            name, number = f"{wanted} ({number})", number + 1
        if len(self.faces):
            mesh = checked(self.corners, self.faces, f"{self.path}: surface '{name}'")
            element = Element(name, "surface", 0, len(mesh.triangles))
            self.out.surfaces[name] = TriangleMesh(mesh.vertices, mesh.triangles, (element,))
        elif len(self.corners):
            self.out.notes.append(("no-faces", f"surface '{name}' has points but no faces; not read"))
        self.vertices, self.corners, self.faces = {}, np.empty((0, 3)), np.empty((0, 3), np.int64)

    def _source_line(self, tag: str, node: Any) -> None:
        layer = {"Breakline": "breaklines", "Boundary": "boundaries", "Contour": "contours"}[tag]
        level = node.get("elev")
        for child in node:
            kind = child.tag.rpartition("}")[2] if isinstance(child.tag, str) else ""
            if kind not in ("PntList3D", "PntList2D"):
                continue
            xyz = _places(child.text, 3 if kind == "PntList3D" else 2)
            if level is not None:
                xyz[:, 2] = float(level)
            self._keep_line(xyz, node.get("name") or "", layer)

    def _feature(self, node: Any) -> None:
        group = node.getparent()
        layer = ((group.get("name") if group is not None else "") or "features").strip()
        for geometry in _children(node, "CoordGeom"):
            alignment, notes = read_alignment(geometry, name=node.get("name") or "feature")
            self.out.notes += notes
            if alignment is not None and alignment.elements:
                xyz, along = alignment.flattened(0.01)
                ends = levels(geometry)
                if len(ends) == len(alignment.elements):
                    # Elevations of the ends, straight along each element.
                    marks = np.repeat(alignment.marks, 2)[1:-1]
                    xyz[:, 2] = np.interp(along, marks, np.ravel(ends))
                self._keep_line(xyz, node.get("name") or "", layer)
            for line in _children(geometry, "IrregularLine"):
                for points in [*_children(line, "PntList3D"), *_children(line, "PntList2D")]:
                    size = 3 if points.tag.endswith("3D") else 2
                    self._keep_line(_places(points.text, size), node.get("name") or "", layer)

    def _keep_line(self, xyz: Floats, name: str, layer: str) -> None:
        closed = len(xyz) > 3 and bool(np.array_equal(xyz[0, :2], xyz[-1, :2]))
        if len(xyz) > 1:
            self.out.lines.append(Line(xyz[:-1] if closed else xyz, closed, name, layer))

    def finished(self) -> LandXml:
        """What was read. Raises FormatError when that is nothing."""
        out = self.out
        if self.places:
            out.points = SurveyPoints(np.array(self.places), tuple(self.names), tuple(self.codes))
        if out.unit is None:
            out.notes.append(("unit-missing", "the file does not say its unit"))
        if not out.reference.wkt and out.unit is not None:
            out.reference = local_grid(out.unit)
        elif out.reference.wkt and out.unit is not None and out.reference.unit != out.unit:
            words = f"the reference system is in {out.reference.unit.plural}, the file says {out.unit.plural}"
            out.notes.append(("unit-conflict", words))
        if not (out.points.count or out.lines or out.alignments or out.surfaces):
            raise FormatError(f"{self.path}: holds no points, lines, alignments or surfaces that Kerb reads")
        return out


def _all_bytes(path: Path) -> Any:
    """The file as one run of bytes that is not copied into memory."""
    with open(path, "rb") as stream:
        return mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)


def _named_points(path: Path) -> dict[str, str]:
    """The numbers of every named point, as text; points may stand behind what names them."""
    from lxml import etree

    found = {}
    options = {"resolve_entities": False, "no_network": True, "load_dtd": False, "huge_tree": True, "recover": True}
    with open(path, "rb") as stream:
        for _, node in etree.iterparse(stream, events=("end",), tag=["{*}CgPoint"], **options):
            if node.get("name") and (node.text or "").strip():
                found[node.get("name")] = node.text.strip()
            node.clear()
    return found


def _children(node: Any, name: str) -> Iterator[Any]:
    return node.iterchildren(f"{{*}}{name}")


def _place(text: str | None, heights: bool = True) -> tuple[float, float, float]:
    """Easting, northing, elevation of "northing easting [elevation]". Raises ValueError for anything else."""
    values = [float(word) for word in (text or "").split()]
    if len(values) not in (2, 3) or (heights and len(values) != 3) or not np.isfinite(values).all():
        raise ValueError(f"'{(text or '').strip()[:40]}' is no place")
    return values[1], values[0], values[2] if len(values) == 3 else float("nan")


def _numbers(text: str) -> Floats:
    """Finite numbers of a text. Raises ValueError for anything else."""
    values = np.array(text.split(), float)
    if not np.isfinite(values).all():
        raise ValueError("a coordinate is no number, so this is no place")
    return values


def _places(text: str | None, size: int) -> Floats:
    values = _numbers(text or "")
    if len(values) % size:
        raise ValueError(f"{len(values)} numbers are no list of places of {size}")
    table = values.reshape(-1, size)
    z = table[:, 2] if size == 3 else np.full(len(table), np.nan)
    return np.column_stack([table[:, 1], table[:, 0], z])
