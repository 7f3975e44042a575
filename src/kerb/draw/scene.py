"""What is to be drawn: clouds and meshes with their styles. Plain data, no drawing."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from kerb.core.arrays import AnyArray, Bytes, Floats, Floats32, Ints32, Mask
from kerb.core.cloud.filters import Filter, kept
from kerb.core.cloud.store import ASIDE, CLASSES, ELEVATION, PART, CloudStore
from kerb.core.once import Once
from kerb.core.parallel import each, ranges
from kerb.draw.ramps import banded, table_between

Colour = tuple[int, int, int]
CLAMP, FADE, HIDE = "clamp", "fade", "hide"
# What surfaces can be coloured by besides their elevation; below so many degrees a triangle falls nowhere.
SLOPE, ASPECT, LEVEL_DEGREES = "slope", "aspect", 0.05
# Triangles that a limit is taken from.
SAMPLE = 200_000
NO_PART = (206, 203, 196)


@dataclass(frozen=True)
class Style:
    """How a cloud is coloured.

    ``by`` is ``elevation``, ``colour``, ``class``, ``source``, ``plain`` or the name of a column; ``low`` and
    ``high`` limit the ramp (None: what the cloud has); ``contour`` is the interval of lines drawn on it (0: none).
    ``bands`` are rising edges of classes that are coloured instead of the ramp. Of a surface ``by`` may be ``elevation``,
    ``slope``, ``aspect`` or ``plain``, and ``edges`` draws those of its triangles.
    """

    by: str = "elevation"
    ramp: str = "Shore"
    low: float | None = None
    high: float | None = None
    beyond: str = CLAMP
    contour: float = 0.0
    plain: Colour = (120, 130, 134)
    thickness: int = 0
    bands: tuple[float, ...] = ()
    edges: bool = False


@dataclass
class CloudLayer:
    """A cloud in the scene: what its filters let through, without the parts and classes that are hidden.

    ``shown_classes`` None shows all of them; ``with_aside`` shows set-aside points too, in grey; ``inks`` are the
    colours of its parts by number.
    """

    store: CloudStore
    style: Style = field(default_factory=Style)
    shown_classes: Mask | None = None
    first_row: int = 0
    filters: tuple[Filter, ...] = ()
    hidden_parts: tuple[int, ...] = ()
    with_aside: bool = False
    inks: dict[int, Colour] = field(default_factory=dict)

    def mask(self) -> tuple[Bytes, Mask]:
        """Per-point byte and which of its values are drawn; one byte for all where nothing is hidden."""
        columns = self._columns()
        filters = self._filters()
        if not columns and not filters:
            return np.zeros(1, np.uint8), _only(0)
        if len(columns) == 1 and not filters and self.store.column(columns[0][0]).dtype == np.uint8:
            name, shown = columns[0]
            return self.store.column(name), shown
        return self._combined(columns, filters), _only(1)

    def shown(self) -> Mask:
        """Which points, (n,), are drawn when they are in sight."""
        which, values = self.mask()
        if len(which) == 1:
            return np.ones(self.store.count, np.bool_)
        return np.asarray(values[np.minimum(which, 255)])

    def _filters(self) -> tuple[Filter, ...]:
        active = tuple(condition for condition in self.filters if condition.on)
        if self.hidden_parts and self.store.has(PART):
            active = (*active, Filter(PART, self.hidden_parts, outside=True))
        style = self.style
        if style.beyond == HIDE and style.by not in ("class", "colour", "plain", "source", "source_file", PART):
            low, high = self.limits()
            active = (*active, Filter(style.by, low=low, high=high))
        return active

    def _columns(self) -> list[tuple[str, Mask]]:
        """Columns of bytes with the values of them that are shown."""
        found = []
        if self.store.aside() is not None and not self.with_aside:
            found.append((ASIDE, _only(0)))
        if self.shown_classes is not None and self.store.has(CLASSES):
            found.append((CLASSES, self.shown_classes))
        return found

    def _combined(self, columns: list[tuple[str, Mask]], filters: tuple[Filter, ...]) -> Bytes:
        """One byte a point, 1 where every condition holds; kept until values of the cloud change."""
        key = " ".join(f"{name}:{np.packbits(shown).tobytes().hex()}" for name, shown in columns) + repr(filters)
        if self.store.mask is None or self.store.mask[0] != key:
            out = kept(self.store, filters)

            def some(span: tuple[int, int]) -> None:
                rows = slice(*span)
                for name, shown in columns:
                    out[rows] &= shown[np.minimum(self.store.column(name)[rows], 255)]

            each(some, ranges(self.store.count, least=500_000))
            self.store.mask = (key, out.view(np.uint8))
        return self.store.mask[1]

    def values(self, rows: slice | AnyArray) -> Floats32 | Floats:
        """The value each of some rows is coloured by."""
        if self.style.by == ELEVATION:
            return self.store.elevations(rows)
        column = self.store.column(self.style.by)[rows]
        return np.asarray(column if column.ndim == 1 else column[:, 0], float)

    def part_inks(self, rows: AnyArray) -> Bytes:
        """Colours (n, 3) of some rows by part; points of no part are pale."""
        colours = np.full((256, 3), NO_PART, np.uint8)
        for number, ink in self.inks.items():
            colours[number] = ink
        return np.asarray(colours[self.store.column(PART)[rows]])

    def limits(self) -> tuple[float, float]:
        """Ends of the ramp: those of the style, or robust ones of the data."""
        low, high = self.style.low, self.style.high
        if low is None or high is None:
            found = robust_limits(self)
            low = found[0] if low is None else low
            high = found[1] if high is None else high
        return low, high


@dataclass
class MeshLayer:
    """A surface in the scene: job coordinates, one colour, seen through by ``opacity`` (in front) and ``hidden``.

    With a ``ramp`` its triangles are coloured by ``values`` (n,) of its vertices, without by their elevations, or by what
    ``by`` names (``slope``, ``aspect``); ``span`` is what those reach over, strays left out; ``title`` and ``unit`` say what they
    are. ``contour`` is the interval of lines drawn on it, ``edges`` draws those of its triangles.
    """

    vertices: Floats
    triangles: Ints32
    colour: Colour
    opacity: float = 1.0
    hidden: float = 0.0
    hatch: bool = False
    ramp: str = ""
    limits: tuple[float, float] = (0.0, 1.0)
    span: tuple[float, float] = (0.0, 1.0)
    values: Floats | None = None
    bands: tuple[float, ...] = ()
    title: str = ""
    unit: str = ""
    by: str = ELEVATION
    contour: float = 0.0
    edges: bool = False

    @Once
    def normals(self) -> Floats:
        """Unit normals of the triangles (m, 3)."""
        a, b, c = (self.vertices[self.triangles[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1), 1e-30)[:, None])

    @Once
    def slopes(self) -> Floats:
        """Inclination of each triangle in degrees (m,): 0 level, 90 upright."""
        return np.degrees(np.arccos(np.clip(np.abs(self.normals[:, 2]), 0.0, 1.0)))

    @Once
    def steepest(self) -> float:
        """Slope in degrees that one in a hundred triangles exceeds, from a sample; at least 1."""
        some = replace(self, triangles=self.triangles[:: max(1, len(self.triangles) // SAMPLE)])
        return max(float(np.percentile(some.slopes, 99)), 1.0) if len(some.triangles) else 1.0

    @Once
    def aspects(self) -> Floats:
        """Where each triangle falls to, in degrees clockwise from grid north (m,); NaN where it is level."""
        down = self.normals[:, :2] * np.where(self.normals[:, 2] < 0, -1.0, 1.0)[:, None]
        found = np.degrees(np.arctan2(down[:, 0], down[:, 1])) % 360.0
        return np.where(self.slopes < LEVEL_DEGREES, np.nan, found)

    def known(self) -> Floats:
        """What colours each triangle (m,)."""
        if self.values is not None:
            return np.asarray(self.values[self.triangles].mean(axis=1))
        if self.by == SLOPE:
            return self.slopes
        if self.by == ASPECT:
            return self.aspects
        return np.asarray(self.vertices[:, 2][self.triangles].mean(axis=1))

    @Once
    def tones(self) -> Floats:
        """Colour of each triangle (m, 3), lit from above and the north-west; one for all where it is hatched."""
        if self.hatch:
            return np.array([self.colour], float)
        light = 0.45 + 0.55 * np.abs(self.normals @ np.array([-0.4, 0.4, 0.82]))
        base = np.broadcast_to(np.array(self.colour, float), (len(light), 3))
        if self.ramp:
            low, high = self.limits
            known = self.known()
            colours = table_between(self.ramp, float(low), float(high))
            share = np.nan_to_num((known - low) / max(high - low, 1e-12))
            base = colours[np.clip(share * (len(colours) - 1), 0, len(colours) - 1).astype(int)].astype(float)
            if self.bands:
                base = banded(known, self.bands, self.ramp).astype(float)
            if self.by == ASPECT:
                base[np.isnan(known)] = self.colour
        return np.asarray(base * light[:, None])


@dataclass
class PictureLayer:
    """A picture in the scene: ``texture`` (h, w, 4) red, green, blue, opacity; ``affine`` puts its pixel corners.

    ``under`` is its opacity where nothing is drawn, where it lies on the level ``level``; ``over`` on what is drawn.
    """

    texture: Bytes
    affine: tuple[float, float, float, float, float, float]
    under: float = 1.0
    over: float = 0.0
    level: float = 0.0


@dataclass(frozen=True)
class LineLayer:
    """A line over the picture, (n, 3) in job coordinates; where something lies before it, it is drawn faintly.

    ``dash`` is (length, gap) in units of its width; empty for a whole line.
    """

    xyz: Floats
    colour: Colour
    width: float = 1.6
    closed: bool = False
    title: str = ""
    dash: tuple[float, float] | tuple[()] = ()


@dataclass(frozen=True)
class MarkLayer:
    """Places (n, 3) marked over the picture, each in its colour (n, 3), with texts where there are any."""

    xyz: Floats
    colours: Bytes
    texts: tuple[str, ...] = ()
    marked: bool = True


@dataclass
class Scene:
    """Everything drawn in one picture."""

    clouds: list[CloudLayer] = field(default_factory=list)
    meshes: list[MeshLayer] = field(default_factory=list)
    pictures: list[PictureLayer] = field(default_factory=list)
    lines: list[LineLayer] = field(default_factory=list)
    marks: list[MarkLayer] = field(default_factory=list)
    background: Colour = (247, 246, 242)
    ink: Colour = (40, 44, 46)
    aside: Colour = (164, 164, 160)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to draw."""
        return not (self.clouds or self.meshes or self.pictures)

    @property
    def interval(self) -> float:
        """Interval of the contour lines on clouds and surfaces; 0 for none."""
        return max([layer.style.contour for layer in self.clouds] + [mesh.contour for mesh in self.meshes], default=0.0)

    def numbered(self) -> Scene:
        """Give each cloud a range of row numbers of its own."""
        start = 0
        for layer in self.clouds:
            layer.first_row = start
            start += layer.store.count
        return self


def value_map(scene: Scene) -> MeshLayer | None:
    """The mesh of an outcome that is coloured by values of its own."""
    return next((mesh for mesh in scene.meshes if mesh.ramp and mesh.values is not None and mesh.title), None)


def robust_limits(layer: CloudLayer, share: float = 0.5) -> tuple[float, float]:
    """Limits that leave ``share`` percent of the points in use out at either end, from a fair sample.

    Points of classes that are not shown do not count, unless there are no others.
    """
    hidden = layer.shown_classes is not None and layer.store.has(CLASSES)
    key = f"limits {layer.style.by} {share} {hidden}"
    if key in layer.store.remembered:
        before = layer.store.remembered[key]
        return before[0], before[1]
    rows = layer.store.fair_rows(200_000)
    if layer.shown_classes is not None and hidden:
        seen = rows[layer.shown_classes[np.minimum(layer.store.column(CLASSES)[rows], 255)]]
        rows = seen if len(seen) else rows
    values = layer.values(rows)
    values = values[np.isfinite(values)]
    if not len(values):
        return 0.0, 1.0
    low, high = np.percentile(values, [share, 100 - share])
    found = float(low), float(high if high > low else low + 1.0)
    layer.store.remembered[key] = found
    return found


def _only(value: int) -> Mask:
    shown = np.zeros(256, bool)
    shown[value] = True
    return shown
