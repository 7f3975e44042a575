"""What is asked of a face: two dates of it, the frame in which it is a surface, and what of it counts."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.studies.drawn import Drawn
from kerb.studies.fields import AGAINST, COMPARED, PLACES, RING, choice, drawn, number, scope, strays, switch
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

PLANE, AXIS = "plane", "axis"


@dataclass(frozen=True)
class RockfaceSetup(Setup):
    """Inputs and settings of a face."""

    earlier: Scope = scope(
        "Earlier", "Cloud of the face at the earlier date", AGAINST, needed="Choose the earlier cloud."
    )
    later: Scope = scope("Later", "Cloud of the face at the later date", COMPARED, positional=True,
                         needed="Choose the later cloud.", dated=1)  # fmt: skip
    area: Drawn = drawn(RING, "Area", "Only points inside of it, seen from above, count", key="T", flag="within")
    frame: str = choice(
        "Frame", "Where the face is a surface: laid on a plane, or unrolled about an axis",
        ((PLANE, "On its plane"), (AXIS, "Unrolled about an axis")),
    )  # fmt: skip
    axis: Drawn = drawn(
        PLACES, "Axis", "One place: an upright axis there; two: from one to the other. Without, the axis of a fitted cylinder",
        when=("frame", (AXIS,)),
    )  # fmt: skip
    front: Drawn = drawn(
        PLACES, "In front", "A place in front of the face, on its open side; without, the setups of the scanner or its level "
        "parts say it", when=("frame", (PLANE,)), flag="seen-from",
    )  # fmt: skip
    turned: bool = switch(
        "Other side out", "Out is the other way: into what Kerb took for the inside, or towards the axis"
    )
    longest: float | None = number(
        "Longest edge", "Triangles with a longer edge along the face are left out, so that gaps stay open",
        automatic="eight edges", low=0.0,
    )  # fmt: skip
    cell: float | None = number(
        "Cell", "Side of the cells of the second way", automatic="about 300 along the longer side", low=0.0, rare=True
    )
    strays: str = strays()
    level_error: float | None = number(
        "Place of the epochs", "How far the two may lie before one another as a whole, at 95 %", automatic="not stated", low=0.0,
    )  # fmt: skip
