import base64
import threading
import unittest
from dataclasses import dataclass
from unittest import mock

import laspy
import numpy as np
import shapely
from scipy.spatial import cKDTree

from kerb.core.arrayfile import loaded
from kerb.core.cloud import builder, partition, spool
from kerb.core.cloud import partition_kernels as kernels
from kerb.core.cloud.builder import build
from kerb.core.cloud.layout import Layout
from kerb.core.cloud.neighbours import NeighbourIndex
from kerb.core.cloud.outgoing import from_store
from kerb.core.cloud.partition import TILE_POINTS
from kerb.core.cloud.sets import PointSets
from kerb.core.cloud.store import CloudStore
from kerb.core.cloud.view import CloudView, Narrowing
from kerb.core.cloud.view_kernels import drop_outside, reference_outside
from kerb.core.errors import Cancelled, JobError, OutputError
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress, silent
from kerb.core.units import FOOT, METRE
from kerb.formats.las_read import LasStream
from kerb.formats.las_write import write_las
from kerb.studies.scope import usable_classes
from tests.support import DATA, FAR, YARD, Folder, jittered, near, store_of

FILES = ("airborne_feet.laz", "airborne_2154.laz", "extrabytes.las", "simple1_1.las", "with_evlr.laz",
         "unregistered_extra_bytes.las", "small.copc.laz")  # fmt: skip


class ArrayFiles(Folder):
    def test_a_fault_of_the_parser_is_tried_again(self):
        """CPython 3.11 may fail in another thread's stead; a file that is really damaged still says so."""
        path = self.folder / "a.npy"
        np.save(path, np.arange(5))
        real, calls = np.load, []

        def shaky(*words, **more):
            calls.append(1)
            if len(calls) < 3:
                raise SystemError("AST constructor recursion depth mismatch")
            return real(*words, **more)

        with mock.patch("numpy.load", shaky):
            np.testing.assert_array_equal(loaded(path), np.arange(5))
        self.assertEqual(len(calls), 3)
        self.assertIsInstance(loaded(path, mapped=True), np.memmap)
        path.write_bytes(b"no array")
        with self.assertRaises(ValueError):
            loaded(path)
        always = mock.patch("numpy.load", side_effect=SystemError("always"))
        with always, self.assertRaisesRegex(ValueError, "a.npy cannot be read"):
            loaded(path)


class RoundTrip(Folder):
    def test_every_dimension_of_every_file_comes_back(self):
        """laspy reads source and copy: each raw field of each point is the same, in every file there is."""
        for name in FILES:
            with self.subTest(name):
                store = build(LasStream(DATA / name), self.folder / name, silent())
                suffix = ".las" if name.endswith(".las") else ".laz"
                out = self.folder / f"copy-{name.split('.')[0]}{suffix}"
                self.assertEqual(write_las(from_store(store), out, silent()), store.count)
                source, copy = laspy.read(DATA / name), laspy.read(out)
                self.assertEqual(copy.header.point_format.id, source.header.point_format.id)
                np.testing.assert_array_equal(copy.header.scales, source.header.scales)
                self.assertEqual(_rows(copy), _rows(source))

    def test_header_records_are_kept(self):
        store = build(LasStream(DATA / "airborne_feet.laz"), self.folder / "a", silent())
        write_las(from_store(store), self.folder / "copy.laz", silent())
        keys = lambda las: sorted((v.user_id, v.record_id) for v in las.header.vlrs if v.record_id != 22204)  # noqa: E731
        self.assertEqual(keys(laspy.read(self.folder / "copy.laz")), keys(laspy.read(DATA / "airborne_feet.laz")))
        self.assertEqual(base64.b64decode(store.meta.details["las_header"])[:4], b"LASF")

    def test_extended_records_are_kept(self):
        store = build(LasStream(DATA / "with_evlr.laz"), self.folder / "a", silent())
        write_las(from_store(store), self.folder / "copy.laz", silent())
        copy = laspy.read(self.folder / "copy.laz")
        self.assertEqual([e.record_data_bytes() for e in copy.evlrs],
                         [e.record_data_bytes() for e in laspy.read(DATA / "with_evlr.laz").evlrs])  # fmt: skip

    def test_failed_write_leaves_nothing(self):
        store = build(LasStream(YARD), self.folder / "a", silent())
        stopped = Progress()
        stopped.stop()
        with self.assertRaises(Cancelled):
            write_las(from_store(store), self.folder / "out.laz", stopped)
        with self.assertRaises(OutputError):
            write_las(from_store(store, lambda: iter([np.empty(0, np.int64)])), self.folder / "none.laz", silent())
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a"])


class Building(Folder):
    def test_tiles_cover_every_point_once(self):
        rng = np.random.default_rng(0)
        dense = rng.normal(0, 0.5, (180_000, 3))
        points = np.concatenate([rng.uniform(-50, 50, (60_000, 3)), dense, [[9e4, 9e4, 0]]]) + FAR
        store = store_of(points, scale=0.001)
        self.assertLessEqual(store.tiles["count"].max(), 2 * TILE_POINTS)
        self.assertEqual(sorted(store.column("number").tolist()), list(range(len(points))))
        for tile in range(len(store.tiles)):
            rows = store.coordinates(store.rows_of(tile))
            self.assertTrue(np.all(rows >= store.tiles["low"][tile] - 1e-9))
            self.assertTrue(np.all(rows <= store.tiles["high"][tile] + 1e-9))
        back = store.coordinates(np.argsort(store.column("number")))
        self.assertLessEqual(np.abs(back - points).max(), 0.00051)

    def test_identical_points_do_not_recurse_for_ever(self):
        store = store_of(np.tile(FAR, (3 * TILE_POINTS, 1)))
        self.assertEqual(store.count, 3 * TILE_POINTS)
        self.assertEqual(store.spacing, 0.0)

    def test_cancel_leaves_nothing(self):
        stop = threading.Event()
        progress = Progress(lambda fraction, _words: stop.set() if fraction > 0.5 else None, stop)
        with self.assertRaises(Cancelled):
            build(LasStream(YARD), self.folder / "cloud", progress)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_opens_only_what_is_whole(self):
        build(LasStream(DATA / "simple1_1.las"), self.folder / "cloud", silent())
        with self.assertRaises(OutputError):
            build(LasStream(YARD), self.folder / "cloud", silent())
        table = np.load(self.folder / "cloud" / "tiles.npy")
        np.save(self.folder / "cloud" / "tiles.npy", table[:0])
        with self.assertRaisesRegex(JobError, "damaged"):
            CloudStore.open(self.folder / "cloud")
        with self.assertRaises(JobError):
            CloudStore.open(self.folder / "nowhere")

    def test_every_value_is_found_however_rare(self):
        """A few points of noise among millions must not count as surface: no look at a sample tells them."""
        rng = np.random.default_rng(5)
        classes = rng.integers(1, 7, 700_000).astype(np.uint8)
        classes[[7, 600_001]] = (18, 0)
        store = store_of(rng.uniform(0, 50, (700_000, 3)), classes=classes)
        self.assertEqual(store.present("classification"), (0, 1, 2, 3, 4, 5, 6, 18))
        self.assertNotIn(18, usable_classes(store))
        store.lend("wide", rng.permutation(np.append(np.zeros(699_999, np.uint16), np.uint16(65_535))))
        self.assertEqual(store.present("wide"), (0, 65_535))
        store.lend("signed", np.arange(700_000) % 3 - 1)
        self.assertEqual(store.present("signed"), (-1, 0, 1))

    def test_progress_goes_forward_to_its_end(self):
        told = []
        with (
            mock.patch.multiple(partition, TILE_POINTS=500, CHUNK=1000),
            mock.patch.multiple(builder, TILE_POINTS=500, CHUNK=1000),
        ):
            build(LasStream(YARD), self.folder / "cloud", Progress(lambda share, text: told.append((share, text))))
        shares = [share for share, _ in told]
        self.assertEqual(shares, sorted(shares))
        self.assertEqual([shares[0], shares[-1]], [0.0, 1.0])
        stages = {text: [share for share, about in told if about == text] for _, text in told}
        self.assertEqual(list(stages), ["Reading points", "Arranging tiles", "Writing columns"])
        count = CloudStore.open(self.folder / "cloud").count
        near(stages["Reading points"], 0.6 * np.arange(0, count, 1000) / count)
        for (low, high), shares in zip(((0, 0.6), (0.6, 0.75), (0.75, 1)), stages.values(), strict=True):
            self.assertTrue(low <= shares[0] <= low + 0.1 and high - 0.1 <= shares[-1] <= high, shares)

    def test_spacing_of_a_lattice_and_a_single_point(self):
        xy = jittered(20, 0.25)
        for unit, scale in ((METRE, 0.001), (FOOT, 0.01)):
            for rise in (0.0, 1.0):
                store = store_of((np.column_stack([xy, rise * xy[:, 0]]) + FAR) / unit.metres, unit, scale)
                apart = store.spacing * unit.metres
                self.assertAlmostEqual(apart, 0.25 * (1 + rise**2) ** 0.25, delta=0.25 * apart)
        one = store_of(FAR[None])
        self.assertEqual((one.count, one.spacing), (1, 0.0))

    def test_what_was_spooled(self):
        """Bounds over all chunks, none for an empty one; each column as wide as it is, wherever it begins to vary."""
        record = np.dtype([("xyz", "<i4", (3,)), ("a", "u1"), ("b", "<f8"), ("c", "<i2", (2,)), ("d", "<f4")])
        split = lambda rows: {name: rows[name] for name in "abcd"}  # noqa: E731
        held = spool.Spool(self.folder / "s", Layout(np.array([0.1, 0.2, 0.3]), np.zeros(3), record, split))
        rng = np.random.default_rng(8)
        chunks = [np.zeros(count, record) for count in (30, 0, 50, 20)]
        for chunk, middle in zip(chunks, ([0, 500, 0], [0] * 3, [-900, 0, 0], [0, 0, 70]), strict=True):
            chunk["xyz"] = rng.integers(-40, 40, (len(chunk), 3)) + middle
            chunk["a"], chunk["b"], chunk["c"], chunk["d"] = 7, np.nan, (2, 3), np.nan
        chunks[2]["c"][13:] = -5, 300
        chunks[3]["b"][3] = 0.25
        whole = np.concatenate(chunks)
        with mock.patch.multiple(spool, CHUNK=11, AT_ONCE=7):
            for chunk in chunks:
                held.add(chunk)
        rows = held.rows()
        self.assertEqual(
            (rows.low.tolist(), rows.high.tolist()), (whole["xyz"].min(axis=0).tolist(), whole["xyz"].max(axis=0).tolist())
        )
        self.assertEqual(rows.scale.tolist(), [0.1, 0.2, 0.3])
        self.assertEqual(
            {name: column.constant for name, column in held.columns.items()},
            {"xyz": False, "a": True, "b": False, "c": False, "d": True},
        )
        self.assertEqual(held.columns["a"].one, 7)
        for column, name in zip((rows.xyz, *rows.others), ("xyz", "b", "c"), strict=True):
            np.testing.assert_array_equal(column.values, whole[name])
            self.assertEqual(column.values.dtype, record[name].base)
            column.put(98, whole[name][:2])
            np.testing.assert_array_equal(column.values, np.concatenate([whole[name][:98], whole[name][:2]]))
        held.close()

    def test_columns_of_one_value_and_those_that_begin_to_vary_late(self):
        """Bits, bytes, scaled and joined dimensions that are the same in most tiles, in all, or vary from the start, against laspy.
        Threads and small tiles: what stood for one value is written into the tiles before."""
        n, rng = 6000, np.random.default_rng(3)
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales = np.full(3, 0.01)
        for name, kind, more in (
            ("normal", "3f4", {}),
            ("depth", "int16", {"scales": np.array([0.1]), "offsets": np.array([5.0])}),
            ("far", "f8", {}),
        ):
            header.add_extra_dim(laspy.ExtraBytesParams(name, kind, **more))
        las = laspy.LasData(header)
        las.x, las.y, las.z = rng.uniform(0, 90, (3, n))
        corner = (las.x > 80) & (las.y > 70)
        las.gps_time = np.arange(n) * 0.25
        las.return_number, las.number_of_returns = np.where(corner, 3, 2), np.full(n, 5)
        las.scanner_channel, las.overlap = np.full(n, 2), corner
        las.user_data, las.scan_angle = np.where(las.x > 89.9, 7, 9), np.full(n, -1234)
        las["normal"] = np.where(corner[:, None], [[0.0, 0.6, 0.8]], [[0.0, 0.0, 1.0]])
        las["depth"], las["far"] = np.where(las.y > 89, 2.5, -1.5), np.where(corner, np.nan, 3.0)
        path = self.folder / "late.las"
        las.write(path)
        with (
            mock.patch.multiple(partition, TILE_POINTS=60, CHUNK=1100),
            mock.patch.multiple(builder, TILE_POINTS=60, CHUNK=1100, KEEP_EVERY=500),
            mock.patch.multiple(spool, CHUNK=700, AT_ONCE=90),
        ):
            store = build(LasStream(path), self.folder / "cloud", silent())
        order = np.round(store.column("gps_time") * 4).astype(int)
        self.assertEqual(sorted(order), list(range(n)))
        read = laspy.read(path)
        near(store.coordinates(slice(None)), read.xyz[order], 1e-9)
        wanted = {name: np.asarray(read[name]) for name in read.point_format.dimension_names if name not in "XYZ"}
        wanted |= {f"normal_{k + 1}": wanted["normal"][:, k] for k in range(3)}
        del wanted["normal"]
        self.assertEqual(set(store.meta.columns), set(wanted))
        for name, values in wanted.items():
            with self.subTest(name):
                np.testing.assert_array_equal(store.column(name), values[order])
                one = len(np.unique(values)) == 1
                self.assertEqual((self.folder / "cloud" / f"{name}.npy").exists(), not one)

    def test_attributes(self):
        store = build(LasStream(DATA / "simple1_1.las"), self.folder / "cloud", silent())
        store.add_attribute("../a/b", "m", np.arange(store.count))
        again = CloudStore.open(self.folder / "cloud")
        np.testing.assert_array_equal(again.column("../a/b"), np.arange(store.count))
        self.assertEqual(again.meta.attributes, {"../a/b": "m"})
        with self.assertRaises(ValueError):
            store.add_attribute("intensity", "", np.zeros(store.count))
        with self.assertRaises(ValueError):
            store.add_attribute("short", "", np.zeros(3))


@dataclass
class InMemory:
    """A column of the partition."""

    values: np.ndarray

    def put(self, at, values):
        self.values[at : at + len(values)] = values


class Arranging(Folder):
    def test_tiles_hold_every_record_once_however_dense_a_place_is(self):
        """Sparse points, a cluster a ten-thousandth as wide, 520 at one place: tiles follow one another, are small in number
        and extent, and keep the order of the file."""
        rng = np.random.default_rng(5)
        parts = rng.integers(0, 10**6, (2000, 3)), 500_000 + rng.integers(0, 100, (3000, 3)), np.full((520, 3), 700_001)
        xyz = np.concatenate(parts).astype(np.int32)
        xyz = xyz[rng.permutation(len(xyz))]
        for scale in (np.full(3, 0.001), np.array([0.001, 0.002, 0.0005])):
            number = np.arange(len(xyz), dtype=np.int32)
            columns = [InMemory(values) for values in (xyz.copy(), number.copy(), number % 251)]
            rows = partition.Rows(columns[0], columns[1:], scale, *partition.bounds_of(xyz))
            with mock.patch.multiple(partition, TILE_POINTS=50, CHUNK=700, MAX_DEPTH=4):
                tiles = partition.arrange(rows, silent())
            sizes = np.array([tile.total for tile in tiles])
            self.assertEqual((sizes.max() <= 100, sizes.min() > 0), (True, True))
            found = np.concatenate([tile.rows() for tile in tiles])
            np.testing.assert_array_equal(np.sort(found), np.arange(len(xyz)))
            came = columns[1].values
            np.testing.assert_array_equal(columns[0].values, xyz[came])
            np.testing.assert_array_equal(columns[2].values, came % 251)
            self.assertEqual(set(came // 700 - number // 700), {0}, "each run stays where it was")
            wide = []
            for tile in tiles:
                own = tile.rows()
                self.assertTrue((np.diff(came[own]) > 0).all())
                wide.append(np.ptp(columns[0].values[own] * scale, axis=0).max() / (10**6 * scale.max()))
            self.assertLess(np.average(wide, weights=sizes), 0.15)
            self.assertLess(np.quantile(wide, 0.4), 1e-4, "the cluster is cut by itself")


class Kernels(unittest.TestCase):
    """Each beside NumPy, with places outside of the cells, which count in the outermost ones."""

    def setUp(self):
        self.rng = np.random.default_rng(2)
        self.xyz = self.rng.integers(-300, 700, (4000, 3)).astype(np.int32) * [1, 2, 1] + [0, 50, -9]

    def test_cells_in_morton_order_and_rows_by_leaves(self):
        low, inverse, depth = np.array([-100, 0, -50]), np.array([8 / 512, 8 / 1024, 8 / 300]), 3
        spread = partition.parted(8)
        self.assertEqual(spread.tolist(), [0, 1, 8, 9, 64, 65, 72, 73])
        cell = np.clip(((self.xyz - low) * inverse).astype(int), 0, 7)
        bits = [(cell[:, axis] >> k & 1) << 3 * k + axis for axis in range(3) for k in range(depth)]
        codes = np.sum(bits, axis=0)
        counts = np.zeros(8**depth, np.int32)
        kernels.count_cells(self.xyz, low, inverse, spread, counts)
        np.testing.assert_array_equal(counts, np.bincount(codes, minlength=8**depth))
        leaf_of = self.rng.integers(0, 9, 8**depth).astype(np.int32)
        own, order = np.zeros(9, np.int64), np.empty(len(self.xyz), np.int32)
        kernels.order_by_leaf(self.xyz, low, inverse, spread, leaf_of, own, order)
        np.testing.assert_array_equal(order, np.argsort(leaf_of[codes], kind="stable"))
        np.testing.assert_array_equal(own, np.bincount(leaf_of[codes], minlength=9))

    def test_bounds_voxels_and_bytes_that_vary(self):
        low, high = np.array([5, 0, -200]), np.array([5, 60, 2000])
        kernels.bounds(self.xyz, low, high)
        np.testing.assert_array_equal(low, np.minimum(self.xyz.min(axis=0), [5, 0, -200]))
        np.testing.assert_array_equal(high, np.maximum(self.xyz.max(axis=0), [5, 60, 2000]))
        few = self.xyz[:200]
        low, inverse, touched = few.min(axis=0) + 40, np.array([0.011, 0.005, 0.012]), np.zeros(9**3, bool)
        kernels.touch_voxels(few, low, inverse, 9, touched)
        a, b, c = np.clip(((few - low) * inverse).astype(int), 0, 8).T
        self.assertEqual(np.flatnonzero(touched).tolist(), np.unique((a * 9 + b) * 9 + c).tolist())
        rows = self.rng.integers(0, 256, (50, 7)).astype(np.uint8) & [0, 1, 3, 255, 128, 16, 0] | [9, 0, 4, 0, 1, 3, 0]
        found = np.zeros(7, np.uint8)
        kernels.mark_varying(rows.astype(np.uint8), rows[-1].astype(np.uint8), found)
        np.testing.assert_array_equal(found, np.bitwise_or.reduce(rows ^ rows[-1], axis=0))

    def test_pieces_are_parted_and_counted(self):
        whole = partition.Pieces(np.array([10, 100, 50]), np.array([3, 0, 4]))
        self.assertEqual((whole.total, whole.rows().tolist()), (7, [10, 11, 12, 50, 51, 52, 53]))
        self.assertEqual(whole.spans(), [slice(10, 13), slice(100, 100), slice(50, 54)])
        for first in range(8):
            for last in range(first, 9):
                self.assertEqual(whole.part(first, last).rows().tolist(), whole.rows().tolist()[first:last])


class Views(Folder):
    def setUp(self):
        super().setUp()
        self.store = build(LasStream(YARD), self.folder / "cloud", silent())
        low, _ = self.store.bounds
        self.ring = np.array([[20.3, 20.1], [80.2, 30.7], [60.9, 90.4], [40.0, 50.0]]) + low[:2]
        self.every = self.store.coordinates(slice(None))

    def test_polygon_and_classes_against_shapely(self):
        classes = self.store.column("classification")
        inside = shapely.contains_xy(shapely.Polygon(self.ring), self.every[:, :2])
        view = CloudView(self.store, Narrowing(ring=self.ring, classes=(2,)))
        self.assertEqual(view.all_rows().tolist(), np.flatnonzero(inside & (classes == 2)).tolist())
        self.assertEqual(view.count(), len(view.points()))

    def test_boxes_to_the_last_step_however_far_they_reach(self):
        """Boxes that end exactly at points, beyond all whole numbers, or nowhere; the store moved and not."""
        some = self.every[[3, 700]]
        for low, high in (
            (some.min(axis=0), some.max(axis=0)), (some[0], some[0]), ([-np.inf] * 3, some[0]), (some[0], [np.inf] * 3),
            (some.min(axis=0) - 1e12, some.max(axis=0) + 1e12), (some[0] + 1e12, some[0] + 2e12), (some[0] - 2e12, some[0] - 1e12),
        ):  # fmt: skip
            for placement in (None, Rigid(shift=(0.5, -0.25, 2.0))):
                self.store.place(placement)
                move = np.zeros(3) if placement is None else np.array(placement.shift)
                box = tuple(np.asarray(low, float) + move), tuple(np.asarray(high, float) + move)
                every = self.store.coordinates(slice(None))
                want = np.all((every >= box[0]) & (every <= box[1]), axis=1)
                self.assertEqual(CloudView(self.store, Narrowing(box=box)).all_rows().tolist(), np.flatnonzero(want).tolist())

    def test_the_kernel_as_the_plain_way(self):
        rng = np.random.default_rng(6)
        xyz = rng.integers(-50, 50, (4000, 3)).astype(np.int32)
        for low, high in (([-10, -20, -30], [10, 0, 40]), ([5, 5, 5], [5, 5, 5]), ([60, 0, 0], [70, 9, 9])):
            keep = rng.random(4000) < 0.7
            plain = keep.copy()
            drop_outside(xyz, np.array(low), np.array(high), keep)
            reference_outside(xyz, np.array(low), np.array(high), plain)
            np.testing.assert_array_equal(keep, plain)

    def test_set_aside_points_do_not_count(self):
        aside = np.zeros(self.store.count, np.uint8)
        aside[::3] = 1
        before = self.store.sets
        self.addCleanup(lambda: self.store.take_sets(before))
        self.store.take_sets(PointSets(aside=self.store.keep_set(aside != 0)))
        self.assertEqual(CloudView(self.store).count(), int((aside == 0).sum()))
        self.assertEqual(CloudView(self.store, Narrowing(with_aside=True)).count(), self.store.count)

    def test_sample_is_fair_and_no_larger_than_asked(self):
        view = CloudView(self.store, Narrowing(ring=self.ring))
        sample, every = view.sample(4000), view.points()
        self.assertLessEqual(len(sample), 4000)
        spread = every.std(axis=0) / np.sqrt(len(sample))
        self.assertTrue(np.all(np.abs(sample.mean(axis=0) - every.mean(axis=0)) < 5 * spread))


class Neighbours(Folder):
    def test_same_as_a_k_d_tree(self):
        rng = np.random.default_rng(4)
        shapes = {
            "terrain": rng.uniform(0, 1, (20_000, 3)) * [100, 80, 2],
            "volume": rng.normal(0, 3, (15_000, 3)),
            "wall": np.column_stack([rng.uniform(0, 200, 9000), rng.normal(0, 0.01, 9000), rng.uniform(0, 9, 9000)]),
            "few": rng.uniform(0, 1, (5, 3)),
        }
        for name, points in shapes.items():
            for planar in (True, False, None):
                with self.subTest(name, planar=planar):
                    moved = points + FAR
                    asked = np.concatenate([moved[:1500] + rng.normal(0, 0.2, (min(1500, len(moved)), 3)), [FAR - 1e4]])
                    for k in (1, 4, 17):
                        distance, index = NeighbourIndex(moved, planar).nearest(asked, k)
                        want, _ = cKDTree(moved).query(asked, k)
                        near(distance, want.reshape(distance.shape), atol=1e-9)
                        known = index >= 0
                        found = np.linalg.norm(moved[index] - asked[:, None], axis=2)
                        near(found[known], distance[known], atol=1e-9)

    def test_radius_and_limit(self):
        rng = np.random.default_rng(5)
        points, asked = rng.uniform(0, 30, (20_000, 3)), rng.uniform(-2, 32, (3000, 3))
        index, tree = NeighbourIndex(points), cKDTree(points)
        offsets, found = index.within(asked, 1.3)
        for i, want in enumerate(tree.query_ball_point(asked, 1.3)):
            self.assertEqual(sorted(found[offsets[i] : offsets[i + 1]].tolist()), sorted(want))
        distance, which = index.nearest(asked, 2, limit=0.4)
        want, _ = tree.query(asked, 2, distance_upper_bound=0.4)
        np.testing.assert_allclose(distance, want)
        self.assertTrue(np.all((which == -1) == np.isinf(distance)))

    def test_refuses_what_cannot_be_searched(self):
        for bad in (np.empty((0, 3)), np.array([[0, 0, np.nan]])):
            with self.assertRaises(ValueError):
                NeighbourIndex(bad)


def _rows(las):
    """All points as sortable bytes, raw fields as they stand in the record."""
    array = las.points.array
    return sorted(array[i].tobytes() for i in range(len(array)))
