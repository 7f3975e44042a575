"""LandXML alignments: CoordGeom of lines, curves and clothoid spirals, and ProfAlign of vertical curves."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.alignment import Alignment, Element, Grade, arc, straight

Notes = list[tuple[str, str]]
JUMP = 0.01
SAME_STATION = 1e-6
# Lengths on a map and on the ground differ by parts in ten thousand; more than this is another count.
MOST_STRETCH = 0.01


def read_alignment(node: Any, name: str = "") -> tuple[Alignment | None, Notes]:
    """An alignment of an <Alignment> or <CoordGeom> element, None without any element, and what was odd.

    An irregular line of an alignment is read as straights; those of a bare <CoordGeom> are left to the caller.

    Raises
    ------
    ValueError, when a number is missing or makes no sense.
    """
    name = name or node.get("name") or "alignment"
    geometry = node if _tag(node) == "CoordGeom" else next(_children(node, "CoordGeom"), None)
    if geometry is None:
        return None, [("no-geometry", f"alignment '{name}' has no geometry")]
    notes: Notes = []
    elements: list[Element] = []
    said: list[float] = []
    for child in geometry:
        kind, before = _tag(child), len(elements)
        if kind == "Line":
            elements.append(straight(_end(child, "Start"), _end(child, "End")))
        elif kind == "Curve":
            right = child.get("rot") != "ccw"
            length = _number(child, "length") if child.get("length") else None
            elements.append(arc(_end(child, "Start"), _end(child, "Center"), _end(child, "End"), right, length))
        elif kind == "Spiral":
            elements.append(_spiral(child, elements, name, notes))
        elif kind == "IrregularLine" and geometry is not node:
            elements += [straight(a, b) for a, b in pairwise(_irregular(child))]
        station = float(child.get("staStart") or "nan")
        said += [station if number == 0 else float("nan") for number in range(len(elements) - before)]
    said = [station for station, element in zip(said, elements, strict=True) if element.length > 0]
    elements = [element for element in elements if element.length > 0]
    notes += _jumps(elements, name)
    start = float(node.get("staStart") or geometry.get("staStart") or 0.0)
    stations = _stations(said, elements, start, name, notes)
    length = stations[-1] - start if stations else sum(element.length for element in elements)
    equations = _equations(node, start, length, name, notes)
    if not elements:
        return None, notes
    profiles = [align for profile in _children(node, "Profile") for align in _children(profile, "ProfAlign")]
    if len(profiles) > 1:
        names = ", ".join(f"'{align.get('name') or number}'" for number, align in enumerate(profiles[1:], 2))
        first = profiles[0].get("name") or "the first"
        words = f"alignment '{name}' has {len(profiles)} profiles; '{first}' is taken, not {names}"
        notes.append(("profiles", words))
    grades = _profile(profiles[0], name, notes) if profiles else ()
    return Alignment(name, start, tuple(elements), grades, stations, equations), notes


def _irregular(node: Any) -> list[Floats]:
    """The vertices of an irregular line: its list of places, or its ends alone."""
    for kind, size in (("PntList3D", 3), ("PntList2D", 2)):
        for child in _children(node, kind):
            values = np.array([float(word) for word in (child.text or "").split()])
            if len(values) % size or len(values) < 2 * size or not np.isfinite(values).all():
                raise ValueError(f"<{kind}> holds no places of {size} numbers")
            return list(values.reshape(-1, size)[:, [1, 0]])
    return [_end(node, "Start"), _end(node, "End")]


def _stations(said: list[float], elements: list[Element], start: float, name: str, notes: Notes) -> tuple[float, ...]:
    """Stations of all elements where the file tells them and they are not lengths added up; the last one goes on."""
    if not elements or not np.isfinite(said).all():
        return ()
    lengths = np.array([element.length for element in elements])
    told = np.append(np.array(said, float), said[-1] + lengths[-1])
    if abs(told[0] - start) > SAME_STATION or (np.diff(told) <= 0).any():
        notes.append(
            ("stations", f"alignment '{name}': the stations of its elements do not run on; they are not applied")
        )
        return ()
    stretch = np.diff(told)[:-1] / lengths[:-1]
    if len(stretch):
        # The last element tells no end: it is stretched as those before it are.
        told[-1] = told[-2] + lengths[-1] * float(np.median(stretch))
    if np.abs(np.diff(told) / lengths - 1).max(initial=0.0) > MOST_STRETCH:
        notes.append(
            (
                "stations",
                f"alignment '{name}': the stations of its elements are not their lengths; they are not applied",
            )
        )
        return ()
    added = start + np.append(0.0, np.cumsum(lengths))
    return () if np.abs(told - added).max() < SAME_STATION else tuple(told.tolist())


def _equations(node: Any, start: float, length: float, name: str, notes: Notes) -> tuple[tuple[float, float], ...]:
    """Station equations: where each stands, counted on from the start, and its ahead side. One that cannot be is said."""
    found: list[tuple[float, float]] = []
    for child in _children(node, "StaEquation"):
        ahead = _number(child, "staAhead")
        if child.get("staInternal"):
            at = _number(child, "staInternal")
        else:
            # Without it the back side says where, by the count before.
            back = _number(child, "staBack")
            at = found[-1][0] + back - found[-1][1] if found else back
        decreasing = child.get("staIncrement") == "decreasing"
        if decreasing or not (found[-1][0] if found else start) < at < start + length:
            why = "counts down" if decreasing else f"at {at:g} does not lie on it"
            notes.append(("station-equation", f"alignment '{name}': a station equation {why}; it is not applied"))
            continue
        found.append((at, ahead))
    return tuple(found)


def _spiral(node: Any, before: list[Element], name: str, notes: Notes) -> Element:
    kind = (node.get("spiType") or "clothoid").lower()
    start, end = _end(node, "Start"), _end(node, "End")
    length = _number(node, "length")
    sign = -1.0 if node.get("rot") == "ccw" else 1.0
    k0, k1 = (
        sign / r if np.isfinite(r) and r > 0 else 0.0
        for r in map(_radius, (node.get("radiusStart"), node.get("radiusEnd")))
    )
    if kind != "clothoid":
        notes.append(("spiral", f"alignment '{name}' has a {kind} spiral; it is read as a clothoid"))
    middle = next(_children(node, "PI"), None)
    if middle is not None and (middle.text or "").strip():
        step = _place(middle.text) - start
        azimuth = float(np.arctan2(step[0], step[1]))
    elif before:
        azimuth = float(before[-1].direction(np.array([before[-1].length]))[0])
    else:
        raise ValueError("a spiral without PI at the start has no direction")
    element = Element((float(start[0]), float(start[1])), azimuth, length, k0, k1)
    miss = float(np.hypot(*(element.end - end)))
    if miss > max(JUMP, 1e-4 * length):
        # The chord is certain, the direction only derived: turn the element so that it ends where the file says.
        made, wanted = element.end - start, end - start
        turn = float(np.arctan2(wanted[0], wanted[1]) - np.arctan2(made[0], made[1]))
        element = Element(element.start, azimuth + turn, length, k0, k1)
        miss = float(np.hypot(*(element.end - end)))
        if miss > max(JUMP, 1e-3 * length):
            notes.append(("spiral-end", f"a spiral of alignment '{name}' misses its stated end by {miss:.3f}"))
    return element


def _jumps(elements: list[Element], name: str) -> Notes:
    gaps = [float(np.hypot(*(a.end - np.array(b.start)))) for a, b in pairwise(elements)]
    worst = max(gaps, default=0.0)
    return [("gap", f"elements of alignment '{name}' are up to {worst:.3f} apart")] if worst > JUMP else []


def levels(geometry: Any) -> list[tuple[float, float]]:
    """Elevations at the start and end of each element of a <CoordGeom> that has a length; NaN where none is said."""
    found = []
    for child in geometry:
        if _tag(child) in ("Line", "Curve", "Spiral"):
            ends = [next(_children(child, name), None) for name in ("Start", "End")]
            words = [(end.text or "").split() if end is not None else [] for end in ends]
            if words[0][:2] != words[1][:2] or _tag(child) != "Line":
                first, last = (float(w[2]) if len(w) > 2 else float("nan") for w in words)
                found.append((first, last))
    return found


def _profile(align: Any, name: str, notes: Notes) -> tuple[Grade, ...]:
    grades = []
    for child in align:
        kind = _tag(child)
        if kind not in ("PVI", "ParaCurve", "CircCurve", "UnsymParaCurve"):
            continue
        station, elevation = [float(word) for word in (child.text or "").split()][:2]
        length = _number(child, "length") if kind in ("ParaCurve", "CircCurve") else 0.0
        first = None
        if kind == "UnsymParaCurve":
            first = _number(child, "lengthIn")
            length = first + _number(child, "lengthOut")
        elif kind == "CircCurve":
            words = (
                f"a circular vertical curve of alignment '{name}' at {station:g} is read as a parabola of its length"
            )
            notes.append(("circular-curve", words))
        if not np.isfinite([station, elevation, length]).all():
            raise ValueError(f"a point of the profile has no number: '{(child.text or '').strip()[:40]}'")
        grades.append(Grade(station, elevation, length, first))
    grades.sort(key=lambda grade: grade.station)
    if any(b.station <= a.station for a, b in pairwise(grades)):
        raise ValueError("two points of the profile have the same station")
    return tuple(grades)


def _end(node: Any, name: str) -> Floats:
    child = next(_children(node, name), None)
    if child is None:
        raise ValueError(f"<{name}> is missing")
    return _place(child.text)


def _place(text: str | None) -> Floats:
    values = [float(word) for word in (text or "").split()]
    if len(values) < 2 or not np.isfinite(values).all():
        raise ValueError(f"'{(text or '').strip()[:40]}' is no place")
    return np.array([values[1], values[0]])


def _number(node: Any, key: str) -> float:
    text = node.get(key)
    if text is None:
        raise ValueError(f"'{key}' is missing")
    value = float(text)
    if not np.isfinite(value) or value < 0:
        raise ValueError(f"'{key}' is {text}")
    return value


def _radius(text: str | None) -> float:
    return float("inf") if text is None or re.fullmatch(r"[+-]?inf(inity)?", text.strip(), re.I) else float(text)


def _tag(node: Any) -> str:
    return node.tag.rpartition("}")[2] if isinstance(node.tag, str) else ""


def _children(node: Any, name: str) -> Iterator[Any]:
    return (child for child in node if _tag(child) == name)
