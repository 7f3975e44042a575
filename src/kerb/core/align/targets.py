"""What a cloud is brought into line with: the nearest place and the normal there, of points or of triangles."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from kerb.core.arrays import TINY, Floats, ends
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.normals_kernels import least_spread
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.parallel import each, ranges
from kerb.core.sorting import sorted_keys

NEIGHBOURS, FEWEST = 16, 6
NOISE_SAMPLE, CHUNK = 3000, 20_000
# Of points so many shall have a neighbour within a cube.
MOST = 0.9
CUBE_ROUNDS, NEARLY = 8, 0.1
# Fewer points are no coarser target.
ENOUGH = 1000
# Share of the spread of neighbours that is square to their plane: so many times the usual one, and more than this, is an edge.
TIMES_BENT, LEAST_BENT = 4.0, 0.004


def evenly(points: Floats) -> Floats:
    """One of points (n, 3) in each cube as wide as most of them have a neighbour within, in the order given.

    A scanner leaves a hundred times as many points on what is near as on what is far, and thousands on its own place where
    nothing came back: surfaces shall count by their size.
    """
    index = NeighbourIndex(points)
    away = index.nearest(points[:: max(1, len(points) // NOISE_SAMPLE)], min(2, len(points)))[0][:, -1]
    return one_a_cube(points, float(np.quantile(away, MOST)))


def one_a_cube(points: Floats, cell: float, below: float = 0.0) -> Floats:
    """The first of points (n, 3) in each cube of a side, in the order given; cubes begin so much of a side ``below`` all."""
    low, high = ends(points)
    cell = max(cell, float((high - low).max()) / 2.0**20, TINY)
    cells = np.floor((points - low) / cell + below).astype(np.int64)
    number = np.asarray(np.ravel_multi_index(tuple(cells.T), tuple(cells.max(axis=0) + 1)), np.uint64)
    order, keys = sorted_keys(number)
    return points[np.sort(order[np.concatenate([[True], keys[1:] != keys[:-1]])])]


def cube_for(points: Floats, most: int) -> float:
    """The side of cubes of which about so many hold one of points (n, 3); nought, where there are no more points than that."""
    if len(points) <= most:
        return 0.0
    cell, share = float(np.ptp(points, axis=0).max()), 1.0 / most
    for _ in range(CUBE_ROUNDS):
        # On surfaces the number of cubes goes with the square of their side.
        cell *= float(np.sqrt(share))
        share = len(one_a_cube(points, cell)) / most
        if abs(share - 1.0) < NEARLY:
            break
    return cell


class Target(Protocol):
    """Where places are matched to. ``spacing`` is the distance of its points, ``normal_noise`` the mean square of what noise
    turns its normals by (a ratio)."""

    spacing: float
    normal_noise: float

    def coarser(self, cell: float) -> Target:
        """The same with no detail finer than cubes of a side."""

    def match(self, places: Floats, limit: float) -> tuple[Floats, Floats, Floats]:
        """Nearest places (n, 3), unit normals (n, 3; NaN where there is none) and distances (n,; inf beyond the limit)."""


class PointTarget:
    """Points (n, 3) from an origin, with the normals of planes through sixteen neighbours. Raises NotDeterminable."""

    def __init__(self, points: Floats) -> None:
        if len(points) < FEWEST:
            raise NotDeterminable(f"{len(points)} points have no surface; {FEWEST} are needed")
        self.points = points
        self.index = NeighbourIndex(points)
        away, near = self.index.nearest(points[:: max(1, len(points) // NOISE_SAMPLE)], min(NEIGHBOURS, len(points)))
        self.spacing = float(np.median(away[:, 1]))
        self.normals = np.empty((len(points), 3))
        bent = np.empty(len(points))

        def some(span: tuple[int, int]) -> None:
            _, rows = self.index.nearest(points[slice(*span)], min(NEIGHBOURS, len(points)))
            normals = self.normals[slice(*span)]
            least_spread(points, rows, FEWEST, normals)
            group = points[rows]
            group = group - group.mean(axis=1, keepdims=True)
            out = np.einsum("ijk,ik->ij", group, normals)
            bent[slice(*span)] = (out**2).sum(axis=1) / np.maximum((group**2).sum(axis=(1, 2)), TINY)

        each(some, ranges(len(points), CHUNK))
        # Across an edge of two walls the plane of neighbours is none of them: such normals would hold what slides along it.
        self.normals[bent > max(TIMES_BENT * float(np.nanmedian(bent)), LEAST_BENT)] = np.nan
        groups = points[near]
        groups = groups - groups.mean(axis=1, keepdims=True)
        values = np.linalg.eigvalsh(np.einsum("ijk,ijl->ikl", groups, groups))
        # Of a plane through k points that stray by s and reach as far as a (rms), a normal errs by s / (a √k).
        with np.errstate(divide="ignore", invalid="ignore"):
            noise = values[:, 0] / np.maximum(values[:, 1], TINY) / groups.shape[1]
        self.normal_noise = float(np.median(noise))

    def coarser(self, cell: float) -> PointTarget:
        """One point a cube, whose neighbours lie all round it even where a scanner left its points in lines."""
        fewer = one_a_cube(self.points, cell)
        return PointTarget(fewer) if ENOUGH <= len(fewer) < len(self.points) else self

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

    def coarser(self, _cell: float) -> MeshTarget:
        """Triangles are as they are."""
        return self

    def match(self, places: Floats, limit: float) -> tuple[Floats, Floats, Floats]:
        """Nearest place of a triangle, its normal and distance."""
        found = self.mesh.nearest(places, limit)
        known = found.face >= 0
        normals = np.full((len(places), 3), np.nan)
        normals[known] = self.mesh.normals[found.face[known]]
        return found.place, normals, np.where(known, np.abs(np.nan_to_num(found.distance)), np.inf)
