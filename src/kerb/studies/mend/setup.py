"""What mending a surface is asked: the surface, the steps in order, and another surface that some of them take from."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.studies.drawn import Item
from kerb.studies.fields import AGAINST, COMPARED, rings, switch
from kerb.studies.fields import surface as with_elevations
from kerb.studies.mend.steps import OWN, WAYS
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup


@dataclass(frozen=True)
class MendSetup(Setup):
    """Inputs and steps of a mended surface."""

    surface: Scope = with_elevations(
        "Surface",
        "The surface to be mended; it stays as it is",
        section=COMPARED,
        needed="Choose a surface.",
        finished=True,
    )
    other: Scope = with_elevations(
        "Other surface", "What the step 'Other surface inside' takes from", section=AGAINST, rare=True
    )
    steps: tuple[Item, ...] = rings(
        "Steps", "What is mended, in order; a step that is not ticked is left out", own=OWN, ways=WAYS,
        needed="Add a step: what is to be mended.", key="T",
    )  # fmt: skip
    keep: bool = switch("Put it into the job", "The mended surface becomes a holding of the job", True, rare=True)
