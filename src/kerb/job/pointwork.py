"""What is done with points of a cloud, as steps that undo takes back: set aside, parts, classes, clouds of their own.

No point is ever changed or deleted: a step writes a set of points and names it in the holding.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np

from kerb.core.arrays import AnyArray, Bytes, Mask
from kerb.core.cloud.classes import GROUND, class_words
from kerb.core.cloud.excerpt import excerpt
from kerb.core.cloud.filters import counts, values_of
from kerb.core.cloud.store import CLASSES, PART, CloudStore, different_values
from kerb.core.errors import InputError, JobError
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress
from kerb.core.quantity import MINUS, count, symbol
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, Part, free_name
from kerb.job.studies import part_renamed

INKS = ("#4c7a8f", "#b57f4a", "#6c8f5a", "#97627e", "#8a8a4d", "#5a6fa0", "#a85c50", "#5f9a90")
MOST_PARTS = 255
MOST_SPLIT = 60
NOWHERE = 255


def set_aside(job: Job, holding: Holding, points: Mask, words: str = "Set aside {} points of {}") -> Change:
    """Set points, (n,), aside as well. Raises InputError, when none would be left; JobError."""
    store = job.store(holding)
    used = store.in_use()
    gone = points | ~used
    if gone.all():
        raise InputError("That would set aside every point of the cloud; hide the holding instead.")
    more = count(int(np.count_nonzero(points & used)))
    return _altered(holding, words.format(more, holding.name), aside=_kept(store, gone))


def keep_only(job: Job, holding: Holding, points: Mask) -> Change:
    """Set aside everything else. Raises as :func:`set_aside`."""
    return set_aside(job, holding, ~points, "Kept only a selection, set aside {} points of {}")


def bring_back(job: Job, holding: Holding, points: Mask | None = None) -> Change:
    """Bring back set-aside points, those of a mask or all. Raises InputError, when there are none; JobError."""
    store = job.store(holding)
    gone = ~store.in_use()
    coming = gone if points is None else gone & points
    number = int(np.count_nonzero(coming))
    if not number:
        where = "of this cloud" if points is None else "in the selection"
        raise InputError(f"Nothing {where} is set aside.")
    left = gone & ~coming
    name = _kept(store, left) if left.any() else ""
    which = f"all {count(number)} points" if not name else f"{count(number)} points"
    return _altered(holding, f"Brought back {which} of {holding.name}", aside=name)


def new_part(job: Job, holding: Holding, points: Mask, name: str) -> Change:
    """Make a part of points; other parts lose them. Raises InputError, when there is no room for more; JobError."""
    _some(points)
    number = _free_number(holding)
    name = free_name(name, [part.name for part in holding.parts])
    store = job.store(holding)
    made = Part(number, name, _kept(store, points), int(np.count_nonzero(points)), INKS[(number - 1) % len(INKS)])
    parts = (*_without(store, holding, points), made)
    return _altered(holding, f"Made part {name} of {holding.name}: {count(made.count)} points", parts=parts)


def add_to_part(job: Job, holding: Holding, points: Mask, number: int) -> Change:
    """Put points into a part, out of any other. Raises JobError."""
    _some(points)
    store, part = job.store(holding), _part(holding, number)
    whole = points | store.set_of(part.points)
    rest = _without(store, holding, points, but=number)
    parts = tuple(_filled(store, p, whole) if p.number == number else p for p in rest)
    more = int(np.count_nonzero(whole)) - part.count
    return _altered(holding, f"Added {count(more)} points to part {part.name} of {holding.name}", parts=parts)


def take_from_part(job: Job, holding: Holding, points: Mask, number: int) -> Change:
    """Take points out of a part. Raises JobError."""
    store, part = job.store(holding), _part(holding, number)
    left = store.set_of(part.points) & ~points
    fewer = part.count - int(np.count_nonzero(left))
    parts = tuple(
        _filled(store, p, left) if p.number == number else p for p in holding.parts if p.number != number or left.any()
    )
    return _altered(holding, f"Took {count(fewer)} points out of part {part.name} of {holding.name}", parts=parts)


def merged_parts(job: Job, holding: Holding, into: int, other: int) -> Change:
    """Put all points of one part into another. Raises JobError."""
    store, target, gone = job.store(holding), _part(holding, into), _part(holding, other)
    whole = store.set_of(target.points) | store.set_of(gone.points)
    parts = tuple(_filled(store, p, whole) if p.number == into else p for p in holding.parts if p.number != other)
    return _altered(holding, f"Merged part {gone.name} into {target.name} of {holding.name}", parts=parts)


def altered_part(holding: Holding, number: int, **values: Any) -> Change:
    """Give a part another name or colour, or hide it; how it looks is no step for undo."""
    part = _part(holding, number)
    after = replace(part, **values)
    parts = tuple(after if p.number == number else p for p in holding.parts)
    words = f"Renamed part {part.name} to {after.name}" if after.name != part.name else f"Coloured part {part.name}"
    if after.shown != part.shown:
        words = f"{'Showed' if after.shown else 'Hid'} part {part.name}"
    change = _altered(holding, f"{words} of {holding.name}", parts=parts)

    def apply(state: JobState) -> JobState:
        """Studies of the part go on with its new name."""
        return part_renamed(change.apply(state), holding.id, part.name, after.name)

    return replace(change, apply=apply, undoable=after.name != part.name)


def removed_part(holding: Holding, number: int) -> Change:
    """Forget a part; its points stay in the cloud."""
    part = _part(holding, number)
    parts = tuple(p for p in holding.parts if p.number != number)
    return _altered(holding, f"Removed part {part.name} of {holding.name}; its points stay", parts=parts)


def split_by(
    job: Job, holding: Holding, column: str, naming: Callable[[int], str], inking: Callable[[int], str] | None = None
) -> Change:
    """Make a part of each value of a listed column, in place of the parts there are; ``inking`` gives it its colour.

    Raises InputError, when it has too many values to be parts, or one only; JobError.
    """
    store = job.store(holding)
    values = np.asarray(store.column(column))
    used = store.in_use()
    found = list(counts(store, column))
    if not 2 <= len(found) <= MOST_SPLIT:
        raise InputError(f"{column} has {len(found)} values; parts are made of 2 to {MOST_SPLIT}")
    parts = []
    for key, value in enumerate(found, 1):
        mine = (values == value) & used
        ink = inking(value) if inking is not None else INKS[(key - 1) % len(INKS)]
        parts.append(Part(key, naming(value), _kept(store, mine), int(np.count_nonzero(mine)), ink))
    return _altered(holding, f"Split {holding.name} by {column} into {len(parts)} parts", parts=tuple(parts))


def split_at(job: Job, holding: Holding, column: str, limits: tuple[float, ...], unit: str = "") -> Change:
    """Make a part of each range between limits of an attribute or ``elevation``, in place of the parts there are.

    A point on a limit is in the range above it; one without a value is in no part. Raises InputError, when the limits
    do not rise or leave all points in one range; JobError.
    """
    if not limits or not np.all(np.isfinite(limits)) or not np.all(np.diff(limits) > 0):
        raise InputError("the limits between parts are numbers that rise, such as 0.5, 2")
    if len(limits) >= MOST_SPLIT:
        raise InputError(f"{len(limits)} limits; parts are made of 2 to {MOST_SPLIT}")
    store = job.store(holding)
    place = _ranges_of(store, column, limits)
    usable = store.in_use()
    ends = [f"{limit:.8g}".replace("-", MINUS) for limit in limits]
    words = [f"below {ends[0]}", *(f"{a} – {b}" for a, b in pairwise(ends)), f"from {ends[-1]}"]
    parts: list[Part] = []
    for at, range_ in enumerate(words):
        mine = usable & (place == at)
        if mine.any():
            key, size = len(parts) + 1, int(np.count_nonzero(mine))
            ink = INKS[(key - 1) % len(INKS)]
            parts.append(Part(key, f"{range_} {symbol(unit)}".rstrip(), _kept(store, mine), size, ink))
    if len(parts) < 2:
        raise InputError(f"these limits leave all points of {holding.name} in one part")
    return _altered(holding, f"Split {holding.name} by {column} at {', '.join(ends)}", parts=tuple(parts))


def _ranges_of(store: CloudStore, column: str, limits: tuple[float, ...]) -> Bytes:
    """In which range between limits each point, (n,), lies; 255 where it has no value."""
    place = np.zeros(store.count, np.uint8)

    def some(span: tuple[int, int]) -> None:
        rows = slice(*span)
        values = values_of(store, column, rows)
        for limit in limits:
            place[rows] += values >= limit
        place[rows][~np.isfinite(values)] = NOWHERE

    each(some, ranges(store.count, least=500_000))
    return place


def give_class(job: Job, holding: Holding, points: Mask, code: int) -> Change:
    """Give points a class; the file's own classes stay as they are underneath. Raises InputError; JobError."""
    _some(points)
    if not 0 <= code <= 255:
        raise InputError(f"class {code}: classes are 0 to 255")
    store = job.store(holding)
    other = points
    if store.has(CLASSES):
        other = points & (np.asarray(store.column(CLASSES)) != code)
    number = int(np.count_nonzero(other))
    if not number:
        raise InputError(f"All of these points are of class {code} already.")
    words = f"Gave {count(number)} points of {holding.name} class {' '.join(class_words(code).split())}"
    return _altered(holding, words, given=(*holding.given, (_kept(store, other), code)))


def give_classes(job: Job, holding: Holding, classes: Bytes, words: str, settings: dict[str, Any]) -> Change:
    """Give every point its class of ``classes`` (n,), as one step. Raises JobError."""
    store = job.store(holding)
    before = np.asarray(store.column(CLASSES)) if store.has(CLASSES) else np.zeros(store.count, np.uint8)
    different = classes != before
    given = holding.given
    for code in different_values(classes):
        mine = different & (classes == code)
        if mine.any():
            given = (*given, (_kept(store, mine), int(code)))
    return Change(words, lambda state: state.with_holding(replace(holding, given=given)), settings)


def ground_words(holding: Holding, classes: Bytes, used: Mask, how: str) -> str:
    """The sentence of the job record on a ground that was found."""
    found = int(np.count_nonzero(classes[used] == GROUND))
    return f"Found the ground of {holding.name}: {count(found)} of {count(int(np.count_nonzero(used)))} points. {how}"


def computed(holding: Holding, attribute: str, words: str) -> Change:
    """An attribute was computed, anew or for the first time: what was found by the one before is stale."""

    def apply(state: JobState) -> JobState:
        now = state.holding(holding.id)
        if now is None:
            return state
        return state.with_holding(replace(now, computed={**now.computed, attribute: uuid.uuid4().hex[:10]}))

    return Change(f"Computed {words} of {holding.name}", apply, undoable=False)


def cloud_of(job: Job, holding: Holding, points: Mask, name: str, progress: Progress) -> Holding:
    """Write points as a cloud of its own into the job's folder; :func:`cloud_added` puts it into the job.

    Raises InputError, when there are no points; JobError; Cancelled.
    """
    key = uuid.uuid4().hex[:10]
    made = excerpt(job.store(holding), points, job.folder / "data" / key, progress)
    steps = (*holding.steps, f"{count(made.count)} points of {holding.name}")
    return replace(
        holding, id=key, name=free_name(name, [h.name for h in job.state.holdings]), data=f"data/{key}",
        points=made.count, steps=steps, aside="", parts=(), given=(), filters=(), visible=True,
    )  # fmt: skip


def cloud_added(holding: Holding, made: Holding, words: str, hide: bool) -> Change:
    """Put a cloud that was made of another into the job, the other hidden where that is wished."""

    def apply(state: JobState) -> JobState:
        current = state.holding(holding.id)
        if hide and current is not None:
            state = state.with_holding(replace(current, visible=False))
        return state.with_holding(made)

    return Change(words, apply, {"points": made.points})


def part_mask(store: CloudStore, number: int) -> Mask:
    """The points, (n,), of a part as the store has it now."""
    return np.asarray(store.column(PART)) == number if store.has(PART) else np.zeros(store.count, np.bool_)


def _altered(holding: Holding, words: str, **values: Any) -> Change:
    after = replace(holding, **values)
    settings = {key: value for key, value in values.items() if key == "aside"}
    return Change(words, lambda state: state.with_holding(after), settings)


def _without(store: CloudStore, holding: Holding, points: Mask, but: int = 0) -> tuple[Part, ...]:
    """The parts without some points, those that become empty left out."""
    if not holding.parts:
        return ()
    parts = []
    for part in holding.parts:
        left = store.set_of(part.points) & ~points if part.number != but else None
        if left is None or np.count_nonzero(left) == part.count:
            parts.append(part)
        elif left.any():
            parts.append(_filled(store, part, left))
    return tuple(parts)


def _filled(store: CloudStore, part: Part, points: Mask) -> Part:
    return replace(part, points=_kept(store, points), count=int(np.count_nonzero(points)))


def _free_number(holding: Holding) -> int:
    taken = {part.number for part in holding.parts}
    number = next((n for n in range(1, MOST_PARTS + 1) if n not in taken), None)
    if number is None:
        raise InputError(f"A cloud has {MOST_PARTS} parts at most; merge or remove some first.")
    return number


def _part(holding: Holding, number: int) -> Part:
    part = holding.part(number)
    if part is None:
        raise InputError(f"{holding.name} has no part {number}")
    return part


def _some(points: AnyArray) -> None:
    if not points.any():
        raise InputError("There are no points in the selection.")


def _kept(store: CloudStore, points: Mask) -> str:
    try:
        return store.keep_set(points)
    except OSError as error:
        raise JobError(f"{store.folder}: the points cannot be kept ({error.strerror or error})") from None
