"""What making a surface is asked: which points, which of them stay, lines that edges follow, and where it ends."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.cloud.thinning import CENTRE, HIGHEST, LOWEST, MEDIAN
from kerb.core.surface.gridding import MEAN, TRIANGLES
from kerb.studies.drawn import Drawn
from kerb.studies.fields import LINES, RING, choice, drawn, holding, number, scope, strays, switch
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

TIN, GRID = "triangles", "grid"
HULL, CONCAVE = "hull", "concave"


@dataclass(frozen=True)
class SurfaceSetup(Setup):
    """Inputs and settings of a surface."""

    cloud: Scope = scope("Cloud", "Points that the surface goes through", needed="Choose a cloud.", ground=True)
    breaklines: str = holding(LINES, "Break lines", "Lines with elevations that edges of the surface follow")
    boundary: Drawn = drawn(RING, "Boundary", "The surface is cut off outside of it", key="T")
    spacing: float | None = number(
        "Spacing", "One point in each square of this side stays", automatic="all points", low=0.0
    )
    thin: str = choice(
        "Point that stays", "Of the points in a square, the one that stays",
        ((LOWEST, "Lowest"), (MEDIAN, "Median"), (HIGHEST, "Highest"), (CENTRE, "Nearest the centre of a cube")),
    )  # fmt: skip
    rim: str = choice(
        "Where it ends",
        "Where no boundary is drawn: at the hull of the points, or at a concave outline of them, gaps inside closed",
        ((CONCAVE, "At a concave outline"), (HULL, "At the hull")),
    )  # fmt: skip
    max_edge: float | None = number(
        "Longest edge", "Triangles with a longer edge in plan are left out, so that gaps stay open", automatic="no limit",
        low=0.0,
    )  # fmt: skip
    spike_edge: float | None = number(
        "Spikes: edges up to",
        "Points under triangles of higher points are left out, where no edge in plan is longer than this; some three spacings",
        automatic="kept", low=0.0,
    )  # fmt: skip
    spike_depth: float | None = number(
        "Spikes: from below", "How far below the lowest corner of such a triangle a point must lie", automatic="0.5 m", low=0.0,
        rare=True,
    )  # fmt: skip
    strays: str = strays()
    form: str = choice(
        "As",
        "Triangles through points, or a grid with one elevation a cell",
        ((TIN, "Triangles"), (GRID, "Grid of cells")),
    )
    cell: float | None = number(
        "Cell", "Side of the cells of a grid", automatic="two spacings", low=0.0, when=("form", (GRID,))
    )
    level: str = choice(
        "Level of a cell", "What stands for the points in a cell",
        ((MEDIAN, "Median"), (LOWEST, "Lowest"), (HIGHEST, "Highest"), (MEAN, "Mean"),
         (TRIANGLES, "Triangles, in its middle")), when=("form", (GRID,)),
    )  # fmt: skip
    fill: float | None = number(
        "Fill gaps up to", "Cells without points no farther than this from one with are interpolated", automatic="left open",
        low=0.0, when=("form", (GRID,)),
    )  # fmt: skip
    keep: bool = switch("Put it into the job", "The surface becomes a holding of the job", True, rare=True)
