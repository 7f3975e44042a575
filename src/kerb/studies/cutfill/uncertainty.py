"""The 95 % uncertainty of cut and fill from named parts, joined by root sum of squares (JCGM 100:2008, 5.1).

``docs/methods/cutfill.md`` gives each formula with its reasons.
"""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import TINY, Floats
from kerb.core.robust import spread
from kerb.core.surface.contours import edges_of
from kerb.core.surface.overlay import Change
from kerb.core.surface.tin import Tin
from kerb.studies.cutfill.compared import Compared
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.parts import K95, Part

GAP_SPACINGS = 6.0
# Noise of points of one survey is alike over some spacings (common practice; stable ground says it where there is some).
ALIKE_SPACINGS = 4.0
SAMPLE, FEWEST_NEIGHBOURS = 2000, 5


def parts(setup: CutfillSetup, found: Compared, change: Change, rim: Floats, unit: str) -> list[Part]:
    """Offset, noise, interpolation and edge, in the cube of the job unit.

    ``rim`` are places (n, 3) along the border: easting, northing and the difference there, evenly spaced.
    """
    return [_offset(setup, found, change, unit), _noise(found, change, unit), _gaps(found, change), _edge(found, rim)]


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


def _noise(found: Compared, change: Change, unit: str) -> Part:
    """Of noise s that is alike over a square of side r the mean over an area A errs by s r / √A."""
    if found.stable is not None:
        noise, reach = found.stable.noise, found.stable.reach
        how = f"noise of {noise:.4g} {unit} on stable ground, alike over {reach:.3g} {unit}"
    else:
        sides = [_roughness(tin) for tin in (found.earlier, found.later) if len(tin.triangles) > 2]
        noise = float(np.sqrt(sum(s**2 for s, _ in sides)))
        reach = ALIKE_SPACINGS * max((spacing for _, spacing in sides), default=0.0)
        how = f"noise of {noise:.4g} {unit} of neighbouring points, taken to be alike over {reach:.3g} {unit}"
    return Part("Noise", K95 * noise * reach * float(np.sqrt(change.area)), how)


def _roughness(tin: Tin) -> tuple[float, float]:
    """Spread of vertices about the plane through their neighbours (median), and the spacing of vertices."""
    _, edges = edges_of(tin.triangles)
    v = tin.vertices
    spacing = float(np.median(np.hypot(*(v[edges[:, 0], :2] - v[edges[:, 1], :2]).T)))
    both = np.concatenate([edges, edges[:, ::-1]])
    order = np.argsort(both[:, 0], kind="stable")
    owner, other = both[order].T
    first = np.searchsorted(owner, np.arange(len(v) + 1))
    rows = np.arange(0, len(v), max(1, len(v) // SAMPLE))
    counts = first[rows + 1] - first[rows]
    left = np.empty(0)
    # Those with as many neighbours have designs of one shape, which are solved at once.
    for many in np.unique(counts[counts >= FEWEST_NEIGHBOURS]).tolist():
        own = rows[counts == many]
        near = other[first[own][:, None] + np.arange(many)]
        design = np.concatenate([np.ones((*near.shape, 1)), v[near, :2] - v[own, None, :2]], axis=2)
        # At the vertex itself the plane is its first coefficient, which errs by the length of its weights.
        weights = np.linalg.pinv(design)[:, 0]
        rest = v[own, 2] - np.sum(weights * v[near, 2], axis=1)
        left = np.append(left, rest / np.sqrt(1.0 + np.sum(weights**2, axis=1)))
    if len(left) < 10:
        return 0.0, spacing
    return spread(left, 0.0), spacing


def _gaps(found: Compared, change: Change) -> Part:
    """Triangles that bridge gaps: half their range of heights is an even distribution's half width."""
    total, count = 0.0, 0
    for tin in (found.earlier, found.later):
        if len(tin.triangles) <= 2 or not change.area:
            continue
        longest = tin.longest_edges
        long = longest > GAP_SPACINGS * float(np.median(longest))
        z = tin.vertices[tin.triangles[long], 2]
        share = min(change.area / max(tin.plan_area, TINY), 1.0)
        total += (share * float(np.sum(np.ptp(z, axis=1) * tin.plan_areas[long]) / 2)) ** 2 if long.any() else 0.0
        count += int(long.sum())
    how = (
        "no gaps"
        if not count
        else f"half the range of heights of {count} triangles that bridge gaps, as an even distribution"
    )
    return Part("Interpolation", K95 * float(np.sqrt(total)) / np.sqrt(3), how)


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
