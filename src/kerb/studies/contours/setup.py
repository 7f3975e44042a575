"""What contours are asked: of which surface, at what interval, from where, smooth or exact."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.studies.fields import COMPARED, number, strays, surface, switch
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup


@dataclass(frozen=True)
class ContoursSetup(Setup):
    """Inputs and settings of contours."""

    surface: Scope = surface(
        "Surface", "What the contours are of: a cloud, surface, grid or model", COMPARED, needed="Choose a surface.",
        finished=True, ground=True,
    )  # fmt: skip
    interval: float = number("Interval", "Height between two contours", default=0.5, low=0.0)
    base: float = number("Base", "Levels are counted from this elevation", default=0.0, rare=True)
    smooth: bool = switch("Smooth", "Contours of a smooth surface through the same points; they never cross")
    longest: float | None = number(
        "Longest edge", "Contours do not run over triangles with a longer edge in plan",
        automatic="no limit inside, eight usual edges along the rim", low=0.0,
        rare=True,
    )  # fmt: skip
    strays: str = strays()
    keep: bool = switch("Put them into the job", "The contours become a holding of lines", rare=True)
