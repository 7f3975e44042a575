"""The 95 % uncertainty of a heap's volume from named parts, joined by root sum of squares (JCGM 100:2008, 5.1).

``docs/methods/stockpile.md`` gives each formula with its reasons.
"""

from __future__ import annotations

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask
from kerb.core.errors import NotDeterminable
from kerb.core.geometry import plane, polygon
from kerb.core.geometry.area import Area, ring_of
from kerb.core.parallel import each
from kerb.core.sorting import by_cells
from kerb.core.surface.along import outwards, surrounds
from kerb.core.surface.grid import HeightGrid
from kerb.core.surface.tin import Tin
from kerb.core.surface.unseen import mean_error, thinned
from kerb.studies.parts import K95, Part
from kerb.studies.stockpile.heap import Heap, base_elevations, line_error
from kerb.studies.stockpile.setup import StockpileSetup

CORRELATED_SPACINGS = 4.0
CELL_SPACINGS = 6.0
SHARED_BY_CHANCE = 0.1
LINES = 60
# Yards are laid to falls of one to two and a half percent (common practice).
FALL = 0.025


def parts(heap: Heap, setup: StockpileSetup, grid: HeightGrid, noise: tuple[float, float], gaps: Floats) -> list[Part]:
    """Named parts of the volume's uncertainty, in the cube of the job unit.

    ``noise`` is the standard deviation of single points and the share of it that neighbours have in common; ``gaps`` are
    (n, 2): plan area and height range of each triangle that bridges a gap.
    """
    return [
        _noise(heap, *noise),
        _bias(heap, setup),
        _toe_position(heap, setup, grid),
        _base_model(heap, setup),
        _gaps(gaps),
    ]


def toe_error(setup: StockpileSetup, heap: Heap) -> float:
    """The bound of the toe position that is reckoned with."""
    return line_error(setup, heap.ground.spacing, heap.ground.unit)


def _noise(heap: Heap, noise: float, together: float) -> Part:
    area, unit = heap.top.plan_area, heap.ground.unit.symbol
    # Errors of neighbouring points that move together (footprint, matching window) leave fewer of them.
    independent = max(len(heap.inside) / (1 + together * (CORRELATED_SPACINGS**2 - 1)), 1.0)
    return Part(
        "Vertical noise",
        K95 * noise * area / np.sqrt(independent),
        f"noise of single points {noise:.4g} {unit} (1σ), {together:.0%} of it shared by neighbours",
    )


def _bias(heap: Heap, setup: StockpileSetup) -> Part:
    if setup.base in ("toe", "plane", "lowest"):
        return Part("Vertical bias", 0.0, "cancels: top and base come from the same cloud")
    return Part(
        "Vertical bias",
        setup.bias * heap.top.plan_area,
        f"stated bound {setup.bias:.4g} {heap.ground.unit.symbol} over the plan area",
    )


def _toe_position(heap: Heap, setup: StockpileSetup, grid: HeightGrid) -> Part:
    """Volumes of lines whose vertices lie elsewhere within the stated bound, each by itself (JCGM 101:2008)."""
    reach = toe_error(setup, heap)
    normal, seen = outwards(heap.ring), heap.toe.seen[heap.toe.vertices]
    by = np.random.default_rng(1).normal(0.0, reach / K95, (LINES, len(heap.ring)))
    # What lies beyond a wall or in the next heap is not this one: there a line can only be too far in.
    by = np.where(seen, by, -np.abs(by))
    height = _heights(heap, grid, float(by.max()) + 2 * grid.cell)
    rings = [heap.ring, *(heap.ring + normal * row[:, None] for row in by)]
    here, *others = each(lambda ring: _column_sum(height, grid, ring, heap.area), rings)
    unit = heap.ground.unit.symbol
    how = f"{LINES} lines whose vertices lie elsewhere by {reach:.4g} {unit} (95 %), each by itself"
    return Part("Toe position", K95 * float(np.sqrt(np.mean(np.square(np.array(others) - here)))), how)


def _heights(heap: Heap, grid: HeightGrid, reach: float) -> Floats:
    """Heights over the base of the cells inside the line and up to ``reach`` outside; nought where nothing is known."""
    height, known = np.zeros(grid.shape), np.isfinite(grid.z)
    near = np.zeros(grid.z.size, np.bool_)
    for ring in polygon.offset(heap.ring, max(reach, grid.cell)):
        near |= polygon.contains(ring, grid.centres())
    known &= near.reshape(grid.shape)
    height[known] = grid.z[known] - base_elevations(heap.base, heap.ring, grid.centres()[known.ravel()])
    height[~np.isfinite(height)] = 0.0
    return height


def _column_sum(height: Floats, grid: HeightGrid, ring: Floats, area: Area) -> float:
    share = Area((ring_of(ring), *area.rings[1:])).coverage(grid.low, grid.cell, grid.shape)
    return float(np.sum(share * height)) * grid.cell**2


def _base_model(heap: Heap, setup: StockpileSetup) -> Part:
    """What the base may be under the heap, from how the ground varies where it is seen."""
    if setup.base in ("level", "lowest", "surface"):
        return Part("Base under the heap", 0.0, "the base is given, not modelled")
    toe, area, unit = heap.toe, heap.area.size, heap.ground.unit.symbol
    if setup.base == "toe":
        assert isinstance(heap.base, Tin)
        weights = _weights(heap.base, toe.xy)
    else:
        weights = plane_weights(toe.xy, toe.seen, heap.area.middle)
    seen = toe.seen
    known = toe.filling.adjoint(weights)[seen]
    samples, known = thinned(np.column_stack([toe.xy, toe.read])[seen], known / known.sum())
    if not surrounds(samples[:, :2]):
        away = float(np.hypot(*(known @ samples[:, :2] - heap.area.middle)))
        uneven = float(np.std(samples[:, 2]))
        how = (
            f"ground is seen on one side only: a cross fall of {FALL:.1%} over {away:.3g} {unit} and {uneven:.3g} {unit} "
            "(1σ) along it"
        )
        return Part("Base under the heap", float(np.hypot(FALL * away, K95 * uneven)) * area, how)
    found = mean_error(samples, known, spread_over(heap.area))
    how = (
        f"the ground round the heap varies by {found.spread:.3g} {unit} (1σ) over some {found.range:.3g} {unit}: block "
        "estimation variance of its mean under the heap"
    )
    return Part("Base under the heap", found.u95 * area, how)


def _weights(base: Tin, xy: Floats) -> Floats:
    """How much the level at each place of a line counts in the mean of a surface through it."""
    thirds = np.bincount(base.triangles.ravel(), np.repeat(base.plan_areas / 3, 3), len(base.vertices))
    found = scipy.spatial.cKDTree(base.points[:, :2]).query(xy)[1]
    share = thirds[found]
    return np.asarray(share / share.sum())


def plane_weights(xy: Floats, seen: Mask, middle: Floats) -> Floats:
    """How much the level at each place counts at ``middle`` of the least-squares plane through those that are seen."""
    design = np.column_stack([np.ones(int(seen.sum())), xy[seen] - middle])
    weights = np.zeros(len(xy))
    weights[seen] = np.linalg.pinv(design)[0]
    return weights


def spread_over(area: Area, about: int = 150) -> Floats:
    """Places (k, 2) spread evenly over an area."""
    low, high = area.outline.min(axis=0), area.outline.max(axis=0)
    step = np.sqrt(area.size / about)
    places = np.stack(np.meshgrid(*(np.arange(a + step / 2, b, step) for a, b in zip(low, high, strict=True))), -1)
    places = places.reshape(-1, 2)
    inside = places[area.contains(places)]
    return inside if len(inside) else area.middle[None]


def _gaps(gaps: Floats) -> Part:
    if not len(gaps):
        return Part("Interpolated gaps", 0.0, "no gaps")
    half_widths = float(np.sum(gaps[:, 0] * gaps[:, 1]) / 2)
    return Part(
        "Interpolated gaps",
        K95 * half_widths / np.sqrt(3),
        "half the height range of each bridging triangle over its area, as half width of an even distribution",
    )


def point_noise(heap: Heap) -> tuple[float, float]:
    """Standard deviation of single points about the local surface, and the share of it that neighbours have in common.

    From plane fits in small cells (medians). Residuals of a plane through n points are bound to be negatively correlated,
    by -3 / (n (n - 3)) or so on average; what neighbours have in common shows as less difference between points that lie
    close together than between those that lie apart in one cell.
    """
    cell = CELL_SPACINGS * heap.ground.spacing
    order, starts = by_cells(heap.inside, heap.ring.min(axis=0), cell)
    many = np.diff(np.append(starts, len(order)))
    chosen = np.flatnonzero(many >= 6)
    if len(chosen) < 5:
        return 0.0, 1.0
    step = max(1, len(chosen) // 400)
    spreads, close, apart = [], [], []
    for number in chosen[::step]:
        group = order[starts[number] : starts[number] + many[number]]
        points = heap.inside[group]
        try:
            fit = plane.fit(points)
        except NotDeterminable:
            continue
        spreads.append(fit.residual_rms * np.sqrt(len(group) / (len(group) - 3)))
        rest = points[:, 2] - fit.at(points[:, :2])
        first, second = np.triu_indices(len(group), 1)
        away = np.hypot(*(points[first, :2] - points[second, :2]).T)
        half = 0.5 * (rest[first] - rest[second]) ** 2
        near = away < heap.ground.spacing
        close += half[near].tolist()
        apart += half[away > 2.5 * heap.ground.spacing].tolist()
    if not spreads:
        return 0.0, 1.0
    level = float(np.mean(apart)) if apart else 0.0
    together = 1 - float(np.mean(close)) / level if level > 0 and close else 1.0
    return float(np.median(spreads)), float(np.clip(together - SHARED_BY_CHANCE, 0.0, 1.0))
