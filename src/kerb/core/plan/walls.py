"""Straight lines and arcs fitted to the cells of a level slice, merged, brought together at corners."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
import shapely

from kerb.core.arrays import Floats, Ints
from kerb.core.plan.slice_cells import SliceCells
from kerb.core.progress import Progress

# Neighbours belong to one wall where it turns by less than this between them.
TURN = np.radians(25.0)
# A line fits where so many of its cells lie within the tolerance.
FITS = 0.95
# An arc spans so much at least, and its radius is at most so many times its chord.
LEAST_SPAN, WIDEST = np.radians(20.0), 4.0
# Two pieces of one wall face are joined over gaps of so many reaches of a cell, or so many times the spacing of points along
# them: points that lie by chance leave such gaps once in a hundred thousand; but over no more than so many reaches.
GAP, CHANCE, WIDEST_GAP = 1.5, 12.0, 5.0
# How far beyond its ends a line is followed, in reaches of a cell.
FOLLOWED = 6.0
SMALL_STEP = 1e-12


@dataclass(frozen=True)
class Wall:
    """A straight piece of wall from ``a`` to ``b`` or, with a ``centre`` and a ``radius``, an arc turning left from a to b.

    ``rms`` is how far its ``points`` lie off it, ``cells`` the numbers of those that carry it.
    """

    a: Floats
    b: Floats
    rms: float
    points: int
    cells: Ints
    centre: Floats | None = None
    radius: float = 0.0

    @property
    def way(self) -> Floats:
        """Unit vector from a to b."""
        step = self.b - self.a
        return np.asarray(step / max(float(np.hypot(*step)), SMALL_STEP))

    @property
    def span(self) -> float:
        """The angle that an arc turns by, radians; 0 of a straight piece."""
        if self.centre is None:
            return 0.0
        from_a, from_b = self.a - self.centre, self.b - self.centre
        return float((np.arctan2(from_b[1], from_b[0]) - np.arctan2(from_a[1], from_a[0])) % (2 * np.pi) or 2 * np.pi)

    @property
    def ways_out(self) -> Floats:
        """Unit vectors (2, 2) on from a and on from b."""
        if self.centre is None:
            return np.array([-self.way, self.way])
        at_a, at_b = (self.a - self.centre) / self.radius, (self.b - self.centre) / self.radius
        return np.array([[at_a[1], -at_a[0]], [-at_b[1], at_b[0]]])

    @property
    def length(self) -> float:
        """Length along it."""
        return self.radius * self.span if self.centre is not None else float(np.hypot(*(self.b - self.a)))

    def vertices(self, off: float) -> Floats:
        """The piece as a line (n, 2) whose chords lie no more than ``off`` from it."""
        if self.centre is None:
            return np.array([self.a, self.b])
        step = 2 * np.arccos(max(1 - off / self.radius, 0.0))
        many = max(2, int(np.ceil(self.span / max(step, 1e-3))) + 1)
        start = np.arctan2(*(self.a - self.centre)[::-1])
        angle = start + np.linspace(0, self.span, many)
        return np.asarray(self.centre + self.radius * np.column_stack([np.cos(angle), np.sin(angle)]))


@dataclass(frozen=True)
class Rules:
    """How walls are read, in the unit of the cells: how far points may lie off a line, the shortest line, whether arcs are looked
    for, and whether lines nearly square to the main direction are turned square (``square``, radians; 0: none)."""

    tolerance: float
    shortest: float
    arcs: bool = False
    square: float = 0.0


def drawn_wall(a: Floats, b: Floats) -> Wall:
    """A straight wall that no points carry, from place to place (2,)."""
    return Wall(a, b, float("nan"), 0, np.empty(0, np.int64))


def walls_of(cells: SliceCells, rules: Rules, progress: Progress, added: Sequence[Wall] = ()) -> list[Wall]:
    """The wall lines of a slice and those that are ``added``, longest first. Raises Cancelled."""
    found: list[Wall] = []
    pieces = list(_pieces(cells, np.flatnonzero(cells.on_walls), rules.tolerance))
    for number, piece in enumerate(pieces):
        if number % 64 == 0:
            progress.step(0.5 * number / len(pieces), "Fitting lines")
        found += _fitted(cells, piece, rules)
    progress.step(0.5, "Joining lines")
    found = _merged(cells, found, rules)
    found = _merged(cells, _all_lengthened(cells, found, rules), rules)
    found = [wall for wall in found if wall.length >= rules.shortest]
    if rules.square > 0:
        found = _squared(cells, found, rules.square)
    return sorted(_cornered([*found, *added], rules, cells.reach), key=lambda wall: -wall.length)


def _all_lengthened(cells: SliceCells, found: list[Wall], rules: Rules) -> list[Wall]:
    owner = np.full(len(cells.xy), -1)
    for number, wall in enumerate(found):
        owner[wall.cells] = number
    tree = scipy.spatial.cKDTree(cells.xy)
    return [_lengthened(cells, tree, wall, owner, rules) for wall in found]


def _pieces(cells: SliceCells, rows: Ints, tolerance: float) -> Iterator[Ints]:
    """Cells that belong together: near one another, running the same way, neither beside the other."""
    if len(rows) < 2:
        return
    xy, way = cells.xy[rows], cells.way[rows]
    pairs = scipy.spatial.cKDTree(xy).query_pairs(cells.reach, output_type="ndarray")
    one, other = pairs[:, 0], pairs[:, 1]
    turn = np.abs((way[one] - way[other] + np.pi / 2) % np.pi - np.pi / 2)
    step = xy[other] - xy[one]
    beside = np.abs(step[:, 1] * np.cos(way[one]) - step[:, 0] * np.sin(way[one]))
    keep = (turn < TURN) & (beside < np.maximum(2 * tolerance, 0.5 * cells.reach))
    graph = scipy.sparse.coo_matrix((np.ones(int(keep.sum()), bool), (one[keep], other[keep])), (len(rows), len(rows)))
    _, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    order = np.argsort(label, kind="stable")
    for own in np.split(order, np.flatnonzero(np.diff(label[order])) + 1):
        if len(own) > 2:
            yield rows[own]


def _fitted(cells: SliceCells, rows: Ints, rules: Rules) -> list[Wall]:
    """A line, an arc, or those of both halves of the cells."""
    wall = line_through(cells, rows)
    if len(rows) < 3 or wall.length < rules.shortest / 4:
        return []
    off = off_wall(wall, cells.xy[rows])
    if np.mean(off <= rules.tolerance) >= FITS:
        return [wall]
    if rules.arcs:
        arc = arc_through(cells, rows)
        if arc is not None and np.mean(off_wall(arc, cells.xy[rows]) <= rules.tolerance) >= FITS:
            return [arc]
    along = (cells.xy[rows] - cells.xy[rows].mean(axis=0)) @ wall.way
    worst = float(along[np.argmax(off)])
    before = int((along <= worst).sum())
    at = worst if 2 < before < len(rows) - 2 else float(np.median(along))
    halves = [rows[along <= at], rows[along > at]]
    if min(map(len, halves)) == 0:
        return []
    return [
        wall
        for half in halves
        for piece in _pieces(cells, half, rules.tolerance)
        for wall in _fitted(cells, piece, rules)
    ]


def line_through(cells: SliceCells, rows: Ints) -> Wall:
    """The line of least squares distances from the middles of cells; each counts the same, however near the scanner stood."""
    xy = cells.xy[rows]
    middle = xy.mean(axis=0)
    _, vectors = np.linalg.eigh((xy - middle).T @ (xy - middle))
    way = vectors[:, 1]
    along = (xy - middle) @ way
    rms = _rms(cells, rows, np.array([-way[1], way[0]]), middle)
    return Wall(middle + along.min() * way, middle + along.max() * way, rms, int(cells.count[rows].sum()), rows)


def _rms(cells: SliceCells, rows: Ints, normal: Floats, middle: Floats) -> float:
    """Root mean square distance of all points of cells from a line: of their middles, and of the points about those."""
    count = cells.count[rows]
    within = cells.spread[rows] @ np.array([normal[0] ** 2, 2 * normal[0] * normal[1], normal[1] ** 2])
    off = (cells.xy[rows] - middle) @ normal
    return float(np.sqrt((within.sum() + (count * off**2).sum()) / count.sum()))


def arc_through(cells: SliceCells, rows: Ints) -> Wall | None:
    """The circle of least squares distances, as the arc that the cells cover; None where they do not lie along one.

    The start is the algebraic fit of Kåsa (1976), then distances are made least.
    """
    xy = cells.xy[rows]
    middle = xy.mean(axis=0)
    local = xy - middle
    solved, *_ = np.linalg.lstsq(np.column_stack([2 * local, np.ones(len(xy))]), (local**2).sum(axis=1), rcond=None)
    size = float(np.ptp(local, axis=0).max())
    if not np.isfinite(solved).all() or np.hypot(*solved[:2]) > 10 * WIDEST * size:
        return None
    start = np.append(solved[:2], np.sqrt(max(solved[2] + solved[:2] @ solved[:2], SMALL_STEP)))

    def off_by(p: Floats) -> Floats:
        return np.asarray(np.hypot(*(local - p[:2]).T) - p[2])

    best = scipy.optimize.least_squares(off_by, start).x
    centre, radius = middle + best[:2], abs(float(best[2]))
    angle = np.sort(np.arctan2(*(xy - centre).T[::-1]))
    gaps = np.diff(np.append(angle, angle[0] + 2 * np.pi))
    widest = int(np.argmax(gaps))
    first, last = angle[(widest + 1) % len(angle)], angle[widest]
    span = (last - first) % (2 * np.pi)
    whole = gaps[widest] * radius <= _gap_of(cells, span * radius, int(cells.count[rows].sum()))
    span = 2 * np.pi if whole else span
    chord = 2 * radius * np.sin(min(span, np.pi) / 2)
    if span < LEAST_SPAN or radius > WIDEST * chord:
        return None
    off = np.hypot(*(xy - centre).T) - radius
    count = cells.count[rows]
    # Across a round wall, half of the spread of the points of a cell is taken as off the wall on average.
    spread = 0.5 * (cells.spread[rows, 0] + cells.spread[rows, 2])
    rms = float(np.sqrt((spread.sum() + (count * off**2).sum()) / count.sum()))
    at = lambda a: centre + radius * np.array([np.cos(a), np.sin(a)])  # noqa: E731
    ends = (at(first), at(first)) if whole else (at(first), at(last))
    return Wall(*ends, rms, int(count.sum()), rows, centre, radius)


def off_wall(wall: Wall, xy: Floats) -> Floats:
    """Distance of places (n, 2) from the line or circle of a wall."""
    if wall.centre is not None:
        return np.asarray(np.abs(np.hypot(*(xy - wall.centre).T) - wall.radius))
    way = wall.way
    return np.asarray(np.abs((xy - wall.a) @ np.array([-way[1], way[0]])))


def _merged(cells: SliceCells, walls: list[Wall], rules: Rules) -> list[Wall]:
    """Pieces of one wall face as one: the longest takes what lies in its line, with no more than a small gap between."""
    if not walls:
        return []
    pieces = sorted(walls, key=lambda wall: -wall.length)
    shapes = [shapely.LineString(wall.vertices(rules.tolerance)) for wall in pieces]
    near, far = shapely.STRtree(shapes), WIDEST_GAP * cells.reach
    taken = np.zeros(len(pieces), bool)
    done: list[Wall] = []
    for number, piece in enumerate(pieces):
        if taken[number]:
            continue
        taken[number], wall, shape, grown = True, piece, shapes[number], True
        while grown:
            grown = False
            around = near.query(shape, predicate="dwithin", distance=far + 1.5 * rules.tolerance)
            for other in np.sort(around[~taken[around]]).tolist():
                both = _joined(cells, wall, pieces[other], rules)
                if both is not None:
                    wall, grown, taken[other] = both, True, True
            shape = shapely.LineString(wall.vertices(rules.tolerance))
        done.append(wall)
    return done


def _gap(cells: SliceCells, *walls: Wall) -> float:
    """How wide a gap may be that points leave by chance along walls."""
    return _gap_of(cells, sum(wall.length for wall in walls), sum(wall.points for wall in walls))


def _gap_of(cells: SliceCells, length: float, points: int) -> float:
    spacing = length / max(points, 1)
    return min(max(GAP * cells.reach, CHANCE * spacing), WIDEST_GAP * cells.reach)


def _joined(cells: SliceCells, wall: Wall, other: Wall, rules: Rules) -> Wall | None:
    """Two pieces as one, where the other lies along the line or circle of the first, ends near it and fits with it."""
    ends, gap = np.array([other.a, other.b]), _gap(cells, wall, other)
    if wall.centre is None:
        along = (ends - wall.a) @ wall.way
        near = other.centre is None and along.min() <= wall.length + gap and along.max() >= -gap
    else:
        near = min(np.hypot(*(ends - end).T).min() for end in (wall.a, wall.b)) <= gap
    if not near or off_wall(wall, ends).max() > 1.5 * rules.tolerance:
        return None
    rows = np.concatenate([wall.cells, other.cells])
    both = line_through(cells, rows) if wall.centre is None else arc_through(cells, rows)
    fits = both is not None and np.mean(off_wall(both, cells.xy[rows]) <= rules.tolerance) >= FITS
    return both if fits else None


def _lengthened(cells: SliceCells, tree: scipy.spatial.cKDTree, wall: Wall, owner: Ints, rules: Rules) -> Wall:
    """A piece as far as cells that no other wall owns follow one another along it: near corners their direction was not clear."""
    far = FOLLOWED * cells.reach
    rows = np.unique(np.concatenate(tree.query_ball_point([wall.a, wall.b], far)).astype(np.int64))
    own = owner[wall.cells[0]]
    free = (off_wall(wall, cells.xy[rows]) <= rules.tolerance) & ((owner[rows] == own) | (owner[rows] < 0))
    rows = rows[free]
    place = _place_along(wall, cells.xy[rows])
    gap = _gap(cells, wall)
    more = _followed(np.sort(place[place > wall.length]), wall.length, gap)
    less = _followed(np.sort(-place[place < 0]), 0.0, gap)
    more_cells = rows[(place >= -less) & (place <= more) & (owner[rows] < 0)]
    if not len(more_cells):
        return wall
    owner[more_cells] = own
    rows = np.concatenate([wall.cells, more_cells])
    return line_through(cells, rows) if wall.centre is None else arc_through(cells, rows) or wall


def _place_along(wall: Wall, xy: Floats) -> Floats:
    """How far along a wall from its start places (n, 2) lie; beside an arc, before its start or beyond its end by the nearer."""
    if wall.centre is None:
        return np.asarray((xy - wall.a) @ wall.way)
    start = np.arctan2(*(wall.a - wall.centre)[::-1])
    angle = (np.arctan2(*(xy - wall.centre).T[::-1]) - start) % (2 * np.pi)
    before = angle > np.pi + wall.span / 2
    return np.asarray(wall.radius * np.where(before, angle - 2 * np.pi, angle))


def _followed(places: Floats, start: float, step: float) -> float:
    """The last of rising places that is reached from a start by steps no longer than ``step``."""
    steps = np.diff(np.append(start, places))
    stop = np.flatnonzero(steps > step)
    last = int(stop[0]) if len(stop) else len(places)
    return float(places[last - 1]) if last else start


def main_direction(walls: list[Wall]) -> float:
    """The direction that most of the length of straight walls follows or is square to, radians from 0 to π/2."""
    straight = [wall for wall in walls if wall.centre is None]
    if not straight:
        return 0.0
    angle = np.array([np.arctan2(*wall.way[::-1]) for wall in straight]) % (np.pi / 2)
    weight = np.array([wall.length for wall in straight])
    for width in (np.radians(5.0), np.radians(1.0)):
        apart = np.abs((angle[:, None] - angle + np.pi / 4) % (np.pi / 2) - np.pi / 4)
        best = int(np.argmax((weight * (apart < width)).sum(axis=1)))
        near = apart[best] < width
        angle, weight = angle[near], weight[near]
    return float(np.angle((weight * np.exp(4j * angle)).sum()) / 4 % (np.pi / 2))


def _squared(cells: SliceCells, walls: list[Wall], most: float) -> list[Wall]:
    """Straight walls within an angle of the main direction, or of the square to it, are turned into it about their middle."""
    main = main_direction(walls)
    made = []
    for wall in walls:
        angle = float(np.arctan2(*wall.way[::-1]))
        off = (angle - main + np.pi / 4) % (np.pi / 2) - np.pi / 4
        if wall.centre is not None or abs(off) > most:
            made.append(wall)
            continue
        way = np.array([np.cos(angle - off), np.sin(angle - off)])
        middle = cells.xy[wall.cells].mean(axis=0)
        a, b = ((end - middle) @ way * way + middle for end in (wall.a, wall.b))
        made.append(replace(wall, a=a, b=b, rms=_rms(cells, wall.cells, np.array([-way[1], way[0]]), middle)))
    return made


def _cornered(walls: list[Wall], rules: Rules, reach: float) -> list[Wall]:
    """Ends of straight pieces that nearly meet are brought to the place where their lines cross."""
    ends = [(k, side) for k, wall in enumerate(walls) if wall.centre is None for side in "ab"]
    if len(ends) < 2:
        return walls
    places = np.array([getattr(walls[k], side) for k, side in ends])
    far = 4 * reach + 2 * rules.tolerance
    pairs = scipy.spatial.cKDTree(places).query_pairs(far, output_type="ndarray")
    apart = np.hypot(*(places[pairs[:, 0]] - places[pairs[:, 1]]).T)
    made, used = list(walls), set()
    for one, other in pairs[np.argsort(apart, kind="stable")].tolist():
        if one in used or other in used or ends[one][0] == ends[other][0]:
            continue
        (first, side), (second, beside) = ends[one], ends[other]
        meet = crossing(walls[first], walls[second])
        if meet is None and _facing(walls[first], side, walls[second], beside):
            meet = (places[one] + places[other]) / 2
        if meet is None or max(np.hypot(*(meet - places[one])), np.hypot(*(meet - places[other]))) > far:
            continue
        used |= {one, other}
        made[first] = _ending(made[first], side, meet)
        made[second] = _ending(made[second], beside, meet)
    return _met(made, [ends[k] for k in range(len(ends)) if k not in used], far)


def _ending(wall: Wall, side: str, place: Floats) -> Wall:
    return replace(wall, a=place) if side == "a" else replace(wall, b=place)


def _facing(one: Wall, side: str, other: Wall, beside: str) -> bool:
    """Whether two lines that run nearly the same way go on from one another, as chords of a round wall do."""
    on, back = one.ways_out["ab".index(side)], other.ways_out["ab".index(beside)]
    return float(on @ back) < 0 and float(on @ (getattr(other, beside) - getattr(one, side))) > -one.length / 2


def _met(walls: list[Wall], loose: list[tuple[int, str]], far: float) -> list[Wall]:
    """With ends that stop close to another straight wall, or run a little beyond it, ending on it."""
    made = list(walls)
    index = shapely.STRtree([shapely.LineString([wall.a, wall.b]) for wall in walls])
    for number, side in loose:
        place = getattr(walls[number], side)
        best, nearest = None, far
        for other in index.query(shapely.Point(place), predicate="dwithin", distance=far).tolist():
            meet = crossing(walls[number], walls[other]) if walls[other].centre is None else None
            away = float(np.hypot(*(meet - place))) if meet is not None else np.inf
            if away <= nearest:
                best, nearest = meet, away
        if best is not None:
            made[number] = _ending(made[number], side, best)
    return made


def crossing(one: Wall, other: Wall) -> Floats | None:
    """Where the lines of two straight pieces cross; None where they run within 10° of one another."""
    turn = float(one.way[0] * other.way[1] - one.way[1] * other.way[0])
    if abs(turn) < np.sin(np.radians(10.0)):
        return None
    step = other.a - one.a
    return np.asarray(one.a + one.way * (step[0] * other.way[1] - step[1] * other.way[0]) / turn)
