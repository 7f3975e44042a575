"""Which line or alignment of a holding is meant, where a study runs along one."""

from __future__ import annotations

from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.quantity import first_of
from kerb.core.section.stations import alignment_of
from kerb.studies.sources import Sources


def line_of(sources: Sources, field: str, which: str, with_profile: bool = False) -> Alignment:
    """The alignment, or the open line, of the holding that a field names; the one called ``which`` where it has several. A line
    has its elevations as a profile where that is asked for.

    Raises InputError, when there is none of that name, or several and none is named.
    """
    lines, name = sources.lines(field), sources.source(field).name
    exact = {one.name for one in lines.alignments}
    found = list(lines.alignments)
    for row, line in enumerate(lines.lines, 1):
        if not line.closed and line.name not in exact:
            found.append(alignment_of(line.xyz, line.name or f"line {row}", with_profile))
    labels = told_apart([one.name for one in found])
    if which:
        wanted = [row for row, one in enumerate(found) if which in (one.name, labels[row])]
        if not wanted:
            raise InputError(f"{name}: has no line '{which}'; there are {first_of(labels, 10)}")
        if len(wanted) > 1 and which not in labels:
            names = first_of([labels[row] for row in wanted], 10)
            raise InputError(f"{name}: has {len(wanted)} lines '{which}'; say which: {names}")
        return found[labels.index(which) if which in labels else wanted[0]]
    if len(lines.alignments) == 1:
        return lines.alignments[0]
    if len(found) != 1:
        raise InputError(f"{name}: has {len(found) or 'no'} lines, one is needed; say which: {first_of(labels, 10)}")
    return found[0]


def told_apart(names: list[str]) -> list[str]:
    """Names with a number behind those that are given more than once: "kerb (1)", "kerb (2)"."""
    seen: dict[str, int] = {}
    made = []
    for name in names:
        seen[name] = seen.get(name, 0) + 1
        made.append(name if names.count(name) == 1 else f"{name} ({seen[name]})")
    return made
