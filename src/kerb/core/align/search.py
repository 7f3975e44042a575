"""A start for clouds that lie far apart but upright: turns about the upright and shifts, by how their heights go together.

Both are seen as grids of mean heights; for each turn all shifts are tried at once by masked normalised cross-correlation in the
Fourier domain (D. Padfield, Masked object registration in the Fourier domain, IEEE Trans. Image Processing 21, 2012, recalled).
Correlations over different overlaps are held against one another by Fisher's z, artanh(r) √(n − 3), of cells that are not alike.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from kerb.core.arrays import Floats, ends
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.rigid import Rigid
from kerb.core.parallel import each
from kerb.core.progress import Progress

CELLS_ALONG = 128
COARSE_TURNS, FINE_STEP, FINE_SIDE = 72, 1.0, 5
LEAST_SHARE = 0.2
FEWEST_CELLS = 40
LEAST_CORRELATION = 0.3
SHARES, ROOM = (0.5, 99.5), 0.25
# Another place is as good when its artanh(r) reaches so much of the best one's, whatever they overlap, and other when it is
# turned or shifted by so much.
AS_GOOD, OTHER_TURN, OTHER_CELLS = 0.9, 12.0, 6


@dataclass(frozen=True)
class Start:
    """Where to start from: the motion, how well heights go together (r), over which share of the smaller cloud, and the turn of
    another start that is nearly as good, in degrees; None where there is none."""

    motion: Rigid
    correlation: float
    overlap: float
    other: float | None


@dataclass(frozen=True)
class _Seen:
    """The best shift for a turn: z score, correlation, overlap, cells east and north."""

    score: float
    correlation: float
    overlap: float
    shift: tuple[int, int]
    turn: float


def upright_start(moving: Floats, fixed: Floats, progress: Progress) -> Start:
    """Turn about the upright and shift that bring ``moving`` (n, 3) to ``fixed`` (m, 3), coarsely: to a cell or so.

    Raises NotDeterminable, when no place is much better than chance; Cancelled.
    """
    moving, fixed = _usual(moving), _usual(fixed)
    middles = moving.mean(axis=0), fixed.mean(axis=0)
    local, target = moving - middles[0], fixed - middles[1]
    low, high = ends(target[:, :2])
    reach = float(np.hypot(*local[:, :2].T).max())
    cell = max(float((high - low).max()), 2 * reach) / CELLS_ALONG
    side = scipy.fft.next_fast_len(int(np.ceil((float((high - low).max()) + 2 * reach) / cell)) + 2, real=True)
    ground = _Grid.of(target, low, cell, side)

    def at(turn: float) -> _Seen:
        way = np.radians(turn)
        matrix = np.array([[np.cos(way), -np.sin(way)], [np.sin(way), np.cos(way)]])
        turned = np.column_stack([local[:, :2] @ matrix.T, local[:, 2]])
        return _best(ground, _Grid.of(turned, np.array([-reach, -reach]), cell, side), turn)

    turns = np.arange(COARSE_TURNS) * 360.0 / COARSE_TURNS
    seen = each(at, turns.tolist(), progress.within(0.0, 0.8), "Searching for a start")
    best = max(seen, key=lambda one: one.score)
    best = max([best, *each(at, _near(best.turn), progress.within(0.8, 0.9), "Searching for a start")], key=_score)
    if not best.correlation >= LEAST_CORRELATION:
        raise NotDeterminable(
            "no turn and shift was found at which the heights of both go together; give pairs or a start"
        )
    # The best of the others, looked at as closely: coarse turns miss its peak.
    others = sorted((one for one in seen if _apart(one, best)), key=_score)
    if others and others[-1].score > 0.5 * best.score:
        finer = each(at, _near(others[-1].turn), progress.within(0.9, 1.0), "Searching for a start")
        alike = AS_GOOD * np.arctanh(min(best.correlation, 0.999))
        others = [one for one in finer if _apart(one, best) and np.arctanh(min(one.correlation, 0.999)) >= alike]
    else:
        others = []
    way = np.radians(best.turn)
    matrix = np.array([[np.cos(way), -np.sin(way), 0], [np.sin(way), np.cos(way), 0], [0, 0, 1.0]])
    shift = np.array([*(low + cell * np.array(best.shift) + reach), 0.0])
    turned = local @ matrix.T + shift
    # Raised by the median difference of heights in shared cells.
    brought = _Grid.of(turned, low, cell, side)
    both = (brought.there > 0) & (ground.there > 0)
    shift[2] = float(np.median((ground.heights - brought.heights)[both]))
    motion = Rigid.of(matrix, middles[0], middles[1] + shift - middles[0])
    return Start(motion, best.correlation, best.overlap, max(others, key=_score).turn if others else None)


def _score(seen: _Seen) -> float:
    return seen.score


def _near(turn: float) -> list[float]:
    return [turn + FINE_STEP * k for k in range(-FINE_SIDE + 1, FINE_SIDE)]


def _usual(points: Floats) -> Floats:
    """Without points far out: a bird would be a height like any other."""
    low, high = np.percentile(points, SHARES, axis=0)
    room = ROOM * (high - low) + 1e-9
    return points[((points >= low - room) & (points <= high + room)).all(axis=1)]


def _apart(one: _Seen, other: _Seen) -> bool:
    turn = abs((one.turn - other.turn + 180) % 360 - 180)
    return turn > OTHER_TURN or max(abs(a - b) for a, b in zip(one.shift, other.shift, strict=True)) > OTHER_CELLS


@dataclass(frozen=True)
class _Grid:
    """Mean heights of cells, nought where there are none, and their spectra: heights, squares, and which cells there are."""

    heights: Floats
    there: Floats
    spectra: tuple[np.ndarray, np.ndarray, np.ndarray]

    @staticmethod
    def of(points: Floats, low: Floats, cell: float, side: int) -> _Grid:
        place = np.floor((points[:, :2] - low) / cell).astype(np.int64)
        inside = ((place >= 0) & (place < side)).all(axis=1)
        flat = place[inside, 1] * side + place[inside, 0]
        count = np.bincount(flat, minlength=side * side)
        total = np.bincount(flat, points[inside, 2], side * side)
        there = (count > 0).astype(float).reshape(side, side)
        heights = (total / np.maximum(count, 1)).reshape(side, side)
        spectra = tuple(scipy.fft.rfft2(image) for image in (heights, heights**2, there))
        return _Grid(heights, there, (spectra[0], spectra[1], spectra[2]))


def _best(fixed: _Grid, moving: _Grid, turn: float) -> _Seen:
    side = fixed.there.shape

    def together(one: np.ndarray, other: np.ndarray) -> Floats:
        return np.asarray(scipy.fft.irfft2(one * np.conj(other), side))

    (f, ff, m), (g, gg, k) = fixed.spectra, moving.spectra
    n = np.round(together(m, k))
    enough = n >= max(LEAST_SHARE * min(fixed.there.sum(), moving.there.sum()), FEWEST_CELLS)
    safe = np.maximum(n, 1)
    sum_f, sum_g = together(f, k), together(m, g)
    top = together(f, g) - sum_f * sum_g / safe
    under = np.maximum(together(ff, k) - sum_f**2 / safe, 0) * np.maximum(together(m, gg) - sum_g**2 / safe, 0)
    floor = 1e-9 * float((fixed.heights**2).sum() * (moving.heights**2).sum())
    with np.errstate(invalid="ignore", divide="ignore"):
        r = np.where(enough & (under > floor), top / np.sqrt(under), 0.0)
    score = np.arctanh(np.clip(r, -0.999, 0.999)) * np.sqrt(np.maximum(n - 3, 0))
    row, column = np.unravel_index(int(np.argmax(score)), side)
    whole = min(float(fixed.there.sum()), float(moving.there.sum()))
    # Shifts beyond half the grid are those the other way.
    shift = tuple(int(v) - (size if v > size // 2 else 0) for v, size in ((column, side[1]), (row, side[0])))
    return _Seen(
        float(score[row, column]), float(r[row, column]), float(n[row, column]) / whole, (shift[0], shift[1]), turn
    )
