"""Pairs picked in plan: a click on what moves, then the same place on what stays."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.studies.align.pairs import HALF_PAIR
from kerb.studies.align.setup import AlignSetup
from kerb.studies.scope import Scope
from kerb.studies.sources import Sources

REACH_SPACINGS = 6.0


def with_place(setup: AlignSetup, sources: Sources, place: Floats) -> dict[str, Any]:
    """The pairs with a place more: on what moves for a new pair, on what stays for the one that was begun.

    Raises InputError, when nothing of it lies there or the pairs come from a file.
    """
    entries = [part.strip() for part in re.split(r"[\n;]", setup.pairs) if part.strip()]
    if entries and any(len(entry.split()) not in (HALF_PAIR, 6, 7) for entry in entries):
        raise InputError("the pairs come from a file or are typed otherwise: empty the field to pick them")
    begun = bool(entries) and len(entries[-1].split()) == HALF_PAIR
    field = "to" if begun else "moving"
    xyz = place_on(field, getattr(setup, field), sources, place)
    said = " ".join(f"{value:.4f}" for value in xyz.tolist())
    if begun:
        entries[-1] = f"{entries[-1]} {said}"
    else:
        names = {entry.split()[0] for entry in entries}
        entries.append(f"{next(f'P{n}' for n in range(1, len(entries) + 2) if f'P{n}' not in names)} {said}")
    return {"pairs": "; ".join(entries)}


def place_on(field: str, scope: Scope, sources: Sources, place: Floats) -> Floats:
    """The point of a cloud nearest in plan, or the place on a surface. Raises InputError, when nothing lies there."""
    source = sources.source(field)
    if source.store is None:
        z = sources.surface(field, scope).at(place[None, :2])
        if not np.isfinite(z[0]):
            raise InputError(f"{source.name} has nothing there")
        return np.array([*place[:2], z[0]])
    reach = REACH_SPACINGS * source.store.spacing
    ring = place[:2] + reach * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1]])
    near = scope.of(source.store, ring).points()
    if not len(near):
        raise InputError(f"{source.name} has no points there")
    return np.asarray(near[np.argmin(np.hypot(*(near[:, :2] - place[:2]).T))])
