"""Compiled loops of a look at a store."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def drop_outside(xyz, low, high, keep):
    """Clear ``keep`` (n,) where whole coordinates (n, 3) lie below ``low`` or above ``high``, (3,) each."""
    for row in range(len(xyz)):
        if keep[row]:
            for axis in range(3):
                value = xyz[row, axis]
                if value < low[axis] or value > high[axis]:
                    keep[row] = False
                    break


def reference_outside(xyz, low, high, keep):
    """The same in plain NumPy."""
    keep &= ((xyz >= low) & (xyz <= high)).all(axis=1)
