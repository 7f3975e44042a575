"""Changes of the sections that a job keeps by name, and the lines that are taken out of them."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import date

import numpy as np

from kerb.core.arrays import Mask
from kerb.core.cloud.face import face_of
from kerb.core.cloud.store import CloudStore
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import Progress
from kerb.core.quantity import quantity
from kerb.core.section.outlines import CELL_SPACINGS, outlines
from kerb.core.section.placed import PlacedSection
from kerb.core.things import LINES, Placed
from kerb.job import vault
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, free_name
from kerb.studies.outcome import Column, Table


def named(state: JobState, section: PlacedSection) -> PlacedSection:
    """A new section with an id, and a name that no other has."""
    taken = [one.name for one in state.sections]
    number = next(n for n in range(1, len(taken) + 2) if f"Section {n}" not in taken)
    return replace(section, id=uuid.uuid4().hex[:8], name=section.name or f"Section {number}")


def put(section: PlacedSection, words: str) -> Change:
    """Add a section, or put it in place of the one of the same id."""

    def apply(state: JobState) -> JobState:
        if state.section(section.id) is None:
            return replace(state, sections=(*state.sections, section))
        return replace(state, sections=tuple(section if s.id == section.id else s for s in state.sections))

    return Change(words, apply, {"place": list(section.middle), "azimuth": section.azimuth})


def copied(state: JobState, section: PlacedSection, count: int, spacing: float) -> Change:
    """Add so many copies, each further by a spacing, the way one looks."""
    names = [one.name for one in state.sections]
    made = []
    for one in section.copies(count, spacing):
        made.append(replace(one, id=uuid.uuid4().hex[:8], name=free_name(section.name, names)))
        names.append(made[-1].name)
    words = f"Copied section {section.name} {count} times, {quantity(spacing, state.title.unit)} apart"
    return Change(words, lambda s: replace(s, sections=(*s.sections, *made)))


def removed(section: PlacedSection) -> Change:
    """Take a section out."""
    keep = lambda s: replace(s, sections=tuple(one for one in s.sections if one.id != section.id))  # noqa: E731
    return Change(f"Removed section {section.name}", keep)


def outlined(job: Job, holding: Holding, section: PlacedSection, shown: Mask, progress: Progress) -> Change:
    """Closed outlines of what a slice cuts of a cloud, as a holding of lines in its plane.

    Raises NotDeterminable, when no point lies in it; InputError; JobError.
    """
    store = job.store(holding)
    progress.step(0.0, "Cutting the slice")
    local = section.local(store.coordinates(np.flatnonzero(section.inside(store) & shown)))
    progress.step(0.6, "Drawing outlines")
    shapes = outlines(local[:, [0, 2]], CELL_SPACINGS * store.spacing)
    lines = []
    for number, shape in enumerate(shapes, 1):
        name = f"{section.name} {number}"
        for hole, ring in enumerate((shape.exterior, *shape.interiors)):
            xyz = section.job(np.array(ring.coords)[:-1])
            # Holes follow their outline and are named after it, as everywhere.
            lines.append(Line(xyz, True, f"{name} hole {hole}" if hole else name, "outlines"))
    key = uuid.uuid4().hex[:10]
    vault.save_thing(job.folder / "data" / key, Placed(LINES, LineSet(tuple(lines)), job.reference_of(holding)))
    name = free_name(f"Outlines of {section.name}", [h.name for h in job.state.holdings])
    step = f"Outlines of {section.thickness:g} thick slice '{section.name}' of {holding.name}"
    made = Holding(key, name, LINES, holding.epoch or date.today().isoformat(), "", 0, f"data/{key}", len(lines),
                   steps=(step,))  # fmt: skip
    return Change(step, lambda state: state.with_holding(made))


def told_apart(store: CloudStore, mask: Mask) -> str:
    """The column that tells where marked points are from: setup or strip, else file; nothing where all are from one."""
    for name in ("point_source_id", "source_file"):
        if store.has(name) and len(np.unique(store.column(name)[mask])) > 1:
            return name
    return ""


def compared(store: CloudStore, mask: Mask, by: str, names: dict[int, str], unit: str) -> Table:
    """Pair by pair how setups lie to one another on a face of marked points; see :func:`kerb.core.cloud.face.face_of`.

    Raises NotDeterminable.
    """
    rows = np.flatnonzero(mask)
    found = face_of(store.coordinates(rows), np.asarray(store.column(by)[rows]).astype(np.int64))
    columns = (
        Column("one", "", "Setup"), Column("other", "", "Against it"), Column("distance", unit, "Distance"),
        Column("u95", unit, "± 95 %"), Column("points_one", "", "Points"), Column("points_other", "", "Points of the other"),
        Column("spread_one", unit, "Spread"), Column("spread_other", unit, "Spread of the other"),
    )  # fmt: skip
    name = lambda code: names.get(code, f"Source {code}")  # noqa: E731
    pairs = sorted(found.pairs, key=lambda pair: -abs(pair.distance))
    cells = tuple(
        (name(p.one), name(p.other), p.distance, p.u95, found.counts[p.one], found.counts[p.other], found.spreads[p.one],
         found.spreads[p.other]) for p in pairs
    )  # fmt: skip
    east, north, up = found.normal.tolist()
    title = f"Distance along the normal E {east:+.3f} N {north:+.3f} Z {up:+.3f}, of the second from the first"
    return Table(title, columns, cells)
