"""A cloud that is still being read: thinned chunks in memory, seen like a store, so that it can be drawn meanwhile."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.arrays import AnyArray, Ints32
from kerb.core.cloud.builder import tile_row
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.store import TILE_TYPE, CloudStore, StoreMeta


class GrowingCloud(CloudStore):
    """Holds coordinates only. Each chunk is a tile; adding one makes new arrays, so a picture under way is safe."""

    def __init__(self, layout: Layout) -> None:
        """An empty cloud with the scale and origin of ``layout``."""
        meta = StoreMeta(0, layout.scale.tolist(), layout.origin.tolist(), [], layout.reference.to_json())
        super().__init__(Path(), meta, np.zeros(0, TILE_TYPE))
        self.layout = layout
        self._columns["xyz"] = np.empty((0, 3), np.int32)

    def with_chunk(self, xyz: Ints32) -> GrowingCloud:
        """A cloud with these integer coordinates (n, 3) added; this one stays as it is."""
        grown = GrowingCloud(self.layout)
        row = np.array([tile_row(xyz, self.layout, self.count)], TILE_TYPE)
        grown.tiles = np.concatenate([self.tiles, row])
        grown.meta.count = self.count + len(xyz)
        grown._columns["xyz"] = np.concatenate([self.xyz, xyz])
        return grown

    def has(self, name: str) -> bool:
        """Only coordinates are there."""
        return name == "xyz"

    def column(self, name: str) -> AnyArray:
        """The coordinates. Raises KeyError for anything else."""
        return self._columns[name]
