"""The frame of an upright section: offset to the right of the line, distance ahead of its plane, elevation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.alignment import Alignment
from kerb.core.section.stations import direction_at


@dataclass(frozen=True)
class Frame:
    """A section at ``station``: its plane stands upright over ``place`` (easting, northing) of the line.

    ``azimuth`` (radians, clockwise from north) is the way one looks, ahead along the line; offsets count to the right of it.
    ``width`` is the whole length of the section, half to each side; ``thickness`` that of the slice, half before and half behind.
    """

    station: float
    place: tuple[float, float]
    azimuth: float
    width: float
    thickness: float

    @property
    def right(self) -> Floats:
        """Unit vector (2,) to the right."""
        return np.array([np.cos(self.azimuth), -np.sin(self.azimuth)])

    @property
    def ahead(self) -> Floats:
        """Unit vector (2,) ahead, square to the plane."""
        return np.array([np.sin(self.azimuth), np.cos(self.azimuth)])

    @property
    def ends(self) -> Floats:
        """Left and right end in plan, (2, 2)."""
        half = 0.5 * self.width * self.right
        return np.array([self.place - half, self.place + half])

    def corners(self, room: float = 0.0) -> Floats:
        """The slice seen from above, (4, 2), wider and thicker by ``room`` on each side."""
        side, front = (self.width / 2 + room) * self.right, (self.thickness / 2 + room) * self.ahead
        return np.array([-side - front, side - front, side + front, -side + front]) + self.place

    def local(self, xyz: Floats) -> Floats:
        """Offset, distance ahead of the plane, elevation (n, 3) of job places (n, 3)."""
        away = xyz[:, :2] - np.array(self.place)
        return np.column_stack([away @ self.right, away @ self.ahead, xyz[:, 2]])

    def job(self, offset: Floats, z: Floats) -> Floats:
        """Job places (n, 3) of places in the plane: the reverse of :meth:`local`."""
        xy = np.array(self.place) + np.asarray(offset)[:, None] * self.right
        return np.column_stack([xy, z])


def frames(alignment: Alignment, stations: Floats, width: float, thickness: float, skew: float = 0.0) -> list[Frame]:
    """The sections of an alignment at stations, square to it or turned clockwise by ``skew`` degrees."""
    places = alignment.at(stations)[:, :2]
    azimuths = direction_at(alignment, stations) + np.radians(skew)
    return [
        Frame(float(s), (float(p[0]), float(p[1])), float(a), width, thickness)
        for s, p, a in zip(stations, places, azimuths, strict=True)
    ]
