"""What a floor draws: the map with its bands, sample lines, worst places, water and the profiles of lines."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Ints32
from kerb.core.floor import flatness as f
from kerb.core.floor.slab import Slab
from kerb.core.floor.water import flow_lines
from kerb.core.quantity import labelled
from kerb.studies.floor.found import Found
from kerb.studies.floor.setup import ELEVATION, NONE
from kerb.studies.layers import FoundLabels, FoundLine, FoundMesh, FoundPoints, Profile, histogram
from kerb.studies.outcome import Outcome
from kerb.studies.sources import Sources

MOST_PROFILES, MOST_LABELLED, MOST_WET = 6, 12, 20_000
LABELS_A_SIDE = 25


def draw(outcome: Outcome, found: Found, sources: Sources) -> None:
    """Put the layers and charts of a floor into its outcome."""
    setup, slab, lines, gaps = found.setup, found.slab, found.lines, found.gaps
    water, unit = found.water, found.unit
    vertices, triangles = mesh_of(slab)
    above, below = found.limits
    reach = 3 * max(above, below)
    outcome.layers["map"] = FoundMesh(
        vertices, triangles, "map", "Deviation", unit.code, found.d, limits=(-reach, reach),
        bands=(-2 * below, -below, above, 2 * above),
    )  # fmt: skip
    top = float(slab.levels.max())
    for line in lines:
        ends = line.places[[0, -1]]
        outcome.layers[f"line {line.name}"] = FoundLine(
            np.column_stack([ends, np.full(2, top)]), "mark", "Sample lines"
        )
    regions = outcome.tables["areas"].rows[:MOST_LABELLED]
    if regions:
        places = np.array([[row[2], row[3], top] for row in regions], float)
        names, values = tuple(f"{row[0]}" for row in regions), tuple(float(row[4]) for row in regions)
        outcome.layers["worst"] = FoundLabels(
            places,
            names,
            title="Worst places",
            values=values,
            bounds=(None,) * len(regions),
            unit=unit.code,
            resolution=found.fine,
        )
    if np.isfinite(gaps.largest):
        row, column = gaps.worst.tolist()
        at = [slab.corner[0] + column * slab.spacing, slab.corner[1] + row * slab.spacing, float(slab.z[row, column])]
        outcome.layers["gap"] = FoundPoints(np.array([at]), "gap", "Largest gap under the straightedge")
    _labels(outcome, found)
    if setup.plan:
        for number, drawn in enumerate(sources.lines("plan").lines):
            outcome.layers[f"plan {number}"] = FoundLine(_on_top(drawn.xyz[:, :2], top), "base", "Plan", drawn.closed)
    for number, places in enumerate(flow_lines(water, slab.z, slab.corner, slab.spacing)):
        outcome.layers[f"flow {number}"] = FoundLine(_on_top(places, top), "base", "Flow lines", shown=False)
    wet = water.depth > found.setup.puddle
    if wet.any():
        rows_, columns_ = np.nonzero(wet)
        xyz = np.column_stack([columns_ * slab.spacing + slab.corner[0], rows_ * slab.spacing + slab.corner[1],
                               slab.z[wet] + water.depth[wet]])  # fmt: skip
        outcome.layers["water"] = FoundPoints(
            xyz[:: max(1, len(xyz) // MOST_WET)], "base", "Standing water", shown=False
        )
    outcome.charts = [histogram("Deviations", found.d, labelled("deviation", unit.code), "nodes")]
    for line in lines[:MOST_PROFILES]:
        distance = np.arange(len(line.h)) * f.STEP / unit.metres
        h = line.h / unit.metres
        mean = np.where(np.isfinite(h), float(np.nanmean(h)), np.nan)
        traces = ((line.name, "top", h), ("Mean of the line", "base", mean))
        outcome.charts.append(
            Profile(f"Line {line.name}", line.places[[0, -1]], np.asarray(distance, np.float64), traces)
        )


def mesh_of(slab: Slab) -> tuple[Floats, Ints32]:
    """Vertices of the nodes, and triangles between each four known neighbours."""
    number = np.full(slab.z.shape, -1, np.int64)
    number[slab.known] = np.arange(int(slab.known.sum()))
    a, b, c, d = (number[:-1, :-1].ravel(), number[:-1, 1:].ravel(), number[1:, 1:].ravel(), number[1:, :-1].ravel())
    whole = (a >= 0) & (b >= 0) & (c >= 0) & (d >= 0)
    triangles = np.concatenate([np.column_stack([a, b, c])[whole], np.column_stack([a, c, d])[whole]]).astype(np.int32)
    vertices = np.column_stack([slab.places, slab.levels])
    return vertices, triangles


def _on_top(xy: Floats, top: float) -> Floats:
    return np.column_stack([xy, np.full(len(xy), top)])


def label_step(found: Found) -> int:
    """So many nodes lie between labels."""
    slab, wanted = found.slab, found.setup.label_every
    if wanted is None:
        wanted = float(np.ptp(slab.places, axis=0).max()) / LABELS_A_SIDE
    return max(1, round(wanted / slab.spacing))


def _labels(outcome: Outcome, found: Found) -> None:
    """Deviations or levels at every so many nodes."""
    setup, slab = found.setup, found.slab
    if setup.labels == NONE:
        return
    every = label_step(found)
    rows, columns = np.nonzero(slab.known)
    some = (rows % every == 0) & (columns % every == 0)
    level = setup.labels == ELEVATION
    values, title = (slab.levels if level else found.d)[some], "Levels" if level else "Deviations"
    outcome.layers["labels"] = FoundLabels(
        np.column_stack([slab.places[some], slab.levels[some]]), ("",) * int(some.sum()), title=title,
        values=tuple(values.tolist()), bounds=(None,) * int(some.sum()), unit=found.unit.code, bare=True, signed=not level,
        resolution=found.fine, shown=False,
    )  # fmt: skip
