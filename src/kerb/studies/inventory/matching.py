"""Which heap of one survey is which of another: by place, the largest common area first."""

from __future__ import annotations

from typing import Any

import shapely

from kerb.studies.drawn import Item

LEAST_SHARE = 0.2


def shape_of(item: Item) -> Any:
    """What the toe line of a heap encloses, less its holes, as a valid shapely area."""
    return shapely.make_valid(shapely.Polygon(item.ring.xy, item.ring.holes))


def matched(now: list[Any], before: list[Any]) -> dict[int, int]:
    """Number of a present area → number of the earlier one at the same place; each is matched once.

    Two areas are at the same place when they share at least a fifth of the smaller one.
    """
    pairs = []
    for n, mine in enumerate(now):
        for b, theirs in enumerate(before):
            common = mine.intersection(theirs).area
            if common > LEAST_SHARE * min(mine.area, theirs.area):
                pairs.append((common, n, b))
    found: dict[int, int] = {}
    taken: set[int] = set()
    for _, n, b in sorted(pairs, reverse=True):
        if n not in found and b not in taken:
            found[n] = b
            taken.add(b)
    return found
