"""Water on a floor: depressions, how deep and large they are until they overflow, and what area drains where.

Depressions are filled by priority flood (Barnes, Lehman and Mulla 2014); each node drains to the neighbour from which the flood
reached it, so that every node has a way out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints
from kerb.core.floor.floor_kernels import flooded


@dataclass(frozen=True)
class Pond:
    """A depression: its deepest place (easting, northing), depth there, area and volume until it overflows."""

    place: tuple[float, float]
    depth: float
    area: float
    volume: float


@dataclass(frozen=True)
class Water:
    """``depth`` (rows, columns) of standing water, NaN off the floor; ponds, largest volume first; ``to`` (n,) the node that each
    drains to, -1 where water leaves."""

    depth: Floats
    ponds: tuple[Pond, ...]
    to: Ints


def water_on(
    z: Floats, corner: tuple[float, float], spacing: float, least: float, outlets: Floats | None = None
) -> Water:
    """Where water stands on levels (rows, columns) that is deeper than ``least``.

    ``outlets`` (k, 2) are gullies and doors, by which alone it leaves; without any it leaves over the rim.
    """
    open_ = np.zeros(z.shape, bool)
    for row, column in _nodes(z, corner, spacing, outlets):
        open_[row, column] = True
    # What is no floor and reaches round it lies outside; a hole in it is a column or a rack, into which nothing runs.
    label, _ = scipy.ndimage.label(np.pad(~np.isfinite(z), 1, constant_values=True), np.ones((3, 3)))
    outside = (label == label[0, 0])[1:-1, 1:-1]
    level, to = flooded(z, open_, outside, not open_.any())
    depth = level - z
    label, count = scipy.ndimage.label(np.nan_to_num(depth) > least, np.ones((3, 3)))
    ponds = []
    for number, span in enumerate(scipy.ndimage.find_objects(label), 1):
        inside = label[span] == number
        own = np.where(inside, depth[span], 0.0)
        row, column = divmod(int(own.argmax()), own.shape[1])
        place = (corner[0] + (span[1].start + column) * spacing, corner[1] + (span[0].start + row) * spacing)
        ponds.append(Pond((float(place[0]), float(place[1])), float(own.max()), float(inside.sum()) * spacing**2,
                          float(own.sum()) * spacing**2))  # fmt: skip
    assert count == len(ponds)
    return Water(depth, tuple(sorted(ponds, key=lambda pond: -pond.volume)), to)


def draining(water: Water, z: Floats, corner: tuple[float, float], spacing: float, outlets: Floats) -> list[float]:
    """The plan area whose water reaches each outlet (k, 2)."""
    flat = np.arange(z.size)
    end, to = flat.copy(), water.to
    # Ways are followed by doubling: after k steps each node knows the one 2^k further on.
    further = np.where(to >= 0, to, flat)
    for _ in range(64):
        after = further[further]
        if np.array_equal(after, further):
            break
        further = after
    end = further
    known = np.isfinite(z).ravel()
    found = []
    for row, column in _nodes(z, corner, spacing, outlets):
        at = row * z.shape[1] + column
        found.append(float(np.count_nonzero(known & (end == at))) * spacing**2 if row >= 0 else 0.0)
    return found


def flow_lines(
    water: Water, z: Floats, corner: tuple[float, float], spacing: float, share: float = 0.004
) -> list[Floats]:
    """Ways (n, 2) that water takes where more than a share of the floor has gathered, each down to where it joins a longer one or
    leaves."""
    known = np.flatnonzero(np.isfinite(z).ravel())
    gathered = _gathered(water.to, known)
    strong = np.zeros(z.size, bool)
    strong[known] = gathered[known] >= max(share * len(known), 10)
    to = water.to
    fed = np.zeros(z.size, bool)
    onward = np.flatnonzero(strong & (to >= 0))
    fed[to[onward]] = True
    heads = np.flatnonzero(strong & ~fed)
    taken = np.zeros(z.size, bool)
    made = []
    # The longest way comes first, so that shorter ones join it.
    for way in sorted((_way(to, int(head)) for head in heads), key=len, reverse=True):
        free = np.flatnonzero(taken[way])
        way = way[: int(free[0]) + 1] if len(free) else way
        taken[way] = True
        if len(way) > 1:
            row, column = np.divmod(way, z.shape[1])
            made.append(np.column_stack([corner[0] + column * spacing, corner[1] + row * spacing]))
    return made


def _way(to: Ints, start: int) -> Ints:
    way = [start]
    while to[way[-1]] >= 0 and len(way) <= len(to):
        way.append(int(to[way[-1]]))
    return np.array(way)


def _gathered(to: Ints, known: Ints) -> Ints:
    """How many nodes drain through each, itself among them: leaves of the tree are taken off layer by layer."""
    many = np.zeros(len(to), np.int64)
    many[known] = 1
    feeds = known[to[known] >= 0]
    left = np.bincount(to[feeds], minlength=len(to))
    layer = feeds[left[feeds] == 0]
    while len(layer):
        np.add.at(many, to[layer], many[layer])
        np.subtract.at(left, to[layer], 1)
        after = np.unique(to[layer])
        layer = after[(left[after] == 0) & (to[after] >= 0)]
    return many


def _nodes(z: Floats, corner: tuple[float, float], spacing: float, places: Floats | None) -> list[tuple[int, int]]:
    """Row and column of the node of the floor nearest to each place."""
    if places is None or not len(places):
        return []
    rows, columns = np.nonzero(np.isfinite(z))
    tree = scipy.spatial.cKDTree(np.column_stack([columns, rows]) * spacing + np.asarray(corner))
    near = np.asarray(tree.query(np.asarray(places, float)[:, :2])[1])
    return [(int(rows[k]), int(columns[k])) for k in near]
