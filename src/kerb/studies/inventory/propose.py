"""Find heaps in a cloud: closed areas that stand above the ground around them, touching ones parted along their valley.

The cloud is gridded; a morphological opening wider than the largest heap gives a first ground, from which what lies
low is taken and interpolated under everything else. What then stands above the ground is cut where it is steeper than
any loose material lies (walls, buildings, vehicles), and parted at valleys: cells are visited from the highest down, and
two summits stay apart where both rise above the saddle between them by more than a share of the least height.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats, Ints32, Mask, ends
from kerb.core.cloud.view import CloudView
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.plane import fit_robust
from kerb.core.progress import Progress
from kerb.core.surface.grid import HeightGrid, filled, gridded
from kerb.core.units import LengthUnit
from kerb.studies.inventory.summits_kernels import summits

MOST_CELLS = 1_500_000
CELL_SPACINGS = 3.0
SMALLEST_CELL_M = 0.25
LARGEST_HEAP_M = 60.0
FOOT_M = 0.12
STEEPEST = np.tan(np.radians(55.0))
REPOSE = np.tan(np.radians(33.0))
SADDLE_SHARE = 0.6
OPEN_SHARE = 0.15
HARD_SHARE = 0.55
SAMPLE = 4_000_000


@dataclass(frozen=True)
class Yard:
    """The cloud as a grid: elevations of the surface and of the ground under it, both (rows, columns)."""

    grid: HeightGrid
    ground: Floats
    known: Mask

    @property
    def height(self) -> Floats:
        """Height of the surface over the ground."""
        return self.grid.z - self.ground


def proposals(view: CloudView, least: tuple[float, float], unit: LengthUnit, progress: Progress) -> list[Any]:
    """Outlines (shapely polygons in job coordinates) of what may be heaps, the largest first.

    ``least`` are the least height and the least area that count, in the job unit. Raises NotDeterminable, when there
    are too few points to tell; Cancelled.
    """
    progress.step(0.0, "Reading points")
    points = view.sample(SAMPLE)
    if len(points) < 100:
        raise NotDeterminable("there are too few points to look for heaps in")
    yard = _yard(points, view, unit, progress.within(0.2, 0.6))
    progress.step(0.6, "Parting heaps")
    labels = _parted(yard, least, unit)
    progress.step(0.8, "Drawing toe lines")
    return _outlines(yard, labels, least, unit)


def _yard(points: Floats, view: CloudView, unit: LengthUnit, progress: Progress) -> Yard:
    low, high = ends(points[:, :2])
    spacing = max(view.store.spacing, float(np.sqrt(np.prod(high - low) / len(points))))
    cell = max(CELL_SPACINGS * spacing, SMALLEST_CELL_M / unit.metres, float(np.sqrt(np.prod(high - low) / MOST_CELLS)))
    grid = gridded(points, low, high, cell)
    known = np.isfinite(grid.z)
    inside = scipy.ndimage.binary_fill_holes(scipy.ndimage.binary_closing(known, iterations=3)) | known
    grid = filled(grid, inside)
    progress.step(0.3, "Finding the ground")
    return Yard(grid, _ground(grid, inside, unit), inside)


def _ground(grid: HeightGrid, inside: Mask, unit: LengthUnit) -> Floats:
    """Elevation of the ground everywhere: a plane taken off, opened, and interpolated from what lies low."""
    places = np.column_stack([grid.centres(), grid.z.ravel()])[inside.ravel()]
    low = places[places[:, 2] <= np.percentile(places[:, 2], 60)]
    plane = fit_robust(low[:: max(1, len(low) // 20_000)])
    trend = plane.at(grid.centres()).reshape(grid.shape)
    flat = np.where(inside, grid.z - trend, np.inf)
    width = max(3, round(LARGEST_HEAP_M / unit.metres / grid.cell) | 1)
    width = min(width, (min(grid.shape) // 2) | 1)
    # A stray far below must not pull the ground down: the third lowest of nine neighbours rules.
    calm = scipy.ndimage.percentile_filter(np.where(np.isfinite(flat), flat, np.nanmax(flat[inside])), 25, size=3)
    opened = scipy.ndimage.maximum_filter(scipy.ndimage.minimum_filter(calm, width), width)
    lying = inside & (flat - opened < 2 * FOOT_M / unit.metres)
    found = filled(HeightGrid(grid.low, grid.cell, np.where(lying, grid.z, np.nan), grid.count), inside)
    return _evened(found.z, inside)


def _evened(z: Floats, inside: Mask) -> Floats:
    """Elevations evened over a few cells, so that single rough cells do not count as ground or heap."""
    weight = scipy.ndimage.uniform_filter(inside.astype(float), 5)
    total = scipy.ndimage.uniform_filter(np.where(inside, z, 0.0), 5)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(inside, total / weight, np.nan)


def _parted(yard: Yard, least: tuple[float, float], unit: LengthUnit) -> Ints32:
    """A number for the cells of each summit that stands alone, 0 elsewhere."""
    height = np.where(yard.known, yard.height, 0.0)
    steep = _slope(yard) > STEEPEST
    standing = (height > FOOT_M / unit.metres) & ~steep
    standing = scipy.ndimage.binary_opening(standing, iterations=1)
    order = np.flatnonzero(standing.ravel())
    order = order[np.argsort(-height.ravel()[order], kind="stable")]
    labels = np.zeros(height.size, np.int32)
    summits(order, height.ravel(), yard.grid.shape[1], SADDLE_SHARE * least[0], labels)
    return labels.reshape(height.shape)


def _slope(yard: Yard) -> Floats:
    """Tangent of the slope of each cell, zero where nothing is known."""
    rise, run = np.gradient(np.where(yard.known, yard.grid.z, np.nan), yard.grid.cell)
    return np.nan_to_num(np.hypot(rise, run))


def _outlines(yard: Yard, labels: Ints32, least: tuple[float, float], unit: LengthUnit) -> list[Any]:
    from rasterio.features import shapes
    from rasterio.transform import Affine

    grid = yard.grid
    top = grid.low[1] + grid.shape[0] * grid.cell
    keep = _lasting(yard, labels, least)
    affine = Affine(grid.cell, 0.0, 0.0, 0.0, -grid.cell, top - grid.low[1])
    image = np.where(np.isin(labels, keep), labels, 0)[::-1]
    largest: dict[int, Any] = {}
    for data, number in shapes(np.ascontiguousarray(image, np.int32), mask=image > 0, transform=affine):
        shape = shapely.Polygon(data["coordinates"][0])
        if shape.area > (largest[int(number)].area if int(number) in largest else 0.0):
            largest[int(number)] = shape
    # The outline was taken where the heap stands a foot mark high and lost a cell on the way; its toe lies further out.
    out = FOOT_M / unit.metres / REPOSE + grid.cell
    steep = np.ascontiguousarray((_slope(yard) > STEEPEST)[::-1], np.uint8)
    walls = [
        shapely.Polygon(data["coordinates"][0], data["coordinates"][1:])
        for data, _ in shapes(steep, mask=steep > 0, transform=affine)
    ]
    hard = shapely.union_all([wall for wall in walls if wall.area > 4 * grid.cell**2])
    others = shapely.union_all(list(largest.values()))
    made: list[Any] = []
    for shape in sorted(largest.values(), key=lambda s: -s.area):
        grown = shape.buffer(out).difference(others.difference(shape.buffer(grid.cell * 0.01))).difference(hard)
        for before in made:
            grown = grown.difference(before)
        part = max(getattr(grown, "geoms", [grown]), key=lambda p: p.area)
        line = shapely.Polygon(part.exterior).simplify(grid.cell * 0.6)
        if line.area >= least[1]:
            made.append(line)
    return [shapely.transform(line, lambda xy: xy + grid.low) for line in made]


def _lasting(yard: Yard, labels: Ints32, least: tuple[float, float]) -> list[int]:
    """Which numbers are heaps: high and wide enough, not cut off by the edge of the data, not walled all round."""
    number = int(labels.max())
    if not number:
        return []
    every = np.arange(1, number + 1)
    size = np.bincount(labels.ravel())[1:] * yard.grid.cell**2
    high = scipy.ndimage.maximum(yard.height, labels, every)
    rim = (labels > 0) & ~scipy.ndimage.binary_erosion(labels > 0)
    beyond = ~scipy.ndimage.binary_erosion(yard.known, iterations=2, border_value=0)
    hard = scipy.ndimage.binary_dilation(_slope(yard) > STEEPEST, iterations=2)
    around, open_, walled = (np.bincount(labels[m], minlength=number + 1)[1:] for m in (rim, rim & beyond, rim & hard))
    good = (high >= least[0]) & (size >= least[1]) & (open_ <= OPEN_SHARE * around) & (walled <= HARD_SHARE * around)
    return [int(n) for n in every[good]]
