"""Import of formats other than LAS, against what a plain library needs to read the same file into memory."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np

from bench.shared import FOLDER, terrain, timed
from kerb.core.progress import silent


def _made(name: str, write) -> Path:
    path = FOLDER / name
    if not path.exists():
        FOLDER.mkdir(exist_ok=True)
        write(path)
    return path


def _store_seconds(path: Path) -> float:
    from kerb.core.cloud.builder import build
    from kerb.formats.points import open_points

    folder = FOLDER / "import-other"
    shutil.rmtree(folder, ignore_errors=True)
    seconds, _ = timed(lambda: build(open_points(path), folder, silent()))
    shutil.rmtree(folder, ignore_errors=True)
    return seconds


def text(count: int) -> dict:
    path = _made(f"t-{count}.xyz", lambda p: np.savetxt(p, terrain(count), fmt="%.3f"))
    plain, _ = timed(lambda: np.loadtxt(path))
    return {"kerb": _store_seconds(path), "plain": plain, "library": "numpy.loadtxt, reading only"}


def ply(count: int) -> dict:
    import plyfile

    def write(path: Path) -> None:
        rows = np.zeros(count, [("x", "f8"), ("y", "f8"), ("z", "f8"), ("red", "u1"), ("green", "u1"), ("blue", "u1")])
        rows["x"], rows["y"], rows["z"] = terrain(count).T
        plyfile.PlyData([plyfile.PlyElement.describe(rows, "vertex")]).write(str(path))

    path = _made(f"t-{count}.ply", write)
    plain, _ = timed(lambda: np.array(plyfile.PlyData.read(path)["vertex"].data))
    return {"kerb": _store_seconds(path), "plain": plain, "library": "plyfile, reading only"}


def e57(count: int) -> dict:
    import pye57

    def write(path: Path) -> None:
        file = pye57.E57(str(path), mode="w")
        for part in np.array_split(terrain(count), 4):
            data = {f"cartesian{axis}": part[:, k] for k, axis in enumerate("XYZ")}
            data["intensity"] = np.linspace(0, 1, len(part)).astype(np.float32)
            file.write_scan_raw(data)
        file.close()

    path = _made(f"t-{count}.e57", write)

    def plain_read() -> list:
        file = pye57.E57(str(path))
        found = [file.read_scan_raw(k) for k in range(file.scan_count)]
        file.close()
        return found

    plain, _ = timed(plain_read)
    return {"kerb": _store_seconds(path), "plain": plain, "library": "pye57, reading only"}


def transformed(count: int) -> dict:
    import pyproj

    from kerb.core.placing import TRANSFORM, Placing
    from kerb.core.reference import from_text

    points = terrain(count)
    placing = Placing(TRANSFORM, from_text("EPSG:25830"), from_text("EPSG:32631"))
    change = pyproj.Transformer.from_crs(25830, 32631, always_xy=True)
    plain, _ = timed(lambda: change.transform(points[:, 0], points[:, 1]))
    mapper = placing.mapper()
    seconds, _ = timed(lambda: mapper(points))
    return {"kerb": seconds, "plain": plain, "library": "pyproj"}


def surface(count: int) -> dict:
    """``count`` triangles of a LandXML surface."""
    from lxml import etree

    from kerb.core.reference import local_grid
    from kerb.core.surface.tin import Tin
    from kerb.core.units import METRE
    from kerb.formats.landxml_read import read_landxml
    from kerb.formats.landxml_write import LandXmlContent, write_landxml

    side = int(np.sqrt(count / 2)) + 1

    def write(path: Path) -> None:
        x, y = np.meshgrid(np.arange(side, dtype=float), np.arange(side, dtype=float))
        vertices = np.column_stack([x.ravel(), y.ravel(), np.sin(x.ravel() / 9)])
        number = np.arange(side * side).reshape(side, side)
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
        faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
        content = LandXmlContent(surfaces={"s": Tin.of(vertices, faces.astype(np.int32))})
        write_landxml(path, content, local_grid(METRE))

    path = _made(f"s-{count}.xml", write)
    plain, _ = timed(lambda: etree.parse(str(path)))
    seconds, _ = timed(lambda: read_landxml(path))
    return {"kerb": seconds, "plain": plain, "library": "lxml, parsing only"}


def examining(count: int) -> dict:
    """What the analyst waits for before the place check is there."""
    from bench.measures import laz
    from kerb.job.prospects import Samples, prospects_of, whereabouts
    from kerb.job.state import JobState

    path = laz(count)

    def look() -> object:
        prospect = prospects_of(path, JobState())[0]
        return whereabouts(prospect, Samples(), None)

    seconds, _ = timed(look)
    return {"kerb": seconds}


def overview(count: int) -> dict:
    from bench.measures import store
    from kerb.core.cloud.overview import overview_of

    cloud = store(count)
    seconds, _ = timed(lambda: overview_of(cloud, silent()))
    plain, _ = timed(lambda: (np.bincount(cloud.column("classification")), np.histogram(cloud.xyz[:, 2], 96)))
    return {"kerb": seconds, "plain": plain, "library": "NumPy, classes and elevations only"}
