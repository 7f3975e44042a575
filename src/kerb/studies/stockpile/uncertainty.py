"""The 95 % uncertainty of a heap's volume from named parts, joined by root sum of squares (JCGM 100:2008, 5.1).

``docs/methods/stockpile.md`` gives each formula with its reasons.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.toe import ACROSS_STEP, GROUND, NO_POINTS, TYPED, GroundReader, moved, plane_through
from kerb.studies.drawn import Drawn
from kerb.studies.stockpile.heap import Heap, make_base, read_toe
from kerb.studies.stockpile.second_way import volume_by_grid
from kerb.studies.stockpile.setup import StockpileSetup

K95 = 1.96
CORRELATED_SPACINGS = 4.0


@dataclass(frozen=True)
class Part:
    """One source of uncertainty: its 95 % share of the volume and how it was reckoned."""

    name: str
    u95: float
    how: str


def parts(heap: Heap, setup: StockpileSetup, grid: HeightGrid, noise: float, gaps: Floats) -> list[Part]:
    """Named parts of the volume's uncertainty, in the cube of the job unit.

    ``noise`` is the standard deviation of single points; ``gaps`` are (n, 2): plan area and height range of each
    triangle that bridges a gap.
    """
    return [
        _noise(heap, noise),
        _bias(heap, setup),
        _toe_position(heap, setup, grid),
        _base_model(heap, setup, grid),
        _unseen_base(heap, setup, noise),
        _gaps(gaps),
    ]


def combined(items: list[Part]) -> float:
    """Root sum of squares of independent parts."""
    return float(np.sqrt(sum(item.u95**2 for item in items)))


def toe_error(setup: StockpileSetup, heap: Heap) -> float:
    """The stated bound of the toe position, or three spacings."""
    return setup.toe_error if setup.toe_error is not None else 3 * heap.ground.spacing


def _noise(heap: Heap, noise: float) -> Part:
    area = heap.top.plan_area
    # Errors of neighbouring points move together (footprint, matching window): count fewer of them.
    independent = max(len(heap.inside) / CORRELATED_SPACINGS**2, 1.0)
    return Part(
        "Vertical noise",
        K95 * noise * area / np.sqrt(independent),
        f"noise of single points {noise:.4g} (1σ)",
    )


def _bias(heap: Heap, setup: StockpileSetup) -> Part:
    if setup.base in ("toe", "plane", "lowest"):
        return Part("Vertical bias", 0.0, "cancels: top and base come from the same cloud")
    return Part("Vertical bias", setup.bias * heap.top.plan_area, f"stated bound {setup.bias:.4g} over the plan area")


def _toe_position(heap: Heap, setup: StockpileSetup, grid: HeightGrid) -> Part:
    reach = toe_error(setup, heap)
    changes = []
    for sign in (1.0, -1.0):
        other = _volume_at(heap, setup, grid, sign * reach)
        if other is not None:
            changes.append(abs(other - volume_by_grid(grid, heap.ring, heap.base).net))
    how = f"line moved out and in by {reach:.4g}, base read anew"
    return Part("Toe position", float(np.mean(changes)) if changes else 0.0, how)


def _volume_at(heap: Heap, setup: StockpileSetup, grid: HeightGrid, distance: float) -> float | None:
    try:
        if setup.base in ("level", "surface"):
            rings = polygon.offset(heap.ring, distance)
            return volume_by_grid(grid, max(rings, key=polygon.area), heap.base).net if rings else None
        ring = moved(heap.toe, distance)
        reader = GroundReader(heap.ground.points, heap.ground.search(ring))
        plain = replace(setup, toe=Drawn.of(ring))
        toe = read_toe(heap.ground, ring, plain, reader)
        return volume_by_grid(grid, ring, make_base(plain, toe, ring, None)).net
    except (NotDeterminable, InputError):
        return None


def _base_model(heap: Heap, setup: StockpileSetup, grid: HeightGrid) -> Part:
    if setup.base in ("level", "lowest", "surface"):
        return Part("Base model", 0.0, "the base is given, not modelled")
    try:
        other = plane_through(heap.toe) if setup.base == "toe" else make_base(
            replace(setup, base="toe"), heap.toe, heap.ring, None
        )  # fmt: skip
        here, there = (volume_by_grid(grid, heap.ring, base).net for base in (heap.base, other))
    except NotDeterminable:
        return Part("Base model", 0.0, "no second base could be made")
    half_width = abs(here - there)
    how = "difference between the surface and the plane through the toe, as half width of an even distribution"
    return Part("Base model", K95 * half_width / np.sqrt(3), how)


def _unseen_base(heap: Heap, setup: StockpileSetup, noise: float) -> Part:
    """Where the line runs along a wall or over a gap the base is interpolated: as unsure as the ground is uneven."""
    toe = heap.toe
    unseen = float(np.mean((toe.kind == ACROSS_STEP) | (toe.kind == NO_POINTS)))
    if setup.base in ("level", "surface") or unseen == 0.0:
        return Part("Base not seen", 0.0, "the ground is seen all along the line, or the base is given")
    fitted = plane_through(toe)
    seen = (toe.kind == GROUND) | (toe.kind == TYPED)
    uneven = float(np.sqrt(np.mean((toe.base[seen] - fitted.at(toe.xy[seen])) ** 2)))
    spread = max(uneven, noise)
    how = f"ground uneven by {spread:.3g} (1σ about its plane) over the share of the line where it is not seen"
    return Part("Base not seen", K95 * spread * unseen * heap.top.plan_area, how)


def _gaps(gaps: Floats) -> Part:
    if not len(gaps):
        return Part("Interpolated gaps", 0.0, "no gaps")
    half_widths = float(np.sum(gaps[:, 0] * gaps[:, 1]) / 2)
    return Part(
        "Interpolated gaps",
        K95 * half_widths / np.sqrt(3),
        "half the height range of each bridging triangle over its area, as half width of an even distribution",
    )


def point_noise(heap: Heap) -> float:
    """Standard deviation of single points about the local surface, from plane fits in small cells (median)."""
    cell = 3 * heap.ground.spacing
    local = heap.inside - np.append(heap.ring.min(axis=0), 0.0)
    key = np.floor(local[:, :2] / cell).astype(np.int64)
    order = np.lexsort((key[:, 1], key[:, 0]))
    _, starts = np.unique(key[order], axis=0, return_index=True)
    groups = np.split(order, starts[1:])
    chosen = [g for g in groups if len(g) >= 6]
    if len(chosen) < 5:
        return 0.0
    step = max(1, len(chosen) // 400)
    spreads = []
    for group in chosen[::step]:
        try:
            fit = plane.fit(heap.inside[group])
        except NotDeterminable:
            continue
        spreads.append(fit.residual_rms * np.sqrt(len(group) / (len(group) - 3)))
    return float(np.median(spreads)) if spreads else 0.0
