"""Mending a surface inside rings: levels, water, rivers, cuts, seams; and all that mends, by one name.

Rings are first laid into the surface as it is, so that what lies beside them stays.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from kerb.core.arrays import TINY, Floats, Ints, Mask
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.surface.mended import (
    ON_EDGE,
    SAME,
    Mended,
    Patch,
    box_round,
    differing,
    edges_of,
    inside,
    levels,
    nearest_vertex,
    part_of,
    pieces_of,
    refitted,
    replaced,
    swapped,
    triangles_at,
    vertex_level,
    window,
    with_levels,
    with_vertex,
    without_vertices,
)  # fmt: skip
from kerb.core.surface.mending_lines import along_line

__all__ = [
    "Mended", "along_line", "brought_to_mean", "cut_out", "differing", "falling", "inside", "levels", "nearest_vertex",
    "other_inside", "raised", "river", "shore", "smoothed", "swapped", "vertex_level", "water", "with_vertex",
    "without_spikes", "without_vertices",
]  # fmt: skip


SPIKE_ROUNDS = 10


def _ring_in(m: Mended, ring: Floats) -> tuple[Mended, Ints, Ints]:
    """With a ring (n, 2) laid into the surface as it is; its vertices in order, and those in use inside of it."""
    made, line = along_line(m, np.column_stack([ring, np.full(len(ring), np.nan)]), closed=True, on_surface=True)
    return made, line, np.setdiff1d(inside(made, ring), line)


def raised(m: Mended, ring: Floats, by: float) -> Mended:
    """With what lies inside a ring higher by some length; the ring stays. Raises InputError, when no vertex lies inside."""
    made, _, rows = _ring_in(m, ring)
    _some(rows)
    return with_levels(made, rows, made.vertices[rows, 2] + by)


def brought_to_mean(m: Mended, ring: Floats, level: float) -> Mended:
    """With what lies inside a ring raised or lowered so that the mean level in it, by area, is ``level``; the ring stays."""
    made, _, rows = _ring_in(m, ring)
    _some(rows)
    near = _in_ring(made, ring)
    size = part_of(made, near).plan_areas
    corners = made.triangles[near]
    mean = float(size @ made.vertices[corners, 2].mean(axis=1)) / float(size.sum())
    share = float(size @ np.isin(corners, rows).mean(axis=1)) / float(size.sum())
    return with_levels(made, rows, made.vertices[rows, 2] + (level - made.origin[2] - mean) / share)


def _some(rows: Ints) -> None:
    if not len(rows):
        raise InputError("no vertex lies inside the line")


def smoothed(m: Mended, ring: Floats, rounds: int = 5) -> Mended:
    """With vertices inside a ring moved, so many times over, to the mean level of those that edges join them with."""
    rows = inside(m, ring)
    _some(rows)
    pairs = edges_of(m.triangles[triangles_at(m, rows)])
    pairs = np.unique(np.concatenate([pairs, pairs[:, ::-1]]), axis=0)
    pairs = pairs[np.isin(pairs[:, 0], rows)]
    place = np.searchsorted(rows, pairs[:, 0])
    z = m.vertices[:, 2].copy()
    many = np.bincount(place, minlength=len(rows))
    for _ in range(rounds):
        z[rows] = np.bincount(place, z[pairs[:, 1]], len(rows)) / many
    return with_levels(m, rows, z[rows])


def without_spikes(m: Mended, ring: Floats, limit: float) -> Mended:
    """Without the vertices inside a ring that stand more than ``limit`` above or below the median of those that edges join them
    with, and farther off than each of these: one spike bends its neighbours too. Raises InputError, when no vertex is inside."""
    rows = inside(m, ring)
    _some(rows)
    for _ in range(SPIKE_ROUNDS):
        pairs = edges_of(m.triangles[triangles_at(m, rows)])
        pairs = np.unique(np.concatenate([pairs, pairs[:, ::-1]]), axis=0)
        starts = np.flatnonzero(np.concatenate([[True], np.diff(pairs[:, 0]) != 0]))
        middle = np.array([np.median(some) for some in np.split(m.vertices[pairs[:, 1], 2], starts[1:])])
        off = np.zeros(len(m.vertices))
        off[pairs[starts, 0]] = np.abs(m.vertices[pairs[starts, 0], 2] - middle)
        worst = np.maximum.reduceat(off[pairs[:, 1]], starts)
        spikes = pairs[starts, 0][(off[pairs[starts, 0]] > limit) & (off[pairs[starts, 0]] >= worst)]
        spikes = np.intersect1d(spikes, rows)
        if not len(spikes):
            break
        m, rows = without_vertices(m, spikes), np.setdiff1d(rows, spikes)
        if not len(rows):
            break
    return m


def cut_out(m: Mended, ring: Floats, keep: bool = False) -> Mended:
    """Without what lies inside a ring, or (``keep``) without what lies outside. Raises InputError, when nothing is left."""
    made, _, _ = _ring_in(m, ring)
    near = _in_ring(made, ring)
    gone = np.setdiff1d(np.flatnonzero(made.there), near) if keep else near
    if not len(near) if keep else len(near) == np.count_nonzero(made.there):
        raise InputError("nothing of the surface is left")
    return replaced(made, gone, np.empty((0, 3), np.int32))


def _in_ring(m: Mended, ring: Floats) -> Ints:
    """The triangles inside a ring (n, 2) in job coordinates that was laid into the surface.

    Not by their middles: triangles along the ring may be as thin as rounding. What hangs together within edges that stay is
    inside as a whole, or not.
    """
    local = m.local(ring)
    near = window(m, *box_round(local))
    part = pieces_of(m.triangles[near], m.fixed)
    size = part_of(m, near).plan_areas
    within = polygon.contains(local, m.vertices[m.triangles[near], :2].mean(axis=1))
    return near[(np.bincount(part, size * within) > 0.5 * np.bincount(part, size))[part]]


def shore(m: Mended, ring: Floats, step: float) -> Floats:
    """Levels in job coordinates along a ring (n, 2), samples ``step`` apart or less, where it lies on the surface."""
    found = levels(m, m.local(polygon.along(ring, step)))
    return found[np.isfinite(found)] + m.origin[2]


def water(m: Mended, ring: Floats, level: float) -> Mended:
    """With a level area inside a ring, the ring on it; vertices inside are gone."""
    made, line, rows = _ring_in(m, ring)
    made = without_vertices(made, rows)
    return with_levels(made, line, np.full(len(line), level - made.origin[2]))


def river(m: Mended, ring: Floats, step: float) -> Mended:
    """With the water of a river inside a ring that runs down one bank and back up the other, from its upper end.

    The level falls downstream all the way, is the same on both banks, and lies nowhere above a sample of the shore. Half of the
    vertices round is the lower end. Raises InputError, when the ring does not lie on the surface.
    """
    made, line, rows = _ring_in(m, polygon.along(ring, step))
    made = without_vertices(made, rows)
    station, bank = _stations(made.vertices[line, :2], made.local(ring))
    return with_levels(made, line, falling(station, made.vertices[line, 2], bank))


def _stations(places: Floats, ring: Floats) -> tuple[Floats, Mask]:
    """How far down the river places round it lie, 0 at the upper end and 1 at the lower; and which of them lie on a bank, and not
    across the water at an end."""
    ends = np.roll(ring, -1, axis=0)
    length = np.hypot(*(ends - ring).T)
    before = np.cumsum(length) - length
    turn = len(ring) // 2
    left, right = before[turn - 1], before[-1] - before[turn]
    along = ends - ring
    share = np.clip(
        ((places[:, None] - ring[None]) * along[None]).sum(axis=2) / np.maximum((along**2).sum(axis=1), TINY), 0, 1
    )
    away = np.hypot(*np.moveaxis(places[:, None] - ring[None] - share[:, :, None] * along[None], 2, 0))
    edge = np.argmin(away, axis=1)
    part = share[np.arange(len(places)), edge]
    run = before[edge] + part * length[edge]
    down, up = run / max(left, TINY), 1 - (run - before[turn]) / max(right, TINY)
    station = np.where(edge < turn - 1, down, np.where(edge < turn, 1.0, np.where(edge < len(ring) - 1, up, 0.0)))
    across = ((edge == turn - 1) | (edge == len(ring) - 1)) & (part > ON_EDGE) & (part < 1 - ON_EDGE)
    return np.clip(station, 0.0, 1.0), ~across


def falling(station: Floats, level: Floats, bank: Mask) -> Floats:
    """Levels that fall downstream (with ``station``), are the same at the same station, and nowhere above ``level`` on a bank.

    Straight from one lowest sample so far to the next.
    """
    order = np.lexsort((level[bank], station[bank]))
    places, first = np.unique(station[bank][order], return_index=True)
    lowest = level[bank][order][first]
    running = np.minimum.accumulate(lowest)
    drops = np.flatnonzero(np.concatenate([[True], running[1:] < running[:-1]]))
    return np.interp(station, places[drops], running[drops])


def other_inside(m: Mended, ring: Floats, other: Callable[[Floats], Floats], its_vertices: Floats) -> Mended:
    """With another surface inside a ring: ``other`` gives its levels at places (n, 2), ``its_vertices`` (k, 3) make it up, both
    in job coordinates. Along the ring, where they meet, the mean of both; where the other has none, the first stays.
    """
    made, line, rows = _ring_in(m, ring)
    made = without_vertices(made, rows)
    seam = other(made.vertices[line, :2] + made.origin[:2]) - made.origin[2]
    known = np.isfinite(seam)
    made = with_levels(made, line[known], (made.vertices[line[known], 2] + seam[known]) / 2)
    fresh = its_vertices[polygon.contains(ring, its_vertices)] - made.origin
    # A vertex on the seam would part it from what lies outside.
    seam_line = shapely.LinearRing(made.local(ring))
    fresh = fresh[shapely.distance(shapely.points(fresh[:, :2]), seam_line) > 10 * SAME * made.width]
    _, first = np.unique(fresh[:, :2], axis=0, return_index=True)
    return refitted(made, _in_ring(made, ring), Patch(fresh[np.sort(first)]))
