"""What clearances draw: the map on the underside, lowest places, beams, wires, strays, the path, and a section at the lowest
place."""

from __future__ import annotations

import numpy as np

from kerb.core.quantity import labelled
from kerb.studies.clearance.found import Found
from kerb.studies.layers import FoundLabels, FoundLine, FoundMesh, FoundPoints, Plot, Profile, flakes, histogram
from kerb.studies.outcome import Outcome

MOST_MARKED, SECTION_HALF_M, MOST_LABELLED = 20_000, 10.0, 40
# A map begins at the lowest and reaches to where so many percent of cells lie.
REACH = 90


def draw(outcome: Outcome, found: Found) -> None:
    """Put layers and charts into an outcome."""
    unit, rows = found.unit, found.rows_lowest
    height, places = found.height[rows], found.points[rows]
    map_ = flakes(places, height, found.setup.cell / 2, "Clearance", unit.code)
    low, high = float(height.min()), max(float(np.percentile(height, REACH)), float(height.min()) + 1e-3)
    required = found.setup.required
    outcome.layers["map"] = FoundMesh(
        map_.vertices, map_.triangles, "map", "Clearance", unit.code, map_.values, limits=(low, high), ramp="Clay",
        bands=(required,) if required is not None and low < required < high else (),
    )  # fmt: skip
    for number, lane in enumerate(found.lanes):
        level = float(found.road.at(lane.outline.mean(axis=0)[None])[0])
        ring = np.column_stack(
            [lane.outline, np.full(len(lane.outline), level if np.isfinite(level) else float(places[:, 2].min()))]
        )
        outcome.layers[f"lane {number}"] = FoundLine(ring, "base", "Lanes", closed=True)
    _labels(outcome, found)
    for number, wire in enumerate(found.wires, 1):
        outcome.layers[f"wire {number}"] = FoundLine(wire.places(120), "edge", "Wires")
    for name, xyz, title, shown in (
        ("strays", found.points[found.lowest.strays], "Isolated points", True),
        ("standing", found.stands, "Objects on the road", False),
        ("off road", found.off_road, "Without road below", False),
    ):
        if len(xyz):
            outcome.layers[name] = FoundPoints(xyz[:: max(1, len(xyz) // MOST_MARKED)], "gap", title, shown=shown)
    if found.passage is not None:
        outcome.layers["path"] = FoundLine(found.passage.places, "mark", "Path")
        deepest = found.passage.places[[int(np.argmin(found.passage.remains))]]
        outcome.layers["tightest"] = FoundPoints(deepest, "gap", "Tightest place")
        known = np.isfinite(found.passage.over)
        outcome.charts.append(
            Plot("Over the path", "curve", found.passage.stations[known], found.passage.over[known],
                 labelled("station", unit.code), labelled("height over the floor", unit.code))
        )  # fmt: skip
    outcome.charts.insert(0, _section(found))
    outcome.charts.append(histogram("Clearances", height, labelled("clearance", unit.code), "cells"))


def _labels(outcome: Outcome, found: Found) -> None:
    """The lowest of all, of each lane, and of each place asked for."""
    place, value = found.points[found.best], float(found.height[found.best])
    rows = [("Lowest", place, value)]
    for name in ("lanes", "points"):
        table = outcome.tables.get(name)
        for row in table.rows[:MOST_LABELLED] if table is not None else ():
            cells = dict(zip([column.name for column in table.columns], row, strict=True)) if table is not None else {}
            height = cells.get("lowest", cells.get("clearance"))
            if height is not None:
                level = float(cells.get("above_z") or place[2])
                rows.append((str(cells["name"]), np.array([cells["e"], cells["n"], level]), float(height)))
    outcome.layers["lowest"] = FoundLabels(
        np.array([row[1] for row in rows]), tuple(row[0] for row in rows), title="Lowest clearances",
        values=tuple(row[2] for row in rows), bounds=(found.u95,) * len(rows), unit=found.unit.code,
    )  # fmt: skip


def _section(found: Found) -> Profile:
    """Underside and road across the lowest place, square to the path where there is one, else from west to east."""
    place = found.points[found.best]
    way = np.array([1.0, 0.0])
    if found.passage is not None:
        nearest = int(np.argmin(np.hypot(*(found.passage.places[:, :2] - place[:2]).T)))
        ahead = found.passage.ways[nearest]
        way = np.array([ahead[1], -ahead[0]])
    half, cell = SECTION_HALF_M / found.unit.metres, found.setup.cell
    distance = np.arange(-half, half + cell / 2, cell)
    rows = found.rows_lowest
    local = found.points[rows, :2] - place[:2]
    along, aside = local @ way, np.abs(local @ np.array([-way[1], way[0]]))
    under = np.full(len(distance), np.nan)
    slot = np.round((along + half) / cell).astype(int)
    good = (aside <= cell) & (slot >= 0) & (slot < len(distance))
    for k, z in zip(slot[good], found.points[rows[good], 2], strict=True):
        under[k] = z if np.isnan(under[k]) else min(under[k], z)
    xy = place[:2] + distance[:, None] * way
    return Profile(
        "Across the lowest place", np.array([xy[0], xy[-1]]), distance + half,
        (("Underside", "top", under), ("Road", "base", found.road.at(xy))),
    )  # fmt: skip
