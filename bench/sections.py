"""Sections and accuracy measured, beside plain NumPy, trimesh and SciPy."""

from __future__ import annotations

import numpy as np

from bench.shared import FAR, timed
from kerb.core.accuracy.beneath import HowBeneath, beneath_all
from kerb.core.cloud.view import CloudView
from kerb.core.parallel import each
from kerb.core.progress import silent
from kerb.core.section.cut import cut
from kerb.core.section.frame import Frame, frames
from kerb.core.section.slab import line_of, slab
from kerb.core.section.stations import alignment_of, whole_stations

WIDTH, THICKNESS, STEP = 40.0, 0.5, 0.2


def _line(cloud):
    """A line through the middle of the bench's terrain, and its sections."""
    low, high = cloud.bounds
    middle = (low[1] + high[1]) / 2
    return alignment_of(np.array([[low[0] + 1, middle], [high[0] - 1, middle]]))


def _one(view, frame):
    return line_of(slab(view, frame), frame.width, STEP, "median")


def stepping(count: int) -> dict:
    """Seconds a section while one steps through a cloud, and by a mask over all points held in memory."""
    from bench.measures import store

    cloud = store(count)
    view, line = CloudView(cloud), _line(cloud)
    series = frames(line, np.linspace(0, line.length, 41)[1:-1], WIDTH, THICKNESS)
    _one(view, series[0])
    times = [timed(lambda f=f: _one(view, f))[0] for f in series]
    every = cloud.coordinates(slice(0, cloud.count))

    def plain():
        local = series[20].local(every)
        return local[(np.abs(local[:, 0]) <= WIDTH / 2) & (np.abs(local[:, 1]) <= THICKNESS / 2)]

    return {"kerb": float(np.median(times)), "library": timed(plain)[0], "also": {"slowest": max(times)}}


def series(count: int) -> dict:
    """Seconds of 200 sections."""
    from bench.measures import store

    cloud = store(count)
    view, line = CloudView(cloud), _line(cloud)
    stations = whole_stations(line, line.length / 200)[:200]
    seconds, _ = timed(lambda: each(lambda f: _one(view, f), frames(line, stations, WIDTH, THICKNESS), silent(), ""))
    return {"kerb": seconds}


def cutting(triangles: int) -> dict:
    """A plane through so many triangles, beside trimesh's section."""
    import trimesh

    side = int(np.sqrt(triangles / 2)) + 1
    xy = np.stack(np.meshgrid(np.arange(side) * 0.5, np.arange(side) * 0.5), -1).reshape(-1, 2)
    vertices = np.column_stack([xy, np.sin(xy[:, 0]) + np.cos(xy[:, 1])]) + FAR
    number = np.arange(side * side).reshape(side, side)
    a, b, c, d = (part.ravel() for part in (number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]))
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    frame = Frame(0.0, tuple((FAR[:2] + side / 4 + 0.13).tolist()), 0.4, 4.0 * side, 1.0)
    cut(frame, vertices, faces[:100])
    ours = min(timed(lambda: cut(frame, vertices, faces))[0] for _ in range(3))
    mesh = trimesh.Trimesh(vertices, faces, process=False)
    theirs, _ = timed(lambda: mesh.section([*frame.ahead, 0.0], [*frame.place, 0.0]))
    return {"kerb": ours, "library": theirs}


def checkpoints(count: int) -> dict:
    """Heights at ten thousand points by all ways."""
    from bench.measures import store

    cloud = store(count)
    view, rng = CloudView(cloud), np.random.default_rng(1)
    low, high = cloud.bounds
    places = rng.uniform(low[:2] + 2, high[:2] - 2, (10_000, 2))
    how = HowBeneath(6, 4 * cloud.spacing)
    beneath_all(view, places[:20], how, silent())
    seconds, _ = timed(lambda: beneath_all(view, places, how, silent()))
    return {"kerb": seconds}
