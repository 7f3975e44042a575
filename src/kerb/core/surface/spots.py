"""A grid of spot levels: nodes at a spacing, turned, inside areas; the level of each from the points round it or from
triangles."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import TINY, Floats, ends
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, touching_any
from kerb.core.geometry.polygon import box
from kerb.core.progress import Progress
from kerb.core.sorting import by_cells, run_medians
from kerb.core.surface.surfaces import CloudTop

LOWEST, MEDIAN, TIN = "lowest", "median", "tin"
MOST_NODES = 20_000_000
# Nodes of a square block share what is read of the cloud.
BLOCK = 256
ON_NODE = 1e-9


@dataclass(frozen=True)
class SpotGrid:
    """Where the nodes lie: ``origin`` (2,) is one of them, rows run to ``rotation`` degrees clockwise from north."""

    spacing: float
    origin: tuple[float, float]
    rotation: float = 0.0

    @property
    def axes(self) -> Floats:
        """The way of columns and of rows, (2, 2)."""
        a = np.radians(self.rotation)
        return np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])

    def nodes(self, low: Floats, high: Floats, areas: tuple[Area, ...] = ()) -> tuple[Floats, Floats]:
        """The nodes (n, 2) in a plan box, or in areas where there are any, row by row; and their row and column (n, 2).

        Raises InputError, when the spacing cannot be or makes too many.
        """
        if not (np.isfinite(self.spacing) and self.spacing > 0):
            raise InputError(f"a spacing of {self.spacing:g} must be above zero")
        corners = box(low, high)
        if areas:
            corners = np.concatenate([area.outline for area in areas])
        local = (corners - self.origin) @ self.axes.T / self.spacing
        first, last = np.floor(local.min(axis=0)), np.ceil(local.max(axis=0))
        count = last - first + 1
        if count.prod() > MOST_NODES:
            raise InputError(f"a spacing of {self.spacing:g} makes {count.prod():.3g} nodes; the most is {MOST_NODES}")
        columns, rows = (first[k] + np.arange(int(count[k])) for k in (0, 1))
        place = np.stack(np.meshgrid(columns, rows), axis=-1).reshape(-1, 2)
        xy = np.asarray(self.origin) + place * self.spacing @ self.axes
        if areas:
            keep = touching_any(areas, xy, ON_NODE * self.spacing)
        else:
            room = ON_NODE * self.spacing
            keep = np.all((xy >= low[:2] - room) & (xy <= high[:2] + room), axis=1)
        return xy[keep], place[keep][:, ::-1]


def spot_levels(top: CloudTop, nodes: Floats, take: str, radius: float, progress: Progress) -> Floats:
    """Levels (n,) of nodes (n, 2): lowest or median of the points that count within a radius in plan, or by their triangles; NaN
    where there are none. Raises InputError; Cancelled."""
    if take != TIN and not (np.isfinite(radius) and radius > 0):
        raise InputError(f"a radius of {radius:g} must be above zero")
    z = np.full(len(nodes), np.nan)
    if not len(nodes):
        return z
    # Nodes in a row have no area: then they are as far apart as the row is long.
    low, high = ends(nodes)
    extent = high - low
    size = BLOCK * max(float(np.sqrt(extent.prod() / len(nodes))), float(extent.max()) / len(nodes), TINY)
    order, starts = by_cells(nodes, low, size)
    groups = np.split(order, starts[1:])
    level: Callable[[Floats], Floats] = lambda xy: _round(top.view, xy, take, radius)  # noqa: E731
    if take == TIN:
        level = lambda xy: _triangles(top, xy)  # noqa: E731
    for number, rows in enumerate(groups):
        progress.step(number / len(groups), "Reading levels")
        z[rows] = level(nodes[rows])
    return z


def _triangles(top: CloudTop, xy: Floats) -> Floats:
    try:
        return top.at(xy)
    except NotDeterminable:
        return np.full(len(xy), np.nan)


def _round(view: CloudView, xy: Floats, take: str, radius: float) -> Floats:
    low, high = xy.min(axis=0) - radius, xy.max(axis=0) + radius
    box = ((float(low[0]), float(low[1]), -np.inf), (float(high[0]), float(high[1]), np.inf))
    points = CloudView(view.store, replace(view.narrowing, box=box)).points()
    found = np.full(len(xy), np.nan)
    if not len(points):
        return found
    flat = np.column_stack([points[:, :2] - low, np.zeros(len(points))])
    asked = np.column_stack([xy - low, np.zeros(len(xy))])
    offsets, near = NeighbourIndex(flat, planar=True).within(asked, radius)
    many = np.diff(offsets)
    some = np.flatnonzero(many)
    if not len(some):
        return found
    z = points[near, 2]
    if take == LOWEST:
        found[some] = np.minimum.reduceat(z, offsets[some])
        return found
    found[some] = run_medians(z, offsets[some])
    return found
