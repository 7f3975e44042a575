"""The design line of a tunnel: a closed line across the alignment, and where a wall stands from it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.once import Once

ARC_STEPS = 360
SAME = 1e-9


@dataclass(frozen=True)
class DesignLine:
    """A closed line (n, 2): across, to the right looking up-station, and up, from the alignment; counter-clockwise, without a
    doubled last vertex. Angles are counted from the right over the top, from its ``centre``."""

    corners: Floats

    @Once
    def shape(self) -> shapely.Polygon:
        """As a polygon."""
        made = shapely.Polygon(self.corners)
        shapely.prepare(made)
        return made

    @Once
    def centre(self) -> Floats:
        """Its centroid (2,)."""
        return np.asarray(self.shape.centroid.coords[0])

    @property
    def area(self) -> float:
        """The area it encloses."""
        return float(self.shape.area)

    @property
    def length(self) -> float:
        """Its length all round."""
        return float(self.shape.exterior.length)

    @Once
    def _rays(self) -> tuple[Floats, Floats, Floats]:
        """Angles (n,) of the corners from the centre, rising, the corners in that order and the length along the line to each."""
        local = self.corners - self.centre
        angle = np.arctan2(local[:, 1], local[:, 0])
        first = int(np.argmin(angle))
        angle, local = np.roll(angle, -first), np.roll(local, -first, axis=0)
        legs = np.hypot(*(np.roll(local, -1, axis=0) - local).T)
        return angle, local, np.concatenate([[0.0], np.cumsum(legs)[:-1]])

    @property
    def starlike(self) -> bool:
        """Whether every ray from the centre meets it once."""
        angle, _, _ = self._rays
        return bool(np.all(np.diff(angle) > -SAME))

    def at(self, angle: Floats) -> tuple[Floats, Floats]:
        """Distances (n,) from the centre to the line along rays at angles (n,), and how far along the line that is."""
        known, local, along = self._rays
        angle = (np.asarray(angle) + np.pi) % (2 * np.pi) - np.pi
        leg = np.searchsorted(known, angle, side="right") - 1
        leg = np.where(leg < 0, len(known) - 1, leg)
        a, b = local[leg], local[(leg + 1) % len(known)]
        way = np.column_stack([np.cos(angle), np.sin(angle)])
        edge = b - a
        turn = way[:, 0] * edge[:, 1] - way[:, 1] * edge[:, 0]
        safe = np.where(np.abs(turn) > 1e-300, turn, 1.0)
        radius = (a[:, 0] * edge[:, 1] - a[:, 1] * edge[:, 0]) / safe
        return radius, along[leg] + np.hypot(*(way * radius[:, None] - a).T)

    def where(self, along: Floats) -> Floats:
        """Places (n, 2) at lengths along the line, counted as :meth:`at` does."""
        known, local, starts = self._rays
        along = np.asarray(along) % self.length
        leg = np.clip(np.searchsorted(starts, along, side="right") - 1, 0, len(known) - 1)
        a, b = local[leg], local[(leg + 1) % len(known)]
        long = np.maximum(np.hypot(*(b - a).T), 1e-300)
        return np.asarray(self.centre + a + (b - a) * ((along - starts[leg]) / long)[:, None])

    def normal_distance(self, places: Floats) -> Floats:
        """Distances (n,) of places (n, 2) square to the line, beyond it positive."""
        points = shapely.points(places)
        away = shapely.distance(self.shape.exterior, points)
        return np.where(shapely.contains_xy(self.shape, places[:, 0], places[:, 1]), -away, away)


def checked(corners: Floats, name: str = "profile") -> DesignLine:
    """A design line of corners (n, 2). Raises InputError for one that is no closed line round an area, or crosses itself."""
    corners = np.asarray(corners, float)[:, :2]
    if len(corners) > 1 and np.hypot(*(corners[0] - corners[-1])) < SAME:
        corners = corners[:-1]
    if len(corners) < 3 or not np.isfinite(corners).all():
        raise InputError(f"{name}: a profile is a closed line of three corners at least")
    shape = shapely.Polygon(corners)
    if not shape.is_valid:
        raise InputError(f"{name}: the profile crosses or touches itself")
    if shape.area <= 0:
        raise InputError(f"{name}: the profile encloses nothing")
    line = DesignLine(corners if shape.exterior.is_ccw else corners[::-1].copy())
    if not line.starlike:
        raise InputError(f"{name}: seen from its middle, the profile has parts that hide others; take a simpler line")
    return line


def of_words(words: str) -> DesignLine:
    """A design line of words: ``circle:R`` about the alignment; ``horseshoe:WIDTHxHEIGHT``, upright walls with a half circle
    over them, or ``rectangle:WIDTHxHEIGHT``, both with the middle of their floor on the alignment; or corners ``x,y x,y ...``.

    Raises InputError for anything else.
    """
    kind, _, size = words.strip().lower().partition(":")
    try:
        if kind == "circle":
            radius = float(size)
            if not 0 < radius < 1e6:
                raise ValueError
            return checked(_arc((0.0, 0.0), radius, 0.0, 2 * np.pi)[:-1])
        if kind in ("horseshoe", "rectangle"):
            width, height = (float(part) for part in size.replace("×", "x").split("x"))
            if not (0 < width < 1e6 and (width / 2 if kind == "horseshoe" else 0) < height < 1e6):
                raise ValueError
            half = width / 2
            if kind == "rectangle":
                return checked(np.array([[-half, 0], [half, 0], [half, height], [-half, height]]))
            roof = _arc((0.0, height - half), half, 0.0, np.pi)
            return checked(np.concatenate([[[-half, 0.0], [half, 0.0]], roof]))
        corners = np.array([[float(number) for number in pair.split(",")] for pair in words.replace(";", " ").split()])
        if corners.ndim != 2 or corners.shape[1] != 2:
            raise ValueError
    except ValueError:
        raise InputError(
            f"'{words[:40]}' is no profile; write circle:R, horseshoe:WIDTHxHEIGHT, rectangle:WIDTHxHEIGHT or corners x,y x,y ..."
        ) from None
    return checked(corners)


def _arc(centre: tuple[float, float], radius: float, start: float, end: float) -> Floats:
    """An arc as a line of equal area to it: corners lie a little outside of the circle."""
    steps = max(8, int(np.ceil((end - start) / (2 * np.pi) * ARC_STEPS)))
    angle = np.linspace(start, end, steps + 1)
    step = (end - start) / steps
    own = radius * np.sqrt(step / np.sin(step))
    made = np.asarray(centre) + own * np.column_stack([np.cos(angle), np.sin(angle)])
    made[[0, -1]] = (
        np.asarray(centre) + radius * np.array([[np.cos(start), np.sin(start)], [np.cos(end), np.sin(end)]])
        if end - start < 2 * np.pi - SAME
        else made[[0, -1]]
    )
    return made
