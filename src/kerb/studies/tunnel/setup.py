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

    cloud: Scope = scope("Cloud", "Scan of the tunnel", needed="Choose a cloud.")
    alignment: str = holding(
        LINES, "Alignment", "Alignment with elevations", AGAINST, naming="which",
        needed="Choose the alignment.",
    )  # fmt: skip
    which: str = text(
        "Which of them", "Name of the alignment or line, where the holding has several", section=AGAINST, rare=True
    )
    profile: str = text(
        "Design profile", "circle:R, horseshoe:WIDTHxHEIGHT, rectangle:WIDTHxHEIGHT, or corners x,y x,y ... to the right looking "
        "up-station and up, from the alignment; on the command line also a .dxf or .csv file", section=AGAINST,
        needed="Enter the design profile, e.g. circle:3.5.",
    )  # fmt: skip
    earlier: Scope = scope(
        "Earlier scan",
        "The wall before shotcrete, lining or deformation; the change since then is reported",
        AGAINST,
        rare=True,
    )
    interval: float | None = number(
        "Interval", "Sections at all multiples of this station", above=0.0, automatic="about twenty"
    )
    stations: str = text("Extra stations", "Single stations, e.g. 120, 0+140; used alone where no interval is given")
    thickness: float = number(
        "Thickness", "Thickness of a section slice, half ahead and half behind", default=0.2, above=0.0
    )
    cell: float | None = number(
        "Cell",
        "Cell size of the wall map",
        above=0.0,
        automatic="0.1 m, at least three point spacings",
    )
    tolerance: float = number(
        "Tolerance", "Permitted deviation on either side of the design profile", default=0.05, low=0.0
    )
    way: str = choice(
        "Direction", "Radial from the centre of the design profile, or normal to it",
        ((RADIAL, "Radial"), (NORMAL, "Normal to the profile")),
    )  # fmt: skip
    stands_off: float = number(
        "Object limit", "Anything this much farther in than the surrounding wall is excluded: pipes, ducts, cables, people",
        default=0.3, above=0.0, rare=True,
    )  # fmt: skip
    alignment_error: float = number(
        "Alignment error",
        "95 % bound of the position of the cloud across the alignment",
        default=0.0,
        low=0.0,
        rare=True,
    )
    lining: float | None = number(
        "Specified thickness", "Thickness of shotcrete or lining, compared with the change since the earlier scan",
        automatic="none", above=0.0, rare=True,
    )  # fmt: skip

    def line(self, sources: Sources) -> Alignment:
        """The alignment. Raises InputError, when none of several is named."""
        return line_of(sources, "alignment", self.which, with_profile=True)
