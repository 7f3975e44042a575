"""Write sections: in place as 3D lines, laid out flat in rows, as cross-sections of an alignment, or as a table."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import OutputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.geometry.features import Line, LineSet, SurveyPoints
from kerb.core.quantity import round_number, symbol
from kerb.core.reference import ReferenceSystem
from kerb.core.section.drawing import SectionDrawing
from kerb.formats.dxf_write import Text, Texts, define, layer_name, put_text, write_dxf
from kerb.formats.written import placed_when_complete

ENDINGS = (".dxf", ".gpkg", ".shp", ".geojson", ".xml", ".csv")
# Frames of the flat layout: room between them as shares of their size, and about this many levels in each.
BETWEEN, LEVELS, A_ROW = 0.25, 5, 4
# So many letters high is a section wide.
LETTERS = 60


@dataclass(frozen=True)
class Series:
    """Sections along an alignment."""

    sections: list[SectionDrawing]
    alignment: Alignment
    reference: ReferenceSystem


def write_sections(series: Series, path: Path) -> list[tuple[str, str]]:
    """Write sections by the ending; notes as (code, text).

    Raises OutputError, when there is nothing to write, the ending is unknown or the folder cannot be written.
    """
    suffix = path.suffix.lower()
    if suffix not in ENDINGS:
        raise OutputError(f"{path}: sections are written as {', '.join(ENDINGS)}")
    if not any(one.runs() or one.shots for one in series.sections):
        raise OutputError(f"{path}: the sections are empty")
    if suffix == ".csv":
        return _csv(series, path)
    if suffix == ".xml":
        from kerb.formats.landxml_write import LandXmlContent, write_landxml

        content = LandXmlContent(crosses=(series.alignment, series.sections))
        write_landxml(path, content, series.reference)
        return _left_out(_in_place(series)[0])
    points, lines = _in_place(series)
    if suffix == ".dxf":
        return write_dxf(path, series.reference.unit, points, lines, texts=_names(series))
    from kerb.formats.vector import write_features

    notes = write_features(path, points if suffix == ".gpkg" else None, lines, series.reference)
    return [*notes, *(_left_out(points) if suffix != ".gpkg" else [])]


def _left_out(points: SurveyPoints | None) -> list[tuple[str, str]]:
    if points is None:
        return []
    return [
        (
            "no-points",
            f"{points.count} survey points in the sections are not in this file; .gpkg, .dxf and .csv hold them",
        )
    ]


def _names(series: Series) -> Texts:
    """The station and the name of each line, where it begins."""
    more = []
    for one in series.sections:
        for title, run in one.runs():
            place = one.job(run[:1, 0], run[:1, 1])[0]
            more.append(
                Text((float(place[0]), float(place[1]), float(place[2])), f"{one.name} {title}", 0.0, "section names")
            )
    width = max((one.frame.width for one in series.sections), default=1.0)
    return Texts(tuple(more), width / LETTERS)


def _in_place(series: Series) -> tuple[SurveyPoints | None, LineSet]:
    """Lines and shots where they lie; a shot is not moved into the plane."""
    lines, columns = [], {"station": [], "title": []}  # type: ignore[var-annotated]
    places, names, codes = [], [], []
    for one in series.sections:
        for title, run in one.runs():
            lines.append(Line(one.job(run[:, 0], run[:, 1]), False, f"{one.name} {title}", title))
            columns["station"].append(one.frame.station)
            columns["title"].append(title)
        for name, offset, z, away in one.shots:
            place = one.job(np.array([offset]), np.array([z]))[0]
            place[:2] += away * one.frame.ahead
            places.append(place)
            names.append(name)
            codes.append(f"section {one.name}")
    points = SurveyPoints(np.array(places), tuple(names), tuple(codes)) if places else None
    return points, LineSet(tuple(lines), (), {key: tuple(values) for key, values in columns.items()})


def _csv(series: Series, path: Path) -> list[tuple[str, str]]:
    unit = series.reference.unit.code
    with placed_when_complete(path) as partial, open(partial, "w", encoding="utf-8", newline="") as stream:
        out = csv.writer(stream, lineterminator="\n")
        out.writerow(
            [f"station ({unit})", f"offset ({unit})", f"elevation ({unit})", "code", "name", f"from plane ({unit})"]
        )
        for one in series.sections:
            station = f"{one.frame.station:.4f}"
            for title, line in one.lines:
                for offset, z in line[np.isfinite(line[:, 1])].tolist() if len(line) else ():
                    out.writerow([station, f"{offset:.4f}", f"{z:.4f}", title, "", ""])
            for name, offset, z, away in one.shots:
                out.writerow([station, f"{offset:.4f}", f"{z:.4f}", "shot", name, f"{away:.4f}"])
    return []


def write_flat(series: Series, path: Path) -> list[tuple[str, str]]:
    """Write a DXF with the sections side by side in rows, each in a frame with levels, offsets and its station.

    One unit of the drawing is one of the job. Raises OutputError.
    """
    from ezdxf import filemanagement

    from kerb.formats.dxf_read import UNITS

    drawn = [one for one in series.sections if one.runs() or one.shots]
    if not drawn:
        raise OutputError(f"{path}: the sections are empty")
    if path.suffix.lower() != ".dxf":
        raise OutputError(f"{path}: sections are laid out flat in a .dxf")
    unit = series.reference.unit
    document = filemanagement.new("R2013")
    document.header["$INSUNITS"] = {code: number for number, code in UNITS.items()}.get(unit.code, 0)
    space = document.layout("Model")
    width = max(one.frame.width for one in drawn)
    spans = [_span(one) for one in drawn]
    step = round_number(max(high - low for low, high in spans) / LEVELS)
    high = max(np.ceil(b / step) - np.floor(a / step) for a, b in spans) * step
    corners: list[tuple[float, float]] = []
    for number, (one, (low, _)) in enumerate(zip(drawn, spans, strict=True)):
        x = (number % A_ROW) * width * (1 + BETWEEN) + width / 2
        y = -(number // A_ROW) * (high + width * BETWEEN)
        corners += [(x - width / 2, y), (x + width / 2, y + float(high))]
        _flat_one(space, one, (x, y), (float(np.floor(low / step) * step), float(high), step), symbol(unit.code))
    define(document, [np.array(corners)])
    with placed_when_complete(path) as partial:
        document.saveas(partial)
    return []


def _span(one: SectionDrawing) -> tuple[float, float]:
    z = np.concatenate([*(run[:, 1] for _, run in one.runs()), [shot[2] for shot in one.shots]])
    return float(z.min()), max(float(z.max()), float(z.min()) + 1e-3)


def _flat_one(
    space: Any, one: SectionDrawing, place: tuple[float, float], levels: tuple[float, float, float], unit: str
) -> None:
    x, y = place
    base, high, step = levels
    half, letters = one.frame.width / 2, one.frame.width / LETTERS
    frame = {"layer": "FRAME"}
    space.add_lwpolyline(
        [(x - half, y), (x + half, y), (x + half, y + high), (x - half, y + high)], close=True, dxfattribs=frame
    )
    space.add_line((x, y), (x, y + high), dxfattribs={"layer": "AXIS"})
    for level in np.arange(0.0, high + step / 2, step):
        space.add_line((x - half, y + level), (x + half, y + level), dxfattribs={"layer": "LEVELS"})
        put_text(space, f"{base + level:.2f}", (x - half - 6 * letters, y + level), letters, "FRAME")
    for offset in (-half, 0.0, half):
        put_text(space, f"{offset:g}", (x + offset, y - 2 * letters), letters, "FRAME")
    title = f"Station {one.name} ({unit})"
    put_text(space, title, (x - half, y + high + letters), 1.5 * letters, "FRAME")
    for name, run in one.runs():
        places = np.column_stack([x + run[:, 0], y + run[:, 1] - base]).tolist()
        space.add_lwpolyline(places, dxfattribs={"layer": layer_name(name or "LINE")})
    for name, offset, z, _ in one.shots:
        at = (x + offset, y + z - base)
        space.add_point(at, dxfattribs={"layer": "SHOTS"})
        put_text(space, name, at, letters, "SHOTS")
