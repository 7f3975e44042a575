"""Where the data of a job lies: a fair sample of places of everything it has, for the place check and thumbnails."""

from __future__ import annotations

import numpy as np

from kerb.core.arrays import Floats
from kerb.core.cloud.layout import PointStream
from kerb.core.cloud.view import CloudView
from kerb.core.geometry.features import SurveyPoints
from kerb.core.place_check import Site
from kerb.core.things import CLOUD, PICTURE, Placed, sample_of
from kerb.formats.las_read import LasStream
from kerb.job.job import Job
from kerb.job.state import Holding

SAMPLE = 60_000


def of_job(job: Job, without: str = "") -> Site | None:
    """A sample of everything the job has but pictures; None for an empty job. ``without`` leaves a holding out."""
    pieces: list[Floats] = []
    names: list[str] = []
    holdings = [h for h in job.state.holdings if h.id != without and h.kind != PICTURE]
    for holding in holdings:
        if holding.kind == CLOUD:
            pieces.append(CloudView(job.store(holding)).sample(SAMPLE))
        else:
            thing = job.thing(holding).thing
            pieces.append(sample_of(thing))
            if isinstance(thing, SurveyPoints) and thing.count <= SAMPLE:
                names += [""] * (sum(map(len, pieces)) - len(names) - thing.count) + list(thing.names)
    if not pieces:
        return None
    xyz = np.concatenate(pieces)
    names += [""] * (len(xyz) - len(names))
    return Site(xyz, job.state.title.reference_system(), tuple(names))


def of_holding(job: Job, holding: Holding) -> Site | None:
    """A sample of one holding of a job, be it in the job's list yet or not; None for a picture."""
    if holding.kind == PICTURE:
        return None
    if holding.kind == CLOUD:
        store = job.store(holding)
        return Site(CloudView(store).sample(SAMPLE), store.reference)
    return of_thing(job.thing(holding))


def of_thing(item: Placed) -> Site:
    """A sample of a thing."""
    names = item.thing.names if isinstance(item.thing, SurveyPoints) and item.thing.count <= SAMPLE else ()
    return Site(sample_of(item.thing), item.reference, names)


def of_stream(stream: PointStream, most: int = SAMPLE) -> Site:
    """A sample of a file of points: spread over the file where that costs no reading of all, else its start."""
    layout = stream.layout
    if isinstance(stream, LasStream):
        records = stream.sample(most)
    else:
        records = next(iter(stream.chunks(most)))
    return Site(layout.origin + records["xyz"][:most] * layout.scale, layout.reference)
