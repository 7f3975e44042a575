"""What a job is: holdings, studies and how it is titled. Values only; a change makes a new state.

Because states are never altered, undo is going back to the one before, and a background task can compute on the one
it was given whatever happens meanwhile.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

from kerb.core.quantity import Decimals
from kerb.core.reference import UNKNOWN, ReferenceSystem
from kerb.core.things import CLOUD
from kerb.core.units import LengthUnit, length_unit


@dataclass(frozen=True)
class Holding:
    """One thing the job has. ``data`` is its folder inside the job; ``source`` where it came from.

    ``points`` counts what its kind counts (points, lines, triangles, cells); ``steps`` tell how it came about;
    ``aside`` names the kept mask of the points that are set aside.
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


@dataclass(frozen=True)
class StudyRecord:
    """A study of the job: its setup, and what it found with the fingerprint of what that was found from."""

    id: str
    kind: str
    name: str
    setup: dict[str, Any] = field(default_factory=dict)
    outcome: dict[str, Any] | None = None
    found_from: str = ""
    in_report: bool = True


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
    """Everything that undo takes back."""

    title: Title = field(default_factory=Title)
    holdings: tuple[Holding, ...] = ()
    studies: tuple[StudyRecord, ...] = ()

    def holding(self, key: str) -> Holding | None:
        """The holding of an id, or of a name where no id fits."""
        return next((h for h in self.holdings if h.id == key), None) or next(
            (h for h in self.holdings if h.name == key), None
        )

    def of_kind(self, *kinds: str) -> tuple[Holding, ...]:
        """Holdings of some kinds, in order."""
        return tuple(holding for holding in self.holdings if holding.kind in kinds)

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
            holdings.append(Holding(**values))
        studies = tuple(StudyRecord(**_known(StudyRecord, item)) for item in data["studies"])
        return JobState(Title(**title), tuple(holdings), studies)


def free_name(wanted: str, taken: list[str]) -> str:
    """The wanted name, or the same with the next free number."""
    if wanted not in taken:
        return wanted
    number = 2
    while f"{wanted} ({number})" in taken:
        number += 1
    return f"{wanted} ({number})"


def _known(kind: type, data: dict[str, Any]) -> dict[str, Any]:
    names = {item.name for item in fields(kind)}
    return {key: value for key, value in data.items() if key in names}
