"""What a setup reads: its fields resolved to clouds, surfaces, lines and points by one resolver, for job and command line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from kerb.core.arrays import Floats
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import InputError
from kerb.core.geometry.features import LineSet, SurveyPoints
from kerb.core.once import Once
from kerb.core.reference import UNKNOWN, ReferenceSystem, unfit
from kerb.core.surface.surfaces import CloudTop, Surface, surface_of
from kerb.core.things import CLOUD, MODEL, Placed, words_for
from kerb.core.things import LINES as LINE_HOLDING
from kerb.core.things import POINTS as POINT_HOLDING
from kerb.core.things import SURFACE as SURFACE_HOLDING
from kerb.core.units import METRE, LengthUnit
from kerb.studies.fields import ALIGNMENT, CLOUDS, HOLDINGS, LINES, MANY, POINTS, SCOPE, SURFACE, SURFACES, Field
from kerb.studies.outcome import Input, Note
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

# Kinds of holdings that a field of a kind may name.
KINDS_OF = {
    SCOPE: (CLOUD,), SURFACE: (CLOUD, SURFACE_HOLDING, MODEL), LINES: (LINE_HOLDING,), ALIGNMENT: (LINE_HOLDING,),
    POINTS: (POINT_HOLDING,), CLOUDS: (CLOUD,), SURFACES: (CLOUD, SURFACE_HOLDING, MODEL),
}  # fmt: skip
NOT_A = {SCOPE: "no cloud", SURFACE: "no surface", LINES: "no set of lines", ALIGNMENT: "no alignment",
         POINTS: "no list of points", CLOUDS: "no cloud", SURFACES: "no surface"}  # fmt: skip


@dataclass(frozen=True)
class Source:
    """One holding as a study reads it: a cloud, or anything else. ``notes`` is what its file was said to be odd about.

    ``epoch`` is the date of its survey, ``steps`` how its numbers came about.
    """

    key: str
    name: str
    path: str = ""
    kind: str = CLOUD
    store: CloudStore | None = None
    load: Callable[[], Placed] | None = None
    notes: tuple[Note, ...] = ()
    epoch: str = ""
    steps: tuple[str, ...] = ()

    @Once
    def item(self) -> Placed | None:
        """What it holds, read when first asked for; None for a cloud."""
        return self.load() if self.load is not None else None

    @Once
    def whole(self) -> Surface:
        """A surface, grid or model as a surface, made once. Raises InputError, when it is none."""
        assert self.item is not None
        return surface_of(self.item.thing, self.item.reference, self.name)

    @property
    def reference(self) -> ReferenceSystem:
        """What its numbers are in."""
        if self.store is not None:
            return self.store.reference
        return self.item.reference if self.item is not None else UNKNOWN

    @property
    def count(self) -> int:
        """How many points, triangles, cells or lines it has."""
        return self.store.count if self.store is not None else self.item.count if self.item is not None else 0


@dataclass(frozen=True)
class Sources:
    """What the fields of a setup name, in the job's unit. ``tops`` are the surfaces of clouds that were asked for, by name."""

    unit: LengthUnit = METRE
    items: dict[str, Source] = field(default_factory=dict)
    stated: tuple[Note, ...] = ()
    tops: list[tuple[str, CloudTop]] = field(default_factory=list, compare=False)

    def source(self, name: str) -> Source:
        """What a field names. Raises InputError, when it names nothing."""
        if name not in self.items:
            raise InputError(f"{name.replace('_', ' ')}: nothing is chosen")
        return self.items[name]

    def cloud(self, name: str) -> CloudStore:
        """The cloud that a field names, with a plan or without. Raises InputError, when it is none."""
        found = self.source(name)
        if found.store is None:
            raise InputError(f"{found.name}: is no cloud")
        return found.store

    def store(self, name: str) -> CloudStore:
        """The cloud that a field names. Raises InputError, when it is none, or has no plan (degrees, geocentric
        coordinates)."""
        found = self.cloud(name)
        _check_plan(self.source(name).name, found.reference, found.bounds)
        return found

    def surface(self, name: str, scope: Scope, keep_strays: bool = False, longest: float | None = None) -> Surface:
        """What a field names as a surface; of a cloud the points that count, cut to the areas of the scope, single strays left
        out unless they are kept, with an outline whose edges are at most ``longest``.

        Raises InputError, when it has no plan, or NotDeterminable.
        """
        found = self.source(name)
        if found.store is not None:
            top = CloudTop(replace(scope, within=()).of(self.store(name)), keep_strays, longest, scope.within)
            self.tops.append((found.name, top))
            return top
        _check_plan(found.name, found.whole.reference, found.whole.bounds)
        return found.whole

    def lines(self, name: str) -> LineSet:
        """The lines that a field names. Raises InputError, when it names none."""
        item = self.source(name).item
        if item is None or not isinstance(item.thing, LineSet):
            raise InputError(f"{self.source(name).name}: has no lines")
        return item.thing

    def points(self, name: str) -> SurveyPoints:
        """The survey points that a field names. Raises InputError, when it names none."""
        item = self.source(name).item
        if item is None or not isinstance(item.thing, SurveyPoints):
            raise InputError(f"{self.source(name).name}: has no survey points")
        return item.thing

    def input(self, name: str, role: str, used: int | None = None, detail: str = "") -> Input:
        """What went in by a field, for the outcome."""
        found = self.source(name)
        counts = "points" if found.item is None else words_for(found.kind, found.item.thing)
        path, count = found.path or found.name, found.count
        return Input(
            role, path, count, count if used is None else used, detail, counts, found.epoch, found.steps, found.key
        )


def _check_plan(name: str, reference: ReferenceSystem, bounds: tuple[Floats, Floats]) -> None:
    """Raises InputError, when a system has no plan with heights over it."""
    words = unfit(reference, *bounds)
    if words:
        raise InputError(f"{name}: {words}")


def holding_of(setup: Setup, name: str) -> str:
    """The key of the holding that a field names; empty where it names none."""
    value = getattr(setup, name)
    return value.holding if isinstance(value, Scope) else str(value)


def numbered(name: str, number: int) -> str:
    """What one of many of a field is called among the sources."""
    return f"{name}.{number}"


def field_of(setup: Setup, key: str) -> Field:
    """The declaration of a field, or of the one that one of many belongs to."""
    return setup.declared()[key.partition(".")[0]]


def value_of(setup: Setup, key: str) -> Any:
    """The value of a field, or one of many of it."""
    name, _, number = key.partition(".")
    value = getattr(setup, name)
    return value[int(number)] if number else value


def named_holdings(setup: Setup) -> dict[str, str]:
    """Field → key of every holding that a setup names and that has a meaning there; many of a field are numbered."""
    found: dict[str, str] = {}
    for name, about in setup.declared().items():
        if about.kind in MANY and setup.counts(name):
            found |= {numbered(name, n): one.holding for n, one in enumerate(getattr(setup, name)) if one.holding}
        if about.kind in HOLDINGS and setup.counts(name) and holding_of(setup, name):
            found[name] = holding_of(setup, name)
    return found


def resolve(setup: Setup, find: Callable[[str], Source | None], unit: LengthUnit) -> Sources:
    """What a setup reads. ``find`` gives what a key means, None where there is nothing.

    Raises
    ------
    InputError, when a holding is not there or not of the kind that its field needs.
    """
    items, stated = {}, []
    for name, key in named_holdings(setup).items():
        about, found = field_of(setup, name), find(key)
        if found is None:
            raise InputError(f"{about.label}: what was chosen is no longer in the job")
        if found.kind not in KINDS_OF[about.kind]:
            raise InputError(f"{found.name}: is {NOT_A[about.kind]}")
        items[name] = found
        stated += [note for note in found.notes if note not in stated]
    return Sources(unit, items, tuple(stated))
