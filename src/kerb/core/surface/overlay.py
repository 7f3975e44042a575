"""The difference of two surfaces over their common ground, exact: volumes, areas, its map and the line where nothing changed.

Sign: the later surface minus the earlier one. Fill is where the later lies above, cut where it lies below; both are positive
numbers and net = fill - cut.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.geometry.area import Area
from kerb.core.parallel import each, ranges
from kerb.core.progress import Progress
from kerb.core.surface.overlay_kernels import overlay, pack
from kerb.core.surface.tin import Tin, triangulate

# Differences of two planes through the same places are nought to within rounding of large coordinates.
ROUNDING = 1e-9


@dataclass(frozen=True)
class Change:
    """Volumes and plan areas between two surfaces over the ground that both cover.

    ``same_area`` is what changed by no more than the dead band; without one, where both are the same surface.
    """

    fill: float
    cut: float
    fill_area: float
    cut_area: float
    area: float
    same_area: float

    @property
    def net(self) -> float:
        """Fill minus cut."""
        return self.fill - self.cut


def mask_of(area: Area) -> Tin:
    """An area as triangles at level nought, holes left out. Raises NotDeterminable, when it has no inside."""
    flat = lambda ring: np.column_stack([ring, np.zeros(len(ring))])  # noqa: E731
    return triangulate(np.empty((0, 3)), flat(area.outline), holes=[flat(hole) for hole in area.holes])


def shifted(tin: Tin, origin: Floats) -> Tin:
    """The same surface counted from another origin."""
    return replace(tin, vertices=tin.vertices + (tin.origin - origin), origin=origin)


def change(
    earlier: Tin, later: Tin, mask: Tin | None = None, band: float = 0.0, progress: Progress | None = None
) -> Change:
    """Volumes between two surfaces, within a mask where there is one; differences up to ``band`` count for nothing.

    Raises Cancelled.
    """
    work = _prepared(earlier, later, mask)

    def some(span: tuple[int, int]) -> Floats:
        sums = np.zeros(6)
        work(band, ROUNDING, span[0], span[1], sums, np.empty((0, 3, 4)))
        return sums

    parts = each(some, ranges(len(later.triangles), 4_000), progress, "Laying the surfaces over one another")
    return Change(*np.sum(parts, axis=0).tolist()) if parts else Change(0, 0, 0, 0, 0, 0)


def pieces(
    earlier: Tin, later: Tin, mask: Tin | None = None, progress: Progress | None = None
) -> tuple[Floats, Floats]:
    """The triangles of both surfaces laid over one another: corners (m, 3, 3) on the later one, and differences (m, 3) there.

    Raises Cancelled.
    """
    work = _prepared(earlier, later, mask)

    def some(span: tuple[int, int]) -> Floats:
        room = np.empty((16 * (span[1] - span[0]) + 64, 3, 4))
        count = int(work(0.0, ROUNDING, span[0], span[1], np.zeros(6), room))
        if count > len(room):
            room = np.empty((count, 3, 4))
            work(0.0, ROUNDING, span[0], span[1], np.zeros(6), room)
        return room[:count].copy()

    found = np.concatenate(
        [np.empty((0, 3, 4)), *each(some, ranges(len(later.triangles), 4_000), progress, "Drawing what changed")]
    )
    return found[:, :, :3] + earlier.origin, found[:, :, 3]


def by_columns(dz: Floats, size: Floats, band: float) -> Change:
    """What changed by columns: differences (n,), those that are no number left out, over plan areas (n,)."""
    known = np.isfinite(dz)
    dz, size = dz[known], size[known]
    up, down = dz > band, dz < -band
    return Change(
        float(size[up] @ dz[up]), float(-(size[down] @ dz[down])), float(size[up].sum()), float(size[down].sum()),
        float(size.sum()), float(size[~up & ~down].sum()),
    )  # fmt: skip


def covered(tin: Tin, mask: Tin | None) -> float:
    """Plan area of a surface within a mask."""
    return float(tin.plan_areas.sum()) if mask is None else change(tin, mask).area


def zero_lines(corners: Floats, differences: Floats) -> Floats:
    """Where the difference changes its sign, as single segments (k, 2, 3), from what :func:`pieces` gives."""
    up = differences > 0
    mixed = np.flatnonzero(up.any(axis=1) & ~up.all(axis=1))
    found = []
    for a, b, c in ((0, 1, 2), (1, 2, 0), (2, 0, 1)):
        # The corner that is alone on its side.
        alone = mixed[(up[mixed, a] != up[mixed, b]) & (up[mixed, a] != up[mixed, c])]
        ends = []
        for other in (b, c):
            share = differences[alone, a] / (differences[alone, a] - differences[alone, other])
            ends.append(corners[alone, a] + share[:, None] * (corners[alone, other] - corners[alone, a]))
        found.append(np.stack(ends, axis=1))
    return np.concatenate(found)


def _prepared(earlier: Tin, later: Tin, mask: Tin | None) -> Any:
    """The kernel with what stays the same. All are counted from the origin of the earlier one, whose index is kept with it."""
    origin = earlier.origin
    top = later.vertices + (later.origin - origin)
    base = np.empty((len(earlier.triangles), 9))
    each(lambda span: pack(earlier.vertices, earlier.triangles, *span, base), ranges(len(base), 50_000))
    if mask is None:
        empty = np.zeros(2), 1.0, np.zeros(2, np.int64), np.zeros(1, np.int64), np.empty(0, np.int32)
        return partial(
            overlay, top, later.triangles, base, _grid(earlier), np.empty((0, 3)), np.empty((0, 3), np.int32), empty
        )
    area = shifted(mask, np.array([*origin[:2], 0.0]))
    return partial(overlay, top, later.triangles, base, _grid(earlier), area.vertices, area.triangles, _grid(area))


def _grid(tin: Tin) -> Any:
    index = tin.index
    return index.low, index.inverse, index.shape, index.starts, index.listed
