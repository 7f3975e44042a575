"""Ground filters side by side: Kerb's, and plain forms of three published ones. ``python -m bench.ground_ways``.

Written from memory of P. Axelsson 2000 (progressive TIN densification), T. Pingel et al. 2013 (simple morphological
filter) and W. Zhang et al. 2016 (cloth simulation), to compare their quality, not their speed: each is the shortest form
that follows its paper, with the settings its authors recommend for the kind of land.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import laspy
import numpy as np
from scipy import ndimage
from scipy.spatial import Delaunay

from kerb.core.cloud.ground import GroundSettings, ground, terrain_of
from kerb.core.progress import silent

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.support import DATA, store_of
from tests.terrain import LANDS, made, scores

SLOPES = {"flat": 0.15, "sloping": 0.5, "stepped": 0.5, "airborne": 0.5}


def lowest(xyz: np.ndarray, cell: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Lowest elevation of each cell (NaN without points), the row of that point, and the cell of every point."""
    at = np.floor((xyz[:, :2] - xyz[:, :2].min(axis=0)) / cell).astype(int)
    shape = at.max(axis=0) + 1
    flat = at[:, 0] * shape[1] + at[:, 1]
    order = np.lexsort((xyz[:, 2], flat))
    first = order[np.unique(flat[order], return_index=True)[1]]
    grid, row = np.full(shape.prod(), np.nan), np.full(shape.prod(), -1)
    grid[flat[first]], row[flat[first]] = xyz[first, 2], first
    return grid.reshape(shape), row.reshape(shape), at


def filled(grid: np.ndarray) -> np.ndarray:
    """Empty cells take the value of the nearest."""
    known = np.isfinite(grid)
    return grid[tuple(ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True))]


def simple_morphological(xyz: np.ndarray, slope: float, window: float = 18.0, cell: float = 1.0) -> np.ndarray:
    """Pingel et al. 2013: openings with disks that grow by a cell, slope threshold, 0.5 m and 1.25 × slope tolerance."""
    grid, _, at = lowest(xyz, cell)
    surface = filled(grid)
    low = ndimage.grey_closing(surface, footprint=disk(1)) - surface > 5.0 * cell
    surface = filled(np.where(low, np.nan, surface))
    last, objects = surface, low.copy()
    for radius in range(1, int(np.ceil(window / cell)) + 1):
        opened = ndimage.grey_opening(last, footprint=disk(radius))
        objects |= last - opened > slope * radius * cell
        last = opened
    land = filled(np.where(objects | ~np.isfinite(grid), np.nan, surface))
    steep = np.hypot(*np.gradient(land, cell))
    inside = ndimage.map_coordinates(
        land, ((xyz[:, :2] - xyz[:, :2].min(axis=0)) / cell - 0.5).T, order=1, mode="nearest"
    )
    return np.abs(xyz[:, 2] - inside) <= 0.5 + 1.25 * steep[tuple(at.T)]


def disk(radius: int) -> np.ndarray:
    """A round footprint."""
    side = np.arange(-radius, radius + 1)
    return side[:, None] ** 2 + side[None] ** 2 <= radius**2


def densification(
    xyz: np.ndarray, angle: float = 8.0, distance: float = 1.4, seeds: float = 25.0, cell: float = 1.0
) -> np.ndarray:
    """Axelsson 2000: a TIN of the lowest points of wide cells grows by points near to it in distance and angle."""
    _, row, _ = lowest(xyz, cell)
    candidates = row[row >= 0]
    chosen = set(lowest(xyz, seeds)[1].ravel().tolist()) - {-1}
    low, high = xyz[:, :2].min(axis=0) - 1, xyz[:, :2].max(axis=0) + 1
    frame = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]])
    start = np.array(sorted(chosen))
    nearest = [start[np.argmin(np.hypot(*(xyz[start, :2] - corner).T))] for corner in frame]
    corners = np.column_stack([frame, xyz[nearest, 2]])
    for _ in range(40):
        vertices = np.concatenate([corners, xyz[np.array(sorted(chosen))]])
        left = np.array([c for c in candidates.tolist() if c not in chosen])
        if not len(left):
            break
        good = left[_near_surface(vertices, xyz[left], angle, distance)]
        if not len(good):
            break
        chosen |= set(good.tolist())
    vertices = np.concatenate([corners, xyz[np.array(sorted(chosen))]])
    # The last look is at distance alone, as for the other filters: near a vertex noise makes any angle.
    return _near_surface(vertices, xyz, 90.0, 0.3)


def _near_surface(vertices: np.ndarray, points: np.ndarray, angle: float, distance: float) -> np.ndarray:
    mesh = Delaunay(vertices[:, :2])
    found = mesh.find_simplex(points[:, :2])
    corner = vertices[mesh.simplices[found]]
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    over = np.abs(((points - corner[:, 0]) * normal).sum(axis=1))
    away = np.linalg.norm(points[:, None] - corner, axis=2)
    steepest = np.degrees(np.arcsin(np.clip(over[:, None] / np.maximum(away, 1e-9), 0, 1))).max(axis=1)
    return (found >= 0) & (over <= distance) & ((steepest <= angle) | (over < 0.05))


def cloth(xyz: np.ndarray, rigid: int, cell: float = 1.0, rounds: int = 500, near: float = 0.5) -> np.ndarray:
    """Zhang et al. 2016: a cloth falls on the cloud turned upside down; its particles pull at each other."""
    grid, _, _ = lowest(xyz, cell)
    stop = -filled(grid)
    z = np.full(stop.shape, stop.max() + 0.05)
    before, fixed = z.copy(), np.zeros(z.shape, bool)
    for _ in range(rounds):
        step = np.where(fixed, 0, 0.99 * (z - before) - 0.2 * 0.65**2)
        before, z = z.copy(), z + step
        hit = z < stop
        z[hit], fixed = stop[hit], fixed | hit
        for _ in range(rigid):
            for axis in (0, 1):
                for start in (0, 1):
                    cut = [slice(None)] * 2
                    cut[axis] = slice(start, z.shape[axis] - (z.shape[axis] - start) % 2)
                    view, held = np.moveaxis(z[tuple(cut)], axis, 0), np.moveaxis(fixed[tuple(cut)], axis, 0)
                    half = (view[1::2] - view[::2]) / 2
                    both = held[::2] & held[1::2]
                    view[::2] += np.where(held[::2] | both, 0, np.where(held[1::2], 2 * half, half))
                    view[1::2] -= np.where(held[1::2] | both, 0, np.where(held[::2], 2 * half, half))
        if np.abs(step).max() < 0.005:
            break
    under = -ndimage.map_coordinates(z, ((xyz[:, :2] - xyz[:, :2].min(axis=0)) / cell - 0.5).T, order=1, mode="nearest")
    return np.abs(xyz[:, 2] - under) <= near


def scenes() -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """Points (n, 3) in metres and true classes by kind of land."""
    found = {kind: made(kind) for kind in LANDS}
    file = laspy.read(DATA / "airborne_2154.laz")
    xyz = np.column_stack([file.x, file.y, file.z])
    found["airborne"] = (xyz - np.floor(xyz.min(axis=0)), np.asarray(file.classification))
    return found


def main() -> int:
    rows = []
    for kind, (xyz, classes) in scenes().items():
        store = store_of(xyz, scale=0.001, classes=np.where(classes == 7, 1, classes))
        order = np.argsort(store.column("number"))
        terrain = terrain_of(store)
        own = (ground(store, GroundSettings.usual(terrain, store), silent()) == 2)[order]
        ways = {
            f"Kerb ({terrain}, as it suggests)": own,
            "simple morphological": simple_morphological(xyz, SLOPES[kind]),
        }
        # These two start from lowest points and have no test for those that are too low: they are spared them.
        good = classes != 7
        for way, find in (
            ("densification", densification), ("cloth, stiff", lambda p: cloth(p, 3)), ("cloth, soft", lambda p: cloth(p, 1)),
        ):  # fmt: skip
            ways[way] = np.zeros(len(xyz), bool)
            ways[way][good] = find(xyz[good])
        for way, mask in ways.items():
            one, two, kappa = scores(mask, classes == 2)
            rows.append({"land": kind, "way": way, "type_1": one, "type_2": two, "kappa": kappa})
            print(f"| {kind} | {way} | {100 * one:.2f} % | {100 * two:.2f} % | {kappa:.3f} |", flush=True)
    (Path(__file__).parent / "out").mkdir(exist_ok=True)
    (Path(__file__).parent / "out" / "ground_ways.json").write_text(json.dumps(rows, indent=1))
    return 0


if __name__ == "__main__":
    sys.exit(main())
