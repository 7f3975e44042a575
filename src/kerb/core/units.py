"""Length units and the quantities made of them.

The international foot is 0.3048 m exactly, the US survey foot 1200/3937 m (NIST SP 811 and the Federal Register
notice of 2020; recalled). They differ by 2 ppm: 1.2 m at a state-plane easting of 600 000 m.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from kerb.core.errors import InputError


@dataclass(frozen=True)
class LengthUnit:
    """A length unit: its ``code`` in files and on the command line, its ``metres`` and how it is shown."""

    code: str
    metres: float
    symbol: str
    name: str

    @property
    def plural(self) -> str:
        """The name for more than one: metres, feet."""
        if "foot" in self.name:
            return self.name.replace("foot", "feet")
        return self.name + ("es" if self.name.endswith("ch") else "s")

    @property
    def decimals(self) -> int:
        """Decimals that a tenth of a millimetre needs in this unit."""
        return max(0, math.ceil(-math.log10(0.0001 / self.metres) - 1e-9))

    def area_code(self) -> str:
        """Code of the square of this unit, such as ``m2``."""
        return f"{self.code}2"

    def volume_code(self) -> str:
        """Code of the cube of this unit, such as ``m3``."""
        return f"{self.code}3"


METRE = LengthUnit("m", 1.0, "m", "metre")
FOOT = LengthUnit("ft", 0.3048, "ft", "international foot")
US_SURVEY_FOOT = LengthUnit("us-ft", 1200 / 3937, "ft (US)", "US survey foot")
LENGTH_UNITS = {unit.code: unit for unit in (METRE, FOOT, US_SURVEY_FOOT)}
# Units that files come in; a job itself is in one of the three above.
FILE_UNITS = {
    unit.code: unit
    for unit in (
        *LENGTH_UNITS.values(),
        LengthUnit("mm", 0.001, "mm", "millimetre"),
        LengthUnit("cm", 0.01, "cm", "centimetre"),
        LengthUnit("km", 1000.0, "km", "kilometre"),
        LengthUnit("in", 0.0254, "in", "inch"),
        LengthUnit("yd", 0.9144, "yd", "yard"),
    )
}
_OTHER = "unit:"

SHORT_TON_KG = 907.18474
YARD_M = 0.9144


@dataclass(frozen=True)
class DensityUnit:
    """A bulk density unit with the mass it gives: tonnes, or short tons in American practice."""

    code: str
    tonnes_per_m3: float
    symbol: str
    mass_code: str
    mass_tonnes: float


DENSITY_UNITS = {
    "t/m3": DensityUnit("t/m3", 1.0, "t/m³", "t", 1.0),
    "ton/yd3": DensityUnit("ton/yd3", SHORT_TON_KG / 1000 / YARD_M**3, "short ton/yd³", "ton", SHORT_TON_KG / 1000),
}


def length_unit(code: str) -> LengthUnit:
    """The unit of a code such as ``m``, ``ft``, ``us-ft`` or ``mm``. Raises InputError for an unknown one."""
    if code in FILE_UNITS:
        return FILE_UNITS[code]
    if code.startswith(_OTHER):
        metres, _, name = code[len(_OTHER) :].partition(":")
        try:
            return other_unit(float(metres), name)
        except ValueError:
            pass
    raise InputError(f"unit '{code}' is not one of {', '.join(FILE_UNITS)}")


def other_unit(metres: float, name: str) -> LengthUnit:
    """A unit that a reference system defines by itself, such as Clarke's foot. Raises ValueError when not positive."""
    if not 0 < metres < 1e9:
        raise ValueError(metres)
    return LengthUnit(f"{_OTHER}{metres!r}:{name}", metres, name, name)


def unit_of_metres(metres: float) -> LengthUnit | None:
    """The unit whose length in metres is ``metres`` to 1e-9, or None. Tells the two feet apart (2 ppm)."""
    for unit in FILE_UNITS.values():
        if abs(unit.metres - metres) < 1e-9:
            return unit
    return None


def convert(value: float, source: LengthUnit, target: LengthUnit, power: int = 1) -> float:
    """Convert a length (power 1), area (2) or volume (3) between units."""
    if source == target:
        return value
    return value * (source.metres / target.metres) ** power


def density_unit(code: str) -> DensityUnit:
    """The density unit of a code. Raises InputError for an unknown one."""
    try:
        return DENSITY_UNITS[code]
    except KeyError:
        raise InputError(f"density unit '{code}' is not one of {', '.join(DENSITY_UNITS)}") from None
