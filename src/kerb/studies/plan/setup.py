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
    Way(WALL, "Wall", LINE, "A wall that the cloud does not show"),
    Way(OFF, "Left out", RING, "Points inside do not count: furniture, stored goods, doors that stand open"),
)


@dataclass(frozen=True)
class PlanSetup(Setup):
    """Inputs and settings of a floor plan."""

    cloud: Scope = scope("Cloud", "Points of the walls", needed="Choose a cloud.")
    marks: tuple[Item, ...] = rings(
        "By hand", "Walls that are added and areas whose points do not count", (), flag="marks", key="T", ways=WAYS,
    )  # fmt: skip
    level: float | None = number(
        "Level", "Elevation of the middle of the slice; 1.2 m above the floor is usual", automatic="none",
        needed="Type the level of the slice, or pick it.",
    )  # fmt: skip
    thickness: float = number("Thickness", "Of the slice, half of it above and half below", default=0.1, above=0.0)
    tolerance: float = number("Tolerance", "How far points may lie off their line", default=0.02, above=0.0)
    shortest: float = number("Shortest line", "Shorter lines are left out", default=0.3, low=0.0)
    arcs: bool = switch("Arcs", "Round walls and columns are looked for too")
    square: float = number(
        "Right angles", "Lines off the main direction, or off the square to it, by no more than this are turned into it; 0: none",
        "degrees", default=0.0, low=0.0, high=10.0,
    )  # fmt: skip
    opening: float = number(
        "Widest opening", "Doors and gaps up to this width are closed for the areas of rooms", default=1.2, low=0.0
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
