"""How far the integral of a triangulated surface may be off because it knows its vertices only: their noise, and the ground
that lies between them.

Each half of the vertices in turn is left out and the surface of the other half is compared with the whole (half-sampling,
McCarthy 1969; Efron 1982, *The Jackknife, the Bootstrap and Other Resampling Plans*, recalled). The variance of that
difference is that of the whole surface itself for independent errors, more for ground that bends between vertices.
"""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import TINY, Floats, Mask, ends
from kerb.core.errors import NotDeterminable
from kerb.core.parallel import each
from kerb.core.surface.tin import Tin, triangulate

# Side of a block in spacings of vertices; blocks are judged by themselves.
BLOCK = 40.0
# Blocks that are judged; of more an even share is.
MOST_BLOCKS = 120
FEWEST = 12
RANDOM_WAYS = 3
# Where less of what is left out than this has a surface round it, a half says nothing.
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


def sampling_variance(tin: Tin, keep: Mask) -> float:
    """Variance of the integral of a surface over the vertices of a mask (n,), in the sixth power of the unit."""
    share = np.where(keep, vertex_shares(tin), 0.0)
    spacing = spacing_of(tin)
    rows = np.flatnonzero(share > 0)
    if len(rows) < FEWEST or not spacing > 0:
        return 0.0
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
    single = sum(float(np.mean(np.square(ways))) for ways in found if len(ways))
    many_ways = min((len(ways) for ways in found if len(ways)), default=0)
    if not many_ways:
        return 0.0
    together = np.sum([ways[:many_ways] for ways in found if len(ways)], axis=0)
    return float(scale * (single + float(np.mean(np.square(together)))) / 2)


def _of_block(points: Floats, share: Floats, spacing: float) -> Floats:
    """What halves of a block differ by from the whole, way by way."""
    found = [_left_out(points, share, stay) for half in _halves(points, spacing) for stay in (half, ~half)]
    return np.array([value for value in found if value is not None])


def _halves(points: Floats, spacing: float) -> list[Mask]:
    """Ways to part the points of a block into halves: at random, and of a grid by its columns and by its rows as well.

    Along a wall the rows of a grid are off together, as the whole grid is.
    """
    rng = np.random.default_rng(len(points))
    steps = np.round(points[:, :2] / (GRID_STEP * spacing)).astype(np.int64)
    rows = [np.unique(steps[:, k], return_inverse=True)[1].ravel() for k in (0, 1)]
    if all(row.max() + 1 < len(points) / 4 for row in rows):
        return [*(row % 2 == 0 for row in rows), rng.permutation(len(points)) % 2 == 0]
    return [rng.permutation(len(points)) % 2 == 0 for _ in range(RANDOM_WAYS)]


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
