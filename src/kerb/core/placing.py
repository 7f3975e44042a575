"""How the numbers of a file become numbers of the job, in one sentence: as they are, converted, transformed, labelled.

Transformations between reference systems are PROJ's, by way of pyproj; the accuracy it states and grid files it would
need and does not have are said with the choice.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
import pyproj
from pyproj.crs import CompoundCRS, VerticalCRS
from pyproj.crs.coordinate_system import VerticalCS
from pyproj.crs.enums import VerticalCSAxis
from pyproj.exceptions import CRSError, ProjError
from pyproj.transformer import TransformerGroup

from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.reference import UNKNOWN, ReferenceSystem, from_pyproj, from_text, is_geographic
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT, LengthUnit

WGS84 = pyproj.CRS.from_epsg(4326)
# Vertical axes that a definition can have, by the metres of their unit.
VERTICAL_AXES = (
    (METRE.metres, VerticalCSAxis.GRAVITY_HEIGHT), (FOOT.metres, VerticalCSAxis.GRAVITY_HEIGHT_FT),
    (US_SURVEY_FOOT.metres, VerticalCSAxis.GRAVITY_HEIGHT_US_FT),
)  # fmt: skip
UNKNOWN_DATUM = 'VDATUM["Unknown vertical datum"]'
AS_IS, CONVERT, TRANSFORM, LABEL = "as-is", "convert", "transform", "label"


@dataclass(frozen=True)
class Route:
    """A way from one system to another as PROJ knows it, one or two transformers long.

    ``accuracy`` in metres, None where PROJ states none: then no datum shift is known to it, only a guess.
    """

    transformers: tuple[pyproj.Transformer, ...]
    description: str
    accuracy: float | None
    missing: tuple[str, ...]
    heights_kept: bool

    @property
    def sentence(self) -> str:
        """Accuracy and missing grids in words."""
        guess = "without a datum shift, which can be off by a hundred metres or more"
        accuracy = guess if self.accuracy is None else _good_to(self.accuracy)
        words = f"{self.description}, {accuracy}"
        if self.missing:
            words += f"; a better way needs the grid file {', '.join(self.missing)}, which is not installed"
        if self.heights_kept:
            words += "; heights stay as they are"
        return words


@dataclass(frozen=True)
class Placing:
    """What is done to the numbers of a file.

    ``source`` is what they are in, as the file or the analyst says; ``target`` what they shall be in. CONVERT scales
    about the origin, in plan, in height or both. ``swap`` exchanges easting and northing before anything else. ``at``
    (longitude, latitude) is where the numbers lie, so that the way most accurate there is taken.
    """

    how: str = AS_IS
    source: ReferenceSystem = UNKNOWN
    target: ReferenceSystem = UNKNOWN
    horizontal: bool = True
    vertical: bool = True
    swap: bool = False
    at: tuple[float, float] | None = None

    @property
    def result(self) -> ReferenceSystem:
        """The reference system of the numbers that come out."""
        if self.how in (TRANSFORM, LABEL):
            return consistent(self.target)
        if self.how == CONVERT:
            return _relabelled(self.source, self.target, self.horizontal, self.vertical)
        return self.source

    @property
    def factors(self) -> tuple[float, float]:
        """What plan and height numbers are multiplied with."""
        if self.how != CONVERT:
            return 1.0, 1.0
        degrees = is_geographic(self.source)
        plan = self.source.unit.metres / self.target.unit.metres if self.horizontal and not degrees else 1.0
        height = self.source.vertical_unit.metres / self.target.vertical_unit.metres if self.vertical else 1.0
        return plan, height

    @property
    def station_factor(self) -> float:
        """What stations along a line are multiplied with: a transformation keeps those of the design, in the job's unit."""
        if self.how != TRANSFORM or is_geographic(self.source) or is_geographic(self.target):
            return self.factors[0]
        return self.source.unit.metres / self.target.unit.metres

    @property
    def exact(self) -> bool:
        """Whether it is no more than a change of unit or label, which alignments and integers survive."""
        return self.how != TRANSFORM

    @property
    def sentence(self) -> str:
        """What happens, as the analyst chooses it and the record keeps it."""
        words = self._words()
        return f"easting and northing exchanged; {words}" if self.swap else words

    def _words(self) -> str:
        if self.how == AS_IS:
            return f"taken as it is ({self.source.sentence})"
        if self.how == LABEL:
            return f"numbers unchanged, labelled {self.target.sentence}"
        if self.how == TRANSFORM:
            return f"transformed to {self.target.name or 'the job system'}: {self.route().sentence}"
        parts = []
        if self.horizontal and self.source.unit != self.target.unit:
            parts.append(f"plan from {self.source.unit.plural} to {self.target.unit.plural}")
        if self.vertical and self.source.vertical_unit != self.target.vertical_unit:
            parts.append(f"heights from {self.source.vertical_unit.plural} to {self.target.vertical_unit.plural}")
        if len(parts) == 2 and self.source.unit == self.source.vertical_unit:
            parts = [f"from {self.source.unit.plural} to {self.target.unit.plural}"]
        return f"converted {', '.join(parts) or 'without effect'} about the origin"

    def route(self, place: tuple[float, float] | None = None) -> Route:
        """The way a transformation takes. Raises InputError when there is none; see :func:`route`."""
        return route(self.source, self.target, place, self.at if place is None else None)

    def mapper(self) -> Callable[[Floats], Floats]:
        """A function from (n, 3) numbers of the file to (n, 3) numbers of the job; NaN elevations stay NaN.

        Raises InputError, when there is no way from system to system.
        """
        if self.how == TRANSFORM:
            change = _transformation(self.source, self.target, self.route())
        else:
            plan, height = self.factors
            factor = np.array([plan, plan, height])
            change = (lambda points: points) if plan == height == 1.0 else (lambda points: points * factor)
        return (lambda points: change(points[:, [1, 0, 2]])) if self.swap else change

    def to_json(self) -> dict[str, Any]:
        """A plain dictionary, for the job record."""
        return {
            "how": self.how, "source": self.source.to_json(), "target": self.target.to_json(),
            "horizontal": self.horizontal, "vertical": self.vertical, "swap": self.swap,
        }  # fmt: skip


def suggested(
    source: ReferenceSystem,
    job: ReferenceSystem | None,
    unit: LengthUnit,
    place: tuple[float, float] | None = None,
) -> Placing:
    """What is probably meant for a file in ``source`` in a job of system ``job`` (None: an empty job) and ``unit``.

    ``place`` (in ``source``) is where it lies: it lets a file in degrees be brought into the UTM zone it lies in, and
    chooses the transformation that is most accurate there.
    """
    at = degrees_of(source, place) if place is not None else None
    if job is None:
        if is_geographic(source) and place is not None and np.isfinite(place).all():
            return Placing(TRANSFORM, source, utm_zone(*place))
        even = replace(source, vertical_unit=source.unit)
        return Placing(AS_IS, source) if source.unit == source.vertical_unit else Placing(CONVERT, source, even)
    wanted = replace(job, unit=unit, vertical_unit=unit)
    if source.wkt and job.wkt and not same_system(source, job):
        return Placing(TRANSFORM, source, wanted, at=at)
    if source.certainty == "assumed" and not source.wkt:
        return Placing(LABEL, source, wanted)
    if not source.wkt and job.wkt and source.unit == unit and source.vertical_unit == unit:
        # A file that only says its unit is meant to lie in the job; the place check tells when it does not.
        return Placing(LABEL, source, wanted)
    if source.unit != unit or source.vertical_unit != unit:
        return Placing(CONVERT, source, wanted)
    return Placing(AS_IS, source)


def utm_zone(longitude: float, latitude: float) -> ReferenceSystem:
    """The WGS 84 / UTM system of a place in degrees (zones of six degrees from 180° west; EPSG 326xx and 327xx)."""
    zone = int(np.clip((longitude + 180) // 6 + 1, 1, 60))
    return from_text(f"EPSG:{(32600 if latitude >= 0 else 32700) + zone}")


def same_system(one: ReferenceSystem, other: ReferenceSystem) -> bool:
    """Whether two systems put the same numbers on the same place in plan, in name or by definition."""
    if one.code and one.code.split("+")[0] == other.code.split("+")[0]:
        return True
    if not one.wkt or not other.wkt:
        return False
    return _horizontal(one).equals(_horizontal(other), ignore_axis_order=True)


@lru_cache
def route(
    source: ReferenceSystem, target: ReferenceSystem, place: tuple[float, float] | None = None,
    at: tuple[float, float] | None = None,
) -> Route:  # fmt: skip
    """The best way PROJ can go from system to system.

    ``place`` (easting, northing in ``source``), or ``at`` (longitude, latitude), chooses among ways for different areas.

    Raises
    ------
    InputError, when one of the systems is not known or there is no way.
    """
    if not source.wkt:
        raise InputError("the numbers name no reference system, so they cannot be transformed")
    if not target.wkt:
        raise InputError("the job is on a local grid: there is no transformation to it")
    start, end = _crs(source), _crs(target)
    upright = _has_heights(start) and _has_heights(end)
    if not upright:
        start, end = _horizontal(source), _horizontal(target)
    best, missing = _best(start, end, _around(at or degrees_of(source, place)), source.name, target.name)
    ways = [(best,)]
    if _accuracy(best) is None and not upright:
        # With the grid of the direct way missing, PROJ only guesses; by way of WGS 84 it often knows better.
        try:
            legs = tuple(_best(a, b, None, source.name, target.name)[0] for a, b in ((start, WGS84), (WGS84, end)))
            ways.append(legs)  # type: ignore[arg-type]
        except InputError:
            pass
    chosen = next((way for way in ways if all(_accuracy(leg) is not None for leg in way)), ways[0])
    accuracies = [_accuracy(leg) for leg in chosen]
    accuracy = None if None in accuracies else float(sum(a for a in accuracies if a is not None))
    words = ", then ".join(leg.description or "a chain of conversions" for leg in chosen)
    return Route(chosen, words, accuracy, missing, not upright)


def _best(
    start: pyproj.CRS, end: pyproj.CRS, area: Any, source: str, target: str
) -> tuple[pyproj.Transformer, tuple[str, ...]]:
    try:
        with warnings.catch_warnings():
            # pyproj warns of missing grids; they are said in the route instead.
            warnings.simplefilter("ignore")
            group = TransformerGroup(start, end, always_xy=True, area_of_interest=area)
    except (CRSError, ProjError) as error:
        raise InputError(f"no way from {source} to {target}: {error}") from None
    if not group.transformers:
        raise InputError(f"PROJ knows no way from {source} to {target}")
    stated = [item for item in group.transformers if _accuracy(item) is not None]
    missing: tuple[str, ...] = ()
    if not group.best_available and group.unavailable_operations:
        grids = group.unavailable_operations[0].grids
        missing = tuple(grid.short_name for grid in grids if not grid.available)
    # PROJ sorts by the area that is covered first; of those that are good here, the most accurate counts.
    return (min(stated, key=lambda item: _accuracy(item) or 0.0) if stated else group.transformers[0]), missing


def _accuracy(transformer: pyproj.Transformer) -> float | None:
    value = transformer.accuracy
    guessed = "allpark geographic" in (transformer.description or "")
    return None if value is None or value < 0 or guessed else float(value)


def _transformation(source: ReferenceSystem, target: ReferenceSystem, way: Route) -> Callable[[Floats], Floats]:
    height = source.vertical_unit.metres / target.vertical_unit.metres
    # PROJ takes and gives the units of the systems; file and job may count in others.
    plan_in = 1.0 if is_geographic(source) else source.unit.metres / _axis_unit_m(source)
    plan = 1.0 if is_geographic(target) else _axis_unit_m(target) / target.unit.metres
    up_in = source.vertical_unit.metres / _height_unit_m(source)
    up_out = _height_unit_m(target) / target.vertical_unit.metres

    def change(points: Floats) -> Floats:
        z = np.where(np.isfinite(points[:, 2]), points[:, 2], 0.0)
        east, north, up = points[:, 0] * plan_in, points[:, 1] * plan_in, z * up_in
        for transformer in way.transformers:
            east, north, up = transformer.transform(east, north, up)
        up = np.asarray(up) * up_out if not way.heights_kept else z * height
        out = np.column_stack([np.asarray(east) * plan, np.asarray(north) * plan, up])
        out[~np.isfinite(points[:, 2]), 2] = np.nan
        return np.where(np.isinf(out), np.nan, out)

    return change


def _around(at: tuple[float, float] | None) -> Any:
    if at is None:
        return None
    return pyproj.aoi.AreaOfInterest(at[0] - 0.1, max(at[1] - 0.1, -90), at[0] + 0.1, min(at[1] + 0.1, 90))


def degrees_of(source: ReferenceSystem, place: tuple[float, float] | None) -> tuple[float, float] | None:
    """Longitude and latitude of a place; None where they cannot be told."""
    if place is None or not source.wkt:
        return None
    try:
        to_degrees = pyproj.Transformer.from_crs(_horizontal(source), 4326, always_xy=True)
        lon, lat = to_degrees.transform(*place)
    except (CRSError, ProjError):
        return None
    if not (np.isfinite(lon) and np.isfinite(lat)):
        return None
    return float(lon), float(lat)


def _crs(system: ReferenceSystem) -> pyproj.CRS:
    """The definition of a system. Raises InputError, when it is damaged."""
    try:
        return pyproj.CRS.from_wkt(system.wkt)
    except CRSError as error:
        words = " ".join(str(error).split())[:100]
        raise InputError(
            f"the definition of the reference system '{system.name or system.code}' is damaged ({words})"
        ) from None


def _horizontal(system: ReferenceSystem) -> pyproj.CRS:
    crs = _crs(system)
    first = crs.sub_crs_list[0] if crs.is_compound else crs
    return first.source_crs if first.is_bound and first.source_crs is not None else first


def _height_unit_m(system: ReferenceSystem) -> float:
    """The unit that the definition of a system counts heights in, in metres; that of its numbers where it has none."""
    axes = _crs(system).axis_info
    return float(axes[2].unit_conversion_factor) if len(axes) > 2 else system.vertical_unit.metres


@lru_cache
def consistent(system: ReferenceSystem) -> ReferenceSystem:
    """The system with a definition whose heights are in the unit that its numbers are in.

    Of a vertical system the datum stays and the unit changes; a definition without heights gets a vertical system that
    says nothing but the unit, where that is not the one of the plan. Units that no definition can say leave the plan's.
    """
    if not system.wkt:
        return system
    crs, wanted = _crs(system), system.vertical_unit
    parts = crs.sub_crs_list if crs.is_compound else [crs]
    flat = _horizontal(system)
    axes = crs.axis_info
    plan_m = METRE.metres if crs.is_geographic else float(axes[0].unit_conversion_factor) if axes else METRE.metres
    says_m = float(axes[2].unit_conversion_factor) if len(axes) > 2 else plan_m
    if abs(says_m / wanted.metres - 1) < 1e-9 or crs.is_geocentric:
        return system
    code = from_pyproj(flat).code
    if abs(plan_m / wanted.metres - 1) < 1e-9 and not crs.is_compound:
        return replace(system, wkt=flat.to_2d().to_wkt(), code=code)
    axis = next((axis for unit, axis in VERTICAL_AXES if abs(unit / wanted.metres - 1) < 1e-9), None)
    if axis is None:
        return replace(system, wkt=flat.to_2d().to_wkt(), code=code)
    vertical = next((part for part in parts if part.is_vertical), None)
    datum = vertical.datum if vertical is not None and vertical.datum is not None else UNKNOWN_DATUM
    name = f"{vertical.name if vertical is not None else 'height'} ({wanted.code})"
    upright = VerticalCRS(name=name, datum=datum, vertical_cs=VerticalCS(axis=axis))
    whole = CompoundCRS(name=f"{flat.name} + {name}", components=[flat.to_2d(), upright])
    return replace(system, wkt=whole.to_wkt(), code=code, vertical_name=name)


def _has_heights(crs: pyproj.CRS) -> bool:
    return len(crs.axis_info) > 2


def _axis_unit_m(system: ReferenceSystem) -> float:
    """The unit that the definition of a system counts in, in metres."""
    return float(_horizontal(system).axis_info[0].unit_conversion_factor)


def _relabelled(source: ReferenceSystem, target: ReferenceSystem, plan: bool, heights: bool) -> ReferenceSystem:
    """A converted file no longer has the coordinates of its system, unless only heights changed."""
    unit = target.unit if plan and not is_geographic(source) else source.unit
    vertical = target.vertical_unit if heights else source.vertical_unit
    if unit == source.unit and (source.wkt or not target.wkt):
        return consistent(replace(source, vertical_unit=vertical))
    if not source.wkt and target.wkt and unit == target.unit:
        return consistent(replace(target, vertical_unit=vertical))
    if target.wkt and source.wkt and abs(_axis_unit_m(target) / unit.metres - 1) < 1e-9 and same_system(source, target):
        return consistent(replace(target, unit=unit, vertical_unit=vertical))
    name = f"{source.name}, converted to {unit.plural}" if source.name else ""
    return replace(source, name=name, wkt="", code="", unit=unit, vertical_unit=vertical, certainty="confirmed")


def _good_to(metres: float) -> str:
    if metres == 0:
        return "exact"
    return f"good to {metres:g} m" if metres >= 0.01 else f"good to {metres * 1000:g} mm"
