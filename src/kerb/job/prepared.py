"""New clouds with other classes: they change in a twin, and the cloud it comes from is hidden and stays as it was."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kerb.core.arrays import Bytes
from kerb.core.cloud.classes import GROUND
from kerb.core.cloud.ground import TERRAINS, GroundSettings
from kerb.core.cloud.heights import HEIGHT
from kerb.core.errors import JobError
from kerb.core.quantity import count, quantity
from kerb.job.holdings import duplicated
from kerb.job.job import Change, Job
from kerb.job.state import Holding, JobState, free_name


def with_ground(job: Job, holding: Holding, classes: Bytes, how: tuple[str, GroundSettings]) -> tuple[Change, Holding]:
    """A twin of a cloud with the classes (n,) that the ground filter found; one step hides the cloud and adds it.

    Raises JobError.
    """
    terrain, settings = how
    _, twin = duplicated(job, holding)
    unit = job.state.title.unit
    used = classes[job.store(holding).in_use()]
    found = int(np.count_nonzero(used == GROUND))
    words = (
        f"Found the ground of {holding.name}: {count(found)} of {count(len(used))} points. "
        f"{TERRAINS[terrain].title}: slope {settings.slope:g}, step {quantity(settings.step, unit)}, things up to "
        f"{quantity(settings.object_size, unit)}, cell {quantity(settings.cell, unit)}"
    )
    name = free_name(f"{holding.name}, ground", [h.name for h in job.state.holdings])
    style = {**twin.style, "by": "class", "low": None, "high": None}
    twin = replace(twin, name=name, visible=True, style=style, steps=(*twin.steps, words))
    try:
        store = job.store(twin)
        store.replace_column("classification", classes)
        # Heights over the ground that was are not those over this one.
        store.drop_attribute(HEIGHT)
    except OSError as error:
        raise JobError(f"{job.folder}: the classes cannot be kept ({error.strerror or error})") from None

    def apply(state: JobState) -> JobState:
        return state.with_holding(replace(holding, visible=False)).with_holding(twin)

    return Change(words, apply, {"terrain": terrain, **vars(settings)}), twin
