"""Shapes that the trials of studies draw on the mound they are run on, which stands at the origin."""

from __future__ import annotations

import numpy as np

from kerb.core.geometry.polygon import box
from kerb.studies.drawn import Drawn, Item


def square(half: float) -> Drawn:
    """A square about the top of the mound."""
    return Drawn.of(box(np.full(2, -half), np.full(2, half)))


def circle(radius: float) -> Drawn:
    """Twelve corners about the top of the mound."""
    angle = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    return Drawn.of(radius * np.column_stack([np.cos(angle), np.sin(angle)]))


def item(name: str, drawn: Drawn, **values: str | float) -> Item:
    """One of several, named and with values of its own."""
    return Item(name, name, drawn, tuple(values.items()))
