"""What a floor is asked: which points, what is left out, against what, how it is read and what is allowed."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, isfinite, radians, sin

from kerb.core.errors import InputError
from kerb.core.floor.slab import LOWEST, MEDIAN
from kerb.core.geometry.area import Area
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import (
    AGAINST,
    CLOUDS,
    LINES,
    PLACES,
    POINTS,
    WHERE,
    choice,
    drawn,
    holding,
    many,
    number,
    rings,
    scope,
    surface,
    switch,
    text,
)
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

MEAN, LEVEL, PLANE, FIT, LEAST, DESIGN = "mean", "level", "plane", "fit", "least", "surface"
NONE, DEVIATION, ELEVATION = "none", "deviation", "level"
PLACE_NEEDED = "Pick the place where the plane has its level."


@dataclass(frozen=True)
class FloorSetup(Setup):
    """Inputs and settings of a floor."""

    cloud: Scope = scope("Cloud", "Points of the floor, with all that stands on it", needed="Choose a cloud.")
    seed: Drawn = drawn(
        PLACES, "On the floor", "A place on the floor from which it is grown; without, it is the largest surface among the "
        "lowest points", flag="seed",
    )  # fmt: skip
    left_out: tuple[Item, ...] = rings(
        "Left out", "Areas that do not count, such as under repair; their names say why", (), flag="left-out"
    )
    bays: tuple[Item, ...] = rings("Bays", "Pours or bays with results of their own", (), key="T", flag="bays")
    edge: float = number(
        "Edge distance", "Nothing nearer to the rim of the floor, to walls and columns counts (a foot is usual)", default=0.3,
        low=0.0,
    )  # fmt: skip
    reference: str = choice(
        "Against", "What the floor is held against",
        ((MEAN, "Its own mean level"), (LEVEL, "A level"), (PLANE, "A plane with falls"), (FIT, "The plane that fits best"),
         (LEAST, "The level that needs least grinding and filling"), (DESIGN, "A design surface")),
        section=AGAINST,
    )  # fmt: skip
    reference_level: float | None = number(
        "Level", "Elevation of the level, or of the plane with falls at its place", section=AGAINST,
        when=("reference", (LEVEL, PLANE)), needed="Type the level.", automatic="none",
    )  # fmt: skip
    falls: str = text(
        "Falls", "How much the plane falls and to which bearing: percent, degrees, such as 1.5, 90", section=AGAINST,
        when=("reference", (PLANE,)), needed="Type the falls, such as 1.5, 90.",
    )  # fmt: skip
    falls_at: Drawn = drawn(
        PLACES, "Place of the level", "Where the plane with falls has its level", section=AGAINST, when=("reference", (PLANE,)),
        flag="falls-at",
    )  # fmt: skip
    design: Scope = surface(
        "Design surface", "Surface, grid or model that the floor should be", when=("reference", (DESIGN,)),
        needed="Choose the design surface.",
    )  # fmt: skip
    tolerance: float = number("Tolerance", "How far the floor may lie above", default=0.005, above=0.0)
    tolerance_below: float | None = number(
        "Tolerance below", "How far it may lie below, where that differs", automatic="as above", above=0.0, rare=True
    )
    spacing: float | None = number(
        "Spacing", "Distance between the nodes that levels are read at", above=0.0,
        automatic="150 mm, wider where the points lie wider apart",
    )  # fmt: skip
    take: str = choice(
        "Level of a node", "Which of the points round a node decides", ((MEDIAN, "Median"), (LOWEST, "Lowest"))
    )
    radius: float | None = number("Radius", "Points within it decide a node", automatic="half the spacing", above=0.0)
    lines: str = holding(LINES, "Sample lines", "Straight lines along which F-numbers are read; without, they are laid out by "
                         "the rules of the standard")  # fmt: skip
    foot: float | None = number(
        "Footprint", "Radius round a reading of an F-number whose median counts, like the foot of an instrument",
        automatic="25 to 75 mm, with some thirty points", above=0.0, rare=True,
    )  # fmt: skip
    tilted: bool = switch("Scan is not level", "Upright in the scan is not upright: there is no FL then", rare=True,
                          flag="not-level")  # fmt: skip
    ff: float | None = number(
        "Specified FF", "Flatness that was specified, overall", "", automatic="none", above=0.0, rare=True
    )
    fl: float | None = number(
        "Specified FL", "Levelness that was specified, overall", "", automatic="none", above=0.0, rare=True
    )
    straightedge: float = number("Straightedge", "Its length", default=2.0, above=0.0)
    din: str = choice(
        "Evenness limits", "Row of table 3 of DIN 18202", ((NONE, "None"), ("row-2", "Row 2"),
        ("row-3", "Row 3, finished floors"), ("row-4", "Row 4, higher demand")), rare=True,
    )  # fmt: skip
    traffic: str = holding(LINES, "Truck paths", "Lines that trucks follow; levels are read under their wheels", rare=True,
                           flag="traffic")  # fmt: skip
    front_track: float = number("Front track", "Between the front wheels", default=1.2, above=0.0, rare=True)
    rear_track: float = number(
        "Rear track", "Between the rear wheels; 0 for a single one", default=1.0, low=0.0, rare=True
    )
    wheelbase: float = number("Wheelbase", "Between the axles", default=1.5, low=0.0, rare=True)
    most_across: float | None = number(
        "Limit across", "How far the wheels of an axle may differ in level", automatic="none", above=0.0, rare=True
    )
    most_along: float | None = number(
        "Limit along", "How far the axles may differ in level", automatic="none", above=0.0, rare=True
    )
    outlets: str = holding(
        POINTS, "Outlets", "Gullies and doors by which water leaves; without any, it leaves over the rim anywhere"
    )
    later: tuple[Scope, ...] = many(
        CLOUDS, "Further dates", "Scans of the same floor at other dates, such as after grinding or under load: held against the "
        "same reference and read along the same lines", WHERE, rare=True,
    )  # fmt: skip
    plan: str = holding(
        LINES,
        "Plan",
        "Lines that are drawn with the map and into its drawing: walls, joints, gridlines",
        rare=True,
        flag="plan",
    )
    labels: str = choice(
        "Labels", "What is written at nodes of the map and in the drawing",
        ((DEVIATION, "Deviations"), (ELEVATION, "Levels"), (NONE, "None")), rare=True,
    )  # fmt: skip
    label_every: float | None = number(
        "Between labels",
        "Distance between labelled nodes",
        automatic="some 25 along the longer side",
        above=0.0,
        rare=True,
    )
    letters: float | None = number(
        "Letter height", "Height of letters in the drawing", automatic="a sixth of the distance between labels", above=0.0,
        rare=True,
    )  # fmt: skip
    puddle: float = number("Least depth", "Water less deep is no pond", default=0.001, above=0.0, rare=True)
    step: float = number(
        "Step",
        "Neighbouring places that differ by more belong to different surfaces",
        default=0.01,
        above=0.0,
        rare=True,
    )
    band: float = number("Band", "Points farther from the level of the floor do not belong to it", default=0.02, above=0.0,
                         rare=True)  # fmt: skip

    def missing(self) -> list[str]:
        """What is still needed; of a plane with falls also where it has its level."""
        lacks = [PLACE_NEEDED] if self.reference == PLANE and not self.falls_at.xy else []
        return [*super().missing(), *lacks]

    def plane(self) -> tuple[float, float]:
        """What the design plane rises to the east and to the north, as ratios. Raises InputError for falls that make no sense."""
        try:
            percent, bearing = (float(word) for word in self.falls.replace(";", ",").split(","))
        except ValueError:
            raise InputError(f"'{self.falls[:40]}' are no falls; write percent, bearing, such as 1.5, 90") from None
        if not (isfinite(percent) and isfinite(bearing) and 0 <= percent < 100):
            raise InputError(f"'{self.falls[:40]}' are no falls; write percent, bearing, such as 1.5, 90")
        return -percent / 100 * sin(radians(bearing)), -percent / 100 * cos(radians(bearing))

    def gone(self) -> tuple[Area, ...]:
        """The areas that are left out."""
        return tuple(Area((i.ring.xy, *i.ring.holes), i.name) for i in self.left_out if i.taken)

    def parts(self) -> tuple[Area, ...]:
        """The bays."""
        return tuple(Area((i.ring.xy, *i.ring.holes), i.name) for i in self.bays if i.taken)
