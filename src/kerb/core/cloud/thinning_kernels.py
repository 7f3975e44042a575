"""Kernel of thinning to a least distance: a point stays when none that stays is nearer."""

from __future__ import annotations

import numpy as np

from kerb.core.cloud.cells_kernels import slot
from kerb.core.jit import kernel


@kernel
def apart(xyz, keep, scale, distance, first, heads, places, following, count):
    """Mark in ``keep`` the integer points (n, 3) that stay, in row order; ``count`` stayed before.

    ``heads`` is a hash table of lists of the points that stay, a cell of side ``distance`` each; ``places`` (m, 3) and
    ``following`` (m,) have room for all that may stay. Returns how many stay now; points with keep False are not taken.
    """
    last = heads.shape[0] - 1
    limit = distance * distance
    for i in range(xyz.shape[0]):
        if not keep[i]:
            continue
        x, y, z = first[0] + xyz[i, 0] * scale[0], first[1] + xyz[i, 1] * scale[1], first[2] + xyz[i, 2] * scale[2]
        a, b, c = np.int64(np.floor(x / distance)), np.int64(np.floor(y / distance)), np.int64(np.floor(z / distance))
        free = True
        # Its own cell first: in a dense cloud that is where a nearer one mostly is.
        for step in range(28):
            if step == 0:
                da, db, dc = 0, 0, 0
            else:
                k = step - 1
                da, db, dc = k // 9 - 1, (k // 3) % 3 - 1, k % 3 - 1
                if da == 0 and db == 0 and dc == 0:
                    continue
            at = heads[slot(a + da, b + db, c + dc, last)]
            while at >= 0:
                dx, dy, dz = places[at, 0] - x, places[at, 1] - y, places[at, 2] - z
                if dx * dx + dy * dy + dz * dz < limit:
                    free = False
                    break
                at = following[at]
            if not free:
                break
        keep[i] = free
        if free:
            own = slot(a, b, c, last)
            places[count, 0], places[count, 1], places[count, 2] = x, y, z
            following[count] = heads[own]
            heads[own] = count
            count += 1
    return count
