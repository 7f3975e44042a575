"""What change is asked: a cloud against another, a surface or a model; the way, its settings, and what is tolerated."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.change.distances import BY_PLANE, BY_QUADRIC, MESH, NEAREST, NORMAL, TRIANGULATED, VERTICAL
from kerb.studies.drawn import Drawn
from kerb.studies.fields import AGAINST, PLACES, RING, SURFACES, choice, drawn, many, number, scope, surface
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup

AUTO = "auto"
LOCAL = ("method", (BY_PLANE, TRIANGULATED, BY_QUADRIC))
ALONG = ("method", (NORMAL,))


@dataclass(frozen=True)
class ChangeSetup(Setup):
    """Inputs and settings of change."""

    compared: Scope = scope("Compared", "Cloud whose points are looked at", needed="Choose the compared cloud.")
    against: Scope = surface(
        "Against",
        "Cloud, surface, grid or model that distances are counted from",
        AGAINST,
        needed="Choose the reference.",
        dated=-1,
    )
    further: tuple[Scope, ...] = many(
        SURFACES, "Further models", "Distances are counted from the nearest of all of them; each element is told by its model",
        section=AGAINST, rare=True,
    )  # fmt: skip
    area: Drawn = drawn(RING, "Area", "Only points inside of it are compared", key="T")
    method: str = choice(
        "Distance", "How the distance of a point is taken",
        ((AUTO, "Proposed by Kerb"), (NEAREST, "Nearest point, without sign"), (BY_PLANE, "Plane through neighbours"),
         (TRIANGULATED, "Triangles of neighbours"), (BY_QUADRIC, "Quadric through neighbours"),
         (NORMAL, "Along the normal, with significance"), (MESH, "Nearest place of a mesh"), (VERTICAL, "Upright"),
         ("fit-plane", "From a fitted plane"), ("fit-cylinder", "From a fitted cylinder"),
         ("fit-sphere", "From a fitted sphere")),
    )  # fmt: skip
    neighbours: float = number(
        "Neighbours",
        "So many points of the reference make the local model",
        "",
        default=8.0,
        low=3.0,
        high=48.0,
        when=LOCAL,
    )
    radius: float | None = number(
        "Radius",
        "Points of the reference within it make the local model",
        automatic="by number",
        low=0.0,
        rare=True,
        when=LOCAL,
    )
    max_distance: float | None = number(
        "Largest distance", "Points farther than this have no match", automatic="no limit", low=0.0
    )
    probes: Drawn = drawn(
        PLACES,
        "Probes",
        "Places whose nearest compared point is told with both places and the three components",
        further=True,
    )
    stretch: float = number(
        "Lines drawn longer", "Distance lines of the views are drawn so many times as long as they are", "", default=1.0, low=0.0,
        rare=True, show_only=True,
    )  # fmt: skip
    raster_cell: float | None = number(
        "Cell of a raster", "Side of the cells of distances that are written as a raster, the median of each",
        automatic="two spacings", low=0.0, rare=True, show_only=True,
    )  # fmt: skip
    tolerance: float | None = number(
        "Tolerance", "Share of points within it, and regions beyond it", automatic="none", low=0.0
    )
    normal_scale: float | None = number(
        "Normal scale",
        "Diameter of the neighbourhood that gives the normal",
        automatic="twenty spacings",
        low=0.0,
        when=ALONG,
    )
    coarsest: float | None = number(
        "Scales up to", "Normals at the normal scale and twice as wide each up to this; at each point the flattest counts",
        automatic="one scale", low=0.0, rare=True, when=ALONG,
    )  # fmt: skip
    cylinder: float | None = number(
        "Cylinder", "Diameter of the cylinder whose points are averaged", automatic="ten spacings", low=0.0, when=ALONG
    )
    depth: float | None = number(
        "Depth", "Half length of the cylinder", automatic="forty spacings", low=0.0, when=ALONG
    )
    registration_error: float = number(
        "Registration error", "What the two may lie apart as a whole; part of the level of detection", default=0.0, low=0.0,
        when=ALONG,
    )  # fmt: skip
