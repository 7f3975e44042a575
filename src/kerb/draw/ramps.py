"""Colour tables: perceptually even ramps of our own, a two-sided one for signed results, and class colours.

Ramps are interpolated in CIELAB between anchor colours with evenly rising lightness, so that equal steps of value
look like equal steps.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from kerb.core.arrays import Bytes, Floats

ANCHORS: dict[str, tuple[str, ...]] = {
    "Shore": ("#2f4f78", "#2c7690", "#4e9c92", "#97bd89", "#dfcd97", "#fbf6e6"),
    "Slate": ("#23272b", "#4a5257", "#7d868b", "#b4bbbe", "#f3f4f2"),
    "Clay": ("#3b1f2b", "#7a3b3a", "#b0654a", "#d99f6c", "#f6e7c8"),
    "Reed": ("#1c2b2a", "#2f5647", "#5d8457", "#a3b06d", "#f0ecc6"),
    "Compass": ("#35507c", "#8c9a55", "#f0dcae", "#a4563c", "#35507c"),
    "Fill and cut": ("#2f3b86", "#7d86bd", "#e9e7e1", "#dda24a", "#a9620a"),
}
SEQUENTIAL = ("Shore", "Slate", "Clay", "Reed")
SIGNED = "Fill and cut"
# All round: from north over east, south and west to north again; what falls to the south is light.
ROUND = "Compass"

_CLASS_COLOURS = {
    0: "#c9c6bd", 1: "#a8a59b", 2: "#a07a4f", 3: "#9db86a", 4: "#6f9a4e", 5: "#3e7344", 6: "#b5655a", 7: "#d23f6f",
    8: "#d8ae66", 9: "#4f8fb5", 10: "#6d6480", 11: "#6e7580", 12: "#cbb7d6", 13: "#8f8d3a", 14: "#c58b2a",
    15: "#7c5c8c", 16: "#b18a5c", 17: "#5c8f8a", 18: "#e0729c",
}  # fmt: skip


@lru_cache(maxsize=32)
def table(name: str, steps: int = 256) -> Bytes:
    """A ramp as (steps, 3) red, green, blue bytes. Raises KeyError for an unknown name."""
    anchors = np.array([_to_lab(_rgb(text)) for text in ANCHORS[name]])
    # Spread the anchors by the distance between their colours: even steps of value become even steps of colour.
    run = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(anchors, axis=0), axis=1))])
    if name in (SIGNED, ROUND):
        run = np.linspace(0, 1, len(anchors))
    at = np.linspace(0, run[-1], steps)
    lab = np.column_stack([np.interp(at, run, anchors[:, k]) for k in range(3)])
    return np.clip(np.round(_to_rgb(lab) * 255), 0, 255).astype(np.uint8)


@lru_cache(maxsize=64)
def table_between(name: str, low: float, high: float) -> Bytes:
    """The ramp as it lies between two limits, (256, 3). The middle of a two-sided one stays at nought where that lies
    between them: dragging one end changes the colours of its own side alone."""
    whole = table(name)
    if name != SIGNED or not low <= 0 <= high or not high > low:
        return whole
    value = np.linspace(low, high, len(whole))
    below = value / -low if low < 0 else np.zeros(len(whole))
    above = value / high if high > 0 else np.zeros(len(whole))
    share = 0.5 + 0.5 * np.where(value < 0, below, above)
    return np.asarray(whole[np.round(np.clip(share, 0, 1) * (len(whole) - 1)).astype(int)])


@lru_cache(maxsize=64)
def band_table(name: str, count: int) -> Bytes:
    """Colours of ``count`` bands, (count, 3): evenly chosen from a ramp, its middle where the count is odd."""
    whole = table(name)
    at = (np.arange(count) + 0.5) / count * (len(whole) - 1)
    return whole[np.round(at).astype(int)]


def banded(values: Floats, edges: tuple[float, ...], name: str) -> Bytes:
    """Colours (n, 3) of values by the band they lie in; a value on an edge belongs to the band above it."""
    colours = band_table(name, len(edges) + 1)
    return np.asarray(colours[np.searchsorted(np.array(edges), values, side="right")])


@lru_cache(maxsize=1)
def class_table() -> Bytes:
    """Colours of the LAS classes, (256, 3)."""
    colours = np.full((256, 3), 160, np.uint8)
    rng = np.random.default_rng(5)
    colours[19:] = rng.integers(70, 200, (237, 3))
    for code, text in _CLASS_COLOURS.items():
        colours[code] = np.round(_rgb(text) * 255)
    return colours


@lru_cache(maxsize=1)
def source_table() -> Bytes:
    """Distinct calm colours for sources and other codes, (256, 3), eight that repeat."""
    eight = ["#4c7a8f", "#b57f4a", "#6c8f5a", "#97627e", "#8a8a4d", "#5a6fa0", "#a85c50", "#5f9a90"]
    return np.array([np.round(_rgb(eight[i % 8]) * 255) for i in range(256)], np.uint8)


def _rgb(text: str) -> Floats:
    return np.array([int(text[i : i + 2], 16) / 255 for i in (1, 3, 5)])


_TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
_WHITE = np.array([0.95047, 1.0, 1.08883])


def _to_lab(rgb: Floats) -> Floats:
    """CIELAB of an sRGB colour (IEC 61966-2-1, white D65)."""
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    ratio = (_TO_XYZ @ linear) / _WHITE
    f = np.where(ratio > (6 / 29) ** 3, np.cbrt(ratio), ratio * (29 / 6) ** 2 / 3 + 4 / 29)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


def _to_rgb(lab: Floats) -> Floats:
    fy = (lab[:, 0] + 16) / 116
    f = np.column_stack([fy + lab[:, 1] / 500, fy, fy - lab[:, 2] / 200])
    xyz = np.where(f > 6 / 29, f**3, 3 * (6 / 29) ** 2 * (f - 4 / 29)) * _WHITE
    linear = np.clip(xyz @ np.linalg.inv(_TO_XYZ).T, 0, 1)
    return np.asarray(np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055))
