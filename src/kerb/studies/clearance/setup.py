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
    Way(AREA, "Lane area", RING, "Outline of the lane"),
    Way(MIDDLE, "Lane centre line", LINE, "Centre line; the lane has the lane width"),
)
LEFT_OUT, COUNTED = "left-out", "counted"
FITTED, NOT_SOUGHT = "fitted", "not-sought"
PATH_NEEDED = "Draw the path of the envelope, or select a line or an alignment."


@dataclass(frozen=True)
class ClearanceSetup(Setup):
    """Inputs and settings of clearances."""

    above: Scope = scope(
        "Above", "Structure above the road: bridge, pipes, wires, branches; or a complete scan including the road",
        needed="Choose a cloud.", classes_flag="above-class",
    )  # fmt: skip
    below: Scope = surface(
        "Below", "Road or rail: cloud, surface or model; leave empty to detect the road in the cloud above", AGAINST,
        flag="over", classes_flag="below-class", same_cloud=True, other_height=True,
    )  # fmt: skip
    level: float | None = number(
        "Level below",
        "Water level or other horizontal reference instead of a road",
        section=AGAINST,
        automatic="none",
        rare=True,
    )
    road: Drawn = drawn(
        PLACES, "Seed on the road", "A point on the road from which it is detected; default: the largest surface among the "
        "lowest points", section=AGAINST, flag="road", rare=True,
    )  # fmt: skip
    lanes: tuple[Item, ...] = rings(
        "Lanes",
        "Areas or centre lines; the lowest clearance of each is reported",
        (),
        flag="lanes",
        key="T",
        ways=LANES,
    )
    lane_width: float = number("Lane width", "Width of lanes given by their centre line", default=3.5, above=0.0)
    picks: Drawn = drawn(
        PLACES, "Places", "Lowest clearance within the radius of each place", flag="picks", further=True
    )
    points: str = holding(
        POINTS, "Points", "Named points at which clearances are reported", flag="points", rare=True, other_height=True
    )
    radius: float = number("Radius", "Search radius at a place", default=0.25, above=0.0)
    pattern: str = text("Name pattern", "# is replaced by the number, such as C-#", rare=True)
    left_out: tuple[Item, ...] = rings("Excluded areas", "Points inside are excluded", (), flag="left-out", rare=True)
    measure: str = choice(
        "Direction",
        "Vertical, or perpendicular to the road below",
        ((VERTICAL, "Vertical"), (SQUARE, "Perpendicular to the road")),
    )
    cell: float = number("Cell", "The map shows the lowest point of each cell of this size", default=0.25, above=0.0)
    most: float | None = number(
        "Search limit", "Maximum height above the road", automatic="none", above=0.0, flag="max"
    )
    least: float | None = number(
        "Minimum height", "Anything reaching lower is treated as a support or as standing on the road", low=0.0,
        automatic="2 m where the road is detected in the same cloud, else 0", rare=True,
    )  # fmt: skip
    standing: str = choice(
        "Objects on the road", "Objects up to 4.7 m high (vehicles, signs), where the road is detected in the same cloud",
        ((LEFT_OUT, "Excluded"), (COUNTED, "Included")), rare=True,
    )  # fmt: skip
    strays: str = choice(
        "Isolated points",
        "Points with fewer than two neighbours, which would give a false lowest clearance",
        STRAYS,
        rare=True,
    )
    stray_radius: float | None = number(
        "Neighbour radius", "Radius within which neighbours are counted",
        automatic="four times the spacing, 0.1 m at least", above=0.0, rare=True,
    )  # fmt: skip
    required: float | None = number(
        "Required", "Posted or required clearance, checked for each lane", automatic="none", above=0.0
    )
    posted_step: float = number(
        "Rounding step", "Step to which the posted value is rounded down", default=0.05, above=0.0, rare=True
    )
    margin: float = number(
        "Safety margin", "Subtracted before rounding down, e.g. for snow, resurfacing or thermal sag",
        default=0.0, low=0.0, rare=True,
    )  # fmt: skip
    registration_error: float = number(
        "Registration error",
        "95 % bound of the height difference between both scans",
        default=0.0,
        low=0.0,
        rare=True,
    )
    path: Drawn = drawn(LINE, "Path", "Path of the vehicle centre", flag="path", rare=True)
    along: str = holding(
        LINES, "Along", "Line or alignment instead of a drawn path", naming="which", flag="along", rare=True
    )
    which: str = text("Which of them", "Name of the line or alignment, where the holding has several", rare=True)
    envelope: str = text(
        "Envelope", "WIDTHxHEIGHT of the moving envelope, or its corners across,up separated by spaces", rare=True
    )
    length: float = number("Length", "Length of the vehicle or load", default=12.0, above=0.0, rare=True)
    wheelbase: float = number(
        "Wheelbase", "Distance between the axles, which follow the path", default=6.0, above=0.0, rare=True
    )
    step: float = number("Step", "Distance between tested stations", default=0.25, above=0.0, rare=True)
    wires: str = choice(
        "Wires", "Fit a catenary to each wire",
        ((FITTED, "Fitted"), (NOT_SOUGHT, "Off")), rare=True,
    )  # fmt: skip
    warmer: float = number("Temperature rise", "Assumed temperature rise of wires, in kelvins", "", default=0.0,
                           low=0.0, high=200.0, rare=True)  # fmt: skip
    expansion: float = number(
        "Expansion", "Thermal expansion of wires in 1e-6/K: 17 copper, 19 steel-reinforced aluminium, 23 aluminium",
        "", default=19.0, low=0.0, high=1000.0, rare=True,
    )  # fmt: skip
    later: tuple[Scope, ...] = many(
        CLOUDS,
        "Further dates",
        "Road surface at other dates, e.g. after resurfacing",
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
