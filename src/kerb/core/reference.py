"""The reference system of a holding: horizontal and vertical, its unit, and how sure we are of it.

A cloud that names no system is 'unknown unit: metres assumed' until the analyst confirms it; the state travels with
the cloud into every report.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import pyproj
from pyproj.exceptions import CRSError, ProjError

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.units import METRE, LengthUnit, length_unit, other_unit, unit_of_metres


@dataclass(frozen=True)
class ReferenceSystem:
    """A reference system as a file states it or as the analyst set it.

    ``wkt`` is empty for a local grid or where nothing is known. ``certainty`` is ``stated`` (by the file),
    ``confirmed`` (by the analyst) or ``assumed`` (nobody said).
    """

    name: str = ""
    wkt: str = ""
    code: str = ""
    unit: LengthUnit = METRE
    vertical_unit: LengthUnit = METRE
    vertical_name: str = ""
    certainty: str = "assumed"

    @property
    def sentence(self) -> str:
        """The system in words, for chips and reports."""
        if self.certainty == "assumed" and not self.wkt:
            return f"unknown unit: {self.unit.plural} assumed"
        name = self.name or "local grid"
        vertical = f", heights {self.vertical_name}" if self.vertical_name else ""
        return f"{name}{vertical} · {'degrees' if is_geographic(self) else self.unit.symbol}"

    def confirmed(self, unit: LengthUnit | None = None) -> ReferenceSystem:
        """This system with its unit confirmed by the analyst, or set to another one."""
        chosen = unit or self.unit
        return replace(self, certainty="confirmed", unit=chosen, vertical_unit=chosen)

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary for job files."""
        return {
            "name": self.name, "wkt": self.wkt, "code": self.code, "unit": self.unit.code,
            "vertical_unit": self.vertical_unit.code, "vertical_name": self.vertical_name,
            "certainty": self.certainty,
        }  # fmt: skip

    @staticmethod
    def from_json(data: dict[str, Any]) -> ReferenceSystem:
        """The reverse of :meth:`to_json`."""
        units = {key: length_unit(data.get(key, "m")) for key in ("unit", "vertical_unit")}
        texts = {key: str(data.get(key, "")) for key in ("name", "wkt", "code", "vertical_name")}
        values: dict[str, Any] = {**texts, **units, "certainty": data.get("certainty", "assumed")}
        return ReferenceSystem(**values)


UNKNOWN = ReferenceSystem()


def definition(system: ReferenceSystem) -> str:
    """WKT for a file: that of the system, or of an engineering system that at least names the unit.

    Empty where nobody said what the unit is.
    """
    if system.wkt or system.certainty == "assumed":
        return system.wkt
    name = system.name.replace('"', "") or "local grid"
    unit = f'UNIT["{system.unit.name}",{system.unit.metres!r}]'
    return f'LOCAL_CS["{name}",{unit},AXIS["Easting",EAST],AXIS["Northing",NORTH]]'


def local_grid(unit: LengthUnit) -> ReferenceSystem:
    """A local grid in a unit that the analyst states."""
    return ReferenceSystem(name="local grid", unit=unit, vertical_unit=unit, certainty="confirmed")


def from_text(text: str) -> ReferenceSystem:
    """A system from WKT or a code such as ``EPSG:25830``. Raises InputError when pyproj does not know it."""
    found = _known(text)
    if found is None:
        shown = text if len(text) < 60 else text[:57] + "..."
        raise InputError(f"reference system '{shown}' is not known")
    return found


@lru_cache(maxsize=64)
def _known(text: str) -> ReferenceSystem | None:
    """The same, none where it is not known: to find that out takes pyproj a fifth of a second, so that is kept too."""
    try:
        return from_pyproj(pyproj.CRS.from_user_input(text))
    except CRSError:
        return None


def from_pyproj(crs: pyproj.CRS) -> ReferenceSystem:
    """Name, code and units of a pyproj system; a system in degrees keeps metres as the unit of heights only."""
    parts = crs.sub_crs_list if crs.is_compound else [crs]
    horizontal = parts[0]
    if horizontal.is_bound and horizontal.source_crs is not None:
        horizontal = horizontal.source_crs
    vertical = next((part for part in parts if part.is_vertical), None)
    unit = _axis_unit(horizontal) or METRE
    if horizontal.type_name.startswith("Engineering"):
        # A local grid that a file defines only to say its unit.
        return replace(local_grid(unit), name=horizontal.name or "local grid", certainty="stated")
    heights = (_axis_unit(vertical) if vertical is not None else None) or _third_axis_unit(horizontal) or unit
    return ReferenceSystem(
        name=horizontal.name,
        wkt=crs.to_wkt(),
        code=_code(crs) or _code(horizontal),
        unit=unit,
        vertical_unit=heights,
        vertical_name=vertical.name if vertical is not None else "",
        certainty="stated",
    )


def is_geographic(system: ReferenceSystem) -> bool:
    """Whether coordinates are degrees of longitude and latitude, in which no volume can be computed."""
    return _sort(system.wkt) == "geographic"


@lru_cache(maxsize=64)
def _sort(wkt: str) -> str:
    """Whether a system is ``geographic`` or ``geocentric``; empty for any other, none, or one that cannot be read."""
    if not wkt:
        return ""
    try:
        crs = pyproj.CRS.from_wkt(wkt)
    except CRSError:
        return ""
    return "geographic" if crs.is_geographic else "geocentric" if crs.is_geocentric else ""


def unfit(system: ReferenceSystem, low: Floats | None = None, high: Floats | None = None) -> str:
    """Why heights over a plan cannot be measured in a system, in words; nothing where they can.

    With the bounds (3,) of numbers of no known system it tells those that look like degrees: within 180 and 90, and
    at least a hundred times higher than wide.
    """
    if is_geographic(system):
        return "coordinates are degrees: transform the cloud to a projected system"
    if _sort(system.wkt) == "geocentric":
        return "coordinates are geocentric (X, Y, Z from the centre of the earth): transform the cloud to a projected system"
    if system.wkt or low is None or high is None:
        return ""
    wide = float(max(high[0] - low[0], high[1] - low[1]))
    within = max(abs(low[0]), abs(high[0])) <= 180 and max(abs(low[1]), abs(high[1])) <= 90
    if within and 0 < wide < 2 and float(high[2] - low[2]) > 100 * wide:
        return "coordinates look like degrees of longitude and latitude: say so (--crs EPSG:4326) and transform them"
    return ""


def outside_area_of_use(system: ReferenceSystem, easting: float, northing: float) -> bool | None:
    """Whether a place lies outside the system's area of use; None when pyproj cannot say."""
    if not system.wkt:
        return None
    try:
        crs = pyproj.CRS.from_wkt(system.wkt)
        area = crs.area_of_use
        if area is None and crs.sub_crs_list:
            area = crs.sub_crs_list[0].area_of_use
        if area is None:
            return None
        horizontal = crs.sub_crs_list[0] if crs.is_compound else crs
        to_degrees = pyproj.Transformer.from_crs(horizontal, 4326, always_xy=True)
        lon, lat = to_degrees.transform(easting, northing)
    except (CRSError, ProjError):
        return None
    margin = 0.5
    inside = area.west - margin <= lon <= area.east + margin and area.south - margin <= lat <= area.north + margin
    return not inside


def _axis_unit(crs: pyproj.CRS) -> LengthUnit | None:
    axes = crs.axis_info
    return _unit_of_axis(axes[0]) if axes and not crs.is_geographic else None


def _third_axis_unit(crs: pyproj.CRS) -> LengthUnit | None:
    axes = crs.axis_info
    return _unit_of_axis(axes[2]) if len(axes) > 2 else None


def _unit_of_axis(axis: Any) -> LengthUnit:
    known = unit_of_metres(axis.unit_conversion_factor)
    return known or other_unit(axis.unit_conversion_factor, axis.unit_name)


def _code(crs: pyproj.CRS) -> str:
    authority = crs.to_authority(min_confidence=100)
    return ":".join(authority) if authority else ""
