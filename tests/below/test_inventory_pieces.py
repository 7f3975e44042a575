"""Pieces of the inventory by hand: how heaps are found in a grid, told apart, named, counted and drawn together."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace as Some
from unittest import mock

import numpy as np
import pyogrio
import shapely
import trimesh

from kerb.core.cloud.filters import Filter
from kerb.core.errors import InputError, NotDeterminable, OutputError
from kerb.core.geometry.area import Area
from kerb.core.geometry.mesh import TriangleMesh, joined
from kerb.core.progress import Progress, silent
from kerb.core.quantity import Decimals
from kerb.core.surface.grid import HeightGrid
from kerb.core.units import FOOT, METRE
from kerb.headless.placed import areas_of
from kerb.studies.drawn import Drawn, Item
from kerb.studies.inventory import live, matching, propose, totals
from kerb.studies.inventory import run as running
from kerb.studies.inventory.kind import INVENTORY
from kerb.studies.inventory.propose import Yard
from kerb.studies.inventory.setup import InventorySetup
from kerb.studies.layers import FoundLine, FoundMesh
from kerb.studies.outcome import Column, Figure, Input, Note, Outcome, Table
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.taking import item_from, ring_from
from tests.below.test_exact import solid
from tests.support import FAR, circle, near, store_of


def yard(height, cell=1.0, known=None, ground=0.0):
    """A grid of heights (rows, columns) over level ground."""
    height = np.array(height, float)
    grid = HeightGrid(np.array([100.0, 200.0]), cell, height + ground, np.ones(height.shape, np.int64))
    return Yard(grid, np.full(height.shape, ground), np.ones(height.shape, bool) if known is None else known)


def cone(size, at, top, slope=0.5):
    rows, columns = np.mgrid[0:size, 0:size]
    return np.maximum(0, top - slope * np.hypot(rows - at[0], columns - at[1]))


def item(key, name, ring, **values):
    return Item(key, name, Drawn.of(ring), tuple(values.items()))


def measured(net, u95=None, **parts):
    """An outcome as a stockpile gives it: a net volume, a mesh, a line, and parts of its uncertainty."""
    outcome = Outcome("stockpile", "m", "", {"net": Figure(net, "m3", "Net", u95)}, {"density": 1.5})
    outcome.inputs = [Input("compared", "c", 100, 60)]
    rows = (*parts.items(), ("Combined", u95 or 0.0))
    outcome.tables = {"uncertainty": Table("U", (Column("part"), Column("u95", "m3")), rows)}
    return outcome


def edges(drawn):
    """Stretches by their two ends, with what was stated of them."""
    ends = zip(drawn.xy, (*drawn.xy[1:], drawn.xy[0]), drawn.stretches, strict=False)
    return {(frozenset(map(tuple, np.round([a, b], 3).tolist())), kind) for a, b, kind in ends}


def full_yard():
    """A yard with everything on it, in metres: heaps of many sizes, touching, low, cut off, walled; buildings; a fall."""
    rng = np.random.default_rng(12)
    xy = rng.uniform(0, [130, 100], (90_000, 2))
    x, y = xy.T
    z = 0.015 * x - 0.008 * y + 0.05 * np.sin(x / 9) * np.cos(y / 7)
    heap = np.zeros(len(xy))
    for east, north, high, fall in (
        (15, 15, 5.0, 0.7), (38, 14, 3.0, 0.6), (44, 17, 2.6, 0.6), (62, 15, 4.0, 0.6), (70, 15, 3.2, 0.6), (90, 14, 0.95, 0.4),
        (104, 14, 0.75, 0.4), (118, 16, 2.0, 1.2), (14, 42, 1.5, 0.8), (25, 42, 1.2, 0.9), (2, 70, 4.0, 0.6), (45, 45, 6.0, 0.55),
        (80, 45, 1.4, 0.9), (100, 45, 2.5, 0.62), (110, 46, 2.3, 0.62), (105, 52, 2.0, 0.62), (60, 85, 3.5, 0.65), (90, 85, 2.2, 0.5),
    ):  # fmt: skip
        heap = np.maximum(heap, high - fall * np.hypot(x - east, y - north))
    z = z + heap
    z[(x > 20) & (x < 40) & (y > 70) & (y < 85)] += 7.0  # a hall
    z[(np.abs(x - 110) < 9) & (np.abs(y - 82) < 7) & ((np.abs(x - 110) > 8.2) | (np.abs(y - 82) > 6.2))] += (
        3.0  # a walled box
    )
    z += (np.abs(x - 110) < 8.2) * (np.abs(y - 82) < 6.2) * np.clip(2.2 - 0.3 * np.hypot(x - 110, y - 82), 0, None)
    z[rng.choice(len(xy), 6, replace=False)] -= 9.0
    keep = ~((np.abs(x - 80) < 3) & (np.abs(y - 52) < 3))
    return np.column_stack([xy, z + rng.normal(0, 0.02, len(xy))])[keep] + FAR


class Found(unittest.TestCase):
    def test_height_slope_and_evening(self):
        height = np.arange(20.0).reshape(4, 5)
        one = yard(height, 2.0, ground=7.0)
        near(one.height, height)
        near(propose._slope(one), np.full((4, 5), np.hypot(2.5, 0.5)))
        known = np.ones((4, 5), bool)
        known[0, 0] = False
        self.assertEqual(propose._slope(replace(one, known=known))[0, 0], 0.0)
        z = np.random.default_rng(1).uniform(0, 1, (9, 9))
        even = propose._evened(z, np.ones((9, 9), bool))
        self.assertAlmostEqual(even[4, 4], z[2:7, 2:7].mean())
        inside = np.ones((9, 9), bool)
        inside[:, :4] = False
        self.assertAlmostEqual(propose._evened(z, inside)[4, 4], z[2:7, 4:7].mean())
        self.assertTrue(np.isnan(propose._evened(z, inside)[4, 3]))

    def test_what_is_parted(self):
        two = np.maximum(cone(40, (20, 10), 5), cone(40, (20, 25), 4))
        self.assertAlmostEqual(two[20, 18:20].min(), 1.0)
        labels = propose._parted(yard(two), (2.0, 1.0), METRE)
        self.assertEqual(sorted(np.unique(labels)), [0, 1, 2])
        self.assertEqual((labels[20, 10], labels[20, 25]), (1, 2), "the highest first")
        # The lower one stands 3 over the saddle; a share of 0.6 of the least height must be exceeded.
        self.assertEqual(propose._parted(yard(two), (2.9 / 0.6, 1.0), METRE).max(), 2)
        self.assertEqual(propose._parted(yard(two), (3.1 / 0.6, 1.0), METRE).max(), 1)
        low = cone(30, (15, 15), 0.119, 0.001)
        self.assertEqual(propose._parted(yard(low), (0.1, 1.0), METRE).max(), 0, "below a foot mark nothing stands")
        self.assertEqual(propose._parted(yard(cone(30, (15, 15), 0.125, 0.0001)), (0.1, 1.0), METRE).max(), 1)
        self.assertEqual(propose._parted(yard(cone(30, (15, 15), 0.125, 0.0001)), (0.1, 1.0), FOOT).max(), 0, "0.39 ft")
        wall = np.zeros((30, 30))
        wall[10:20, 10:20] = 5.0
        self.assertEqual(propose._parted(yard(wall), (1.0, 1.0), METRE)[10, 12], 0, "a steep rim is no heap")
        speck = np.zeros((9, 9))
        speck[4, 4] = 0.5
        self.assertEqual(propose._parted(yard(speck), (0.1, 0.1), METRE).max(), 0, "single cells are dropped")

    def test_what_lasts(self):
        plain = yard(cone(40, (20, 20), 3.0))
        labels = propose._parted(plain, (1.0, 1.0), METRE)
        size = int((labels == 1).sum())
        for least, kept in (((3.0, 1.0), [1]), ((3.01, 1.0), []), ((1.0, size), [1]), ((1.0, size + 1), [])):
            self.assertEqual(propose._lasting(plain, labels, least), kept, least)
        fine = replace(plain, grid=replace(plain.grid, cell=0.5))
        self.assertEqual(propose._lasting(fine, labels, (1.0, size * 0.25)), [1])
        self.assertEqual(propose._lasting(fine, labels, (1.0, size * 0.25 + 1)), [])
        self.assertEqual(propose._lasting(plain, np.zeros((40, 40), np.int32), (1.0, 1.0)), [])
        edge = yard(cone(40, (20, 2), 3.0))
        cut = propose._parted(edge, (1.0, 1.0), METRE)
        self.assertEqual(propose._lasting(edge, cut, (1.0, 1.0)), [], "cut off by the edge of the data")
        near_edge = yard(cone(40, (20, 7), 3.0))
        self.assertEqual(propose._lasting(near_edge, propose._parted(near_edge, (1.0, 1.0), METRE), (1.0, 1.0)), [1])
        walled = cone(40, (20, 20), 3.0)
        rows, columns = np.mgrid[0:40, 0:40]
        walled[np.hypot(rows - 20, columns - 20) > 6.5] += 9.0
        closed = yard(walled)
        self.assertEqual(propose._lasting(closed, labels * (walled < 5), (1.0, 1.0)), [], "walled all round")

    def test_outlines_lie_at_the_foot(self):
        heap = yard(cone(60, (30, 30), 4.0), 0.5)
        labels = propose._parted(heap, (1.0, 1.0), METRE)
        (line,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
        # Its foot lies four metres out. The line is drawn outside of it, where it runs over ground, by a cell or so.
        self.assertTrue(4.0 < np.sqrt(line.area / np.pi) < 4.0 + 1.25 * 0.5)
        near(np.array(line.centroid.coords[0]), [100 + 15.25, 200 + 15.25], atol=0.1)
        self.assertEqual(propose._outlines(heap, labels, (1.0, 60.0), METRE), [])
        two = yard(np.maximum(cone(80, (40, 25), 5), cone(80, (40, 44), 4)), 0.5)
        big, small = propose._outlines(two, propose._parted(two, (1.0, 1.0), METRE), (1.0, 1.0), METRE)
        self.assertGreater(big.area, small.area)
        self.assertLess(big.intersection(small).area, 0.02 * small.area, "neighbours share no ground")

    def test_the_ground_under_a_heap_and_strays(self):
        """A sloping plane with a wide heap and two strays far below: the ground is the plane, under the heap too."""
        rows, columns = np.mgrid[0:120, 0:120]
        plane = 50 + 0.04 * columns - 0.02 * rows
        height = cone(120, (60, 60), 5.0, 0.15)
        z = plane + height
        z[20, 20], z[20, 22] = -400.0, -390.0
        grid = HeightGrid(np.zeros(2), 0.5, z, np.ones(z.shape, np.int64))
        for unit in (METRE, FOOT):
            one = replace(grid, cell=0.5 / unit.metres, z=z / unit.metres)
            found = propose._ground(one, np.ones(z.shape, bool), unit) * unit.metres
            away = np.abs(found - plane)
            away[15:26, 15:28] = 0.0
            self.assertLess(
                away[height > 1].max(), 0.31, "no more of the foot of a flat heap than this is taken for ground"
            )
            self.assertLess(away[height == 0].max(), 0.12)

    def test_shares_of_the_rim(self):
        """Of its rim 15 % may lie at the edge of the data; a cut of five cells leaves more there."""
        for cut, kept in ((0, 1), (4, 1), (5, 0), (8, 0)):
            heap = np.maximum(cone(60, (30, 30), 6.0, 0.5), 0)[:, cut + 14 :]
            one = yard(heap)
            labels = propose._parted(one, (1.0, 1.0), METRE)
            self.assertEqual(len(propose._lasting(one, labels, (1.0, 1.0))), kept, cut)

    def test_proposed_from_points(self):
        rng = np.random.default_rng(3)
        xy = rng.uniform(0, 60, (40_000, 2))
        z = 0.02 * xy[:, 0] + np.maximum(0, 4 - 0.6 * np.hypot(xy[:, 0] - 20, xy[:, 1] - 30))
        z += np.maximum(0, 3 - 0.6 * np.hypot(xy[:, 0] - 45, xy[:, 1] - 20))
        cloud = store_of(np.column_stack([xy, z]) + FAR)
        found = propose.proposals(Scope().of(cloud), (0.8, 12.0), METRE, silent())
        self.assertEqual(len(found), 2)
        for line, (x, y, top) in zip(found, ((20, 30, 4), (45, 20, 3)), strict=True):
            near(np.array(line.centroid.coords[0]) - FAR[:2], [x, y], atol=0.3)
            self.assertTrue(top / 0.6 < np.sqrt(line.area / np.pi) < top / 0.6 + 1.25 * 0.9)
        said = []
        propose.proposals(
            Scope().of(cloud), (0.8, 12.0), METRE, Progress(lambda share, words: said.append((round(share, 6), words)))
        )
        self.assertEqual(list(dict.fromkeys(said)), [(0.0, "Reading points"), (0.32, "Finding the ground"), (0.6, "Parting heaps"),
                                                     (0.8, "Drawing toe lines")])  # fmt: skip
        self.assertEqual(len(propose.proposals(Scope().of(cloud), (3.5, 12.0), METRE, silent())), 1)
        self.assertEqual(len(propose.proposals(Scope().of(cloud), (0.8, 100.0), METRE, silent())), 1)
        few = store_of(rng.uniform(0, 9, (99, 3)) + FAR)
        with self.assertRaisesRegex(NotDeterminable, "too few points"):
            propose.proposals(Scope().of(few), (0.8, 12.0), METRE, silent())

    def test_unknown_ground_is_no_heap_and_walls_are_left_out(self):
        flat = np.zeros((20, 20))
        known = np.ones((20, 20), bool)
        known[5:12, 5:12] = False
        self.assertEqual(propose._parted(yard(np.where(known, flat, np.nan), known=known), (0.1, 0.1), METRE).max(), 0)
        heap = cone(60, (30, 30), 4.0)
        walled = heap.copy()
        walled[:, 36:40] = 9.0  # a wall that stands in the heap's side
        one = yard(walled)
        labels = propose._parted(one, (1.0, 1.0), METRE)
        labels[:, 34:] = 0
        lines = propose._outlines(one, labels, (1.0, 1.0), METRE)
        steep = np.argwhere(propose._slope(one) > propose.STEEPEST)
        wall = shapely.union_all([shapely.box(100 + c, 200 + r, 101 + c, 201 + r) for r, c in steep])
        self.assertEqual(len(lines), 1)
        self.assertLess(lines[0].intersection(wall).area, 0.6 * 2, "what is steep as a wall is not enclosed")
        free = propose._outlines(yard(heap), propose._parted(yard(heap), (1.0, 1.0), METRE), (1.0, 1.0), METRE)
        self.assertGreater(free[0].intersection(wall).area, 8.0)

    def test_only_larger_walls_are_left_out(self):
        """A steep patch on the outline counts from more than four cells, whatever their size."""
        heap = yard(cone(60, (30, 30), 4.0), 0.5)
        labels = propose._parted(heap, (1.0, 1.0), METRE)
        for wide, slant, shared in ((2, 2.0, True), (3, 2.0, False), (3, propose.STEEPEST, True)):
            slope = np.zeros((60, 60))
            slope[38:40, 30 : 30 + wide] = slant
            with mock.patch.object(propose, "_slope", lambda _yard, slope=slope: slope):
                (line,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
            patch = shapely.box(115.0, 219.0, 115.0 + wide / 2, 220.0)
            self.assertEqual(line.intersection(patch).area > 0.1, shared)
        with mock.patch.object(propose, "_slope", lambda _yard: np.full((60, 60), propose.STEEPEST)):
            np.testing.assert_array_equal(propose._parted(heap, (1.0, 1.0), METRE), labels, "just so steep is no wall")
        away = np.abs(np.hypot(*(np.mgrid[0:60, 0:60] - 30)) - 16)
        with mock.patch.object(propose, "_slope", lambda _yard: np.where(away < 2, 2.0, 0.0)):
            (within,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
        (free,) = propose._outlines(heap, labels, (1.0, 1.0), METRE)
        self.assertTrue(within.equals(free), "a wall all round it takes nothing of it")

    def test_wide_channels_stay_unknown(self):
        """A channel without points from the rim inwards is bridged where it is six cells wide, and not where it is seven."""
        for wide, bridged in ((6, True), (7, False)):
            y, x = (a.ravel() * 1.5 for a in np.mgrid[0:120, 0:120])
            xy = np.column_stack([x, y])[~((y < 84) & (x >= 66) & (x < 66 + 6 * wide))]
            made = propose._yard(
                np.column_stack([xy, np.zeros(len(xy))]), Some(store=Some(spacing=2.0)), METRE, silent()
            )
            self.assertEqual((made.grid.cell, bool(made.known[6, 14])), (6.0, bridged))

    def test_a_full_yard_stays_as_it_was_found(self):
        """Where heaps were built is known; areas and corners are as Kerb found them on 2026-11-26, so that changes are seen."""
        wanted = [
            (45.03, 45.29, 463.2, 16), (14.85, 15.08, 220.5, 10), (61.1, 15.07, 169.7, 15), (109.9, 81.65, 144.3, 16),
            (60.03, 84.99, 136.3, 9), (71.04, 14.73, 104.9, 13), (37.32, 13.65, 104.1, 13), (44.87, 17.13, 79.2, 14),
            (90.07, 85.02, 89.9, 9), (99.76, 44.91, 81.4, 9), (110.07, 45.96, 77.9, 9), (112.83, 88.44, 37.1, 10),
            (104.82, 52.29, 53.5, 9), (108.49, 75.15, 35.1, 9), (106.24, 88.47, 25.1, 10),
        ]  # fmt: skip
        for unit, slack in ((METRE, 0.02), (FOOT, 0.8)):
            m = unit.metres
            cloud = store_of(full_yard() / m, unit)
            found = propose.proposals(Scope().of(cloud), (0.8 / m, 12.0 / m**2), unit, silent())
            rows = [(*(np.array(line.centroid.coords[0]) * m - FAR[:2]), line.area * m**2) for line in found]
            near(rows, [row[:3] for row in wanted], atol=slack + 0.04)
            if unit == METRE:
                self.assertEqual([len(line.exterior.coords) for line in found], [row[3] for row in wanted])

    def test_cells_of_the_yard(self):
        """Three spacings, a quarter of a metre at least, and no more cells than memory has room for."""
        rng = np.random.default_rng(3)
        points = np.column_stack([rng.uniform(0, 60, (4000, 2)), rng.normal(0, 0.01, 4000)])
        size = np.sqrt(np.prod(np.ptp(points[:, :2], axis=0)))
        for spacing, unit, most, cell in (
            (0.01, METRE, 1_500_000, 3 * size / np.sqrt(4000)), (2.0, METRE, 1_500_000, 6.0), (2.0, METRE, 25, size / 5),
        ):  # fmt: skip
            with mock.patch.object(propose, "MOST_CELLS", most):
                made = propose._yard(points, Some(store=Some(spacing=spacing)), unit, silent())
            self.assertAlmostEqual(made.grid.cell, cell, places=9)
        dense = np.column_stack([rng.uniform(0, 3, (4000, 2)), rng.normal(0, 0.01, 4000)])
        for unit in (METRE, FOOT):
            made = propose._yard(dense, Some(store=Some(spacing=0.01)), unit, silent())
            self.assertAlmostEqual(made.grid.cell, 0.25 / unit.metres)
        near(made.ground[np.isfinite(made.ground)], np.zeros(np.isfinite(made.ground).sum()), atol=0.02)
        hundred = store_of(rng.uniform(0, 9, (100, 3)) * [1, 1, 0.01] + FAR)
        self.assertEqual(propose.proposals(Scope().of(hundred), (0.8, 12.0), METRE, silent()), [])


class Proposed(unittest.TestCase):
    def setUp(self):
        self.cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        self.sources = Sources(METRE, {"cloud": Source("cloud", "c", store=self.cloud)})
        self.shapes = [shapely.Polygon(circle(5, 20) + [x, 0]) for x in (0, 20, 40)]

    def propose(self, setup, shapes=None):
        with mock.patch.object(running, "proposals", return_value=self.shapes if shapes is None else shapes) as asked:
            made = running.propose(setup, self.sources, silent())
        self.assertEqual(asked.call_args.args[1], (setup.least_height, setup.least_area))
        return made

    def test_names_keys_and_what_was_known(self):
        drawn = replace(item("h1", "North", circle(5, 20) + [20.5, 0], density=2.0), origin="drawn")
        old = replace(item("h7", "Heap 1", circle(5, 20) + [40, 1], material="sand"), origin="proposed", taken=False)
        made = self.propose(InventorySetup(Scope("cloud"), heaps=(drawn, old))).heaps
        self.assertEqual([(i.key, i.name, i.taken, i.origin) for i in made],
                         [("h1", "North", True, "drawn"), ("h2", "Heap 2", True, "proposed"), ("h3", "Heap 1", False, "proposed")])  # fmt: skip
        self.assertEqual((made[0], made[2].values), (drawn, (("material", "sand"),)))
        near(made[1].ring.places, np.round(np.array(self.shapes[0].exterior.coords)[:-1], 3), atol=0)
        again = self.propose(InventorySetup(Scope("cloud"), heaps=made)).heaps
        self.assertEqual([(i.name, i.taken) for i in again], [(i.name, i.taken) for i in made])
        fresh = self.propose(InventorySetup(Scope("cloud"))).heaps
        self.assertEqual([(i.key, i.name, i.values) for i in fresh], [(f"h{n}", f"Heap {n}", ()) for n in (1, 2, 3)])
        with self.assertRaisesRegex(NotDeterminable, "nothing higher than 0.80 and larger than 12.0"):
            self.propose(InventorySetup(Scope("cloud")), [])

    def test_followed_by_the_next_survey(self):
        heaps = (item("a", "A", circle(3, 9)), replace(item("b", "B", circle(2, 9)), taken=False))
        first = InventorySetup(Scope("march", (2,), "Yard", (Filter("intensity", 0.0, 9.0),)), heaps=heaps)
        then = running.follow(first, "may")
        self.assertEqual(
            (then.cloud, then.earlier, then.earlier_heaps, then.heaps), (Scope("may", (2,)), first.cloud, heaps[:1], ())
        )


class Counted(unittest.TestCase):
    def setUp(self):
        self.cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        self.sources = Sources(
            METRE, {"cloud": Source("cloud", "c", store=self.cloud), "earlier": Source("e", "e", store=self.cloud)}
        )

    def run_with(self, setup, found):
        """The inventory with what each heap is measured to be given."""
        with mock.patch.object(running, "run_stockpile", side_effect=lambda one, *_: found[one.toe.xy]):
            return running.run(setup, self.sources, silent())

    def test_sums_bounds_and_change(self):
        a, b = item("a", "A", circle(5, 12), material="sand"), item("b", "B", circle(4, 12) + [30, 0])
        old = item("o", "Old", circle(5, 12) + [0.5, 0], material="sand")
        gone = item("g", "Gone", circle(5, 12) + [90, 0])
        off = replace(item("x", "X", circle(3, 12) + [200, 0]), taken=False)
        ring = lambda i: i.ring.xy  # noqa: E731
        found = {
            ring(a): measured(100.0, 5.0, **{"Vertical bias": 3.0, "Noise": 4.0}),
            ring(b): measured(50.0, 13.0, **{"Vertical bias": 12.0, "Noise": 5.0}),
            ring(old): measured(80.0, 1.0, **{"Vertical bias": 1.0}), ring(gone): measured(7.0, 2.0, Noise=2.0),
        }  # fmt: skip
        plain = self.run_with(InventorySetup(Scope("cloud"), heaps=(a, b, off)), found)
        self.assertEqual(plain.value("total_net"), 150.0)
        self.assertAlmostEqual(plain.figures["total_net"].u95, np.sqrt((3 + 12) ** 2 + 4**2 + 5**2))
        self.assertEqual((plain.value("heaps"), plain.inputs[0].used, plain.inputs[0].points), (2, 120, 200))
        self.assertNotIn("total_change", {k for k, f in plain.figures.items() if f.value is not None})
        both = self.run_with(
            InventorySetup(Scope("cloud"), heaps=(a, b), earlier=Scope("earlier"), earlier_heaps=(old, gone, off)),
            found,
        )
        change = next(f for name, f in both.figures.items() if "change" in name)
        self.assertAlmostEqual(change.value, 20 + 50 - 7)
        self.assertEqual([i.role for i in both.inputs], ["compared", "against"])
        self.assertEqual(both.inputs[1].used, 120)
        rows = {row[0]: row for row in both.tables["heaps"].rows}
        self.assertEqual(set(rows), {"A", "B", "Gone"})

    def test_warnings(self):
        a, b = item("a", "Same", circle(5, 40)), item("b", "Same", circle(5, 40) + [8, 0])
        lost = measured(None)
        lost.warnings = [Note("edge", "it is cut off")]
        found = self.run_with(InventorySetup(Scope("cloud"), heaps=(a, b)), {a.ring.xy: measured(5.0), b.ring.xy: lost})
        said = {note.code: note.text for note in found.warnings}
        self.assertEqual(said["edge"], "Same: it is cut off")
        self.assertEqual(said["total-part"], "The totals leave out 1 of 2 heaps without a figure.")
        self.assertEqual(said["names"], "Two heaps have the same name.")
        common = shapely.Polygon(a.ring.xy).intersection(shapely.Polygon(b.ring.xy)).area
        self.assertIn(f"Same and Same overlap on {common:.1f}"[:26], said["overlap"])
        self.assertIn("counts twice", said["overlap"])
        for share, told in ((0.5e-6, False), (2e-6, True)):
            one = item("a", "A", np.array([[0.0, 0], [10, 0], [10, 10], [0, 10]]))
            two = item("b", "B", np.array([[10 - 10 * share, 0], [20, 0], [20, 10], [10 - 10 * share, 10]]))
            found = self.run_with(
                InventorySetup(Scope("cloud"), heaps=(one, two)),
                {one.ring.xy: measured(5.0), two.ring.xy: measured(6.0)},
            )
            self.assertEqual("overlap" in [note.code for note in found.warnings], told, share)
        shared = replace(self.sources, stated=(Note("odd", "the file is odd"),))
        again = measured(5.0)
        again.warnings = [Note("odd", "the file is odd"), Note("rough", "it is rough")]
        with mock.patch.object(self, "sources", shared):
            found = self.run_with(InventorySetup(Scope("cloud"), heaps=(a,)), {a.ring.xy: again})
        self.assertEqual(
            [n.text for n in found.warnings if n.code in ("odd", "rough")], ["the file is odd", "Same: it is rough"]
        )
        alone = self.run_with(InventorySetup(Scope("cloud"), heaps=(a,)), {a.ring.xy: lost})
        self.assertNotIn(
            "total-part", [note.code for note in alone.warnings], "where nothing is left no part is left out"
        )
        apart = item("c", "C", circle(5, 40) + [10.0001, 0])
        two = self.run_with(
            InventorySetup(Scope("cloud"), heaps=(a, apart)), {a.ring.xy: measured(5.0), apart.ring.xy: measured(1.0)}
        )
        self.assertNotIn("names", [note.code for note in two.warnings])
        self.assertNotIn("overlap", [n.code for n in self.run_with(
            InventorySetup(Scope("cloud"), heaps=(a, apart)), {a.ring.xy: measured(5.0), apart.ring.xy: measured(1.0)}).warnings])  # fmt: skip

    def test_drawn_together(self):
        a, b = item("a", "A", circle(5, 12)), item("b", "B", circle(4, 12) + [30, 0])
        one, other, none = measured(5.0), measured(7.0), measured(None)
        corners = np.array([[0.0, 0, 1], [4, 0, 2], [0, 4, 9]])
        for outcome, shift in ((one, 0.0), (other, 30.0)):
            ring = np.column_stack([circle(5, 12) + [shift, 0], np.full(12, 3.0)])
            cells = np.array([[0, 1, 2]], np.int32)
            outcome.layers = {
                "toe": FoundLine(ring, closed=True), "base": FoundMesh(corners + [shift, 0, 0], cells, "base"),
                "top": FoundMesh(corners, cells), "gaps": FoundMesh(corners, np.empty((0, 3), np.int32)),
                "unseen 1": FoundLine(ring[:3], gapped=True), "hole 1": FoundLine(ring[:4], closed=True), "profile": FoundLine(ring),
            }  # fmt: skip
        outcome = Outcome("inventory", "m", "", {}, {})
        running._draw(outcome, [(a, one), (b, other), (replace(a, key="c"), one), (replace(b, key="n"), none)])
        self.assertEqual(
            set(outcome.layers),
            {f"{name} {key}" for name in ("toe", "unseen 1", "hole 1") for key in "abc"} | {"toe n", "base", "labels"},
        )
        self.assertEqual(outcome.layers["toe b"].title, "B")
        near(outcome.layers["toe n"].xyz[:, 2], np.zeros(12))
        self.assertTrue(outcome.layers["toe n"].closed)
        base = outcome.mesh("base")
        self.assertEqual(base.triangles.tolist(), [[0, 1, 2], [3, 4, 5], [6, 7, 8]])
        near(base.vertices[:, 0], [0, 4, 0, 30, 34, 30, 0, 4, 0])
        labels = outcome.layers["labels"]
        near(labels.xyz, [[0, 0, 9], [30, 0, 9], [0, 0, 9]], atol=1e-9)
        self.assertEqual(labels.said(Decimals())[:2], ("A  5\u00a0m³", "B  7\u00a0m³"))
        self.assertEqual(list(outcome.items), ["A", "B", "A (c)"])
        self.assertEqual(set(outcome.items["A"].layers), {"toe", "base", "gaps", "unseen 1", "hole 1"})
        self.assertEqual(outcome.attributes["over"].inside, "toe")

    def test_totals(self):
        row = lambda net, **more: totals.Row("a", "m", None, values={"net": net}, **more)  # noqa: E731
        self.assertEqual(
            (row(5.0, before=3.0).change, row(None, before=3.0).change, row(5.0).change), (2.0, None, None)
        )
        self.assertEqual(totals.Row("a", "", None, totals.GONE, before=4.0).change, -4.0)
        parts = [{"Vertical bias": 3.0, "Noise": 1.0}, {"Vertical bias": 4.0, "Noise": 2.0, "Other": 6.0}]
        self.assertAlmostEqual(totals.joined(parts), np.sqrt(49 + 1 + 4 + 36))
        self.assertAlmostEqual(totals.joined(parts, [2.0, 0.5]), np.sqrt(64 + 4 + 1 + 9))
        changed = [row(5.0, before=3.0, parts={"Vertical bias": 3.0}, before_parts={"Vertical bias": 4.0})]
        self.assertAlmostEqual(totals.total(changed).change_u95, 5.0)
        nothing = totals.total([row(None)])
        self.assertEqual(
            (nothing.u95, nothing.mass, nothing.change, nothing.count, nothing.net), (None, None, None, 0, 0.0)
        )
        heavy = totals.Row(
            "a", "m", 2.0, values={"net": 3.0, "mass": 6.0, "above": 4.0, "below": 1.0}, parts={"Noise": 0.5}
        )
        found = totals.total([heavy, heavy])
        self.assertEqual((found.mass, found.above, found.below, found.count), (12.0, 8.0, 2.0, 2))
        self.assertAlmostEqual(found.mass_u95, 2 * np.sqrt(0.5))
        self.assertEqual(
            [len(rows) for rows in totals.by_material([heavy, replace(heavy, material="x"), heavy]).values()], [2, 1]
        )

    def test_matching(self):
        square = lambda x, y, w: shapely.box(x, y, x + w, y + w)  # noqa: E731
        now, before = [square(0, 0, 10), square(20, 0, 10)], [square(8.1, 0, 10), square(7.9, 0, 10), square(1, 1, 3)]
        self.assertEqual(matching.matched(now[:1], before[:1]), {}, "19 of 100 are too little")
        self.assertEqual(matching.matched(now[:1], before[:2]), {0: 1})
        self.assertEqual(matching.matched(now, [square(8, 0, 10)]), {}, "a fifth itself is too little")
        self.assertEqual(
            matching.matched(now[:1], [*before, square(2, 0, 10)]), {0: 3}, "the largest common area first"
        )
        self.assertEqual(matching.matched([square(0, 0, 10), square(1, 0, 10)], [square(0.4, 0, 10)]), {0: 0})
        holed = Item("a", "A", Drawn.of(circle(5, 40), [circle(2, 40)]))
        self.assertAlmostEqual(matching.shape_of(holed).area, shapely.Polygon(circle(5, 40), [circle(2, 40)]).area)


class Asked(unittest.TestCase):
    def test_what_is_usual(self):
        plain = InventorySetup()
        self.assertEqual((plain.least_height, plain.least_area, plain.heaps, plain.earlier), (0.8, 12.0, (), Scope()))
        for change in ({"least_height": 0.0}, {"least_area": 0.0}):
            replace(InventorySetup(Scope("c"), heaps=(item("a", "A", circle(3, 9)),)), **change).check()
        with self.assertRaisesRegex(InputError, "Draw a line round each heap"):
            InventorySetup(Scope("c")).check()

    def test_the_study_of_one_heap(self):
        setup = InventorySetup(
            Scope("now"), earlier=Scope("then"), base="level", level=3.0, density=1.5, density_unit="ton/yd3"
        )
        one = running.heap_setup(setup, item("a", "A", circle(3, 9), material="sand"))
        self.assertEqual(
            (one.cloud, one.base, one.level, one.density, one.density_unit, one.material),
            (Scope("now"), "level", 3.0, 1.5, "ton/yd3", "sand"),
        )
        self.assertEqual(
            running.heap_setup(setup, item("a", "A", circle(3, 9), density=2.0), earlier=True).cloud, Scope("then")
        )

    def test_stretches_go_out_and_come_back(self):
        """Whichever way round a line runs, what was stated of its stretches is kept in the file and read from it."""
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        sources = Sources(METRE, {"cloud": Source("cloud", "c", store=cloud)})
        about = InventorySetup.declared()["heaps"]
        ring = circle(5, 6) + FAR[:2]
        plain = item("p", "Plain", ring + 50)
        ways = [
            replace(one, ring=one.ring.with_stretch(1, "other").with_stretch(4, "ground"))
            for one in (item("a", "On", ring), item("b", "Back", ring[::-1] + 20))
        ]
        setup = InventorySetup(Scope("cloud"), heaps=(*ways, plain))
        outcome = Outcome("inventory", "m", "", {}, {})
        outcome.tables = {"heaps": Table("Heaps", (Column("name"),), tuple((i.name,) for i in setup.heaps))}
        for ending in ("gpkg", "geojson"):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"toes.{ending}"
                INVENTORY.write(setup, outcome, sources, {"out": path})
                found, _ = areas_of(str(path), cloud.reference)
            for before, one in zip(setup.heaps, found, strict=True):
                after = item_from(about, one.area, one.fields, "x", one.name, "file").ring
                self.assertEqual(edges(after), edges(before.ring), (ending, one.name))
                self.assertEqual(bool(after.stretches), one.name != "Plain")
        turned = Drawn.of(ring[::-1]).with_words("other - - - - -", ("other",))
        self.assertEqual(turned.stretches, ("", "", "", "", "", "other"))
        for words, wrong in (("other -", "2 words for 6"), ("wall - - - - -", "'wall' is not one of")):
            with self.assertRaisesRegex(InputError, f"Odd: stretches: {wrong}"):
                ring_from(about, Area((Drawn.of(ring).xy,), "Odd"), {"Stretches": words})
        self.assertEqual(Drawn.of(ring).with_words("- - - - - -", ("other",)).stretches, ())
        holed = [circle(9, 12), *(circle(1, 5) + [3 * k, 0] for k in (-1, 1))]
        taken = ring_from(about, Area(tuple(holed)), {})
        self.assertEqual(len(taken.holes), 2)
        for hole, wanted in zip(taken.holes, holed[1:], strict=True):
            self.assertEqual(sorted(map(tuple, hole)), sorted(map(tuple, wanted.tolist())))

    def test_toe_lines_are_written_with_their_figures(self):
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        sources = Sources(METRE, {"cloud": Source("cloud", "c", store=cloud)})
        heaps = (
            item("a", "A", circle(5, 12)),
            Item("b", "B", Drawn.of(circle(4, 12) + [30, 0], [circle(1, 9) + [30, 0]])),
        )
        off = replace(item("x", "X", circle(3, 12) + [90, 0]), taken=False)
        setup = InventorySetup(Scope("cloud"), heaps=(*heaps, off))
        columns = (Column("name"), Column("net", "m3"), Column("note"))
        outcome = Outcome(
            "inventory",
            "m",
            "",
            {},
            {},
            tables={"heaps": Table("H", columns, (("A", 5.0, "x"), ("B", 7.0, "y"), ("Gone", 1.0, "z")))},
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "toes.gpkg"
            INVENTORY.write(setup, outcome, sources, {"out": path})
            meta, _, shapes, values = pyogrio.raw.read(path)
            found = dict(zip(meta["fields"], values, strict=True))
            self.assertEqual(
                (found["name"].tolist(), found["net"].tolist(), found["note"].tolist()),
                (["A", "B"], [5, 7], ["x", "y"]),
            )
            areas = shapely.area(shapely.from_wkb(shapes))
            near(
                areas,
                [shapely.Polygon(circle(5, 12)).area, shapely.Polygon(circle(4, 12), [circle(1, 9)]).area],
                atol=1e-6,
            )
            with self.assertRaisesRegex(OutputError, "no heaps to write"):
                INVENTORY.write(replace(setup, heaps=(off,)), outcome, sources, {"out": Path(folder) / "none.gpkg"})


class Live(unittest.TestCase):
    def test_only_what_moved_is_measured_again(self):
        cloud = store_of(np.random.default_rng(1).uniform(0, 9, (200, 3)) + FAR)
        sources = Sources(METRE, {"cloud": Source("cloud", "c", store=cloud)})
        a, b = item("a", "A", circle(5, 12)), item("b", "B", circle(4, 12) + [30, 0])
        off = replace(item("x", "X", circle(3, 12)), taken=False)
        setup = InventorySetup(Scope("cloud"), heaps=(a, b, off))
        made = []

        class Heap:
            def __init__(self, one, _sources):
                made.append(one.toe)
                self.answered = 0

            def covers(self, one):
                return one.toe.xy[0][0] < 100

            def answer(self, one):
                self.answered += 1
                if one.toe.xy[0][0] > 50:
                    raise NotDeterminable("too far")
                size = float(len(one.toe.xy))
                found = Outcome("stockpile", "m", "", {n: Figure(size * k, "m3", n) for n, k in (("net", 1), ("above", 2), ("below", None))
                                                      if k}, {}, live=True)  # fmt: skip
                found.layers = {"toe": FoundLine(np.zeros((2, 3))), "top": FoundLine(np.zeros((2, 3)))}
                return found

        with mock.patch.object(live, "LiveHeap", Heap):
            yard_ = live.LiveYard(setup, sources)
            found = yard_.answer(setup)
            self.assertEqual((found.value("total_net"), found.value("total_above"), found.value("total_below"), found.value("heaps")),
                             (24.0, 48.0, 0.0, 2))  # fmt: skip
            self.assertTrue(found.live)
            self.assertEqual(set(found.layers), {"toe a", "toe b"})
            yard_.answer(setup)
            self.assertEqual([heap.answered for heap in yard_._heaps.values()], [1, 1], "what did not change is kept")
            moved = replace(setup, heaps=(replace(a, ring=a.ring.without(0)), b, off))
            self.assertEqual(yard_.answer(moved).value("total_net"), 23.0)
            self.assertEqual([heap.answered for heap in yard_._heaps.values()], [2, 1])
            self.assertEqual(len(made), 2)
            far = replace(setup, heaps=(replace(a, ring=Drawn.of(circle(5, 12) + [60, 0])), b))
            found = yard_.answer(far)
            self.assertEqual(
                (found.value("total_net"), found.value("heaps")), (12.0, 1), "one that cannot be told is left out"
            )
            none = yard_.answer(replace(far, heaps=far.heaps[:1]))
            self.assertEqual((none.value("total_net"), none.value("heaps")), (None, 0))
            self.assertTrue(yard_.covers(moved))
            self.assertFalse(yard_.covers(replace(setup, cloud=Scope("cloud", (2,)))))
            self.assertFalse(yard_.covers(replace(setup, earlier=Scope("e"))))
            beyond = replace(setup, heaps=(replace(a, ring=Drawn.of(circle(5, 12) + [200, 0])), b))
            yard_.answer(beyond)
            self.assertEqual(len(made), 3, "one that does not cover it is made anew")
            with mock.patch.object(live, "MOST_KEPT", 2):
                yard_.answer(replace(setup, heaps=(item("c", "C", circle(5, 9)),)))
            self.assertEqual(len(yard_._heaps), 2, "the oldest makes room")


class Bodies(unittest.TestCase):
    """Closed meshes of several bodies: one inside out, one in another, one in a hole of another."""

    def test_senses_and_volumes(self):
        box = lambda size, at=(0.0, 0, 0), turned=False: (  # noqa: E731
            replace(solid(size, at), triangles=solid(size, at).triangles[:, [0, 2, 1]]) if turned else solid(size, at)
        )
        big, hole, core = (10.0, 10, 10), (6.0, 5, 4), (2.0, 2, 2)
        for meshes, volume, senses in (
            ([box(big)], 1000.0, [1]), ([box(big, turned=True)], 1000.0, [-1]),
            ([box(big), box(hole, turned=True)], 880.0, [1, 1]), ([box(big), box(hole)], 880.0, [1, -1]),
            ([box(big, turned=True), box(hole, turned=True)], 880.0, [-1, 1]),
            ([box(big), box(hole, turned=True), box(core)], 888.0, [1, 1, 1]), ([box(big), box(hole), box(core)], 888.0, [1, -1, 1]),
            ([box(hole), box(core, (9.0, 0, 0), True)], 128.0, [1, -1]), ([box(core, (4.0, 0, 0)), box(hole)], 128.0, [1, 1]),
        ):  # fmt: skip
            mesh = joined(meshes)
            self.assertAlmostEqual(mesh.volume, volume, places=5, msg=senses)
            order = [int(mesh._bodies[12 * k]) for k in range(len(meshes))]
            self.assertEqual([int(mesh.senses[body]) for body in order], senses)
            # From above only what looks upwards counts: tops, and floors of cavities.
            sizes = [(10.0, 10.0), (6.0, 5.0), (2.0, 2.0)][: len(meshes)]
            if volume in (1000.0, 880.0, 888.0):
                self.assertAlmostEqual(mesh.tin().plan_area, sum(a * b for a, b in sizes), places=5)

    def test_edges_that_differ_in_one_end_are_others(self):
        """Two tetrahedra that have a corner in common and one with a side left out."""
        corners = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [-1, 0, 0], [0, -1, 0], [0, 0, -1]])
        one = [[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]]
        other = [[0, 4, 5], [0, 6, 4], [0, 5, 6], [4, 6, 5]]
        mesh = lambda cells: TriangleMesh(corners, np.array(cells, np.int32))  # noqa: E731
        self.assertTrue(mesh(one + other).closed)
        for lost in range(8):
            self.assertFalse(mesh([c for k, c in enumerate(one + other) if k != lost]).closed)
        self.assertAlmostEqual(mesh(one).volume, 1 / 6)
        self.assertAlmostEqual(mesh(one + other).volume, 1 / 3, places=9)
        plate = mesh([[0, 1, 2], [0, 2, 1]])
        self.assertEqual((plate.closed, plate.volume, plate.senses.tolist()), (True, 0.0, [1]))
        with self.assertRaises(InputError):
            mesh([[0, 1, 3]]).tin()
        self.assertEqual(len(joined([]).vertices), 0)
        self.assertEqual([(e.first, e.count) for e in joined([mesh(one), mesh(other)]).elements], [(0, 4), (4, 4)])

    def test_many_small_triangles_far_off(self):
        ball = trimesh.creation.icosphere(subdivisions=3, radius=0.05)
        at = np.array([583_211.37, 5_812_345.61, 71.23])
        mesh = TriangleMesh(np.array(ball.vertices) + at, np.array(ball.faces, np.int32))
        self.assertTrue(mesh.closed)
        for lost in range(0, len(mesh.triangles), 53):
            self.assertFalse(TriangleMesh(mesh.vertices, np.delete(mesh.triangles, lost, axis=0)).closed)
        self.assertAlmostEqual(mesh.volume / ball.volume, 1.0, places=5)
        self.assertAlmostEqual(mesh.surface_area / ball.area, 1.0, places=5)
        cap = mesh.tin()
        self.assertTrue((cap.plan_areas > 0).all())
        self.assertAlmostEqual(cap.plan_area / (np.pi * 0.05**2), 1.0, delta=0.02)
        self.assertGreater(cap.points[:, 2].min(), at[2] - 0.06)
        upside = TriangleMesh(mesh.vertices, mesh.triangles[:, [0, 2, 1]]).tin()
        self.assertAlmostEqual(upside.plan_area, cap.plan_area, places=9)

    def test_what_is_closed(self):
        box = solid()
        flipped = box.triangles.copy()
        flipped[3] = flipped[3][[0, 2, 1]]
        self.assertFalse(TriangleMesh(box.vertices, flipped).closed, "edges run twice the same way")
        double = np.concatenate([box.triangles, box.triangles])
        self.assertTrue(TriangleMesh(box.vertices, double).closed)
        flat = np.array([[0, 0, 1]], np.int32)
        self.assertTrue(
            TriangleMesh(box.vertices, np.concatenate([box.triangles, flat])).closed, "a line has no edges of its own"
        )
        self.assertFalse(TriangleMesh(box.vertices, np.array([[0, 0, 0]], np.int32)).closed)
