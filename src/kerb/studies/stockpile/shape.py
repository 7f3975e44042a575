"""Descriptive figures of a heap: highest point, surface area, slopes of its sides, gaps and rough places."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask
from kerb.core.sorting import spread_by_cells
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.surface.tin import Tin
from kerb.studies.stockpile.heap import Heap, base_elevations

NOISY_SLOPE = 0.03
SMOOTH_SPACINGS = 4.0
SLOPE_SPACINGS = 8.0
SIDE_SHARE = 0.1
ROUGH_M = 0.3


@dataclass(frozen=True)
class Slopes:
    """Mean and steepest inclination of the sides in degrees, over stretches of ``length``; None without sides."""

    mean: float | None
    steepest: float | None
    length: float


def gap_triangles(top: Tin, longest: float) -> Mask:
    """Which triangles of the top bridge a gap: a side longer than ``longest``."""
    return top.longest_edges > longest


def surface_area(heap: Heap, noise: float) -> tuple[float, str]:
    """Area along the top surface, and how it was found.

    Point noise makes a triangulation through every point wrinkled and its area too large; where the noise is more
    than a few percent of the spacing the area is taken from cell means instead, which smooth it away.
    """
    if noise <= NOISY_SLOPE * heap.ground.spacing:
        return heap.top.surface_area, "through every point"
    cell = SMOOTH_SPACINGS * heap.ground.spacing
    grid, share = heap_grid(heap, cell)
    dy, dx = np.gradient(grid.z, cell)
    stretch = np.sqrt(1 + dx**2 + dy**2)
    usable = (share > 0) & np.isfinite(stretch)
    area = float(np.sum(share[usable] * stretch[usable])) * cell**2
    return area * heap.top.plan_area / float(np.sum(share[usable]) * cell**2), f"over cell means of {cell:.3g}"


def heap_grid(heap: Heap, cell: float) -> tuple[HeightGrid, Floats]:
    """Grid of the points inside the toe and share of each cell inside; one cell of rim is filled for gradients."""
    low, high = heap.ring.min(axis=0) - 2 * cell, heap.ring.max(axis=0) + 2 * cell
    grid = gridded(heap.inside, low, high, cell)
    share = heap.area.coverage(low, cell, grid.shape)
    rim = scipy.ndimage.binary_dilation(share > 0, iterations=1)
    return filled(grid, rim), share


def slopes(heap: Heap) -> Slopes:
    """Inclination of the sides: where the heap stands above a tenth of its height over the base."""
    length = SLOPE_SPACINGS * heap.ground.spacing
    size = float(np.sqrt(heap.top.plan_area))
    length = min(max(length, size / 60), size / 8)
    grid, share = heap_grid(heap, length / 2)
    # Central differences over two cells of half the length.
    dy, dx = np.gradient(grid.z, grid.cell)
    steep = np.degrees(np.arctan(np.hypot(dx, dy)))
    height = np.full(grid.shape, np.nan)
    whole = share > 0.999
    height[whole] = grid.z[whole] - base_elevations(heap.base, heap.ring, grid.centres()[whole.ravel()])
    if not np.isfinite(height).any():
        return Slopes(None, None, length)
    tallest = float(np.nanmax(np.abs(height)))
    inner = scipy.ndimage.binary_erosion(whole)
    side = inner & np.isfinite(steep) & (np.abs(height) > SIDE_SHARE * tallest)
    # The flat top is not a side: leave out what is flatter than a third of the typical steep part.
    if not side.any():
        return Slopes(None, None, length)
    limit = float(np.percentile(steep[side], 75)) / 3
    flank = steep[side & (steep >= limit)]
    return Slopes(float(flank.mean()), float(flank.max()), length)


def rough_area(heap: Heap) -> float:
    """Plan area inside the toe where points within a small cell scatter in height by more than the ground does.

    It tells of plants, machinery, overhangs or stray points inside the line. Steep sides are allowed for.
    """
    cell = SMOOTH_SPACINGS * heap.ground.spacing
    _, lowest, highest, _ = spread_by_cells(heap.inside, heap.ring.min(axis=0), cell)
    allowed = ROUGH_M / heap.ground.unit.metres + 2.0 * cell
    return float(np.count_nonzero(highest - lowest > allowed)) * cell**2


def stray_height(heap: Heap) -> float:
    """How far the highest point stands above the median of its surroundings, beyond what a steep side explains."""
    highest = heap.inside[np.argmax(heap.inside[:, 2])]
    reach = 6 * heap.ground.spacing
    near = heap.inside[np.abs(heap.inside[:, 0] - highest[0]) < reach]
    near = near[np.hypot(*(near[:, :2] - highest[:2]).T) < reach]
    if len(near) < 5:
        return 0.0
    excess = float(highest[2] - np.percentile(near[:, 2], 90)) - reach
    return max(excess, 0.0)
