"""Which mix-up of units explains a ratio between two lengths of the same thing."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.errors import InputError
from kerb.core.units import FILE_UNITS, FOOT, US_SURVEY_FOOT

_RARITY = {FILE_UNITS[code].plural: rank for code, rank in zip(
    ("m", "ft", "mm", "us-ft", "in", "cm", "yd", "km"), (0, 0, 1, 1, 2, 3, 4, 5), strict=True
)}  # fmt: skip
_UNITS = [FILE_UNITS[code] for code in ("m", "ft", "us-ft", "mm", "cm", "in", "yd", "km")]


@dataclass(frozen=True)
class MixUp:
    """Numbers that are in ``really`` were taken for ``taken``; they come out ``factor`` times too large."""

    factor: float
    taken: str
    really: str


@dataclass(frozen=True)
class Verdict:
    """Measured length over true length, the deviation in parts per million, and what would explain it."""

    ratio: float
    ppm: float
    mix_up: MixUp | None
    sentence: str


def mix_ups() -> list[MixUp]:
    """Every mistake of one unit for another: numbers in ``really`` read as ``taken`` measure ``factor`` too long."""
    return [
        MixUp(taken.metres / really.metres, taken.plural, really.plural)
        for really in _UNITS
        for taken in _UNITS
        if taken is not really and {taken, really} != {FOOT, US_SURVEY_FOOT}
    ]


def judge(measured: float, true: float, tolerance: float) -> Verdict:
    """Compare a measured length with the true one, both in the job unit.

    ``tolerance`` is how well the measurement can be, as a share of the length: a ratio within it of 1 is right.

    Raises
    ------
    InputError, when a length is not positive.
    """
    if not (measured > 0 and true > 0):
        raise InputError("both lengths must be above zero")
    ratio = measured / true
    ppm = (ratio - 1) * 1e6
    if abs(ratio - 1) <= tolerance:
        words = f"The size is right: measured {ratio:.6g} times the true length, as near as this measurement can tell"
        feet = abs(US_SURVEY_FOOT.metres / FOOT.metres - 1)
        if tolerance > feet / 2:
            words += "; the two feet (2 ppm apart) cannot be told apart on an object of this length"
        return Verdict(ratio, ppm, None, words + ".")
    reach = max(tolerance, 0.02)
    near = [mix for mix in mix_ups() if abs(ratio / mix.factor - 1) <= reach]
    if near:
        # Metres for feet is the common mistake; survey feet differ from international ones by less than can be seen.
        best = min(near, key=lambda mix: (_rarity(mix), abs(ratio / mix.factor - 1)))
        words = (
            f"Measured {ratio:.6g} times the true length. Numbers in {best.really} taken for {best.taken} would "
            f"explain it (factor {best.factor:.6g})."
        )
        return Verdict(ratio, ppm, best, words)
    if abs(ppm) < 5000:
        words = f"Measured {ratio:.6f} times the true length ({ppm:+.0f} ppm). No unit explains this: a scale factor?"
    else:
        words = f"Measured {ratio:.6g} times the true length. No mix-up of units explains this."
    return Verdict(ratio, ppm, None, words)


def _rarity(mix: MixUp) -> int:
    return sum(_RARITY[name] for name in (mix.taken, mix.really))
