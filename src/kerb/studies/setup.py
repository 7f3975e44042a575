"""The base of every setup: frozen values declared as fields, checked, kept as JSON and compared by one implementation."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any, Self

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry import polygon
from kerb.core.quantity import round_number
from kerb.core.setting import Setting, described
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT, LengthUnit, convert
from kerb.studies.fields import CHOICE, CODECS, DRAWN, LINE, MANY, NUMBER, RING, RINGS, SCOPE, SURFACE, Field

# Of each kind of setup, worked out once.
_DECLARED: dict[type, dict[str, Field]] = {}


@dataclass(frozen=True)
class Setup:
    """What a study is asked. Subclasses declare their fields with the helpers of :mod:`kerb.studies.fields`."""

    @classmethod
    def declared(cls) -> dict[str, Field]:
        """Name → declaration of every field, in order. Asked for thousands of times a second: not to be changed."""
        found = _DECLARED.get(cls)
        if found is None:
            found = _DECLARED[cls] = _declared(cls)
        return found

    @classmethod
    def defaults(cls) -> dict[str, Any]:
        """Name → default of every field."""
        return {item.name: item.default for item in fields(cls)}

    @classmethod
    def usual(cls, unit: LengthUnit) -> dict[str, Any]:
        """Name → usual value of every field in a job unit: defaults are lengths and areas in metres, elsewhere made round."""
        found = cls.defaults()
        for name, about in cls.declared().items():
            power = {"length": 1, "area": 2}.get(about.unit, 0) if about.kind == NUMBER else 0
            if power and found[name] and unit != METRE:
                found[name] = round_number(convert(found[name], METRE, unit, power=power))
        if unit in (FOOT, US_SURVEY_FOOT):
            # Who counts in feet weighs in short tons to the cubic yard.
            found |= {name: about.in_feet for name, about in cls.declared().items() if about.in_feet}
        return found

    @classmethod
    def named(cls, kind: str) -> list[str]:
        """Fields of a kind, in order."""
        return [name for name, about in cls.declared().items() if about.kind == kind]

    @classmethod
    def main(cls) -> str:
        """The field of what the question is asked of: the first cloud, or thing with elevations, that it declares."""
        return next((n for n, about in cls.declared().items() if about.kind in (SCOPE, SURFACE)), "")

    def unit_of(self, about: Setting) -> str:
        """What a number is in, by the choice that says it; its own unit where none does."""
        by = about.unit_by if isinstance(about, Field) else ""
        return str(getattr(self, by)) if by else about.unit

    def counts(self, name: str) -> bool:
        """Whether a field has a meaning with what the others say."""
        known = self.declared()
        when = known[name].when
        if when is None:
            return True
        other, values = when
        value = getattr(self, other)
        return value in values if values else not CODECS[known[other].kind].empty(value)

    def missing(self) -> list[str]:
        """What is still needed, in words; empty when the study can be computed."""
        return [
            about.needed for name, about in self.declared().items()
            if about.needed and self.counts(name) and CODECS[about.kind].empty(getattr(self, name))
        ]  # fmt: skip

    def check(self) -> None:
        """Raises InputError, saying what is missing or which field cannot be and why."""
        missing = self.missing()
        if missing:
            raise InputError(missing[0])
        for name, about in self.declared().items():
            value = getattr(self, name)
            if self.counts(name) and not CODECS[about.kind].empty(value):
                _check(about, value, self.defaults()[name])

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary, equal to what is read back from a file."""
        return {name: CODECS[about.kind].write(getattr(self, name)) for name, about in self.declared().items()}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Self:
        """The reverse of :meth:`to_json`; unknown keys of newer versions are left out, what is missing is the default.

        Raises KeyError, TypeError or ValueError, when a value is not of its kind.
        """
        known = cls.declared()
        return cls(**{name: CODECS[known[name].kind].read(value) for name, value in data.items() if name in known})

    def shorn(self) -> Self:
        """Without what is only for show and what has no meaning here."""
        plain = self.defaults()
        drop = {n: plain[n] for n, about in self.declared().items() if about.show_only or not self.counts(n)}
        return replace(self, **drop)

    def settings(self) -> dict[str, Any]:
        """The published settings: names as on the command line, clouds by what narrows them."""
        found: dict[str, Any] = {}
        for name, about in self.declared().items():
            value, key = getattr(self, name), about.flag or name
            if about.kind in (SCOPE, SURFACE):
                data = value.to_json()
                data.pop("holding")
                role = "" if name == self.main() else f"{key}_"
                found |= {f"{role}{k}": v for k, v in data.items() if about.kind == SCOPE or v}
            elif about.kind in MANY:
                found[key] = [{k: v for k, v in one.to_json().items() if k != "holding" and v} for one in value]
            elif about.kind in DRAWN:
                found[key] = [list(place) for place in value.xy]
                found |= {f"{key}_z": list(value.z)} if value.z else {}
            elif about.kind == RINGS:
                found[key] = [{"name": i.name, "ring": [list(p) for p in i.ring.xy], **dict(i.values)} for i in value]
            else:
                found[key] = value
        return found


def _declared(kind: type[Setup]) -> dict[str, Field]:
    found = {}
    for item in fields(kind):
        about = described(item)
        assert isinstance(about, Field), f"{kind.__name__}.{item.name} is not declared"
        found[item.name] = about
    return found


def _check(about: Field, value: Any, default: Any) -> None:
    if about.kind in (SCOPE, SURFACE):
        value.check(about.label)
    elif about.kind in MANY:
        for one in value:
            one.check(about.label)
    elif about.kind == CHOICE and value not in dict(about.choices):
        raise InputError(f"{about.label} '{value}' is not one of {', '.join(dict(about.choices))}")
    elif about.kind == NUMBER:
        _check_number(about, value, default)
    elif about.kind == RING:
        value.ring(about.label.lower())
    elif about.kind == LINE and (len(value.xy) < 2 or not np.isfinite(value.places).all()):
        raise InputError(f"{about.label}: needs at least two places")
    elif about.kind == RINGS:
        for item in value:
            kind = about.drawn_as(str(item.value("way", "")))
            if item.taken and kind in (RING, RINGS):
                polygon.checked(item.ring.places, item.name)
            elif item.taken and (
                len(item.ring.xy) < (2 if kind == LINE else 1) or not np.isfinite(item.ring.places).all()
            ):
                raise InputError(f"{item.name}: {'needs at least two places' if kind == LINE else 'is nowhere'}")


def _check_number(about: Field, value: float, default: float | None) -> None:
    if not np.isfinite(value):
        raise InputError(f"{about.label}: {value} is not a number that can be used")
    if about.low is not None and (value < about.low or (value == about.low and default is None)):
        raise InputError(f"{about.label}: {value:g} must be above {about.low:g}")
    if about.above is not None and not value > about.above:
        raise InputError(f"{about.label}: {value:g} must be above {about.above:g}")
    if about.high is not None and value > about.high:
        raise InputError(f"{about.label}: {value:g} must be at most {about.high:g}")
