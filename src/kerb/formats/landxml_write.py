"""Write points, lines, alignments and TIN surfaces as LandXML 1.2, with unit and reference system."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kerb import __version__
from kerb.core.arrays import Floats
from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import STRAIGHT, Alignment, Element
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.reference import ReferenceSystem
from kerb.core.section.drawing import SectionDrawing
from kerb.core.surface.tin import Tin
from kerb.formats.written import placed_when_complete

NAMESPACE = "http://www.landxml.org/schema/LandXML-1.2"
UNITS = {"m": ("Metric", "meter"), "ft": ("Imperial", "foot"), "us-ft": ("Imperial", "USSurveyFoot")}


AT_A_TIME = 100_000


@dataclass(frozen=True)
class LandXmlContent:
    """What is to be written; surfaces by name, cross-sections with the alignment they stand on."""

    points: SurveyPoints | None = None
    lines: LineSet | None = None
    surfaces: dict[str, Tin] | None = None
    crosses: tuple[Alignment, list[SectionDrawing]] | None = None


def write_landxml(path: Path, content: LandXmlContent, reference: ReferenceSystem) -> None:
    """Write a LandXML 1.2 file. Lines go out as plan features, alignments exactly.

    Raises
    ------
    OutputError, when there is nothing to write, the unit has no LandXML name, or the folder cannot be written.
    """
    from lxml import etree

    points, lines = content.points, content.lines
    filled = (points is not None and points.count) or (lines is not None and lines.count)
    if not (content.surfaces or content.crosses or filled):
        raise OutputError(f"{path}: nothing to write")
    if reference.unit.code not in UNITS:
        raise OutputError(f"{path}: LandXML has no name for {reference.unit.plural}; convert to metres or feet first")
    now = datetime.now()
    # Through a stream of ours: of a full disk the library tells only by a number of its own.
    with (
        placed_when_complete(path) as partial,
        open(partial, "wb") as stream,
        etree.xmlfile(stream, encoding="utf-8") as out,
    ):
        out.write_declaration()
        root = {"version": "1.2", "date": now.strftime("%Y-%m-%d"), "time": now.strftime("%H:%M:%S"),
                "language": "English", "readOnly": "false"}  # fmt: skip
        with out.element("LandXML", root, nsmap={None: NAMESPACE}):
            _head(out, reference)
            if content.points is not None and content.points.count:
                _points(out, content.points)
            if content.surfaces:
                with out.element("Surfaces"):
                    for name, tin in content.surfaces.items():
                        _surface(out, stream, name, tin)
            if content.lines is not None:
                _lines(out, content.lines)
            if content.crosses is not None:
                _crosses(out, *content.crosses)


def _head(out: Any, reference: ReferenceSystem) -> None:
    system, linear = UNITS[reference.unit.code]
    words = {"Metric": ("squareMeter", "cubicMeter", "celsius", "milliBars"),
             "Imperial": ("squareFoot", "cubicFeet", "fahrenheit", "inchHG")}[system]  # fmt: skip
    with out.element("Units"):
        attributes = dict(zip(("areaUnit", "volumeUnit", "temperatureUnit", "pressureUnit"), words, strict=True))
        out.write(_element(system, {**attributes, "linearUnit": linear, "angularUnit": "decimal degrees",
                                    "directionUnit": "decimal degrees"}))  # fmt: skip
    if reference.name:
        attributes = {"name": reference.name, "desc": reference.name}
        code = reference.code.removeprefix("EPSG:").split("+")[0]
        if reference.code.startswith("EPSG:"):
            attributes["epsgCode"] = code
        out.write(_element("CoordinateSystem", attributes))
    out.write(_element("Application", {"name": "Kerb", "version": __version__}))


def _points(out: Any, points: SurveyPoints) -> None:
    with out.element("CgPoints"):
        for xyz, name, code in zip(points.xyz, points.names, points.codes, strict=True):
            attributes = {"name": name, **({"code": code} if code else {})}
            out.write(_element("CgPoint", attributes, _text(xyz)))


def _surface(out: Any, stream: BinaryIO, name: str, tin: Tin) -> None:
    with out.element("Surface", {"name": name}):
        areas = {"area2DSurf": _number(tin.plan_area), "area3DSurf": _number(tin.surface_area)}
        with out.element("Definition", {"surfType": "TIN", **areas}):
            # Millions of the same element are written as text, past the library: it takes ten times as long.
            with out.element("Pnts"):
                out.flush()
                for first in range(0, len(tin.vertices), AT_A_TIME):
                    rows = (tin.vertices[first : first + AT_A_TIME] + tin.origin)[:, [1, 0, 2]].tolist()
                    lines = [f'<P id="{k}">{n!r} {e!r} {z!r}</P>' for k, (n, e, z) in enumerate(rows, first + 1)]
                    stream.write("".join(lines).encode())
            with out.element("Faces"):
                out.flush()
                for first in range(0, len(tin.triangles), AT_A_TIME):
                    faces = (tin.triangles[first : first + AT_A_TIME] + 1).tolist()
                    stream.write("".join([f"<F>{a} {b} {c}</F>" for a, b, c in faces]).encode())


def _crosses(out: Any, alignment: Alignment, sections: list[SectionDrawing]) -> None:
    """Cross-sections: of each line a list of offset and elevation (LandXML 1.2, CrossSectSurf; recalled)."""
    with out.element("Alignments"), out.element("Alignment", _about(alignment)):
        _coordinates(out, alignment)
        with out.element("CrossSects"):
            for one in sections:
                with out.element("CrossSect", {"name": one.name, "sta": _number(one.frame.station)}):
                    for title, run in one.runs():
                        with out.element("CrossSectSurf", {"name": _clean(title)}):
                            places = " ".join(f"{_number(a)} {_number(b)}" for a, b in run.tolist())
                            out.write(_element("PntList2D", {}, places))


def _lines(out: Any, lines: LineSet) -> None:
    if lines.alignments:
        with out.element("Alignments"):
            for alignment in lines.alignments:
                _alignment(out, alignment)
    exact = {alignment.name for alignment in lines.alignments}
    rest = [line for line in lines.lines if not (line.layer == "alignments" and line.name in exact)]
    layers: dict[str, list[Line]] = {}
    for line in rest:
        layers.setdefault(line.layer, []).append(line)
    for layer, members in layers.items():
        _features(out, layer, members)


def _features(out: Any, layer: str, lines: list[Line]) -> None:
    """A group of plan features, named as their layer."""
    with out.element("PlanFeatures", {"name": _clean(layer)} if layer else {}):
        for number, line in enumerate(lines, 1):
            name = {"name": line.name or f"{line.layer or 'line'} {number}"}
            xyz = np.vstack([line.xyz, line.xyz[:1]]) if line.closed else line.xyz
            with out.element("PlanFeature", name), out.element("CoordGeom"), out.element("IrregularLine"):
                out.write(_element("Start", {}, _text(xyz[0])))
                out.write(_element("End", {}, _text(xyz[-1])))
                kind = "PntList3D" if np.isfinite(xyz[:, 2]).all() else "PntList2D"
                out.write(_element(kind, {}, " ".join(_text(place[: int(kind[-2])]) for place in xyz)))


def _alignment(out: Any, alignment: Alignment) -> None:
    with out.element("Alignment", _about(alignment)):
        _coordinates(out, alignment)
        if alignment.profile:
            with out.element("Profile"), out.element("ProfAlign", {"name": alignment.name}):
                for grade in alignment.profile:
                    kind = "ParaCurve" if grade.curve > 0 else "PVI"
                    extra = {"length": _number(grade.curve)} if grade.curve > 0 else {}
                    if grade.curve > 0 and grade.before is not None:
                        kind, (first, last) = "UnsymParaCurve", grade.lengths
                        extra = {"lengthIn": _number(first), "lengthOut": _number(last)}
                    out.write(_element(kind, extra, f"{_number(grade.station)} {_number(grade.elevation)}"))


def _about(alignment: Alignment) -> dict[str, str]:
    return {
        "name": _clean(alignment.name),
        "length": _number(alignment.length),
        "staStart": _number(alignment.start_station),
    }


def _coordinates(out: Any, alignment: Alignment) -> None:
    for (first, last, written), (at, ahead) in zip(alignment.runs()[:-1], alignment.equations, strict=True):
        back = written + last - first
        about = {"staAhead": _number(ahead), "staBack": _number(back), "staInternal": _number(at)}
        out.write(_element("StaEquation", about))
    if alignment.stations and len(alignment.elements) == 1:
        # An element tells the station of its start alone: two halves tell how lengths and stations differ.
        first, last = alignment.stations
        halves = alignment.elements[0].halves()
        alignment = replace(alignment, elements=halves, stations=(first, 0.5 * (first + last), last))
    with out.element("CoordGeom"):
        for element, first, last in zip(alignment.elements, alignment.marks[:-1], alignment.marks[1:], strict=True):
            along = 0.0
            for piece in _one_sided(element):
                station = first + (last - first) * along / element.length if element.length else first
                # Stations that are not lengths added up are told element by element.
                _geometry(out, piece, {"staStart": _number(station)} if alignment.stations else {})
                along += piece.length


def _geometry(out: Any, element: Element, about: dict[str, str]) -> None:
    start, end = np.array(element.start), element.end
    rotation = "cw" if element.k0 + element.k1 >= 0 else "ccw"
    if abs(element.k0 - element.k1) > STRAIGHT:
        radii = {key: "INF" if abs(k) < STRAIGHT else _number(1 / abs(k))
                 for key, k in (("radiusStart", element.k0), ("radiusEnd", element.k1))}  # fmt: skip
        attributes = {"length": _number(element.length), **radii, "rot": rotation, "spiType": "clothoid", **about}
        with out.element("Spiral", attributes):
            out.write(_element("Start", {}, _text(start)))
            out.write(_element("PI", {}, _text(_tangent_crossing(element))))
            out.write(_element("End", {}, _text(end)))
    elif abs(element.k0) > STRAIGHT:
        side = element.azimuth + (np.pi / 2 if element.k0 > 0 else -np.pi / 2)
        centre = start + np.array([np.sin(side), np.cos(side)]) / abs(element.k0)
        attributes = {
            "rot": rotation,
            "crvType": "arc",
            "radius": _number(1 / abs(element.k0)),
            "length": _number(element.length),
            **about,
        }
        with out.element("Curve", attributes):
            for name, place in (("Start", start), ("Center", centre), ("End", end)):
                out.write(_element(name, {}, _text(place)))
    else:
        with out.element("Line", {"length": _number(element.length), **about}):
            out.write(_element("Start", {}, _text(start)))
            out.write(_element("End", {}, _text(end)))


def _one_sided(element: Element) -> list[Element]:
    """A spiral that turns both ways, cut at its inflection: LandXML gives a spiral one turning sense."""
    if element.k0 * element.k1 >= 0:
        return [element]
    half = element.length * element.k0 / (element.k0 - element.k1)
    middle = element.at(np.array([half]))[0]
    turned = float(element.direction(np.array([half]))[0])
    first = Element(element.start, element.azimuth, half, element.k0, 0.0)
    return [first, Element((float(middle[0]), float(middle[1])), turned, element.length - half, 0.0, element.k1)]


def _tangent_crossing(element: Element) -> Floats:
    """Where the tangents at both ends of a spiral meet."""
    a0 = element.azimuth
    a1 = float(element.direction(np.array([element.length]))[0])
    start, end = np.array(element.start), element.end
    table = np.array([[np.sin(a0), -np.sin(a1)], [np.cos(a0), -np.cos(a1)]])
    along, _ = np.linalg.solve(table, end - start)
    return np.asarray(start + along * np.array([np.sin(a0), np.cos(a0)]))


def _text(place: Any) -> str:
    """Northing, easting and, where known, elevation, with all digits."""
    values = [float(value) for value in place]
    values[0], values[1] = values[1], values[0]
    return " ".join(repr(value) for value in values if np.isfinite(value))


def _element(tag: str, attributes: dict[str, str], text: str = "") -> Any:
    from lxml import etree

    node = etree.Element(tag, {key: _clean(value) for key, value in attributes.items()})
    if text:
        node.text = text
    return node


def _number(value: float) -> str:
    """All digits of a number, be it Python's or NumPy's."""
    return repr(float(value))


def _clean(text: str) -> str:
    """Text without the control characters that XML cannot hold."""
    return "".join(letter for letter in text if letter >= " " or letter in "\t\n\r")
