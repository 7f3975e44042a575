"""Part a height field at its valleys, from the highest cell down."""

from __future__ import annotations

import numpy as np

from kerb.core.jit import kernel


@kernel
def summits(order, height, columns, saddle, labels):
    """Give each of the cells ``order`` (highest first) the number of its summit in ``labels`` (n,), zero elsewhere.

    A cell without a higher neighbour begins a summit; where two summits meet they become one unless both rise above
    the meeting cell by more than ``saddle``. Neighbours are the eight around a cell of a field with ``columns`` columns.
    """
    count = len(height)
    parent = np.zeros(len(order) + 1, np.int64)
    peak = np.zeros(len(order) + 1)
    made = 0
    for k in range(len(order)):
        cell = order[k]
        row, column = cell // columns, cell % columns
        best, best_height = 0, -np.inf
        joined = 0
        for r in range(row - 1, row + 2):
            for c in range(column - 1, column + 2):
                other = r * columns + c
                if c < 0 or c >= columns or other < 0 or other >= count or labels[other] == 0:
                    continue
                root = labels[other]
                while parent[root] != root:
                    root = parent[root]
                if best == 0:
                    best, best_height = root, height[other]
                elif root != best:
                    if min(peak[root], peak[best]) - height[cell] <= saddle:
                        # The lower summit is a bump of the higher one.
                        if peak[root] > peak[best]:
                            parent[best] = root
                            best = root
                        else:
                            parent[root] = best
                        joined = best
                    elif height[other] > best_height:
                        best, best_height = root, height[other]
        if joined != 0:
            # What became one here hangs together by this cell.
            best = joined
            while parent[best] != best:
                best = parent[best]
        if best == 0:
            made += 1
            parent[made], peak[made] = made, height[cell]
            best = made
        labels[cell] = best
    for k in range(len(order)):
        root = labels[order[k]]
        while parent[root] != root:
            root = parent[root]
        labels[order[k]] = root
