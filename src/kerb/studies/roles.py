"""The roles of what an outcome draws, and the look of each: the one list of them.

A role has a colour on paper, a part of the theme that gives it on screen, and how strongly a mesh of it is drawn in front of the
points and behind them.
"""

from __future__ import annotations

from dataclasses import dataclass

Rgb = tuple[int, int, int]
INK, SHEET, ACCENT, EDGE, BASE = "ink", "sheet", "accent", "edge", "base"


@dataclass(frozen=True)
class Role:
    """The look of a role: its colour on paper; the part of the theme that gives it on screen (none: the same); the opacity of a
    mesh in front of the points and behind them."""

    paper: Rgb
    theme: str = ""
    seen: tuple[float, float] = (1.0, 0.0)


ROLES = {
    "edge": Role((181, 71, 42), EDGE),
    "base": Role((124, 143, 166), BASE, (0.85, 0.35)),
    "top": Role((214, 178, 112)),
    "gap": Role((60, 60, 60), INK, (0.75, 0.75)),
    "unseen": Role((255, 255, 255), SHEET),
    "mark": Role((29, 77, 87), ACCENT),
    "label": Role((35, 40, 42), INK),
    "dimension": Role((35, 40, 42), INK),
    "fill": Role((169, 98, 10)),
    "cut": Role((47, 59, 134)),
    "map": Role((29, 77, 87), ACCENT, (0.95, 0.85)),
}
PAPER = {name: role.paper for name, role in ROLES.items()}


def on_screen(parts: dict[str, Rgb]) -> dict[str, Rgb]:
    """The colour of each role with those of the parts of a theme."""
    return {name: parts.get(role.theme, role.paper) for name, role in ROLES.items()}
