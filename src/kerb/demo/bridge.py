"""The pipe bridge over the haul road: three beams and two pipes, one of them sagging, a cable, a sign, and a lorry beneath."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kerb.core.arrays import Floats
from kerb.demo import yard
from kerb.demo.flights import write_flight

SEED, FILE = 20260702, "pipe-bridge.laz"
# Local middle of the crossing; level of the road's crown there, how it rises to the east and falls to both sides.
MIDDLE, CROWN, RISE, CAMBER = (-70.0, -60.0), 4.0, 0.015, 0.025
ROAD, DENSITY, NOISE = (60.0, 9.0), 220.0, 0.003
# Undersides over the crown: of the beams, of the pipes at their ends; the sag of the second pipe and of the cable.
BEAM, PIPE, SAG, CABLE, CABLE_SAG = 5.60, 5.30, 0.22, 6.40, 0.35
BEAMS, PIPES = (-2.0, 0.0, 2.0), (-1.0, 1.0)
TRUCK = (6.0, -3.2), (15.0, -0.8), 3.9


def road(xy: Floats) -> Floats:
    """Level (n,) of the road at places (n, 2) counted from the middle of the crossing."""
    return np.asarray(CROWN + RISE * xy[:, 0] - CAMBER * np.abs(xy[:, 1]))


def hanging(y: Floats, sag: float, half: float) -> Floats:
    """How far (n,) something hangs lower at places along it than at its ends, as a parabola."""
    return np.asarray(sag * (1 - (y / half) ** 2))


def scan() -> Floats:
    """Points (n, 3) in job coordinates."""
    rng = np.random.default_rng(SEED)
    long, wide = ROAD
    xy = rng.uniform(-0.5, 0.5, (int(DENSITY * long * wide), 2)) * ROAD
    low, high, tall = TRUCK
    hidden = ((xy > low) & (xy < high)).all(axis=1)
    found = [np.column_stack([xy[~hidden], road(xy[~hidden])])]
    half = 6.5
    for x in BEAMS:
        # The underside and both sides of a beam 0.3 m wide and 0.4 m deep.
        u = rng.uniform(-1, 1, (9000, 2)) * [0.15, half]
        found.append(np.column_stack([x + u[:, 0], u[:, 1], np.full(len(u), CROWN + BEAM)]))
        v = rng.uniform(0, 1, (6000, 2))
        side = np.where(rng.random(6000) < 0.5, -0.15, 0.15)
        found.append(np.column_stack([x + side, (v[:, 0] * 2 - 1) * half, CROWN + BEAM + 0.4 * v[:, 1]]))
    for x, sag in zip(PIPES, (0.03, SAG), strict=True):
        turn, y = rng.uniform(-np.pi, 0, 12_000), rng.uniform(-half, half, 12_000)
        z = CROWN + PIPE + 0.15 - hanging(y, sag, half) + 0.15 * np.sin(turn)
        found.append(np.column_stack([x + 0.15 * np.cos(turn), y, z]))
    y = rng.uniform(-half, half, 900)
    found.append(np.column_stack([np.full(900, 5.0), y, CROWN + CABLE - hanging(y, CABLE_SAG, half)]))
    for x in (-2.4, 2.4):
        for y0 in (-6.3, 6.3):
            leg = rng.uniform(0, 1, (2500, 3))
            found.append(
                np.column_stack([x + 0.25 * leg[:, 0], y0 + 0.25 * leg[:, 1], CROWN - 0.2 + (BEAM + 0.4) * leg[:, 2]])
            )
    # A sign on a post beside the road, and the outside of a lorry.
    post = rng.uniform(0, 1, (700, 2))
    found.append(
        np.column_stack(
            [-12 + 0.04 * np.cos(7 * post[:, 0]), 5.6 + 0.04 * np.sin(7 * post[:, 0]), CROWN + 2.2 * post[:, 1]]
        )
    )
    plate = rng.uniform(-0.5, 0.5, (900, 2)) * [0.9, 0.9]
    found.append(np.column_stack([np.full(900, -12.0), 5.6 + plate[:, 0], CROWN + 2.6 + plate[:, 1]]))
    size = np.subtract(high, low)
    top = rng.uniform(0, 1, (5000, 2)) * size + low
    found.append(np.column_stack([top, road(top) + tall]))
    for k in (0, 1):
        for end in (low[k], high[k]):
            wall = rng.uniform(0, 1, (3500, 2))
            at = np.empty((3500, 2))
            at[:, k], at[:, 1 - k] = end, low[1 - k] + wall[:, 0] * size[1 - k]
            found.append(np.column_stack([at, road(at) + 0.4 + wall[:, 1] * (tall - 0.4)]))
    points = np.concatenate(found) + rng.normal(0, NOISE, (sum(map(len, found)), 3))
    # Single echoes off rain or dust, one of them lower than all that hangs.
    points = np.concatenate([points, [[0.3, 1.0, CROWN + 3.4], [-8.0, -2.0, CROWN + 4.2]]])
    return np.asarray(points + [*(yard.ORIGIN + MIDDLE), 0.0])


def lanes() -> list[tuple[str, Floats]]:
    """Name and outline (4, 2) in job coordinates of each lane."""
    made = []
    for name, south, north in (("Northbound", 0.2, 3.7), ("Southbound", -3.7, -0.2)):
        ring = np.array([[-25.0, south], [25.0, south], [25.0, north], [-25.0, north]])
        made.append((name, ring + yard.ORIGIN + MIDDLE))
    return made


def path() -> Floats:
    """The middle (2, 2) of the northern lane in job coordinates."""
    return np.array([[-25.0, 1.95], [25.0, 1.95]]) + yard.ORIGIN + MIDDLE


def write(folder: Path) -> None:
    """Write its scan."""
    write_flight(folder / FILE, scan(), step=0.0005)
