"""Figures of the points inside areas, kept as fields of the areas: the latest, and beside them those of each epoch."""

from __future__ import annotations

import re
import uuid
from dataclasses import replace
from typing import Any

import shapely

from kerb.core.cloud.statistics import changes, dated
from kerb.core.errors import InputError
from kerb.core.geometry.features import LineSet
from kerb.core.things import LINES
from kerb.job import vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState


def shapes_of(job: Job, holding: Holding) -> tuple[list[str], list[Any]]:
    """Names and polygons (shapely, with holes) of the areas of a holding.

    Raises InputError, when it has none or one of them crosses itself; JobError.
    """
    thing = job.thing(holding).thing
    areas = thing.areas() if isinstance(thing, LineSet) else []
    if not areas or not isinstance(thing, LineSet):
        raise InputError(f"{holding.name}: has no areas")
    names, shapes = [], []
    for number, (outline, *holes) in enumerate(areas, 1):
        line = thing.lines[outline]
        shape = shapely.Polygon(line.xyz[:, :2], [thing.lines[hole].xyz[:, :2] for hole in holes])
        name = line.name or f"{line.layer or holding.name} {number}"
        if not shape.is_valid:
            raise InputError(f"{holding.name}: area '{name}' {shapely.is_valid_reason(shape).lower()}")
        names.append(name)
        shapes.append(shape)
    return names, shapes


def with_fields(job: Job, holding: Holding, cloud: Holding, values: dict[str, list[Any]]) -> Change:
    """Keep figures, by name one for each area, as fields; with the cloud's epoch in their name they stay for good.

    The areas get data of their own, so that undo brings the earlier fields back. Raises InputError; JobError.
    """
    item = job.thing(holding)
    thing = item.thing
    assert isinstance(thing, LineSet)
    epoch = re.sub(r"[^\w-]+", "-", cloud.epoch).strip("-")
    added = values | dated(values, epoch)
    fields = dict(thing.fields)
    rows = [outline for outline, *_ in thing.areas()]
    before = {name: [column[row] for row in rows] for name, column in fields.items()}
    added |= changes(before | added, values, epoch)
    for name, column in added.items():
        whole: list[Any] = [None] * len(thing.lines)
        for (outline, *holes), value in zip(thing.areas(), column, strict=True):
            for line in (outline, *holes):
                whole[line] = value
        fields[name] = tuple(whole)
    data = f"data/{uuid.uuid4().hex[:10]}"
    vault.save_thing(job.folder / data, replace(item, thing=replace(thing, fields=fields)))
    after = replace(holding, data=data, style={"field": "mean", **holding.style})
    words = f"Statistics of {cloud.name} in the areas of {holding.name}"
    words += f", epoch {cloud.epoch}" if cloud.epoch else ""

    def apply(state: JobState) -> JobState:
        return state.with_holding(after)

    return Change(words, apply, {"fields": list(added)})


def area_layers(state: JobState) -> tuple[Holding, ...]:
    """Holdings that may have areas."""
    return state.of_kind(LINES)
