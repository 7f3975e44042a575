"""What a stockpile study is asked: the toe line, the base, the points that count, density and stated errors."""

from __future__ import annotations

from dataclasses import asdict, dataclass, fields
from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud import filters
from kerb.core.cloud.filters import Filter
from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.setting import Setting, described, setting
from kerb.core.units import density_unit

BASES = (
    ("toe", "Surface through the toe"),
    ("plane", "Best-fit plane through the toe"),
    ("lowest", "Lowest toe level"),
    ("level", "Given level"),
    ("surface", "Another surface"),
)
DENSITIES = (("t/m3", "t/m³"), ("ton/yd3", "short ton/yd³"))


@dataclass(frozen=True)
class StockpileSetup:
    """Inputs and settings of a stockpile study, in the job unit.

    ``toe`` is the line in plan; ``toe_z`` holds typed elevations, None where the ground is read. ``only`` are filters
    that the points must pass as well.
    """

    cloud: str = ""
    toe: tuple[tuple[float, float], ...] = ()
    toe_z: tuple[float | None, ...] = ()
    classes: tuple[int, ...] = ()
    only: tuple[Filter, ...] = ()
    part: str = setting("", Setting("Part", "Only points of this part of the cloud count; all when empty"))
    base: str = setting("toe", Setting("Base", "What the volume stands on", choices=BASES))
    level: float | None = setting(None, Setting("Level", "Elevation of a given level", "length"))
    base_surface: str = setting("", Setting("Surface", "Cloud or surface that is the base"))
    cell: float | None = setting(
        None,
        Setting(
            "Grid cell",
            "Cell of the second, independent volume",
            "length",
            low=0.0,
            automatic="twice the spacing",
        ),
    )
    gap_edge: float | None = setting(
        None,
        Setting(
            "Gap", "A triangle with a longer side than this bridges a gap in the data", "length", low=0.0,
            automatic="six times the spacing",
        ),
    )  # fmt: skip
    material: str = setting("", Setting("Material", "Name of the material, for the report"))
    density: float | None = setting(None, Setting("Density", "Bulk density of the material", "density", low=0.0))
    density_unit: str = setting("t/m3", Setting("Density unit", "Unit of the density", choices=DENSITIES))
    bias: float = setting(
        0.0,
        Setting("Vertical bias", "95 % bound of a height offset between top and base surveys", "length", low=0.0),
    )
    toe_error: float | None = setting(
        None,
        Setting("Toe position", "95 % bound of how far the line may be off the true toe", "length", low=0.0,
                automatic="three times the spacing"),
    )  # fmt: skip

    def ring(self) -> Floats:
        """The toe line, (n, 2), counter-clockwise. Raises InputError as :func:`polygon.checked` does."""
        if not self.toe:
            raise InputError("toe line: not drawn yet")
        return polygon.checked(np.array(self.toe), "toe line")

    def typed(self) -> dict[int, float]:
        """Typed elevations by vertex number of :meth:`ring`. Raises InputError when a line with them is not plain."""
        if not any(z is not None for z in self.toe_z):
            return {}
        ring = self.ring()
        places = {place: z for place, z in zip(self.toe, self.toe_z, strict=True) if z is not None}
        return {i: places[p] for i, p in enumerate(map(tuple, ring.tolist())) if p in places}

    def check(self) -> None:
        """Raise InputError, saying which setting is wrong and why."""
        if self.base not in dict(BASES):
            raise InputError(f"base '{self.base}' is not one of {', '.join(dict(BASES))}")
        if self.base == "level" and self.level is None:
            raise InputError("base 'level' needs a level (an elevation in the job unit)")
        if self.base == "surface" and not self.base_surface:
            raise InputError("base 'surface' needs a cloud or surface to stand on")
        density_unit(self.density_unit)
        for condition in self.only:
            condition.check()
        for item in fields(self):
            about, value = described(item), getattr(self, item.name)
            if about is None or not isinstance(value, float):
                continue
            if not np.isfinite(value):
                raise InputError(f"{about.label}: {value} is not a number that can be used")
            if about.low is not None and (value < about.low or (value == about.low and item.default is None)):
                raise InputError(f"{about.label}: {value:g} must be above {about.low:g}")
        self.ring()

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary."""
        data = asdict(self) | {"only": filters.to_json(self.only)}
        return {key: list(value) if isinstance(value, tuple) else value for key, value in data.items()}

    @staticmethod
    def from_json(data: dict[str, Any]) -> StockpileSetup:
        """The reverse of :meth:`to_json`; unknown keys of newer versions are left out."""
        known = {item.name for item in fields(StockpileSetup)}
        values = {key: value for key, value in data.items() if key in known}
        for key in ("toe_z", "classes"):
            values[key] = tuple(values.get(key, ()))
        values["only"] = filters.from_json(values.get("only", ()))
        values["toe"] = tuple((float(x), float(y)) for x, y in values.get("toe", ()))
        return StockpileSetup(**values)
