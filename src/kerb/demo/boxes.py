"""Boxes, of which the made-up buildings are put together."""

from __future__ import annotations

import numpy as np

from kerb.core.geometry.mesh import Element, TriangleMesh


def box(name: str, corner: tuple[float, ...], size: tuple[float, ...]) -> TriangleMesh:
    """A closed box as one element, from its lowest corner."""
    unit = np.array([[x, y, z] for z in (0, 1) for y in (0, 1) for x in (0, 1)], float)
    faces = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (1, 3, 7, 5), (3, 2, 6, 7), (2, 0, 4, 6)]
    triangles = np.array([(f[0], f[k], f[k + 1]) for f in faces for k in (1, 2)], np.int32)
    return TriangleMesh(unit * np.array(size) + np.array(corner), triangles, (Element(name, "box", 0, 12),))
