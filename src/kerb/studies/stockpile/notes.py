"""What an analyst must be told about a stockpile figure, in words, and the method in one paragraph."""

from __future__ import annotations

import numpy as np
import scipy

from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import WITHHELD
from kerb.core.quantity import number, quantity
from kerb.core.reference import ReferenceSystem, unfit
from kerb.core.surface.cloud_top import STRAY_M
from kerb.core.surface.toe import ACROSS_STEP, NO_POINTS, NOT_GROUND, TYPED, Toe
from kerb.core.units import LengthUnit
from kerb.studies.outcome import Note
from kerb.studies.sources import Sources
from kerb.studies.stockpile import shape
from kerb.studies.stockpile.measured import Measured
from kerb.studies.stockpile.setup import BASES, HeapSetup, StockpileSetup

CHECK_LIMIT = 1.0
BELOW_SHARE = 0.01
UNEVEN_M = 0.5


def about(found: Measured, setup: StockpileSetup, sources: Sources) -> list[Note]:
    """Every warning that the figure of one heap needs; :func:`of_inputs` has those on what it was computed from."""
    unit = sources.unit
    return [
        *_two_ways(found),
        *_gaps(found, unit),
        *_toe(found.heap.toe, setup, unit),
        *_sides(found, unit),
        *_base_surface(found, setup, unit),
    ]


def of_inputs(setup: HeapSetup, sources: Sources) -> list[Note]:
    """Warnings on the clouds and surfaces themselves."""
    cloud = sources.cloud("cloud")
    found = [*sources.stated, *reference_notes(cloud.reference), *_withheld(cloud), *_outdated(setup, cloud)]
    if setup.base == "surface":
        base = sources.source("surface").reference
        if base.wkt and cloud.reference.wkt and base.code != cloud.reference.code:
            found.append(Note("crs-conflict", "Top and base name different reference systems."))
        if setup.bias == 0.0:
            found.append(Note("bias", "No bound was stated for a height offset between top and base surveys."))
    return found


def no_volume(cloud: CloudStore) -> Note | None:
    """Why a cloud's coordinates have no volume; None where they have."""
    words = unfit(cloud.reference, *cloud.bounds)
    return Note("degrees" if "degrees" in words else "geocentric", words) if words else None


def reference_notes(reference: ReferenceSystem) -> list[Note]:
    """What is uncertain about unit and reference system."""
    if reference.certainty == "assumed":
        return [Note("crs-missing", f"The cloud names no reference system: {reference.sentence}.")]
    if reference.unit != reference.vertical_unit:
        return [
            Note(
                "unit-conflict",
                f"Plan is in {reference.unit.plural}, heights in {reference.vertical_unit.plural}: volumes are wrong.",
            )
        ]
    return []


def _withheld(cloud: CloudStore) -> list[Note]:
    """Points that the file marks as withheld."""
    if WITHHELD not in cloud.names:
        return []
    count = int(np.count_nonzero(cloud.column(WITHHELD)))
    return [Note("withheld", f"{count} points of the cloud are marked as withheld and do not count.")] if count else []


def _outdated(setup: HeapSetup, cloud: CloudStore) -> list[Note]:
    """Attributes that points were chosen by and that no longer fit the classes and set-aside points."""
    names = [f.column for f in setup.cloud.only if f.on and cloud.outdated(f.column)]
    words = "was computed before classes were given or points set aside; compute it again."
    return [Note("attribute-outdated", f"Points were chosen by '{name}', which {words}") for name in names]


def _two_ways(found: Measured) -> list[Note]:
    first, second = found.volume.net, found.second.net
    if not first:
        return []
    percent = 100 * (second - first) / abs(first)
    if abs(percent) < CHECK_LIMIT:
        return []
    return [Note("two-ways", f"The two ways of computing differ by {number(percent, 1, signed=True)} %.")]


def _gaps(found: Measured, unit: LengthUnit) -> list[Note]:
    if found.gap_area <= found.heap.ground.spacing**2:
        return []
    area = quantity(found.gap_area, unit.area_code())
    share = 100 * found.gap_area / found.heap.top.plan_area
    return [Note("gaps", f"{area} inside the toe ({number(share, 1)} %) has no points and was interpolated.")]


def _toe(toe: Toe, setup: StockpileSetup, unit: LengthUnit) -> list[Note]:
    if setup.base in ("level", "surface"):
        return []
    notes = []
    share = 100 * np.bincount(toe.kind, minlength=5) / len(toe.kind)
    if share[ACROSS_STEP] > 0:
        notes.append(
            Note(
                "toe-step",
                f"{number(share[ACROSS_STEP], 0)} % of the toe runs along a step (wall or object): the base there is "
                "interpolated along the line.",
            )
        )
    if share[NOT_GROUND] > 0:
        notes.append(
            Note(
                "toe-not-ground",
                f"{number(share[NOT_GROUND], 0)} % of the toe does not run over ground (wall, heap beside it, machine): "
                "the base there is carried over from the rest of the line.",
            )
        )
    if share[NO_POINTS] > 0:
        notes.append(Note("toe-gaps", f"{number(share[NO_POINTS], 0)} % of the toe has no ground points beside it."))
    if share[TYPED] > 0:
        notes.append(Note("toe-typed", f"{number(share[TYPED], 0)} % of the toe has typed elevations."))
    if setup.base == "toe":
        fitted = np.column_stack([toe.xy - toe.xy[0], np.ones(len(toe.xy))])
        solution = np.linalg.lstsq(fitted, toe.base, rcond=None)[0]
        worst = float(np.abs(toe.base - fitted @ solution).max())
        if worst > UNEVEN_M / unit.metres:
            notes.append(Note("toe-uneven", f"The toe departs from a plane by up to {quantity(worst, unit.code)}."))
    return notes


def _sides(found: Measured, unit: LengthUnit) -> list[Note]:
    notes = []
    rough = shape.rough_area(found.heap)
    if rough > max(0.002 * found.heap.top.plan_area, 4 * found.heap.ground.spacing**2):
        notes.append(
            Note(
                "rough",
                f"Points scatter in height over {quantity(rough, unit.area_code())} inside the toe: plants, machinery "
                "or overhangs count as heap.",
            )
        )
    doubles = found.heap.ground.doubles
    if doubles:
        notes.append(
            Note("duplicates", f"{doubles} points stand at the very place of another; each place counts once.")
        )
    strays = found.heap.ground.strays
    if len(strays):
        inside = found.heap.area.contains(strays)
        off = (
            strays[:, 2]
            - found.heap.ground.points[
                scipy.spatial.cKDTree(found.heap.ground.points[:, :2]).query(strays[:, :2])[1], 2
            ]
        )
        high = (
            f"the furthest {quantity(abs(off).max(), unit.code)} {'above' if off[np.argmax(abs(off))] > 0 else 'below'}"
        )
        notes.append(
            Note(
                "stray",
                f"{len(strays)} stray point{'s' if len(strays) > 1 else ''} ({inside.sum()} inside the toe, {high} the rest) "
                f"{'were' if len(strays) > 1 else 'was'} left out.",
            )
        )
    stray = shape.stray_height(found.heap)
    if stray > STRAY_M / unit.metres:
        notes.append(
            Note(
                "stray",
                f"The highest point stands {quantity(stray, unit.code)} above its neighbours: stray point?",
            )
        )
    if found.volume.above and found.volume.below > BELOW_SHARE * found.volume.above:
        below = quantity(found.volume.below, unit.volume_code())
        notes.append(Note("below", f"{below} of the top lies below the base; net is above minus below."))
    return notes


def _base_surface(found: Measured, setup: StockpileSetup, unit: LengthUnit) -> list[Note]:
    if setup.base != "surface":
        return []
    missing = found.heap.top.plan_area - found.volume.area
    if missing > 0.001 * found.heap.top.plan_area:
        area = quantity(missing, unit.area_code())
        return [Note("base-overlap", f"{area} inside the toe has no base surface under it and does not count.")]
    return []


def cloud_detail(store: CloudStore) -> str:
    """One line on a cloud: reference system and spacing."""
    return f"{store.reference.sentence}; spacing {store.spacing:.3g} {store.reference.unit.symbol}"


def method(setup: HeapSetup, cloud: CloudStore) -> str:
    """The method in a paragraph, for the report."""
    base = dict(BASES)[setup.base].lower()
    return (
        f"Top: constrained Delaunay surface through {setup.cloud.words(cloud)} inside the toe line. Base: {base}. Volume by "
        "prisms under the triangles, above and below the base apart (above positive where the top lies over the base). "
        "Second way: columns of a grid of mean elevations with exact shares of the cells at the line. "
        "Uncertainty: root sum of squares of the named parts, k = 1.96 (JCGM 100:2008)."
    )
