"""Bring files into a job, and changes to holdings."""

from __future__ import annotations

import os
import shutil
import uuid
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path

from kerb.core.cloud.builder import Preview, build
from kerb.core.cloud.layout import PointStream
from kerb.core.cloud.sieve import Sieve, Sieved
from kerb.core.errors import InputError, JobError, OutputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.place_check import PlaceCheck, Site, check
from kerb.core.placing import AS_IS, LABEL, TRANSFORM, Placing, suggested
from kerb.core.progress import Progress
from kerb.core.quantity import count, first_of
from kerb.core.reference import ReferenceSystem
from kerb.core.space import put_in_place, refusal
from kerb.core.things import CLOUD, KINDS, PICTURE, PictureRef, Placed, relocated, words_for
from kerb.core.units import LengthUnit
from kerb.formats.points import Joined, Opening, middle_of, open_points, placed, stated_system, stated_unit
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined, Offer, examine
from kerb.formats.text_table import TextPlan
from kerb.job import site, vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, free_name

# What a file does not say and the analyst, or the job, does.
UNSAID = ("crs-missing", "unit-missing")
HEIGHTS_FOR_ELEVATIONS = "its coordinates have heights in place of elevations, which are the attribute 'elevation'"


@dataclass(frozen=True)
class ImportWish:
    """How a file is to be brought in. What is not said is guessed from the file and the job.

    ``more`` are files that become one cloud with the first; ``kind`` and ``key`` choose an offer of the file, ``parts``
    what of it (layers, element types, setups); ``source`` or ``unit_in`` state what the numbers are in; ``placing``
    overrules what is done to them; ``sieve`` thins a cloud, in the job's unit; ``merged`` makes one element of a model;
    ``seen`` spares looking at the file again.
    """

    path: Path
    unit_in: LengthUnit | None = None
    epoch: str = ""
    partial: bool = False
    more: tuple[ImportWish, ...] = ()
    kind: str = ""
    key: str = ""
    parts: tuple[str, ...] = ()
    plan: TextPlan | None = None
    source: ReferenceSystem | None = None
    placing: Placing | None = None
    sieve: Sieve = field(default_factory=Sieve)
    tolerance: float = 0.01
    merged: bool = False
    name: str = ""
    seen: Examined | None = field(default=None, compare=False, repr=False)


def import_file(
    folder: Path, state: JobState, wish: ImportWish, progress: Progress, preview: Preview | None = None
) -> Holding:
    """Import whatever a file holds into the data of a job folder; the job itself is not changed.

    The first holding rules unit and reference system of the job; later ones are placed in it.

    Raises
    ------
    InputError, FormatError or TruncatedError naming the file; Cancelled. None of them leaves anything behind.
    """
    seen = wish.seen or examine(wish.path)
    offer = seen.offer(wish.kind, wish.key)
    if offer.kind == CLOUD:
        return import_cloud(folder, state, wish, progress, preview)
    return _import_thing(folder, state, (wish, seen, offer), progress)


def import_cloud(
    folder: Path, state: JobState, wish: ImportWish, progress: Progress, preview: Preview | None = None
) -> Holding:
    """Import one file of points, or several as one cloud. Raises as :func:`import_file`."""
    stream = opened(wish)
    placing = wish.placing or default_placing(state, stream.layout.reference, middle_of(stream))
    stream = placed(stream, placing)
    if wish.more:
        rest = []
        for other in wish.more:
            item = opened(other)
            own = other.placing or default_placing(state, item.layout.reference, middle_of(item))
            rest.append(placed(item, own))
        stream = Joined([stream, *rest])
    if not wish.sieve.idle:
        stream = Sieved(stream, wish.sieve)
    key = uuid.uuid4().hex[:10]
    store = build(stream, folder / "data" / key, progress, preview)
    notes = [note for note in _told(stream.warnings, wish, placing) if note[0] != "thinned"]
    if store.flat:
        notes.append(("heights-for-elevations", HEIGHTS_FOR_ELEVATIONS))
    return Holding(
        id=key,
        name=free_name(wish.name or _name_of(wish), [h.name for h in state.holdings]),
        epoch=wish.epoch,
        source=str(wish.path.resolve()),
        source_size=wish.path.stat().st_size,
        data=f"data/{key}",
        points=store.count,
        notes=tuple(notes),
        steps=_steps(wish, placing, wish.sieve.words(stream.layout.reference.unit.code)),
    )


def _import_thing(
    folder: Path, state: JobState, what: tuple[ImportWish, Examined, Offer], progress: Progress
) -> Holding:
    wish, seen, offer = what
    seen = replace(seen, reference=stated(wish, seen.reference))
    how = Reading(wish.parts, wish.plan, wish.tolerance)
    item, notes = read_offer(seen, offer, how, progress.within(0.0, 0.7))
    item = replace(item, reference=stated(wish, item.reference))
    if wish.merged and isinstance(item.thing, TriangleMesh):
        item = replace(item, thing=item.thing.merged(wish.path.stem))
    placing = wish.placing or default_placing(state, item.reference, item.middle)
    key = uuid.uuid4().hex[:10]
    target = folder / "data" / key
    if isinstance(item.thing, PictureRef):
        item = _keep_picture(wish.path, target, (item, placing), progress)
    else:
        progress.step(0.75, "Placing")
        item = relocated(item, placing)
        progress.step(0.85, "Keeping")
        vault.save_thing(target, item)
    several = len(seen.offers) > 1 and sum(o.kind == offer.kind for o in seen.offers) > 1
    name = wish.name or (offer.key if several and offer.key else wish.path.stem)
    if not wish.name and any(h.name == name and h.source == str(wish.path.resolve()) for h in state.holdings):
        # Things of one file are told apart by what they are.
        name = f"{name}, {KINDS[offer.kind].lower()}"
    return Holding(
        id=key,
        name=free_name(name, [h.name for h in state.holdings]),
        kind=item.kind,
        epoch=wish.epoch,
        source=str(wish.path.resolve()),
        source_size=wish.path.stat().st_size,
        data=f"data/{key}",
        points=item.count,
        notes=_told(notes, wish, placing),
        steps=_steps(wish, placing, ", ".join(wish.parts)),
    )


def _told(notes: Iterable[tuple[str, str]], wish: ImportWish, placing: Placing) -> tuple[tuple[str, str], ...]:
    """What is told of a file: not what the analyst said instead of it, and what its numbers were taken for."""
    every = tuple(notes)
    kept = tuple(note for note in every if note[0] not in UNSAID)
    if len(kept) == len(every) or wish.source is not None or wish.unit_in is not None:
        return kept
    if placing.how != LABEL:
        return every
    words = (
        f"the file names no reference system; its numbers are taken for those of the job, {placing.target.unit.plural}"
    )
    return (*kept, ("crs-missing", words))


def _keep_picture(path: Path, target: Path, what: tuple[Placed, Placing], progress: Progress) -> Placed:
    from kerb.formats.rasters import store_picture

    item, placing = what
    assert isinstance(item.thing, PictureRef)
    work = target.with_name(target.name + ".partial")
    shutil.rmtree(work, ignore_errors=True)
    try:
        work.mkdir(parents=True)
        warp = None
        if placing.how == TRANSFORM:
            placing.route()
            warp = (placing.source.wkt, placing.target.wkt)
        moved = relocated(item, placing).thing
        assert isinstance(moved, PictureRef)
        affine = None if warp else moved.affine
        width, height, affine = store_picture(path, work / "picture.tif", (affine, warp), progress.within(0.1, 1.0))
        kept = Placed(PICTURE, PictureRef(width, height, affine), placing.result)
        vault.write_parts(work, kept)
        put_in_place(work, target)
    except OSError as error:
        shutil.rmtree(work, ignore_errors=True)
        raise OutputError(refusal(error, target)) from None
    except BaseException:
        shutil.rmtree(work, ignore_errors=True)
        raise
    return kept


def opened(wish: ImportWish) -> PointStream:
    """The stream of a wish, with the unit or system it states."""
    bounds = wish.sieve.bounds() if wish.placing is None or wish.placing.how == AS_IS else None
    chosen: tuple[int, ...] = ()
    if wish.parts:
        names = [name for name, _ in examine(wish.path).offer(CLOUD).parts]
        chosen = tuple(number for number, name in enumerate(names) if name in wish.parts)
        if not chosen:
            raise InputError(f"{wish.path}: has no setup named {', '.join(wish.parts)}")
    stream = open_points(wish.path, how=Opening(wish.partial, wish.plan, chosen, bounds, _spacing_in_file(wish)))
    if wish.source is not None:
        return stated_system(stream, wish.source)
    return stream if wish.unit_in is None else stated_unit(stream, wish.unit_in)


def _spacing_in_file(wish: ImportWish) -> float:
    """The spacing asked for, in the unit of the file where that is known to be the job's; else all is read."""
    same = wish.placing is None or wish.placing.factors == (1.0, 1.0)
    return wish.sieve.spacing if same else 0.0


def stated(wish: ImportWish, reference: ReferenceSystem) -> ReferenceSystem:
    """What the numbers of a file are in: as the wish states, else as the file does."""
    if wish.source is not None:
        return wish.source
    if wish.unit_in is None:
        return reference
    confirmed = reference.confirmed(wish.unit_in)
    return replace(confirmed, wkt="", code="") if reference.unit != wish.unit_in else confirmed


def default_placing(state: JobState, source: ReferenceSystem, middle: tuple[float, float] | None) -> Placing:
    """What is done with numbers in ``source`` when nobody says otherwise."""
    job = state.title.reference_system() if state.holdings else None
    return suggested(source, job, state.title.length_unit(), middle)


def check_place(job: Job, item: Site, original: Site | None = None) -> PlaceCheck:
    """Hold something new, as it would lie in the job, against what the job has."""
    return check(item, site.of_job(job), original)


def _name_of(wish: ImportWish) -> str:
    return f"{wish.path.stem} and {len(wish.more)} more" if wish.more else wish.path.stem


def _steps(wish: ImportWish, placing: Placing, taken: str) -> tuple[str, ...]:
    files = [wish.path.name, *(other.path.name for other in wish.more)]
    steps = [f"Imported from {first_of(files, 6)}", placing.sentence]
    return (*steps, f"Taken: {taken}") if taken else tuple(steps)


def added(job: Job, holding: Holding) -> Change:
    """Put an imported holding into the job; the first one sets unit and reference system."""
    reference = job.reference_of(holding)

    def apply(state: JobState) -> JobState:
        if not state.holdings:
            title = replace(state.title, unit=reference.unit.code, reference=reference.to_json())
            if title.name == "Untitled job":
                title = replace(title, name=holding.name)
            state = replace(state, title=title)
        return state.with_holding(holding)

    settings = {"source": holding.source, "points": holding.points, "notes": list(holding.notes), "how": holding.steps}
    return Change(f"Imported {Path(holding.source).name} ({size_words(job, holding)})", apply, settings)


def size_words(job: Job, holding: Holding) -> str:
    """How much a holding is: ``2.36 M points``, ``12 lines``."""
    if holding.kind == CLOUD:
        return f"{count(holding.points)} points"
    words = words_for(holding.kind, job.thing(holding).thing)
    return f"{count(holding.points)} {words if holding.points != 1 else words.removesuffix('s')}"


def altered(before: Holding, sentence: str, **values: object) -> Change:
    """Change named values of a holding."""
    after = replace(before, **values)  # type: ignore[arg-type]
    return Change(sentence, lambda state: state.with_holding(after), dict(values))


def removed(holding: Holding) -> Change:
    """Take a holding out of the job; its data stay in the folder so that undo brings it back."""
    return Change(f"Removed {holding.name}", lambda state: state.without_holding(holding.id))


def duplicated(job: Job, holding: Holding) -> tuple[Change, Holding]:
    """Add a copy of a holding. Its files are shared until one of the two is changed. Raises JobError."""
    key = uuid.uuid4().hex[:10]
    name = free_name(holding.name, [h.name for h in job.state.holdings])
    twin = replace(holding, id=key, name=name, data=f"data/{key}", steps=(*holding.steps, f"Copy of {holding.name}"))
    try:
        # Files of a holding are replaced and never written into, so that a second name for them is a safe copy.
        shutil.copytree(job.folder / holding.data, job.folder / twin.data, copy_function=_linked)
    except (OSError, shutil.Error) as error:
        shutil.rmtree(job.folder / twin.data, ignore_errors=True)
        raise JobError(f"{job.folder}: {holding.name} cannot be copied ({error})") from None
    return Change(f"Duplicated {holding.name}", lambda state: state.with_holding(twin)), twin


def _linked(source: str, target: str) -> str:
    try:
        os.link(source, target)
    except OSError:
        shutil.copy2(source, target)
    return target


def source_missing(holding: Holding) -> bool:
    """Whether the file a holding came from is no longer where it was. The imported data do not need it."""
    return bool(holding.source) and not Path(holding.source).exists()


def set_system(reference: ReferenceSystem) -> Change:
    """Label the whole job with a reference system: no number changes. Every holding takes the label."""

    def apply(state: JobState) -> JobState:
        title = replace(state.title, unit=reference.unit.code, reference=reference.to_json())
        held = tuple(replace(holding, label=reference.to_json()) for holding in state.holdings)
        return replace(state, title=title, holdings=held)

    return Change(f"Set the reference system: {reference.sentence}", apply, reference.to_json())
