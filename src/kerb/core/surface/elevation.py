"""Elevation grids as agencies deliver them: rows from the north, a six-number place, holes where nothing is known."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from kerb.core.arrays import Floats, Floats32
from kerb.core.surface.tin import Tin

Affine = tuple[float, float, float, float, float, float]


@dataclass(frozen=True)
class ElevationGrid:
    """``z`` (rows, columns) float32 or float64, NaN for no data.

    ``affine`` (a, b, c, d, e, f) puts pixel corners: easting = a column + b row + c, northing = d column + e row + f;
    an elevation holds at the centre of its pixel.
    """

    z: Floats | Floats32
    affine: Affine

    @property
    def cell(self) -> float:
        """Pixel size along the columns."""
        return float(np.hypot(self.affine[0], self.affine[3]))

    @property
    def known(self) -> int:
        """Pixels with an elevation."""
        return int(np.isfinite(self.z).sum())

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each, of the pixel edges; elevations from known pixels."""
        rows, columns = self.z.shape
        corners = placed(self.affine, np.array([[0, 0], [columns, 0], [columns, rows], [0, rows]], float))
        low, high = np.nanmin(self.z), np.nanmax(self.z)
        return np.append(corners.min(axis=0), low), np.append(corners.max(axis=0), high)

    def at(self, xy: Floats) -> Floats:
        """Bilinear elevations (n,) at (n, 2) places; NaN outside and beside unknown pixels."""
        pixel = unplaced(self.affine, xy[:, :2]) - 0.5
        found = scipy.ndimage.map_coordinates(
            self.z,
            [pixel[:, 1], pixel[:, 0]],
            order=1,
            mode="constant",
            cval=np.nan,
            output=np.float64,
        )
        return np.asarray(found)

    def scaled(self, plan: float, height: float) -> ElevationGrid:
        """The same grid in another unit."""
        z = self.z if height == 1.0 else self.z * height
        affine: Affine = tuple(value * plan for value in self.affine)  # type: ignore[assignment]
        return replace(self, z=z, affine=affine)

    def tin(self, most: int | None = None) -> Tin:
        """Two triangles between each four known neighbours; for a picture on every k-th pixel so that ``most`` is not passed.

        Whatever is measured or written stands on all of them.
        """
        step = 1 if most is None else max(1, int(np.ceil(np.sqrt(2 * self.z.size / most))))
        rows, columns = (np.arange(0, size, step) for size in self.z.shape)
        z = np.asarray(self.z[np.ix_(rows, columns)], float)
        grid = np.stack(np.meshgrid(columns + 0.5, rows + 0.5), axis=-1).reshape(-1, 2)
        vertices = np.column_stack([placed(self.affine, grid), z.ravel()])
        number = np.arange(z.size).reshape(z.shape)
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
        triangles = np.concatenate([np.stack([a, d, b], -1).reshape(-1, 3), np.stack([b, d, c], -1).reshape(-1, 3)])
        triangles = triangles[np.isfinite(vertices[triangles, 2]).all(axis=1)]
        used, renumbered = np.unique(triangles, return_inverse=True)
        corners = renumbered.reshape(-1, 3).astype(np.int32)
        surface = Tin.of(vertices[used], corners)
        flipped = surface.plan_areas < 0
        corners[flipped] = corners[flipped][:, [0, 2, 1]]
        return Tin.of(vertices[used], corners)


def placed(affine: Affine, pixels: Floats) -> Floats:
    """Plan places (n, 2) of pixel places (n, 2) column, row."""
    a, b, c, d, e, f = affine
    return np.column_stack([a * pixels[:, 0] + b * pixels[:, 1] + c, d * pixels[:, 0] + e * pixels[:, 1] + f])


def unplaced(affine: Affine, places: Floats) -> Floats:
    """Pixel places (n, 2) column, row of plan places (n, 2)."""
    a, b, c, d, e, f = affine
    det = a * e - b * d
    x, y = places[:, 0] - c, places[:, 1] - f
    return np.column_stack([(e * x - b * y) / det, (a * y - d * x) / det])
