"""Union of neighbours that have to be turned alike or against one another."""

from __future__ import annotations

from kerb.core.jit import kernel


@kernel
def join_turned(one, other, against, parent, turned):
    """Join pairs of members; ``against`` says that the two are turned against each other. Parents and turns are kept by member;
    afterwards each member's parent is its root, and its turn that against the root. A pair that contradicts is passed over."""
    for k in range(len(one)):
        a, b = one[k], other[k]
        turn = against[k]
        while parent[a] != a:
            turn ^= turned[a]
            a = parent[a]
        while parent[b] != b:
            turn ^= turned[b]
            b = parent[b]
        if a != b:
            parent[b] = a
            turned[b] = turn
    for k in range(len(parent)):
        root, turn = k, False
        while parent[root] != root:
            turn ^= turned[root]
            root = parent[root]
        # Every member on the way is set to the root as well.
        at, left = k, turn
        while parent[at] != at and parent[at] != root:
            after, own = parent[at], turned[at]
            parent[at], turned[at] = root, left
            left ^= own
            at = after
