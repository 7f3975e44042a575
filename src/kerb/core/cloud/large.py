"""Large things that an opening takes off the ground: halls by the steps all round them, embankments by their slopes.

An opening with a wide disk removes whatever is narrower, a hall like a dam. What stands on the ground parts from it by
steps; ground that rises goes over into it by slopes. So the edge of each large thing decides, and can be overruled.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask

# Things of fewer cells are left to the opening.
LEAST_CELLS = 60
# Ground has no steeper slopes (50 degrees, loose material stands at less than 40) than what is no step.
STEEPEST = 1.2
STEPPED_EDGE = 0.55
ROUGH_STEPS = 1.0


@dataclass(frozen=True)
class LargeThing:
    """One large thing: where its middle is, how long, wide and high, how much of its edge is a step, what it was taken for."""

    middle: tuple[float, float]
    length: float
    width: float
    height: float
    stepped: float
    ground: bool

    def size(self, unit: str) -> str:
        """How large it is: ``100 × 60 m, 10.0 m high``."""
        high = f"{abs(self.height):.1f} {unit} {'high' if self.height >= 0 else 'deep'}"
        return f"{self.length:.0f} × {self.width:.0f} {unit}, {high}"

    def words(self, unit: str) -> str:
        """What it is and what it was taken for: ``100 × 60 m, 10 m high: no ground (a step along 98 % of its edge)``."""
        taken = "ground" if self.ground else "no ground"
        return f"{self.size(unit)}: {taken} (a step along {100 * self.stepped:.0f} % of its edge)"


def judged(
    low: Floats, bare: Mask, known: Mask, cell: float, step: float, turned: Ints
) -> tuple[Mask, list[LargeThing]]:
    """Cells that are ground when large things are judged by their edges, and those things; places in cells.

    Parameters
    ----------
    low: lowest elevation of each cell (rows, columns); bare: cells an opening took for ground; known: cells with points;
    turned: (n, 2) row and column of places whose thing is to be taken for the opposite.
    """
    removed = known & ~bare
    # Single cells that look like ground within a thing do not part it, nor join two things by a corner.
    # (A closing takes off what touches the rim of the grid: that stays.)
    number, count = scipy.ndimage.label((scipy.ndimage.binary_closing(removed) | removed) & known)
    if not count:
        return bare, []
    sizes = np.bincount(number.ravel())
    boxes = scipy.ndimage.find_objects(number)
    out, things = bare.copy(), []
    overruled = {int(number[row, column]) for row, column in turned}
    for one in np.flatnonzero(sizes[1:] >= LEAST_CELLS) + 1:
        rows, columns = (slice(max(part.start - 1, 0), part.stop + 1) for part in boxes[one - 1])
        mine, around = number[rows, columns] == one, low[rows, columns]
        stepped, height = _edge(around, mine, known[rows, columns], cell, step)
        rough = _roughness(around, mine)
        is_ground = stepped < STEPPED_EDGE and rough <= ROUGH_STEPS * step + 0.05 * cell
        if one in overruled:
            is_ground = not is_ground
        places = np.argwhere(mine) + [rows.start, columns.start]
        length, width = _extents(places)
        middle = places.mean(axis=0)
        things.append(
            LargeThing((float(middle[1]), float(middle[0])), length * cell, width * cell, height, stepped, is_ground)
        )
        if is_ground:
            out[rows, columns] |= mine
        elif one in overruled:
            out[rows, columns] &= ~mine
    return out, things


def _edge(low: Floats, mine: Mask, known: Mask, cell: float, step: float) -> tuple[float, float]:
    """Share of a thing's edge that is a step, and its height over what is round it (median)."""
    rises = []
    for axis in (0, 1):
        for way in (1, -1):
            beside = np.roll(mine, way, axis)
            front = [slice(None), slice(None)]
            front[axis] = slice(0, 1) if way == 1 else slice(-1, None)
            beside[tuple(front)] = False
            outside = beside & ~mine & known
            rises.append((np.roll(low, way, axis) - low)[outside])
    rise = np.concatenate(rises)
    if not len(rise):
        return 1.0, 0.0
    height = float(np.median(low[mine & known]) - np.median(low[known & ~mine]))
    return float(np.mean(np.abs(rise) > STEEPEST * cell + step)), height


def _roughness(low: Floats, mine: Mask) -> float:
    """Median departure of a thing's cells from the median of their neighbours: plants are rough, ground and roofs not."""
    smooth = scipy.ndimage.median_filter(np.where(np.isfinite(low), low, np.nanmedian(low[mine])), 3)
    inside = scipy.ndimage.binary_erosion(mine)
    chosen = inside if inside.any() else mine
    return float(np.nanmedian(np.abs(low - smooth)[chosen]))


def _extents(places: Ints) -> tuple[float, float]:
    """Length and width of places along their own axes, in cells."""
    centred = places - places.mean(axis=0)
    _, _, axes = np.linalg.svd(centred.T @ centred)
    spans = np.ptp(centred @ axes.T, axis=0) + 1
    return float(max(spans)), float(min(spans))
