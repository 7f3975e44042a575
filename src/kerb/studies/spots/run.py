"""Spot levels on a grid, named by a pattern, and the same nodes on the next epoch."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.area import Area
from kerb.core.geometry.features import SurveyPoints
from kerb.core.progress import Progress
from kerb.core.quantity import count, labelled
from kerb.core.surface.spots import TIN, SpotGrid, spot_levels
from kerb.core.surface.surfaces import CloudTop
from kerb.core.things import POINTS, Placed
from kerb.studies.fields import COUNTED
from kerb.studies.layers import FoundLabels, FoundLine, FoundPoints, histogram
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources
from kerb.studies.spots.setup import SpotsSetup

STUDY = "spots"
# Labels beyond so many would cover one another in any view.
MOST_LABELS = 4000
MOST_DRAWN = 200_000


def run(setup: SpotsSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'how high is it at each node?'. Raises InputError, NotDeterminable; Cancelled."""
    setup.check()
    store, unit = sources.store("cloud"), sources.unit
    top = _top(setup, sources, "cloud", setup.cloud)
    grid, areas = grid_of(setup), areas_of(setup)
    low, high = store.bounds
    nodes, place = grid.nodes(low, high, areas)
    if len(place) and not setup.origin.strip():
        # Of a grid on round coordinates rows and columns are counted where it begins, not from where coordinates do.
        place = place - place.min(axis=0) + 1
    radius = setup.radius if setup.radius is not None else setup.spacing / 2
    z = spot_levels(top, nodes, setup.take, radius, progress.within(0.0, 0.6))
    known = np.isfinite(z)
    later = None
    if setup.later.holding:
        later = spot_levels(
            _top(setup, sources, "later", setup.later), nodes[known], setup.take, radius, progress.within(0.6, 0.95)
        )
    points = named(setup, nodes[known], z[known])
    outcome = Outcome(STUDY, unit.code, store.reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("cloud", "cloud", detail=setup.cloud.words(store))]
    if later is not None:
        outcome.inputs.append(sources.input("later", "next epoch"))
    length = unit.code
    levels = z[known]
    change = (later - levels) if later is not None else np.empty(0)
    both = change[np.isfinite(change)]
    value = lambda numbers, take: float(take(numbers)) if len(numbers) else None  # noqa: E731
    outcome.figures = {
        "count": Figure(float(known.sum()), "", "Nodes with a level"),
        "empty": Figure(float((~known).sum()), "", "Nodes without points"),
        "lowest": Figure(value(levels, np.min), length, "Lowest"),
        "highest": Figure(value(levels, np.max), length, "Highest"),
        "mean": Figure(value(levels, np.mean), length, "Mean"),
        "mean_change": Figure(value(both, np.mean), length, "Mean change", note="next minus this"),
    }
    columns = [Column("name", "", "Name"), Column("e", length, "Easting"), Column("n", length, "Northing"),
               Column("z", length, "Level"),
               Column("code", "", "Code"), Column("row", "", "Row", minor=True),
               Column("column", "", "Column", minor=True)]  # fmt: skip
    cells: list[Any] = [points.names, *points.xyz.T.tolist(), points.codes, *place[known].astype(int).T.tolist()]
    if later is not None:
        columns += [Column("later_z", length, "Next level"), Column("change", length, "Change")]
        blank = lambda numbers: [v if np.isfinite(v) else None for v in numbers.tolist()]  # noqa: E731
        cells += [blank(later), blank(change)]
    outcome.tables["points"] = Table("Spot levels", tuple(columns), tuple(zip(*cells, strict=True)))
    if not known.any():
        outcome.warnings.append(
            Note("no-levels", "no node has points: the grid lies beside the cloud, or the radius is too small")
        )
    _draw(outcome, setup, points, change if later is not None else None)
    taken = (
        "on the triangles of the points"
        if setup.take == TIN
        else f"{setup.take} of the points within {radius:g} {unit.symbol}"
    )
    outcome.method = (
        f"Nodes every {setup.spacing:g} {unit.symbol}, turned by {setup.rotation:g}°; the level is taken {taken}."
    )
    if setup.keep:
        outcome.makes = [
            Made(f"Spot levels of {sources.source('cloud').name}", Placed(POINTS, points, store.reference))
        ]
    return outcome


def _top(setup: SpotsSetup, sources: Sources, name: str, scope: Scope) -> CloudTop:
    """The points of a cloud that levels are read from: an area says where nodes lie, not which points count."""
    found = sources.surface(name, replace(scope, within=()), setup.strays == COUNTED)
    assert isinstance(found, CloudTop)
    return found


def areas_of(setup: SpotsSetup) -> tuple[Area, ...]:
    """Where nodes lie: the drawn ring, else the areas that narrow the cloud."""
    if setup.area:
        return (Area((setup.area.xy, *setup.area.holes), "area"),)
    return setup.cloud.within


def grid_of(setup: SpotsSetup) -> SpotGrid:
    """The grid of a setup. Raises InputError, when the origin is no place."""
    origin = (0.0, 0.0)
    if setup.origin.strip():
        words = [w for w in re.split(r"[,;\s]+", setup.origin.strip()) if w]
        try:
            east, north = (float(word) for word in words)
        except ValueError:
            raise InputError(f"origin '{setup.origin}' is no place; say easting,northing") from None
        if not np.isfinite([east, north]).all():
            raise InputError(f"origin '{setup.origin}' is no place; say easting,northing")
        origin = (east, north)
    return SpotGrid(setup.spacing, origin, setup.rotation)


def named(setup: SpotsSetup, xy: Floats, z: Floats) -> SurveyPoints:
    """Nodes as points with names that run on from the first one."""
    first = setup.first_name.strip() or "1"
    found = re.fullmatch(r"(.*?)(\d+)(\D*)", first)
    stem, start, tail = found.groups() if found else (first, "1", "")
    names = tuple(f"{stem}{int(start) + k:0{len(start)}d}{tail}" for k in range(len(xy)))
    return SurveyPoints(np.column_stack([xy, z]), names, (setup.code.strip(),) * len(xy))


def _draw(outcome: Outcome, setup: SpotsSetup, points: SurveyPoints, change: Floats | None) -> None:
    unit = outcome.unit
    some = slice(0, MOST_DRAWN)
    title = "Spot levels" if change is None else "Change at nodes, next minus this"
    outcome.layers["nodes"] = FoundPoints(
        points.xyz[some], "mark", title, unit, None if change is None else change[some]
    )
    if points.count <= MOST_LABELS:
        shown = points.xyz[:, 2] if change is None else change
        told = tuple(float(v) if np.isfinite(v) else None for v in shown)
        outcome.layers["levels"] = FoundLabels(
            points.xyz, ("",) * len(told), title="Levels" if change is None else "Changes", values=told, unit=unit,
            bare=True, signed=change is not None,
        )  # fmt: skip
    else:
        outcome.warnings.append(
            Note("no-labels", f"{count(points.count)} nodes are too many to be labelled in a view; files get all")
        )
    if setup.area and points.count:
        ring = np.column_stack([setup.area.places, np.full(len(setup.area.xy), points.xyz[:, 2].mean())])
        outcome.layers["area"] = FoundLine(ring, "edge", "Area", closed=True)
    known = change[np.isfinite(change)] if change is not None else points.xyz[:, 2]
    x_title = labelled("level" if change is None else "change", unit)
    if len(known):
        outcome.charts = [histogram("Levels" if change is None else "Changes", known, x_title, "nodes")]
