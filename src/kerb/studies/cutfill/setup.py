"""What cut and fill is asked: two surfaces or a level, where, how, what has not moved, and which changes count."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.geometry.area import Area
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import (
    AGAINST,
    COMPARED,
    LINE,
    SURFACES,
    WHERE,
    choice,
    drawn,
    many,
    number,
    rings,
    strays,
    surface,
    switch,
)
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

EXACT, GRID = "exact", "grid"
KEEP, OFFSET, PLANE = "none", "offset", "plane"
AUTOMATIC, NO_DESIGN, REFUSE = "auto", "none", "refuse"
# Which fields a choice of design names.
DESIGNS = {AUTOMATIC: (), NO_DESIGN: (), "earlier": ("earlier",), "later": ("later",), "both": ("earlier", "later")}
NEEDED = "Choose the later surface, or type a level."


@dataclass(frozen=True)
class CutfillSetup(Setup):
    """Inputs and settings of cut and fill. Fill is where the later surface lies above the earlier one."""

    earlier: Scope = surface("Earlier", "Cloud, surface, grid or model at the earlier date: what the later one is compared with",
                             AGAINST, needed="Choose the earlier surface.", ground=True)  # fmt: skip
    later: Scope = surface("Later", "Cloud, surface, grid, model or design at the later date", COMPARED, positional=True,
                           level="level", swap="exchanged", dated=1, ground=True)  # fmt: skip
    level: float | None = number(
        "Level", "An elevation in place of the later surface", section=COMPARED, automatic="a surface is compared"
    )
    exchanged: bool = switch(
        "Swap earlier and later",
        "The later one counts as the earlier one, and the earlier as the later",
        section=AGAINST,
    )
    areas: tuple[Item, ...] = rings(
        "Areas", "Each is counted by itself; without any, all the ground that both cover", (), key="T", flag="within"
    )
    further: tuple[Scope, ...] = many(
        SURFACES, "Further dates", "Later epochs, each compared with the earlier surface too: a table and a chart by date",
        section=COMPARED, rare=True,
    )  # fmt: skip
    stable: tuple[Item, ...] = rings(
        "Stable ground",
        "Areas that cannot have changed: they tell how the two surfaces lie to one another",
        (),
        flag="stable",
    )
    take_out: str = choice(
        "Take out", "What the stable ground says is taken out of the later surface before it is compared",
        ((KEEP, "nothing"), (OFFSET, "its offset"), (PLANE, "offset and tilt")), section=WHERE,
        when=("stable", ()),
    )  # fmt: skip
    profile: Drawn = drawn(
        LINE, "Profile", "Both surfaces are shown along this line; west to east through the middle when none is drawn",
        rare=True, show_only=True, cuts=("earlier", "later"), title="Profile",
    )  # fmt: skip
    labels: float | None = number(
        "Labels every",
        "The change is written on the map on a grid of this spacing",
        automatic="none",
        low=0.0,
        rare=True,
    )
    method: str = choice(
        "Method", "Exact: both triangulations laid over one another; grid: columns at the middle of cells",
        ((EXACT, "Exact"), (GRID, "Grid")),
    )  # fmt: skip
    cell: float | None = number(
        "Cell", "Side of the cells of the grid", automatic="about 300 along the longer side", low=0.0
    )
    detect: float | None = number(
        "Dead band", "Changes up to this much are not counted", automatic="every change counts", low=0.0
    )
    strays: str = strays()
    longest: float | None = number(
        "Longest edge", "Triangles of clouds with a longer edge in plan are left out, so that gaps stay open",
        automatic="no limit inside, eight usual edges along the rim", low=0.0, rare=True,
    )  # fmt: skip
    sheet: str = choice(
        "Faces over one another", "Which sheet of a surface counts where its triangles lie over one another",
        ((REFUSE, "Refuse"), ("top", "Top"), ("bottom", "Bottom")), rare=True,
    )  # fmt: skip
    design: str = choice(
        "Design", "A design has no noise and is exact between its vertices; by itself a model and what follows planes is one",
        ((AUTOMATIC, "Found by itself"), (NO_DESIGN, "None"), ("earlier", "Earlier"), ("later", "Later"), ("both", "Both")),
        rare=True,
    )  # fmt: skip
    level_error: float | None = number(
        "Vertical registration", "How far the two may lie above one another as a whole, at 95 %, where no stable ground says it",
        automatic="not stated", low=0.0, rare=True,
    )  # fmt: skip
    swell: float | None = number(
        "Swell", "By how much cut grows when it is loosened", "%", low=0.0, high=300.0, rare=True
    )
    shrink: float | None = number(
        "Shrink", "By how much fill loses when it is compacted", "%", low=0.0, high=90.0, rare=True
    )

    def missing(self) -> list[str]:
        """What is still needed: two surfaces, or one and a level."""
        return [*super().missing(), *([] if self.later.holding or self.level is not None else [NEEDED])]

    def named_areas(self, field: str = "areas") -> list[Area]:
        """The areas of a field that count, with their names."""
        return [
            Area((item.ring.xy, *item.ring.holes), item.name or f"Area {number_}")
            for number_, item in enumerate(getattr(self, field), 1) if item.taken
        ]  # fmt: skip
