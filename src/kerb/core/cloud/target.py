"""The centre of a painted or paper target: where four fields in a chequer meet, or what differs in brightness from what is round
it."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, Ints, Mask
from kerb.core.cloud.store import CloudStore
from kerb.core.errors import NotDeterminable
from kerb.core.robust import spread

FEWEST, ENOUGH = 30, 100_000
# Places across the circle: each counts once, and is as bright as the nearest point.
ACROSS = 90
# Discs in which a chequer is looked for, of the reach, and how much of one must answer as a chequer does (0 to 1).
DISCS, LEAST_ANSWER = 0.7 ** np.arange(1, 7), 0.6
# Turns from which a chequer is fitted, the share of brightness that it must tell, and the points in each of its fields.
TURNS, LEAST_TOLD, FEWEST_A_FIELD = 24, 0.5, 8
# How sharp edges are, one over their blur in radii: as a logarithm at first, too blurred, and the most; and as good as without.
START, BLURRED, SHARPEST, VERY_SHARP = 2.3, 0.7, 4.6, 1e6
# Bright and dark must differ by so many times their own spread (halves of one normal distribution do by 2.3), and the mark
# must have so much of the circle.
CLEARLY, LEAST_SHARE, MOST_SHARE = 4.0, 0.02, 0.6
UNFIT = "the mark fills too much or too little of the circle; zoom so that it lies well inside"


@dataclass(frozen=True)
class Target:
    """Where the middle of the mark lies (2,), whether it is brighter than what is round it, and its share of the circle."""

    place: tuple[float, float]
    brighter: bool
    share: float

    @property
    def words(self) -> str:
        """What was found, in words."""
        return f"a {'bright' if self.brighter else 'dark'} target, {100 * self.share:.0f} % of the circle"


@dataclass(frozen=True)
class Chequer:
    """Where the four fields meet (2,), by how much (radians, 0 to π/2) an edge of them is turned from the first axis, and the
    radius within which they were looked at."""

    place: tuple[float, float]
    turn: float
    radius: float

    @property
    def words(self) -> str:
        """What was found, in words."""
        return "a chequered target, where its four fields meet"


def brightness_of(store: CloudStore, rows: Ints) -> Floats | None:
    """How bright some points are, (n,): their intensity, else the mean of their colours; None where a cloud has neither."""
    if store.has("intensity"):
        return np.asarray(store.column("intensity")[rows], float)
    if store.has("red"):
        return np.mean([np.asarray(store.column(name)[rows], float) for name in ("red", "green", "blue")], axis=0)
    return None


def middle_of(xy: Floats, brightness: Floats, radius: float) -> Chequer | Target:
    """The middle of a painted target in a circle about the origin: of a chequer within half of it, else of a mark that stands
    out. Raises NotDeterminable."""
    with suppress(NotDeterminable):
        return chequer(xy, brightness, radius / 2)
    return target(xy, brightness, radius)


def chequer(xy: Floats, brightness: Floats, reach: float) -> Chequer:
    """Where four fields, dark and bright in turn, meet within a reach of the origin, by points (n, 2) and their brightness (n,).

    About its middle a chequer is the same turned by half a circle and the opposite turned by a quarter, whatever way it hangs;
    where that holds best on a raster of the nearest points, in the largest disc in which it does, edges as blurred as may be are
    fitted to the points by least squares, without much weight of those that stray. Raises NotDeterminable.
    """
    xy, brightness = _inside(xy, brightness, 2 * reach)
    light = np.where(brightness > otsu(brightness), 1.0, -1.0)
    at, step = np.linspace(-2 * reach, 2 * reach, ACROSS, retstep=True)
    east, north = np.meshgrid(at, at)
    tree = scipy.spatial.cKDTree(xy)
    raster = light[tree.query(np.column_stack([east.ravel(), north.ravel()]))[1]].reshape(ACROSS, ACROSS)
    off = np.hypot(east, north) > reach
    for disc in DISCS:
        radius = disc * reach
        answer = _answer(raster, max(3, round(radius / step)))
        answer[off] = -np.inf
        best = np.unravel_index(int(np.argmax(answer)), answer.shape)
        if answer[best] < LEAST_ANSWER:
            continue
        middle = np.array([east[best], north[best]])
        mine = _near(xy - middle, radius)
        with suppress(NotDeterminable):
            return _fitted(xy[mine], brightness[mine], middle, radius)
    raise NotDeterminable("no four fields, dark and bright in turn, meet there")


def _answer(raster: Floats, cells: int) -> Floats:
    """How much a raster of +1 and -1 is a chequer about each of its cells in a disc of so many: 1 where it is one."""
    wide = np.pad(raster, cells)
    size = len(raster)

    def moved(i: int, j: int) -> Floats:
        return wide[cells + i : cells + i + size, cells + j : cells + j + size]

    # A quarter of the disc, each place with those that quarter turns make of it; none next to the edges' crossing.
    side = range(cells + 1)
    ways = [(i, j) for i in side for j in side[1:] if 1.5 < np.hypot(i, j) <= cells]
    found = [(moved(i, j) + moved(-i, -j)) * (moved(-j, i) + moved(j, -i)) for i, j in ways]
    return -np.mean(found, axis=0) / 4


def _fitted(xy: Floats, brightness: Floats, middle: Floats, radius: float) -> Chequer:
    if not np.ptp(brightness):
        raise NotDeterminable("all points there are alike in brightness")
    value, local = scipy.stats.zscore(brightness), (xy - middle) / radius

    def fields(p: Floats, sharp: float) -> Floats:
        u, v = local[:, 0] - p[0], local[:, 1] - p[1]
        along, across = np.cos(p[2]) * u + np.sin(p[2]) * v, np.cos(p[2]) * v - np.sin(p[2]) * u
        return np.asarray(np.tanh(along * sharp) * np.tanh(across * sharp))

    def rest(p: Floats) -> Floats:
        return np.asarray(p[4] + p[5] * fields(p, np.exp(np.minimum(p[3], SHARPEST))) - value)

    starts = [np.array([0.0, 0.0, turn, START, 0.0, 1.0]) for turn in np.linspace(0.0, np.pi, TURNS)]
    start = min(starts, key=lambda p: float(np.sum(rest(p) ** 2)))
    p = scipy.optimize.least_squares(rest, start, loss="soft_l1").x
    told, sharp = 1 - float(np.mean(rest(p) ** 2)), fields(p, VERY_SHARP)
    fewest = min(np.count_nonzero(sharp > 0), np.count_nonzero(sharp < 0))
    if told < LEAST_TOLD or fewest < 2 * FEWEST_A_FIELD or p[3] < BLURRED:
        raise NotDeterminable("what is dark and bright there is no chequer of four fields")
    x, y = (middle + radius * p[:2]).tolist()
    return Chequer((x, y), float(p[2] % (np.pi / 2)), radius)


def target(xy: Floats, brightness: Floats, radius: float) -> Target:
    """The middle of the mark in a circle about the origin, by points (n, 2) and their brightness (n,).

    The threshold is Otsu's (1979) between the two classes; the mark is the class that lies further in. Its middle is that of the
    places it covers, so that uneven density does not pull it. Raises NotDeterminable where nothing stands out.
    """
    xy, brightness = _inside(xy, brightness, radius)
    limit = otsu(brightness)
    bright = brightness > limit
    if not bright.any() or bright.all():
        raise NotDeterminable("all points in the circle are alike in brightness")
    wide = max(spread(brightness[bright]), spread(brightness[~bright]))
    if np.median(brightness[bright]) - np.median(brightness[~bright]) < CLEARLY * wide:
        raise NotDeterminable("no mark stands out in brightness in the circle")
    at = np.linspace(-radius, radius, ACROSS)
    places = np.column_stack([a.ravel() for a in np.meshgrid(at, at)])
    places = places[_near(places, radius)]
    light = bright[scipy.spatial.cKDTree(xy).query(places)[1]]
    part = float(light.mean())
    if not LEAST_SHARE <= part <= 1 - LEAST_SHARE:
        raise NotDeterminable(UNFIT)
    further_in = np.hypot(*places[light].T).mean() < np.hypot(*places[~light].T).mean()
    mine = places[light if further_in else ~light]
    part = part if further_in else 1 - part
    if part > MOST_SHARE:
        raise NotDeterminable(UNFIT)
    # Single points that are too bright or dark elsewhere do not pull it.
    middle = np.median(mine, axis=0)
    reach = 1.5 * np.sqrt(part) * radius
    for _ in range(3):
        middle = mine[_near(mine - middle, reach)].mean(axis=0)
    return Target((float(middle[0]), float(middle[1])), bool(further_in), part)


def _near(xy: Floats, radius: float) -> Mask:
    return np.asarray(np.hypot(*xy.T) <= radius)


def _inside(xy: Floats, brightness: Floats, radius: float) -> tuple[Floats, Floats]:
    """The points in a circle about the origin; of very many so many as tell as much. Raises NotDeterminable."""
    rows = np.flatnonzero(_near(xy, radius))
    if len(rows) < FEWEST:
        raise NotDeterminable(f"{len(rows)} points lie there, a target needs {FEWEST}")
    rows = rows[:: max(1, len(rows) // ENOUGH)]
    return xy[rows], np.asarray(brightness, float)[rows]


def otsu(values: Floats, bins: int = 64) -> float:
    """The threshold that parts values best in two: that of the greatest variance between them (Otsu 1979)."""
    counts, edges = np.histogram(values, bins)
    middle = (edges[:-1] + edges[1:]) / 2
    below, total = np.cumsum(counts)[:-1], counts.sum()
    first = np.cumsum(counts * middle)[:-1]
    above = total - below
    with np.errstate(invalid="ignore", divide="ignore"):
        between = below * above * (first / below - ((counts * middle).sum() - first) / above) ** 2
    between = np.nan_to_num(between)
    # Of many that are alike (a gap between the classes) the middle one.
    best = np.flatnonzero(between >= between.max() * (1 - 1e-12))
    return float(edges[1:-1][best].mean())
