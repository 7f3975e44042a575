"""What spot levels are asked: a grid over a cloud, where it lies, and how each level is taken."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.surface.spots import LOWEST, MEDIAN, TIN
from kerb.studies.drawn import Drawn
from kerb.studies.fields import AGAINST, RING, choice, drawn, number, scope, strays, switch, text
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

ROUND = ("take", (LOWEST, MEDIAN))


@dataclass(frozen=True)
class SpotsSetup(Setup):
    """Inputs and settings of a grid of spot levels."""

    cloud: Scope = scope("Cloud", "Points whose levels are taken", needed="Choose a cloud.", ground=True)
    later: Scope = scope(
        "Next epoch", "The same grid on another cloud, compared node by node: next minus this", AGAINST
    )
    area: Drawn = drawn(RING, "Area", "Nodes lie inside of it; without one, all over the cloud", key="T")
    spacing: float = number("Spacing", "Distance between nodes", default=1.0, low=0.0)
    origin: str = text(
        "Origin", "Easting and northing of one node, such as 380000,5560000; empty: multiples of the spacing"
    )
    rotation: float = number(
        "Rotation",
        "Rows run to this bearing, clockwise from north",
        "deg",
        default=0.0,
        low=-360.0,
        high=360.0,
        rare=True,
    )
    take: str = choice(
        "Level", "What the level of a node is", ((LOWEST, "Lowest point"), (MEDIAN, "Median"), (TIN, "On the triangles")),
        default=TIN,
    )  # fmt: skip
    radius: float | None = number(
        "Radius", "Points within it in plan decide", automatic="half the spacing", low=0.0, when=ROUND
    )
    strays: str = strays()
    first_name: str = text("First name", "Name of the first node; the number at its end runs on", rare=True)
    code: str = text("Code", "Code of all nodes", rare=True)
    keep: bool = switch("Put them into the job", "The nodes become a list of points", rare=True)
