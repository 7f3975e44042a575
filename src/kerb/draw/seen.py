"""What a view shows, to scale: its colours as an image, and the values behind them, pixel by pixel or cell by cell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kerb.core.arrays import Bytes, Floats
from kerb.core.cloud.store import ELEVATION
from kerb.core.errors import InputError
from kerb.core.parallel import each
from kerb.core.surface.elevation import Affine
from kerb.draw.camera import Camera
from kerb.draw.ortho import MOST_PIXELS
from kerb.draw.picture import BAND, Picture, render
from kerb.draw.points import DepthBuffer
from kerb.draw.raster_kernels import fill_triangles, project_vertices
from kerb.draw.scene import CloudLayer, MeshLayer, Scene, value_map

# A cell is so many pixels wide when it is one value for several.
FINER = 5
EACH, MEDIAN, LOWEST, HIGHEST = "each", "median", "lowest", "highest"
OF_CELL: dict[str, Callable[..., Any]] = {MEDIAN: np.nanmedian, LOWEST: np.nanmin, HIGHEST: np.nanmax}


@dataclass(frozen=True)
class Seen:
    """An image (h, w, 3), values (h, w) with NaN where nothing is, places (h, w, 3) of those in job coordinates, and how columns
    and rows lie: in easting and northing where the view looks straight down with north up (``in_plan``), else to the right of the
    middle of the view and up, which is elevation where it looks level."""

    image: Bytes
    values: Floats
    places: Floats
    affine: Affine
    in_plan: bool


def seen(scene: Scene, camera: Camera, size: tuple[int, int], pixel: float, take: str = EACH) -> Seen:
    """What ``camera`` shows on ``size`` (width, height) pixels of its own, with pixels of another size, without perspective or
    exaggeration, within its depths.

    ``take`` is ``each``, or what stands for a cell of the size of a pixel: median, lowest or highest of 25 looks into it. Raises
    InputError for pixels that are too many or a ``take`` that is none.
    """
    if not (np.isfinite(pixel) and pixel > 0):
        raise InputError(f"pixel size {pixel} must be above zero")
    if take != EACH and take not in OF_CELL:
        raise InputError(f"'{take}' is no way to take a value of a cell")
    many = 1 if take == EACH else FINER
    width, height = (max(int(np.ceil(side * camera.scale / pixel)), 1) for side in size)
    if width * height * many**2 > MOST_PIXELS:
        raise InputError(f"pixels of {pixel:g} make {width} × {height}; the most is {MOST_PIXELS // many**2}")
    eye = replace(camera, scale=pixel / many, perspective=False, exaggeration=1.0)
    drawn = render(scene, eye, (width * many, height * many))
    values, places = _values(drawn), _places(drawn)
    if take != EACH:
        values = _cells(values, many, OF_CELL[take])
        # The middle of what is seen of a cell.
        places = np.stack([_cells(places[..., k], many, np.nanmean) for k in range(3)], axis=-1)
    image = np.ascontiguousarray(drawn.image[many // 2 :: many, many // 2 :: many, 2::-1])
    in_plan = eye.tilt == 90.0 and eye.heading == 0.0
    left, top = -width * pixel / 2, height * pixel / 2
    if in_plan:
        left, top = left + eye.target[0], top + eye.target[1]
    elif eye.tilt == 0.0:
        top += eye.target[2]
    return Seen(image, values, places, (pixel, 0.0, float(left), 0.0, -pixel, float(top)), in_plan)


def coloured_by(scene: Scene) -> tuple[str, str]:
    """What the values of a scene are, and their unit where they have one of their own: of a map, else of the first cloud."""
    mapped = value_map(scene)
    if mapped is not None:
        return mapped.title.partition(":")[0], mapped.unit
    return (scene.clouds[0].style.by if scene.clouds else ELEVATION), ""


def _values(drawn: Picture) -> Floats:
    """What colours the things in sight: the map of a study where there is one, else clouds coloured alike and surfaces."""
    scene, size = drawn.scene, drawn.size
    values = np.full((size[1], size[0]), np.nan)
    mapped = value_map(scene)
    if mapped is None:
        by = scene.clouds[0].style.by if scene.clouds else ELEVATION
        for layer in scene.clouds:
            if layer.style.by == by and (by == ELEVATION or layer.store.has(by)):
                _of_cloud(drawn, layer, values)
    for mesh in scene.meshes:
        wanted = mesh is mapped if mapped is not None else mesh.ramp and mesh.values is None
        if wanted and len(mesh.triangles):
            _of_mesh(drawn, mesh, values)
    return values


def _of_cloud(drawn: Picture, layer: CloudLayer, values: Floats) -> None:
    rows = drawn.buffer.rows
    mine = (rows >= layer.first_row) & (rows < layer.first_row + layer.store.count)
    values[mine] = layer.values(rows[mine] - layer.first_row)


def _of_mesh(drawn: Picture, mesh: MeshLayer, values: Floats) -> None:
    camera, size = drawn.camera, drawn.size
    screen = np.empty((len(mesh.vertices), 3))
    project_vertices(np.ascontiguousarray(mesh.vertices - np.array(camera.target)), camera.matrix(size), False, screen)
    own = DepthBuffer.empty(size)
    near, far = camera.limits(size)
    limits = (max(near, -1e300), min(far, 1e300), False)
    bands = [(first, min(first + BAND, size[1])) for first in range(0, size[1], BAND)]
    each(lambda band: fill_triangles(screen, mesh.triangles, *limits, *band, own.depth, own.rows), bands)
    front = np.isfinite(own.depth) & (own.depth <= drawn.buffer.depth)
    values[front] = mesh.known()[own.rows[front]]


def _places(drawn: Picture) -> Floats:
    """Job coordinates (h, w, 3) of what is drawn at each pixel; NaN where nothing is."""
    width, height = drawn.size
    camera = drawn.camera
    x, y = np.meshgrid(
        (np.arange(width) + 0.5 - width / 2) * camera.scale, (np.arange(height) + 0.5 - height / 2) * camera.scale
    )
    depth = np.where(np.isfinite(drawn.buffer.depth), drawn.buffer.depth, np.nan)
    return np.asarray(np.stack([x, y, depth], axis=-1) @ camera.axes + np.array(camera.target))


def _blocks(values: Floats, many: int) -> Floats:
    rows, columns = values.shape[0] // many, values.shape[1] // many
    return values.reshape(rows, many, columns, many).swapaxes(1, 2).reshape(rows, columns, many**2)


def _cells(values: Floats, many: int, of: Callable[..., Any]) -> Floats:
    blocks = _blocks(values, many)
    found = np.full(blocks.shape[:2], np.nan)
    known = np.isfinite(blocks).any(axis=2)
    found[known] = of(blocks[known], axis=1)
    return found
