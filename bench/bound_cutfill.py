"""Does the 95 % bound of cut and fill hold? Two simulated epochs of known ground, of a dozen kinds.

    python -m bench.bound_cutfill            the table of docs/methods/cutfill.md, 100 pairs for each kind

Each pair is a site of 60 × 60 m with a mound or a pit that the simulation knows; the error is that of the net volume.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy

from bench.bound import FAR, Field, plane, waves
from kerb.core.arrays import Floats
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.surface.cloud_top import top_of
from kerb.core.things import SURFACE, Placed
from kerb.core.units import METRE
from kerb.studies.cutfill.run import run
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources

SIDE = 60.0
STRIP = 14.0


@dataclass(frozen=True)
class Pair:
    """Ground, what was added to it, spacing of both epochs, noise of both, correlated noise of the later, and its offset."""

    ground: Field
    added: Field
    spacing: tuple[float, float] = (0.5, 0.5)
    noise: tuple[float, float] = (0.02, 0.02)
    shared: tuple[float, float] = (0.0, 1.0)
    offset: float = 0.0
    stable: bool = False


def _mound(rng: np.random.Generator) -> Field:
    """A cosine mound or pit of 6 to 14 m radius; its volume is known to the simulation by a fine sum."""
    middle, radius, height = rng.uniform(18, 42, 2), rng.uniform(6, 14), rng.choice([-1, 1]) * rng.uniform(0.5, 2.5)

    def field(xy: Floats) -> Floats:
        r = np.minimum(np.hypot(*(xy - middle).T) / radius, 1.0)
        return height * 0.5 * (1 + np.cos(np.pi * r))

    return field


def _box(rng: np.random.Generator) -> Field:
    """A step of some decimetres to a metre round a turned square of 15 to 25 m."""
    half, way, height = rng.uniform(7.5, 12.5), rng.uniform(0, np.pi / 2), rng.uniform(0.3, 1.2)
    turn = np.array([[np.cos(way), np.sin(way)], [-np.sin(way), np.cos(way)]])
    return lambda xy: height * (np.abs((xy - SIDE / 2) @ turn.T) < half).all(axis=1)


def _sum(*fields: Field) -> Field:
    return lambda xy: np.sum([field(xy) for field in fields], axis=0)


def _wave(length: float) -> Callable[[np.random.Generator], Pair]:
    def pair(rng: np.random.Generator) -> Pair:
        ground = waves(rng, 0.15, length * 0.8, length * 1.2)
        return Pair(ground, _mound(rng))

    return pair


def _plain(rng: np.random.Generator, **how: Any) -> Pair:
    ground = _sum(plane(rng, 3), waves(rng, 0.2, 15, 40))
    return Pair(ground, _mound(rng), **how)


def _rough(rng: np.random.Generator) -> Pair:
    ground = waves(rng, 0.08, 0.7, 6)
    return Pair(ground, _mound(rng))


def _stepped(rng: np.random.Generator) -> Pair:
    ground = plane(rng, 2)
    return Pair(ground, _box(rng), (0.35, 0.35))


KINDS: dict[str, Callable[[np.random.Generator], Pair]] = {
    "smooth": lambda rng: _plain(rng),
    "waves of 2 m": _wave(2.0),
    "waves of 6 m": _wave(6.0),
    "waves of 20 m": _wave(20.0),
    "rough": _rough,
    "steep": lambda rng: Pair(plane(rng, 30), _mound(rng)),
    "steps": _stepped,
    "vegetation, alike over 1.5 m": lambda rng: _plain(rng, shared=(0.06, 1.5)),
    "vegetation, alike over 4 m": lambda rng: _plain(rng, shared=(0.06, 4.0)),
    "dense against sparse": lambda rng: _plain(rng, spacing=(0.4, 2.5)),
    "noisy against clean": lambda rng: _plain(rng, noise=(0.1, 0.01)),
    "offset, stable ground": lambda rng: _plain(rng, offset=rng.normal(0, 0.04), stable=True),
    "offset and vegetation, stable ground": lambda rng: _plain(
        rng, offset=rng.normal(0, 0.04), stable=True, shared=(0.04, 2.0)
    ),
}


def _cloud(
    rng: np.random.Generator, ground: Field, spacing: float, noise: float, shared: tuple[float, float]
) -> Floats:
    xy = rng.uniform(0, SIDE, (int((SIDE / spacing) ** 2), 2))
    xy = np.concatenate([xy, [[0, 0], [SIDE, 0], [SIDE, SIDE], [0, SIDE]]])
    z = ground(xy) + rng.normal(0, noise, len(xy))
    if shared[0]:
        z += _correlated(rng, xy, *shared)
    return np.column_stack([xy, z])


def _correlated(rng: np.random.Generator, xy: Floats, sigma: float, length: float) -> Floats:
    """A random field with about an exponential covariance, by filtering white noise on a grid in the frequency domain."""
    cell = length / 5
    n = int(np.ceil(SIDE * 1.5 / cell))
    k = 2 * np.pi * np.hypot(*np.meshgrid(np.fft.fftfreq(n, cell), np.fft.fftfreq(n, cell)))
    power = (1 + (k * length) ** 2) ** -1.5
    field = np.real(np.fft.ifft2(np.fft.fft2(rng.normal(size=(n, n))) * np.sqrt(power)))
    field *= sigma / field.std()
    return scipy.ndimage.map_coordinates(field, (xy / cell).T, order=1, mode="wrap")


def one(kind: str, seed: int) -> tuple[float, float]:
    """Error and bound of the net volume of one pair, in cubic metres."""
    rng = np.random.default_rng([seed, list(KINDS).index(kind)])
    pair = KINDS[kind](rng)
    points = [
        _cloud(rng, pair.ground, pair.spacing[0], pair.noise[0], (0.0, 1.0)),
        _cloud(
            rng, lambda xy: pair.ground(xy) + pair.added(xy) + pair.offset, pair.spacing[1], pair.noise[1], pair.shared
        ),
    ]
    items = {}
    for name, xyz in zip(("earlier", "later"), points, strict=True):
        tin = top_of(xyz + FAR, None)[0]
        thing = Placed(SURFACE, TriangleMesh(tin.points, tin.triangles), local_grid(METRE))
        items[name] = Source(name, name, kind=SURFACE, load=lambda thing=thing: thing)
    # What was dug or filled lies at least 4 m off the rim: a strip all round has not changed.
    rim, inner = (np.array([[a, a], [SIDE - a, a], [SIDE - a, SIDE - a], [a, SIDE - a]]) + FAR[:2] for a in (0.0, 4.0))
    stable = (Item("s", "Stable", Drawn.of(rim, [inner])),) if pair.stable else ()
    setup = CutfillSetup(Scope("earlier"), Scope("later"), stable=stable, take_out="offset" if pair.stable else "none")
    found = run(setup, Sources(METRE, items), silent())
    side = np.linspace(0, SIDE, 1201)[:-1] + SIDE / 2400
    cells = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
    truth = float(np.mean(pair.added(cells))) * SIDE**2
    figure = found.figures["net"]
    assert figure.value is not None
    return figure.value - truth, figure.u95 or 0.0


def table(count: int, kinds: list[str] | None = None) -> list[dict[str, Any]]:
    """How often the bound holds, and how wide it is against the mean error, for each kind."""
    rows = []
    for kind in kinds or list(KINDS):
        found = np.array([one(kind, seed) for seed in range(count)])
        error, bound = np.abs(found[:, 0]), found[:, 1]
        rows.append(
            {
                "ground": kind, "pairs": count, "inside": int(np.count_nonzero(error <= bound)),
                "mean_error": float(error.mean()), "bound": float(bound.mean()),
                "width": float(bound.mean() / error.mean()),
            }
        )  # fmt: skip
        sys.stderr.write(f"{rows[-1]}\n")
    return rows


if __name__ == "__main__":
    print(json.dumps(table(int(sys.argv[1]) if len(sys.argv) > 1 else 100, sys.argv[2:] or None), indent=1))
