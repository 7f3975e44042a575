"""Triangle meshes of designs and models: closed or not, volume, area, elements by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Ints32, Mask
from kerb.core.errors import InputError
from kerb.core.geometry.orient import turned_triangles
from kerb.core.once import Once
from kerb.core.surface.tin import Tin

MOST_TRIANGLES, MOST_WEIGHED = 100_000_000, 2_000_000


@dataclass(frozen=True)
class Element:
    """A named run of triangles, such as one beam of a building or one layer of a drawing."""

    name: str
    kind: str
    first: int
    count: int


@dataclass(frozen=True)
class TriangleMesh:
    """``vertices`` (n, 3) in job coordinates, ``triangles`` (m, 3) int32; ``elements`` cover the triangles in order."""

    vertices: Floats
    triangles: Ints32
    elements: tuple[Element, ...] = ()

    @property
    def closed(self) -> bool:
        """Whether the mesh encloses a body: each edge is used as often one way as the other, triangles that were given the wrong
        way round turned.

        Vertices on the same place count as one, because many formats repeat them for each face.
        """
        if not len(self.triangles):
            return False
        place = self._places()
        corner = place[self.triangles]
        corner = np.where(self.turned[:, None], corner[:, ::-1], corner)
        edges = np.concatenate([corner[:, [0, 1]], corner[:, [1, 2]], corner[:, [2, 0]]])
        edges = edges[edges[:, 0] != edges[:, 1]]
        key = edges.min(axis=1).astype(np.int64) * (int(place.max()) + 1) + edges.max(axis=1)
        sense = np.where(edges[:, 0] < edges[:, 1], 1, -1)
        _, group = np.unique(key, return_inverse=True)
        return bool(len(key)) and not np.any(np.bincount(group, weights=sense))

    @property
    def volume(self) -> float | None:
        """Enclosed volume, never negative; None when the mesh is not closed.

        Sum of signed tetrahedra about a vertex of the mesh itself (divergence theorem), so that large coordinates do
        not cost precision. A body that is inside out counts as if it were not; one inside another, turned the other
        way, is a cavity of it.
        """
        if not self.closed:
            return None
        signs, bodies = self.senses, self._bodies
        return abs(float(np.sum(self._tetrahedra * signs[bodies])))

    @Once
    def turned(self) -> Mask:
        """Which triangles (m,) look the other way than those they share edges with."""
        a, b, c = self._corners()
        return turned_triangles(self._places()[self.triangles], np.linalg.norm(np.cross(b - a, c - a), axis=1))

    @property
    def senses(self) -> Ints:
        """1 for each body of a closed mesh whose triangles look outwards, or into a cavity; -1 for one inside out."""
        bodies = self._bodies
        count = int(bodies.max()) + 1
        own = np.bincount(bodies, self._tetrahedra, count)
        corner = self.vertices[self.triangles]
        low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
        np.minimum.at(low, bodies, corner.min(axis=1))
        np.maximum.at(high, bodies, corner.max(axis=1))
        signs = np.where(own < 0, -1, 1)
        for body in np.flatnonzero(own != 0):
            around = np.all((low < low[body]) & (high > high[body]), axis=1) & (np.abs(own) > abs(own[body]))
            # Within an odd number of others it is a cavity, and looks the other way.
            if np.count_nonzero(around) % 2:
                signs[body] = -signs[body]
        return signs

    @Once
    def _tetrahedra(self) -> Floats:
        a, b, c = self._corners()
        size = np.einsum("ij,ij->i", a, np.cross(b, c)) / 6.0
        return np.where(self.turned, -size, size)

    @Once
    def _bodies(self) -> Ints:
        """The number of the connected body that each triangle belongs to."""
        corner = self._places()[self.triangles]
        size = int(corner.max()) + 1
        ends = np.concatenate([corner[:, :2], corner[:, 1:]])
        links = scipy.sparse.coo_array((np.ones(len(ends), bool), (ends[:, 0], ends[:, 1])), shape=(size, size))
        return np.asarray(scipy.sparse.csgraph.connected_components(links, directed=False)[1][corner[:, 0]])

    @property
    def surface_area(self) -> float:
        """Area of all triangles."""
        a, b, c = self._corners()
        return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())

    @property
    def plan_area(self) -> float:
        """Area in plan of what looks upwards (undersides of closed bodies do not); what lies over another part counts too."""
        try:
            return self.tin().plan_area
        except InputError:
            return 0.0

    def spread(self, count: int) -> Floats:
        """So many places (count, 3) spread evenly over all triangles, however large each is; the same ones each time.

        Of more than ``MOST_WEIGHED`` triangles every so many is taken for its neighbours.
        """
        some = self.triangles[:: max(1, len(self.triangles) // MOST_WEIGHED)]
        a, b, c = (self.vertices[some[:, k]] for k in range(3))
        size = np.linalg.norm(np.cross(b - a, c - a), axis=1)
        if not size.sum() > 0:
            return np.asarray(a[:count])
        rng = np.random.default_rng(len(size))
        row = rng.choice(len(size), count, p=size / size.sum())
        s, t = rng.uniform(0, 1, (2, count))
        s, t = np.where(s + t > 1, 1 - s, s), np.where(s + t > 1, 1 - t, t)
        return np.asarray(a[row] + s[:, None] * (b - a)[row] + t[:, None] * (c - a)[row])

    def mapped(self, mapper: Callable[[Floats], Floats]) -> TriangleMesh:
        """The same mesh elsewhere."""
        return replace(self, vertices=mapper(self.vertices))

    def only(self, keep: Callable[[Element], bool]) -> TriangleMesh:
        """The elements that ``keep`` says, with the vertices they use."""
        return joined([self.part(element) for element in self.elements if keep(element)])

    def merged(self, name: str) -> TriangleMesh:
        """The same triangles as one element."""
        return replace(self, elements=(Element(name, "mesh", 0, len(self.triangles)),))

    def part(self, element: Element) -> TriangleMesh:
        """One element as a mesh of its own."""
        triangles = self.triangles[element.first : element.first + element.count]
        used, renumbered = np.unique(triangles, return_inverse=True)
        own = replace(element, first=0)
        return TriangleMesh(self.vertices[used], renumbered.reshape(-1, 3).astype(np.int32), (own,))

    def tin(self) -> Tin:
        """The mesh as a surface with one elevation a place, turned counter-clockwise; upright triangles left out.

        Of closed bodies only what looks upwards counts, their undersides do not. Raises InputError when nothing is left.
        """
        surface = Tin.of(self.vertices, self.triangles)
        areas = surface.plan_areas
        if self.closed:
            looks = np.where(self.turned, -areas, areas)
            areas = np.where(looks * self.senses[self._bodies] > 0, areas, 0.0)
        down = areas < 0
        triangles = self.triangles.copy()
        triangles[down] = triangles[down][:, [0, 2, 1]]
        triangles = triangles[areas != 0]
        if not len(triangles):
            raise InputError("the mesh has no triangle that is seen from above")
        return Tin.of(self.vertices, triangles)

    def _corners(self) -> tuple[Floats, Floats, Floats]:
        local = self.vertices - self.vertices[0] if len(self.vertices) else self.vertices
        return local[self.triangles[:, 0]], local[self.triangles[:, 1]], local[self.triangles[:, 2]]

    def _places(self) -> np.ndarray:
        key = np.ascontiguousarray(self.vertices + 0.0).view(np.dtype((np.void, 24))).ravel()
        _, place = np.unique(key, return_inverse=True)
        return np.asarray(place)


def checked(vertices: Floats, triangles: np.ndarray, name: str) -> TriangleMesh:
    """A mesh from what a file says, with triangles that collapse to a line left out.

    Raises
    ------
    InputError naming the file, when there is no triangle, an index points nowhere or a vertex is not finite.
    """
    vertices = np.asarray(vertices, float).reshape(-1, 3)
    triangles = np.asarray(triangles).reshape(-1, 3)
    if not len(triangles):
        raise InputError(f"{name}: holds no triangle")
    if len(triangles) > MOST_TRIANGLES:
        raise InputError(f"{name}: {len(triangles)} triangles; the most is {MOST_TRIANGLES}")
    if triangles.min() < 0 or triangles.max() >= len(vertices):
        raise InputError(f"{name}: a face names vertex {int(triangles.max()) + 1} of {len(vertices)}")
    if not np.isfinite(vertices[np.unique(triangles)]).all():
        raise InputError(f"{name}: a vertex of a face is not a number")
    keep = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2])
    keep &= triangles[:, 2] != triangles[:, 0]
    return TriangleMesh(np.ascontiguousarray(vertices), np.ascontiguousarray(triangles[keep], np.int32))


def joined(meshes: list[TriangleMesh]) -> TriangleMesh:
    """Several meshes as one; each keeps its elements."""
    if not meshes:
        return TriangleMesh(np.empty((0, 3)), np.empty((0, 3), np.int32))
    vertices, triangles, elements, first, at = [], [], [], 0, 0
    for mesh in meshes:
        vertices.append(mesh.vertices)
        triangles.append(mesh.triangles + np.int32(at))
        for element in mesh.elements or (Element("", "", 0, len(mesh.triangles)),):
            elements.append(replace(element, first=first + element.first))
        at += len(mesh.vertices)
        first += len(mesh.triangles)
    return TriangleMesh(np.concatenate(vertices), np.concatenate(triangles), tuple(elements))
