"""Cut and fill between two surfaces: exact or by a grid, over all or area by area, its map, its bound and a second way."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from kerb.core.arrays import Floats, Ints32
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry import polygon
from kerb.core.geometry.area import Area, inside_any, overlapping
from kerb.core.progress import Progress
from kerb.core.quantity import Decimals, bound, digits, labelled, quantity, round_number
from kerb.core.surface.grid import centres_of, shape_over
from kerb.core.surface.outline import LEAST_SHARE, cell_shares
from kerb.core.surface.overlay import Change, by_columns, change, covered, mask_of, pieces, zero_lines
from kerb.core.surface.tin import Tin
from kerb.studies.cutfill import figures, series, uncertainty
from kerb.studies.cutfill.compared import RIM_SHARE, Compared, compared, difference_grid, extent
from kerb.studies.cutfill.setup import EXACT, KEEP, CutfillSetup
from kerb.studies.layers import FoundLabels, FoundLine, FoundMesh, Plot, Profile, histogram
from kerb.studies.outcome import Note, Outcome
from kerb.studies.profiles import eastward
from kerb.studies.sources import Sources

STUDY = "cutfill"
CELLS_ALONG = 300
# More pieces than this are drawn on the vertices of the later surface in their place.
MOST_PIECES = 400_000
MOST_DRAWN = 1_500_000
SAMPLES = 400
RIM_PLACES = 2000
MOST_ZERO = 60
MOST_LABELS = 4000
ROUNDING = 1e-9
# Cells along the longer side of the map of large surfaces.
LATTICE = 700
# Parts of a cell along each side where the outline of a surface is too long to be followed.
SUBCELLS = 4
# Two ways that differ by more than this share of all that moved, and by more than the bound, are said to.
WAYS_SHARE = 0.01


def run(setup: CutfillSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'where, how much and how sure?'.

    Raises InputError, when a setting cannot be or the surfaces do not meet; NotDeterminable; Cancelled.
    """
    setup.check()
    found = compared(setup, sources, progress.within(0.0, 0.4))
    areas = setup.named_areas()
    band = setup.detect or 0.0
    rows: list[figures.AreaChange] = []
    asked: list[Area | None] = [*areas] or [None]
    for number, area in enumerate(asked):
        share = progress.within(0.4 + 0.3 * number / len(asked), 0.4 + 0.3 * (number + 1) / len(asked))
        rows.append(_of_area(found, area, setup, band, share))
    exact, grid = (figures.added([getattr(row, way) for row in rows]) for way in ("exact", "grid"))
    total = exact if setup.method == EXACT else grid
    if total.area <= 0:
        raise NotDeterminable("the two surfaces share no ground here")
    unit = sources.unit
    where = uncertainty.Where(_rim(found, areas), tuple(areas), None if setup.method == EXACT else grid.net - exact.net)
    parts = uncertainty.parts(setup, found, total, where, unit.symbol)
    outcome = Outcome(STUDY, unit.code, sources.surface("earlier", setup.earlier).reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("earlier", "later" if setup.exchanged else "earlier")]
    if setup.level is None:
        outcome.inputs.append(sources.input("later", "earlier" if setup.exchanged else "later"))
    outcome.figures = figures.figures_of(setup, found, rows, total, parts, unit)
    if setup.level is not None:
        balance = _balance(found, areas, setup.exchanged)
        outcome.figures["balance_level"] = replace(outcome.figures["balance_level"], value=balance)
    outcome.tables = figures.tables_of(setup, rows, parts, unit)
    outcome.warnings += _notes(setup, found, rows, total, unit.code)
    _judge(outcome, areas, rows, (exact, grid), unit.code)
    _draw(outcome, setup, found, areas, progress.within(0.7, 0.8))
    outcome.charts = [*_profile(setup, found, areas), *_charts(found, areas, rows, unit.code)]
    if setup.further and setup.level is None:
        series.add(outcome, setup, sources, total, progress.within(0.8, 0.98))
    outcome.method = figures.method(setup, found, unit)
    return outcome


def _of_area(
    found: Compared, area: Area | None, setup: CutfillSetup, band: float, progress: Progress
) -> figures.AreaChange:
    mask = mask_of(area) if area is not None else None
    if found.tiled is not None:
        exact, covers = found.tiled.changed(area, band, progress)
    else:
        exact = change(found.earlier, found.later, mask, band, progress)
        covers = [covered(tin, mask) for tin in (found.earlier, found.later)]
    grid = by_grid(found, area, cell_of(setup, found, area), band)
    if found.level is not None:
        both = zip((found.earlier, found.later), covers, strict=True)
        covers = [0.0 if len(tin.triangles) == 2 else size for tin, size in both]
    only = [max(size - exact.area, 0.0) for size in covers]
    # What is left of rounding is no area.
    least = 1e-9 * (area.size if area is not None else exact.area)
    neither = area.size - exact.area - sum(only) if area is not None else 0.0
    values = [value if value > least else 0.0 for value in (*only, neither)]
    return figures.AreaChange(area.name if area is not None else "All", exact, grid, *values)


def cell_of(setup: CutfillSetup, found: Compared, area: Area | None) -> float:
    """The side of the cells."""
    low, high = extent(found, area)
    return setup.cell if setup.cell is not None else round_number(float((high - low).max()) / CELLS_ALONG)


def by_grid(found: Compared, area: Area | None, cell: float, band: float) -> Change:
    """Columns of cells: the difference in the middle of what both surfaces and the area cover of each, weighed by that share.

    Shares are exact, but where a surface is torn in ten thousands of places: there each cell is read in sixteen parts.
    """
    low, high = extent(found, area)
    if np.any(high <= low):
        return Change(0, 0, 0, 0, 0, 0)
    shape = shape_over(low, high, cell)
    ground = found.ground(area, low)
    if ground is None:
        cell, shape = cell / SUBCELLS, (shape[0] * SUBCELLS, shape[1] * SUBCELLS)
        share = np.ones(shape) if area is None else area.coverage(low, cell, shape)
        places = centres_of(low, cell, shape)
    else:
        share, middle = cell_shares(ground, np.zeros(2), cell, shape)
        places = middle.reshape(-1, 2) + low
    some = share.ravel() > LEAST_SHARE
    return by_columns(found.difference(places[some]), share.ravel()[some] * cell**2, band)


def _rim(found: Compared, areas: list[Area]) -> Floats:
    """Places along the borders with the difference there."""
    rings = [np.asarray(ring, float) for area in areas for ring in area.rings]
    if not rings:
        return np.empty((0, 3))
    length = sum(polygon.perimeter(ring) for ring in rings)
    places = []
    for ring in rings:
        line = shapely.LinearRing(ring - ring[0])
        at = np.arange(0.0, line.length, length / RIM_PLACES)
        places.append(shapely.get_coordinates(shapely.line_interpolate_point(line, at)) + ring[0])
    xy = np.concatenate(places)
    return np.column_stack([xy, found.difference(xy)])


def _balance(found: Compared, areas: list[Area], exchanged: bool) -> float | None:
    """The level at which cut and fill are alike; None, where the level covers nothing."""
    ground, plane = (found.later, found.earlier) if exchanged else (found.earlier, found.later)
    masks: list[Tin | None] = [mask_of(area) for area in areas]
    masks = masks or [None]
    z = ground.points[:, 2]
    low, high = float(z.min()), float(z.max())

    def at(level: float) -> Tin:
        vertices = plane.vertices.copy()
        vertices[:, 2] = level - plane.origin[2]
        return replace(plane, vertices=vertices)

    # The net is linear in the level where both cover the same ground: two values give it, without a search.
    nets = [sum(change(ground, at(level), mask).net for mask in masks) for level in (low, high)]
    if nets[1] == nets[0]:
        return None
    return float(low - nets[0] * (high - low) / (nets[1] - nets[0]))


def _notes(
    setup: CutfillSetup, found: Compared, rows: list[figures.AreaChange], total: Change, unit: str
) -> list[Note]:
    earlier, later = found.names
    whole = ""
    if abs(total.net) > ROUNDING * (total.fill + total.cut):
        whole = f"; as a whole it lies {'above' if total.net > 0 else 'below'}"
    notes = [Note("sense", f"fill: {later} lies above {earlier}{whole}")]
    if found.tiled is not None:
        words = (
            "Volumes are of all points, computed tile by tile; map, independent check and bound are of a fair sample"
        )
        notes.append(Note("by-tiles", words))
    only = [(sum(row.only_earlier for row in rows), earlier), (sum(row.only_later for row in rows), later)]
    notes += [
        Note("uncovered", f"{quantity(size, unit + '2')} is covered by {name} only and not counted")
        for size, name in only if size > RIM_SHARE * total.area
    ]  # fmt: skip
    stable = found.stable
    if stable is not None:
        side = "above" if stable.offset > 0 else "below"
        matter = abs(stable.offset) * total.area
        what = "was taken out" if found.taken_out else f"makes {quantity(matter, unit + '3')} of the net volume"
        fine = Decimals(length=4)
        sure = "significant" if abs(stable.offset) > stable.u95 else "not significant"
        notes.append(
            Note("stable", f"on stable ground {later} lies {quantity(abs(stable.offset), unit, fine)} "
                 f"{bound(stable.u95, unit, fine)} {side} {earlier}, which is {sure} and {what}")
        )  # fmt: skip
        if stable.tilted:
            slope = 1000 * float(np.hypot(*stable.plane[1:]))
            notes.append(Note("tilt", f"the stable ground is tilted by {digits(slope)} mm/m between the two"))
    elif setup.level is None and setup.level_error is None:
        notes.append(
            Note("no-stable", "The bound excludes the vertical offset between the epochs: mark stable ground, or state the "
                 "vertical registration")
        )  # fmt: skip
    if setup.take_out != KEEP and stable is None:
        notes.append(Note("not-taken-out", "nothing was taken out: no stable ground is marked"))
    if setup.detect:
        notes.append(Note("dead-band", f"changes up to {quantity(setup.detect, unit)} are not counted; they cover "
                          f"{quantity(total.same_area, unit + '2')}"))  # fmt: skip
    return notes


def _judge(
    outcome: Outcome, areas: list[Area], rows: list[figures.AreaChange], ways: tuple[Change, Change], unit: str
) -> None:
    """Say beside the headline what makes it doubtful: areas twice, ground that is missing, two ways that differ."""
    exact, grid = ways
    for one, other, common in overlapping(areas):
        text = f"{one} and {other} overlap on {quantity(common, unit + '2')}, which counts twice"
        outcome.doubt("overlap", "Areas overlap and count twice", text)
    moved = exact.fill + exact.cut
    u95 = outcome.figures["net"].u95 or 0.0
    if abs(grid.net - exact.net) > max(WAYS_SHARE * moved, u95):
        share = (
            f"{100 * abs(grid.net - exact.net) / moved:.1f} % of all that moved" if moved else "although nothing moved"
        )
        text = f"the exact way and the grid differ by {quantity(abs(grid.net - exact.net), unit + '3')} ({share})"
        outcome.doubt("two-ways", "The two ways of computing differ", text)
    missing = [row for row in rows if row.known and row.uncovered > RIM_SHARE * max(row.exact.area, row.uncovered)]
    for row in missing:
        text = f"{row.name}: {quantity(row.uncovered, unit + '2')} is covered by neither surface and not counted"
        outcome.doubt("missing-ground", "Ground is missing inside the areas", text)
    for row in rows:
        if not row.known:
            text = f"{row.name}: the two surfaces share no ground there; it has no figures and is not in the total"
            outcome.doubt("off-data", "An area lies off the data", text)


def _draw(outcome: Outcome, setup: CutfillSetup, found: Compared, areas: list[Area], progress: Progress) -> None:
    unit = outcome.unit
    masks: list[Tin | None] = [mask_of(area) for area in areas]
    masks = masks or [None]
    if len(found.later.triangles) + len(found.earlier.triangles) <= MOST_PIECES:
        both = [pieces(found.earlier, found.later, mask, progress) for mask in masks]
        corners, dz = (np.concatenate([one[k] for one in both]) for k in (0, 1))
        vertices, values = corners.reshape(-1, 3), dz.ravel()
        triangles = np.arange(len(vertices), dtype=np.int32).reshape(-1, 3)
        zero = _joined(zero_lines(corners, dz))
        # On ground that did not change noise crosses nought everywhere: such lines are drawn on wish only.
        for number, line in enumerate(zero):
            outcome.layers[f"zero {number}"] = FoundLine(line, "edge", "No change", shown=len(zero) <= MOST_ZERO)
    else:
        vertices, triangles, values = _lattice(found, areas)
    title = "Change: fill above, cut below"
    outcome.layers["difference"] = FoundMesh(vertices, triangles, "map", title, unit, values)
    for tin, name, title in ((found.earlier, "earlier", found.names[0]), (found.later, "later", found.names[1])):
        if len(tin.triangles) <= MOST_DRAWN:
            outcome.layers[name] = FoundMesh(tin.points, tin.triangles, "base", title, shown=False)
    places, words, sizes = [], [], []
    for area, row in zip(areas, outcome.tables["areas"].rows, strict=False):
        rings = _rings(found, area)
        for name, ring in rings.items():
            outcome.layers[f"area{name} {area.name}"] = FoundLine(ring, "edge", area.name, closed=True)
        places.append(rings[""].mean(axis=0))
        words.append(area.name)
        sizes.append(row[3])
    if places:
        outcome.layers["labels"] = FoundLabels(np.array(places), tuple(words), title="Net volumes", values=tuple(sizes),
                                               bounds=(None,) * len(sizes), unit=f"{unit}3")  # fmt: skip
    if setup.labels is not None:
        outcome.layers["change on a grid"] = _labels(found, areas, setup.labels, unit)
    for number, area in enumerate(setup.named_areas("stable")):
        for name, ring in _rings(found, area).items():
            outcome.layers[f"stable{name} {number}"] = FoundLine(
                ring, "base", f"Stable ground: {area.name}", closed=True
            )


def _rings(found: Compared, area: Area) -> dict[str, Floats]:
    """The outline and the holes of an area on the later surface, (n, 3) each."""
    rings = {"": area.outline} | {f" hole {number}": hole for number, hole in enumerate(area.holes, 1)}
    return {name: np.column_stack([ring, np.nan_to_num(found.later.at(ring))]) for name, ring in rings.items()}


def _labels(found: Compared, areas: list[Area], spacing: float, unit: str) -> FoundLabels:
    """The change on a grid of round coordinates. Raises InputError, when there would be too many labels to read."""
    low, high = _extent_of_all(found, areas)
    if np.prod((high - low) / spacing) > MOST_LABELS:
        raise InputError(f"labels every {spacing:g} are more than {MOST_LABELS}: take a wider grid")
    sides = (
        np.arange(np.ceil(a / spacing), np.floor(b / spacing) + 1) * spacing for a, b in zip(low, high, strict=True)
    )
    xy = np.stack(np.meshgrid(*sides), axis=-1).reshape(-1, 2)
    dz = found.difference(xy)
    keep = np.isfinite(dz) & (inside_any(tuple(areas), xy) if areas else True)
    xy, dz = xy[keep], dz[keep]
    places = np.column_stack([xy, found.later.at(xy)])
    return FoundLabels(places, ("",) * len(dz), title="Change on a grid", values=tuple(dz.tolist()), bounds=(None,) * len(dz),
                       unit=unit)  # fmt: skip


def _lattice(found: Compared, areas: list[Area]) -> tuple[Floats, Ints32, Floats]:
    """The difference of large surfaces for a picture: on a lattice over all that both cover, or over the areas."""
    low, high = _extent_of_all(found, areas)
    grid = difference_grid(found, areas, (low, high), float((high - low).max()) / LATTICE)
    if not grid.known:
        return np.empty((0, 3)), np.empty((0, 3), np.int32), np.empty(0)
    tin = grid.tin()
    places = tin.points
    return np.column_stack([places[:, :2], found.later.at(places[:, :2])]), tin.triangles, places[:, 2]


def _extent_of_all(found: Compared, areas: list[Area]) -> tuple[Floats, Floats]:
    ends = [extent(found, area) for area in areas] or [extent(found, None)]
    return np.min([e[0] for e in ends], axis=0), np.max([e[1] for e in ends], axis=0)


def _joined(segments: Floats) -> list[Floats]:
    """Single segments (k, 2, 3) as lines, the longest first."""
    if not len(segments):
        return []
    shift = segments.reshape(-1, 3).min(axis=0)
    # Ends that meet differ by rounding only: a tenth of a millimetre joins them.
    local = np.round(segments - shift, 4)
    local = local[(local[:, 0, :2] != local[:, 1, :2]).any(axis=1)]
    merged = shapely.line_merge(shapely.multilinestrings(shapely.linestrings(local)))
    lines = [shapely.get_coordinates(part, include_z=True) + shift for part in shapely.get_parts(merged)]
    return sorted(lines, key=lambda line: -len(line))[:500]


def _profile(setup: CutfillSetup, found: Compared, areas: list[Area]) -> list[Profile]:
    if setup.profile:
        line = eastward(setup.profile.places[[0, -1]])
    else:
        low, high = _extent_of_all(found, areas)
        middle = (low[1] + high[1]) / 2
        line = np.array([[low[0], middle], [high[0], middle]])
    share = np.linspace(0.0, 1.0, SAMPLES)[:, None]
    xy = line[0] + share * (line[1] - line[0])
    distance = share[:, 0] * float(np.hypot(*(line[1] - line[0])))
    traces = (found.names[1], "top", found.later.at(xy)), (found.names[0], "base", found.earlier.at(xy))
    return [Profile("Profile", line, distance, traces, "profile", ("earlier", "later"))]


def _charts(found: Compared, areas: list[Area], rows: list[figures.AreaChange], unit: str) -> list[Plot]:
    low, high = _extent_of_all(found, areas)
    grid = np.stack(np.meshgrid(*(np.linspace(low[k], high[k], 200) for k in (0, 1))), axis=-1).reshape(-1, 2)
    if areas:
        grid = grid[inside_any(tuple(areas), grid)]
    dz = found.difference(grid)
    charts = [histogram("Changes", dz[np.isfinite(dz)], labelled("change", unit), "places")]
    if len(rows) > 1:
        net = np.array([row.exact.net for row in rows])
        names = tuple(row.name for row in rows)
        charts.append(
            Plot(
                "Net by area",
                "bars",
                np.arange(len(rows), dtype=float),
                net,
                "",
                labelled("fill − cut", f"{unit}3"),
                names,
            )
        )
    return charts
