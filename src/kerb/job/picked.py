"""Points that are picked in the data: a list that grows by one point a step, each of which undo takes back."""

from __future__ import annotations

import re
import uuid
from dataclasses import replace
from datetime import date

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.features import SurveyPoints
from kerb.core.things import POINTS, Placed
from kerb.job import vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding, free_name

ORIGIN, PICKED = "origin", "picked"
LIST = "Picked points"


def next_name(name: str) -> str:
    """The name that follows: the last number in it goes on by one, its digits kept (``K-09`` → ``K-10``)."""
    found = re.search(r"(\d+)(\D*)$", name)
    if found is None:
        return f"{name}2" if name else "1"
    digits, rest = found.groups()
    return f"{name[: found.start()]}{int(digits) + 1:0{len(digits)}d}{rest}"


def with_columns(job: Job, holding: Holding, columns: dict[str, dict[str, str]]) -> Holding:
    """A list of points with texts by name in columns, those that are there replaced. Raises JobError, when it cannot be
    written."""
    item = job.thing(holding)
    assert isinstance(item.thing, SurveyPoints)
    points = item.thing
    extra = {head: values for head, values in points.extra.items() if head.strip().lower() not in columns}
    for head, texts in columns.items():
        extra[head] = tuple(texts.get(name, "") for name in points.names)
    data = uuid.uuid4().hex[:10]
    vault.save_thing(job.folder / "data" / data, replace(item, thing=replace(points, extra=extra)))
    return replace(holding, data=f"data/{data}", edited=data)


def added(job: Job, key: str, place: Floats, name: str, code: str, how: str) -> tuple[Change, Holding]:
    """The step that adds a picked point (3,) to the list of a key, or begins one; ``how`` says how it was picked.

    Raises JobError, when the folder cannot be written.
    """
    before = job.state.holding(key) if key else None
    reference = job.state.title.reference_system()
    points = SurveyPoints(np.empty((0, 3)), (), (), {ORIGIN: (), "picked as": ()})
    if before is not None:
        item = job.thing(before)
        assert isinstance(item.thing, SurveyPoints)
        points, reference = item.thing, item.reference
    extra = {head: (*values, "") for head, values in points.extra.items()}
    for head, value in ((ORIGIN, PICKED), ("picked as", how)):
        extra[head] = (*points.extra.get(head, ("",) * points.count), value)
    grown = SurveyPoints(np.vstack([points.xyz, place]), (*points.names, name), (*points.codes, code), extra)
    data = uuid.uuid4().hex[:10]
    vault.save_thing(job.folder / "data" / data, Placed(POINTS, grown, reference))
    if before is None:
        title = free_name(LIST, [holding.name for holding in job.state.holdings])
        after = Holding(
            data, title, POINTS, date.today().isoformat(), "", 0, f"data/{data}", 1, steps=("Picked in the data",)
        )
    else:
        after = replace(before, data=f"data/{data}", points=grown.count, edited=data)
    words = f"Picked point {name}" + (f" ({code})" if code else "")
    return Change(words, lambda state: state.with_holding(after), {"place": place.tolist()}), after
