"""Where the eye is: plan, orbit and section cameras, parallel or perspective, with vertical exaggeration.

A camera looks along ``heading`` (degrees, 0 = looking north, clockwise) and ``tilt`` (90 = straight down, 0 =
horizontal) at ``target``; ``scale`` is the size of a pixel at the target in the job unit.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.once import Once

FOCAL = 1.6


@dataclass(frozen=True)
class Camera:
    """An eye on the scene. Angles in degrees; ``target`` in job coordinates; ``scale`` job units a pixel.

    ``thickness`` keeps only what lies within half of it before and behind the target (a slice), None keeps all.
    ``exaggeration`` stretches elevations about the target.
    """

    target: tuple[float, float, float]
    scale: float
    heading: float = 0.0
    tilt: float = 90.0
    perspective: bool = False
    exaggeration: float = 1.0
    thickness: float | None = None

    @Once
    def axes(self) -> Floats:
        """Right, down and forward as rows of a (3, 3) rotation, in job axes."""
        h, t = np.radians(self.heading), np.radians(self.tilt)
        right = np.array([np.cos(h), -np.sin(h), 0.0])
        level = np.array([np.sin(h), np.cos(h), 0.0])
        forward = level * np.cos(t) - np.array([0.0, 0.0, 1.0]) * np.sin(t)
        # Forward × right, written out: a cross product of NumPy's costs as much as all else that is painted.
        down = np.array([
            forward[1] * right[2] - forward[2] * right[1], forward[2] * right[0] - forward[0] * right[2],
            forward[0] * right[1] - forward[1] * right[0],
        ])  # fmt: skip
        return np.array([right, down, forward])

    def focal(self, size: tuple[int, int]) -> float:
        """Focal length in pixels."""
        return FOCAL * max(size)

    def distance(self, size: tuple[int, int]) -> float:
        """Distance of the eye from the target: zero in a parallel view, where depth is counted from the target."""
        return self.focal(size) * self.scale if self.perspective else 0.0

    def matrix(self, size: tuple[int, int], step: Floats | None = None) -> Floats:
        """The (4, 4) table the kernels use, for offsets from the target in units of ``step`` (3,) (1 when None)."""
        unit = np.ones(3) if step is None else step
        stretch = np.array([1.0, 1.0, self.exaggeration])
        table = np.zeros((4, 4))
        table[:3, :3] = self.axes * (unit * stretch)
        table[2, 3] = self.distance(size)
        if not self.perspective:
            table[:2, :3] /= self.scale
        table[3] = [size[0] / 2, size[1] / 2, 0.0, self.focal(size)]
        return table

    def limits(self, size: tuple[int, int]) -> tuple[float, float]:
        """Nearest and farthest depth drawn."""
        if self.thickness is not None:
            middle = self.distance(size)
            return middle - self.thickness / 2, middle + self.thickness / 2
        return (self.distance(size) * 1e-3, np.inf) if self.perspective else (-np.inf, np.inf)

    def project(self, points: Floats, size: tuple[int, int]) -> Floats:
        """Screen x, y (pixels) and depth of (n, 3) job coordinates; NaN behind the eye."""
        table = self.matrix(size)
        local = (points - np.array(self.target)) @ table[:3, :3].T + table[:3, 3]
        out = local.copy()
        if self.perspective:
            ahead = local[:, 2] > 1e-9
            with np.errstate(divide="ignore", invalid="ignore"):
                out[:, :2] = np.where(ahead[:, None], local[:, :2] * (table[3, 3] / local[:, 2:3]), np.nan)
        out[:, :2] += table[3, :2]
        return np.asarray(out)

    def unproject(self, x: float, y: float, depth: float, size: tuple[int, int]) -> Floats:
        """Job coordinates (3,) of a pixel at a depth."""
        dx, dy = x - size[0] / 2, y - size[1] / 2
        if self.perspective:
            reach = depth / self.focal(size)
            local = np.array([dx * reach, dy * reach, depth - self.distance(size)])
        else:
            local = np.array([dx * self.scale, dy * self.scale, depth])
        offset = local @ self.axes
        offset[2] /= self.exaggeration
        return np.array(self.target) + offset

    def on_level(self, x: float, y: float, z: float, size: tuple[int, int]) -> Floats | None:
        """Where the line of sight through a pixel meets the elevation ``z``; None when it runs level or away."""
        near, far = self.unproject(x, y, self.distance(size) * 0.5, size), self.unproject(
            x, y, self.distance(size) + self.scale * size[0], size
        )  # fmt: skip
        fall = far[2] - near[2]
        if abs(fall) < 1e-12:
            return None
        share = (z - near[2]) / fall
        if self.perspective and share < -1.0:
            return None
        return np.asarray(near + share * (far - near))

    def panned(self, dx: float, dy: float) -> Camera:
        """Moved so that the picture shifts by pixels right and down."""
        offset = -(self.axes[0] * dx + self.axes[1] * dy) * self.scale
        offset[2] /= self.exaggeration
        return replace(self, target=tuple((np.array(self.target) + offset).tolist()))

    def zoomed(self, factor: float, x: float, y: float, size: tuple[int, int]) -> Camera:
        """Zoomed by ``factor`` (above 1: closer) with the place at the target's depth under the pixel kept there."""
        dx, dy = x - size[0] / 2, y - size[1] / 2
        closer = replace(self, scale=self.scale / factor)
        return replace(closer.panned(-dx * (factor - 1), -dy * (factor - 1)), scale=closer.scale)

    def orbited(self, turn: float, lift: float, pivot: Floats) -> Camera:
        """Turned by degrees about a job place that stays where it is on the screen (exactly in parallel views)."""
        turned = replace(
            self, heading=(self.heading + turn) % 360.0, tilt=float(np.clip(self.tilt + lift, -89.9, 90.0))
        )
        stretch = np.array([1.0, 1.0, self.exaggeration])
        before = self.axes @ ((pivot - np.array(self.target)) * stretch)
        target = pivot - (before @ turned.axes) / stretch
        return replace(turned, target=tuple(target.tolist()))


def fitted(low: Floats, high: Floats, size: tuple[int, int], camera: Camera) -> Camera:
    """The camera moved and scaled so that a box fills the picture with a small margin."""
    middle = (low + high) / 2
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    stretch = np.array([1.0, 1.0, camera.exaggeration])
    seen = ((corners - middle) * stretch) @ camera.axes.T
    extent = np.ptp(seen, axis=0)[:2]
    scale = float(max(extent[0] / max(size[0], 1), extent[1] / max(size[1], 1), 1e-6)) * 1.08
    if camera.perspective:
        scale *= 1.1
    if camera.thickness is not None:
        # A slice stays where it is along the line of sight: what fills the picture is what lies in it.
        forward = camera.axes[2]
        middle = middle + forward * float((np.array(camera.target) - middle) @ forward)
    return replace(camera, target=tuple(middle.tolist()), scale=scale)
