"""Write points, lines and meshes as DXF R2013 with the unit in ``$INSUNITS``, through ezdxf."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import Alignment, exact_in_arcs
from kerb.core.geometry.features import LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.units import LengthUnit
from kerb.formats.dxf_read import UNITS
from kerb.formats.written import placed_when_complete

TEXT_HEIGHT = 0.25
METRIC = {"m", "mm", "cm", "km"}


def write_dxf(
    path: Path,
    unit: LengthUnit,
    points: SurveyPoints | None = None,
    lines: LineSet | None = None,
    mesh: TriangleMesh | None = None,
) -> None:
    """Write what is given: points as POINT with their name beside them, lines as polylines, triangles as 3DFACE.

    Lines with elevations become 3D polylines, level ones and those without LWPOLYLINE, in which an alignment without a
    profile keeps its arcs; layers are kept.

    Raises
    ------
    OutputError, when there is nothing to write or the folder cannot be written.
    """
    from ezdxf import filemanagement

    if not any(thing is not None and _size(thing) for thing in (points, lines, mesh)):
        raise OutputError(f"{path}: nothing to write")
    document = filemanagement.new("R2013")
    document.header["$INSUNITS"] = {code: number for number, code in UNITS.items()}.get(unit.code, 0)
    document.header["$MEASUREMENT"] = int(unit.code in METRIC)
    space = document.layout("Model")
    if points is not None:
        _put_points(space, points, TEXT_HEIGHT / unit.metres)
    exact = {a.name: a for a in lines.alignments if exact_in_arcs(a)} if lines is not None else {}
    for line in lines.lines if lines is not None else ():
        if line.name in exact:
            _put_alignment(space, exact[line.name], line.layer)
        else:
            _put_line(space, line)
    if mesh is not None:
        _put_mesh(space, mesh)
    with placed_when_complete(path) as partial:
        document.saveas(partial)


def _size(thing: Any) -> int:
    return len(thing.triangles) if isinstance(thing, TriangleMesh) else thing.count


def _put_points(space: Any, points: SurveyPoints, height: float) -> None:
    for xyz, name, code in zip(points.xyz, points.names, points.codes, strict=True):
        layer = layer_name(code or "POINTS")
        place = tuple(np.nan_to_num(xyz).tolist())
        space.add_point(place, dxfattribs={"layer": layer})
        if name:
            space.add_text(name, height=height, dxfattribs={"layer": layer, "insert": place})


def _put_line(space: Any, line: Any) -> None:
    layer = {"layer": layer_name(line.layer or "LINES")}
    z = line.xyz[:, 2]
    if np.isfinite(z).all() and (z == z[0]).all():
        # A level line, such as a contour, has its elevation once.
        level = {**layer, "elevation": float(z[0])}
        space.add_lwpolyline(line.xyz[:, :2].tolist(), format="xy", close=line.closed, dxfattribs=level)
    elif np.isfinite(z).all():
        space.add_polyline3d(line.xyz.tolist(), close=line.closed, dxfattribs=layer)
    else:
        space.add_lwpolyline(line.xyz[:, :2].tolist(), close=line.closed, dxfattribs=layer)


def _put_alignment(space: Any, alignment: Alignment, layer: str) -> None:
    """Straights and arcs as they are: the bulge of an arc is the tangent of a quarter of its angle, to the left positive."""
    rows = []
    for element in alignment.elements:
        x, y = element.start
        rows.append((x, y, -np.tan(element.k0 * element.length / 4)))
    x, y = alignment.elements[-1].end.tolist()
    space.add_lwpolyline([*rows, (x, y, 0.0)], format="xyb", dxfattribs={"layer": layer_name(layer or "LINES")})


def _put_mesh(space: Any, mesh: TriangleMesh) -> None:
    names = [""] * len(mesh.triangles)
    for element in mesh.elements:
        names[element.first : element.first + element.count] = [element.name] * element.count
    for corners, name in zip(mesh.vertices[mesh.triangles], names, strict=True):
        a, b, c = corners.tolist()
        space.add_3dface([a, b, c, c], dxfattribs={"layer": layer_name(name or "SURFACE")})


def layer_name(text: str) -> str:
    """A layer name without the characters that DXF forbids."""
    return re.sub(r'[<>/\\":;?*|=`,\x00-\x1f]+', "_", text).strip()[:200] or "0"
