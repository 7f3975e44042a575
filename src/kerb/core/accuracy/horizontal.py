"""Horizontal errors of targets, and the rigid motion that fits picked places to measured ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.rigid import Rigid

# FGDC-STD-007.3-1998, 3.2.1 and appendix 3-A (recalled): of a circular error, and of an elliptical one from this ratio on.
CIRCULAR, ELLIPTICAL, LEAST_RATIO = 1.7308, 2.4477, 0.6
# The lesser extent of targets across their length, below which a turn about that line is not fixed.
LEAST_SHARE = 0.02


@dataclass(frozen=True)
class Horizontal:
    """Of differences east and north: means, root mean squares, that of their length, and the accuracy at 95 % (NSSDA).

    ``accuracy95`` is NaN where one of the two is less than 0.6 of the other: then the standard gives no factor.
    """

    n: int
    mean_e: float
    mean_n: float
    rms_e: float
    rms_n: float
    rms_radial: float
    accuracy95: float


def horizontal(d: Floats) -> Horizontal:
    """The figures of differences (n, 2), picked minus measured."""
    if not len(d):
        return Horizontal(0, *([np.nan] * 6))
    rms_e, rms_n = np.sqrt(np.mean(d**2, axis=0)).tolist()
    low, high = sorted((rms_e, rms_n))
    radial = float(np.hypot(rms_e, rms_n))
    if high == low:
        at95 = CIRCULAR * radial
    else:
        at95 = ELLIPTICAL * 0.5 * (rms_e + rms_n) if low / high >= LEAST_RATIO else np.nan
    mean_e, mean_n = d.mean(axis=0).tolist()
    return Horizontal(len(d), mean_e, mean_n, rms_e, rms_n, radial, at95)


def levelled(xyz: Floats, gradient: tuple[float, float], lift: float) -> Rigid:
    """The turn about a level axis, and the shift, that take a plane of differences out: ``lift`` at the middle of places
    (n, 3), rising by ``gradient`` (east, north). It turns about that middle: places near its elevation move sideways by the
    square of the tilt, others by the tilt times their height over it."""
    about = xyz.mean(axis=0)
    normal = np.array([-gradient[0], -gradient[1], 1.0])
    normal /= np.linalg.norm(normal)
    axis = np.cross(normal, [0.0, 0.0, 1.0])
    sine, cosine = float(np.linalg.norm(axis)), float(normal[2])
    if sine < 1e-15:
        return Rigid(shift=(0.0, 0.0, -lift))
    k = axis / sine
    cross = np.array([[0, -k[2], k[1]], [k[2], 0, -k[0]], [-k[1], k[0], 0]])
    # Rodrigues' rotation formula.
    return Rigid.of(np.eye(3) + sine * cross + (1 - cosine) * cross @ cross, about, np.array([0.0, 0.0, -lift]))


def fitted(moving: Floats, fixed: Floats, scaled: bool = False) -> tuple[Rigid, float, Floats]:
    """The motion of least squares from places (n, 3) to others, the scale of the similarity of least squares, and what is left
    (n, 3) after the motion (Umeyama 1991). ``scaled`` moves by that scale too: seven parameters in place of six.

    Raises NotDeterminable, when there are fewer than three or they lie along a line.
    """
    if len(moving) < 3:
        said = "one target does" if len(moving) == 1 else f"{len(moving)} targets do"
        raise NotDeterminable(f"{said} not fix a motion, three do")
    a, b = moving - moving.mean(axis=0), fixed - fixed.mean(axis=0)
    spread = np.linalg.svd(a, compute_uv=False)
    if spread[1] < LEAST_SHARE * spread[0]:
        raise NotDeterminable("the targets lie along a line, the turn about it is not fixed")
    u, values, vt = np.linalg.svd(b.T @ a)
    sign = np.array([1.0, 1.0, np.sign(np.linalg.det(u @ vt))])
    rotation = u @ np.diag(sign) @ vt
    scale = float((values * sign).sum() / (a**2).sum())
    middle, shift = moving.mean(axis=0), fixed.mean(axis=0) - moving.mean(axis=0)
    motion = Rigid.of(rotation, middle, shift, scale if scaled else 1.0)
    return motion, scale, np.asarray(motion(moving) - fixed)
