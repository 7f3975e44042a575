"""What a tunnel is asked: which points along which alignment, against which design line, at which stations, how it is read."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.geometry.alignment import Alignment
from kerb.studies.chosen_line import line_of
from kerb.studies.fields import AGAINST, LINES, choice, holding, number, scope, text
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import Sources

RADIAL, NORMAL = "radial", "normal"
LEFT_OUT, COUNTED = "left-out", "counted"


@dataclass(frozen=True)
class TunnelSetup(Setup):
    """Inputs and settings of a tunnel."""

    cloud: Scope = scope("Cloud", "Points of the wall, with what is in the bore", needed="Choose a cloud.")
    alignment: str = holding(
        LINES, "Alignment", "The line that the design line follows, with elevations", AGAINST, naming="which",
        needed="Choose the alignment.",
    )  # fmt: skip
    which: str = text(
        "Which of them", "Name of the alignment or line, where the holding has several", section=AGAINST, rare=True
    )
    profile: str = text(
        "Design line", "circle:R, horseshoe:WIDTHxHEIGHT, rectangle:WIDTHxHEIGHT, or corners x,y x,y ... to the right looking "
        "up-station and up, from the alignment; on the command line also a .dxf or .csv file", section=AGAINST,
        needed="Say the design line, such as circle:3.5.",
    )  # fmt: skip
    earlier: Scope = scope(
        "Earlier scan", "The wall before shotcrete, lining or movement; the change to it is told", AGAINST, rare=True
    )
    interval: float | None = number(
        "Interval", "Sections at all multiples of this station", above=0.0, automatic="about twenty"
    )
    stations: str = text("Extra stations", "Typed as 120, 0+140; on their own where no interval is given")
    thickness: float = number("Thickness", "Of a slice, half of it ahead and half behind", default=0.2, above=0.0)
    cell: float | None = number(
        "Cell",
        "Size of the cells of the map of the wall",
        above=0.0,
        automatic="0.1 m, three spacings of the points at least",
    )
    tolerance: float = number(
        "Tolerance", "How far the wall may stand inside or outside of the line", default=0.05, low=0.0
    )
    way: str = choice(
        "Measured", "Along rays from the middle of the design line, or square to it",
        ((RADIAL, "Radially"), (NORMAL, "Square to the line")),
    )  # fmt: skip
    stands_off: float = number(
        "Stands off", "What stands farther in than the wall round it by more than this is no wall: pipes, ducts, cables, people",
        default=0.3, above=0.0, rare=True,
    )  # fmt: skip
    alignment_error: float = number(
        "Alignment error", "95 % bound of where the cloud lies across the alignment", default=0.0, low=0.0, rare=True
    )
    lining: float | None = number(
        "Specified thickness", "Of shotcrete or lining, held against the change since the earlier scan", automatic="none",
        above=0.0, rare=True,
    )  # fmt: skip

    def line(self, sources: Sources) -> Alignment:
        """The alignment. Raises InputError, when none of several is named."""
        return line_of(sources, "alignment", self.which, with_profile=True)
