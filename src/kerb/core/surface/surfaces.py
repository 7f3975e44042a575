"""What a study stands on or compares with: anything that has one elevation a place, behind one small protocol.

A cloud's top, triangles, an elevation grid and a model seen from above all answer the same questions, in the same way.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.view import CloudView
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.polygon import box
from kerb.core.once import Once
from kerb.core.reference import ReferenceSystem
from kerb.core.surface.cloud_top import STRAY_M, Trimmed, top_of
from kerb.core.surface.cutting import cut_to
from kerb.core.surface.elevation import ElevationGrid, unplaced
from kerb.core.surface.sheets import TOP, Folded, folded, seen_sheet
from kerb.core.surface.tin import Tin

MARGIN_SPACINGS = 5.0


class Surface(Protocol):
    """Elevations over the plan, in job coordinates."""

    @property
    def reference(self) -> ReferenceSystem:
        """What its numbers are in."""

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each."""

    @property
    def count(self) -> int:
        """How many points, triangles or cells it is made of."""

    def at(self, xy: Floats) -> Floats:
        """Elevations (n,) at (n, 2) places, NaN where it has none."""

    def tin(self, low: Floats, high: Floats) -> Tin:
        """Triangles that reach into the plan box of two corners, (2,) or (3,). Raises NotDeterminable, when there is none."""


@dataclass(frozen=True)
class TinSurface:
    """Triangles as a surface: a surface, or a mesh seen from above.

    ``folded`` says where triangles lie over one another; elevations are then those of the sheet seen from above.
    """

    whole: Tin
    reference: ReferenceSystem
    folded: Folded | None = None

    @staticmethod
    def of(mesh: TriangleMesh, reference: ReferenceSystem) -> TinSurface:
        """From a mesh. Raises InputError, when it has no triangle seen from above."""
        tin = mesh.tin()
        return TinSurface(tin, reference, folded(tin))

    @Once
    def sheet(self) -> Tin:
        """The triangles with one elevation a place. Raises InputError, when too many lie over one another."""
        return self.whole if self.folded is None else seen_sheet(self.whole, TOP)

    def from_side(self, side: str) -> TinSurface:
        """The sheet that is seen from above (``top``) or below (``bottom``). Raises InputError as :attr:`sheet` does."""
        return TinSurface(self.sheet if side == TOP else seen_sheet(self.whole, side), self.reference)

    @property
    def count(self) -> int:
        """Number of triangles."""
        return len(self.whole.triangles)

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each."""
        points = self.whole.points
        return points.min(axis=0), points.max(axis=0)

    def at(self, xy: Floats) -> Floats:
        """Elevations (n,) at (n, 2) places, NaN outside."""
        return self.sheet.at(xy)

    def tin(self, low: Floats, high: Floats) -> Tin:
        """The triangles that reach into a plan box. Raises NotDeterminable, when there are none."""
        box, origin = self.sheet.boxes, self.sheet.origin[:2]
        touches = np.all((box[:, 2:] >= low[:2] - origin) & (box[:, :2] <= high[:2] - origin), axis=1)
        if not touches.any():
            raise NotDeterminable("the surface has no triangle here")
        return self.sheet.compact(touches)


@dataclass(frozen=True)
class GridSurface:
    """An elevation grid, cut to where it is asked about before it becomes triangles; never thinned."""

    grid: ElevationGrid
    reference: ReferenceSystem

    @property
    def count(self) -> int:
        """Number of known cells."""
        return self.grid.known

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each."""
        return self.grid.bounds

    def at(self, xy: Floats) -> Floats:
        """Bilinear elevations (n,) at (n, 2) places, NaN outside."""
        return self.grid.at(xy)

    def tin(self, low: Floats, high: Floats) -> Tin:
        """Two triangles between each four known cells of a plan box. Raises NotDeterminable, when there are none."""
        corners = box(low, high)
        pixels = unplaced(self.grid.affine, corners)
        first = np.maximum(np.floor(pixels.min(axis=0)).astype(int) - 1, 0)
        last = np.minimum(np.ceil(pixels.max(axis=0)).astype(int) + 2, self.grid.z.shape[::-1])
        if np.any(last - first < 2):
            raise NotDeterminable("the elevation grid does not reach here")
        a, b, c, d, e, f = self.grid.affine
        x, y = float(first[0]), float(first[1])
        part = replace(
            self.grid, z=self.grid.z[first[1] : last[1], first[0] : last[0]],
            affine=(a, b, a * x + b * y + c, d, e, d * x + e * y + f),
        )  # fmt: skip
        if np.count_nonzero(np.isfinite(part.z)) < 3:
            raise NotDeterminable("the elevation grid knows no elevation here")
        return part.tin()


@dataclass(frozen=True)
class CloudTop:
    """The top of a cloud: the Delaunay surface through those of its points that count.

    Single strays are left out unless they are kept, and slivers along the rim with an edge over ``longest`` (by itself eight
    usual longest edges); ``trimmed`` says what was. ``within`` are areas
    that the surface is cut to; points beyond them still carry it.
    """

    view: CloudView
    keep_strays: bool = False
    longest: float | None = None
    within: tuple[Area, ...] = ()
    trimmed: list[Trimmed] = field(default_factory=list, compare=False)

    @property
    def reference(self) -> ReferenceSystem:
        """What its numbers are in."""
        return self.view.store.reference

    @property
    def count(self) -> int:
        """Number of points of the cloud."""
        return self.view.store.count

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each."""
        return self.view.store.bounds

    def at(self, xy: Floats) -> Floats:
        """Elevations (n,) at (n, 2) places, NaN outside."""
        return self.tin(xy.min(axis=0), xy.max(axis=0)).at(xy)

    def sampled(self, most: int) -> Tin:
        """The surface of a fair sample of the points that count. Raises NotDeterminable, when there are fewer than three."""
        points = self.view.sample(most)
        if len(points) < 3:
            raise NotDeterminable("the surface has no points here")
        least = None if self.keep_strays else STRAY_M / self.reference.unit.metres
        return top_of(points, least, self.longest)[0]

    def tin(self, low: Floats, high: Floats) -> Tin:
        """The surface over a plan box, with a margin. Raises NotDeterminable, when there are fewer than three points."""
        low, high = low[:2], high[:2]
        if self.within:
            corners = np.concatenate([area.outline for area in self.within])
            low, high = np.maximum(low, corners.min(axis=0)), np.minimum(high, corners.max(axis=0))
        if np.any(high < low):
            raise NotDeterminable("the surface has no points here")
        room = MARGIN_SPACINGS * self.view.store.spacing + 0.05 * float(np.sqrt(np.prod(high - low)))
        ring = box(low - room, high + room)
        points = CloudView(self.view.store, replace(self.view.narrowing, ring=ring)).points()
        if len(points) < 3:
            raise NotDeterminable("the surface has no points here")
        least = None if self.keep_strays else STRAY_M / self.reference.unit.metres
        tin, trimmed = top_of(points, least, self.longest)
        self.trimmed.append(trimmed)
        return cut_to(tin, self.within) if self.within else tin


def surface_of(thing: object, reference: ReferenceSystem, name: str) -> Surface:
    """A surface, grid or model as a surface. Raises InputError naming it, when it is none."""
    if isinstance(thing, TriangleMesh):
        return TinSurface.of(thing, reference)
    if isinstance(thing, ElevationGrid):
        return GridSurface(thing, reference)
    raise InputError(f"{name}: is no surface")
