"""How far the integral of a triangulated surface may be off because it knows its vertices only: their noise, and the ground
that lies between them.

A quarter of the vertices after the other is left out, and the surface of the rest is compared with the whole (delete-d
jackknife: Shao and Wu 1989, *A general theory for jackknife variance estimation*, recalled). Three times the mean square of
these differences is the variance of the whole for independent errors, more for ground that bends between vertices.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import TINY, Floats, Ints, Mask, ends
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import each
from kerb.core.surface.tin import Tin, triangulate

# Side of a block in spacings of vertices; blocks are judged by themselves.
BLOCK = 40.0
# Blocks that are judged; of more an even share is.
MOST_BLOCKS = 40
FEWEST = 12
# Parts of a block, each of which is left out in turn, and how many times at random.
PARTS, RANDOM_WAYS = 4, 2
# Weight of the sum of all blocks, against that of single ones, whose squares add: it is the truer of the two and the less sure.
WHOLE = 0.75
# Where less of what is left out than this has a surface round it, a part says nothing.
FEWEST_KNOWN = 0.5
# Coordinates that are equal to within this share of the spacing stand in one row of a grid.
GRID_STEP = 0.02


def vertex_shares(tin: Tin) -> Floats:
    """Plan area that each vertex stands for (n,): a third of the triangles round it."""
    thirds = np.repeat(tin.plan_areas / 3.0, 3)
    return np.asarray(np.bincount(tin.triangles.ravel(), thirds, len(tin.vertices)), float)


def spacing_of(tin: Tin) -> float:
    """Mean spacing of the vertices."""
    used = len(np.unique(tin.triangles)) if len(tin.triangles) < 200_000 else len(tin.vertices)
    return float(np.sqrt(tin.plan_area / max(used, 1)))


@dataclass(frozen=True)
class PartsLeftOut:
    """What leaving out parts of the vertices of a surface says of its integral: the sum of squares over its blocks, and, part
    by part, the sum of what that differs by over all of them, (k,)."""

    blocks: float
    whole: Floats


def sampling_variance(sides: Sequence[tuple[Tin, Mask]]) -> float:
    """Variance of the difference of the integrals of one or two surfaces over the vertices of a mask (n,) each, in the sixth
    power of the unit. What both have in common, such as ground that bends between points as dense, takes itself out."""
    found = [parts_left_out(tin, keep) for tin, keep in sides]
    blocks = sum(one.blocks for one in found)
    known = [one.whole for one in found if len(one.whole)]
    if not known:
        return blocks
    many = min(len(whole) for whole in known)
    together = known[0][:many] - (known[1][:many] if len(known) > 1 else 0.0)
    return float((1 - WHOLE) * blocks + WHOLE * np.mean(np.square(together)))


def parts_left_out(tin: Tin, keep: Mask) -> PartsLeftOut:
    """What leaving out parts of the vertices of a mask (n,) says of the integral of a surface over them."""
    share = np.where(keep, vertex_shares(tin), 0.0)
    spacing = spacing_of(tin)
    rows = np.flatnonzero(share > 0)
    if len(rows) < FEWEST or not spacing > 0:
        return PartsLeftOut(0.0, np.empty(0))
    low, high = ends(tin.vertices[rows, :2])
    # Blocks of one size, so that none is a strip of a few points.
    many = np.maximum(np.round((high - low) / (BLOCK * spacing)), 1.0)
    size = np.maximum(high - low, spacing) / many
    cell = np.clip(np.floor((tin.vertices[:, :2] - low) / size), 0, many - 1).astype(np.int64)
    key = cell[:, 0] * int(many[1]) + cell[:, 1]
    order = rows[np.argsort(key[rows], kind="stable")]
    starts = np.flatnonzero(np.concatenate([[True], np.diff(key[order]) != 0]))
    groups = np.split(order, starts[1:])
    weights = np.array([share[group].sum() for group in groups])
    chosen = np.arange(len(groups))
    if len(groups) > MOST_BLOCKS:
        chosen = np.linspace(0, len(groups) - 1, MOST_BLOCKS).astype(int)
    found = each(lambda k: _of_block(tin.vertices[groups[k]], share[groups[k]], spacing), chosen.tolist())
    scale = weights.sum() / max(weights[chosen].sum(), TINY)
    # Blocks are independent where errors are; ground that bends up in one and down in the next errs less as a whole. Both sums
    # estimate the same variance where errors are independent.
    ways = [one for one in found if len(one)]
    if not ways:
        return PartsLeftOut(0.0, np.empty(0))
    single = sum(float(np.mean(np.square(one))) for one in ways)
    many_ways = min(len(one) for one in ways)
    together = np.sum([one[:many_ways] for one in ways], axis=0)
    return PartsLeftOut(float(scale * single), np.asarray(np.sqrt(scale) * together))


def _of_block(points: Floats, share: Floats, spacing: float) -> Floats:
    """What a block without a part of its points differs by from the whole, part by part, scaled to that of the whole."""
    found = [_left_out(points, share, part != number) for part in _parts(points, spacing) for number in range(PARTS)]
    return np.array([np.sqrt(PARTS - 1) * value for value in found if value is not None])


def _parts(points: Floats, spacing: float) -> list[Ints]:
    """Ways to give the points of a block (n, 3) to parts of equal size: at random, and of a grid by its columns and rows as well.

    Along a wall the rows of a grid are off together, as the whole grid is.
    """
    rng = np.random.default_rng(len(points))
    steps = np.round(points[:, :2] / (GRID_STEP * spacing)).astype(np.int64)
    rows = [np.unique(steps[:, k], return_inverse=True)[1].ravel() for k in (0, 1)]
    if all(row.max() + 1 < len(points) / 4 for row in rows):
        return [*(row % PARTS for row in rows), rng.permutation(len(points)) % PARTS]
    return [rng.permutation(len(points)) % PARTS for _ in range(RANDOM_WAYS)]


def _left_out(points: Floats, share: Floats, stay: Mask) -> float | None:
    """By how much the integral changes when the points that do not stay are taken from the surface of those that do."""
    if stay.all() or np.count_nonzero(stay) < 3:
        return None
    try:
        surface = triangulate(points[stay])
    except NotDeterminable:
        return None
    rest = points[~stay]
    away = rest[:, 2] - surface.at(rest[:, :2])
    known = np.isfinite(away)
    if share[~stay][known].sum() < FEWEST_KNOWN * share[~stay].sum():
        return None
    total = float(share[~stay] @ np.where(known, away, 0.0))
    # Those at the rim have no surface round them: they stand for as much as the others.
    return total * float(share.sum() / max(share[stay].sum() + share[~stay][known].sum(), TINY))
