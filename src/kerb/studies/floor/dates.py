"""A floor at further dates: the same nodes, reference and lines, and what changed since the first."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import KerbError, NotDeterminable
from kerb.core.floor import flatness as f
from kerb.core.floor.slab import Rules, Slab, slab_of
from kerb.core.progress import Progress
from kerb.studies.floor.found import F_STEP, Found, foot_of, levels_at
from kerb.studies.floor.picture import mesh_of
from kerb.studies.layers import FoundMesh
from kerb.studies.outcome import Column, Note, Outcome, Table
from kerb.studies.sources import Sources, numbered


def put_dates(
    outcome: Outcome, found: Found, sources: Sources, level: Callable[[Floats], Floats], progress: Progress
) -> None:
    """Put the table of all dates into an outcome, and a map of the change to each further one. Raises Cancelled."""
    setup = found.setup
    if not setup.later:
        return
    rows = [_row(sources.source("cloud").name, found, found.slab, found.lines, level)]
    for number in range(len(setup.later)):
        progress.step(number / len(setup.later), "Reading further dates")
        name = numbered("later", number)
        source = sources.source(name)
        try:
            slab = _slab(found, sources, number, progress)
        except NotDeterminable as error:
            rows.append((source.name, source.epoch, *[None] * 9))
            outcome.warnings.append(Note("no-floor", f"{source.name}: {error}"))
            continue
        outcome.inputs.append(sources.input(name, "further date", len(slab.points), setup.later[number].words()))
        rows.append(_row(source.name, found, slab, _lines(found, slab), level, source.epoch))
        change = slab.z - found.slab.z
        if np.isfinite(change).any():
            vertices, triangles = mesh_of(replace(slab, z=np.where(np.isfinite(change), slab.z, np.nan)))
            outcome.layers[f"change {number + 1}"] = FoundMesh(
                vertices, triangles, "map", f"Change to {source.name}", found.unit.code, change[np.isfinite(change)], shown=False
            )  # fmt: skip
    first = sources.source("cloud").epoch
    rows[0] = (rows[0][0], first, *rows[0][2:])
    outcome.tables["dates"] = _table(found, rows)
    outcome.warnings.append(
        Note("dates", "changes between dates contain whatever one scan as a whole lies higher than the other")
    )


def _slab(found: Found, sources: Sources, number: int, progress: Progress) -> Slab:
    """The floor of a further date on the nodes of the first. Raises NotDeterminable; Cancelled."""
    setup, first = found.setup, found.slab
    scope = setup.later[number]
    points = replace(scope, within=()).of(sources.store(numbered("later", number))).points(progress)
    origin = first.corner[0] - 0.5 * first.spacing, first.corner[1] - 0.5 * first.spacing
    rules = Rules(first.spacing, first.radius, setup.take, setup.step, setup.band, setup.edge, origin)
    seed = setup.seed.xy[0] if setup.seed.xy else None
    try:
        made = slab_of(
            points, rules, setup.cloud.within, (float(seed[0]), float(seed[1])) if seed is not None else None
        )
    except KerbError as error:
        raise NotDeterminable(str(error)) from None
    z, count = np.full(first.z.shape, np.nan), np.zeros(first.z.shape, np.int64)
    column, row = (round((made.corner[k] - first.corner[k]) / first.spacing) for k in (0, 1))
    rows, columns = np.nonzero(made.known)
    tall, wide = first.z.shape
    there = (rows + row >= 0) & (rows + row < tall) & (columns + column >= 0) & (columns + column < wide)
    rows, columns = rows[there], columns[there]
    z[rows + row, columns + column] = made.z[rows, columns]
    count[rows + row, columns + column] = made.count[rows, columns]
    z[~first.known] = np.nan
    if not np.isfinite(z).any():
        raise NotDeterminable("no part of the floor is in both scans")
    return replace(made, z=z, corner=first.corner, count=count)


def _lines(found: Found, slab: Slab) -> list[f.LineReadings]:
    """The sample lines of the first date, read in another."""
    foot = foot_of(found.setup, slab, found.unit)
    levels = levels_at(slab, [line.places for line in found.lines], foot)
    made = [replace(line, h=h * found.unit.metres) for line, h in zip(found.lines, levels, strict=True)]
    return [line for line in made if np.isfinite(line.h).sum() > f.LEVEL_STEPS]


def _row(
    name: str, found: Found, slab: Slab, lines: list[f.LineReadings], level: Callable[[Floats], Floats], date: str = ""
) -> tuple[str | float | None, ...]:
    known = lambda value: float(value) if np.isfinite(value) else None  # noqa: E731
    d = slab.levels - level(slab.places)
    above, below = found.limits
    change = (slab.z - found.slab.z)[np.isfinite(slab.z) & found.slab.known]
    moved = (None, None, None) if slab is found.slab else (change.mean(), change.max(), change.min())
    fl = None if found.setup.tilted else known(f.levelness(lines).value)
    within = float(((d <= above) & (d >= -below)).mean())
    return (
        name, date, known(f.flatness(lines).value), fl, within, max(float(d.max()), 0.0), max(float(-d.min()), 0.0),
        *(None if value is None else float(value) for value in moved), float(slab.known.sum()) * slab.cell_area,
    )  # fmt: skip


def _table(found: Found, rows: list[tuple[str | float | None, ...]]) -> Table:
    code, fine = found.unit.code, found.fine
    length = lambda name, label: Column(name, code, label, resolution=fine)  # noqa: E731
    columns = (
        Column("name", "", "Scan"), Column("date", "", "Date"), Column("ff", "", "FF", resolution=F_STEP),
        Column("fl", "", "FL", resolution=F_STEP), Column("within", "share", "Within"), length("max_high", "Highest"),
        length("max_low", "Lowest"), length("mean_change", "Mean change"), length("rise", "Largest rise"),
        length("fall", "Largest fall"), Column("area", found.unit.area_code(), "Area in both"),
    )  # fmt: skip
    return Table("By date", columns, tuple(rows))
