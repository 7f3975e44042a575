"""What the inputs of a study say of one another, whatever its kind: the same data on both sides, sheets over one another."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from kerb.core.cloud.store import CloudStore
from kerb.core.quantity import quantity
from kerb.core.surface.surfaces import TinSurface
from kerb.studies.fields import SCOPE, SURFACE
from kerb.studies.outcome import Note, Outcome
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import Source, Sources

SAME_VERDICT = "Both inputs are the same data"
SHEETS = "sheets"
# Points that are compared to tell whether two clouds are one.
PROBES = 2000


def judge_inputs(setup: Setup, sources: Sources, outcome: Outcome) -> None:
    """Add to an outcome what its inputs make doubtful."""
    _judge_pairs(setup, sources, outcome)
    known = {note.code for note in outcome.warnings}
    for source in sources.items.values():
        # Only surfaces that were made ready for this answer are asked.
        whole = source.__dict__.get("whole")
        if isinstance(whole, TinSurface) and whole.folded is not None and SHEETS not in known:
            area = quantity(whole.folded.area, outcome.unit + "2")
            words = f"{source.name}: on {area} its triangles lie over one another; the sheet seen from above was used"
            outcome.warnings.append(Note(SHEETS, words))


def _judge_pairs(setup: Setup, sources: Sources, outcome: Outcome) -> None:
    fields = [
        name for name, about in setup.declared().items()
        if about.kind in (SCOPE, SURFACE) and name in sources.items and setup.counts(name)
    ]  # fmt: skip
    for one, other in itertools.combinations(fields, 2):
        if _narrowing(getattr(setup, one)) == _narrowing(getattr(setup, other)) and same_data(
            sources.items[one], sources.items[other]
        ):
            a, b = sources.items[one].name, sources.items[other].name
            what = f"{a} is compared with itself" if a == b else f"{a} and {b} hold the same data"
            outcome.doubt("same-input", SAME_VERDICT, f"{what}: choose the other date or the reference")
            return


def _narrowing(scope: Scope) -> Scope:
    return replace(scope, holding="")


def same_data(one: Source, other: Source) -> bool:
    """Whether two inputs are the same file, or clouds with the same points."""
    if one.path and one.path == other.path:
        return True
    if one.store is not None and other.store is not None:
        return same_points(one.store, other.store)
    return one.item is not None and other.item is not None and one.item.thing is other.item.thing


def same_points(one: CloudStore, other: CloudStore) -> bool:
    """Whether two clouds have the same points, by their number, bounds and some of them."""
    if one is other:
        return True
    if one.count != other.count or not np.allclose(one.bounds, other.bounds, rtol=0, atol=1e-6):
        return False
    rows = np.linspace(0, one.count - 1, min(PROBES, one.count)).astype(np.int64)
    return bool(np.allclose(one.coordinates(rows), other.coordinates(rows), rtol=0, atol=1e-6))
