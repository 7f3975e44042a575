"""Figures, tables and notes of clearances."""

from __future__ import annotations

from typing import Any

import numpy as np

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.clearance.over import heights_over
from kerb.core.clearance.road import road_in
from kerb.core.errors import KerbError, NotDeterminable
from kerb.core.geometry.area import inside_any
from kerb.core.quantity import first_of, quantity
from kerb.core.section.stations import written
from kerb.studies.clearance.found import (
    ROAD_GAP_M,
    ROAD_NODES_M,
    Found,
    in_open_cells,
    lowest_within,
    near_place,
)
from kerb.studies.clearance.setup import SQUARE
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table
from kerb.studies.sources import Sources, numbered

MOST_NAMED, MOST_PLACES = 6, 20_000
PASS, FAIL, UNSURE = "met", "not met", "inconclusive"


def figures(found: Found) -> dict[str, Figure]:
    """Every figure."""
    unit, best = found.unit, found.best
    code, lowest = unit.code, float(found.height[best])
    place = found.points[best]
    made = {
        "lowest": Figure(lowest, code, "Lowest clearance", found.u95),
        "posted": Figure(found.posted(lowest), code, "Posted value"),
        "lowest_e": Figure(float(place[0]), code, "Easting of the lowest point"),
        "lowest_n": Figure(float(place[1]), code, "Northing of the lowest point"),
        "lowest_z": Figure(float(place[2]), code, "Elevation of the lowest point"),
        "nearest": Figure(found.nearest, code, "Shortest 3D distance"),
        "covered_area": Figure(float(found.open.sum()) * found.setup.cell**2, unit.area_code(), "Area evaluated"),
        "uncovered_area": Figure(found.uncovered, unit.area_code(), "Without road below"),
        "strays": Figure(float(len(found.lowest.strays)), "", "Isolated points excluded"),
    }
    way = found.passage
    over = float(way.over.min()) if way is not None else float("nan")
    room = float(way.remains.min()) if way is not None else float("nan")
    free = "no obstacle above the path" if way is not None else "no envelope"
    for name, label, value in (
        ("highest_load", "Maximum load height", over),
        ("remains", "Minimum clearance of the envelope", room),
    ):
        known = np.isfinite(value)
        made[name] = Figure(
            value if known else None, code, label, found.u95 if known else None, note="" if known else free
        )
    return made


def verdict(found: Found, lowest: float | None) -> str:
    """Whether a required clearance is there, its bound considered."""
    required = found.setup.required
    if required is None or lowest is None:
        return ""
    if lowest - found.u95 >= required:
        return PASS
    return UNSURE if lowest + found.u95 >= required else FAIL


def put_tables(outcome: Outcome, found: Found, sources: Sources) -> None:
    """Put the tables into an outcome."""
    open_ = in_open_cells(found)
    if found.lanes:
        outcome.tables["lanes"] = _lanes(outcome, found, open_)
        if found.beams.names:
            outcome.tables["matrix"] = _matrix(found, open_)
    elif found.beams.names:
        outcome.tables["beams"] = _beams(found)
    asked = _asked(found, sources)
    if asked:
        outcome.tables["points"] = _points(found, asked, open_)
    if found.wires:
        outcome.tables["wires"] = _wires(found)
    if found.passage is not None:
        outcome.tables["passage"] = _passage(found)
    if found.setup.later:
        outcome.tables["dates"] = _dates(outcome, found, sources)


def _lanes(outcome: Outcome, found: Found, open_: Mask) -> Table:
    code = found.unit.code
    rows: list[tuple[Any, ...]] = []
    outside = []
    for lane in found.lanes:
        row = lowest_within(found, np.flatnonzero(open_ & inside_any((lane,), found.points)))
        if row < 0:
            outside.append(lane.name)
            rows.append((lane.name, *[None] * 5, ""))
            continue
        lowest, place = float(found.height[row]), found.points[row]
        rows.append(
            (
                lane.name,
                lowest,
                float(place[0]),
                float(place[1]),
                found.u95,
                found.posted(lowest),
                verdict(found, lowest),
            )
        )
    if outside:
        names = first_of(outside, MOST_NAMED)
        outcome.warnings.append(Note("lane-outside", f"no structure above {names}: outside the scan, or free"))
    columns = (
        Column("name", "", "Lane"), Column("lowest", code, "Lowest", bound="u95"), Column("e", code, "Easting", minor=True),
        Column("n", code, "Northing", minor=True), Column("u95", code, "± 95 %"), Column("posted", code, "Posted value"),
        Column("verdict", "", "Required clearance"),
    )  # fmt: skip
    return Table("By lane", columns if found.setup.required is not None else columns[:-1],
                 tuple(row if found.setup.required is not None else row[:-1] for row in rows))  # fmt: skip


def _cell_numbers(found: Found) -> tuple[Ints, Any]:
    rows = found.rows_lowest
    return rows, _beam_of_points(found)[rows]


def _matrix(found: Found, open_: Mask) -> Table:
    """The lowest of each beam over each lane."""
    beam = _beam_of_points(found)
    rows = []
    for number, name in enumerate(found.beams.names, 1):
        own = open_ & (beam == number)
        cells: list[float | None] = []
        for lane in found.lanes:
            row = lowest_within(found, np.flatnonzero(own & inside_any((lane,), found.points)))
            cells.append(float(found.height[row]) if row >= 0 else None)
        rows.append((name, *cells))
    columns = (Column("beam", "", "Beam"), *(Column(f"lane_{n}", found.unit.code, lane.name)
                                             for n, lane in enumerate(found.lanes, 1)))  # fmt: skip
    return Table("Lowest by beam and lane", columns, tuple(rows))


def _beam_of_points(found: Found) -> Any:
    place = np.floor((found.points[:, :2] - found.low) / found.setup.cell).astype(np.int64)
    rows, columns = found.beams.number.shape
    inside = (place[:, 0] < columns) & (place[:, 1] < rows)
    out = np.zeros(len(place), np.int32)
    out[inside] = found.beams.number[place[inside, 1], place[inside, 0]]
    return out


def _beams(found: Found) -> Table:
    rows_lowest, number = _cell_numbers(found)
    rows, code = [], found.unit.code
    for beam, name in enumerate(found.beams.names, 1):
        own = rows_lowest[number == beam]
        row = own[np.argmin(found.height[own])]
        place = found.points[row]
        rows.append((name, float(found.height[row]), *map(float, place)))
    columns = (Column("beam", "", "Beam"), Column("lowest", code, "Lowest"), Column("e", code, "Easting"),
               Column("n", code, "Northing"), Column("z", code, "Elevation"))  # fmt: skip
    return Table("By beam", columns, tuple(rows))


def _asked(found: Found, sources: Sources) -> list[tuple[str, Floats]]:
    """Places at which clearances are asked for, with their names."""
    setup = found.setup
    pattern = setup.pattern or "P#"
    named = [(pattern.replace("#", str(n)) if "#" in pattern else f"{pattern}{n}", place)
             for n, place in enumerate(setup.picks.places, 1)]  # fmt: skip
    if setup.points:
        points = sources.points("points")
        named += [
            (name or f"P{n}", xyz[:2]) for n, (name, xyz) in enumerate(zip(points.names, points.xyz, strict=True), 1)
        ]
    return named[:MOST_PLACES]


def _points(found: Found, asked: list[tuple[str, Floats]], open_: Mask) -> Table:
    code, rows = found.unit.code, []
    for name, place in asked:
        row = lowest_within(found, near_place(found, place, open_))
        if row < 0:
            rows.append((name, float(place[0]), float(place[1]), *[None] * 3, ""))
            continue
        at, height = found.points[row], float(found.height[row])
        lanes = [lane.name for lane in found.lanes if lane.contains(at[None])[0]]
        rows.append(
            (
                name,
                float(at[0]),
                float(at[1]),
                float(at[2]),
                float(found.road.at(at[None, :2])[0]),
                height,
                ", ".join(lanes),
            )
        )
    columns = (Column("name", "", "Point"), Column("e", code, "Easting"), Column("n", code, "Northing"),
               Column("above_z", code, "Above"), Column("below_z", code, "Road"), Column("clearance", code, "Clearance"),
               Column("lane", "", "Lane"))  # fmt: skip
    return Table("Clearances at places", columns, tuple(rows))


def _wires(found: Found) -> Table:
    setup, code, rows = found.setup, found.unit.code, []
    ratio = 1.0 + setup.expansion * 1e-6 * setup.warmer
    known = lambda value: float(value) if np.isfinite(value) else None  # noqa: E731
    for number, wire in enumerate(found.wires, 1):
        place, over = wire.lowest(found.road.at)
        row: tuple[Any, ...] = (
            f"W{number}",
            wire.span[1] - wire.span[0],
            wire.sag,
            known(over),
            *map(float, place[:2]),
            wire.rms,
        )
        if setup.warmer > 0:
            hot = wire.longer(ratio)
            row += (hot.sag, known(hot.lowest(found.road.at)[1]))
        rows.append(row)
    columns = [Column("name", "", "Wire"), Column("span", code, "Span"), Column("sag", code, "Sag"),
               Column("clearance", code, "Lowest clearance"), Column("e", code, "Easting", minor=True),
               Column("n", code, "Northing", minor=True), Column("rms", code, "RMS off the catenary")]  # fmt: skip
    if setup.warmer > 0:
        columns += [Column("hot_sag", code, f"Sag, {setup.warmer:g} K warmer"),
                    Column("hot_clearance", code, f"Clearance, {setup.warmer:g} K warmer")]  # fmt: skip
    return Table("Wires", tuple(columns), tuple(rows))


def _passage(found: Found) -> Table:
    way, code = found.passage, found.unit.code
    assert way is not None
    known = lambda value: float(value) if np.isfinite(value) else None  # noqa: E731
    rows = tuple(
        (written(float(s), found.unit), *map(known, (over, left, right, remains)), *map(float, place[:2]))
        for s, over, left, right, remains, place in zip(
            way.stations, way.over, way.left, way.right, way.remains, way.places, strict=True
        )
    )
    columns = (Column("station", "", "Station"), Column("over", code, "Height above the floor"), Column("left", code, "Left"),
               Column("right", code, "Right"), Column("remains", code, "Clearance of the envelope"),
               Column("e", code, "Easting", minor=True), Column("n", code, "Northing", minor=True))  # fmt: skip
    return Table("Along the path", columns, rows, printed=0)


def _dates(outcome: Outcome, found: Found, sources: Sources) -> Table:
    """The lowest clearance over the road at further dates."""
    metre = 1.0 / found.unit.metres
    rows: list[tuple[Any, ...]] = []
    first = float(found.height[found.best])
    rows.append(("first", sources.source("below" if found.setup.below.holding else "above").epoch, first, None))
    over = found.points[found.rows_lowest]
    for number, scope in enumerate(found.setup.later):
        name = numbered("later", number)
        source = sources.source(name)
        try:
            points = scope.of(sources.store(name)).points()
            if len(points) < 3:
                raise NotDeterminable("has too few points")
            road, _ = road_in(
                points, max(ROAD_NODES_M * metre, 2 * sources.store(name).spacing), ROAD_GAP_M * metre, metre
            )
            height = heights_over(over, road, found.setup.measure == SQUARE)
            if not np.isfinite(height).any():
                raise NotDeterminable("does not lie under what hangs there")
            lowest = float(np.nanmin(height))
            rows.append((source.name, source.epoch, lowest, lowest - first))
        except KerbError as error:
            outcome.warnings.append(Note("no-road", f"{source.name}: {error}"))
            rows.append((source.name, source.epoch, None, None))
    code = found.unit.code
    columns = (Column("name", "", "Road of"), Column("date", "", "Date"), Column("lowest", code, "Lowest"),
               Column("change", code, "Change"))  # fmt: skip
    return Table("By date", columns, tuple(rows))


def put_notes(outcome: Outcome, found: Found) -> None:
    """Say what must be known of the figures."""
    setup, unit = found.setup, found.unit
    lowest, code = float(found.height[found.best]), unit.code
    if setup.required is not None:
        told = verdict(found, lowest)
        asked = quantity(setup.required, code)
        shown = quantity(lowest, code, u95=found.u95)
        bound = quantity(found.u95, code, u95=found.u95)
        text = f"required clearance {asked}: {told}; lowest clearance {shown} ± {bound}"
        if told == PASS:
            outcome.warnings.append(Note("required", text))
        else:
            outcome.doubt("required", f"Required clearance {asked}: {told}", text)
    if len(found.lowest.strays):
        many = len(found.lowest.strays)
        near = quantity(found.near, code)
        outcome.warnings.append(
            Note(
                "strays",
                f"{many} isolated point{'s' if many > 1 else ''} excluded (fewer than two neighbours within {near})",
            )
        )
    if len(found.stands):
        outcome.warnings.append(
            Note(
                "standing",
                f"{len(found.stands)} points of objects on the road up to 4.7 m high excluded",
            )
        )
    shut = int((~found.open).sum())
    if shut:
        area = quantity(shut * setup.cell**2, unit.area_code())
        outcome.warnings.append(Note("supports", f"{area} occupied by supports excluded"))
    if found.uncovered > 0:
        area = quantity(found.uncovered, unit.area_code())
        outcome.warnings.append(Note("uncovered", f"{area} of the structure have no road below"))
    place = found.points[found.best]
    filled = found.road.filled
    if filled.any():
        column, row = np.round((place[:2] - np.asarray(found.road.corner)) / found.road.spacing).astype(int)
        if 0 <= row < filled.shape[0] and 0 <= column < filled.shape[1] and filled[row, column]:
            outcome.warnings.append(
                Note(
                    "road-hidden",
                    "the road below the lowest point was not scanned; its level is interpolated",
                )
            )
    if setup.registration_error == 0 and setup.below.holding and len(found.below):
        outcome.warnings.append(
            Note(
                "registration",
                "the bound excludes the registration error between both scans; enter it as Registration error",
            )
        )
    if found.passage is not None:
        touched = found.passage.remains < 0
        if touched.any():
            first = written(float(found.passage.stations[np.argmin(found.passage.remains)]), unit)
            outcome.doubt(
                "touched", "Obstacles inside the envelope",
                f"obstacles inside the envelope at {int(touched.sum())} of {len(touched)} stations, deepest at {first}",
            )  # fmt: skip
