"""What a cloud is brought into line with: the nearest place and the normal there, of points or of triangles."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.parallel import each

NEIGHBOURS, FEWEST = 16, 6
NOISE_SAMPLE, CHUNK = 3000, 20_000
# Share of the spread of neighbours that is square to their plane: so many times the usual one, and more than this, is an edge.
TIMES_BENT, LEAST_BENT = 4.0, 0.004


class Target(Protocol):
    """Where places are matched to. ``spacing`` is the distance of its points, ``normal_noise`` the mean square of what noise
    turns its normals by (a ratio)."""

    spacing: float
    normal_noise: float

    def match(self, places: Floats, limit: float) -> tuple[Floats, Floats, Floats]:
        """Nearest places (n, 3), unit normals (n, 3; NaN where there is none) and distances (n,; inf beyond the limit)."""


class PointTarget:
    """Points (n, 3) from an origin, with the normals of planes through sixteen neighbours."""

    def __init__(self, points: Floats) -> None:
        self.points = points
        self.index = NeighbourIndex(points)
        size = np.ptp(points, axis=0)
        away, near = self.index.nearest(points[:: max(1, len(points) // NOISE_SAMPLE)], min(NEIGHBOURS, len(points)))
        self.spacing = float(np.median(away[:, 1])) if away.shape[1] > 1 else float(size.max())
        self.normals = np.empty((len(points), 3))
        bent = np.empty(len(points))

        def some(span: tuple[int, int]) -> None:
            _, rows = self.index.nearest(points[slice(*span)], min(NEIGHBOURS, len(points)))
            normals = self.normals[slice(*span)]
            least_spread(points, rows, FEWEST, normals)
            group = points[rows]
            group = group - group.mean(axis=1, keepdims=True)
            out = np.einsum("ijk,ik->ij", group, normals)
            bent[slice(*span)] = (out**2).sum(axis=1) / np.maximum((group**2).sum(axis=(1, 2)), 1e-30)

        spans = [(a, min(a + CHUNK, len(points))) for a in range(0, len(points), CHUNK)]
        each(some, spans)
        # Across an edge of two walls the plane of neighbours is none of them: such normals would hold what slides along it.
        self.normals[bent > max(TIMES_BENT * float(np.nanmedian(bent)), LEAST_BENT)] = np.nan
        groups = points[near]
        groups = groups - groups.mean(axis=1, keepdims=True)
        values = np.linalg.eigvalsh(np.einsum("ijk,ijl->ikl", groups, groups) / groups.shape[1])
        # Of a plane through k points that stray by s and reach as far as a (rms), a normal errs by s / (a √k).
        with np.errstate(divide="ignore", invalid="ignore"):
            noise = values[:, 0] / np.maximum(values[:, 1], 1e-30) / groups.shape[1]
        self.normal_noise = float(np.median(noise))

    def match(self, places: Floats, limit: float) -> tuple[Floats, Floats, Floats]:
        """Nearest point, its normal and distance."""
        away, who = self.index.nearest(places, 1, limit)
        rows = np.maximum(who[:, 0], 0)
        return self.points[rows], self.normals[rows], away[:, 0]


class MeshTarget:
    """Triangles from an origin, with their own normals."""

    normal_noise = 1e-6

    def __init__(self, mesh: TriangleMesh, spacing: float) -> None:
        self.mesh, self.spacing = MeshDistance(mesh), spacing

    def match(self, places: Floats, limit: float) -> tuple[Floats, Floats, Floats]:
        """Nearest place of a triangle, its normal and distance."""
        found = self.mesh.nearest(places, limit)
        known = found.face >= 0
        normals = np.full((len(places), 3), np.nan)
        normals[known] = self.mesh.normals[found.face[known]]
        return found.place, normals, np.where(known, np.abs(np.nan_to_num(found.distance)), np.inf)
