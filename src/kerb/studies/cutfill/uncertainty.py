"""The 95 % uncertainty of cut and fill from named parts, joined by root sum of squares (JCGM 100:2008, 5.1).

``docs/methods/cutfill.md`` gives each formula with its reasons.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kerb.core.arrays import TINY, Floats, Mask
from kerb.core.geometry.area import Area, inside_any
from kerb.core.surface.overlay import Change
from kerb.core.surface.roughness import roughness
from kerb.core.surface.sampling_error import sampling_variance, vertex_shares
from kerb.core.surface.shared_noise import SharedNoise, shared_noise
from kerb.core.surface.tin import Tin
from kerb.studies.cutfill.compared import Compared, extent
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.parts import K95, Part

GAP_SPACINGS = 6.0


def parts(setup: CutfillSetup, found: Compared, change: Change, where: Where, unit: str) -> list[Part]:
    """Offset, noise, interpolation, gaps and edge, in the cube of the job unit; of the grid way that of its cells too."""
    sides = _sides(found, where.areas)
    noise, white = _noise(found, change, sides, unit)
    between = sampling_variance([(side.tin, side.keep) for side in sides])
    found_parts = [
        _offset(setup, found, change, unit),
        noise,
        Part(
            "Interpolation",
            K95 * float(np.sqrt(max(between - white, 0.0))),
            "ground between the points: what surfaces without a quarter of them differ by, beyond noise"
            if sides
            else "no points",
        ),
        _gaps(sides),
        _edge(found, where.rim),
    ]
    if where.cells is not None:
        found_parts.append(Part("Cell size", abs(where.cells), "difference of the grid from the exact overlay"))
    return found_parts


@dataclass(frozen=True)
class Where:
    """Where the bound is asked for: places along the borders with the difference there (n, 3), evenly spaced; the areas; and
    by how much the grid differs from the exact way, where it is the grid that is stated."""

    rim: Floats
    areas: tuple[Area, ...] = ()
    cells: float | None = None


@dataclass(frozen=True)
class _Side:
    """A measured surface, and which of its vertices lie where both are and are asked about."""

    tin: Tin
    keep: Mask


def _sides(found: Compared, areas: tuple[Area, ...]) -> list[_Side]:
    sides = []
    for tin, other, measured in zip(
        (found.earlier, found.later), (found.later, found.earlier), found.measured, strict=True
    ):
        if measured:
            xy = tin.points[:, :2]
            keep = inside_any(areas, xy) if areas else np.ones(len(xy), np.bool_)
            keep[keep] = np.isfinite(other.at(xy[keep]))
            sides.append(_Side(tin, keep))
    return sides


def _offset(setup: CutfillSetup, found: Compared, change: Change, unit: str) -> Part:
    stable = found.stable
    if stable is not None:
        if found.taken_out:
            return Part(
                "Offset",
                change.area * stable.u95,
                f"error of the offset taken out, ± {stable.u95:.4g} {unit} over the area",
            )
        bound = float(np.hypot(abs(stable.offset), stable.u95))
        return Part(
            "Offset",
            change.area * bound,
            f"offset of the stable ground and its error, {bound:.4g} {unit} over the area",
        )
    if setup.level_error is not None:
        return Part(
            "Offset", change.area * setup.level_error, f"± {setup.level_error:g} {unit} as stated, over the area"
        )
    if found.level is not None:
        return Part("Offset", 0.0, "a level has none; that of the survey is not stated")
    return Part("Offset", None, "not stated, and no stable ground says it: the bound is without it")


def _noise(found: Compared, change: Change, sides: list[_Side], unit: str) -> tuple[Part, float]:
    """The part of noise, and the variance of its share that each point has for itself.

    Independent noise s of vertices that stand for areas w makes the volume uncertain by s √Σw². What neighbours share is read
    on stable ground, where noise s that is alike over a square of side r makes it uncertain by s r √A; else from the variogram
    of the difference.
    """
    white, single, spacing, how = 0.0, 0.0, 0.0, []
    for side in sides:
        sigma, apart = roughness(side.tin)
        white += sigma**2 * float(np.sum(vertex_shares(side.tin)[side.keep] ** 2))
        spacing, single = max(spacing, apart), float(np.hypot(single, sigma))
        how.append(f"{sigma:.3g}")
    words = f"noise of single points {' and '.join(how)} {unit}" if sides else "no points"
    stable = found.stable
    if stable is not None:
        total = max(white, (stable.noise * stable.reach) ** 2 * change.area)
        words = f"noise of {stable.noise:.3g} {unit} on stable ground, alike over {stable.reach:.3g} {unit}"
        return Part("Noise", K95 * float(np.sqrt(total)), words), white
    shared: SharedNoise | None = SharedNoise(0.0, 0.0)
    low, high = extent(found, None)
    if len(sides) == 2 and np.all(high > low):
        shared = shared_noise(found.difference, low, high, spacing, single)
    if shared is None:
        words += "; what neighbours share cannot be told, since no ground is unchanged"
        shared = SharedNoise(0.0, 0.0)
    elif shared.sigma:
        words += f"; {shared.sigma:.3g} {unit} of the difference shared over {shared.length:.3g} {unit}"
    return Part("Noise", K95 * float(np.sqrt(white + shared.variance(change.area))), words), white


def _gaps(sides: list[_Side]) -> Part:
    """Triangles that bridge gaps: half their range of heights as half width of an even distribution; they err together."""
    total, count = 0.0, 0
    for tin, keep in ((side.tin, side.keep) for side in sides):
        longest = tin.longest_edges
        long = (longest > GAP_SPACINGS * float(np.median(longest))) & keep[tin.triangles].all(axis=1)
        z = tin.vertices[tin.triangles[long], 2]
        total += float(np.sum(np.ptp(z, axis=1) * tin.plan_areas[long]) / 2) ** 2 if long.any() else 0.0
        count += int(long.sum())
    how = (
        "no gaps"
        if not count
        else f"half the range of heights of {count} triangles that bridge gaps, as an even distribution"
    )
    return Part("Gaps", K95 * float(np.sqrt(total)) / np.sqrt(3), how)


def _edge(found: Compared, rim: Floats) -> Part:
    """A border known to half a spacing: each step of it moves by itself, evenly."""
    if not len(rim):
        return Part("Edge", 0.0, "no border was drawn")
    tin = max((found.earlier, found.later), key=lambda t: len(t.triangles))
    spacing = float(np.median(tin.longest_edges))
    step = float(np.median(np.hypot(*np.diff(rim[:, :2], axis=0).T))) if len(rim) > 1 else spacing
    known = rim[np.isfinite(rim[:, 2]), 2]
    # Neighbouring steps within a spacing move together.
    together = max(spacing / max(step, TINY), 1.0)
    error = float(np.sqrt(np.sum((known * step) ** 2) * together)) * spacing / 2 / np.sqrt(3)
    return Part("Edge", K95 * error, f"the border to half a spacing of {spacing:.3g}, step by step")
