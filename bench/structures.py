"""Floor plans, clearances and tunnels, beside plain libraries where one does a part of it."""

from __future__ import annotations

import numpy as np
from tests.support import FAR

from bench.shared import timed
from bench.surfaces import _stored
from kerb.core.geometry.features import Line, LineSet
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import LINES, Placed
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources


def clearance(count: int) -> dict:
    """So many points, half above and half below; the plain way takes the lowest and the highest of cells alone."""
    from scipy.stats import binned_statistic_2d

    from kerb.studies.clearance.run import LiveClearance, run
    from kerb.studies.clearance.setup import ClearanceSetup
    from kerb.studies.drawn import Drawn

    rng, half = np.random.default_rng(1), count // 2
    side = float(np.sqrt(half / 1500))
    xy = rng.uniform(-side / 2, side / 2, (2, half, 2))
    below = np.column_stack([xy[0], 0.01 * xy[0, :, 0] + rng.normal(0, 0.003, half)]) + FAR
    above = np.column_stack([xy[1], 5.5 + 0.05 * np.sin(xy[1, :, 0]) + rng.normal(0, 0.003, half)]) + FAR
    stores = {"above": _stored(above), "below": _stored(below)}
    sources = Sources(stores["above"].reference.unit, {name: Source(name, name, store=s) for name, s in stores.items()})
    setup = ClearanceSetup(Scope("above"), Scope("below"))
    ours = timed(lambda: run(setup, sources, silent()))[0]
    live = LiveClearance(setup, sources)
    picked = ClearanceSetup(Scope("above"), Scope("below"), picks=Drawn.of(FAR[None, :2]))
    live.answer(picked)
    pick = timed(lambda: live.answer(picked))[0]
    bins = int(side / 0.25)
    theirs = timed(
        lambda: [binned_statistic_2d(*p[:, :2].T, p[:, 2], how, bins) for p, how in ((above, "min"), (below, "max"))]
    )[0]
    return {
        "kerb": ours,
        "plain": theirs,
        "library": "SciPy, lowest and highest of cells alone",
        "a place picked (s)": pick,
    }


def envelope(count: int) -> dict:
    """A vehicle along a kilometre, every quarter of a metre, between so many points beside it."""
    from kerb.core.clearance.envelope import Vehicle, outline_of, passage
    from kerb.core.clearance.road import Road
    from kerb.core.section.stations import alignment_of

    rng = np.random.default_rng(1)
    aside = np.where(rng.random(count) < 0.5, -1, 1) * rng.uniform(2.5, 6, count)
    points = np.column_stack([rng.uniform(0, 1000, count), aside, rng.uniform(0.2, 6, count)])
    z = np.zeros((101, 5201))
    road = Road(z, (-20.0, -10.0), 0.2, z > 1)
    line, vehicle = alignment_of(np.array([[0.0, 0], [1000, 0]])), Vehicle(outline_of("3x4.5"), 12.0, 6.0)
    passage(points[:1000], road, line, vehicle, 0.25, silent())
    return {"kerb": timed(lambda: passage(points, road, line, vehicle, 0.25, silent()))[0]}


def tunnel(count: int) -> dict:
    """So many points of a bore of 200 m: 200 sections, the map at 5 cm, volumes and patches."""
    from kerb.studies.tunnel.run import run
    from kerb.studies.tunnel.setup import TunnelSetup

    rng = np.random.default_rng(1)
    angle, s = rng.uniform(0, 2 * np.pi, count), rng.uniform(0, 200, count)
    r = 3.1 + 0.05 * np.sin(s) + rng.normal(0, 0.003, count)
    store = _stored(np.column_stack([s, r * np.cos(angle), r * np.sin(angle)]) + FAR)
    axis = LineSet((Line(np.array([[0.0, 0, 0], [200, 0, 0]]) + FAR, False, "axis"),))
    held = Source("alignment", "axis", kind=LINES, load=lambda: Placed(LINES, axis, local_grid(store.reference.unit)))
    sources = Sources(store.reference.unit, {"cloud": Source("cloud", "a", store=store), "alignment": held})
    setup = TunnelSetup(Scope("cloud"), "alignment", profile="circle:3", interval=1.0, cell=0.05)
    return {"kerb": timed(lambda: run(setup, sources, silent()))[0]}


def plan(count: int) -> dict:
    """A storey of 400 rooms in so many points of a slice."""
    from kerb.core.plan.rooms import rooms_of
    from kerb.core.plan.slice_cells import cells_of
    from kerb.core.plan.walls import Rules, walls_of

    rng = np.random.default_rng(1)
    room = [
        ((0, 0), (4, 0)),
        ((0, 0), (0, 4)),
        ((0, 4), (1.5, 4)),
        ((2.5, 4), (4, 4)),
        ((4, 0), (4, 1)),
        ((4, 1.9), (4, 4)),
    ]
    places = [(i * 4.15, j * 4.15) for i in range(20) for j in range(20)]
    lines = np.array([(np.add(a, at), np.add(b, at)) for at in places for a, b in room])
    long = np.hypot(*(lines[:, 1] - lines[:, 0]).T)
    which = rng.choice(len(lines), count, p=long / long.sum())
    xy = (
        lines[which, 0]
        + rng.random((count, 1)) * (lines[which, 1] - lines[which, 0])
        + rng.normal(0, 0.003, (count, 2))
    )

    def whole() -> int:
        return len(rooms_of(walls_of(cells_of(xy, 0.02), Rules(0.02, 0.3), silent()), 1.2, 0.02, 1.0))

    return {"kerb": timed(whole)[0]}
