"""Planes z = z0 + gx (x - x0) + gy (y - y0) fitted to points, by least squares or robustly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.robust import MAD_TO_SIGMA

TUKEY = 4.685


@dataclass(frozen=True)
class Plane:
    """A plane over the plan: elevation ``z0`` at ``centre`` and its rise per unit east and north."""

    centre: tuple[float, float]
    z0: float
    gradient: tuple[float, float]
    residual_rms: float = 0.0

    def at(self, xy: Floats) -> Floats:
        """Elevations at (n, 2) places."""
        gx, gy = self.gradient
        return np.asarray(self.z0 + gx * (xy[:, 0] - self.centre[0]) + gy * (xy[:, 1] - self.centre[1]))


def level(z: float) -> Plane:
    """A horizontal plane."""
    return Plane((0.0, 0.0), float(z), (0.0, 0.0))


def fit(points: Floats, weights: Floats | None = None) -> Plane:
    """Least-squares plane through (n, 3) points, residuals vertical.

    Raises
    ------
    NotDeterminable, with fewer than three points or when they lie on one line in plan.
    """
    if len(points) < 3:
        raise NotDeterminable(f"a plane needs three points, there are {len(points)}")
    w = np.ones(len(points)) if weights is None else weights
    centre = np.average(points, axis=0, weights=w)
    local = points - centre
    root = np.sqrt(w)[:, None]
    design = np.column_stack([local[:, :2], np.ones(len(points))]) * root
    solution, _, rank, _ = np.linalg.lstsq(design, local[:, 2] * root[:, 0], rcond=1e-9)
    if rank < 3:
        raise NotDeterminable("the points lie on one line, a plane through them is not fixed")
    residual = local[:, 2] - local[:, :2] @ solution[:2] - solution[2]
    rms = float(np.sqrt(np.average(residual**2, weights=w)))
    return Plane(
        (float(centre[0]), float(centre[1])),
        float(centre[2] + solution[2]),
        (float(solution[0]), float(solution[1])),
        rms,
    )


def fit_robust(points: Floats, rounds: int = 8) -> Plane:
    """Plane by iteratively reweighted least squares with Tukey's biweight, started from the median level.

    Up to nearly half of the points may be strays (Huber & Ronchetti, Robust Statistics, 2009, ch. 7).
    Raises NotDeterminable as :func:`fit` does.
    """
    residual = points[:, 2] - np.median(points[:, 2])
    plane = None
    for _ in range(rounds):
        scale = max(MAD_TO_SIGMA * float(np.median(np.abs(residual))), 1e-9)
        weights = np.clip(1 - (residual / (TUKEY * scale)) ** 2, 0, None) ** 2
        if np.count_nonzero(weights) < 3:
            break
        plane = fit(points, weights)
        residual = points[:, 2] - plane.at(points[:, :2])
    return plane if plane is not None else fit(points)
