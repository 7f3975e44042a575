"""What a job is: holdings, studies and how it is titled. Values only; a change makes a new state.

Because states are never altered, undo is going back to the one before, and a background task can compute on the one
it was given whatever happens meanwhile.
"""

from __future__ import annotations

import re
from dataclasses import asdict, dataclass, field, fields, replace
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from kerb.core.cloud.filters import Filter
from kerb.core.cloud.filters import from_json as filters_from_json
from kerb.core.cloud.sets import PointSets
from kerb.core.geometry.rigid import Rigid
from kerb.core.quantity import Decimals, readable
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.core.section.placed import PlacedSection
from kerb.core.things import CLOUD
from kerb.core.units import LengthUnit, length_unit


@dataclass(frozen=True)
class Part:
    """A named part of a cloud: ``points`` names the kept set of its points, ``count`` how many they are."""

    number: int
    name: str
    points: str
    count: int
    ink: str = ""
    shown: bool = True


@dataclass(frozen=True)
class Holding:
    """One thing the job has. ``data`` is its folder inside the job; ``source`` where it came from.

    ``points`` counts what its kind counts (points, lines, triangles, cells); ``steps`` tell how it came about. Of a
    cloud, ``aside`` names the kept set of the points that are set aside, ``given`` the classes that sets of points were
    given since the import, one after the other, and ``filters`` say which of the rest are shown; ``computed`` marks
    each attribute anew whenever it is computed, so that what was found by it before is known to be stale. ``edited``
    marks data that were replaced in place, and ``placement`` moves the holding without a number of it being changed.
    ``label`` is the reference system the analyst says its numbers are in, where that is not what its file said. ``maker``
    names the study that made it, and which of the things it makes this is.
    """

    id: str
    name: str
    kind: str = CLOUD
    epoch: str = ""
    source: str = ""
    source_size: int = 0
    data: str = ""
    points: int = 0
    visible: bool = True
    style: dict[str, Any] = field(default_factory=dict)
    notes: tuple[tuple[str, str], ...] = ()
    steps: tuple[str, ...] = ()
    aside: str = ""
    parts: tuple[Part, ...] = ()
    given: tuple[tuple[str, int], ...] = ()
    filters: tuple[Filter, ...] = ()
    computed: dict[str, str] = field(default_factory=dict)
    edited: str = ""
    placement: Rigid | None = None
    label: dict[str, Any] = field(default_factory=dict)
    maker: str = ""

    @property
    def sets(self) -> PointSets:
        """What was done with the points, for the store."""
        return PointSets(self.aside, tuple((part.number, part.points) for part in self.parts), self.given)

    def part(self, number: int) -> Part | None:
        """The part of a number."""
        return next((part for part in self.parts if part.number == number), None)


@dataclass(frozen=True)
class Found:
    """The little that the job itself keeps of an outcome; the rest lies beside it under the name of ``print``.

    ``print`` is the fingerprint of what it was found from; ``value`` the headline figure in ``unit``; ``notes`` how many
    warnings there are, ``verdict`` why the figure cannot be trusted.
    """

    print: str
    value: float | None = None
    unit: str = ""
    u95: float | None = None
    notes: int = 0
    verdict: str = ""
    resolution: float = 0.0


@dataclass(frozen=True)
class StudyRecord:
    """A study of the job: its setup, and in short what it found; ``look`` is how its map is coloured (low, high, ramp, bands)."""

    id: str
    kind: str
    name: str
    setup: dict[str, Any] = field(default_factory=dict)
    found: Found | None = None
    in_report: bool = True
    panes: tuple[str, ...] = ()
    look: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Title:
    """What stands in the title block and rules the job: names, unit, reference system, decimals, page."""

    name: str = "Untitled job"
    client: str = ""
    site: str = ""
    analyst: str = ""
    logo: str = ""
    unit: str = "m"
    reference: dict[str, Any] = field(default_factory=UNKNOWN.to_json)
    decimals: Decimals = field(default_factory=Decimals)
    page: str = "A4"

    def length_unit(self) -> LengthUnit:
        """The job unit."""
        return length_unit(self.unit)

    def reference_system(self) -> ReferenceSystem:
        """The job's reference system."""
        return ReferenceSystem.from_json(self.reference)


@dataclass(frozen=True)
class JobState:
    """Everything that undo takes back; ``filters`` are the saved ones, by name."""

    title: Title = field(default_factory=Title)
    holdings: tuple[Holding, ...] = ()
    studies: tuple[StudyRecord, ...] = ()
    filters: tuple[tuple[str, tuple[Filter, ...]], ...] = ()
    sections: tuple[PlacedSection, ...] = ()

    def holding(self, key: str) -> Holding | None:
        """The holding of an id, or of a name where no id fits."""
        return next((h for h in self.holdings if h.id == key), None) or next(
            (h for h in self.holdings if h.name == key), None
        )

    def of_kind(self, *kinds: str) -> tuple[Holding, ...]:
        """Holdings of some kinds, in order."""
        return tuple(holding for holding in self.holdings if holding.kind in kinds)

    def reads(self, path: Path) -> bool:
        """Whether a file is a source of one of the holdings."""
        sources = [Path(holding.source) for holding in self.holdings if holding.source]
        return path.exists() and any(source.exists() and path.samefile(source) for source in sources)

    def section(self, key: str) -> PlacedSection | None:
        """The section of an id."""
        return next((s for s in self.sections if s.id == key), None)

    def study(self, key: str) -> StudyRecord | None:
        """The study of an id."""
        return next((s for s in self.studies if s.id == key), None)

    def with_holding(self, holding: Holding) -> JobState:
        """With a holding added, or put in place of the one of the same id."""
        if self.holding(holding.id) is None:
            return replace(self, holdings=(*self.holdings, holding))
        return replace(self, holdings=tuple(holding if h.id == holding.id else h for h in self.holdings))

    def without_holding(self, key: str) -> JobState:
        """Without the holding of an id."""
        return replace(self, holdings=tuple(h for h in self.holdings if h.id != key))

    def with_study(self, study: StudyRecord, after: str = "") -> JobState:
        """With a study put in place of the one of the same id, or added (after another one)."""
        if self.study(study.id) is not None:
            return replace(self, studies=tuple(study if s.id == study.id else s for s in self.studies))
        place = next((i + 1 for i, s in enumerate(self.studies) if s.id == after), len(self.studies))
        return replace(self, studies=(*self.studies[:place], study, *self.studies[place:]))

    def without_study(self, key: str) -> JobState:
        """Without the study of an id."""
        return replace(self, studies=tuple(s for s in self.studies if s.id != key))

    def looking_like(self, other: JobState) -> JobState:
        """With looks, outcomes and marks of attributes as another state has them: undo passes over these."""
        holdings = []
        for holding in self.holdings:
            seen = other.holding(holding.id)
            if seen is None or seen.id != holding.id:
                holdings.append(holding)
                continue
            looks = {part.number: part for part in seen.parts}
            parts = tuple(
                replace(part, shown=looks[part.number].shown, ink=looks[part.number].ink)
                if part.number in looks else part
                for part in holding.parts
            )  # fmt: skip
            like = replace(holding, style=seen.style, filters=seen.filters, parts=parts, computed=seen.computed)
            holdings.append(like)
        studies = []
        for study in self.studies:
            now = other.study(study.id)
            if now is not None:
                # What was computed since belongs to the study unless its setup is what is taken back.
                found = now.found if now.setup == study.setup and now.found is not None else study.found
                study = replace(study, look=now.look, panes=now.panes, found=found)
            studies.append(study)
        return replace(self, holdings=tuple(holdings), studies=tuple(studies), filters=other.filters)

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        return asdict(self)

    @staticmethod
    def from_json(data: dict[str, Any]) -> JobState:
        """The reverse of :meth:`to_json`; keys of newer versions are left out. Raises KeyError or TypeError."""
        title = _known(Title, data["title"])
        title["decimals"] = Decimals(**_known(Decimals, title.get("decimals", {})))
        holdings = []
        for item in data["holdings"]:
            values = _known(Holding, item)
            values["notes"] = tuple((code, text) for code, text in values.get("notes", ()))
            values["steps"] = tuple(values.get("steps", ()))
            values["parts"] = tuple(Part(**_known(Part, part)) for part in values.get("parts", ()))
            values["given"] = tuple((name, int(code)) for name, code in values.get("given", ()))
            values["filters"] = filters_from_json(values.get("filters", ()))
            values["placement"] = Rigid.from_json(item["placement"]) if item.get("placement") else None
            holdings.append(_within(Holding(**values)))
        studies = tuple(_study(item) for item in data["studies"])
        saved = tuple((name, filters_from_json(items)) for name, items in data.get("filters", ()))
        sections = tuple(section_of(item) for item in data.get("sections", ()))
        return JobState(Title(**title), tuple(holdings), studies, saved, sections)


def _within(holding: Holding) -> Holding:
    """The holding, when all that it names lies inside the job. Raises ValueError: a job may come from anywhere."""
    path = PurePosixPath(holding.data)
    if path.is_absolute() or ".." in path.parts or "\\" in holding.data:
        raise ValueError(f"holding '{holding.name}' names data outside of the job")
    names = (holding.aside, *(part.points for part in holding.parts), *(name for name, _ in holding.given))
    if any("/" in name or "\\" in name or name.startswith(".") for name in names):
        raise ValueError(f"holding '{holding.name}' names points outside of its data")
    return holding


def holding_of(item: dict[str, Any]) -> Holding:
    """A holding of its plain dictionary. Raises KeyError, TypeError or ValueError."""
    return JobState.from_json({"title": {}, "holdings": [item], "studies": []}).holdings[0]


def study_of(item: dict[str, Any]) -> StudyRecord:
    """A study of its plain dictionary. Raises KeyError, TypeError or ValueError."""
    return _study(item)


def section_of(item: dict[str, Any]) -> PlacedSection:
    """A section of its plain dictionary. Raises KeyError, TypeError or ValueError."""
    values = _known(PlacedSection, item)
    east, north, up = (float(v) for v in values.pop("middle"))
    key, name = str(values.pop("id")), str(values.pop("name"))
    numbers = {field_: float(value) for field_, value in values.items()}
    if not np.isfinite([east, north, up, *numbers.values()]).all() or numbers["width"] < 0 or numbers["thickness"] < 0:
        raise ValueError(f"section '{name}' has numbers that cannot be")
    azimuth, width, thickness = (numbers.pop(word) for word in ("azimuth", "width", "thickness"))
    return PlacedSection(key, name, (east, north, up), azimuth, width, thickness, **numbers)


def _study(item: dict[str, Any]) -> StudyRecord:
    values = _known(StudyRecord, item)
    found = values.get("found")
    values["found"] = Found(**_known(Found, found)) if found else None
    values["panes"] = tuple(values.get("panes", ()))
    return StudyRecord(**values)


def free_name(wanted: str, taken: list[str]) -> str:
    """The wanted name, or the same with the next free number: a copy of "Yard (2)" is "Yard (3)"."""
    wanted = readable(wanted)
    if wanted not in taken:
        return wanted
    wanted, number = re.sub(r" \(\d+\)$", "", wanted) or wanted, 2
    while f"{wanted} ({number})" in taken:
        number += 1
    return f"{wanted} ({number})"


def as_kept(state: JobState, before: JobState) -> JobState:
    """The state with the loose values of its new records as a file gives them back: lists for tuples."""
    old = {id(record) for record in (*before.holdings, *before.studies)}
    holdings = tuple(
        h if id(h) in old or h.style == (style := _listed(h.style)) else replace(h, style=style) for h in state.holdings
    )
    studies = []
    for study in state.studies:
        setup, look = _listed(study.setup), _listed(study.look)
        same = id(study) in old or (setup == study.setup and look == study.look)
        studies.append(study if same else replace(study, setup=setup, look=look))
    if all(a is b for a, b in zip((*holdings, *studies), (*state.holdings, *state.studies), strict=True)):
        return state
    return replace(state, holdings=holdings, studies=tuple(studies))


def _listed(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _listed(item) for key, item in value.items()}
    return [_listed(item) for item in value] if isinstance(value, (list, tuple)) else value


def _known(kind: type, data: dict[str, Any]) -> dict[str, Any]:
    names = {item.name for item in fields(kind)}
    return {key: value for key, value in data.items() if key in names}
