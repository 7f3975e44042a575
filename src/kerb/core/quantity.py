"""How numbers with units are written: one place for decimals, grouping, signs and unit symbols."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

THIN_SPACE = "\u2009"
MINUS = "\u2212"
DENSITY_DECIMALS = 2
ROUND = (1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0)

_SYMBOLS = {
    "m": "m", "m2": "m²", "m3": "m³",
    "ft": "ft", "ft2": "ft²", "ft3": "ft³",
    "us-ft": "ft (US)", "us-ft2": "ft² (US)", "us-ft3": "ft³ (US)",
    "t": "t", "ton": "short tons", "deg": "°", "%": "%", "share": "%", "": "", "1": "",
    "t/m3": "t/m³", "ton/yd3": "short ton/yd³",
    "yd3": "yd³", "us-yd3": "yd³ (US)", "acre": "acres", "us-acre": "acres (US)", "ha": "ha",
}  # fmt: skip

# Units a job may have its areas and volumes printed in, by what is chosen and the unit they are computed in: the factor
# and the code. A yard is three feet, an acre 43 560 square feet, whichever foot (NIST Handbook 44, appendix C, from
# memory); a hectare is 10 000 square metres (BIPM, SI brochure, table 8).
PRINTED_IN: dict[tuple[str, str], tuple[float, str]] = {
    ("yd3", "ft3"): (1 / 27, "yd3"), ("yd3", "us-ft3"): (1 / 27, "us-yd3"),
    ("acre", "ft2"): (1 / 43560, "acre"), ("acre", "us-ft2"): (1 / 43560, "us-acre"),
    ("ha", "m2"): (1e-4, "ha"),
}  # fmt: skip
# A hectare or an acre is large: that many decimals more than a square metre or foot has.
LARGE_AREAS = {"acre": 2, "us-acre": 2, "ha": 3}


@dataclass(frozen=True)
class Decimals:
    """Decimals shown for each kind of quantity, and the units areas and volumes are printed in (empty: those of the job).

    Display only: computation, JSON and files keep the job unit and full precision.
    """

    length: int = 3
    area: int = 1
    volume: int = 1
    mass: int = 0
    angle: int = 1
    area_in: str = ""
    volume_in: str = ""

    def printed(self, unit: str) -> tuple[float, str]:
        """Factor and code of the unit that values in a unit are printed in."""
        if unit == "share":
            return 100.0, "%"
        for chosen in (self.area_in, self.volume_in):
            if (chosen, unit) in PRINTED_IN:
                return PRINTED_IN[chosen, unit]
        return 1.0, unit

    def of(self, unit: str) -> int:
        """Decimals for a unit code."""
        if unit in LARGE_AREAS:
            return self.area + LARGE_AREAS[unit]
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


def labelled(label: str, unit: str) -> str:
    """A label with the symbol of its unit, as headings and axes have it."""
    mark = symbol(unit)
    if not mark:
        return label
    return f"{label}, {mark}" if "(" in mark else f"{label} ({mark})"


def first_of(names: Sequence[str], most: int) -> str:
    """The first of some names, and how many there are besides."""
    left = len(names) - most
    return ", ".join(names[:most]) + (f" and {left} more" if left > 0 else "")


def readable(text: str) -> str:
    """A text that every file can hold: what of a file name is no UTF-8 becomes question marks."""
    return text.encode("utf-8", "replace").decode()


def number(value: float | None, decimals: int = 3, signed: bool = False) -> str:
    """A number with thin-space grouping and a real minus sign; an em dash for None or NaN."""
    if value is None or math.isnan(value):
        return "—"
    if math.isinf(value):
        return ("+" if value > 0 else MINUS) + "∞"
    rounded = round(value, decimals)
    text = f"{abs(rounded):,.{max(decimals, 0)}f}".replace(",", THIN_SPACE)
    if rounded < 0:
        return MINUS + text
    return "+" + text if signed and rounded > 0 else text


def fitting(u95: float | None, most: int) -> int:
    """Decimals that a bound allows: its two first digits, and never more than ``most``; negative for tens and more."""
    if u95 is None or not math.isfinite(u95) or u95 <= 0:
        return most
    return min(most, 1 - math.floor(math.log10(u95)))


def least(u95: float | None, places: int) -> str:
    """A bound with so many decimals; one that would read nought is told as less than the last of them."""
    if u95 is not None and 0 < u95 < 0.5 * 10.0**-places:
        return f"<\u00a0{number(10.0**-places, places)}"
    return number(u95, places)


def places_for(value: float, count: int) -> int:
    """Decimals with which a number has so many digits that count, or more."""
    return max(0, count - 1 - math.floor(math.log10(abs(value)))) if value else 0


def digits(value: float, count: int = 2) -> str:
    """A number with so many digits that count, and no power of ten."""
    return number(value, places_for(value, count))


def telling_apart(step: float) -> int:
    """Decimals with which values a step apart differ in what is written of them."""
    return max(0, -math.floor(math.log10(step))) if step > 0 else 0


def bound(u95: float | None, unit: str, decimals: Decimals | None = None) -> str:
    """A 95 % bound with its unit, to two digits: ``± 2 400 ft³``."""
    if u95 is None:
        return "—"
    shown = decimals or Decimals()
    factor, unit = shown.printed(unit)
    return f"±\u00a0{_with_mark(least(u95 * factor, fitting(u95 * factor, shown.of(unit))), unit)}"


def quantity(
    value: float | None, unit: str, decimals: Decimals | None = None, signed: bool = False, u95: float | None = None,
    resolution: float = 0.0,
) -> str:  # fmt: skip
    """A number with its unit symbol, such as ``2 184.3 m³``; with no more digits than its bound ``u95`` allows.

    ``resolution`` is the smallest step that says something, in the unit: a figure is never shown coarser than it.
    """
    shown = decimals or Decimals()
    factor, unit = shown.printed(unit)
    value = None if value is None else value * factor
    most = finer(shown.of(unit), resolution * factor)
    text = number(value, fitting(None if u95 is None else u95 * factor, most), signed)
    return text if value is None else _with_mark(text, unit)


def _with_mark(text: str, unit: str) -> str:
    mark = symbol(unit)
    if not mark:
        return text
    return f"{text}{mark}" if mark in ("°",) else f"{text}\u00a0{mark}"


def rounded(value: float) -> float:
    """A length rounded to two digits, to be offered as a setting."""
    return float(f"{value:.2g}")


def round_number(value: float) -> float:
    """The nearest number that people would choose: 1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6 or 8, times a power of ten."""
    return stepped(value, ROUND)


def one_two_five(value: float) -> float:
    """The number of the series 1, 2, 5, 10 … that is nearest to a value above zero, as steps of maps and contours are."""
    return stepped(value, (1.0, 2.0, 5.0, 10.0))


def round_step(span: float, parts: int) -> float:
    """A step of the series 1, 2, 2.5, 5, 10 … that cuts a span into about so many parts, and no more."""
    return stepped(span / max(parts, 1), (1.0, 2.0, 2.5, 5.0, 10.0), up=True) if span > 0 else 1.0


def stepped(value: float, series: tuple[float, ...], up: bool = False) -> float:
    """The number of a series, times a power of ten, that is nearest to a value above zero by its ratio, or the next one ``up`` (a
    thousandth is let pass)."""
    if value <= 0 or not math.isfinite(value):
        return value
    power = 10.0 ** math.floor(math.log10(value))
    if up:
        return float(f"{next(step for step in series if step * power >= value * 0.999) * power:.2g}")
    return float(f"{min(series, key=lambda step: abs(math.log(value / power / step))) * power:.2g}")


def finer(decimals: int, resolution: float) -> int:
    """So many decimals, or as many as a resolution needs: four of 0.0001, four of 0.00033."""
    if not resolution > 0:
        return decimals
    return max(decimals, math.ceil(-math.log10(resolution) - 1e-9))


def decimals_of(step: float) -> int:
    """How many decimals the multiples of a step need: one of 2.5, two of 0.25; no more than nine."""
    return next((n for n in range(9) if abs(step * 10**n - round(step * 10**n)) < 1e-6 * max(step * 10**n, 1e-9)), 9)


def plain(value: object) -> str:
    """A value for the clipboard or CSV: full precision, point as decimal mark, no grouping."""
    if value is None:
        return ""
    if isinstance(value, float):
        return "" if math.isnan(value) else repr(round(value, 13))
    return str(value)


def count(value: int) -> str:
    """A point count in short form: ``2.41 M``, ``84 210``."""
    if value >= 1_000_000:
        return f"{value / 1e6:.2f}\u00a0M"
    return f"{value:,}".replace(",", THIN_SPACE)
