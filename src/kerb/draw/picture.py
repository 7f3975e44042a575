"""From a scene and a camera to an image: points and meshes by depth, coloured, shaded, with contour lines.

The same code draws the window, the report and the tests; equal input gives equal pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Bytes, Floats, Floats32, Ints, Ints32
from kerb.core.cloud.filters import is_wide
from kerb.core.cloud.store import ELEVATION, PART
from kerb.core.parallel import each
from kerb.draw.camera import Camera
from kerb.draw.points import DepthBuffer, Stopped, draw_points
from kerb.draw.ramps import banded, class_table, source_table, table_between
from kerb.draw.raster_kernels import elevation_of, fill_triangles, project_vertices, stroke_segments
from kerb.draw.scene import CLAMP, CloudLayer, Colour, MeshLayer, PictureLayer, Scene
from kerb.draw.shade_kernels import contours, drape, eye_dome, overlay, paint, ramp_colours, relief, seams, smooth

BAND = 100
STEEPEST_CONTOUR = 6.0
# How dark the edges of triangles are.
EDGE_STRENGTH = 0.45
# The cut of a mesh in a section: width in pixels of a picture as wide as a usual view, and how dark.
CUT_PIXELS, CUT_WIDTH, CUT_TONE = 2.2, 1400.0, 0.62


@dataclass
class Picture:
    """A drawn image with what lies under each pixel.

    ``image`` (h, w, 4) blue, green, red, 255; ``buffer`` depth and point row under each pixel.
    """

    image: Bytes
    buffer: DepthBuffer
    camera: Camera
    scene: Scene

    @property
    def size(self) -> tuple[int, int]:
        """(width, height) in pixels."""
        return self.image.shape[1], self.image.shape[0]

    def place_at(self, x: float, y: float, reach: int = 3) -> Floats | None:
        """Job coordinates (3,) of what is drawn at a pixel: a point, the nearest one in reach, or a surface."""
        found = self.row_at(x, y, reach)
        width, height = self.size
        if found is None:
            if not (0 <= x < width and 0 <= y < height) or not np.isfinite(self.buffer.depth[int(y), int(x)]):
                return None
            return self.camera.unproject(x, y, float(self.buffer.depth[int(y), int(x)]), self.size)
        layer, row = found
        return np.asarray(layer.store.coordinates(slice(row, row + 1))[0])

    def row_at(self, x: float, y: float, reach: int = 3) -> tuple[CloudLayer, int] | None:
        """The cloud and row of the point drawn at or near a pixel."""
        width, height = self.size
        cx, cy = int(x), int(y)
        left, top = max(cx - reach, 0), max(cy - reach, 0)
        window = self.buffer.rows[top : min(cy + reach + 1, height), left : min(cx + reach + 1, width)]
        known = np.argwhere(window >= 0)
        if not len(known):
            return None
        away = np.hypot(known[:, 1] + left - cx, known[:, 0] + top - cy)
        row = int(window[tuple(known[np.argmin(away)])])
        for layer in self.scene.clouds:
            if layer.first_row <= row < layer.first_row + layer.store.count:
                return layer, row - layer.first_row
        return None


def render(
    scene: Scene,
    camera: Camera,
    size: tuple[int, int],
    budget: int | None = None,
    stopped: Stopped = lambda: False,
) -> Picture:
    """Draw a scene at ``size`` (width, height) pixels.

    ``budget`` limits the points drawn while the view moves. Once ``stopped`` says so, what is there is returned
    with ``buffer.complete`` False.
    """
    scene.numbered()
    buffer = draw_points(scene, camera, size, budget, stopped)
    image = np.empty((size[1], size[0], 4), np.uint8)
    elevation = _elevations(buffer, camera, size)
    shade = _shade(buffer, camera, elevation, size)
    colours, places = _colours(scene, buffer, elevation)
    background = np.array(scene.background, np.uint8)
    each(lambda band: paint(colours, places, shade, background, *band, image), _bands(size))
    for mesh in scene.meshes:
        if mesh.opacity >= 1.0 and not mesh.hatch:
            _draw_mesh(mesh, camera, size, buffer, image, scene.ink)
    for picture in scene.pictures:
        _drape(picture, camera, size, buffer.depth, image)
    if scene.interval > 0 and scene.meshes:
        # Lines lie on what is seen, and surfaces are by now.
        elevation = _elevations(buffer, camera, size)
    _draw_contours(scene, elevation, camera, image)
    for mesh in scene.meshes:
        if mesh.opacity < 1.0 or mesh.hatch:
            _draw_mesh(mesh, camera, size, buffer, image, scene.ink)
    if camera.thickness is not None:
        for mesh in scene.meshes:
            _draw_cut(mesh, camera, size, image)
    return Picture(image, buffer, camera, scene)


def _bands(size: tuple[int, int]) -> list[tuple[int, int]]:
    return [(a, min(a + BAND, size[1])) for a in range(0, size[1], BAND)]


def _elevations(buffer: DepthBuffer, camera: Camera, size: tuple[int, int]) -> Floats:
    """Elevation under each pixel relative to the target's, NaN for background."""
    out = np.empty(buffer.depth.shape, np.float64)
    focal, distance, axes = camera.focal(size), camera.distance(size), camera.axes
    each(
        lambda band: elevation_of(
            buffer.depth, *band, axes, np.array(camera.target), focal, distance, camera.scale, camera.exaggeration,
            camera.perspective, out,
        ),
        _bands(size),
    )  # fmt: skip
    return out


def _shade(buffer: DepthBuffer, camera: Camera, elevation: Floats, size: tuple[int, int]) -> Floats32:
    shade = np.empty(buffer.depth.shape, np.float32)
    steep_view = camera.tilt > 75 and not camera.perspective
    strength = 0.35 if steep_view else 0.7
    pixel = camera.scale * (camera.exaggeration if steep_view else 1.0)
    each(lambda band: eye_dome(buffer.depth, *band, pixel, camera.perspective, strength, shade), _bands(size))
    if steep_view:
        even, weight = _smoothed(elevation, 1, 2)
        each(lambda band: relief(even, weight, *band, camera.scale, 0.55, shade), _bands(size))
    return shade


def _smoothed(elevation: Floats, radius: int, passes: int) -> tuple[Floats, Floats32]:
    weight = np.isfinite(elevation).astype(np.float32)
    middle = float(np.nanmean(elevation)) if weight.any() else 0.0
    values = np.where(weight > 0, elevation - middle, 0.0)
    bands = _bands((values.shape[1], values.shape[0]))
    known = weight.copy()
    for _ in range(passes):
        for along_x in (True, False):
            out, out_weight = np.empty_like(values), np.empty_like(weight)
            each(lambda b: smooth(values, known, radius, *b, along_x, out, out_weight), bands)  # noqa: B023
            values, known = out, (out_weight > 0).astype(np.float32)
    return values + middle, weight


def _colours(scene: Scene, buffer: DepthBuffer, elevation: Floats) -> tuple[Bytes, Ints32]:
    """A colour for each drawn pixel and where it goes."""
    drawn = buffer.rows >= 0
    rows = buffer.rows[drawn]
    places = np.full(buffer.rows.shape, -1, np.int32)
    places[drawn] = np.arange(len(rows), dtype=np.int32)
    colours = np.empty((len(rows), 3), np.uint8)
    heights = elevation[drawn]
    for layer in scene.clouds:
        if len(scene.clouds) == 1:
            mine: slice | np.ndarray = slice(None)
        else:
            mine = np.flatnonzero((rows >= layer.first_row) & (rows < layer.first_row + layer.store.count))
        own = rows[mine] - layer.first_row
        colours[mine] = colours_of(layer, own, heights[mine], scene)
        aside = layer.store.aside() if layer.with_aside else None
        if aside is not None and len(own):
            colours[mine] = np.where(np.asarray(aside[own] != 0)[:, None], scene.aside, colours[mine])
    return colours, places


def colours_of(layer: CloudLayer, rows: Ints, heights: Floats, scene: Scene) -> Bytes:
    """Colours (n, 3) of some points of a cloud, as its style says."""
    style, store = layer.style, layer.store
    if style.by == "colour" and store.has("red"):
        return _true_colours(layer, rows)
    if style.by == "class" and store.has("classification"):
        return class_table()[store.column("classification")[rows]]
    for by, name in (("source", "point_source_id"), ("source_file", "source_file"), (PART, PART)):
        if style.by == by and store.has(name):
            return source_table()[store.column(name)[rows] % 256] if by != PART else layer.part_inks(rows)
    if style.by != ELEVATION and not store.has(style.by):
        return np.broadcast_to(np.array(style.plain, np.uint8), (len(rows), 3))
    values = heights if style.by == ELEVATION and not store.flat else layer.values(rows)
    if style.bands:
        return banded(np.asarray(values, float), style.bands, style.ramp)
    low, high = layer.limits()
    out = np.empty((len(rows), 3), np.uint8)
    faded = np.array(scene.background, np.uint8)
    ramp_colours(
        np.asarray(values, float),
        low,
        high,
        table_between(style.ramp, float(low), float(high)),
        int(style.beyond != CLAMP),
        faded,
        out,
    )
    return out


def _true_colours(layer: CloudLayer, rows: Ints) -> Bytes:
    """Red, green and blue of the file; 16-bit values are scaled down where the file uses them."""
    store = layer.store
    channels = np.stack([store.column(name)[rows] for name in ("red", "green", "blue")], axis=1)
    return (channels >> 8 if is_wide(store) else channels).astype(np.uint8)


def _draw_contours(scene: Scene, elevation: Floats, camera: Camera, image: Bytes) -> None:
    interval = scene.interval
    if interval <= 0:
        return
    even, weight = _smoothed(elevation, 3, 2)
    ink = np.array(scene.ink[::-1], np.uint8)
    jump = STEEPEST_CONTOUR * camera.scale
    each(
        lambda band: contours(even, weight, *band, interval, jump, 0.8, image, ink),
        _bands((image.shape[1], image.shape[0])),
    )


def _draw_mesh(
    mesh: MeshLayer, camera: Camera, size: tuple[int, int], buffer: DepthBuffer, image: Bytes, ink: Colour
) -> None:
    if not len(mesh.triangles):
        return
    local = np.ascontiguousarray(mesh.vertices - np.array(camera.target))
    screen = np.empty((len(local), 3))
    project_vertices(local, camera.matrix(size), camera.perspective, screen)
    own = DepthBuffer.empty(size)
    near, far = camera.limits(size)
    limits = (max(near, -1e300), min(far, 1e300), camera.perspective)
    each(lambda band: fill_triangles(screen, mesh.triangles, *limits, *band, own.depth, own.rows), _bands(size))
    tones = mesh.tones
    each(
        lambda band: overlay(
            image, buffer.depth, buffer.rows, own.depth, own.rows, *band, tones, mesh.opacity, mesh.hidden, mesh.hatch
        ),
        _bands(size),
    )
    if mesh.edges:
        dark = np.array(ink[::-1], np.uint8)
        each(lambda band: seams(image, buffer.depth, own.depth, own.rows, *band, dark, EDGE_STRENGTH), _bands(size))


def cut_of(mesh: MeshLayer, camera: Camera, size: tuple[int, int]) -> tuple[Floats, Ints]:
    """Where the plane in the middle of a slice cuts a mesh: ends of straight pieces in pixels (n, 4), and the triangles."""
    screen = camera.project(mesh.vertices, size)
    before = screen[:, 2] < camera.distance(size)
    which = before[mesh.triangles]
    crossed = np.flatnonzero(which.any(axis=1) & ~which.all(axis=1))
    if not len(crossed):
        return np.empty((0, 4)), crossed
    corners, side = screen[mesh.triangles[crossed]], which[crossed]
    # The corner that lies alone on its side comes first: both edges from it are cut.
    alone = np.argmax(side == (side.sum(axis=1) == 1)[:, None], axis=1)
    row = np.arange(len(crossed))
    a, b, c = (corners[row, (alone + k) % 3] for k in range(3))
    middle = camera.distance(size)
    ends = []
    for other in (b, c):
        share = ((middle - a[:, 2]) / (other[:, 2] - a[:, 2]))[:, None]
        ends.append(a[:, :2] + share * (other[:, :2] - a[:, :2]))
    return np.hstack(ends), crossed


def _draw_cut(mesh: MeshLayer, camera: Camera, size: tuple[int, int], image: Bytes) -> None:
    """The line in which the plane of a section meets a mesh, in a dark tone of its colour: faces seen edge-on show too."""
    ends, crossed = cut_of(mesh, camera, size)
    if not len(ends):
        return
    tones = mesh.tones
    colours = CUT_TONE * (tones[crossed] if len(tones) > 1 else np.broadcast_to(tones, (len(crossed), 3)))
    half = CUT_PIXELS / 2 * max(1.0, size[0] / CUT_WIDTH)
    each(lambda band: stroke_segments(ends, colours, half, *band, image), _bands(size))


def _drape(picture: PictureLayer, camera: Camera, size: tuple[int, int], depth: Floats32, image: Bytes) -> None:
    if camera.thickness is not None:
        return  # a slice has no ground to lie on
    a, b, c, d, e, f = picture.affine
    det = a * e - b * d
    east, north = camera.target[0] - c, camera.target[1] - f
    inverse = np.array([
        e / det, -b / det, (e * east - b * north) / det, -d / det, a / det, (a * north - d * east) / det,
        camera.exaggeration,
    ])  # fmt: skip
    focal = camera.focal(size) if camera.perspective else 0.0
    sight = np.vstack([camera.axes, camera.target, [camera.scale, focal, camera.distance(size)]])
    level = picture.level - camera.target[2]
    each(
        lambda band: drape(image, depth, *band, sight, picture.texture, inverse, level, picture.under, picture.over),
        _bands(size),
    )
