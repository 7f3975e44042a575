"""Kernels that put whole numbers into buckets by their highest bits."""

from __future__ import annotations

import numpy as np

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


@kernel
def by_counting(keys, rows, lowest, values):
    """Sort keys from ``lowest`` on, of so many possible values, and their rows; those alike stay in order."""
    at = np.zeros(values + 1, np.int64)
    for k in range(len(keys)):
        at[keys[k] - lowest + np.uint64(1)] += 1
    for v in range(values):
        at[v + 1] += at[v]
    old_keys, old_rows = keys.copy(), rows.copy()
    for k in range(len(keys)):
        v = old_keys[k] - lowest
        keys[at[v]], rows[at[v]] = old_keys[k], old_rows[k]
        at[v] += 1


@kernel
def cell_keys(places, low, cell, first, most, keys):
    """A number for the square cell of each place, from the cell ``first`` on and up to ``most`` further each way."""
    for k in range(places.shape[0]):
        i = min(np.floor((places[k, 0] - low[0]) / cell) - first[0], most[0])
        j = min(np.floor((places[k, 1] - low[1]) / cell) - first[1], most[1])
        keys[k] = np.uint64(i) * (np.uint64(most[1]) + np.uint64(1)) + np.uint64(j)


@kernel
def spread_of(keys, z, lowest, highest, many):
    """Lowest and highest value for each key, and how many have it."""
    for k in range(len(keys)):
        own = keys[k]
        lowest[own], highest[own] = min(lowest[own], z[k]), max(highest[own], z[k])
        many[own] += 1


@kernel
def run_starts(keys, first, last, starts):
    """Where each value begins among sorted keys, for those that begin in a range: ``starts[v]`` is the first with v or more."""
    for k in range(first, last):
        before = np.int64(-1) if k == 0 else np.int64(keys[k - 1])
        for v in range(before + 1, np.int64(keys[k]) + 1):
            starts[v] = k
