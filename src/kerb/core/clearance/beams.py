"""Beams: ridges of an underside that reach down between bays, told apart on a grid of its lowest levels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints32

# A beam reaches down by so much from what lies within so much beside it (m), and is at least so long (m).
DOWN_M, BESIDE_M, SHORTEST_M = 0.08, 1.6, 1.5


@dataclass(frozen=True)
class Beams:
    """``number`` (rows, columns) of the beam that a cell belongs to, 0 for none; ``names`` in order of the numbers."""

    number: Ints32
    names: tuple[str, ...]


def beams_of(under: Floats, cell: float, metre: float) -> Beams:
    """Beams of an underside (rows, columns), elevations of its lowest points, NaN where it has none; named B1, B2 … from one
    end to the other."""
    known = np.isfinite(under)
    none = Beams(np.zeros(under.shape, np.int32), ())
    if not known.any():
        return none
    wide = max(3, int(2 * BESIDE_M * metre / cell) | 1)
    high = np.where(known, under, -np.inf)
    around = scipy.ndimage.maximum_filter(high, wide, mode="constant", cval=-np.inf)
    down = known & (around - np.where(known, under, 0.0) > DOWN_M * metre)
    # Cells between points that happen to be empty do not part a beam.
    label, count = scipy.ndimage.label(scipy.ndimage.binary_closing(down, np.ones((3, 3), bool)), np.ones((3, 3), bool))
    kept = []
    for number, span in enumerate(scipy.ndimage.find_objects(label), 1):
        rows, columns = np.nonzero((label[span] == number) & down[span])
        if not len(rows):
            continue
        places = np.column_stack([columns + span[1].start, rows + span[0].start]).astype(float)
        size = np.ptp(places, axis=0)
        if float(np.hypot(*size)) * cell >= SHORTEST_M * metre:
            kept.append((number, places.mean(axis=0)))
    if not kept:
        return none
    middles = np.array([middle for _, middle in kept])
    off = middles - middles.mean(axis=0)
    _, vectors = np.linalg.eigh(off.T @ off + 1e-12 * np.eye(2))
    way = vectors[:, 1] * (1 if vectors[np.argmax(np.abs(vectors[:, 1])), 1] > 0 else -1)
    order = np.argsort(middles @ way, kind="stable")
    renamed = np.zeros(count + 1, np.int32)
    for new, old in enumerate(order.tolist(), 1):
        renamed[kept[old][0]] = new
    found = np.where(down, renamed[label], 0).astype(np.int32)
    return Beams(found, tuple(f"B{n}" for n in range(1, len(kept) + 1)))
