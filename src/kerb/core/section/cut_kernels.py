"""Which edges of triangles a plane cuts, compiled, with a plain reference beside it."""

from __future__ import annotations

from kerb.core.arrays import Floats, Ints, Ints32
from kerb.core.jit import kernel


@kernel
def crossings(side: Floats, triangles: Ints32, ends: Ints, shares: Floats) -> int:  # pragma: no cover
    """Both ends of the cut of each triangle, as edge (two vertices, the lower number first) and share along it.

    ``side`` (n,) is the distance of each vertex from the plane; a vertex on the plane counts as before it, so that a cut
    through vertices is found once and faces in the plane not at all. Returns how many there are; ``ends`` (m, 2, 2) and
    ``shares`` (m, 2) need a row a triangle.
    """
    found = 0
    for t in range(len(triangles)):
        filled = 0
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            if (side[a] >= 0) == (side[b] >= 0):
                continue
            if a > b:
                a, b = b, a
            ends[found, filled, 0], ends[found, filled, 1] = a, b
            shares[found, filled] = side[a] / (side[a] - side[b])
            filled += 1
        if filled == 2:
            found += 1
    return found


def reference_crossings(side: Floats, triangles: Ints32) -> list[tuple[tuple[int, int], ...]]:
    """The edges that the kernel finds, in the plainest way."""
    found = []
    for triangle in triangles.tolist():
        edges = [
            (min(a, b), max(a, b)) for a, b in zip(triangle, (*triangle[1:], triangle[0]), strict=True)
            if (side[a] >= 0) != (side[b] >= 0)
        ]  # fmt: skip
        if edges:
            found.append(tuple(edges))
    return found
