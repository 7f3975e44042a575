"""Plain Delaunay triangulation by ``pythoncdt`` (CDT, Artem Amirkhanov)."""

from __future__ import annotations

import numpy as np
import pythoncdt

from kerb.core.arrays import Floats, Ints32
from kerb.core.errors import NotDeterminable


def triangulation() -> pythoncdt.Triangulation:
    """An empty one, as all of Kerb's are made."""
    return pythoncdt.Triangulation(
        pythoncdt.VertexInsertionOrder.AUTO, pythoncdt.IntersectingConstraintEdges.TRY_RESOLVE, 0.0
    )


def delaunay(places: Floats) -> Ints32:
    """Triangles (m, 3) of (n, 2) places, no two of them alike.

    Raises NotDeterminable, when there are fewer than three or all lie on one line.
    """
    if len(places) < 3:
        raise NotDeterminable(f"a surface needs three points, there are {len(places)}")
    mesh = triangulation()
    mesh.insert_vertices(np.ascontiguousarray(places))  # type: ignore[call-overload]
    mesh.erase_super_triangle()
    triangles = np.asarray(mesh.triangles_array(copy=False)["vertices"]).astype(np.int32)
    if not len(triangles):
        raise NotDeterminable("the points lie on one line in plan")
    return triangles
