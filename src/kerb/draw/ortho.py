"""A picture of a slice to scale: every pixel as large as every other, placed in the section's own axes."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Bytes
from kerb.core.errors import InputError
from kerb.core.section.placed import DOWN, PlacedSection
from kerb.core.surface.elevation import Affine
from kerb.draw.camera import Camera
from kerb.draw.picture import render
from kerb.draw.scene import Scene

MOST_PIXELS = 120_000_000


def ortho(scene: Scene, section: PlacedSection, pixel: float, span: tuple[float, float]) -> tuple[Bytes, Affine]:
    """The slice of a section as an image (height, width, 3), and where it lies.

    ``pixel`` is the size of a pixel in the job unit; ``span`` the lowest and highest elevation, of a section that is not upright
    height over its middle. Places are (offset from the middle, elevation); of a level slice that is looked at from above with
    north up, easting and northing. Raises InputError for a pixel that makes too many.
    """
    if not pixel > 0:
        raise InputError(f"pixel size {pixel} must be above zero")
    width, height = int(np.ceil(section.width / pixel)), int(np.ceil((span[1] - span[0]) / pixel))
    width, height = max(width, 1), max(height, 1)
    if width * height > MOST_PIXELS:
        raise InputError(f"pixels of {pixel:g} make {width} × {height}; the most is {MOST_PIXELS}")
    middle = np.array(section.middle)
    up = section.axes[1]
    rise = (span[0] + span[1]) / 2 - (middle[2] if section.upright else 0.0)
    target = middle + rise * up
    camera = Camera(
        (float(target[0]), float(target[1]), float(target[2])), pixel, section.azimuth, section.tilt,
        thickness=section.thickness,
    )  # fmt: skip
    picture = render(scene, camera, (width, height))
    image = np.ascontiguousarray(picture.image[:, :, 2::-1])
    left, top = -width * pixel / 2, (span[0] + span[1]) / 2 + height * pixel / 2
    if section.tilt == DOWN and section.azimuth == 0.0:
        left, top = left + middle[0], top + middle[1]
    return image, (pixel, 0.0, float(left), 0.0, -pixel, float(top))
