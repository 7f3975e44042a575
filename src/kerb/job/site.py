"""Where the data of a job lies: a fair sample of places of everything it has, for the place check and thumbnails."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy
import shapely

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
# Holdings are beside one another when less than their own extent lies between them.
BESIDE = 0.5


def of_job(job: Job, without: str = "") -> Site | None:
    """A sample of what most holdings but pictures agree on; None for an empty job. ``without`` leaves a holding out.

    One that lies apart from the others, brought in wrong, does not say where the next ones should lie.
    """
    pieces: list[Floats] = []
    names: list[str] = []
    holdings = _agreeing(job, [h for h in job.state.holdings if h.id != without and h.kind != PICTURE])
    holdings.sort(key=lambda holding: holding.kind != CLOUD)
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
    return Site(xyz, job.state.title.reference_system(), tuple(names), tuple(holding.name for holding in holdings))


def _agreeing(job: Job, holdings: list[Holding]) -> list[Holding]:
    """The largest group of holdings that lie beside one another, of equal ones that of the first."""
    if len(holdings) < 3:
        return holdings
    keep = beside([job.bounds_of(holding) for holding in holdings])
    return [holding for holding, mine in zip(holdings, keep, strict=True) if mine]


def beside(bounds: Sequence[tuple[Floats, Floats]]) -> list[bool]:
    """Which of some (low, high) corners belong to the largest group that lies together, of equal ones that of the first."""
    boxes = []
    for corners in bounds:
        low, high = (corner[:2] for corner in corners)
        room = BESIDE * float(np.max(high - low))
        boxes.append(shapely.box(*(low - room), *(high + room)))
    touching = np.array([[one.intersects(other) for other in boxes] for one in boxes])
    _, group = scipy.sparse.csgraph.connected_components(touching, directed=False)
    largest = int(np.argmax(np.bincount(group)))
    return [own == largest for own in group.tolist()]


def yardstick(job: Site | None, others: Sequence[Site], mine: int) -> Site | None:
    """What one of several things that are brought in together is held against: the job and those of the others that agree.

    ``others`` are all of them, ``mine`` is the number of the one that is asked for; what it agrees with rules when it
    belongs to the largest group, else that group does. None where there is nothing to compare with.
    """
    known = [(-1, job)] if job is not None and len(job.xyz) else []
    known += [(number, one) for number, one in enumerate(others) if len(one.xyz)]
    if job is None:
        group = beside([one.bounds for _, one in known]) if known else []
    else:
        # What the job has rules over what comes: those count that lie beside it.
        group = [number == -1 or beside([job.bounds, one.bounds])[1] for number, one in known]
    rest = [one for (number, one), inside in zip(known, group, strict=True) if inside and number != mine]
    if not rest:
        return job
    if len(rest) == 1:
        return rest[0]
    # Of many files a part of each tells as much: together no more than a few samples.
    step = max(1, sum(len(one.xyz) for one in rest) // (3 * SAMPLE))
    names = [name for one in rest for name in (*one.names, *[""] * (len(one.xyz) - len(one.names)))[::step]]
    what = tuple(dict.fromkeys(name for one in rest for name in one.what))
    return Site(np.concatenate([one.xyz[::step] for one in rest]), rest[0].reference, tuple(names), what)


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
