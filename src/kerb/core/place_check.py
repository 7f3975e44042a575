"""Does new data lie where the job's data lies? Overlap, distance apart, and what would explain that it does not."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np
import pyproj
from pyproj.exceptions import CRSError, ProjError

from kerb.core.arrays import Floats, Ints
from kerb.core.geometry.features import bounds_of
from kerb.core.once import Once
from kerb.core.reference import ReferenceSystem, is_geographic, outside_area_of_use
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT

FEET_APART = abs(US_SURVEY_FOOT.metres / FOOT.metres - 1)
CELLS = 96
# Of each side of a sample this share may be strays; what lies further out than a quarter of the rest's extent is.
STRAY_SHARE = 0.002
BODY_ROOM = 0.25
NEAR_ORIGIN_M = 20_000.0
HEIGHT_ALARM_M = 1.0
# Of large grids: nearer to the origin than this, numbers are as likely a grid of a site.
LEAST_EASTING_M, LEAST_NORTHING_M, MOST_NORTHING_M = 100_000.0, 100_000.0, 10_000_000.0
RATIOS = (
    (0.3048, "wrong unit? It could be metres where the job counts in feet"),
    (1 / 0.3048, "wrong unit? It could be feet where the job counts in metres"),
    (1000.0, "wrong unit? It could be millimetres where the job counts in metres"),
    (0.001, "wrong unit? It could be metres where the job counts in millimetres"),
    (304.8, "wrong unit? It could be millimetres where the job counts in feet"),
    (100.0, "wrong unit? It could be centimetres where the job counts in metres"),
    (12.0, "wrong unit? It could be inches where the job counts in feet"),
    (39.3700787, "wrong unit? It could be inches where the job counts in metres"),
)


@dataclass(frozen=True)
class Site:
    """Where some data lies: a sample of its places (n, 3) and the system they are in. NaN elevations are allowed.

    ``names`` are those of the points, ``what`` those of the holdings or files that the sample is of.
    """

    xyz: Floats
    reference: ReferenceSystem
    names: tuple[str, ...] = ()
    what: tuple[str, ...] = ()

    @Once
    def bounds(self) -> tuple[Floats, Floats]:
        """Lowest and highest corner, (3,) each, of where its places are: single ones far off do not count."""
        n = len(self.xyz)
        few = int(STRAY_SHARE * n)
        if not few:
            return bounds_of(self.xyz)
        ordered = np.sort(np.where(np.isfinite(self.xyz), self.xyz, np.nan), axis=0)
        known = np.isfinite(ordered).sum(axis=0)
        rows = np.minimum(few, np.maximum(known // 2 - 1, 0))
        low, high = ordered[rows, range(3)], ordered[np.maximum(known - 1 - rows, 0), range(3)]
        room = BODY_ROOM * (high - low)
        with np.errstate(invalid="ignore"):
            off = (self.xyz < low - room) | (self.xyz > high + room)
        return bounds_of(self.xyz[~off.any(axis=1)])


@dataclass(frozen=True)
class PlaceCheck:
    """What the check found. ``overlap`` is a share of the new data's cells, None without anything to compare with.

    ``system`` is the code of the system that the numbers seem to be in, where that would put them into the job's data.
    ``apart`` is the distance between the outlines in plan, ``alarms`` are (code, sentence); ``height`` is the median
    height of the new data over the job's where both lie. ``guess`` says what numbers without a system look like.
    """

    overlap: float | None = None
    apart: float | None = None
    height: float | None = None
    alarms: list[tuple[str, str]] = field(default_factory=list)
    unit: str = ""
    system: str = ""
    guess: str = ""

    @property
    def sentence(self) -> str:
        """The result in one line, without the alarms."""
        if self.overlap is None:
            return "The job has nothing yet to compare with." + (f" {self.guess}" if self.guess else "")
        if self.overlap > 0:
            words = f"{100 * self.overlap:.0f} % of it lies over the other data"
            return words + (f", {_higher(self.height, self.unit)}." if self.height is not None else ".")
        return f"It does not touch the other data: {self.apart:,.1f} {self.unit} apart in plan.".replace(",", "\u2009")


def check(new: Site, job: Site | None, original: Site | None = None) -> PlaceCheck:
    """Hold new data, as it would lie in the job, against the job's data (None: an empty job).

    ``original`` is the new data before it was placed, in its own system: what is odd about the numbers themselves is
    seen there.
    """
    alarms = _own_alarms(original or new)
    if job is None or not len(job.xyz) or not len(new.xyz):
        return PlaceCheck(alarms=alarms, guess=_grid_guess(original or new))
    cell = _cell(job)
    overlap = _overlap(new.xyz, job.xyz, cell)
    apart = _apart(new.bounds, job.bounds)
    height, spread = _height_over(new.xyz, job.xyz, cell)
    metre = job.reference.unit.metres
    explained: list[tuple[str, str]] = []
    system = ""
    if overlap < 0.02:
        explained = _swapped(new, job) or _scaled(new, job)
        if not explained:
            system, explained = _other_zone(original or new, job)
        explained = explained or _local(new, job)
    said = {code for code, _ in alarms}
    alarms += [alarm for alarm in explained if alarm[0] not in said]
    alarms += _feet(original or new, job, new)
    if overlap == 0 and not explained and apart > 2 * float(np.hypot(*(job.bounds[1] - job.bounds[0])[:2])):
        alarms.append(("far-away", f"lies {_length(apart, job)} away from everything the job has"))
    if height is not None and spread is not None and abs(height) > max(HEIGHT_ALARM_M / metre, 4 * spread):
        alarms.append(("height", _height_words(height, new, job)))
    return PlaceCheck(overlap, apart, height, alarms, job.reference.unit.symbol, system)


def _own_alarms(site: Site) -> list[tuple[str, str]]:
    """What the numbers say by themselves: outside the area of use, or only inside it when exchanged or scaled."""
    if not len(site.xyz) or not site.reference.wkt:
        return []
    middle = np.nanmedian(site.xyz[:, :2], axis=0)
    if not outside_area_of_use(site.reference, float(middle[0]), float(middle[1])):
        return []
    name = site.reference.name
    if outside_area_of_use(site.reference, float(middle[1]), float(middle[0])) is False:
        return [("swapped", f"outside the area of use of {name}, inside it when easting and northing are exchanged")]
    for unit in (METRE, FOOT):
        factor = unit.metres / site.reference.unit.metres
        scaled = middle * factor
        if abs(factor - 1) > 1e-4 and outside_area_of_use(site.reference, float(scaled[0]), float(scaled[1])) is False:
            words = f"outside the area of use of {name}, inside it if the numbers are {unit.plural}: unit?"
            return [("unit-ratio", words)]
    return [("outside-area", f"outside the area of use of the reference system ({name})")]


def _grid_guess(site: Site) -> str:
    """What numbers without a system look like, where they are too large for a grid of their own; else nothing.

    UTM has a false easting of 500 000 m and zones some 670 km wide at most; some agencies write the number of the zone
    before the easting (as in EPSG 4647).
    """
    if site.reference.wkt or not len(site.xyz):
        return ""
    east, north = np.nanmedian(site.xyz[:, :2], axis=0) * site.reference.unit.metres
    zone, rest = divmod(float(east), 1e6)
    if 1 <= zone <= 60 and LEAST_EASTING_M < rest < 1e6 - LEAST_EASTING_M and 0 < north < MOST_NORTHING_M:
        return f"The numbers look like a grid whose eastings begin with the number of the zone ({zone:.0f}): choose its system."
    if zone == 0 and rest > LEAST_EASTING_M and LEAST_NORTHING_M < north < MOST_NORTHING_M:
        return (
            "The numbers look like a UTM zone or another large grid, which they cannot tell: choose its system, "
            "or leave them a grid of their own."
        )
    return ""


def _swapped(new: Site, job: Site) -> list[tuple[str, str]]:
    turned = new.xyz[:, [1, 0, 2]]
    cell = _cell(job)
    share = _overlap(turned, job.xyz, cell)
    inside = _inside(turned, job.bounds)
    if share > 0.05 or inside > 0.5:
        return [("swapped", "easting and northing look swapped: exchanged, it lies in the job's data")]
    return []


def _scaled(new: Site, job: Site) -> list[tuple[str, str]]:
    for factor, words in RATIOS:
        back = new.xyz / factor
        if _inside(back, _grown(job.bounds, 0.25)) > 0.5:
            shown = f"{factor:.4f}".rstrip("0").rstrip(".") if factor < 10 else f"{factor:.6g}"
            return [("unit-ratio", f"lies {shown} times as far from the origin as the job's data: {words}")]
    return []


def _other_zone(new: Site, job: Site) -> tuple[str, list[tuple[str, str]]]:
    """Whether the numbers would fit in the neighbouring zone of the same family of systems; its code, and the alarm."""
    if not job.reference.wkt:
        return "", []
    own = new.reference if new.reference.wkt else job.reference
    match = re.search(r"zone (\d+)", own.name)
    if not match or not own.code.startswith("EPSG:"):
        return "", []
    number = int(own.code.split(":")[1].split("+")[0])
    for step in (-1, 1, -2, 2):
        wanted = own.name.replace(match.group(0), f"zone {int(match.group(1)) + step}")
        try:
            other = pyproj.CRS.from_epsg(number + step)
            if other.name != wanted:
                continue
            change = pyproj.Transformer.from_crs(other, pyproj.CRS.from_wkt(job.reference.wkt), always_xy=True)
            east, north = change.transform(new.xyz[:, 0], new.xyz[:, 1])
        except (CRSError, ProjError):
            continue
        moved = np.column_stack([east, north, new.xyz[:, 2]])
        if _inside(moved, _grown(job.bounds, 0.5)) > 0.5:
            return f"EPSG:{number + step}", [
                ("zone", f"would lie in the job's data if the numbers were in {wanted}: wrong zone?")
            ]
    return "", []


def _local(new: Site, job: Site) -> list[tuple[str, str]]:
    near = NEAR_ORIGIN_M / job.reference.unit.metres
    low, high = new.bounds
    if is_geographic(job.reference):
        return []
    small = max(abs(low[0]), abs(high[0])) <= 180 and max(abs(low[1]), abs(high[1])) <= 90
    if small and _distance(job) > 10 * near and _looks_like_degrees(new, job):
        return [("degrees", "the numbers look like degrees of longitude and latitude")]
    if _distance(new) < near < _distance(job):
        return [("local", "lies near the origin while the job's data do not: local coordinates of a design?")]
    return []


def _looks_like_degrees(new: Site, job: Site) -> bool:
    if not job.reference.wkt:
        return False
    try:
        change = pyproj.Transformer.from_crs(4326, pyproj.CRS.from_wkt(job.reference.wkt), always_xy=True)
        east, north = change.transform(new.xyz[:, 0], new.xyz[:, 1])
    except (CRSError, ProjError):
        return False
    return _inside(np.column_stack([east, north, new.xyz[:, 2]]), _grown(job.bounds, 5.0)) > 0.5


def _feet(original: Site, job: Site, new: Site) -> list[tuple[str, str]]:
    """The two feet, 2 ppm apart: told from labels, from points of the same name, or from outlines that agree."""
    far = float(np.abs(np.nanmedian(job.xyz[:, :2], axis=0)).max())
    shift = f"{_length(far * FEET_APART, job)} here"
    feet = {FOOT, US_SURVEY_FOOT}
    if {original.reference.unit, job.reference.unit} == feet and original.reference.certainty != "assumed":
        words = f"{original.reference.unit.plural} against the job's {job.reference.unit.plural}"
        return [("feet", f"exactly 2 ppm scale: {words}, {shift}")]
    ratio = _ratio_of_common(new, job)
    if ratio is None:
        ratio = _ratio_of_outlines(new, job)
    if ratio is not None and 0.7 * FEET_APART < abs(ratio - 1) < 1.3 * FEET_APART:
        return [("feet", f"exactly 2 ppm scale: survey foot against international foot, {shift}")]
    return []


def _ratio_of_common(new: Site, job: Site) -> float | None:
    """Scale between points of the same name in both, about the origin; None with fewer than two or when they differ."""
    if not new.names or not job.names:
        return None
    places = {name: row for row, name in enumerate(job.names) if name}
    pairs = [(row, places[name]) for row, name in enumerate(new.names) if name in places]
    if len(pairs) < 2:
        return None
    mine, theirs = (np.array([pair[k] for pair in pairs]) for k in (0, 1))
    a, b = new.xyz[mine, :2].ravel(), job.xyz[theirs, :2].ravel()
    ratio = float(a @ b / (b @ b))
    rest = np.abs(a - ratio * b).max()
    return ratio if rest < 0.3 * FEET_APART * np.abs(b).max() else None


def _ratio_of_outlines(new: Site, job: Site) -> float | None:
    """Scale between two outlines whose four sides agree on it; None when they do not."""
    a = np.concatenate([corner[:2] for corner in new.bounds])
    b = np.concatenate([corner[:2] for corner in job.bounds])
    if np.any(np.abs(b) < 1000 * np.abs(a - b) + 1):
        return None
    ratio = a / b
    return float(ratio.mean()) if np.ptp(ratio) < 0.3 * FEET_APART else None


def _height_words(height: float, new: Site, job: Site) -> str:
    words = f"median height differs by {_length(abs(height), job)} from the cloud beneath"
    own, theirs = float(np.nanmedian(new.xyz[:, 2])), float(np.nanmedian(new.xyz[:, 2]) - height)
    for factor, guess in ((0.3048, "metres for feet"), (1 / 0.3048, "feet for metres")):
        if theirs and abs(own / (theirs * factor) - 1) < 0.02 and abs(theirs) > 3:
            return f"{words}: heights in another unit ({guess})?"
    return f"{words} ({'higher' if height > 0 else 'lower'}): vertical datum?"


def _cell(one: Site) -> float:
    low, high = one.bounds
    size = float(max(np.nanmax((high - low)[:2]), 1e-6))
    return max(size / CELLS, 1e-6)


def _keys(xyz: Floats, cell: float) -> Ints:
    cells = np.floor(xyz[:, :2] / cell)
    cells = np.clip(cells, -(2**30), 2**30).astype(np.int64)
    return np.asarray(cells[:, 0] * 2**31 + cells[:, 1])


def _overlap(new: Floats, job: Floats, cell: float) -> float:
    """Share of the cells with new data in which, or right beside which, the job has data."""
    known = np.isfinite(new[:, :2]).all(axis=1)
    mine, theirs = np.unique(_keys(new[known], cell)), np.unique(_keys(job, cell))
    if not len(mine):
        return 0.0
    around = np.unique(np.concatenate([theirs + dx * 2**31 + dy for dx in (-1, 0, 1) for dy in (-1, 0, 1)]))
    return float(np.isin(mine, around).mean())


def _inside(xyz: Floats, box: tuple[Floats, Floats]) -> float:
    with np.errstate(invalid="ignore"):
        within = (xyz[:, :2] >= box[0][:2]) & (xyz[:, :2] <= box[1][:2])
    return float(within.all(axis=1).mean())


def _grown(box: tuple[Floats, Floats], share: float) -> tuple[Floats, Floats]:
    room = share * np.maximum(box[1] - box[0], 1.0)
    return box[0] - room, box[1] + room


def _apart(one: tuple[Floats, Floats], other: tuple[Floats, Floats]) -> float:
    gap = np.maximum(np.maximum(one[0][:2] - other[1][:2], other[0][:2] - one[1][:2]), 0)
    return float(np.hypot(*gap))


def _height_over(new: Floats, job: Floats, cell: float) -> tuple[float | None, float | None]:
    """Median height of new over job in cells with both, and the spread of it (median absolute deviation)."""
    good = np.isfinite(new).all(axis=1)
    theirs = np.isfinite(job).all(axis=1)
    mine, high = _medians(_keys(new[good], cell), new[good, 2])
    keys, low = _medians(_keys(job[theirs], cell), job[theirs, 2])
    common, here, there = np.intersect1d(mine, keys, return_indices=True)
    if not len(common):
        return None, None
    step = high[here] - low[there]
    middle = float(np.median(step))
    return middle, float(np.median(np.abs(step - middle)))


def _medians(keys: Ints, values: Floats) -> tuple[Ints, Floats]:
    order = np.lexsort((values, keys))
    found, first, number = np.unique(keys[order], return_index=True, return_counts=True)
    return found, values[order][first + number // 2]


def _distance(site: Site) -> float:
    return float(np.hypot(*np.nanmedian(site.xyz[:, :2], axis=0)))


def _higher(value: float, unit: str) -> str:
    if abs(value) < 0.005:
        return "at the same height"
    return f"{abs(value):.2f} {unit} {'higher' if value > 0 else 'lower'}"


def _length(value: float, site: Site) -> str:
    return f"{value:,.1f}".replace(",", "\u2009") + f" {site.reference.unit.symbol}"
