"""What an outcome draws: points, lines, meshes, areas, labels and dimensions, each with a role, a title and a unit.

Roles are the trade's parts of a picture (``edge``, ``base``, ``top``, ``gap``, ``mark``); a theme or a page gives each
its colour, so that a layer looks the same in a view and in the report.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from kerb.core.arrays import TINY, Floats, Ints32
from kerb.core.quantity import Decimals, finer, number, quantity
from kerb.core.section.frame import Frame

# Sides of the squares that places are drawn as, in spacings.
COVER = 2.0


@dataclass(frozen=True)
class FoundPoints:
    """Places (n, 3), with ``values`` (n,) that colour them where there are any."""

    xyz: Floats
    role: str = "mark"
    title: str = ""
    unit: str = ""
    values: Floats | None = None
    names: tuple[str, ...] = ()
    shown: bool = True


@dataclass(frozen=True)
class FoundLine:
    """A line, (n, 3) in job coordinates; ``gapped`` ones are breaks in the look of a line under them."""

    xyz: Floats
    role: str = "edge"
    title: str = ""
    closed: bool = False
    shown: bool = True
    gapped: bool = False


@dataclass(frozen=True)
class FoundMesh:
    """A surface: vertices (n, 3) in job coordinates, triangles (m, 3); ``values`` (n,) colour it where there are any, between
    ``limits`` and in ``bands`` where the study says so: else evenly about nought, as far as 98 in 100 of them reach.
    ``ramp`` is that of values without
    sign. One that is ``ground`` is a surface of its own, as a study makes it."""

    vertices: Floats
    triangles: Ints32
    role: str = "top"
    title: str = ""
    unit: str = ""
    values: Floats | None = None
    hatch: bool = False
    shown: bool = True
    limits: tuple[float, float] | None = None
    bands: tuple[float, ...] = ()
    ground: bool = False
    ramp: str = ""


def needles(feet: Floats, ways: Floats, width: float, values: Floats, unit: str) -> FoundMesh:
    """Many short lines from feet (n, 3) along ways (n, 3), coloured by values (n,), which views draw by the hundred thousand:
    each is two thin strips across one another, so that it is seen from every side."""
    long = np.maximum(np.linalg.norm(ways, axis=1), TINY)[:, None]
    aside = np.cross(ways / long, np.where(np.abs(ways[:, 2:]) > 0.9 * long, [[1.0, 0.0, 0.0]], [[0.0, 0.0, 1.0]]))
    aside *= width / 2 / np.maximum(np.linalg.norm(aside, axis=1), TINY)[:, None]
    other = np.cross(ways / long, aside)
    tips = feet + ways
    corners = [edge for one in (aside, other) for edge in (feet - one, feet + one, tips + one, tips - one)]
    vertices = np.stack(corners, axis=1).reshape(-1, 3)
    first = 8 * np.arange(len(feet), dtype=np.int32)[:, None]
    parts = ([0, 1, 2], [0, 2, 3], [4, 5, 6], [4, 6, 7])
    triangles = np.concatenate([first + np.array(part, np.int32) for part in parts])
    return FoundMesh(vertices, triangles, "map", "Distance lines", unit, np.repeat(values, 8), shown=False)


def flakes(xyz: Floats, values: Floats, spacing: float, title: str, unit: str) -> FoundMesh:
    """Many places (n, 3) with values as small level squares, which views draw by the hundred thousand.

    Squares of k spacings cover all but exp(-k²) of ground on which places lie by chance: of two, all but 2 %.
    """
    half = COVER * spacing / 2
    corner = np.array([[-half, -half, 0], [half, -half, 0], [half, half, 0], [-half, half, 0]])
    first = 4 * np.arange(len(xyz), dtype=np.int32)[:, None]
    triangles = np.concatenate([first + np.array([0, 1, 2], np.int32), first + np.array([0, 2, 3], np.int32)])
    vertices = (xyz[:, None] + corner).reshape(-1, 3)
    return FoundMesh(vertices, triangles.astype(np.int32), "map", title, unit, np.repeat(values, 4))


@dataclass(frozen=True)
class FoundLabels:
    """Texts at places (n, 3), each with a value in ``unit`` behind it where there are any, and its 95 % bound.

    ``bare`` ones are the numbers alone, as on a plan of levels; of ``signed`` ones the sign is written.
    """

    xyz: Floats
    texts: tuple[str, ...]
    role: str = "label"
    title: str = ""
    shown: bool = True
    values: tuple[float | None, ...] = ()
    bounds: tuple[float | None, ...] = ()
    unit: str = ""
    bare: bool = False
    signed: bool = False
    resolution: float = 0.0

    def said(self, decimals: Decimals) -> tuple[str, ...]:
        """The texts as they are printed."""
        if not self.values:
            return self.texts
        if self.bare:
            most = finer(decimals.of(self.unit), self.resolution)
            return tuple(number(value, most, self.signed) for value in self.values)
        rows = zip(self.texts, self.values, self.bounds, strict=True)
        whole = replace(decimals, volume=0)
        said = lambda value, u95: quantity(value, self.unit, whole, u95=u95, resolution=self.resolution)  # noqa: E731
        return tuple(f"{text}  {said(value, u95)}".strip() for text, value, u95 in rows)


@dataclass(frozen=True)
class FoundDimensions:
    """Measured distances: places (n, 2, 3) of both ends, with what is written beside each."""

    ends: Floats
    texts: tuple[str, ...]
    role: str = "dimension"
    title: str = ""
    shown: bool = True


Layer = FoundPoints | FoundLine | FoundMesh | FoundLabels | FoundDimensions
LAYERS: dict[str, type[Layer]] = {
    kind.__name__: kind for kind in (FoundPoints, FoundLine, FoundMesh, FoundLabels, FoundDimensions)
}


@dataclass(frozen=True)
class Profile:
    """A vertical section through an outcome along ``line`` (2, 2): distance along it, and each surface there (NaN: none).

    ``traces`` are (title, role, elevations (n,)); what lies between the first two is filled. ``field`` names the field
    of the setup that moves the line, ``cuts`` the layers it cuts.
    """

    title: str
    line: Floats
    distance: Floats
    traces: tuple[tuple[str, str, Floats], ...]
    field: str = ""
    cuts: tuple[str, ...] = ()

    @property
    def top(self) -> Floats:
        """The upper surface, (n,)."""
        return self.traces[0][2]

    @property
    def base(self) -> Floats:
        """The lower surface, (n,)."""
        return self.traces[1][2] if len(self.traces) > 1 else np.full(len(self.distance), np.nan)


def between(profile: Profile) -> tuple[Floats, Floats, Floats]:
    """Distances (k,) at which both the top and the base of a profile are known, with both elevations there.

    Where they cross a place is added, so that what lies above the base and what lies below it are exact.
    """
    both = np.isfinite(profile.top) & np.isfinite(profile.base)
    x, top, base = profile.distance[both], profile.top[both], profile.base[both]
    over = top - base
    at = np.flatnonzero(over[:-1] * over[1:] < 0)
    if not len(at):
        return x, top, base
    share = over[at] / (over[at] - over[at + 1])
    place = x[at] + share * (x[at + 1] - x[at])
    level = base[at] + share * (base[at + 1] - base[at])
    return (np.insert(x, at + 1, place), np.insert(top, at + 1, level), np.insert(base, at + 1, level))


@dataclass(frozen=True)
class Plot:
    """A chart of numbers: ``kind`` is ``bars``, ``scatter``, ``curve`` or ``histogram`` (then only ``x`` counts).

    ``normal`` draws the normal distribution of the same mean and spread over a histogram.
    """

    title: str
    kind: str
    x: Floats
    y: Floats
    x_title: str = ""
    y_title: str = ""
    names: tuple[str, ...] = ()
    normal: bool = False


def histogram(title: str, values: Floats, about: str, of: str, normal: bool = False) -> Plot:
    """How values (n,) are spread: ``about`` says what they are, ``of`` what is counted."""
    return Plot(title, "histogram", values, np.empty(0), about, of, normal=normal)


def normal_curve(values: Floats, edges: Floats) -> Floats:
    """The counts that a normal distribution of the values' mean and standard deviation has in bins, (k, 2) place and count."""
    known = values[np.isfinite(values)]
    spread = float(np.std(known, ddof=1)) if len(known) > 2 else 0.0
    if spread <= 0 or len(edges) < 2:
        return np.empty((0, 2))
    middle = float(np.mean(known))
    x = np.linspace(min(edges[0], middle - 3 * spread), max(edges[-1], middle + 3 * spread), 121)
    density = np.exp(-0.5 * ((x - middle) / spread) ** 2) / (spread * np.sqrt(2 * np.pi))
    return np.column_stack([x, len(known) * (edges[1] - edges[0]) * density])


def bins_of(values: Floats, most: int) -> tuple[Floats, Floats]:
    """Counts and edges of a histogram with as many bins as the values bear (the larger of Sturges' and Freedman and
    Diaconis' rules), and no more than ``most``."""
    known = values[np.isfinite(values)]
    count = len(np.histogram_bin_edges(known, "auto")) - 1 if len(known) and np.ptp(known) > 0 else 1
    counts, edges = np.histogram(known, bins=int(np.clip(count, 1, most)))
    return counts.astype(float), edges


@dataclass(frozen=True)
class Trace:
    """Lines of one thing in all sections of a series: (m, 3) number of the section, offset, elevation (NaN: a gap)."""

    title: str
    role: str
    places: Floats


@dataclass(frozen=True)
class Sections:
    """A series of sections, one looked at a time: ``names`` are their stations as written, ``frames`` (n, 6) station,
    easting, northing, azimuth (radians), width and thickness of each.

    ``points`` (m, 3) and ``shots`` (k, 3) are number of the section, offset and elevation; ``shot_names`` has k names.
    """

    title: str
    names: tuple[str, ...]
    frames: Floats
    traces: tuple[Trace, ...]
    points: Floats
    shots: Floats
    shot_names: tuple[str, ...] = ()

    def frame(self, number: int) -> Frame:
        """The frame of one section."""
        station, east, north, azimuth, width, thickness = self.frames[number].tolist()
        return Frame(station, (east, north), azimuth, width, thickness)

    def one(self, number: int) -> tuple[list[Trace], Floats, Floats, list[str]]:
        """Of one section: its lines, points and shots as (n, 2) offset and elevation, and the names of the shots."""
        lines = [replace(t, places=t.places[t.places[:, 0] == number, 1:]) for t in self.traces]
        rows = self.shots[:, 0] == number
        names = [name for name, mine in zip(self.shot_names, rows, strict=True) if mine]
        return lines, self.points[self.points[:, 0] == number, 1:], self.shots[rows, 1:], names


Chart = Profile | Plot | Sections
CHARTS: dict[str, type[Chart]] = {kind.__name__: kind for kind in (Profile, Plot, Sections)}


def taken_apart(item: Any, stem: str, arrays: dict[str, Any]) -> dict[str, Any]:
    """A layer or chart as a plain dictionary, its arrays put into ``arrays`` under names that begin with ``stem``."""
    data: dict[str, Any] = {"is": type(item).__name__}
    for entry in fields(item):
        data[entry.name] = _apart(getattr(item, entry.name), f"{stem}.{entry.name}", arrays)
    return data


def _apart(value: Any, stem: str, arrays: dict[str, Any]) -> Any:
    if isinstance(value, np.ndarray):
        arrays[stem] = value
        return {"array": stem}
    if isinstance(value, Trace):
        return {"trace": [value.title, value.role, _apart(value.places, stem, arrays)]}
    if isinstance(value, tuple):
        return [_apart(item, f"{stem}.{number}", arrays) for number, item in enumerate(value)]
    return value


def put_together(data: dict[str, Any], arrays: dict[str, Any]) -> Any:
    """The reverse of :func:`taken_apart`. Raises KeyError or TypeError, when something is missing."""
    kind = (LAYERS | CHARTS)[data["is"]]
    return kind(**{key: _together(value, arrays) for key, value in data.items() if key != "is"})


def _together(value: Any, arrays: dict[str, Any]) -> Any:
    if isinstance(value, dict) and "trace" in value:
        title, role, places = value["trace"]
        return Trace(title, role, _together(places, arrays))
    if isinstance(value, dict):
        return arrays[value["array"]]
    if isinstance(value, list):
        return tuple(_together(item, arrays) for item in value)
    return value
