"""Rooms: the areas that wall lines enclose, door openings bridged."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats
from kerb.core.plan.walls import Wall, off_wall

# An area that is nowhere wider than this many metres is the inside of a wall; a smaller one than this is none (m²).
WALL_WIDTH, LEAST_AREA = 0.6, 1.0
# Bridges turn off the walls they go on from by no more than this.
BRIDGE_TURN = np.radians(5.0)
# Ends are joined round a bend within so many tolerances (its cosine at least so much); lines that end on another may stop
# short by this share of an opening.
JOIN, BEND, TOUCH = 8.0, 0.5, 1e-6
# Round a bend an opening may be longer by this factor; chords there turn by no more than this, in radians.
BENT, BEND_STEP = 1.2, 0.02


@dataclass(frozen=True)
class Room:
    """An area that walls enclose: ``rings`` its outline and what is cut out of it, without a doubled last vertex."""

    rings: tuple[Floats, ...]
    area: float
    perimeter: float
    middle: Floats


def rooms_of(walls: list[Wall], opening: float, tolerance: float, metre: float) -> list[Room]:
    """Rooms from the north to the south and from the west to the east.

    Gaps up to ``opening`` between ends in one line, and from an end to the wall before it, are closed for this; ``metre`` is the
    length of a metre in the unit of the walls. Areas are those between the wall faces.
    """
    lines = [shapely.LineString(wall.vertices(tolerance / 100)) for wall in walls]
    lines += [shapely.LineString(ends) for ends in bridges(walls, opening, tolerance)]
    if not lines:
        return []
    net = shapely.node(shapely.set_precision(shapely.union_all(lines), tolerance / 1000))
    found = []
    for face in shapely.polygonize(list(shapely.get_parts(net))).geoms:
        if face.area >= LEAST_AREA * metre**2 and not face.buffer(-WALL_WIDTH / 2 * metre).is_empty:
            found.append(face)
    made = [_room(face, tolerance) for face in found]
    step = max(opening, 10 * tolerance)
    return sorted(made, key=lambda room: (-round(float(room.middle[1]) / step), float(room.middle[0])))


def _room(face: shapely.Polygon, tolerance: float) -> Room:
    plain = face.simplify(tolerance / 100)
    assert isinstance(plain, shapely.Polygon)
    rings = tuple(np.asarray(ring.coords)[:-1, :2] for ring in (plain.exterior, *plain.interiors))
    inner = shapely.maximum_inscribed_circle(face, tolerance).coords[0]
    return Room(rings, float(face.area), float(face.exterior.length), np.asarray(inner[:2]))


def bridges(walls: list[Wall], opening: float, tolerance: float) -> list[Floats]:
    """Short lines (n, 2) over openings: between the ends of two pieces of one wall face, round its bend where it has one, and
    from a loose end on to what it runs against."""
    return _bridged(walls, opening, tolerance)[0]


def open_ends(walls: list[Wall], opening: float, tolerance: float) -> int:
    """How many ends of walls meet no other wall, openings closed."""
    return _bridged(walls, opening, tolerance)[1]


def _bridged(walls: list[Wall], opening: float, tolerance: float) -> tuple[list[Floats], int]:
    walls = [wall for wall in walls if wall.span < 2 * np.pi]
    if not walls:
        return [], 0
    made, ends = [], np.array([[wall.a, wall.b] for wall in walls]).reshape(-1, 2)
    out = np.array([wall.ways_out for wall in walls]).reshape(-1, 2)
    tree = scipy.spatial.cKDTree(ends)
    bound: set[int] = set()
    pairs = tree.query_pairs(max(opening, JOIN * tolerance), output_type="ndarray")
    length = np.hypot(*(ends[pairs[:, 0]] - ends[pairs[:, 1]]).T)
    for one, other in pairs[np.argsort(length, kind="stable")].tolist():
        gap = ends[other] - ends[one]
        long = float(np.hypot(*gap))
        if {one, other} & bound:
            continue
        bend = _round_the_bend(walls, one, other, ends, (BENT * max(opening, JOIN * tolerance), tolerance))
        if bend is not None:
            bound |= {one, other}
            made.append(bend)
        elif one // 2 == other // 2:
            continue
        elif long < tolerance or _go_on(out[one], out[other], gap / long, (long, tolerance)):
            bound |= {one, other}
            made += [np.array([ends[one], ends[other]])] if long > 0 else []
    lines = [shapely.LineString(wall.vertices(tolerance)) for wall in walls]
    index = shapely.STRtree(lines)
    loose = 0
    for end in sorted(set(range(len(ends))) - bound):
        meet = _stopped(lines, end, ends[end], out[end], max(opening, tolerance), index)
        if meet is not None:
            made.append(np.array([ends[end], meet]))
        loose += meet is None
    return made, loose


def _round_the_bend(walls: list[Wall], one: int, other: int, ends: Floats, most: tuple[float, float]) -> Floats | None:
    """The way (n, 2) along the circle from an end of an arc to the nearer end of a further piece of it, or to its own other end.
    None where they are not of one circle, or farther apart than ``most``, the length of a gap and the tolerance."""
    if walls[one // 2].centre is None:
        one, other = other, one
    wall, longest, tolerance = walls[one // 2], *most
    if wall.centre is None:
        return None
    far = other ^ 1
    first, near, last = (np.arctan2(*(ends[k] - wall.centre)[::-1]) for k in (one, other, far))
    side = 1.0 if one % 2 else -1.0
    turn, beyond = ((angle - first) * side % (2 * np.pi) for angle in (near, last))
    own = one // 2 == other // 2
    if (
        off_wall(wall, ends[[other, far]]).max() > 2 * tolerance
        or turn * wall.radius > longest
        or not (own or turn < beyond)
    ):
        return None
    angle = first + side * np.linspace(0.0, turn, 2 + int(turn / BEND_STEP))
    way = wall.centre + wall.radius * np.column_stack([np.cos(angle), np.sin(angle)])
    way[0], way[-1] = ends[one], ends[other]
    return np.asarray(way)


def _go_on(out: Floats, back: Floats, step: Floats, size: tuple[float, float]) -> bool:
    """Whether ends whose walls go on along ``out`` and ``back`` are of one wall over a gap along ``step``: straight on but for
    the tolerance on either side, or round a bend where the gap is small. ``size`` is the length of the gap and the tolerance."""
    long, tolerance = size
    if long < JOIN * tolerance:
        return float(out @ step) > BEND and float(back @ step) < -BEND
    aside = np.sin(BRIDGE_TURN) + 2 * tolerance / long
    return all(
        float(way @ side) > 0 and abs(float(way[0] * side[1] - way[1] * side[0])) <= aside
        for way, side in ((out, step), (back, -step))
    )


def _stopped(
    lines: list[shapely.LineString], end: int, place: Floats, out: Floats, opening: float, index: shapely.STRtree
) -> Floats | None:
    """Where the way on from a loose end meets the nearest other wall within an opening; None where it meets none."""
    reach = shapely.LineString([place - TOUCH * opening * out, place + opening * out])
    best, nearest = None, np.inf
    for k in index.query(reach, predicate="intersects").tolist():
        met = shapely.get_coordinates(reach.intersection(lines[k])) if k != end // 2 else np.empty((0, 2))
        for meet in met:
            away = float((meet - place) @ out)
            if away < nearest:
                # A little beyond, so that the lines cross for certain.
                best, nearest = meet + TOUCH * opening * out, away
    return best
