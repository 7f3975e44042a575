"""What a floor plan is asked: of which points, at what level, how lines are fitted and rooms closed, what is mended by hand."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.geometry.area import Area
from kerb.studies.drawn import Item
from kerb.studies.fields import LINE, RING, Way, number, rings, scope, switch
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

WALL, OFF = "wall", "off"
WAYS = (
    Way(WALL, "Wall", LINE, "Wall not visible in the cloud"),
    Way(OFF, "Left out", RING, "Points inside are excluded: furniture, stored goods, open doors"),
)


@dataclass(frozen=True)
class PlanSetup(Setup):
    """Inputs and settings of a floor plan."""

    cloud: Scope = scope("Cloud", "Points of the walls", needed="Choose a cloud.")
    marks: tuple[Item, ...] = rings(
        "Manual edits", "Added walls and excluded areas", (), flag="marks", key="T", ways=WAYS,
    )  # fmt: skip
    level: float | None = number(
        "Level", "Elevation of the slice; 1.2 m above the floor is usual", automatic="none",
        needed="Enter or pick the level of the slice.",
    )  # fmt: skip
    thickness: float = number(
        "Thickness", "Thickness of the slice, half above and half below the level", default=0.1, above=0.0
    )
    tolerance: float = number("Tolerance", "Maximum distance of points from their line", default=0.02, above=0.0)
    shortest: float = number("Shortest line", "Minimum length of a line", default=0.3, low=0.0)
    arcs: bool = switch("Arcs", "Also fit arcs to curved walls and round columns")
    square: float = number(
        "Right angles", "Lines within this angle of the main direction, or of its perpendicular, are rotated onto it; 0: off",
        "degrees", default=0.0, low=0.0, high=10.0,
    )  # fmt: skip
    opening: float = number(
        "Widest opening", "Doors and gaps up to this width are closed when rooms are formed", default=1.2, low=0.0
    )
    keep: bool = switch("Put it into the job", "The lines become a holding of the job", rare=True)

    def left_out(self) -> tuple[Area, ...]:
        """Areas whose points do not count."""
        return tuple(Area((one.ring.xy, *one.ring.holes), one.name) for one in self._of(OFF))

    def added(self) -> list[Item]:
        """Walls that are drawn."""
        return self._of(WALL)

    def _of(self, way: str) -> list[Item]:
        return [one for one in self.marks if one.taken and str(one.value("way", "") or OFF) == way]
