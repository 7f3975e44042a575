"""Draw the points of a scene into a depth buffer: which tiles, how many points of each, at what size, on two cores."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats, Floats32, Ints, Mask
from kerb.core.parallel import cores, each
from kerb.draw.camera import Camera
from kerb.draw.raster_kernels import close_pinholes, merge, splat
from kerb.draw.scene import CloudLayer, Scene

Stopped = Callable[[], bool]
COVER = 1.8
LARGEST_SPLAT = 9
WIDEST_PINHOLE = 3
# A tile whose points lie so many usual spacings apart holds strays: they have no neighbours to be joined with.
STRAY_SPACINGS = 8.0
# Tiles that are about as dense are drawn alike: a step from one size of point to the next shows as an edge on a slope.
ALIKE = 1.5
MOVING_PER_PIXEL = 1.3
ROWS_AT_ONCE = 60_000


@dataclass
class DepthBuffer:
    """Nearest depth (h, w) float32, inf where nothing is, and which point is there (-1: none).

    ``drawn`` counts the points in sight, those behind others too.
    """

    depth: Floats32
    rows: Ints
    drawn: int = 0
    complete: bool = True

    @staticmethod
    def empty(size: tuple[int, int]) -> DepthBuffer:
        """A buffer with nothing in it; ``size`` is (width, height)."""
        return DepthBuffer(np.full(size[::-1], np.inf, np.float32), np.full(size[::-1], -1, np.int64))


def draw_points(
    scene: Scene, camera: Camera, size: tuple[int, int], budget: int | None, stopped: Stopped
) -> DepthBuffer:
    """Draw all clouds of a numbered scene.

    ``budget`` is the most points drawn, None draws every point in view. Stops early, with ``complete`` False, when
    ``stopped`` says so.
    """
    pieces: list[tuple[CloudLayer, Ints]] = []
    complete = True
    shares = [(layer, *_tiles_in_view(layer, camera, size)) for layer in scene.clouds]
    wanted = [_wanted(layer, tiles, pixels, budget) for layer, tiles, pixels, _ in shares]
    total = sum(int(w.sum()) for w in wanted)
    reduce = 1.0 if budget is None or total <= budget else budget / total
    for (layer, tiles, _, spacing), counts in zip(shares, wanted, strict=True):
        some = np.maximum(np.ceil(counts * reduce), np.minimum(counts, 16)).astype(np.int64)
        complete &= bool(np.all(some == layer.store.tiles["count"][tiles]))
        pieces.append((layer, _cut(layer, tiles, some, spacing)))
    sights = {id(layer): Sight.of(layer, camera, size) for layer in scene.clouds}

    def draw(hand: int) -> DepthBuffer:
        buffer = DepthBuffer.empty(size)
        for layer, all_ in pieces:
            for some in _batches(all_[hand :: cores()]):
                if stopped():
                    buffer.complete = False
                    return buffer
                buffer.drawn += _splat_pieces(layer, some, sights[id(layer)], camera.perspective, buffer)
        return buffer

    buffers = each(draw, range(cores()))
    # Even ground leaves pinholes of about a point; what is wider is a gap, and shown as one.
    sizes = [size_ for layer, some in pieces if not layer.style.thickness for size_ in some[:, 2].tolist()]
    usual = int(np.median(sizes)) if sizes else 1
    joined = _joined(buffers, size, min(usual, WIDEST_PINHOLE) if usual < LARGEST_SPLAT else 1)
    joined.complete = complete and all(buffer.complete for buffer in buffers)
    return joined


def _tiles_in_view(layer: CloudLayer, camera: Camera, size: tuple[int, int]) -> tuple[Ints, Floats, Floats]:
    """Tiles that touch the picture, their size in pixels and their point spacing in pixels."""
    tiles = layer.store.tiles
    seen = corners_seen(layer, camera, size)
    near, far = camera.limits(size)
    behind = np.isnan(seen[:, :, 0]).any(axis=1)
    left, right = np.min(seen[:, :, :2], axis=1), np.max(seen[:, :, :2], axis=1)
    left[behind], right[behind] = 0.0, np.array(size, float)
    touches = np.all((right >= -LARGEST_SPLAT) & (left <= np.array(size) + LARGEST_SPLAT), axis=1)
    touches &= (seen[:, :, 2].max(axis=1) >= near) & (seen[:, :, 2].min(axis=1) <= far)
    chosen = np.flatnonzero(touches)
    extent = np.clip(right[chosen], 0, size) - np.clip(left[chosen], 0, size)
    pixels = np.maximum(extent[:, 0], 1) * np.maximum(extent[:, 1], 1)
    pixel = np.full(len(chosen), camera.scale)
    if camera.perspective:
        pixel = np.maximum(seen[chosen, :, 2].mean(axis=1), 1e-6) / camera.focal(size)
    apart, usual = tiles["spacing"][chosen], layer.store.spacing
    alike = (apart * ALIKE > usual) & (apart < usual * ALIKE) | (apart > STRAY_SPACINGS * usual)
    return chosen, pixels, np.where(alike, usual, apart) / np.abs(pixel)


def corners_seen(layer: CloudLayer, camera: Camera, size: tuple[int, int]) -> Floats:
    """The eight corners of each tile as seen, (tiles, 8, 3): pixels and depth."""
    low, high = layer.store.tiles["low"], layer.store.tiles["high"]
    corners = np.stack([np.where([bool(k & 1), bool(k & 2), bool(k & 4)], high, low) for k in range(8)], axis=1)
    return camera.project(corners.reshape(-1, 3), size).reshape(len(low), 8, 3)


def _wanted(layer: CloudLayer, tiles: Ints, pixels: Floats, budget: int | None) -> Ints:
    counts = layer.store.tiles["count"][tiles]
    if budget is None:
        return counts
    return np.minimum(counts, np.ceil(pixels * MOVING_PER_PIXEL).astype(np.int64))


def _cut(layer: CloudLayer, tiles: Ints, some: Ints, spacing: Floats) -> Ints:
    """First and last row and size of points of what is drawn at one size, (pieces, 3), none of many points."""
    fixed = layer.style.thickness
    first, have = layer.store.tiles["first"][tiles], layer.store.tiles["count"][tiles]
    apart = np.nan_to_num(spacing * np.sqrt(have / np.maximum(some, 1)), nan=1.0, posinf=LARGEST_SPLAT)
    sizes = np.full(len(tiles), fixed) if fixed else np.clip(np.ceil(apart * COVER), 1, LARGEST_SPLAT).astype(int)
    parts = -(-some // ROWS_AT_ONCE)
    which = np.repeat(np.arange(len(tiles)), parts)
    start = first[which] + ROWS_AT_ONCE * (np.arange(len(which)) - np.repeat(np.cumsum(parts) - parts, parts))
    return np.column_stack([start, np.minimum(start + ROWS_AT_ONCE, (first + some)[which]), sizes[which]])


def _batches(pieces: Ints) -> list[Ints]:
    """Pieces in groups of so many points that a stop is heard soon; a call for each would cost more than few points do."""
    ends = np.cumsum(pieces[:, 1] - pieces[:, 0])
    return np.split(pieces, np.flatnonzero(np.diff(ends // ROWS_AT_ONCE)) + 1) if len(pieces) else []


@dataclass(frozen=True)
class Sight:
    """How a camera sees one cloud: worked out once, used for each of its pieces."""

    xyz: np.ndarray
    centre: Ints
    matrix: Floats
    limits: tuple[float, float]
    mask: tuple[np.ndarray, Mask]

    @staticmethod
    def of(layer: CloudLayer, camera: Camera, size: tuple[int, int]) -> Sight:
        """How a camera sees a cloud at a size (width, height) in pixels."""
        store = layer.store
        target = np.array(camera.target)
        own = target if store.placement is None else store.placement.inverse()(target[None])[0]
        # Integer offsets from an integer centre near the target: exact, however large the coordinates are.
        centre = np.round((own - store.origin) / store.scale)
        rest = (store.origin + centre * store.scale - own) / store.scale
        if store.placement is None:
            matrix = camera.matrix(size, store.scale)
        else:
            matrix = camera.matrix(size)
            matrix[:3, :3] = matrix[:3, :3] @ store.placement.linear * store.scale
        matrix[:3, 3] += matrix[:3, :3] @ rest
        # A plain view: slicing a memory map costs ten times as much, and there are thousands of pieces.
        plain = store.xyz.view(np.ndarray)
        return Sight(plain, centre.astype(np.int64), matrix, camera.limits(size), layer.mask())


def _splat_pieces(layer: CloudLayer, pieces: Ints, sight: Sight, perspective: bool, buffer: DepthBuffer) -> int:
    which, shown = sight.mask
    near, far = sight.limits
    count = splat(
        sight.xyz, pieces, layer.first_row, sight.centre, sight.matrix, perspective, near, far, which, shown,
        buffer.depth, buffer.rows,
    )  # fmt: skip
    return int(count)


def _joined(buffers: list[DepthBuffer], size: tuple[int, int], widest: int) -> DepthBuffer:
    result = buffers[0]
    bands = [(a, min(a + 128, size[1])) for a in range(0, size[1], 128)]
    for other in buffers[1:]:
        each(lambda band: merge(result.depth, result.rows, other.depth, other.rows, *band), bands)  # noqa: B023
        result.drawn += other.drawn
    closed = DepthBuffer(np.empty_like(result.depth), np.empty_like(result.rows), result.drawn)
    each(lambda band: close_pinholes(result.depth, result.rows, widest, *band, closed.depth, closed.rows), bands)
    return closed
