"""Kernel of thinning: a set of cells that only grows, as an open table."""

from __future__ import annotations

from kerb.core.cloud.cells_kernels import slot
from kerb.core.jit import kernel


@kernel
def admit(cells, table, used, keep):
    """Mark in ``keep`` (n,) the first point of each cell not seen before; returns how many cells were new.

    ``cells`` (n, 3) int64; ``table`` (size, 3) int64 and ``used`` (size,) with size a power of two, never full.
    """
    last = table.shape[0] - 1
    added = 0
    for i in range(cells.shape[0]):
        x, y, z = cells[i, 0], cells[i, 1], cells[i, 2]
        at = slot(x, y, z, last)
        fresh = True
        while used[at]:
            if table[at, 0] == x and table[at, 1] == y and table[at, 2] == z:
                fresh = False
                break
            at = (at + 1) & last
        if fresh:
            used[at] = 1
            table[at, 0], table[at, 1], table[at, 2] = x, y, z
            added += 1
        keep[i] = fresh
    return added
