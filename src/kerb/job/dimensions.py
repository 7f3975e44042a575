"""Measured lines that are kept: one list of them, each with what was read off it."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import date

from kerb.core.arrays import Floats
from kerb.core.geometry.features import Line, LineSet
from kerb.core.things import LINES, Placed
from kerb.job import vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding

LIST = "Dimensions"
WORDS = "measured"


def dimension(job: Job, places: Floats, words: list[str]) -> Change:
    """The step that keeps a measured line (n, 3) with its figures in words. Raises JobError."""
    before = next((h for h in job.state.of_kind(LINES) if h.name == LIST), None)
    known, reference = LineSet((), fields={WORDS: ()}), job.state.title.reference_system()
    if before is not None:
        item = job.thing(before)
        assert isinstance(item.thing, LineSet)
        known, reference = item.thing, item.reference
    name = f"D{known.count + 1}"
    fields = {key: (*values, None) for key, values in known.fields.items()}
    fields[WORDS] = (*known.fields.get(WORDS, (None,) * known.count), "; ".join(words))
    grown = LineSet((*known.lines, Line(places, False, name, LIST.lower())), known.alignments, fields)
    data = uuid.uuid4().hex[:10]
    vault.save_thing(job.folder / "data" / data, Placed(LINES, grown, reference))
    if before is None:
        after = Holding(data, LIST, LINES, date.today().isoformat(), "", 0, f"data/{data}", 1, steps=("Measured",))
    else:
        after = replace(before, data=f"data/{data}", points=grown.count, edited=data)
    return Change(f"Kept dimension {name}: {'; '.join(words)}", lambda state: state.with_holding(after))
