"""Pairs picked in plan: a click on what moves, then the same place on what stays."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from kerb.core.align.snaps import CORNER, NEAREST, PAINTED, corner, painted, sphere_centre
from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.target import brightness_of
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.polygon import box
from kerb.core.units import LengthUnit
from kerb.studies.align.pairs import HALF_PAIR
from kerb.studies.align.setup import AlignSetup
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources

REACH_SPACINGS = 6.0
# How far round a pick a sphere or a corner is looked for, in metres.
REACH_M = 0.4


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
    if setup.snap != NEAREST:
        xyz = _told(setup, sources.source(field), getattr(setup, field), (xyz, sources.unit))
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
    near = _round(source.store, scope, place, REACH_SPACINGS * source.store.spacing).points()
    if not len(near):
        raise InputError(f"{source.name} has no points there")
    # In plan only, where the pick does not tell how high.
    told = place[np.isfinite(place)]
    return np.asarray(near[np.argmin(((near[:, : len(told)] - told) ** 2).sum(axis=1))])


def _round(store: CloudStore, scope: Scope, place: Floats, reach: float) -> CloudView:
    return scope.of(store, box(place - reach, place + reach))


def _told(setup: AlignSetup, source: Source, scope: Scope, pick: tuple[Floats, LengthUnit]) -> Floats:
    """What the points round a pick tell. Raises InputError, when they tell nothing or there are none."""
    place, unit = pick
    if source.store is None:
        raise InputError(f"{source.name} is no cloud: a sphere, a corner or a target needs points")
    reach = setup.reach if setup.reach is not None else REACH_M / unit.metres
    # A sphere may be picked on its side: twice as far is looked.
    rows = _round(source.store, scope, place, 2 * reach).all_rows()
    points = source.store.coordinates(rows)
    try:
        if setup.snap == PAINTED:
            light = brightness_of(source.store, rows)
            if light is None:
                raise InputError(f"{source.name} has neither intensity nor colours: a painted target needs them")
            return painted(points, light, place, reach)
        return corner(points, place, reach) if setup.snap == CORNER else sphere_centre(points, place, reach).centre
    except NotDeterminable as error:
        raise InputError(f"{source.name}: {error}") from None
