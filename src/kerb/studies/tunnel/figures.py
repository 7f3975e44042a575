"""Figures, tables and notes of a tunnel."""

from __future__ import annotations

from typing import Any

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.quantity import quantity
from kerb.core.section.stations import written
from kerb.core.tunnel.wall import patches_of
from kerb.studies.outcome import Column, Figure, Note, Outcome, Table
from kerb.studies.tunnel.found import Found

MOST_PATCHES, FINE_M = 200, 0.001
LARGE_GAP = 0.1


def figures(found: Found) -> dict[str, Figure]:
    """Every figure."""
    unit, volumes = found.unit, found.volumes
    code, area, volume = unit.code, unit.area_code(), unit.volume_code()
    over_areas, under_areas = _areas(found)
    over, under = float(volumes[volumes > 0].sum()), float(np.abs(volumes[volumes < 0]).sum())
    off = found.off_line[np.isfinite(found.off_line)]
    whole = found.cell_areas
    unseen = float(whole[~found.wall.seen].sum() / whole.sum())
    several = len(found.sections) > 1
    made = {
        "under_volume": Figure(under, volume, "Underbreak", _bound(found, -1.0)),
        "over_volume": Figure(over, volume, "Overbreak", _bound(found, 1.0)),
        "over_volume_end_areas": Figure(
            _ends(found, over_areas) if several else None, volume, "Overbreak, average end area"
        ),
        "under_volume_end_areas": Figure(
            _ends(found, under_areas) if several else None, volume, "Underbreak, average end area"
        ),
        "over_area": Figure(float(np.mean(over_areas)), area, "Overbreak area, mean of sections"),
        "under_area": Figure(float(np.mean(under_areas)), area, "Underbreak area, mean of sections"),
        "max_over": Figure(float(max(off.max(), 0.0)), code, "Max. overbreak"),
        "max_under": Figure(abs(min(float(off.min()), 0.0)), code, "Max. underbreak"),
        "wall_area": Figure(_wall_area(found), area, "Wall area"),
        "uncovered_share": Figure(unseen, "share", "Not scanned"),
        "length": Figure(float(found.wall.step * len(found.wall.along)), code, "Length evaluated"),
        "design_area": Figure(found.design.area, area, "Design area"),
        "noise": Figure(found.wall.noise, code, "Noise of the wall points", resolution=FINE_M / unit.metres),
    }
    return made | _change(found)


def _change(found: Found) -> dict[str, Figure]:
    """What changed since the earlier scan: how much farther in the wall stands."""
    unit, note = found.unit, "no earlier scan"
    if found.earlier is None:
        return {name: Figure(None, code, label, note=note) for name, code, label in (
            ("thickness", unit.code, "Mean thickness"), ("thickness_volume", unit.volume_code(), "Volume of the thickness"),
            ("below_share", "share", "Below specified thickness"), ("detection", unit.code, "Level of detection"),
        )}  # fmt: skip
    thick = found.earlier.d - found.wall.d
    known = np.isfinite(thick)
    before = np.where(known, found.earlier.d, np.nan)
    more = np.nan_to_num(found.bins.areas(before) - found.bins.areas(np.where(known, found.wall.d, np.nan)))
    volume = float((more * found.wall.step * found.stretch).sum()) if known.any() else None
    lining = found.setup.lining
    below = float((thick[known] < lining).mean()) if lining is not None and known.any() else None
    counts = np.maximum(found.wall.count[known], 1), np.maximum(found.earlier.count[known], 1)
    spread = [1.2533 * own.noise for own in (found.wall, found.earlier)]
    detection = np.sqrt(spread[0] ** 2 / counts[0] + spread[1] ** 2 / counts[1])
    unsaid = "" if lining is not None else "no thickness specified"
    least = 1.96 * float(np.median(detection)) + found.setup.alignment_error if known.any() else None
    return {
        "thickness": Figure(float(thick[known].mean()) if known.any() else None, unit.code, "Mean thickness"),
        "thickness_volume": Figure(volume, unit.volume_code(), "Volume of the thickness"),
        "below_share": Figure(below, "share", "Below specified thickness", note=unsaid),
        "detection": Figure(least, unit.code, "Level of detection", resolution=FINE_M / unit.metres),
    }


def _areas(found: Found) -> tuple[list[float], list[float]]:
    """Areas beyond and inside the line of each section."""
    areas = [found.bins.areas(section.d) for section in found.sections]
    return [float(a[a > 0].sum()) for a in areas], [float(np.abs(a[a < 0]).sum()) for a in areas]


def _ends(found: Found, areas: list[float]) -> float:
    """Volume by end areas; the first and the last section stand for what lies before and behind them."""
    half = found.wall.step / 2
    along = np.array(
        [found.wall.along[0] - half, *(section.along for section in found.sections), found.wall.along[-1] + half]
    )
    own = np.array([areas[0], *areas, areas[-1]])
    return float(((own[1:] + own[:-1]) / 2 * np.diff(along)).sum())


def _bound(found: Found, side: float) -> float:
    """95 % bound of a volume: noise cell by cell, and where the cloud lies across the alignment, which moves all cells
    together."""
    mine = np.isfinite(found.wall.d) & (found.wall.d * side > 0)
    size = (found.bins.reach * found.wall.step * found.stretch)[mine]
    noise = 1.2533 * found.wall.noise / np.sqrt(np.maximum(found.wall.count[mine], 1))
    way = np.broadcast_to(found.bins.way, (*found.wall.d.shape, 2))[mine]
    shift = np.hypot(*(way * size[:, None]).sum(axis=0)) if len(size) else 0.0
    # Where the wall follows the line noise alone makes volumes on both sides: 0.4 of its standard deviation, as a mean.
    close = np.abs(found.wall.d[mine]) < 2 * noise
    both = float((0.4 * noise * size)[close].sum())
    return both + float(np.sqrt((1.96**2 * (noise**2 * size**2)).sum() + (shift * found.setup.alignment_error) ** 2))


def _wall_area(found: Found) -> float:
    """The area of the wall that was seen, from cell to cell, once round."""
    places = found.places()
    if len(places) < 2:
        return float("nan")
    after = np.roll(places, -1, axis=1)
    a, b, c, d = places[:-1], after[:-1], after[1:], places[1:]
    size = lambda p, q, r: 0.5 * np.linalg.norm(np.cross(q - p, r - p), axis=-1)  # noqa: E731
    rows = len(places)
    return float(np.nansum(size(a, b, c) + size(a, c, d)) * rows / (rows - 1))


def put_tables(outcome: Outcome, found: Found) -> None:
    """Put the tables into an outcome."""
    unit = found.unit
    code, area = unit.code, unit.area_code()
    over, under = _areas(found)
    rows = []
    for section, more, less in zip(found.sections, over, under, strict=True):
        known = np.isfinite(section.d)
        off = section.square[known]
        rows.append((
            section.station, section.points, found.design.area + more - less, found.design.area, more, less,
            float(max(off.max(initial=0.0), 0.0)), abs(float(off.min(initial=0.0))),
            float(np.degrees(found.bins.turn[~known].sum())),
        ))  # fmt: skip
    outcome.tables["stations"] = Table(
        "By station",
        (Column("station", code, "Station"), Column("points", "", "Points", minor=True), Column("area", area, "Area"),
         Column("design_area", area, "Design", minor=True), Column("over_area", area, "Overbreak"),
         Column("under_area", area, "Underbreak"), Column("max_over", code, "Max. overbreak"),
         Column("max_under", code, "Max. underbreak"), Column("uncovered_angle", "degrees", "Not scanned")),
        tuple(rows),
    )  # fmt: skip
    outcome.tables["patches"] = _patches(found)
    if found.earlier is not None:
        outcome.tables["earlier"] = _since(found)


def _patches(found: Found) -> Table:
    """Where the wall stands inside or beyond the line by more than the tolerance, the largest volume first."""
    unit, tolerance = found.unit, found.setup.tolerance
    volumes, sizes, places = found.volumes, found.cell_areas, found.places()
    found_rows: list[tuple[Any, ...]] = []
    for letter, side in (("U", -1.0), ("O", 1.0)):
        beyond = np.nan_to_num(found.off_line) * side > max(tolerance, 1e-12)
        number, count = patches_of(beyond)
        rows: list[tuple[Any, ...]] = []
        for one in range(1, count + 1):
            mine = number == one
            deep = np.where(mine, np.nan_to_num(found.off_line) * side, -np.inf)
            row, column = np.unravel_index(int(deep.argmax()), deep.shape)
            _, across = found.axis.local(places[row, column][None])
            station = float(np.interp(found.wall.along[row], found.axis.alignment.starts, found.axis.alignment.marks))
            rows.append((station, float(across[0, 0]), float(places[row, column, 2]), float(sizes[mine].sum()),
                         float(np.abs(volumes[mine]).sum()), float(deep.max())))  # fmt: skip
        rows.sort(key=lambda row: -row[4])
        found_rows += [(f"{letter}{n}", *row) for n, row in enumerate(rows[:MOST_PATCHES], 1)]
    code = unit.code
    columns = (
        Column("name", "", "Patch"), Column("station", code, "Station"), Column("offset", code, "Offset"),
        Column("elevation", code, "Elevation"), Column("area", unit.area_code(), "Area"),
        Column("volume", unit.volume_code(), "Volume"), Column("depth", code, "Depth"),
    )  # fmt: skip
    return Table("Patches beyond the tolerance: U underbreak, O overbreak", columns, tuple(found_rows), printed=40)


def _since(found: Found) -> Table:
    """How much farther in the wall stands than at the earlier date, by section."""
    assert found.earlier is not None
    thick = found.earlier.d - found.wall.d
    rows: list[tuple[Any, ...]] = []
    for section in found.sections:
        near = np.abs(found.wall.along - section.along) <= max(found.setup.thickness / 2, found.wall.step)
        own = thick[near]
        own = own[np.isfinite(own)]
        if not len(own):
            rows.append((section.station, None, None, None, None))
            continue
        lining = found.setup.lining
        below = float((own < lining).mean()) if lining is not None else None
        rows.append((section.station, float(own.mean()), float(own.min()), float(own.max()), below))
    code = found.unit.code
    columns = (Column("station", code, "Station"), Column("mean", code, "Mean thickness"), Column("least", code, "Minimum"),
               Column("most", code, "Maximum"), Column("below", "share", "Below specified thickness"))  # fmt: skip
    return Table("Since the earlier scan", columns, tuple(rows))


def put_notes(outcome: Outcome, found: Found) -> None:
    """Say what must be known of the figures."""
    unit, setup = found.unit, found.setup
    share = outcome.value("uncovered_share") or 0.0
    if share > LARGE_GAP:
        outcome.doubt(
            "gaps", f"{100 * share:.0f} % of the wall not scanned", "volumes and areas exclude the unscanned part"
        )
    elif share > 0:
        outcome.warnings.append(
            Note("gaps", f"{100 * share:.1f} % of the wall not scanned; excluded from volumes and areas")
        )
    if found.wall.off.any():
        area = quantity(float(found.cell_areas[found.wall.off].sum()), unit.area_code())
        outcome.warnings.append(
            Note("stands-off", f"objects more than {quantity(setup.stands_off, unit.code)} off the wall cover {area}; "
                 "the wall behind them counts as not scanned")
        )  # fmt: skip
    first, last = (
        written(float(found.axis.alignment.shown(s.station)), unit) for s in (found.sections[0], found.sections[-1])
    )
    for name, words in (("over", "overbreak"), ("under", "underbreak")):
        whole, ends = outcome.value(f"{name}_volume"), outcome.value(f"{name}_volume_end_areas")
        most = max(outcome.value("over_volume") or 0.0, outcome.value("under_volume") or 0.0)
        if whole and ends is not None and abs(ends - whole) > 0.05 * most:
            outcome.warnings.append(
                Note("end-areas", f"{words}: average end area {quantity(ends, unit.volume_code())} (sections {first} to {last}), "
                     f"map {quantity(whole, unit.volume_code())}")
            )  # fmt: skip
    if setup.alignment_error == 0:
        outcome.warnings.append(
            Note(
                "alignment",
                "the bounds exclude the position error of the cloud across the alignment; enter it as Alignment error",
            )
        )


def section_lines(found: Found, number: int) -> tuple[Floats, Floats]:
    """Wall and design line of a section as (n, 2) offset and elevation, gaps as NaN."""
    section = found.sections[number]
    level = float(np.interp(section.along, found.axis.along, found.axis.vertices[:, 2]))
    wall = found.design.centre + found.bins.way * (found.bins.radius + section.d)[:, None]
    closed = np.concatenate([wall, wall[:1]])
    line = np.concatenate([found.design.corners, found.design.corners[:1]])
    return closed + [0.0, level], line + [0.0, level]
