"""Values along a closed line: outward directions, and gaps filled from what is known, as a linear map and its adjoint.

The adjoint says how much each known value counts in any weighted sum of the filled ones, which is what the uncertainty
of a base needs.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import TINY, Floats, Ints, Mask
from kerb.core.once import Once

# A plane carries values across a gap only where what is known surrounds it: its short axis is this share of the long.
ROUND = 0.3
END = 3
FEWEST = 6
EVEN = np.array([1.0, 4.0, 6.0, 4.0, 1.0]) / 16


def outwards(xy: Floats) -> Floats:
    """Unit normals (m, 2) of a counter-clockwise closed line of samples (m, 2), to its outside."""
    ahead = np.roll(xy, -1, axis=0) - np.roll(xy, 1, axis=0)
    length = np.maximum(np.hypot(*ahead.T), TINY)
    return np.column_stack([ahead[:, 1], -ahead[:, 0]]) / length[:, None]


def surrounds(xy: Floats) -> bool:
    """Whether places (n, 2) lie round something and not along one side of it: enough of them, and broad enough."""
    if len(xy) < FEWEST:
        return False
    size = np.linalg.svd(xy - xy.mean(axis=0), compute_uv=False)
    return bool(size[1] >= ROUND * size[0])


def straight(xy: Floats, z: Floats, good: Mask) -> Floats:
    """Values of a closed line with the gaps bridged straight along it."""
    run, around = _run(xy)
    return np.interp(run, run[good], z[good], period=around)


def _run(xy: Floats) -> tuple[Floats, float]:
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xy, axis=0).T))])
    return run, float(run[-1] + np.hypot(*(xy[0] - xy[-1])))


@dataclass(frozen=True)
class Filling:
    """How the values at the ``good`` samples of a closed line ``xy`` (m, 2) make those of all.

    A gap is bridged by the plane through what is known, where that surrounds the gap, plus the departures at the gap's
    two ends (means of three samples) straight along the line. ``even`` samples are then evened out with their
    neighbours (binomial weights 1 4 6 4 1), which keeps straight falls as they are and halves the noise of a surface
    that hangs on few of them.
    """

    xy: Floats
    good: Mask
    even: Mask

    @Once
    def _design(self) -> Floats:
        local = self.xy - self.xy[self.good].mean(axis=0)
        return np.column_stack([np.ones(len(local)), local])

    @Once
    def _solver(self) -> Floats | None:
        """Coefficients of the plane from the good values, (3, k); None where they do not surround anything."""
        known = self._design[self.good]
        if not surrounds(self.xy[self.good]):
            return None
        return np.asarray(np.linalg.pinv(known))

    @Once
    def _bridges(self) -> list[tuple[Ints, Ints, Ints, Floats]]:
        """For each gap: its samples, those before and behind it that count, and the share of the one behind."""
        gaps = np.flatnonzero(~self.good)
        if not len(gaps):
            return []
        m = len(self.xy)
        run, around = _run(self.xy)
        starts = gaps[self.good[gaps - 1]]
        found = []
        for start in starts:
            length = 1
            while not self.good[(start + length) % m]:
                length += 1
            inside = (start + np.arange(length)) % m
            before = self._some(start - 1, -1)
            behind = self._some(start + length, 1)
            first, last = run[(start - 1) % m], run[(start + length) % m]
            span = (last - first) % around or around
            found.append((inside, before, behind, ((run[inside] - first) % around) / span))
        return found

    def _some(self, at: int, way: int) -> Ints:
        """Up to three good samples in a row."""
        row = [at % len(self.good)]
        while len(row) < END and self.good[(row[-1] + way) % len(self.good)]:
            row.append((row[-1] + way) % len(self.good))
        return np.array(row)

    def apply(self, z: Floats) -> Floats:
        """Values at all samples (m,) from those at the good ones; the others of ``z`` (m,) are not looked at."""
        plane = np.zeros(len(z))
        if self._solver is not None:
            plane = self._design @ (self._solver @ z[self.good])
        out = z.copy()
        rest = z - plane
        for inside, before, behind, share in self._bridges:
            first, last = rest[before].mean(), rest[behind].mean()
            out[inside] = plane[inside] + first + share * (last - first)
        evened = sum(w * np.roll(out, shift) for w, shift in zip(EVEN, range(-2, 3), strict=True))
        return np.where(self.even, evened, out)

    def adjoint(self, weights: Floats) -> Floats:
        """Weights of the good values (m, zero elsewhere) in the sum of filled values times ``weights`` (m,)."""
        plain = np.where(self.even, 0.0, weights)
        evened = np.where(self.even, weights, 0.0)
        plain = plain + sum(w * np.roll(evened, -shift) for w, shift in zip(EVEN, range(-2, 3), strict=True))
        out = np.where(self.good, plain, 0.0)
        on_plane = np.zeros(len(weights))
        for inside, before, behind, share in self._bridges:
            on_plane[inside] += plain[inside]
            for row, part in ((before, 1 - share), (behind, share)):
                each = float(np.sum(plain[inside] * part)) / len(row)
                out[row] += each
                on_plane[row] -= each
        if self._solver is not None:
            out[self.good] += self._solver.T @ (self._design.T @ on_plane)
        return np.asarray(out)
