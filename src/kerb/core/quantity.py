"""How numbers with units are written: one place for decimals, grouping, signs and unit symbols."""

from __future__ import annotations

import math
from dataclasses import dataclass

THIN_SPACE = "\u2009"
MINUS = "\u2212"
DENSITY_DECIMALS = 2

_SYMBOLS = {
    "m": "m", "m2": "m²", "m3": "m³",
    "ft": "ft", "ft2": "ft²", "ft3": "ft³",
    "us-ft": "ft (US)", "us-ft2": "ft² (US)", "us-ft3": "ft³ (US)",
    "t": "t", "ton": "short tons", "deg": "°", "%": "%", "": "", "1": "",
    "t/m3": "t/m³", "ton/yd3": "short ton/yd³",
}  # fmt: skip


@dataclass(frozen=True)
class Decimals:
    """Decimals shown for each kind of quantity; display only, computation keeps full precision."""

    length: int = 3
    area: int = 1
    volume: int = 1
    mass: int = 0
    angle: int = 1

    def of(self, unit: str) -> int:
        """Decimals for a unit code."""
        if unit in ("t", "ton"):
            return self.mass
        if unit in ("deg", "%"):
            return self.angle
        if "/" in unit:
            return DENSITY_DECIMALS
        if unit.endswith("2"):
            return self.area
        if unit.endswith("3"):
            return self.volume
        if unit in ("", "1"):
            return 0
        return self.length


def symbol(unit: str) -> str:
    """The printed symbol of a unit code: ``m3`` becomes ``m³``."""
    return _SYMBOLS.get(unit, unit)


def number(value: float | None, decimals: int = 3, signed: bool = False) -> str:
    """A number with thin-space grouping and a real minus sign; an em dash for None or NaN."""
    if value is None or math.isnan(value):
        return "—"
    if math.isinf(value):
        return ("+" if value > 0 else MINUS) + "∞"
    rounded = round(value, decimals)
    text = f"{abs(rounded):,.{decimals}f}".replace(",", THIN_SPACE)
    if rounded < 0:
        return MINUS + text
    return "+" + text if signed and rounded > 0 else text


def quantity(value: float | None, unit: str, decimals: Decimals | None = None, signed: bool = False) -> str:
    """A number with its unit symbol, such as ``2 184.3 m³``."""
    places = (decimals or Decimals()).of(unit)
    text = number(value, places, signed)
    mark = symbol(unit)
    if value is None or not mark:
        return text
    return f"{text}{mark}" if mark in ("°",) else f"{text}\u00a0{mark}"


def rounded(value: float) -> float:
    """A length rounded to two digits, to be offered as a setting."""
    return float(f"{value:.2g}")


def plain(value: object) -> str:
    """A value for the clipboard or CSV: full precision, point as decimal mark, no grouping."""
    if value is None:
        return ""
    if isinstance(value, float):
        return "" if math.isnan(value) else repr(round(value, 10))
    return str(value)


def count(value: int) -> str:
    """A point count in short form: ``2.41 M``, ``84 210``."""
    if value >= 1_000_000:
        return f"{value / 1e6:.2f}\u00a0M"
    return f"{value:,}".replace(",", THIN_SPACE)
