"""Profiles of an outcome along lines that may be moved after it was computed: cut out of what the outcome draws."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.surface.tin import Tin
from kerb.studies.drawn import Drawn
from kerb.studies.layers import Chart, FoundMesh, Profile
from kerb.studies.outcome import Outcome
from kerb.studies.setup import Setup

SAMPLES = 400
PRIME = "′"


def eastward(line: Floats) -> Floats:
    """A line (2, 2) from its western to its eastern end, or from south to north where it runs more that way.

    Profiles and sections are looked at from one side only, so that those of two dates lie beside each other.
    """
    step = line[-1] - line[0]
    along = step[0] if abs(step[0]) >= abs(step[1]) else step[1]
    return line if along >= 0 else line[::-1]


def ends_of(number: int) -> tuple[str, str]:
    """What the ends of a profile are called: A and B, of the second one A′ and B′."""
    return f"A{PRIME * number}", f"B{PRIME * number}"


class Cutter:
    """Cuts the meshes of one outcome along lines; the index of each mesh is made once."""

    def __init__(self, outcome: Outcome) -> None:
        self.outcome = outcome
        self._surfaces: dict[str, Tin] = {}
        self._cuts: dict[str, Profile] = {}

    def charts(self, setup: Setup) -> list[Chart]:
        """The charts of the outcome, its profiles along the lines that the setup says now."""
        return [self._now(chart, setup) if isinstance(chart, Profile) else chart for chart in self.outcome.charts]

    def _now(self, chart: Profile, setup: Setup) -> Profile:
        own = getattr(setup, chart.field) if chart.field else None
        if not isinstance(own, Drawn) or not own:
            return chart
        line = eastward(own.places)
        if np.array_equal(line, chart.line):
            return chart
        last = self._cuts.get(chart.title)
        if last is None or not np.array_equal(line, last.line):
            last = self._cuts[chart.title] = self.cut(chart, line)
        return last

    def cut(self, chart: Profile, line: Floats) -> Profile:
        """The same profile along another line (2, 2); NaN where a surface is not."""
        share = np.linspace(0.0, 1.0, SAMPLES)[:, None]
        xy = line[0] + share * (line[1] - line[0])
        distance = share[:, 0] * float(np.hypot(*(line[1] - line[0])))
        traces = tuple(
            (title, role, self._surface(name).at(xy) if self.outcome.mesh(name) else np.full(SAMPLES, np.nan))
            for (title, role, _), name in zip(chart.traces, chart.cuts, strict=True)
        )
        return replace(chart, line=line, distance=distance, traces=traces)

    def _surface(self, name: str) -> Tin:
        if name not in self._surfaces:
            mesh = self.outcome.layers[name]
            assert isinstance(mesh, FoundMesh)
            self._surfaces[name] = Tin.of(mesh.vertices, mesh.triangles)
        return self._surfaces[name]
