"""A surface that a study stands on or compares with, as a designer or another office gave it: triangles, not points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.reference import ReferenceSystem
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.tin import Tin


@dataclass(frozen=True)
class DesignSurface:
    """Triangles with one elevation a place, in ``reference``."""

    tin: Tin
    reference: ReferenceSystem

    @staticmethod
    def of(thing: TriangleMesh | ElevationGrid, reference: ReferenceSystem) -> DesignSurface:
        """From a mesh or an elevation grid. Raises InputError, when a mesh has no triangle seen from above."""
        return DesignSurface(thing.tin(), reference)

    @property
    def count(self) -> int:
        """Number of triangles."""
        return len(self.tin.triangles)

    def near(self, low: Floats, high: Floats) -> Tin:
        """The triangles that reach into a plan box; all of them when none does."""
        corner = self.tin.vertices[self.tin.triangles, :2] + self.tin.origin[:2]
        touches = np.all((corner.max(axis=1) >= low) & (corner.min(axis=1) <= high), axis=1)
        return self.tin.only(touches) if touches.any() else self.tin
