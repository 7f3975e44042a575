"""What a heap draws: its toe line, base, top and gaps as layers of the outcome."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask
from kerb.core.geometry.area import Area
from kerb.core.geometry.plane import Plane
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.surface.toe import Toe
from kerb.core.surface.volume import Base
from kerb.studies.layers import FoundLine, FoundMesh, Layer


def toe_lines(toe: Toe, holes: Sequence[Floats] = ()) -> dict[str, Layer]:
    """The toe line at base elevation with its holes, and over it the stretches whose base is carried over from the rest."""
    layers: dict[str, Layer] = {"toe": FoundLine(toe.base_points, "edge", "Toe line", closed=True)}
    for number, hole in enumerate(holes, 1):
        nearest = scipy.spatial.cKDTree(toe.xy).query(hole)[1]
        layers[f"hole {number}"] = FoundLine(np.column_stack([hole, toe.base[nearest]]), "edge", "Hole", closed=True)
    unseen = [line for ground, line in toe.stretches() if not ground]
    for number, line in enumerate(unseen, 1):
        layers[f"unseen {number}"] = FoundLine(line, "unseen", "Toe line, not over ground", gapped=True)
    return layers


def base_mesh(base: Base, area: Area) -> FoundMesh:
    """The base; of a plane the part inside the area."""
    if isinstance(base, Plane):
        rings = [np.column_stack([ring, base.at(ring)]) for ring in (area.outline, *area.holes)]
        base = triangulate(np.empty((0, 3)), rings[0], holes=rings[1:])
    return FoundMesh(base.points, base.triangles, "base", "Base surface", shown=False)


def top_meshes(top: Tin, gap: Mask) -> dict[str, FoundMesh]:
    """The top, and hatched those of its triangles that bridge a gap."""
    gaps = top.compact(gap) if gap.any() else Tin(np.empty((0, 3)), np.empty((0, 3), np.int32), top.origin)
    return {
        "top": FoundMesh(top.points, top.triangles, "top", "Top surface", shown=False),
        "gaps": FoundMesh(gaps.points, gaps.triangles, "gap", "No points", hatch=True),
    }
