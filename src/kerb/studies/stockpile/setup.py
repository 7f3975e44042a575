"""What a stockpile study is asked: the toe line, the base, the points that count, density and stated errors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kerb.core.arrays import Floats
from kerb.core.geometry.area import Area, ring_of
from kerb.core.units import density_unit
from kerb.studies.drawn import Drawn
from kerb.studies.fields import AGAINST, LINE, RING, choice, drawn, number, scope, strays, surface, text
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

BASES = (
    ("toe", "Surface through the toe"),
    ("plane", "Best-fit plane through the toe"),
    ("lowest", "Lowest toe level"),
    ("level", "Given level"),
    ("surface", "Another surface"),
)
DENSITIES = (("t/m3", "t/m³"), ("ton/yd3", "short ton/yd³"))


OVER_GROUND = "ground"
STRETCHES = ((OVER_GROUND, "Ground: base read beside it"), ("other", "Not ground: base carried over from the rest"))
CUTS = ("top", "base")


@dataclass(frozen=True)
class HeapSetup(Setup):
    """What any study of heaps is asked, in the job unit: the cloud of the top, the base, and how it is computed."""

    cloud: Scope = scope("Top", "The cloud whose surface is the top of the heap", needed="choose the cloud of the top")
    base: str = choice("Base", "What the volume stands on", BASES, section=AGAINST)
    level: float | None = number(
        "Level",
        "Elevation of a given level",
        section=AGAINST,
        when=("base", ("level",)),
        needed="base 'level' needs a level (an elevation in the job unit)",
        automatic="",
    )
    surface: Scope = surface(
        "Surface",
        "Cloud or surface that is the base",
        when=("base", ("surface",)),
        flag="base_surface",
        needed="base 'surface' needs a cloud or surface to stand on",
    )
    density: float | None = number(
        "Density", "Bulk density of the material", "density", low=0.0, unit_by="density_unit"
    )
    density_unit: str = choice("Density unit", "Unit of the density", DENSITIES, in_feet="ton/yd3")
    cell: float | None = number(
        "Grid cell", "Cell of the second, independent volume", low=0.0, automatic="twice the spacing", rare=True
    )
    gap_edge: float | None = number(
        "Gap",
        "A triangle with a longer side than this bridges a gap in the data",
        low=0.0,
        automatic="six times the spacing",
        rare=True,
    )
    toe_error: float | None = number(
        "Toe position",
        "95 % bound of how far the line may be off the true toe",
        low=0.0,
        automatic="three times the spacing",
        rare=True,
    )
    strays: str = strays()
    bias: float = number(
        "Vertical bias", "95 % bound of a height offset between top and base surveys", default=0.0, low=0.0, rare=True
    )

    def check(self) -> None:
        """Raises InputError, saying which setting is wrong and why."""
        super().check()
        density_unit(self.density_unit)


@dataclass(frozen=True)
class StockpileSetup(HeapSetup):
    """Inputs and settings of a stockpile study: one heap inside its toe line."""

    toe: Drawn = drawn(
        RING,
        "Toe line",
        "Line round the foot of the heap; right-click a vertex to type its elevation, a stretch to say what it runs over",
        needed="Draw a line round the foot of the heap.",
        stretches=STRETCHES,
        key="T",
    )
    material: str = text("Material", "Name of the material, for the report", show_only=True)
    length_profile: Drawn = drawn(
        LINE,
        "Length profile",
        "Line of the profile along the heap",
        cuts=CUTS,
        title="Length profile",
        show_only=True,
        hidden=True,
    )
    width_profile: Drawn = drawn(
        LINE,
        "Width profile",
        "Line of the profile across the heap",
        cuts=CUTS,
        title="Width profile",
        show_only=True,
        hidden=True,
    )

    def ring(self) -> Floats:
        """The toe line, (n, 2), counter-clockwise. Raises InputError as :func:`polygon.checked` does."""
        return self.toe.ring("toe line")

    def area(self) -> Area:
        """What the toe line encloses, less its holes. Raises InputError, when a hole does not lie inside it."""
        area = Area((ring_of(self.ring()), *self.toe.holes))
        if self.toe.holes:
            area.check("toe line")
        return area


def upgraded(data: dict[str, Any]) -> dict[str, Any]:
    """A setup as jobs of the first weeks kept it, in the present form."""
    if not isinstance(data.get("cloud"), str):
        return data
    narrowed: dict[str, Any] = {key: data[key] for key in ("classes", "part", "only") if key in data}
    rest = {key: value for key, value in data.items() if key not in (*narrowed, "toe", "toe_z", "base_surface")}
    return rest | {
        "cloud": {"holding": data["cloud"], **narrowed}, "toe": {"xy": data.get("toe", ()), "z": data.get("toe_z", ())},
        "surface": {"holding": data.get("base_surface", "")},
    }  # fmt: skip
