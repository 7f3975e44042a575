"""Kernels that put whole numbers into buckets by their highest bits."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def count_buckets(keys, shift, counts):
    """How many keys have each value of their highest bits."""
    for k in range(len(keys)):
        counts[keys[k] >> shift] += 1


@kernel
def into_buckets(keys, first, shift, at, out_keys, out_rows):
    """Put keys and their rows (from ``first``) where their buckets have room; ``at`` is consumed."""
    for k in range(len(keys)):
        bucket = keys[k] >> shift
        where = at[bucket]
        out_keys[where], out_rows[where] = keys[k], first + k
        at[bucket] = where + 1
