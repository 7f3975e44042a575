"""Rigid transforms, and those with one scale: a rotation about a place and a shift. How a holding is moved without a number of it
being changed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError

ROUND = 1e-9


@dataclass(frozen=True)
class Rigid:
    """``rotation`` is nine numbers row by row, ``about`` the place (3) it turns about, ``shift`` (3) what follows.

    A place p goes to s R (p - about) + about + shift; ``scale`` s is 1 but for a similarity, the seven parameters of the trade.
    Turning about a place near the data keeps large coordinates precise.
    """

    rotation: tuple[float, ...] = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    scale: float = 1.0

    @staticmethod
    def of(rotation: Floats, about: Floats, shift: Floats, scale: float = 1.0) -> Rigid:
        """From a (3, 3) rotation, two places (3,) and a scale. Raises InputError, when it is not a rotation or
        the scale is not above nought."""
        r = np.asarray(rotation, float)
        if not (np.isfinite(scale) and scale > 0):
            raise InputError(f"a scale of {scale:g} is no scale, it has to be above nought")
        if not np.allclose(r @ r.T, np.eye(3), atol=1e-6) or np.linalg.det(r) < 0 or not np.isfinite(shift).all():
            raise InputError("a rigid transform needs a rotation without scale or reflection")
        a, s = (tuple(float(v) for v in place) for place in (about, shift))
        return Rigid(tuple(r.ravel().tolist()), (a[0], a[1], a[2]), (s[0], s[1], s[2]), float(scale))

    @staticmethod
    def turned(degrees: float, about: Floats, shift: Floats) -> Rigid:
        """Turned about the vertical, clockwise seen from above, then shifted."""
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        return Rigid.of(np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]]), about, shift)

    @property
    def matrix(self) -> Floats:
        """The rotation, (3, 3)."""
        return np.array(self.rotation).reshape(3, 3)

    @property
    def linear(self) -> Floats:
        """Rotation and scale in one, (3, 3)."""
        return self.scale * self.matrix

    @property
    def table(self) -> Floats:
        """As a (4, 4) matrix that acts on coordinates."""
        made = np.eye(4)
        made[:3, :3] = self.linear
        about = np.array(self.about)
        made[:3, 3] = about + np.array(self.shift) - self.linear @ about
        return made

    @property
    def still(self) -> bool:
        """Whether it moves nothing."""
        return self.scale == 1.0 and not any(self.shift) and bool(np.allclose(self.matrix, np.eye(3), atol=ROUND))

    @property
    def upright(self) -> bool:
        """Whether verticals stay vertical."""
        return bool(np.allclose(self.matrix[2], [0, 0, 1], atol=ROUND))

    def __call__(self, points: Floats) -> Floats:
        """Where (n, 3) places go; NaN elevations stay NaN."""
        lost = np.isnan(points[:, 2])
        about = np.array(self.about)
        local = points - about
        local[lost, 2] = 0.0
        out = local @ self.linear.T + about + np.array(self.shift)
        out[lost, 2] = np.nan
        return np.asarray(out)

    def inverse(self) -> Rigid:
        """The transform that takes it back."""
        back = self.matrix.T
        about = np.array(self.about) + np.array(self.shift)
        return Rigid.of(back, about, -np.array(self.shift), 1.0 / self.scale)

    def then(self, other: Rigid) -> Rigid:
        """This one followed by another, turning about this one's place."""
        about = np.array(self.about)
        moved = other(self(about[None]))[0]
        return Rigid.of(other.matrix @ self.matrix, about, moved - about, other.scale * self.scale)

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary; the scale only where there is one."""
        own = {"rotation": list(self.rotation), "about": list(self.about), "shift": list(self.shift)}
        return own if self.scale == 1.0 else {**own, "scale": self.scale}

    @staticmethod
    def from_json(data: dict[str, Any]) -> Rigid:
        """The reverse of :meth:`to_json`. Raises KeyError, TypeError, ValueError or InputError for anything else."""
        return Rigid.of(np.array(data["rotation"], float).reshape(3, 3), np.array(data["about"], float),
                        np.array(data["shift"], float), float(data.get("scale", 1.0)))  # fmt: skip
