"""What a figure must not be fooled by: strays, flags, names, systems, bodies turned inside out, far vertices."""

import unittest
import warnings

import laspy
import numpy as np
import pyproj

from kerb.core.cloud.ground import GroundSettings, ground
from kerb.core.cloud.heights import heights
from kerb.core.cloud.lone import lone
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.rigid import Rigid
from kerb.core.place_check import Site, check
from kerb.core.placing import Placing, route, suggested
from kerb.core.progress import silent
from kerb.core.reference import ReferenceSystem, from_text, local_grid, unfit
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.things import SURFACE, Placed, moved, relocated
from kerb.core.units import METRE
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, circle, frustum, jittered, measured, store_of

FRUSTUM = np.pi * 6 / 3 * (100 + 40 + 16)


def heap(step=0.2):
    xy = jittered(14, step, 8)
    return np.column_stack([xy, frustum(xy)]) + FAR


class Strays(unittest.TestCase):
    def test_single_points_far_off_are_left_out_named_and_can_be_counted(self):
        ring = circle(10.4, 36) + FAR[:2]
        clean = measured(store_of(heap()), ring).value("net")
        for off in (-500.0, 2.0):
            points = heap()
            middle = np.argsort(np.hypot(*(points[:, :2] - FAR[:2]).T))[[0, 40]]
            points[middle, 2] += off
            outcome = measured(store_of(points), ring)
            self.assertAlmostEqual(outcome.value("net") / clean, 1.0, places=3)
            words = next(note.text for note in outcome.warnings if note.code == "stray")
            self.assertIn("2 stray points", words)
            self.assertIn("below" if off < 0 else "above", words)
            counted = measured(store_of(points), ring, strays="counted")
            # Each moves the prisms round it: a third of its height over some six triangles of half a cell each.
            self.assertAlmostEqual(counted.value("net") - clean, 2 * off * 0.04, delta=abs(off) * 0.05)

    def test_steep_sides_poles_and_walls_are_no_strays(self):
        rng = np.random.default_rng(2)
        xy = jittered(6, 0.1, 2)
        for tall in (1.0, 4.0):
            slope = np.column_stack([xy, tall * xy[:, 0]])
            self.assertFalse(lone(slope, 0.1, 0.6).any())
        flat = np.column_stack([xy, np.zeros(len(xy))])
        pole = np.column_stack([rng.normal(0, 0.05, (60, 2)), rng.uniform(0, 6, 60)])
        self.assertFalse(lone(np.concatenate([flat, pole]), 0.1, 0.6).any())
        self.assertFalse(lone(np.empty((0, 3)), 0.1, 0.6).any())
        bird = np.concatenate([flat, [[1.0, 1, 9], [1.1, 1, 9], [2, 2, -3], [2.1, 2, -3], [2.1, 2.1, -3.2]]])
        self.assertEqual(np.flatnonzero(lone(bird, 0.1, 0.6)).tolist(), list(range(len(flat), len(flat) + 5)))

    def test_a_flock_is_no_stray_and_coarse_clouds_have_none_of_their_own(self):
        xy = jittered(6, 0.1, 2)
        flat = np.column_stack([xy, np.zeros(len(xy))]) + FAR
        # Six points 5 m up on both sides of the border of a cell: three in each, but six within reach of one another.
        low = flat[:, :2].min(axis=0)
        border = low[0] + 20 * 0.4
        spread = np.array([-0.1, -0.15, -0.2, 0.1, 0.15, 0.2])
        flock = np.column_stack([border + spread, np.full(6, low[1] + 4.6), np.full(6, FAR[2] + 5.0)])
        self.assertFalse(lone(np.concatenate([flat, flock]), 0.1, 0.6).any())
        self.assertEqual(np.flatnonzero(lone(np.concatenate([flat, flock[:2]]), 0.1, 0.6)).tolist(), [len(flat), len(flat) + 1])
        rng = np.random.default_rng(9)
        for spacing in (0.05, 0.5, 2.0):
            places = rng.uniform(-60 * spacing, 60 * spacing, (14_400, 2))
            hill = np.column_stack([places, 0.7 * np.hypot(*places.T)]) + FAR
            self.assertFalse(lone(hill, spacing, 0.6).any(), spacing)
            alone = rng.choice(len(hill), 5, replace=False)
            hill[alone, 2] += rng.choice([-1, 1], 5) * rng.uniform(20, 40, 5) * max(spacing, 0.6)
            self.assertEqual(np.flatnonzero(lone(hill, spacing, 0.6)).tolist(), sorted(alone.tolist()))
            scaled = lone(hill / 0.3048, spacing / 0.3048, 0.6 / 0.3048)
            self.assertEqual(np.flatnonzero(scaled).tolist(), sorted(alone.tolist()))

    def test_the_place_check_is_not_fooled_by_two_of_them(self):
        rng = np.random.default_rng(1)
        here = np.column_stack([rng.uniform(0, 100, (4000, 2)), rng.normal(5, 0.1, 4000)]) + FAR
        there = here + [400.0, 0, 0]
        for strays in (0, 2):
            moved = there.copy()
            moved[:strays] = here[:strays] - [900.0, 300, 0]
            found = check(Site(moved, local_grid(METRE)), Site(here, local_grid(METRE)))
            self.assertAlmostEqual(found.apart, 300.0, delta=2.0)
            self.assertLess(found.overlap, 0.01)
        few = Site(here[:20], local_grid(METRE))
        np.testing.assert_array_equal(few.bounds[0], here[:20].min(axis=0), "of a few points every one counts")


class Systems(CommandLine):
    def las(self, name, points, system=None, **dims):
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [1e-3] * 3, np.floor(points.mean(axis=0))
        if system:
            header.add_crs(pyproj.CRS.from_user_input(system))
        for key, values in dims.items():
            if key not in header.point_format.dimension_names:
                header.add_extra_dim(laspy.ExtraBytesParams(key, values.dtype))
        las = laspy.LasData(header)
        las.x, las.y, las.z = points.T
        for key, values in dims.items():
            las[key] = values
        las.write(self.folder / name)
        return self.folder / name

    def toe(self):
        path = self.folder / "toe.csv"
        path.write_text("\n".join(f"{x},{y}" for x, y in circle(10.4, 36) + FAR[:2]))
        return path

    def net(self, cloud, *words):
        found = self.json("stockpile", cloud, "--toe", self.toe(), *words)
        return found["figures"]["net"]["value"], {note["code"]: note["text"] for note in found["warnings"]}

    def test_geocentric_and_unnamed_degrees_are_refused_in_words(self):
        change = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4978", always_xy=True)
        centred = np.column_stack(change.transform(*heap().T))
        value, notes = self.net(self.las("centred.las", centred, "EPSG:4978"))
        self.assertIsNone(value)
        self.assertIn("geocentric", notes)
        for verb in ("ground", "heights"):
            status, _ = self.kerb(verb, self.folder / "centred.las", "--out", self.folder / f"{verb}.las")
            self.assertEqual(status, 2)
            self.assertIn("geocentric", self.error)
        change = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4326", always_xy=True)
        east, north, up = heap().T
        degrees = self.folder / "degrees.xyz"
        np.savetxt(degrees, np.column_stack([*change.transform(east, north), up]), fmt="%.9f")
        _, text = self.kerb("info", degrees)
        self.assertIn("degrees", text)
        value, notes = self.net(degrees)
        self.assertIsNone(value)
        self.assertIn("degrees", notes)

    def test_what_is_refused_and_what_not(self):
        low, high = np.array([9.0, 52.0, 100.0]), np.array([9.001, 52.001, 120.0])
        self.assertIn("degrees", unfit(ReferenceSystem(), low, high))
        self.assertEqual(unfit(ReferenceSystem(), low, np.array([29.0, 72.0, 120.0])), "", "a room in metres")
        self.assertEqual(unfit(from_text("EPSG:25832"), low, high), "")
        self.assertIn("degrees", unfit(from_text("EPSG:4326")))
        self.assertIn("geocentric", unfit(from_text("EPSG:4978")))
        with self.assertRaises(InputError):
            ground(store_of(np.column_stack([jittered(1, 0.1) * 1e-4, np.arange(400) % 7]) + 9), GroundSettings(), silent())
        with self.assertRaises(InputError):
            heights(store_of(np.column_stack([jittered(1, 0.1) * 1e-4, np.arange(400) % 7]) + 9), (2,), silent())

    def test_a_base_cloud_of_the_next_zone_is_brought_over(self):
        change = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:25831", always_xy=True)
        flat = jittered(16, 0.5) + FAR[:2]
        moved = np.column_stack([*change.transform(*flat.T), np.full(len(flat), FAR[2] - 0.5)])
        base = self.las("base.las", moved, "EPSG:25831")
        value, notes = self.net(self.las("heap.las", heap(), "EPSG:25832"), "--base", "surface", "--base-surface", base)
        area = 36 / 2 * 10.4**2 * np.sin(2 * np.pi / 36)
        self.assertAlmostEqual(value, FRUSTUM + 0.5 * area, delta=3.0)
        self.assertIn("UTM zone 32N", notes["crs-transformed"])

    def test_of_several_ways_the_most_accurate_for_the_place(self):
        """EPSG lists ways from ED50 to WGS 84 for many countries; PROJ says how good each is (5 m here, 1 m there)."""
        source, target = from_text("EPSG:23031"), from_text("EPSG:4326")
        lisbon = suggested(from_text("EPSG:23029"), from_text("EPSG:25829"), METRE, (490_000.0, 4_290_000.0))
        self.assertAlmostEqual(lisbon.at[0], -9.1, delta=0.2)
        self.assertAlmostEqual(lisbon.at[1], 38.8, delta=0.2)
        near = route(source, target, at=(2.0, 41.5))
        box = pyproj.aoi.AreaOfInterest(1.9, 41.4, 2.1, 41.6)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # grids that are not installed
            group = pyproj.transformer.TransformerGroup(23031, 4326, always_xy=True, area_of_interest=box)
        ways = [way for way in group.transformers if way.accuracy is not None and way.accuracy >= 0]
        self.assertGreater(len(ways), 1)
        self.assertEqual(near.accuracy, min(t.accuracy for t in ways))

    def test_withheld_points_count_for_nothing_and_are_told(self):
        points, flag = heap(), np.zeros(len(heap()), np.uint8)
        flag[::20] = 1
        points[::20, 2] += 0.4  # too little to be a stray
        value, notes = self.net(self.las("flagged.las", points, "EPSG:25832", withheld=flag))
        self.assertAlmostEqual(value / FRUSTUM, 1.0, delta=0.004)
        self.assertIn(f"{flag.sum()} points", notes["withheld"])

    def test_a_dimension_named_elevation_is_no_elevation(self):
        own = self.las("own.las", heap(), "EPSG:25832", elevation=np.full(len(heap()), 7.0), part=np.full(len(heap()), 3.0))
        value, _ = self.net(own)
        self.assertAlmostEqual(value / FRUSTUM, 1.0, delta=0.004)
        out = self.folder / "again.csv"
        self.assertEqual(self.kerb("convert", own, out)[0], 0, self.error)
        self.assertIn("elevation of file", out.read_text().splitlines()[0])

    def test_classes_of_a_cloud_that_has_none_are_refused(self):
        path = self.folder / "plain.xyz"
        np.savetxt(path, heap(), fmt="%.3f")
        value, notes = self.net(path, "--classes", "2")
        self.assertIsNone(value)
        self.assertIn("no classes", notes["not-determinable"])
        with self.assertRaises(NotDeterminable):
            Scope(classes=(2,)).of(_without_classes())

    def test_numbers_of_a_table_come_back_as_what_they_were(self):
        n = len(heap())
        kinds = {
            "classification": np.full(n, 2, np.uint8), "intensity": np.arange(n).astype(np.uint16) % 60_000,
            "return_number": np.full(n, 1, np.uint8), "number_of_returns": np.full(n, 2, np.uint8),
            "synthetic": (np.arange(n) % 2).astype(np.uint8), "scan_angle": (np.arange(n) % 200 - 100).astype(np.int16),
            "gps_time": np.linspace(0, 1, n), "order": np.arange(n, dtype=np.int64) + 2**53 + 1,
            "share": np.linspace(-1, 1, n),
        }  # fmt: skip
        first = self.las("first.las", heap(), "EPSG:25832", **kinds)
        table, last = self.folder / "table.csv", self.folder / "last.las"
        self.assertEqual(self.kerb("convert", first, table)[0], 0, self.error)
        self.assertEqual(self.kerb("convert", table, last)[0], 0, self.error)
        before, after = laspy.read(first), laspy.read(last)
        one, two = (np.lexsort(np.array(las.xyz).T) for las in (before, after))
        for name in kinds:
            self.assertEqual(np.asarray(after[name]).dtype, np.asarray(before[name]).dtype, name)
            np.testing.assert_allclose(
                np.asarray(after[name])[two], np.asarray(before[name])[one], rtol=0, atol=1e-6, err_msg=name
            )
        self.assertEqual(self.kerb("ground", table, "--out", self.folder / "ground.las")[0], 0, self.error)


def _without_classes():
    class Bare:
        def has(self, _name):
            return False

    return Bare()


class NeverThinned(unittest.TestCase):
    def test_an_elevation_grid_keeps_every_cell_when_it_is_moved_or_written(self):
        z = np.random.default_rng(1).normal(0, 1, (1100, 1000)).astype(np.float32)
        item = Placed(SURFACE, ElevationGrid(z, (1.0, 0.0, 5e5, 0.0, -1.0, 5.8e6)), from_text("EPSG:25832"))
        changed = relocated(item, Placing("transform", item.reference, from_text("EPSG:25833")))
        self.assertEqual(len(changed.thing.vertices), z.size)
        self.assertEqual(len(changed.thing.triangles), 2 * 1099 * 999)
        self.assertEqual(len(moved(item, Rigid.turned(0.0, np.zeros(3), np.array([1.0, 2.0, 3.0]))).thing.vertices), z.size)
