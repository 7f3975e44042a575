"""What a heap draws: its toe line, base, top and gaps as layers of the outcome."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Mask
from kerb.core.geometry.plane import Plane
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.toe import Toe
from kerb.core.surface.volume import Base
from kerb.studies.layers import FoundLine, FoundMesh


def toe_line(toe: Toe) -> FoundLine:
    """The toe line at base elevation."""
    return FoundLine(toe.base_points, "edge", "Toe line", closed=True)


def base_mesh(base: Base, ring: Floats) -> FoundMesh:
    """The base; of a plane the part inside the ring."""
    if isinstance(base, Plane):
        base = triangulate(np.empty((0, 3)), np.column_stack([ring, base.at(ring)]))
    return FoundMesh(base.points, base.triangles, "base", "Base surface", shown=False)


def top_meshes(top: Tin, gap: Mask) -> dict[str, FoundMesh]:
    """The top, and hatched those of its triangles that bridge a gap."""
    gaps = top.compact(gap) if gap.any() else Tin(np.empty((0, 3)), np.empty((0, 3), np.int32), top.origin)
    return {
        "top": FoundMesh(top.points, top.triangles, "top", "Top surface", shown=False),
        "gaps": FoundMesh(gaps.points, gaps.triangles, "gap", "No points", hatch=True),
    }
