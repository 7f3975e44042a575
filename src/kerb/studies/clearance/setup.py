"""What a clearance is asked: what hangs over what, by lane and place, for which envelope, and what is required."""

from __future__ import annotations

from dataclasses import dataclass

import shapely

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.geometry.area import Area
from kerb.core.section.stations import alignment_of
from kerb.studies.chosen_line import line_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import (
    AGAINST,
    CLOUDS,
    LINE,
    LINES,
    PLACES,
    POINTS,
    RING,
    STRAYS,
    Way,
    choice,
    drawn,
    holding,
    many,
    number,
    rings,
    scope,
    surface,
    text,
)
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import Sources

VERTICAL, SQUARE = "vertical", "square"
AREA, MIDDLE = "area", "middle"
LANES = (
    Way(AREA, "Lane as an area", RING, "The outline of a lane"),
    Way(MIDDLE, "Lane by its middle", LINE, "The middle line of a lane, as wide as the lane width says"),
)
LEFT_OUT, COUNTED = "left-out", "counted"
FITTED, NOT_SOUGHT = "fitted", "not-sought"
PATH_NEEDED = "Draw the path of the envelope, or choose a line or an alignment."


@dataclass(frozen=True)
class ClearanceSetup(Setup):
    """Inputs and settings of clearances."""

    above: Scope = scope(
        "Above", "Points of what hangs over the road: bridge, pipes, wires, branches; or the whole scan, road included",
        needed="Choose a cloud.", classes_flag="above-class",
    )  # fmt: skip
    below: Scope = surface(
        "Below", "Road or rail: a cloud, a surface or a model; without, the road is found in the cloud above", AGAINST,
        flag="over", classes_flag="below-class", same_cloud=True, other_height=True,
    )  # fmt: skip
    level: float | None = number(
        "Level below",
        "Elevation of water, or of another level, in place of a road",
        section=AGAINST,
        automatic="none",
        rare=True,
    )
    road: Drawn = drawn(
        PLACES, "On the road", "A place on the road from which it is grown; without, it is the largest surface among the lowest "
        "points", section=AGAINST, flag="road", rare=True,
    )  # fmt: skip
    lanes: tuple[Item, ...] = rings(
        "Lanes",
        "Each gets its lowest clearance; as an area, or by its middle line",
        (),
        flag="lanes",
        key="T",
        ways=LANES,
    )
    lane_width: float = number("Lane width", "Of lanes that are given by their middle line", default=3.5, above=0.0)
    picks: Drawn = drawn(
        PLACES, "Places", "The lowest clearance round each place, a row of the table", flag="picks", further=True
    )
    points: str = holding(
        POINTS, "Points", "Named points at which clearances are read", flag="points", rare=True, other_height=True
    )
    radius: float = number("Radius", "The lowest within it counts at a place", default=0.25, above=0.0)
    pattern: str = text("Names", "What places are called: # is their number, such as C-#", rare=True)
    left_out: tuple[Item, ...] = rings("Left out", "Areas that do not count", (), flag="left-out", rare=True)
    measure: str = choice(
        "Measured",
        "Straight up, or square to the road below",
        ((VERTICAL, "Vertically"), (SQUARE, "Square to the road")),
    )
    cell: float = number("Cell", "The lowest point of each cell of this size makes the map", default=0.25, above=0.0)
    most: float | None = number(
        "Search limit", "What hangs higher over the road does not count", automatic="none", above=0.0, flag="max"
    )
    least: float | None = number(
        "Least height", "What reaches lower down over the road is a support or stands on it", low=0.0,
        automatic="2 m where the road is found in the same cloud, else 0", rare=True,
    )  # fmt: skip
    standing: str = choice(
        "On the road", "What stands on the road and is no taller than a vehicle may be (4.7 m), where the road is found in the "
        "same cloud", ((LEFT_OUT, "Left out"), (COUNTED, "Counted")), rare=True,
    )  # fmt: skip
    strays: str = choice(
        "Stray points",
        "Single points with fewer than two others near them, which would make a false lowest",
        STRAYS,
        rare=True,
    )
    stray_radius: float | None = number(
        "Near means", "Points within it keep a point company", automatic="four times the spacing, 0.1 m at least", above=0.0,
        rare=True,
    )  # fmt: skip
    required: float | None = number(
        "Required", "Clearance that is posted or asked for, held against every lane", automatic="none", above=0.0
    )
    posted_step: float = number(
        "Rounded down to", "Step of the value that may be posted", default=0.05, above=0.0, rare=True
    )
    margin: float = number(
        "Safety margin", "Taken off before rounding down, such as for snow, resurfacing or sag in heat", default=0.0, low=0.0,
        rare=True,
    )  # fmt: skip
    registration_error: float = number(
        "Registration error",
        "95 % bound of the height of the scan above against the scan below",
        default=0.0,
        low=0.0,
        rare=True,
    )
    path: Drawn = drawn(LINE, "Path", "The middle of a vehicle moves along it", flag="path", rare=True)
    along: str = holding(
        LINES, "Along", "A line or an alignment in place of a drawn path", naming="which", flag="along", rare=True
    )
    which: str = text("Which of them", "Name of the line or alignment, where the holding has several", rare=True)
    envelope: str = text(
        "Envelope", "WIDTHxHEIGHT of what moves along the path, or its corners across,up separated by blanks", rare=True
    )
    length: float = number("Length", "Of the vehicle or load", default=12.0, above=0.0, rare=True)
    wheelbase: float = number(
        "Wheelbase", "Between the axles, which stay on the path", default=6.0, above=0.0, rare=True
    )
    step: float = number("Step", "The envelope is tried at stations so far apart", default=0.25, above=0.0, rare=True)
    wires: str = choice(
        "Wires", "Whether a catenary is fitted to each thing as thin as a wire",
        ((FITTED, "Fitted"), (NOT_SOUGHT, "Not looked for")), rare=True,
    )  # fmt: skip
    warmer: float = number("Warmer by", "How much warmer wires may become, in kelvins", "", default=0.0, low=0.0, high=200.0,
                           rare=True)  # fmt: skip
    expansion: float = number(
        "Expansion", "Of wires, millionths a kelvin: 17 copper, 19 steel-reinforced aluminium, 23 aluminium", "", default=19.0,
        low=0.0, high=1000.0, rare=True,
    )  # fmt: skip
    later: tuple[Scope, ...] = many(
        CLOUDS,
        "Further dates",
        "The road at other dates, such as after resurfacing",
        AGAINST,
        rare=True,
        other_height=True,
    )

    @property
    def by_itself(self) -> bool:
        """Whether the road is found in the cloud above."""
        return not self.below.holding and self.level is None

    def missing(self) -> list[str]:
        """What is still needed; of an envelope also where it moves."""
        return [*super().missing(), *([PATH_NEEDED] if self.envelope and not (self.path or self.along) else [])]

    def line(self, sources: Sources) -> Alignment:
        """The path of the envelope. Raises InputError, when it cannot be or none of several is named."""
        if self.along:
            return line_of(sources, "along", self.which)
        return alignment_of(self.path.places, "the path")

    def gone(self) -> tuple[Area, ...]:
        """The areas that are left out."""
        return tuple(Area((i.ring.xy, *i.ring.holes), i.name) for i in self.left_out if i.taken)

    def lane_areas(self) -> list[Area]:
        """The lanes as areas. Raises InputError for one that is none."""
        made = []
        for item in self.lanes:
            if not item.taken:
                continue
            if str(item.value("way", "") or AREA) == MIDDLE:
                line = alignment_of(item.ring.places, item.name).flattened(0.01 * self.lane_width)[0][:, :2]
                made.append(_buffered(line, self.lane_width / 2, item.name))
            else:
                made.append(Area((item.ring.xy, *item.ring.holes), item.name))
        return made


def _buffered(line: Floats, half: float, name: str) -> Area:

    shape = shapely.LineString(line).buffer(half, cap_style="flat", join_style="mitre")
    found = Area.of(shape, name)
    if len(found) != 1:
        raise InputError(f"{name}: the lane is in pieces")
    return found[0]
