"""The road under a structure as a grid of levels: found in a cloud beneath vehicles and signs, or read from a surface."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Mask
from kerb.core.clearance.clearance_kernels import levels_on, moments
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.floor.slab import Rules, members

MOST_NODES = 20_000_000
# A road may rise by so much from node to node, as a ratio, and by a step (m) besides; points so far from its level (m) belong
# to it.
STEEPEST, STEP_M, BAND_M = 0.25, 0.02, 0.06
NOISE_KNOWN = 9
MOMENTS = ("1", "u", "v", "z", "uu", "uv", "vv", "uz", "vz", "zz")
# What is so much higher than the road's own points stands on it (m).
UP_M = 0.09
# So many points of a cell may lie below the road: strays. What hangs over it may have any number.
LOW_RANK = 2
# Points lie along one line where the smaller spread is less than about this share of the larger one; so few tell no noise, and
# so many need no others.
PLANE, FEW, ENOUGH = 0.002, 8, 20


@dataclass(frozen=True)
class Road:
    """Levels ``z`` (rows, columns) of nodes, NaN where there is no road; node (0, 0) at ``corner``, the next ``spacing``
    beside it.

    ``filled`` says which levels were carried over a gap, ``noise`` is the standard deviation of its points about it (NaN: not
    known).
    """

    z: Floats
    corner: tuple[float, float]
    spacing: float
    filled: Mask
    noise: float = float("nan")

    def at(self, xy: Floats) -> Floats:
        """Levels (n,) at places (n, 2), bilinear between nodes, of the nearest node along the rim; NaN off the road."""
        out = np.empty(len(xy))
        west, south = self.corner
        levels_on(np.asarray(self.z, np.float64), np.asarray(xy, np.float64), west, south, float(self.spacing), out)
        return out

    def bend(self, xy: Floats) -> Floats:
        """How far the road bends off the straight within a node either way (n,), such as at a crown: levels there are
        uncertain by as much."""
        here = self.at(xy)
        bends = [
            np.abs(self.at(xy + step) + self.at(xy - step) - 2 * here) / 2
            for step in ([self.spacing, 0.0], [0.0, self.spacing])
        ]
        return np.nan_to_num(np.maximum(*bends))

    def rise(self, xy: Floats) -> Floats:
        """How much the road rises to the east and to the north (n, 2) at places, as ratios; 0 where it is not known."""
        step = self.spacing
        east = (self.at(xy + [step, 0]) - self.at(xy - [step, 0])) / (2 * step)
        north = (self.at(xy + [0, step]) - self.at(xy - [0, step])) / (2 * step)
        return np.nan_to_num(np.column_stack([east, north]))


def road_in(
    points: Floats, spacing: float, gap: float, metre: float, seed: tuple[float, float] | None = None
) -> tuple[Road, Mask]:
    """The road in points (n, 3), and which of them stand up from it: the largest surface of the lowest points that runs on
    without a step, or that at a seed.

    Vehicles, signs and what else stands on it are no part of it; under them it is carried over gaps up to ``gap`` wide. ``metre``
    is the length of a metre in the unit of the points. Raises InputError; NotDeterminable.
    """
    step = STEEPEST * spacing + STEP_M * metre
    rules = Rules(spacing, spacing, step=step, band=max(BAND_M * metre, 0.5 * step), rank=LOW_RANK)
    try:
        slab = members(points, rules, seed)
    except NotDeterminable as error:
        raise NotDeterminable(f"no road was found below: {error}") from None
    corner = float(slab.low[0]) + 0.5 * spacing, float(slab.low[1]) + 0.5 * spacing
    level, noise = planes(slab.points, corner, spacing, slab.cells.shape)
    level[~slab.cells] = np.nan
    z, filled = carried(_trimmed(level), gap / spacing)
    return Road(z, corner, spacing, filled, noise), slab.above > rules.band + UP_M * metre


def planes(points: Floats, corner: tuple[float, float], spacing: float, shape: tuple[int, int]) -> tuple[Floats, float]:
    """Levels (rows, columns) of nodes on the plane of least squares through the points of their cell and, with half the weight a
    side, of those round it: on a slope points that lie unevenly do not shift it. And the standard deviation of points about it.
    """
    base = float(points[:, 2].mean())
    sums = np.zeros((10, *shape))
    moments(points, *corner, spacing, base, sums)
    n, su, sv, sz, suu, suv, svv, suz, svz, szz = _gathered(dict(zip(MOMENTS, sums, strict=True)))
    with np.errstate(divide="ignore", invalid="ignore"):
        mu, mv, mz = su / n, sv / n, sz / n
        cuu, cuv, cvv = suu / n - mu**2, suv / n - mu * mv, svv / n - mv**2
        cuz, cvz = suz / n - mu * mz, svz / n - mv * mz
        # What lies along one line tells no plane: there the mean stands.
        whole = cuu * cvv - cuv**2
        good = whole > PLANE * (cuu + cvv) ** 2
        a = np.where(good, (cuz * cvv - cvz * cuv) / whole, 0.0)
        b = np.where(good, (cvz * cuu - cuz * cuv) / whole, 0.0)
        level = base + mz - a * mu - b * mv
        rest = np.maximum(szz / n - mz**2 - a * cuz - b * cvz, 0.0)
    rest = rest[np.isfinite(rest) & (n >= FEW)]
    return np.where(n > 0, level, np.nan), float(np.sqrt(np.median(rest))) if len(rest) else float("nan")


def _gathered(sums: dict[str, Floats]) -> list[Floats]:
    """Moments about each node of its own points and, with half the weight a side, of those of the nodes round it."""
    out = {name: np.zeros_like(s) for name, s in sums.items()}
    rows, columns = sums["1"].shape
    many = sums["1"] >= ENOUGH
    for dr in (-1, 0, 1):
        for dc in (-1, 0, 1):
            # Where a cell has enough points of its own those beside it would only round off crowns and kerbs.
            weight = np.where(many, float(dr == dc == 0), 0.5 ** (abs(dr) + abs(dc)))
            to = slice(max(-dr, 0), rows - max(dr, 0)), slice(max(-dc, 0), columns - max(dc, 0))
            of = slice(max(dr, 0), rows - max(-dr, 0)), slice(max(dc, 0), columns - max(-dc, 0))
            s = {name: value[of] for name, value in sums.items()}
            moved = {
                "1": s["1"], "u": s["u"] + dc * s["1"], "v": s["v"] + dr * s["1"], "z": s["z"], "zz": s["zz"],
                "uu": s["uu"] + 2 * dc * s["u"] + dc**2 * s["1"], "vv": s["vv"] + 2 * dr * s["v"] + dr**2 * s["1"],
                "uv": s["uv"] + dr * s["u"] + dc * s["v"] + dr * dc * s["1"],
                "uz": s["uz"] + dc * s["z"], "vz": s["vz"] + dr * s["z"],
            }  # fmt: skip
            for name, value in moved.items():
                out[name][to] += weight[to] * value
    return [out[name] for name in MOMENTS]


def _trimmed(z: Floats) -> Floats:
    """Without single nodes that stand off the median of their neighbours: something small on the road that was scanned from
    above."""
    padded = np.pad(z, 2, constant_values=np.nan)
    stack = np.stack([padded[r : r + z.shape[0], c : c + z.shape[1]] for r in range(5) for c in range(5)])
    known = np.isfinite(stack).sum(axis=0)
    return np.where(known >= NOISE_KNOWN, z, np.nan)


def road_of(level: Callable[[Floats], Floats], low: Floats, high: Floats, spacing: float) -> Road:
    """A surface as a road, read at nodes over a plan box. Raises InputError, when there would be too many."""
    size = np.floor((high[:2] - low[:2]) / spacing).astype(np.int64) + 2
    if size.astype(float).prod() > MOST_NODES:
        raise InputError(f"a cell of {spacing:g} makes {size.astype(float).prod():.3g} nodes; the most is {MOST_NODES}")
    columns, rows = size.tolist()
    x, y = low[0] + np.arange(columns) * spacing, low[1] + np.arange(rows) * spacing
    places = np.column_stack([np.tile(x, rows), np.repeat(y, columns)])
    z = level(places).reshape(rows, columns)
    return Road(z, (float(low[0]), float(low[1])), spacing, np.zeros(z.shape, bool), 0.0)


def carried(z: Floats, reach: float) -> tuple[Floats, Mask]:
    """Levels carried over gaps that are no wider than ``reach`` nodes, linear between what is round them; and which were."""
    known = np.isfinite(z)
    none = np.zeros(z.shape, bool)
    if known.all() or known.sum() < 3 or reach < 1:
        return z, none
    # A gap is what a closing with a disk of half the reach fills; bays of the rim are none.
    distance = scipy.ndimage.distance_transform_edt(~known)
    near = np.pad(distance <= reach / 2, 1, constant_values=False)
    closed = scipy.ndimage.distance_transform_edt(near)[1:-1, 1:-1] > reach / 2
    holes = scipy.ndimage.binary_fill_holes(known) & (distance <= reach / 2)
    gaps = ~known & (closed | holes)
    if not gaps.any():
        return z, none
    rim = known & scipy.ndimage.binary_dilation(~known, np.ones((3, 3), bool))
    rows, columns = np.nonzero(rim)
    at = np.argwhere(gaps)
    try:
        level = scipy.interpolate.LinearNDInterpolator(np.column_stack([rows, columns]), z[rim])(at)
    except scipy.spatial.QhullError:
        return z, none
    made = z.copy()
    made[gaps] = level
    return made, gaps & np.isfinite(made)
