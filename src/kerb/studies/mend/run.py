"""Mend a surface step by step, and say what each changed."""

from __future__ import annotations

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import Progress
from kerb.core.surface.making import mean_level
from kerb.core.surface.mending import Mended, differing, levels
from kerb.core.surface.overlay import Change, change
from kerb.core.surface.surfaces import Surface
from kerb.core.things import SURFACE, Placed
from kerb.core.units import LengthUnit
from kerb.studies.drawn import Item
from kerb.studies.fields import PLACES, RING
from kerb.studies.layers import FoundLine, FoundMesh, FoundPoints, Layer
from kerb.studies.mend.setup import MendSetup
from kerb.studies.mend.steps import KINDS, LABELS, WAY, apply
from kerb.studies.outcome import Column, Figure, Made, Note, Outcome, Table
from kerb.studies.sources import Sources

STUDY = "mend"
MOST_DRAWN = 2_000_000


def whole(surface: Surface) -> Mended:
    """A surface ready to be mended. Raises NotDeterminable, when it has no triangle."""
    return Mended.of(surface.tin(*surface.bounds))


def taken(setup: MendSetup) -> tuple[Item, ...]:
    """The steps that count."""
    return tuple(step for step in setup.steps if step.taken)


def run(setup: MendSetup, sources: Sources, progress: Progress) -> Outcome:
    """Answer 'what is the surface when it is mended?'.

    Raises InputError, when a step cannot be done; NotDeterminable; Cancelled.
    """
    setup.check()
    first = sources.surface("surface", setup.surface)
    other = sources.surface("other", setup.other) if setup.other.holding else None
    m = whole(first)
    outcome = Outcome(STUDY, sources.unit.code, first.reference.code, {}, setup.settings())
    outcome.inputs = [sources.input("surface", "surface", first.count)]
    if other is not None:
        outcome.inputs.append(sources.input("other", "other surface", other.count))
    steps, rows = taken(setup), []
    for number, step in enumerate(steps):
        progress.step(0.9 * number / max(len(steps), 1), f"Mending: {step.name}")
        before, m = m, apply(m, step, other)
        one = between(before, m)
        rows.append(
            (str(number + 1), step.name, LABELS[str(step.value(WAY))], one.fill, one.cut, one.fill_area + one.cut_area)
        )
    tin = m.surface
    if not len(tin.triangles):
        raise InputError("nothing of the surface is left")
    outcome.figures = figures(m, sources.unit)
    volume, area = sources.unit.volume_code(), sources.unit.area_code()
    outcome.tables["steps"] = Table(
        "Steps in order",
        (
            Column("number", "", "No."), Column("name", "", "Step"), Column("way", "", "Way"),
            Column("raised", volume, "Raised"), Column("lowered", volume, "Lowered"), Column("area", area, "Area changed"),
        ),
        tuple(rows),
    )  # fmt: skip
    left = [step.name for step in setup.steps if not step.taken]
    if left:
        outcome.warnings.append(Note("steps-off", f"left out: {', '.join(left)}"))
    if len(tin.triangles) <= MOST_DRAWN or not setup.keep:
        outcome.layers["surface"] = FoundMesh(
            tin.points, tin.triangles, "top", "Mended surface", shown=False, ground=True
        )
    outcome.layers |= mended_parts(m)
    outcome.layers |= drawn_steps(steps, m)
    outcome.method = (
        "Each step changes only what it touches; what is taken out is filled by a constrained Delaunay triangulation of "
        "the hole. Volumes are those between the surface before and after, exact."
    )
    if setup.keep:
        compact = tin.compact(np.ones(len(tin.triangles), np.bool_))
        item = Placed(SURFACE, TriangleMesh(compact.points, compact.triangles), first.reference)
        outcome.makes = [Made(f"{sources.source('surface').name}, mended", item)]
    return outcome


def between(before: Mended, after: Mended) -> Change:
    """What changed between two states of a surface, where there is one both times; from what differs, however large it is."""
    return change(*differing(before, after))


def changes(m: Mended, unit: LengthUnit) -> dict[str, Figure]:
    """What all steps changed."""
    found, volume = between(Mended.of(m.base), m), unit.volume_code()
    return {
        "net": Figure(found.net, volume, "Net change: raised − lowered"),
        "raised": Figure(found.fill, volume, "Raised"),
        "lowered": Figure(found.cut, volume, "Lowered"),
        "changed_area": Figure(found.fill_area + found.cut_area, unit.area_code(), "Area changed"),
    }


def figures(m: Mended, unit: LengthUnit) -> dict[str, Figure]:
    """What all steps changed, and what the surface is after them."""
    tin, area, length = m.surface, unit.area_code(), unit.code
    z = tin.points[tin.triangles, 2]
    return changes(m, unit) | {
        "plan_area": Figure(tin.plan_area, area, "Area in plan"),
        "plan_area_before": Figure(m.base.plan_area, area, "Area in plan before"),
        "lowest": Figure(float(z.min()), length, "Lowest"),
        "highest": Figure(float(z.max()), length, "Highest"),
        "mean": Figure(mean_level(tin), length, "Mean level", note="by plan area"),
        "triangles": Figure(float(len(tin.triangles)), "", "Triangles"),
    }


def mended_parts(m: Mended) -> dict[str, Layer]:
    """The triangles that are not as they were, which is what there is to look at beside the data."""
    new = differing(Mended.of(m.base), m)[1]
    return {"mended": FoundMesh(new.points, new.triangles, "top", "Mended parts")} if len(new.triangles) else {}


def drawn_steps(steps: tuple[Item, ...], m: Mended) -> dict[str, Layer]:
    """The steps as they were drawn, on the mended surface."""
    found: dict[str, Layer] = {}
    for step in steps:
        xy = step.ring.places
        z = levels(m, m.local(xy)) + m.origin[2]
        xyz = np.column_stack([xy, np.where(np.isfinite(z), z, np.nanmean(z) if np.isfinite(z).any() else 0.0)])
        kind, name = KINDS[str(step.value(WAY))], f"step {step.key}"
        if kind == PLACES:
            found[name] = FoundPoints(xyz, title=step.name)
        else:
            found[name] = FoundLine(xyz, title=step.name, closed=kind == RING)
    return found
