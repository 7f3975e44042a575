"""What the inputs of a study say of one another, whatever its kind: the same data on both sides, sheets over one another."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.quantity import quantity
from kerb.core.surface.surfaces import TinSurface
from kerb.core.things import sample_of
from kerb.studies.fields import SCOPE, SURFACE
from kerb.studies.layers import FoundPoints
from kerb.studies.outcome import Note, Outcome
from kerb.studies.scope import Scope, ground_classes
from kerb.studies.setup import Setup
from kerb.studies.sources import Source, Sources

SAME_VERDICT = "Both inputs are the same data"
SHEETS = "sheets"
# Points that are compared to tell whether two clouds are one.
PROBES = 2000
# More than this share of a surface left out is said beside the figure.
LARGE_SHARE = 0.5


def judge_inputs(setup: Setup, sources: Sources, outcome: Outcome) -> None:
    """Add to an outcome what its inputs make doubtful."""
    _judge_pairs(setup, sources, outcome)
    _tell_classes(setup, sources, outcome)
    _tell_trimmed(sources, outcome)
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


def _tell_classes(setup: Setup, sources: Sources, outcome: Outcome) -> None:
    """Say where a surface stands on all points of a cloud that has ground classes."""
    for name, about in setup.declared().items():
        source = sources.items.get(name) if about.ground and setup.counts(name) else None
        if source is None or source.store is None:
            continue
        scope, ground = getattr(setup, name), ground_classes(source.store)
        if ground and not scope.classes and not scope.only and not scope.part:
            codes = ",".join(map(str, ground))
            words = f"{source.name}: all classes were used, trees and machines too; classes {codes} are its ground"
            outcome.warnings.append(Note("all-classes", words))


def _tell_trimmed(sources: Sources, outcome: Outcome) -> None:
    """Say which single points and how much of the rim were left out of the surfaces of clouds, and mark the points."""
    known = {note.text for note in outcome.warnings}
    for name in dict.fromkeys(name for name, _ in sources.tops):
        parts = [part for own, top in sources.tops if own == name for part in top.trimmed]
        if not parts:
            continue
        gone = np.unique(np.concatenate([part.strays for part in parts]), axis=0)
        note = strays_note(name, gone, outcome.unit)
        if note is not None and note.text not in known:
            outcome.warnings.append(note)
            outcome.layers[f"strays {name}"] = FoundPoints(gone, "gap", f"Excluded strays of {name}")
        widest = max(parts, key=lambda part: part.rim_area)
        if widest.rim_area > 0:
            outcome.settings |= {"rim_edge": widest.rim_edge}
        if widest.rim_area > LARGE_SHARE * widest.area:
            share = 100 * widest.rim_area / widest.area
            longest = quantity(widest.rim_edge, outcome.unit)
            words = f"{name}: edges up to {longest} leave out {share:.0f} % of what its points span"
            outcome.doubt("left-out", "Most of the surface is left out", words)


def strays_note(name: str, gone: Floats, unit: str) -> Note | None:
    """What to say of single points that were left out of a surface; None without any."""
    if not len(gone):
        return None
    odd = gone[np.argmax(np.abs(gone[:, 2] - np.median(gone[:, 2])))] if len(gone) > 2 else gone[-1]
    many = f"{len(gone)} stray points were" if len(gone) > 1 else "1 stray point was"
    where = f"such as {odd[0]:.2f} E {odd[1]:.2f} N, elevation {quantity(float(odd[2]), unit)}"
    return Note("strays", f"{name}: {many} excluded, {where}")


def _narrowing(scope: Scope) -> Scope:
    return replace(scope, holding="")


def same_data(one: Source, other: Source) -> bool:
    """Whether two inputs are clouds with the same points, or things with the same places; a copy that was moved is another."""
    if one.store is not None and other.store is not None:
        return same_points(one.store, other.store)
    if one.item is None or other.item is None:
        return False
    places = [sample_of(source.item.thing) for source in (one, other) if source.item is not None]
    return places[0].shape == places[1].shape and bool(
        np.allclose(places[0], places[1], rtol=0, atol=1e-6, equal_nan=True)
    )


def same_points(one: CloudStore, other: CloudStore) -> bool:
    """Whether two clouds have the same points, by their number, bounds and some of them."""
    if one is other:
        return True
    if one.count != other.count or not np.allclose(one.bounds, other.bounds, rtol=0, atol=1e-6):
        return False
    rows = np.linspace(0, one.count - 1, min(PROBES, one.count)).astype(np.int64)
    return bool(np.allclose(one.coordinates(rows), other.coordinates(rows), rtol=0, atol=1e-6))
