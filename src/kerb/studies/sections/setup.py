"""What a series of sections is asked: the line, its stations, how wide and thick, and what is looked at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.alignment import Alignment
from kerb.core.quantity import quantity, round_number
from kerb.core.section.slab import HIGHEST, LOWEST, MEDIAN
from kerb.core.section.stations import alignment_of, chosen_stations, parsed
from kerb.core.units import LengthUnit
from kerb.studies.chosen_line import line_of
from kerb.studies.drawn import Drawn
from kerb.studies.fields import (
    AGAINST,
    CLOUDS,
    LINE,
    LINES,
    POINTS,
    SURFACES,
    choice,
    drawn,
    holding,
    many,
    number,
    scope,
    switch,
    text,
)
from kerb.studies.profiles import eastward
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import Sources

# Without an interval or stations there are about so many sections.
USUAL_SECTIONS = 10
ACROSS, ALONG = "across", "along"
MANY_ = ("way", (ACROSS,))
NEEDED = "Draw the line along which the sections run, or choose a line or an alignment."


@dataclass(frozen=True)
class SectionsSetup(Setup):
    """Inputs and settings of a series of sections."""

    cloud: Scope = scope("Cloud", "Points whose sections are made", needed="Choose a cloud.")
    others: tuple[Scope, ...] = many(CLOUDS, "Further clouds", "Clouds of other dates, shown in the same sections")
    surfaces: tuple[Scope, ...] = many(
        SURFACES,
        "Surfaces",
        "Surfaces, grids or models; their exact cut is shown in the sections",
        AGAINST,
        flag="surface",
    )
    points: str = holding(
        POINTS, "Survey points", "Those that lie in a slice are listed with their distance from its plane", AGAINST
    )
    line: Drawn = drawn(
        LINE, "Line", "The sections stand square to this line; stations count from its first vertex", key="T"
    )
    along: str = holding(
        LINES, "Along", "A line or an alignment of the job in place of a drawn one; an alignment has stations of its own",
        naming="which",
    )  # fmt: skip
    which: str = text("Which of them", "Name of the line or alignment, where the holding has several", rare=True)
    way: str = choice(
        "Sections", "Many across the line, at its stations, or one along it, unrolled at its bends",
        ((ACROSS, "Across the line"), (ALONG, "Along the line")),
    )  # fmt: skip
    interval: float | None = number(
        "Interval", "Sections at all multiples of this station", automatic="about ten sections", low=0.0, when=MANY_
    )
    stations: str = text("Extra stations", "Typed as 120, 0+140; on their own where no interval is given", when=MANY_)
    at_ends: bool = switch("At both ends", "A section at either end of the line too", when=MANY_)
    at_vertices: bool = switch(
        "At each vertex", "A section wherever the line bends or its curvature changes", rare=True, when=MANY_
    )
    width: float = number(
        "Width", "Length of each section, half to the left and half to the right", default=20.0, low=0.0, when=MANY_
    )
    thickness: float = number(
        "Thickness", "Points within half of it before and behind the plane belong to the section", default=0.5, low=0.0
    )
    skew: float = number(
        "Skew", "Sections are turned clockwise by this much from square to the line", "deg", default=0.0, low=-80.0,
        high=80.0, rare=True, when=MANY_,
    )  # fmt: skip
    take: str = choice(
        "Ground line", "Which elevation the line of a section takes at each step",
        ((MEDIAN, "Median"), (LOWEST, "Lowest"), (HIGHEST, "Highest")),
    )  # fmt: skip
    step: float | None = number(
        "Step", "Offsets between the places of the line", automatic="four point spacings", low=0.0
    )
    tolerance: float | None = number(
        "Simplify within", "Vertices are left out where the line stays this near to what it was", low=0.0, rare=True
    )

    def missing(self) -> list[str]:
        """What is still needed: a cloud and a line."""
        return [*super().missing(), *([] if self.line or self.along else [NEEDED])]

    def alignment(self, sources: Sources) -> Alignment:
        """The line or alignment along which the sections run.

        Raises InputError, when it cannot be or there are several and none of them is named.
        """
        if not self.along:
            # One along a drawn line is looked at as all profiles are, its western or southern end at the left.
            places = eastward(self.line.places) if self.way == ALONG else self.line.places
            return alignment_of(places, "the line")
        return line_of(sources, "along", self.which)

    def chosen(self, alignment: Alignment, unit: LengthUnit) -> np.ndarray:
        """The stations of the sections. Raises InputError, naming what cannot be."""
        typed, interval = parsed(self.stations, unit), self.interval
        if interval is None and not len(typed) and not self.at_ends and not self.at_vertices:
            interval = round_number(alignment.length / USUAL_SECTIONS)
        found = chosen_stations(alignment, interval, typed, self.at_ends, self.at_vertices)
        if not len(found):
            raise InputError(f"no station falls on the line, which is {quantity(alignment.length, unit.code)} long")
        return found
