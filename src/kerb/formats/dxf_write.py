"""Write points, lines and meshes as DXF R2013 with the unit in ``$INSUNITS``, through ezdxf."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from kerb.core.arrays import Floats
from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import Alignment, exact_in_arcs
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.quantity import first_of
from kerb.core.units import LengthUnit
from kerb.formats.dxf_read import UNITS
from kerb.formats.written import placed_when_complete

# Letters are this share of the usual distance between points, within limits in metres.
TEXT_SHARE, TEXT_LIMITS, TEXT_STYLE = 0.2, (0.02, 2.0), "SURVEY"
METRIC = {"m", "mm", "cm", "km"}


@dataclass(frozen=True)
class Text:
    """A text of a drawing at a place (3,); ``turn`` in degrees, anticlockwise from east."""

    place: tuple[float, float, float]
    text: str
    turn: float = 0.0
    layer: str = "TEXT"


@dataclass(frozen=True)
class Texts:
    """What a drawing says: further texts, letters of a height in its unit (None: from the spacing), and levels of points.

    ``decimals`` writes the level of each point beside it in place of its name.
    """

    more: tuple[Text, ...] = ()
    height: float | None = None
    decimals: int | None = None


def write_dxf(
    path: Path,
    unit: LengthUnit,
    points: SurveyPoints | None = None,
    lines: LineSet | None = None,
    mesh: TriangleMesh | None = None,
    texts: Texts | None = None,
) -> list[tuple[str, str]]:
    """Write what is given: points as POINT with their name beside them, lines as polylines, triangles as 3DFACE.

    Lines with elevations become 3D polylines, level ones and those without LWPOLYLINE, in which an alignment without a
    profile keeps its arcs; a line that has elevations in part becomes several. Layers, the text style and the extents
    are defined in the file. Returns notes of what DXF cannot hold, as (code, text).

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
    space, said = document.layout("Model"), texts or Texts()
    height = said.height or _letters(points.xyz if points is not None else None, unit)
    notes = []
    if points is not None:
        _put_points(space, points, height, said.decimals)
        notes += _unknown(int(np.isnan(points.xyz[:, 2]).sum()), "points have no elevation", "written as 0")
    if lines is not None:
        notes += _put_lines(space, lines)
    if mesh is not None:
        _put_mesh(space, mesh)
    for text in said.more:
        put_text(space, text.text, text.place, height, text.layer, text.turn)
    places = [
        points.xyz if points is not None else np.empty((0, 3)),
        lines.vertices if lines is not None else np.empty((0, 3)),
        mesh.vertices if mesh is not None else np.empty((0, 3)),
    ]
    define(document, [place for place in places if len(place)])
    with placed_when_complete(path) as partial:
        document.saveas(partial)
    return notes


def define(document: Any, places: list[Any]) -> None:
    """Define the layers and the text style that are used, and the extents, given places (n, 2 or 3)."""
    document.styles.add(TEXT_STYLE, font="txt")
    known = {layer.dxf.name.lower() for layer in document.layers}
    for name in dict.fromkeys(entity.dxf.layer for entity in document.modelspace()):
        if name.lower() not in known:
            document.layers.add(name)
            known.add(name.lower())
    if not places:
        return
    flat = np.concatenate([np.asarray(place)[:, :2] for place in places])
    levels = [np.asarray(place)[:, 2] for place in places if np.asarray(place).shape[1] > 2]
    z = np.nan_to_num(np.concatenate(levels)) if levels else np.zeros(1)
    low, high = flat.min(axis=0), flat.max(axis=0)
    space = document.modelspace()
    space.reset_extents(
        (float(low[0]), float(low[1]), float(z.min())), (float(high[0]), float(high[1]), float(z.max()))
    )
    space.reset_limits(tuple(low.tolist()), tuple(high.tolist()))
    middle = tuple((0.5 * (low + high)).tolist())
    document.set_modelspace_vport(height=max(float(np.max(high - low)) * 1.1, 1e-3), center=middle)


def put_text(space: Any, text: str, place: tuple[float, ...], height: float, layer: str, turn: float = 0.0) -> None:
    """Put a text on a layer in the text style of the drawing."""
    about = {"layer": layer_name(layer), "insert": place, "rotation": turn, "style": TEXT_STYLE}
    # Control characters and line ends have no place in a TEXT.
    space.add_text(" ".join(re.sub(r"[\x00-\x1f]+", " ", text).split()), height=height, dxfattribs=about)


def _letters(xyz: Floats | None, unit: LengthUnit) -> float:
    """Height of letters from the usual distance between points."""
    low, high = (limit / unit.metres for limit in TEXT_LIMITS)
    if xyz is None or len(xyz) < 2:
        return float(np.sqrt(low * high))
    sample = xyz[:: max(1, len(xyz) // 2000), :2]
    away = np.asarray(scipy.spatial.cKDTree(xyz[:, :2]).query(sample, k=2)[0])[:, 1]
    return float(np.clip(TEXT_SHARE * np.median(away), low, high))


def _unknown(count: int, what: str, how: str) -> list[tuple[str, str]]:
    return [("no-elevation", f"{count} {what}; DXF cannot leave it out: {how}")] if count else []


def _put_lines(space: Any, lines: LineSet) -> list[tuple[str, str]]:
    exact: dict[str, list[Alignment]] = {}
    for alignment in lines.alignments:
        exact.setdefault(alignment.name, []).append(alignment)
    flat, cut = 0, []
    for line in lines.lines:
        own = next((one for one in exact.get(line.name, []) if _is_that(line, one)), None)
        known = np.isfinite(line.xyz[:, 2])
        if own is not None and exact_in_arcs(own):
            _put_alignment(space, own, line.layer)
            flat += 1
        elif known.any() and not known.all():
            _put_pieces(space, line, known)
            cut.append(f"'{line.name or line.layer}' ({int((~known).sum())} of {len(known)})")
        else:
            flat += not known.any()
            _put_line(space, line)
    notes = _unknown(flat, "lines have no elevation", "written as 0")
    if cut:
        words = f"{len(cut)} lines have vertices without an elevation and are written in pieces: {first_of(cut, 5)}"
        notes.append(("pieces", words))
    return notes


def _is_that(line: Line, alignment: Alignment) -> bool:
    """Whether a line is the flattened alignment: names may be given twice, the ends tell."""
    ends = (
        np.array([alignment.elements[0].start, alignment.elements[-1].end]) if alignment.elements else np.empty((0, 2))
    )
    return len(ends) == 2 and bool(np.abs(line.xyz[[0, -1], :2] - ends).max() < 1e-3)


def _put_pieces(space: Any, line: Line, known: Any) -> None:
    """A line of which some vertices have no elevation: stretches with one in space, the others in plan."""
    xyz = np.vstack([line.xyz, line.xyz[:1]]) if line.closed else line.xyz
    known = np.append(known, known[0]) if line.closed else known
    with_level = known[:-1] & known[1:]
    ends = np.flatnonzero(np.diff(with_level.astype(np.int8))) + 1
    for stretch in np.split(np.arange(len(with_level)), ends):
        part = xyz[stretch[0] : stretch[-1] + 2]
        if not with_level[stretch[0]]:
            part = np.column_stack([part[:, :2], np.full(len(part), np.nan)])
        _put_line(space, Line(part, False, line.name, line.layer))


def _size(thing: Any) -> int:
    return len(thing.triangles) if isinstance(thing, TriangleMesh) else thing.count


def _put_points(space: Any, points: SurveyPoints, height: float, decimals: int | None) -> None:
    for xyz, name, code in zip(points.xyz, points.names, points.codes, strict=True):
        layer = layer_name(code or "POINTS")
        place = tuple(np.nan_to_num(xyz).tolist())
        space.add_point(place, dxfattribs={"layer": layer})
        text = name if decimals is None else f"{xyz[2]:.{decimals}f}" if np.isfinite(xyz[2]) else ""
        if text:
            put_text(space, text, place, height, layer)


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
