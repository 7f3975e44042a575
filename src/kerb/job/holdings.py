"""Bring files into a job, and changes to holdings."""

from __future__ import annotations

import uuid
from dataclasses import dataclass, replace
from pathlib import Path

from kerb.core.cloud.builder import Preview, build
from kerb.core.cloud.layout import PointStream
from kerb.core.progress import Progress
from kerb.core.quantity import count
from kerb.core.units import LengthUnit
from kerb.formats.points import in_unit, open_points, stated_unit
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, free_name


@dataclass(frozen=True)
class ImportWish:
    """How a file is to be brought in: a stated unit of its numbers, an epoch, and whether a broken file may be used."""

    path: Path
    unit_in: LengthUnit | None = None
    epoch: str = ""
    partial: bool = False


def import_cloud(
    folder: Path, state: JobState, wish: ImportWish, progress: Progress, preview: Preview | None = None
) -> Holding:
    """Import a file of points into the data of a job folder; the job itself is not changed.

    The first cloud rules the unit of the job; later ones are converted to it.

    Raises
    ------
    InputError, FormatError or TruncatedError naming the file; Cancelled. None of them leaves anything behind.
    """
    stream = opened(wish)
    if state.holdings:
        stream = in_unit(stream, state.title.length_unit())
    elif stream.layout.reference.unit != stream.layout.reference.vertical_unit:
        stream = in_unit(stream, stream.layout.reference.unit)
    key = uuid.uuid4().hex[:10]
    store = build(stream, folder / "data" / key, progress, preview)
    return Holding(
        id=key,
        name=free_name(wish.path.stem, [h.name for h in state.holdings]),
        epoch=wish.epoch,
        source=str(wish.path.resolve()),
        source_size=wish.path.stat().st_size,
        data=f"data/{key}",
        points=store.count,
        notes=tuple(stream.warnings),
    )


def opened(wish: ImportWish) -> PointStream:
    """The stream of a wish, with its stated unit."""
    stream = open_points(wish.path, wish.partial)
    return stream if wish.unit_in is None else stated_unit(stream, wish.unit_in)


def added(job: Job, holding: Holding) -> Change:
    """Put an imported holding into the job; the first one sets unit and reference system."""
    reference = job.store(holding).reference

    def apply(state: JobState) -> JobState:
        if not state.holdings:
            title = replace(state.title, unit=reference.unit.code, reference=reference.to_json())
            if title.name == "Untitled job":
                title = replace(title, name=holding.name)
            state = replace(state, title=title)
        return state.with_holding(holding)

    settings = {"source": holding.source, "points": holding.points, "notes": list(holding.notes)}
    return Change(f"Imported {Path(holding.source).name} ({count(holding.points)} points)", apply, settings)


def altered(before: Holding, sentence: str, **values: object) -> Change:
    """Change named values of a holding."""
    after = replace(before, **values)  # type: ignore[arg-type]
    return Change(sentence, lambda state: state.with_holding(after), dict(values))


def removed(holding: Holding) -> Change:
    """Take a holding out of the job; its data stay in the folder so that undo brings it back."""
    return Change(f"Removed {holding.name}", lambda state: state.without_holding(holding.id))


def source_missing(holding: Holding) -> bool:
    """Whether the file a holding came from is no longer where it was. The imported data do not need it."""
    return bool(holding.source) and not Path(holding.source).exists()
