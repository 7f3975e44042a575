"""What bringing into line is asked: what moves, to what, from where, and how."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.core.align.snaps import CORNER, NEAREST, PAINTED, SPHERE_CENTRE
from kerb.studies.align.pairs import FEWEST_PAIRS, HALF_PAIR
from kerb.studies.fields import AGAINST, COMPARED, choice, number, surface, switch, text
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup


@dataclass(frozen=True)
class AlignSetup(Setup):
    """Inputs and settings of bringing into line."""

    moving: Scope = surface("Moving", "Cloud, surface or model that is moved", COMPARED, needed="Choose what is moved.")
    to: Scope = surface("To", "Cloud, surface or model that stays", AGAINST, needed="Choose what stays.")
    pairs: str = text(
        "Pairs", "A file of matching places: name, easting, northing, elevation of the moving, then of the fixed; or typed, "
        "with ; between pairs",
    )  # fmt: skip
    snap: str = choice(
        "A pick takes", "The nearest point, or what the points round it tell: the centre of a sphere, the corner of three "
        "planes, the middle of a painted target",
        ((NEAREST, "The nearest point"), (SPHERE_CENTRE, "Centre of a sphere"), (CORNER, "Corner of three planes"),
         (PAINTED, "Middle of a painted target")),
        show_only=True, by_hand=True,
    )  # fmt: skip
    reach: float | None = number(
        "Within", "How far round a pick its points are taken for a sphere, corner or target", automatic="0.4 m", low=0.0,
        show_only=True, by_hand=True, when=("snap", (SPHERE_CENTRE, CORNER, PAINTED)),
    )  # fmt: skip
    scaled: bool = switch("With a scale", "Pairs fit seven parameters in place of six", rare=True)
    refine: bool = switch("Refine after pairs", "Closest points go on from what the pairs give")
    search: bool = switch(
        "Search for a start",
        "For clouds that lie far apart, but upright: all turns about the upright and shifts are tried first",
    )
    search_any: bool = switch(
        "Search, turned anyhow",
        "For clouds that lie far apart and need not be upright: places that look alike are brought together", rare=True,
    )  # fmt: skip
    start: str = text(
        "Start", "Sixteen numbers of a 4 × 4 matrix, row by row; or words: shift E N U; turn zyx A B C (degrees, order of the "
        "axes); axis E N U ANGLE; scale PPM; about E N Z; inverse; or a file of them", rare=True,
    )  # fmt: skip
    only_start: bool = switch("Take the start as it is", "Closest points do not go on from a typed start", rare=True)
    overlap: float | None = number(
        "Overlap",
        "Share of the moving points that have a match",
        "",
        automatic="from the distances",
        low=0.0,
        high=1.0,
        rare=True,
    )
    max_distance: float | None = number(
        "Largest distance", "Points farther apart are no pair", automatic="forty spacings, then what is usual", low=0.0
    )

    def missing(self) -> list[str]:
        """What is still needed; of a pair that was begun, its place on what stays; and more pairs, until there are three."""
        typed = [entry.replace(",", " ").split() for entry in self.pairs.replace("\n", ";").split(";") if entry.strip()]
        wanted = super().missing()
        if typed and len(typed[-1]) == HALF_PAIR:
            wanted.append(f"Pair {typed[-1][0]}: pick the same place on what stays.")
        elif typed and len(typed) < FEWEST_PAIRS and all(len(entry) in (6, 7) for entry in typed):
            left = FEWEST_PAIRS - len(typed)
            wanted.append(f"Pick {left} more pair{'s' if left > 1 else ''}: three fix a motion.")
        return wanted
