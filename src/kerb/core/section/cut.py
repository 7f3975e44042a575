"""Where a plane cuts triangles, exactly: segments, and the lines they make."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats, Ints, Ints32
from kerb.core.section.cut_kernels import crossings
from kerb.core.section.frame import Frame


def cut(frame: Frame, vertices: Floats, triangles: Ints32) -> list[Floats]:
    """The lines in which a section's plane cuts triangles: (n, 2) offset and elevation each, within its width.

    ``vertices`` (n, 3) are in job coordinates. Lines run on through shared edges; closed ones repeat their first place.
    """
    local = frame.local(vertices)
    ends, shares = np.empty((len(triangles), 2, 2), np.int64), np.empty((len(triangles), 2))
    count = crossings(np.ascontiguousarray(local[:, 1]), triangles, ends, shares)
    ends, shares = ends[:count], shares[:count]
    places = _between(local[:, [0, 2]], ends, shares)
    return _clipped(_chained(ends, places), frame.width / 2)


def _between(flat: Floats, ends: Ints, shares: Floats) -> Floats:
    a, b = flat[ends[:, :, 0]], flat[ends[:, :, 1]]
    return np.asarray(a + shares[:, :, None] * (b - a))


def _chained(ends: Ints, places: Floats) -> list[Floats]:
    """Segments joined where they end on the same edge."""
    if not len(ends):
        return []
    key = ends[:, :, 0] * (int(ends.max()) + 1) + ends[:, :, 1]
    _, node = np.unique(key, return_inverse=True)
    node = node.reshape(-1, 2)
    at = np.empty((int(node.max()) + 1, 2))
    at[node] = places
    beside: dict[int, list[int]] = {}
    for row, (a, b) in enumerate(node.tolist()):
        beside.setdefault(a, []).append(row)
        beside.setdefault(b, []).append(row)
    used = np.zeros(len(node), bool)
    lines: list[Floats] = []
    # From loose ends first; what is left are rings.
    order = sorted(beside, key=lambda n: len(beside[n]) != 1)
    for start in order:
        while True:
            number: int | None = next((s for s in beside[start] if not used[s]), None)
            if number is None:
                break
            chain, here = [start], start
            while number is not None:
                used[number] = True
                here = int(node[number].sum()) - here
                chain.append(here)
                number = next((s for s in beside[here] if not used[s]), None)
            lines.append(at[chain])
    return lines


def _clipped(lines: list[Floats], half: float) -> list[Floats]:
    """The parts of lines between two offsets."""
    import shapely

    found: list[Floats] = []
    for line in lines:
        if np.abs(line[:, 0]).max() <= half:
            found.append(line)
        elif line[:, 0].min() < half and line[:, 0].max() > -half:
            low, high = float(line[:, 1].min()) - 1.0, float(line[:, 1].max()) + 1.0
            part = shapely.intersection(shapely.LineString(line), shapely.box(-half, low, half, high))
            pieces = getattr(part, "geoms", [part])
            found += [shapely.get_coordinates(p) for p in pieces if p.geom_type == "LineString" and p.length > 0]
    return found


def joined_by_gaps(lines: list[Floats]) -> Floats:
    """Lines (n, 2) as one with NaN between them, from left to right where they can be ordered so."""
    ordered = sorted(
        (line if line[0, 0] <= line[-1, 0] else line[::-1] for line in lines), key=lambda line: float(line[0, 0])
    )
    parts: list[Floats] = []
    for line in ordered:
        if parts:
            parts.append(np.array([[line[0, 0], np.nan]]))
        parts.append(line)
    return np.concatenate(parts) if parts else np.empty((0, 2))
