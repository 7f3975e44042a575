"""Sections of their own: where they lie and how they are moved; corners, faces and outlines in them, by closed forms."""

import json
import unittest
from dataclasses import asdict, replace

import numpy as np
import shapely

from kerb.core.cloud.face import face_of
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.section.corner import corner
from kerb.core.section.frame import Frame
from kerb.core.section.outlines import outlines
from kerb.core.section.placed import ACROSS, DOWN, FACE, LEVEL, PlacedSection, between, normal_of, square_to
from kerb.core.units import FOOT, METRE
from kerb.draw.ortho import ortho
from kerb.draw.scene import CloudLayer, Scene
from kerb.job import sections
from kerb.job.dimensions import dimension
from kerb.job.job import Job
from kerb.job.state import JobState
from tests.support import FAR, Folder, near, store_of

FEET = 0.3048


class Placed(unittest.TestCase):
    def section(self, **values):
        return PlacedSection(**{"id": "s", "name": "One", "middle": tuple(FAR.tolist()), "azimuth": 30.0, "width": 20.0,
                                "thickness": 0.5} | values)  # fmt: skip

    def test_offsets_distances_and_elevations(self):
        one = self.section(azimuth=90.0)  # looks east: south is at the right
        near(one.local(FAR + [[2.0, -3.0, 1.5]]), [[3.0, 2.0, 101.5]], atol=1e-9)
        near(one.ends, [[FAR[0], FAR[1] + 10], [FAR[0], FAR[1] - 10]], atol=1e-9)
        near(one.band(), FAR[:2] + [[-0.25, 10], [-0.25, -10], [0.25, -10], [0.25, 10]], atol=1e-9)
        series = Frame(0.0, one.middle[:2], np.pi / 2, one.width, one.thickness)
        near(series.local(FAR + [[2.0, -3.0, 1.5]]), one.local(FAR + [[2.0, -3.0, 1.5]]), atol=1e-9)
        level = self.section(azimuth=0.0, tilt=DOWN)
        near(level.local(FAR + [[2.0, -3.0, 1.5]]), [[2.0, -1.5, -3.0]], atol=1e-9)
        near(np.ptp(level.band(), axis=0), [20.0, 20.0], atol=1e-9)

    def test_between_two_picks_of_a_body(self):
        one = between(FAR, FAR + [3.0, 4.0, 1.0], 12.0)
        self.assertEqual((one.thickness, one.width, one.tilt), (5.0, 12.0, 0.0))
        near(one.local(np.array([FAR, FAR + [3, 4, 1.0]]))[:, 1], [-2.5, 2.5], atol=1e-9)
        floor = between(FAR, FAR + [0.1, 0.0, 3.0], 12.0)
        self.assertEqual((floor.tilt, floor.thickness), (DOWN, 3.0))
        self.assertAlmostEqual(floor.middle[2], FAR[2] + 1.5)
        with self.assertRaisesRegex(NotDeterminable, "same place"):
            between(FAR, FAR, 1.0)

    def test_square_to_a_wall(self):
        """A wall that runs to azimuth 60°; its outside looks to azimuth 150°."""
        rng = np.random.default_rng(4)
        along, out = (np.array([np.sin(a), np.cos(a), 0.0]) for a in np.radians([60.0, 150.0]))
        points = FAR + rng.uniform(-1, 1, (400, 1)) * along + rng.uniform(0, 2, (400, 1)) * [0, 0, 1.0]
        points += rng.normal(0, 0.004, (400, 1)) * out
        normal = normal_of(points, towards=out)
        self.assertGreater(normal @ out, np.cos(np.radians(0.5)))
        near(normal_of(points, towards=-out), -normal)
        across = square_to(FAR, out, ACROSS, (8.0, 0.2))
        near(across.axes[0], out, atol=1e-9)
        face = square_to(FAR, out, FACE, (8.0, 0.2))
        near(face.axes[2], -out, atol=1e-9)
        near(square_to(FAR, out, LEVEL, (8.0, 0.2)).axes[2], [0, 0, -1], atol=1e-9)
        self.assertEqual(square_to(FAR, np.array([0.01, 0.02, 1.0]), ACROSS, (8.0, 0.2)).azimuth, 0.0, "level ground")
        for some, words in ((points[:5], "too few"), (FAR + np.outer(np.arange(9), along), "along a line")):
            with self.assertRaisesRegex(NotDeterminable, words):
                normal_of(some, towards=out)


def kerb(rng, n, noise, scale=1.0):
    """A road with a fall of 2.5 % to a kerb 125 mm high, face leaning back 75 mm, and a footway: (n, 2). Sizes as road
    authorities draw them, from memory (common practice)."""
    line = np.array([[-0.6, 0.015], [0.0, 0.0], [0.075, 0.125], [0.6, 0.14]])
    lengths = np.hypot(*np.diff(line, axis=0).T)
    at = rng.uniform(0, lengths.sum(), n)
    done = np.concatenate([[0.0], np.cumsum(lengths)])
    xz = np.column_stack([np.interp(at, done, line[:, k]) for k in (0, 1)]) + rng.normal(0, noise, (n, 2))
    return xz / scale


class Corners(unittest.TestCase):
    def test_flow_line_and_edge_of_a_kerb(self):
        """Mean and spread of what is found over fifty draws of noise of 3 mm: the corner is right to a millimetre or two."""
        rng = np.random.default_rng(11)
        for scale in (1.0, FEET):
            for true, angle in (((0.0, 0.0), 60.5), ((0.075, 0.125), 57.4)):
                found = []
                for _ in range(50):
                    points = kerb(rng, 1200, 0.003, scale) - np.array(true) / scale
                    found.append(corner(points[np.hypot(*points.T) < 0.1 / scale], 0.1 / scale))
                places = np.array([one.place for one in found]) * scale
                near(places.mean(axis=0), [0, 0], atol=0.0015)
                self.assertLess(places.std(axis=0).max(), 0.003)
                self.assertAlmostEqual(np.mean([one.angle for one in found]), angle, delta=1.5)

    def test_what_is_no_corner(self):
        rng = np.random.default_rng(3)
        straight = np.column_stack([np.linspace(-1, 1, 200), rng.normal(0, 0.01, 200)])
        with self.assertRaisesRegex(NotDeterminable, "along one line"):
            corner(straight, 1.0)
        with self.assertRaisesRegex(NotDeterminable, "needs 10"):
            corner(straight[:9], 1.0)
        far = np.concatenate([np.column_stack([np.linspace(-1, 1, 90), np.full(90, 0.1)]),
                              np.column_stack([np.linspace(-1, 1, 90), np.linspace(-0.25, -0.1, 90)])])  # fmt: skip
        with self.assertRaisesRegex(NotDeterminable, "outside"):
            corner(far, 1.0)


def sheets(rng, offsets, noise, normal=(0.6, 0.7, 0.2), n=300):
    """A face as several setups saw it, each shifted along its normal and over a part of its own."""
    normal = np.array(normal) / np.linalg.norm(normal)
    side = np.cross(normal, [0, 0, 1.0])
    up = np.cross(side, normal)
    points, sources = [], []
    for number, away in enumerate(offsets, 1):
        u, v = rng.uniform(0.3 * number, 2 + 0.3 * number, n), rng.uniform(0, 1.5, n)
        points.append(FAR + np.outer(u, side) + np.outer(v, up) + np.outer(away + rng.normal(0, noise, n), normal))
        sources += [number] * n
    return np.concatenate(points), np.array(sources), normal


class Faces(unittest.TestCase):
    def test_distances_of_known_setups(self):
        rng = np.random.default_rng(5)
        points, sources, normal = sheets(rng, (0.0, 0.004, -0.007), 0.002, n=4000)
        for unit in (1.0, FEET):
            found = face_of(points / unit, sources)
            self.assertGreater(found.normal @ normal, 1 - 1e-6)
            wanted = {(1, 2): 0.004, (1, 3): -0.007, (2, 3): -0.011}
            self.assertEqual({(p.one, p.other) for p in found.pairs}, set(wanted))
            for pair in found.pairs:
                self.assertAlmostEqual(pair.distance * unit, wanted[pair.one, pair.other], delta=0.0004)
            self.assertEqual(found.counts, {1: 4000, 2: 4000, 3: 4000})
            near(np.array(list(found.spreads.values())) * unit, [0.002] * 3, atol=0.0002)

    def test_which_way_the_normal_points(self):
        """Up; of a wall that is not quite upright to the north; of one that runs north to the east."""
        rng = np.random.default_rng(9)
        for normal, wanted in (
            ((0, -1, 0.004), (0, 1, 0)), ((0, 0.3, -1), (0, -0.29, 0.96)), ((-1, 0.01, 0.01), (1, 0, 0)),
        ):  # fmt: skip
            points, sources, _ = sheets(rng, (0.0, 0.01), 0.002, normal)
            near(face_of(points, sources).normal, wanted, atol=0.02)

    def test_the_bound_holds(self):
        """Ninety-five of a hundred, by 400 simulated faces that both setups saw whole."""
        rng = np.random.default_rng(6)
        inside = 0
        for _ in range(400):
            plain = rng.uniform(0, 2, (500, 3)) * [1, 1, 0]
            plain[:, 2] = rng.normal(0, 0.003, 500)
            sources = np.arange(500) % 2
            plain[sources == 1, 2] += 0.005
            (pair,) = face_of(plain + FAR, sources).pairs
            inside += abs(pair.distance - 0.005) <= pair.u95
        self.assertTrue(0.92 <= inside / 400 <= 0.98, inside)

    def test_what_cannot_be_compared(self):
        rng = np.random.default_rng(8)
        points, sources, _ = sheets(rng, (0.0, 0.01), 0.002)
        with self.assertRaisesRegex(NotDeterminable, "1 setup or strip has 20 points"):
            face_of(points, np.where(np.arange(len(points)) < len(points) - 19, 1, 2))
        with self.assertRaisesRegex(NotDeterminable, "flat face"):
            face_of(rng.uniform(0, 1, (400, 3)), sources[:400])


class Outlines(unittest.TestCase):
    def test_a_room_and_a_column(self):
        """Walls 0.3 thick round a room of 6 × 4, and a column 0.5 across in it."""
        rng = np.random.default_rng(9)
        xy = rng.uniform(0, [6, 4], (60_000, 2))
        wall = (np.abs(xy - [3, 2]) > [2.7, 1.7]).any(axis=1)
        column = np.hypot(*(xy - [2.0, 1.5]).T) < 0.25
        specks = np.array([[4.5, 2.0]])
        for unit in (1.0, FEET):
            room, pillar = outlines(np.concatenate([xy[wall | column], specks]) / unit + FAR[:2], 0.06 / unit)
            self.assertEqual(len(room.interiors), 1)
            inner = shapely.Polygon(room.interiors[0])
            near(np.array(room.bounds) * unit - np.tile(FAR[:2], 2) * unit, [0, 0, 6, 4], atol=0.07)
            self.assertAlmostEqual(inner.area * unit**2, 5.4 * 3.4, delta=0.6)
            near((np.array(pillar.centroid.coords[0]) - FAR[:2]) * unit, [2.0, 1.5], atol=0.03)
            self.assertAlmostEqual(np.sqrt(pillar.area * unit**2 / np.pi), 0.25, delta=0.06)

    def test_refusals(self):
        with self.assertRaisesRegex(NotDeterminable, "no point"):
            outlines(np.empty((0, 2)), 0.1)
        with self.assertRaisesRegex(InputError, "must be above zero"):
            outlines(np.zeros((3, 2)), 0.0)
        with self.assertRaisesRegex(InputError, "the most is"):
            outlines(np.array([[0, 0], [1e5, 1e5]]), 0.01)


class OfAJob(Folder):
    """Sections as a job keeps them, and what is taken out of a cloud of it."""

    def setUp(self):
        super().setUp()
        self.rng = np.random.default_rng(12)
        self.job = Job.create(self.folder / "a.kerb")
        self.one = PlacedSection("", "", tuple((FAR + [5, 5, 1]).tolist()), 30.0, 6.0, 0.8)

    def put(self, section, words="put"):
        self.job.execute(sections.put(section, words))
        return self.job.state.section(section.id)

    def test_kept_in_file_and_journal(self):
        first = self.put(sections.named(self.job.state, self.one))
        second = self.put(sections.named(self.job.state, self.one))
        self.assertEqual([first.name, second.name], ["Section 1", "Section 2"])
        self.assertNotEqual(first.id, second.id)
        self.put(replace(first, width=9.5))
        self.job.execute(sections.copied(self.job.state, second, 2, -1.5))
        self.assertEqual([s.name for s in self.job.state.sections], ["Section 1", "Section 2", "Section 2 (2)", "Section 2 (3)"])
        self.job.execute(sections.removed(second))
        wanted = self.job.state.sections
        self.assertEqual(JobState.from_json(json.loads(json.dumps(self.job.state.to_json()))).sections, wanted)
        self.job.flush()
        self.assertEqual(Job.open(self.job.folder, recover=True).state.sections, wanted)
        self.job.save()
        self.assertEqual(Job.open(self.job.folder).state.sections, wanted)
        for _ in range(3):
            self.job.undo()
        self.assertEqual(self.job.state.sections, (first, second))
        for wrong in ({"middle": [1.0, 2.0]}, {"azimuth": "north"}, {"width": float("nan")}, {"thickness": -1.0}):
            with self.assertRaises(ValueError):
                JobState.from_json({"title": {}, "holdings": [], "studies": [], "sections": [{**asdict(first), **wrong}]})

    def test_points_in_the_slice_by_brute_force(self):
        points = FAR + self.rng.uniform(0, [10, 10, 3], (20_000, 3))
        for unit in (METRE, FOOT):
            store = store_of(points / unit.metres, unit)
            xyz = store.coordinates(slice(0, store.count))
            shown = np.arange(store.count) % 3 > 0
            for azimuth, tilt in ((30.0, 0.0), (200.0, 0.0), (0.0, 90.0), (40.0, -90.0)):
                middle = tuple((np.array(self.one.middle) / unit.metres).tolist())
                one = replace(
                    self.one, middle=middle, azimuth=azimuth, tilt=tilt, width=6 / unit.metres, thickness=0.8 / unit.metres
                )
                local = np.abs(one.local(xyz))
                wanted = (local[:, 0] <= one.width / 2) & (local[:, 1] <= one.thickness / 2) & shown
                if tilt:
                    wanted &= local[:, 2] <= one.width / 2
                self.assertGreater(wanted.sum(), 300)
                np.testing.assert_array_equal(one.inside(store) & shown, wanted)
            near(one.job(one.local(xyz)[:, [0, 2]]) + one.local(xyz)[:, 1:2] * one.axes[2], xyz, atol=1e-6)
        upright = replace(self.one, tilt=0.0)
        near(upright.job(np.array([[0.0, FAR[2] + 7.0]])), [np.array(upright.middle) * [1, 1, 0] + [0, 0, FAR[2] + 7]])

    def test_setups_are_told_apart_and_named(self):
        n = 900
        xyz = FAR + np.column_stack([self.rng.uniform(0, 3, (n, 2)), self.rng.normal(0, 0.002, n)])
        source = np.arange(n) % 3
        xyz[source == 2, 2] += 0.02
        store = store_of(xyz)
        every = np.ones(store.count, bool)
        self.assertEqual(sections.told_apart(store, every), "")
        store.lend("point_source_id", source[np.asarray(store.column("number"))])
        self.assertEqual(sections.told_apart(store, every), "point_source_id")
        self.assertEqual(sections.told_apart(store, np.asarray(store.column("point_source_id")) == 1), "")
        table = sections.compared(store, every, "point_source_id", {1: "West"}, "m")
        found = {row[:2]: row[2] for row in table.rows}
        self.assertEqual(set(found), {("Source 0", "West"), ("Source 0", "Source 2"), ("West", "Source 2")})
        near([found["Source 0", "Source 2"], found["West", "Source 2"], found["Source 0", "West"]], [0.02, 0.02, 0], atol=0.0008)
        self.assertEqual(table.rows[2][:2], ("Source 0", "West"), "the largest first")
        self.assertIn("Z +1.000", table.title)

    def test_dimensions_grow_by_one_a_step(self):
        for n in range(1, 4):
            self.job.execute(dimension(self.job, FAR + np.eye(3) * n, [f"distance {n} m", "slope 1°"]))
        (kept,) = self.job.state.holdings
        thing = self.job.thing(kept).thing
        self.assertEqual((kept.points, [line.name for line in thing.lines]), (3, ["D1", "D2", "D3"]))
        self.assertEqual(thing.fields["measured"][1], "distance 2 m; slope 1°")
        near(thing.lines[2].xyz, FAR + np.eye(3) * 3)
        self.job.undo()
        self.assertEqual(self.job.thing(self.job.state.holdings[0]).thing.count, 2)
        self.assertEqual(self.job.can_undo, "Kept dimension D2: distance 2 m; slope 1°")


class Pictures(unittest.TestCase):
    """A slice drawn to scale: where known points come to lie in the image."""

    def test_places_of_pixels(self):
        marks = np.array([[-3.0, 0.05, 2.0], [2.0, -0.05, 5.5], [0.0, 3.0, 4.0]])
        for unit in (METRE, FOOT):
            one = PlacedSection("", "", tuple((FAR / unit.metres).tolist()), 60.0, 10.0 / unit.metres, 0.4 / unit.metres)
            right, up, look = one.axes
            xyz = FAR / unit.metres + (marks[:, :1] * right + marks[:, 1:2] * look + (marks[:, 2:] - FAR[2]) * up) / unit.metres
            xyz[:, 2] = marks[:, 2] / unit.metres
            scene = Scene([CloudLayer(store_of(xyz, unit))], background=(1, 2, 3))
            pixel = 0.05 / unit.metres
            image, affine = ortho(scene, one, pixel, (0.0, 8.0 / unit.metres))
            self.assertEqual(image.shape[:2], (160, 200))
            rows, columns = np.nonzero((image != [1, 2, 3]).any(axis=2))
            x, y = affine[2] + (columns + 0.5) * affine[0], affine[5] + (rows + 0.5) * affine[4]
            for mark in marks[:2] / unit.metres:
                self.assertLess(np.hypot(x - mark[0], y - mark[2]).min(), 1.5 * pixel)
            far = np.hypot(x - 0.0, y - 4.0 / unit.metres)
            self.assertGreater(far.min(), 1.0 / unit.metres, "what lies outside of the slice is not drawn")
        with self.assertRaisesRegex(InputError, "the most is"):
            ortho(scene, one, 1e-6, (0.0, 8.0))
        with self.assertRaisesRegex(InputError, "above zero"):
            ortho(scene, one, 0.0, (0.0, 8.0))
