"""Point classes of the LAS standard that Kerb decides by."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import AnyArray

UNCLASSIFIED, GROUND, LOW_VEGETATION, MEDIUM_VEGETATION, HIGH_VEGETATION, KEY_POINTS = 1, 2, 3, 4, 5, 8
NOISE_CLASSES = (7, 18)
CLASS_NAMES = {
    0: "Never classified", 1: "Unassigned", 2: "Ground", 3: "Low vegetation", 4: "Medium vegetation",
    5: "High vegetation", 6: "Building", 7: "Low point (noise)", 8: "Model key-point", 9: "Water", 10: "Rail",
    11: "Road surface", 12: "Overlap", 13: "Wire guard", 14: "Wire conductor", 15: "Transmission tower",
    16: "Wire connector", 17: "Bridge deck", 18: "High noise",
}  # fmt: skip


LOOKED_AT = 2_000_000


def present(column: AnyArray) -> list[int]:
    """Classes that a column has, from an even look at it."""
    some = np.asarray(column[:: max(1, len(column) // LOOKED_AT)])
    if some.dtype != np.uint8:
        return [int(code) for code in np.unique(some)]
    # Many times faster than sorting them.
    return np.flatnonzero(np.bincount(some, minlength=1)).tolist()


def class_words(code: int) -> str:
    """Number and name of a class."""
    return f"{code}  {CLASS_NAMES.get(code, 'Class')}"
