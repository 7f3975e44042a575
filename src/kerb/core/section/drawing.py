"""A section as it is handed over: lines and shots in its own frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.section.frame import Frame


@dataclass(frozen=True)
class SectionDrawing:
    """One section: ``name`` is its station as written; ``lines`` are (title, (n, 2) offset and elevation, NaN: a gap);
    ``shots`` are (name, offset, elevation, distance ahead of the plane)."""

    frame: Frame
    name: str
    lines: tuple[tuple[str, Floats], ...]
    shots: tuple[tuple[str, float, float, float], ...] = ()
    path: tuple[Floats, Floats] | None = None

    def job(self, offset: Floats, z: Floats) -> Floats:
        """Job places (n, 3) of places in the section: in its plane, or along the path (stations, (n, 2)) of one that bends."""
        if self.path is None:
            return self.frame.job(offset, z)
        stations, xy = self.path
        return np.column_stack([np.interp(offset, stations, xy[:, 0]), np.interp(offset, stations, xy[:, 1]), z])

    def runs(self) -> list[tuple[str, Floats]]:
        """The parts of the lines between their gaps, (title, (n, 2)), those of two places and more."""
        found = []
        for title, line in self.lines:
            known = np.isfinite(line[:, 1]) if len(line) else np.empty(0, bool)
            parts = np.split(np.arange(len(line)), np.flatnonzero(np.diff(known.astype(np.int8))) + 1)
            found += [(title, line[rows]) for rows in parts if len(rows) > 1 and known[rows[0]]]
        return found
