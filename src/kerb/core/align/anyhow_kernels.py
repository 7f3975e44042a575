"""Compiled loops of the search for a start of clouds that lie anyhow."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def agreeing(mine, theirs, turns, shifts, reach):
    """How many pairs of places (n, 3) each of some motions (h, 3, 3), (h, 3) brings within ``reach`` of one another: (h,)."""
    count = np.zeros(len(turns), np.int64)
    for h in range(len(turns)):
        for n in range(len(mine)):
            away = 0.0
            for k in range(3):
                row = turns[h, k]
                moved = row[0] * mine[n, 0] + row[1] * mine[n, 1] + row[2] * mine[n, 2]
                away += (moved + shifts[h, k] - theirs[n, k]) ** 2
            if away <= reach**2:
                count[h] += 1
    return count


def reference_agreeing(mine, theirs, turns, shifts, reach):
    """The same in plain NumPy."""
    away = np.einsum("hij,nj->hni", turns, mine) + shifts[:, None] - theirs
    return np.count_nonzero((away**2).sum(axis=2) <= reach**2, axis=1)
