"""What is needed to repeat a figure, line by line: every setting in force, and how the data came to be as they are."""

from __future__ import annotations

from typing import Any

from kerb.core.geometry import polygon
from kerb.core.quantity import MINUS, Decimals, quantity, symbol
from kerb.core.units import density_unit
from kerb.studies.drawn import Drawn
from kerb.studies.fields import CHOICE, DRAWN, HOLDINGS, MANY, NUMBER, RING, RINGS, SCOPE, SURFACE, SWITCH, Field
from kerb.studies.outcome import Outcome
from kerb.studies.setup import Setup

MOST_VERTICES = 40


def repeat_lines(setup: Setup, outcome: Outcome, decimals: Decimals) -> list[tuple[str, str]]:
    """(what, words) of each setting that has a meaning, and of each step of the inputs."""
    found: list[tuple[str, str]] = []
    for name, about in setup.declared().items():
        if not setup.counts(name) or about.show_only:
            continue
        value = getattr(setup, name)
        used = outcome.settings.get(about.flag or name, value)
        words = _words(about, value, used, (outcome, setup), decimals)
        if words:
            found.append((about.label, words))
    for item in outcome.inputs:
        steps = "; ".join(step.rstrip(".") for step in item.steps)
        if steps:
            found.append((f"{item.role.capitalize()} data", steps))
    return found


def _words(about: Field, value: Any, used: Any, what: tuple[Outcome, Setup], decimals: Decimals) -> str:
    outcome, setup = what
    if about.kind in (SCOPE, SURFACE):
        return str(value.words()) if value.holding and value.narrow else ""
    if about.kind in MANY:
        return "; ".join(one.words() for one in value if one.narrow)
    if about.kind in HOLDINGS:
        return ""
    if about.kind in DRAWN:
        return drawn_words(value, about.kind == RING, outcome.unit, decimals)
    if about.kind == RINGS:
        taken = [item for item in value if item.taken]
        noun = ("step" if about.ways else "line") + ("s" if len(taken) > 1 else "")
        return f"{len(taken)} {noun}: {', '.join(item.name for item in taken)}" if taken else ""
    if about.kind == CHOICE:
        words = dict(about.choices).get(value, str(value))
        return words[:1].lower() + words[1:]
    if about.kind == SWITCH:
        return "yes" if value else "no"
    if about.kind == NUMBER:
        shown = value if value is not None else used
        if not isinstance(shown, (int, float)) or isinstance(shown, bool):
            return ""
        # What was typed is given as it was; what followed from the data does not need all its digits.
        digits, automatic = (f"{shown:.4g}", "(automatic)") if value is None else (f"{shown:.10g}", "")
        mark = _mark(about, outcome.unit, setup.unit_of(about))
        return " ".join(part for part in (digits.replace("-", MINUS), mark, automatic) if part)
    return str(value)


def _mark(about: Field, unit: str, density: str) -> str:
    code = {"length": unit, "area": f"{unit}2", "volume": f"{unit}3"}.get(about.unit, about.unit)
    return density_unit(density).symbol if about.unit == "density" else symbol(code)


def drawn_words(drawn: Drawn, closed: bool, unit: str, decimals: Decimals) -> str:
    """A drawn line in words, with its vertices where there are not too many."""
    if not drawn:
        return ""
    count = f"{len(drawn.xy)} vertices"
    if closed:
        count += f", {quantity(polygon.perimeter(drawn.places), unit, decimals)} round"
    stated = sum(bool(kind) for kind in drawn.stretches)
    if stated:
        count += f", {stated} stretches stated"
    typed = sum(level is not None for level in drawn.z)
    if typed:
        count += f", {typed} elevations typed"
    if drawn.holes:
        count += f", {len(drawn.holes)} holes"
    if len(drawn.xy) > MOST_VERTICES:
        return count
    places = "; ".join(f"{x:.{decimals.length}f} {y:.{decimals.length}f}" for x, y in drawn.xy)
    return f"{count} (easting, northing: {places})"
