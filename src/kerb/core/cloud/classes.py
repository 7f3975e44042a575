"""Point classes of the LAS standard that Kerb decides by."""

from __future__ import annotations

UNCLASSIFIED, GROUND, LOW_VEGETATION, MEDIUM_VEGETATION, HIGH_VEGETATION, KEY_POINTS = 1, 2, 3, 4, 5, 8
GROUND_CLASSES = (GROUND, KEY_POINTS)
NOISE_CLASSES = (7, 18)
CLASS_NAMES = {
    0: "Never classified", 1: "Unassigned", 2: "Ground", 3: "Low vegetation", 4: "Medium vegetation",
    5: "High vegetation", 6: "Building", 7: "Low point (noise)", 8: "Model key-point", 9: "Water", 10: "Rail",
    11: "Road surface", 12: "Overlap", 13: "Wire guard", 14: "Wire conductor", 15: "Transmission tower",
    16: "Wire connector", 17: "Bridge deck", 18: "High noise",
}  # fmt: skip


def class_words(code: int) -> str:
    """Number and name of a class."""
    return f"{code}  {CLASS_NAMES.get(code, 'Class')}"
