"""What may be brought in: one prospect for each thing a file offers, with all the analyst can still decide about it.

Prospects are values; a decision makes a new one. Nothing is imported until the wishes made of them are carried out.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.sieve import Sieve
from kerb.core.errors import KerbError
from kerb.core.place_check import PlaceCheck, Site, check
from kerb.core.placing import AS_IS, CONVERT, LABEL, TRANSFORM, Placing, same_system
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem, is_geographic
from kerb.core.things import CLOUD, PICTURE, SURFACE
from kerb.core.units import LengthUnit
from kerb.formats.points import Opening, open_points
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined, Offer, examine
from kerb.formats.text_table import EASTING, NORTHING, TextPlan
from kerb.job import site
from kerb.job.holdings import ImportWish, default_placing
from kerb.job.state import JobState


@dataclass(frozen=True)
class Prospect:
    """One thing that may be brought in. ``source`` is what its numbers are in, by the file or by the analyst."""

    seen: Examined
    offer: Offer
    taken: bool
    source: ReferenceSystem
    placing: Placing
    parts: tuple[str, ...] = ()
    plan: TextPlan | None = None
    sieve: Sieve = field(default_factory=Sieve)
    epoch: str = ""
    tolerance: float = 0.01
    merged: bool = False

    @property
    def path(self) -> Path:
        """The file."""
        return self.seen.path

    @property
    def readable(self) -> bool:
        """Whether it says enough to be read: a text needs its columns, a thing of parts at least one."""
        if self.plan is not None and (self.plan.column(EASTING) is None or self.plan.column(NORTHING) is None):
            return False
        return bool(self.parts) or not self.offer.parts

    def with_source(self, source: ReferenceSystem, state: JobState) -> Prospect:
        """With its numbers stated to be in another system; what is done with them follows."""
        placing = default_placing(state, source, None)
        return replace(self, source=source, placing=replace(placing, swap=self.placing.swap))

    def choices(self, state: JobState) -> dict[str, Placing]:
        """What can be done with the numbers, by kind; only what makes sense here."""
        swap = self.placing.swap
        job = state.title.reference_system() if state.holdings else None
        unit = state.title.length_unit()
        found = {AS_IS: Placing(AS_IS, self.source, swap=swap)}
        if self.placing.how == TRANSFORM:
            found[TRANSFORM] = self.placing
        if job is not None:
            target = replace(job, unit=unit, vertical_unit=unit)
            if self.source.unit != unit or self.source.vertical_unit != unit:
                found[CONVERT] = Placing(CONVERT, self.source, target, swap=swap)
            if self.source.wkt and job.wkt and not same_system(self.source, job):
                found[TRANSFORM] = Placing(TRANSFORM, self.source, target, swap=swap)
            found[LABEL] = Placing(LABEL, self.source, target, swap=swap)
        elif self.source.unit != self.source.vertical_unit:
            even = replace(self.source, vertical_unit=self.source.unit)
            found[CONVERT] = Placing(CONVERT, self.source, even, swap=swap)
        if self.placing.how == CONVERT:
            found[CONVERT] = self.placing
        return found

    def wish(self) -> ImportWish:
        """The wish to bring it in as decided."""
        parts = (
            () if self.offer.kind == CLOUD and set(self.parts) == {name for name, _ in self.offer.parts} else self.parts
        )
        return ImportWish(
            self.path, epoch=self.epoch, kind=self.offer.kind, key=self.offer.key, parts=parts, plan=self.plan,
            source=self.source, placing=self.placing, sieve=self.sieve, tolerance=self.tolerance,
            merged=self.merged, seen=self.seen,
        )  # fmt: skip


def prospects_of(path: Path, state: JobState) -> list[Prospect]:
    """What a file offers, the likeliest ticked. Raises InputError or FormatError naming the file."""
    seen = examine(path)
    found = []
    # One file, one thing: a text is a cloud or a list, a raster an elevation grid or a picture.
    kinds = {offer.kind for offer in seen.offers}
    either = seen.format == "text" or seen.format.startswith("PLY") or {SURFACE, PICTURE} <= kinds
    for number, offer in enumerate(seen.offers):
        middle = _middle_of(seen, state) if number == 0 else None
        placing = default_placing(state, seen.reference, middle)
        plan = seen.text.plan if seen.text is not None else None
        parts = offer.usual or tuple(name for name, _ in offer.parts)
        taken = number == 0 or not either
        found.append(Prospect(seen, offer, taken, seen.reference, placing, parts, plan))
    return found


def _middle_of(seen: Examined, state: JobState) -> tuple[float, float] | None:
    """A place of a file that is transformed, so that a zone, or the best way there, can be suggested for it."""
    job = state.title.reference_system() if state.holdings else None
    like_the_job = job is None or not job.wkt or same_system(seen.reference, job)
    if not seen.reference.wkt or (like_the_job and not is_geographic(seen.reference)):
        return None
    try:
        xyz = _sample(seen, seen.offers[0], (), None)
    except KerbError:
        return None
    middle = np.nanmedian(xyz[:, :2], axis=0)
    return float(middle[0]), float(middle[1])


def joined_wish(prospects: list[Prospect]) -> ImportWish:
    """One wish for several clouds that shall become one, each placed as decided for it."""
    first, *rest = [prospect.wish() for prospect in prospects]
    return replace(first, more=tuple(rest))


class Samples:
    """Samples of prospects in the numbers of their files, read once for each file, offer, parts and columns."""

    def __init__(self) -> None:
        self._kept: dict[object, tuple[Floats, tuple[str, ...]]] = {}

    def of(self, prospect: Prospect) -> tuple[Floats, tuple[str, ...]]:
        """Places (n, 3) and, of survey points, their names. Raises as reading the file does."""
        key = (prospect.path, prospect.offer.kind, prospect.offer.key, prospect.parts, prospect.plan)
        if key not in self._kept:
            if prospect.offer.kind == CLOUD:
                self._kept[key] = _cloud_sample(prospect), ()
            else:
                how = Reading(prospect.parts, prospect.plan, prospect.tolerance)
                item, _ = read_offer(prospect.seen, prospect.offer, how, Progress())
                found = site.of_thing(item)
                self._kept[key] = found.xyz, found.names
        return self._kept[key]


def _cloud_sample(prospect: Prospect) -> Floats:
    names = [name for name, _ in prospect.offer.parts]
    chosen = tuple(number for number, name in enumerate(names) if name in prospect.parts)
    how = Opening(partial=True, plan=prospect.plan, setups=chosen if len(chosen) < len(names) else ())
    return site.of_stream(open_points(prospect.path, how=how)).xyz


def _sample(seen: Examined, offer: Offer, parts: tuple[str, ...], plan: TextPlan | None) -> Floats:
    blank = Prospect(seen, offer, True, seen.reference, Placing(source=seen.reference), parts or offer.usual, plan)
    return Samples().of(blank)[0]


@dataclass(frozen=True)
class Whereabouts:
    """Where a prospect would lie in the job, and what the place check says of it."""

    here: Site
    check: PlaceCheck


def whereabouts(prospect: Prospect, samples: Samples, job: Site | None) -> Whereabouts:
    """Place a sample of a prospect and hold it against the job's data (None: an empty job).

    Raises
    ------
    InputError or FormatError, when it cannot be read or there is no way to the job's system.
    """
    xyz, names = samples.of(prospect)
    moved = Site(prospect.placing.mapper()(xyz), prospect.placing.result, names, (prospect.path.name,))
    original = Site(xyz[:, [1, 0, 2]] if prospect.placing.swap else xyz, prospect.source, names)
    found = check(moved, job, original)
    if prospect.offer.kind == PICTURE:
        found = replace(found, height=None)
    return Whereabouts(moved, found)


def boxed(low: Floats, high: Floats) -> Sieve:
    """A sieve for a plan box."""
    return Sieve(box=((float(low[0]), float(low[1])), (float(high[0]), float(high[1]))))


def unit_stated(source: ReferenceSystem, unit: LengthUnit, heights: LengthUnit) -> ReferenceSystem:
    """A system with its units as the analyst says; its definition goes when it counts in another unit."""
    if unit == source.unit:
        return replace(source, vertical_unit=heights, certainty="confirmed")
    return replace(source, unit=unit, vertical_unit=heights, wkt="", code="", name="local grid", certainty="confirmed")
