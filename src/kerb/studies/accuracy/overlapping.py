"""Strips or files of the tested cloud against one another: table, levels, a map and a chart."""

from __future__ import annotations

import numpy as np

from kerb.core.accuracy.strips import StripLevel, Strips, Trend, strips
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.quantity import bound, fitting, labelled, number, quantity
from kerb.studies.accuracy.setup import AccuracySetup
from kerb.studies.layers import FoundMesh, Plot
from kerb.studies.outcome import Column, Note, Outcome, Table
from kerb.studies.sources import Sources

# Less than this along a strip matters to nobody: a tenth of a millimetre a metre.
LEAST_TREND = 1e-4
LEAST_CELL_M, CELL_SPACINGS = 1.0, 4.0
COLUMNS = ("point_source_id", "source_file")


def add_strips(outcome: Outcome, setup: AccuracySetup, sources: Sources, progress: Progress) -> None:
    """Put into an outcome how the strips of what is tested lie to one another.

    Raises InputError, when it does not say which strip or file its points are from; NotDeterminable; Cancelled.
    """
    source = sources.source("cloud")
    store, unit = source.store, sources.unit
    by = next((c for c in COLUMNS if store is not None and store.has(c) and len(store.present(c)) > 1), "")
    if store is None or not by:
        raise InputError(f"{source.name}: does not say which strip or file its points are from, or all are from one")
    among = np.zeros(store.count, np.bool_)
    view: CloudView = setup.cloud.of(store)
    among[view.all_rows()] = True
    cell = max(LEAST_CELL_M / unit.metres, CELL_SPACINGS * store.spacing)
    found = strips(store, by, cell, among, progress)
    files = dict(enumerate(store.meta.details.get("file_names", []))) if by == "source_file" else {}
    name = lambda code: str(files.get(code, f"{'file' if by == 'source_file' else 'strip'} {code}"))  # noqa: E731
    length = lambda key, label: Column(key, unit.code, label)  # noqa: E731
    outcome.tables["strips"] = Table(
        "Strips against one another",
        (Column("one", "", "Strip"), Column("other", "", "Against"), length("height", "Lies above it by"),
         length("spread", "Spread"), Column("cells", "", "Cells")),
        tuple((name(found.codes[o.one]), name(found.codes[o.other]), o.height, o.spread, o.cells) for o in found.pairs),
    )  # fmt: skip
    know = lambda v: None if not np.isfinite(v) else v  # noqa: E731
    outcome.tables["strip_levels"] = Table(
        "Level of each strip",
        (Column("strip", "", "Strip"), length("level", "Above the middle of all"), length("u95", "± 95 %"),
         Column("cells", "", "Cells"), Column("trend", "mm/m", "Rises along it"), Column("trend_u95", "mm/m", "± 95 %"),
         Column("towards", "deg", "Towards")),
        tuple(
            (name(one.code), know(one.level), know(one.u95), one.cells, *_trend(one, store.placement)) for one in found.levels
        ),
    )  # fmt: skip
    for one in found.levels:
        if one.trend is not None and one.trend.significant and abs(one.trend.slope) > LEAST_TREND:
            outcome.warnings.append(
                Note("strip-trend", f"{name(one.code)} {_rises(one.trend, store.placement)} against those beside it")
            )
    levels = np.array([one.level for one in found.levels])
    bounds = np.array([one.u95 for one in found.levels])
    off = np.where(np.isfinite(levels) & (np.abs(levels) > bounds), np.abs(levels), 0.0)
    words = "No strip differs significantly from the median of all strips"
    if off.any():
        worst = int(np.argmax(off))
        side = "above" if levels[worst] > 0 else "below"
        size = f"{quantity(float(off[worst]), unit.code)} {bound(float(bounds[worst]), unit.code)}"
        words = f"Largest strip offset: {name(found.codes[worst])} lies {size} {side} the median of all strips"
    outcome.warnings.append(Note("strips", words))
    outcome.charts.append(
        Plot("Level of each strip", "bars", np.arange(len(levels), dtype=float), np.nan_to_num(levels), "",
             labelled("above the middle of all", unit.code), tuple(name(code) for code in found.codes))
    )  # fmt: skip
    outcome.layers["strip differences"] = _map(found, unit.code, store.placement)
    outcome.method += (
        f" Strips are compared in cells of {cell:.3g} {unit.symbol}: the median over cells of the difference of their "
        "elevations at the same place, taken along the slope of the cell; the level of each fits all of these by least "
        "squares, with a median of 0. The trend of a strip is the line of least squares through the medians of pieces along "
        "it, of its difference to those beside it; of two strips alone it cannot be told which one is tilted."
    )


def _trend(one: StripLevel, placement: Rigid | None) -> tuple[float | None, float | None, float | None]:
    if one.trend is None:
        return None, None, None
    return 1000 * one.trend.slope, 1000 * one.trend.u95, round(_azimuth(one.trend, placement), 1)


def _azimuth(trend: Trend, placement: Rigid | None) -> float:
    """Where the strip leads now that its cloud is placed, in degrees clockwise from north."""
    angle = np.radians(trend.azimuth)
    way = np.array([np.sin(angle), np.cos(angle), 0.0])
    way = way if placement is None else placement.matrix @ way
    return float(np.degrees(np.arctan2(way[0], way[1])) % 360)


def _rises(trend: Trend, placement: Rigid | None) -> str:
    way = "rises" if trend.slope > 0 else "falls"
    places = fitting(1000 * trend.u95, 6)
    size = f"{number(abs(1000 * trend.slope), places)} ± {number(1000 * trend.u95, places)} mm/m"
    return f"{way} by {size} towards {_azimuth(trend, placement):.0f}°"


def _map(found: Strips, code: str, placement: Rigid | None) -> FoundMesh:
    """A square for each cell that several cover, coloured by the difference."""
    corner = np.array([[0, 0], [1, 0], [1, 1], [0, 1]]) * found.cell
    m = len(found.z)
    xy = (found.corners[:, None] + corner[None]).reshape(-1, 2)
    first = 4 * np.arange(m)[:, None]
    triangles = np.concatenate([first + [0, 1, 2], first + [0, 2, 3]]).astype(np.int32)
    vertices = np.column_stack([xy, np.repeat(found.z, 4)])
    vertices = vertices if placement is None else placement(vertices)
    title = "Differences of strips, the last minus the first"
    return FoundMesh(vertices, triangles, "top", title, code, np.repeat(found.differences, 4), shown=False)
