"""Distances of places from a mesh, signed by the side they lie on: outside, or where its triangles look to, is positive.

The side is that of the pseudo-normal of what is nearest: of a face its own, of an edge the sum of both faces', of a corner
the sum of all by their angles (Bærentzen and Aanæs 2005), which is right for every closed mesh without gaps.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import TINY, Floats, Ints, Ints32
from kerb.core.geometry.closest_kernels import CORNER, EDGE, LEAF, closest, cube_keys, inner_boxes, leaf_boxes
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.once import Once
from kerb.core.parallel import each, ranges
from kerb.core.sorting import sorted_keys

# Bits of the curve that triangles follow, and of that for places: those in one cube keep their order.
BITS, COARSE = 21, 10


@dataclass(frozen=True)
class Closest:
    """What of a mesh is nearest to places: its triangle (-1: none), the place (n, 3) there, and the signed distance (n,)."""

    face: Ints32
    place: Floats
    distance: Floats


class MeshDistance:
    """A mesh made ready for distances. Coordinates are taken from its first corner."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.origin = np.floor(mesh.vertices.min(axis=0))
        self.vertices = np.ascontiguousarray(mesh.vertices - self.origin)
        self.triangles = mesh.triangles
        self.closed, self.elements = mesh.closed, mesh.elements
        # Triangles given the wrong way round are turned, and bodies that look inwards as a whole.
        self.repaired = int(np.count_nonzero(mesh.turned))
        self.turned = mesh.turned ^ (mesh.senses[mesh._bodies] < 0) if mesh.closed else mesh.turned
        middle = self.vertices[self.triangles].mean(axis=1)
        low, size = middle.min(axis=0), float(max(np.ptp(middle, axis=0).max(), TINY))
        self.order = _by_cube(middle, low, size / (2**BITS - 1))
        groups = -(-len(self.order) // LEAF)
        size = 1 << max(int(np.ceil(np.log2(max(groups, 1)))), 0)
        self.leaves = size - 1
        self.boxes = np.empty((2 * size - 1, 6))
        self.corners = np.ascontiguousarray(self.vertices[self.triangles[self.order]].reshape(-1, 9))
        leaf_boxes(self.vertices, self.triangles, self.order, self.boxes, self.leaves)
        inner_boxes(self.boxes, self.leaves, groups)

    def nearest(self, places: Floats, limit: float = np.inf) -> Closest:
        """What is nearest to places (n, 3) within a limit."""
        local = np.ascontiguousarray(places - self.origin)
        n = len(local)
        face, feature, found = np.full(n, -1, np.int32), np.zeros(n, np.int8), np.full((n, 3), np.nan)
        about = self.corners, self.order, self.boxes, self.leaves, limit, face, feature, found
        rows = self._as_they_lie(local)
        each(lambda span: closest(local, rows[slice(*span)], *about), ranges(n))
        known = face >= 0
        away = np.full(n, np.nan)
        step = local[known] - found[known]
        normal = self._pseudo(face[known], feature[known])
        side = np.einsum("ij,ij->i", step, normal)
        away[known] = np.where(side < 0, -1.0, 1.0) * np.sqrt(np.einsum("ij,ij->i", step, step))
        return Closest(face, found + self.origin, away)

    def _as_they_lie(self, places: Floats) -> Ints:
        low, high = self.boxes[0, :3], self.boxes[0, 3:]
        step = float(max((high - low).max(), TINY)) / 2**COARSE
        return _by_cube(places, low - (high - low), step)

    @Once
    def normals(self) -> Floats:
        """Unit normals of the triangles, (m, 3)."""
        a, b, c = (self.vertices[self.triangles[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        normal[self.turned] *= -1.0
        return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1), TINY)[:, None])

    @Once
    def _welded(self) -> Ints:
        """The number of the place of each vertex: those at the same place count as one."""
        _, number = np.unique(self.vertices, axis=0, return_inverse=True)
        return np.asarray(number.ravel()[self.triangles])

    @Once
    def _corners(self) -> Floats:
        """Pseudo-normals of places by the angles of their triangles."""
        corner = self.vertices[self.triangles]
        total = np.zeros((int(self._welded.max()) + 1, 3))
        for k in range(3):
            u, v = corner[:, (k + 1) % 3] - corner[:, k], corner[:, (k + 2) % 3] - corner[:, k]
            size = np.maximum(np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1), TINY)
            angle = np.arccos(np.clip(np.einsum("ij,ij->i", u, v) / size, -1.0, 1.0))
            for axis in range(3):
                total[:, axis] += np.bincount(self._welded[:, k], angle * self.normals[:, axis], len(total))
        return total

    @Once
    def _edges(self) -> Floats:
        """Pseudo-normals of the edges from each corner to the next, (m, 3, 3)."""
        ends = np.stack([self._welded, np.roll(self._welded, -1, axis=1)], axis=-1).reshape(-1, 2)
        ends.sort(axis=1)
        _, number = np.unique(ends, axis=0, return_inverse=True)
        number = number.ravel()
        own = np.repeat(self.normals, 3, axis=0)
        total = np.column_stack([np.bincount(number, own[:, axis]) for axis in range(3)])
        return np.asarray(total[number].reshape(-1, 3, 3))

    def _pseudo(self, face: Ints32, feature: np.ndarray) -> Floats:
        normal = self.normals[face].copy()
        edge = (feature >= EDGE) & (feature < CORNER)
        if edge.any():
            normal[edge] = self._edges[face[edge], feature[edge] - EDGE]
        corner = feature >= CORNER
        if corner.any():
            normal[corner] = self._corners[self._welded[face[corner], feature[corner] - CORNER]]
        return normal


def _by_cube(places: Floats, low: Floats, step: float) -> Ints:
    """Rows of places (n, 3) along a curve through space (Morton order), so that what is asked for together lies together."""
    keys = np.empty(len(places), np.uint64)
    each(lambda piece: cube_keys(places[slice(*piece)], low, step, keys[slice(*piece)]), ranges(len(places), 100_000))
    return sorted_keys(keys)[0]
