"""Bringing into line: known motions undone, pairs against the closed form, what slides is named, units, matrices, files."""

import json
import re
import unittest
from dataclasses import replace

import laspy
import numpy as np
import scipy
from scipy.spatial.transform import Rotation

from kerb.core.align.anyhow import any_start
from kerb.core.align.anyhow_kernels import agreeing, reference_agreeing
from kerb.core.align.closest import HowFit, refined
from kerb.core.align.search import upright_start
from kerb.core.align.targets import PointTarget
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.surface.elevation import ElevationGrid
from kerb.core.surface.tin import triangulate
from kerb.core.things import SURFACE, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.formats.meshes import read_mesh
from kerb.formats.write_things import write_thing
from kerb.studies.align.kind import corrections, motion_of
from kerb.studies.align.pairs import matrix_of, one_left_out, pairs_of, scale_of
from kerb.studies.align.picking import REACH_SPACINGS, with_place
from kerb.studies.align.run import _points, run
from kerb.studies.align.setup import AlignSetup
from kerb.studies.align.typed import forms_of, typed_motion
from kerb.studies.scope import Scope
from tests.below.test_accuracy_beside import rotation
from tests.below.test_cutfill import thing, written
from tests.below.test_target import chequered
from tests.support import DATA, FAR, CommandLine, near, sources_of, store_of


def land(xy):
    return 4 * np.sin(xy[:, 0] / 15) * np.cos(xy[:, 1] / 19) + 0.05 * xy[:, 0]


def ground(rng, n, noise=0.02):
    xy = rng.uniform(-60, 60, (n, 2))
    return np.column_stack([xy, land(xy) + rng.normal(0, noise, n)])


def known(rng, degrees=1.0, shift=0.3):
    return Rigid.of(rotation(rng, degrees), np.zeros(3), rng.uniform(-shift, shift, 3))


def off(found, true):
    """Degrees and length (at the origin) that two motions differ by."""
    rest = found.then(true.inverse())
    angle = np.degrees(np.arccos(np.clip((np.trace(rest.matrix) - 1) / 2, -1, 1)))
    return float(angle), float(np.linalg.norm(rest(np.zeros((1, 3)))[0]))


class Closest(unittest.TestCase):
    def test_one_degree_and_half_a_metre_on_terrain(self):
        """Undone to 0.01° and 5 mm, with a tenth of the ground changed by up to a metre."""
        rng = np.random.default_rng(1)
        for _ in range(2):
            true = known(rng)
            moving = true.inverse()(ground(rng, 60_000))
            heap = np.hypot(moving[:, 0] - 20, moving[:, 1]) < 18
            moving[heap, 2] += 0.8
            found = refined(moving, PointTarget(ground(rng, 90_000)), Rigid(), HowFit(), silent())
            angle, length = off(found.motion, true)
            self.assertLess(angle, 0.01)
            self.assertLess(length, 0.008)
            self.assertTrue(all(one.determined for one in found.directions))
            self.assertLess(found.history[-1], found.history[0])
            self.assertGreater(found.overlap, 0.85)

    def test_bounds_hold(self):
        """Over sixteen fits the error at the middle stays within the largest stated bound at least fourteen times."""
        rng = np.random.default_rng(2)
        hits = 0
        for _ in range(16):
            true = known(rng, 0.3, 0.1)
            found = refined(true.inverse()(ground(rng, 12_000)), PointTarget(ground(rng, 20_000)), Rigid(), HowFit(), silent())
            hits += off(found.motion, true)[1] <= 1.5 * max(one.u95 for one in found.directions)
        self.assertGreaterEqual(hits, 14)

    def test_what_slides_is_named_and_held(self):
        rng = np.random.default_rng(3)

        def corridor(n):
            wall, x, a = rng.integers(0, 4, n), rng.uniform(0, 40, n), rng.uniform(-1, 1, n)
            y = np.where(wall == 0, -1.0, np.where(wall == 1, 1.0, a))
            z = np.where(wall == 2, 0, np.where(wall == 3, 2.5, 1.25 + 1.25 * a))
            return np.column_stack([x, y, z]) + rng.normal(0, 0.004, (n, 3))

        found = refined(corridor(40_000) + [0.3, 0.05, -0.03], PointTarget(corridor(60_000)), Rigid(), HowFit(), silent())
        loose = [one.name for one in found.directions if not one.determined]
        self.assertEqual(loose, ["slide along 90°"])
        near(np.array(found.motion.shift), [0, -0.05, 0.03], 2e-3)
        floor = lambda n: np.column_stack([rng.uniform(0, 30, (n, 2)), rng.normal(0, 0.005, n)])  # noqa: E731
        found = refined(floor(20_000) + [0.2, 0, 0.1], PointTarget(floor(30_000)), Rigid(), HowFit(), silent())
        self.assertEqual(sum(not one.determined for one in found.directions), 3)
        self.assertIn("turn about the vertical", [one.name for one in found.directions if not one.determined])
        near(found.motion.shift[2], -0.1, 1e-3)


class Pairs(unittest.TestCase):
    def test_words_files_and_leaving_one_out(self):
        names, moving, fixed = pairs_of("name,e,n,z,e,n,z\nA,1,2,3,4,5,6\n\nB, 7,8,9, 1,1,1\n1 2 9 4 5 8;")
        self.assertEqual(names, ("A", "B", "P3"))
        near(moving, [[1, 2, 3], [7, 8, 9], [1, 2, 9]])
        near(fixed[1], [1, 1, 1])
        for wrong in ("A,1,2,3\nB,4", "1 2 3 4 5 6; A,x,2,3,4,5,6", "1 2 3 4 5 nan; 1 2 3 4 5 nan"):
            with self.assertRaisesRegex(InputError, "needs a name and six numbers"):
                pairs_of(wrong)
        with self.assertRaisesRegex(InputError, "no such file"):
            pairs_of("nowhere.csv")
        rng = np.random.default_rng(5)
        true = Rigid.of(rotation(rng, 30), FAR, np.array([3.0, 2, 1]))
        places = FAR + rng.uniform(-30, 30, (6, 3))
        wrong = true(places)
        wrong[2] += [0.5, 0, 0]
        left = one_left_out(places, wrong, False)
        near(left[2], 0.5, 1e-6)
        self.assertEqual(int(np.argmax(left)), 2)

    def test_matrices(self):
        rng = np.random.default_rng(6)
        true = Rigid.of(rotation(rng, 40), FAR, np.array([3.0, -2, 1]), 1.00003)
        table = true.table
        places = FAR + rng.uniform(-50, 50, (9, 3))
        near(places @ table[:3, :3].T + table[:3, 3], true(places), 1e-6)
        near(matrix_of(" ".join(map(repr, table.ravel().tolist())))(places), true(places), 1e-6)
        for wrong in ("1 2 3", "a", " ".join(["1"] * 16), " ".join(map(str, np.diag([1, 1, -1, 1]).ravel()))):
            with self.assertRaisesRegex(InputError, "matrix"):
                matrix_of(wrong + " ;")

    def test_motions_in_words(self):
        """Against SciPy's rotations: orders of axes, fixed and its own, axis and angle, scale, about a place or the middle, inverse;
        and each way it is said again gives the same."""
        rng = np.random.default_rng(61)
        places, middle = FAR + rng.uniform(-50, 50, (9, 3)), FAR + [1.0, 2, 3]
        shift = np.array([3.0, -2, 0.5])
        for order in ("zyx", "ZYX", "xzx", "YXZ"):
            turn = Rotation.from_euler(order, [30, -8, 4], degrees=True)
            wanted = turn.apply(places - middle) * (1 + 25e-6) + middle + shift
            near(typed_motion(f"turn {order} 30 -8 4; scale 25, shift 3 -2 0.5", middle)(places), wanted, 1e-8)
            about = " ".join(map(repr, middle.tolist()))
            near(typed_motion(f"about {about} SHIFT 3 -2 0.5 scale 25 turn {order} 30 -8 4")(places), wanted, 1e-6)
            near(typed_motion(f"turn {order} 30 -8 4 scale 25 shift 3 -2 0.5 inverse", middle)(wanted), places, 1e-8)
            for _, text in forms_of(typed_motion(f"turn {order} 30 -8 4; scale 25 shift 3 -2 0.5", middle)).rows[:2]:
                near(typed_motion(text)(places), wanted, 2e-4)
            near(typed_motion(forms_of(typed_motion(f"turn {order} 1 2 3", middle)).rows[2][1])(places),
                 typed_motion(f"turn {order} 1 2 3 inverse", middle)(places), 1e-4)  # fmt: skip
        turned = Rotation.from_rotvec(np.radians(12) * np.array([0.6, 0, 0.8]))
        near(typed_motion("axis 3 0 4 12", middle)(places), turned.apply(places - middle) + middle, 1e-8)
        near(typed_motion("shift 1 0 0")(places), places + [1, 0, 0], 1e-9)
        near(typed_motion("turn zyx 90 0 0")(np.array([[2.0, 0, 1]])), [[0, 2, 1]], 1e-9)
        bare = "; ".join(f"{k} 1 2 {k} 1 3" for k in range(2))
        self.assertEqual(AlignSetup(Scope("a"), Scope("b"), pairs=bare).missing(), ["Pick 1 more pair: three fix a motion."])
        for text, words in (
            ("turn zyx 1 2", "needs three angles"), ("turn zzx 1 2 3", "follows itself"), ("turn Zyx 1 2 3", "order of axes"),
            ("turn zyx 1 2 3 axis 0 0 1 5", "beside another turn"), ("axis 0 0 0 5", "no direction"), ("shove 1 2 3", "none of shift"),
            ("shift 1 2 nan", "a number that is none"), ("scale x", "parts in a million"), ("shift 1 2 3 shift 1 2 3", "twice"),
        ):  # fmt: skip
            with self.assertRaisesRegex(InputError, words):
                typed_motion(text + " ;")
        cloud = store_of(places)
        setup = AlignSetup(Scope("a"), Scope("b"), start="turn zyx 2 0 0; shift 1 0 0", only_start=True)
        found = run(setup, sources_of(None, moving=cloud, to=cloud), silent())
        near([found.value("rotation"), found.value("iterations")], [2.0, 0.0], 1e-9)
        box = np.mean(cloud.bounds, axis=0)
        near(np.array(found.tables["matrix"].rows) @ np.append(box, 1), np.append(box + [1, 0, 0], 1), 1e-6)


class Study(unittest.TestCase):
    def test_far_coordinates_in_two_units(self):
        rng = np.random.default_rng(7)
        for unit in (METRE, FOOT):
            true = Rigid.of(rotation(rng, 0.5), FAR / unit.metres, np.array([0.3, -0.2, 0.1]) / unit.metres)
            fixed = (ground(rng, 40_000) + FAR) / unit.metres
            moving = true.inverse()((ground(rng, 30_000) + FAR) / unit.metres)
            sources = sources_of(store_of(moving, unit, 0.0005), unit, to=store_of(fixed, unit, 0.0005))
            sources.items["moving"] = sources.items["cloud"]
            found = run(AlignSetup(Scope("moving"), Scope("to")), sources, silent())
            motion = motion_of(found)
            near(motion(moving[:50]), true(moving[:50]), 0.01 / unit.metres)
            middle = moving.mean(axis=0)
            shift = true(middle[None])[0] - middle
            near([found.value("shift_e"), found.value("shift_n"), found.value("shift_z")], shift, 0.01 / unit.metres)
            near(
                found.value("rotation"),
                np.degrees(np.linalg.norm(scipy.spatial.transform.Rotation.from_matrix(true.matrix).as_rotvec())),
                0.01,
            )
            (back,) = corrections(found)
            near(back.move(moving[:5]), motion(moving[:5]), 1e-6)
            self.assertEqual((back.words[:9], back.title[:9]), ("moved by ", "Moved by "))

    def test_pairs_are_the_closed_form(self):
        rng = np.random.default_rng(8)
        true = Rigid.of(rotation(rng, 60), FAR, np.array([10.0, 5, 2]))
        places = FAR + rng.uniform(-30, 30, (5, 3))
        other = true(places) + rng.normal(0, 0.01, (5, 3))
        text = "; ".join(" ".join(map(repr, [*a, *b])) for a, b in zip(places.tolist(), other.tolist(), strict=True))
        store = store_of(ground(rng, 500) + FAR)
        sources = sources_of(store, to=store)
        sources.items["moving"] = sources.items["cloud"]
        found = run(AlignSetup(Scope("moving"), Scope("to"), pairs=text), sources, silent())
        turn, rssd = scipy.spatial.transform.Rotation.align_vectors(other - other.mean(axis=0), places - places.mean(axis=0))
        near(motion_of(found).matrix, turn.as_matrix(), 1e-7)
        near(found.value("pairs_rms"), rssd / np.sqrt(5), 1e-6)
        self.assertEqual(found.value("iterations"), 0)
        self.assertEqual(len(found.tables["pairs"].rows), 5)


class Moving(unittest.TestCase):
    def test_a_mesh_that_moves_is_met_evenly(self):
        """Places on its triangles, by their size: their mean is the mesh's, and none lies beside it; a surface goes likewise."""
        corners = np.array([[0.0, 0, 0], [8, 0, 0], [8, 4, 2], [0, 4, 2], [0, 40, 2]]) + FAR
        mesh = TriangleMesh(corners, np.array([[0, 1, 2], [0, 2, 3], [3, 2, 4]], np.int32))
        sources = sources_of(None, METRE, moving=Placed(SURFACE, mesh, local_grid(METRE)))
        places = _points("moving", Scope("moving"), sources, 40_000)
        self.assertEqual(len(places), 10_000)
        sizes, middles = np.array([16 * np.sqrt(1.25)] * 2 + [144.0]), corners[mesh.triangles].mean(axis=1)
        near(places.mean(axis=0), (middles * sizes[:, None]).sum(axis=0) / sizes.sum(), 0.3)
        east, north, up = (places - FAR).T
        near(up, np.minimum(2.0, north / 2), 1e-6)
        self.assertTrue(((east >= 0) & (east <= 8 * (40 - np.maximum(north, 4)) / 36 + 1e-6)).all())
        grid = ElevationGrid(np.array([[5.0, 5, 5], [3, 3, 3], [1, 1, 1]]), (2.0, 0, FAR[0], 0, -2.0, FAR[1] + 6))
        sources = sources_of(None, METRE, moving=Placed(SURFACE, grid, local_grid(METRE)))
        east, north, up = (_points("moving", Scope("moving"), sources, 40_000) - FAR).T
        near(up + FAR[2], north, 1e-6)
        near([east.min(), east.max(), north.min(), north.max()], [1, 5, 1, 5], 0.05)

    def test_no_turn_has_an_upright_axis(self):
        (_, _), (_, text), _ = forms_of(Rigid(shift=(1.0, 2.0, 3.0))).rows
        self.assertIn("axis 0.000000000 0.000000000 1.000000000 0.0000000", text)
        self.assertNotIn("scale", text)


class Scale(unittest.TestCase):
    def test_what_pairs_tell_of_a_scale(self):
        """Its 95 % bound holds 200 ppm in 95 of 100 cases, for three pairs as for eight; feet tell the same."""
        rng = np.random.default_rng(12)
        for many in (3, 8):
            held = 0
            for _ in range(400):
                places = rng.uniform(-20, 20, (many, 3))
                other = Rigid.of(rotation(rng, 40), np.zeros(3), np.ones(3), 1.0002)(places) + rng.normal(0, 0.004, (many, 3))
                change, u95 = scale_of(places + FAR, other)
                held += abs(change - 2e-4) <= u95
            near(held / 400, 0.95, 0.03)
            near(scale_of((places + FAR) / 0.3048, other / 0.3048), [change, u95], 1e-9)


class Verb(CommandLine):
    def test_to_files(self):
        rng = np.random.default_rng(9)
        true = known(rng, 0.5, 0.2)
        fixed, plain = ground(rng, 30_000) + FAR, ground(rng, 25_000)
        two = written(self.folder / "march.las", fixed)
        one = written(self.folder / "may.las", true.inverse()(plain) + FAR)
        out, matrix = self.folder / "aligned.las", self.folder / "m.txt"
        found = self.json("align", one, "--to", two, "--out", out, "--matrix-out", matrix)
        self.assertLess(found["figures"]["rms"]["value"], 0.04)
        moved = np.array(laspy.read(out).xyz)
        near(np.sort(moved[:, 0])[::4000], np.sort(plain[:, 0] + FAR[0])[::4000], 0.02)
        near(np.median(moved[:, 2] - FAR[2] - land(moved[:, :2] - FAR[:2])), 0, 0.003)
        table = np.loadtxt(matrix)
        near(table, np.array(found["tables"]["matrix"]["rows"], float), 1e-4)
        self.assertEqual(len(found["tables"]["directions"]["rows"]), 6)
        xy = ground(rng, 4000)[:, :2]
        boards = triangulate(np.column_stack([xy, land(xy)]) + FAR)
        item = Placed(SURFACE, TriangleMesh(boards.points, boards.triangles), local_grid(METRE))
        write_thing(item, self.folder / "box.ply", silent())
        self.json("align", self.folder / "box.ply", "--to", two, "--start", "shift 0.5 -1 2", "--only-start", "--out",
                  self.folder / "moved.ply")  # fmt: skip
        near(read_mesh(self.folder / "moved.ply").vertices.mean(axis=0), boards.points.mean(axis=0) + [0.5, -1, 2], 1e-3)
        again = self.json("align", out, "--to", two)
        self.assertLess(again["figures"]["shift"]["value"], 0.003)
        self.assertEqual(self.kerb("align", one, "--to", two, "--pairs", self.folder / "none.csv")[0], 2)
        self.assertIn("no such file", self.error)
        self.assertIsInstance(json.dumps(found), str)


if __name__ == "__main__":
    unittest.main()


def hills(xy):
    x, y = xy[:, 0], xy[:, 1]
    bump = 4 * np.exp(-((x - 60) ** 2 + (y - 30) ** 2) / 200)
    return 3 * np.sin(x / 17 + 1) + 2 * np.cos(y / 23) + 1.5 * np.sin((x + 2 * y) / 31) + bump


class RealSweeps(unittest.TestCase):
    """Two sweeps of a spinning lidar with the pose between them, as they ship with the package small_gicp (PyPI, MIT; data/source.ply,
    target.ply and T_target_source.txt of 1.0.1). Some 5100 returns of each lie on the sensor itself, half of all within 4 m of it, in
    lines: taken by points, not by surface, both would fit best where they are. Of the pose no uncertainty is told; it was found by
    closest points too."""

    POSE = ((0.999925, 0.0121483, -0.00177009, 0.488882), (-0.0121523, 0.999924, -0.00228657, 0.121214),
            (0.00174218, 0.00230791, 0.999996, -0.0253342))  # fmt: skip

    @classmethod
    def setUpClass(cls):
        cls.sweeps = [np.asarray(laspy.read(DATA / f"sweep_{k}.laz").xyz) for k in (1, 2)]
        pose = np.array(cls.POSE)
        cls.turn, cls.shift = pose[:, :3], pose[:, 3]

    def check(self, motion, turn, shift, most=0.4):
        """Where the sensor comes to lie, and by how many degrees more it is turned."""
        near(motion(np.zeros((1, 3)))[0], shift, 0.03)
        self.assertLess(np.degrees(Rotation.from_matrix(turn.T @ motion.matrix).magnitude()), most)

    def test_turned_anyhow_and_far_off_in_feet(self):
        """The first sweep lies on its side, 30 m off; a search gives it back."""
        away = Rotation.from_euler("zyx", [110, 40, -65], degrees=True).as_matrix()
        feet = 1 / FOOT.metres
        moving = store_of((self.sweeps[0] @ away.T + [30, -12, 5]) * feet + FAR, FOOT, 0.001)
        to = store_of(self.sweeps[1] * feet + FAR, FOOT, 0.001)
        setup = AlignSetup(Scope("moving"), Scope("to"), search_any=True)
        found = run(setup, sources_of(moving, FOOT, moving=moving, to=to), silent())
        told = next(note.text for note in found.warnings if note.code == "search")
        turn = float(re.search(r"a turn of (\d+)°", told)[1])
        near(turn, np.degrees(Rotation.from_matrix(away).magnitude()), 6)
        motion = motion_of(found)
        ends = lambda xyz: (motion((xyz @ away.T + [30, -12, 5]) * feet + FAR) - FAR) / feet  # noqa: E731
        near(ends(np.zeros((1, 3)))[0], self.shift, 0.03)
        near(ends(np.eye(3) * 10) - ends(np.zeros((3, 3))), 10 * self.turn.T, 0.08)


class Picking(unittest.TestCase):
    def test_a_click_on_each_pair_by_pair(self):
        """The nearest point of what moves, then of what stays; three pairs give the motion; a half pair is told."""
        rng = np.random.default_rng(31)
        for unit in (METRE, FOOT):
            one = 1 / unit.metres
            points = ground(rng, 4000, 0.0) * one
            motion = Rigid.of(rotation(rng, 2.0), np.zeros(3), np.array([5.0, -3, 1]) * one)
            moved = points @ motion.matrix.T + motion.shift + FAR * one
            fixed = points + FAR * one
            sources = sources_of(None, unit, moving=store_of(moved, unit), to=store_of(fixed, unit))
            setup = AlignSetup(Scope("a"), Scope("b"))
            for k in (10, 900, 2000, 3500):
                setup = replace(setup, **with_place(setup, sources, moved[k, :2] + 0.01 * one))
                with self.assertRaisesRegex(InputError, "pick the same place on what stays"):
                    pairs_of(setup.pairs)
                setup = replace(setup, **with_place(setup, sources, fixed[k, :2] - 0.01 * one))
                left = 3 - len(setup.pairs.split(";"))
                told = f"Pick {left} more pair{'s' if left > 1 else ''}: three fix a motion."
                self.assertEqual(setup.missing(), [told] if left > 0 else [])
            names, first, second = pairs_of(setup.pairs)
            self.assertEqual(names, ("P1", "P2", "P3", "P4"))
            near(first, moved[[10, 900, 2000, 3500]], 2e-4 * one)
            near(second, fixed[[10, 900, 2000, 3500]], 2e-4 * one)
            self.assertLess(run(setup, sources, silent()).value("rms"), 1e-3 * one)
            reach = REACH_SPACINGS * sources.source("moving").store.spacing
            edge = moved[np.argmax(moved[:, 0]), :2]
            for beside, there in ((0.95 * reach, True), (1.05 * reach, False)):
                with self.subTest(beside) if there else self.assertRaisesRegex(InputError, "no points there"):
                    with_place(setup, sources, edge + [beside, 0.0])
        with self.assertRaisesRegex(InputError, "from a file"):
            with_place(replace(setup, pairs="pairs.csv"), sources, moved[0, :2])
        typed = with_place(replace(setup, pairs="1 2 3 4 5 6; a 1 2 3 4 5 6"), sources, moved[0, :2])["pairs"]
        self.assertTrue(typed.startswith("1 2 3 4 5 6; a 1 2 3 4 5 6; P1 "), typed)

    def test_a_place_on_a_surface(self):
        """On triangles a pick has the elevation that is there, whatever it had itself; beside them there is nothing."""
        xy = np.array([[0.0, 0], [10, 0], [10, 8], [0, 8]])
        sides = np.column_stack([xy, 0.5 * xy[:, 0] - 0.25 * xy[:, 1]]) + FAR
        sources = sources_of(None, METRE, moving=thing(triangulate(sides)), to=thing(triangulate(sides)))
        setup = AlignSetup(Scope("a"), Scope("b"))
        for place in (FAR[:2] + [4.0, 2.0], FAR + [4.0, 2.0, 77.0]):
            words = with_place(setup, sources, place)["pairs"].split()
            near(np.array(words[1:], float) - FAR, [4.0, 2.0, 1.5], 1e-3)
        with self.assertRaisesRegex(InputError, "nothing there"):
            with_place(setup, sources, FAR[:2] - 1.0)

    def test_spheres_and_corners_round_a_pick(self):
        """A target ball of 0.145 m seen from one side on its pole over the floor; a corner of a room, its walls unevenly seen, with
        strays and a batten before one; in two units far off. A pick a hand's breadth away gives them to some millimetres."""
        rng = np.random.default_rng(41)
        way = rng.normal(0, 1, (4000, 3))
        way /= np.linalg.norm(way, axis=1)[:, None]
        ball = (
            (way * 0.145)[way @ [0.8, -0.6, 0] > 0.1]
            + [5.0, 5, 1.6]
            + rng.normal(0, 0.0015, (np.count_nonzero(way @ [0.8, -0.6, 0] > 0.1), 3))
        )
        pole = np.column_stack([rng.normal(5.0, 0.01, 600), rng.normal(5.0, 0.01, 600), rng.uniform(1.0, 1.46, 600)])
        floor = np.column_stack([rng.uniform(0, 8, (60_000, 2)), rng.normal(0, 0.002, 60_000)])
        walls = [
            np.column_stack([rng.normal(0, 0.002, 5000), rng.uniform(0, 3, (5000, 2))]),
            np.column_stack([rng.uniform(0, 3, 2500), rng.normal(0, 0.002, 2500), rng.uniform(0, 3, 2500)]),
        ]
        board = np.column_stack([rng.uniform(0.3, 0.33, 60), rng.uniform(0.02, 0.06, 60), rng.uniform(0, 1, 60)])
        strays = rng.uniform(0, 1.5, (200, 3))
        points = np.concatenate([ball, pole, floor, *walls, board, strays]) + FAR
        for unit in (METRE, US_SURVEY_FOOT):
            one = 1 / unit.metres
            sources = sources_of(None, unit, moving=store_of(points * one, unit), to=store_of(points * one, unit))
            for snap, pick, wanted in (
                ("sphere", [5.08, 4.9, 1.62], [5.0, 5, 1.6]), ("sphere", [5.12, 4.93, np.nan], [5.0, 5, 1.6]),
                ("corner", [0.12, 0.1, 0.08], [0.0, 0, 0]),
            ):  # fmt: skip
                setup = AlignSetup(Scope("a"), Scope("b"), snap=snap, reach=0.5 * one)
                found = with_place(setup, sources, (np.array(pick) + FAR) * one)["pairs"].split()
                near(np.array(found[1:], float) * unit.metres - FAR, wanted, 0.003)
            setup = AlignSetup(Scope("a"), Scope("b"), snap="corner")
            # As far as 0.4 m is looked where nothing is said.
            near(np.array(with_place(setup, sources, (np.array([0.2, 0.2, 0.15]) + FAR) * one)["pairs"].split()[1:], float)
                 * unit.metres - FAR, [0, 0, 0], 0.003)  # fmt: skip
            with self.assertRaises(InputError):
                with_place(setup, sources, (np.array([0.35, 0.35, 0.3]) + FAR) * one)
            for snap, pick, words in (
                ("corner", [6.0, 2.0, 0.0], "planes meet there"), ("sphere", [6.0, 2.0, 0.0], "sphere"), ("corner", [0.0, 1.5, 0.0], "planes"),
            ):  # fmt: skip
                with self.assertRaisesRegex(InputError, words):
                    with_place(replace(setup, snap=snap), sources, (np.array(pick) + FAR) * one)

    def test_painted_targets_round_a_pick(self):
        """A chequer of 0.24 m on a board that leans and is turned, its foot and strays about; in two units far off."""
        rng = np.random.default_rng(43)
        xy, level = chequered(rng, np.array([0.05, -0.03]), 0.4, half=0.12, many=60_000)
        board = np.abs(xy).max(axis=1) < 0.25
        frame = Rotation.from_euler("zx", [40, 65], degrees=True)
        flat = np.column_stack([xy, rng.normal(0, 0.002, len(xy))])[board]
        centre = frame.apply([[0.05, -0.03, 0]])[0] + [5, 5, 1.2]
        floor = np.column_stack([rng.uniform(3, 7, (20_000, 2)), rng.normal(0, 0.002, 20_000)])
        strays = rng.uniform([4, 4, 0], [6, 6, 2], (200, 3))
        points = np.concatenate([frame.apply(flat) + [5, 5, 1.2], floor, strays]) + FAR
        light = np.concatenate([level[board], rng.normal(0.5, 0.1, 20_200)]) * 20_000 + 20_000
        for unit in (METRE, US_SURVEY_FOOT):
            one = 1 / unit.metres
            store = store_of(points * one, unit, brightness=np.clip(light, 0, 65_000))
            sources = sources_of(store, unit, moving=store, to=store_of(points * one, unit))
            setup = AlignSetup(Scope("a"), Scope("b"), snap="painted")
            pick = (centre + [0.06, 0.05, np.nan] + FAR) * one
            found = with_place(setup, sources, pick)
            near(np.array(found["pairs"].split()[1:], float) * unit.metres - FAR, centre, 0.003)
            with self.assertRaisesRegex(InputError, "target|mark|alike"):
                with_place(setup, sources, (np.array([3.6, 3.6, np.nan]) + FAR) * one)
            with self.assertRaisesRegex(InputError, "neither intensity nor colours"):
                with_place(replace(setup, **found), sources, pick)


class Search(unittest.TestCase):
    """A start for clouds that lie anywhere, turned by anything about the upright."""

    def two(self, seed, shape=hills):
        rng = np.random.default_rng(seed)
        a, b = rng.uniform([0, 0], [150, 110], (20_000, 2)), rng.uniform([40, 20], [190, 130], (20_000, 2))
        # The density of the second varies, a patch of the first is not seen, and each has strays of its own.
        b = b[rng.uniform(0, 1, len(b)) < 0.2 + 0.8 * (b[:, 0] > 100)]
        a = a[np.hypot(a[:, 0] - 90, a[:, 1] - 60) > 12]
        made = [np.column_stack([xy, shape(xy) + rng.normal(0, 0.03, len(xy))]) for xy in (a, b)]
        return *(np.concatenate([one, rng.uniform(0, 100, (60, 3))]) + FAR for one in made), rng

    def test_what_looks_alike_both_ways_round_is_told(self):
        def hipped(xy):
            off = np.abs(xy - [95, 65])
            return np.maximum(0, 12 - np.maximum(off[:, 0] * 0.4, off[:, 1] * 0.8))

        fixed, right, _ = self.two(9, hipped)
        found = upright_start(right, fixed, silent())
        self.assertIsNotNone(found.other)
        turn = np.degrees(np.arctan2(found.motion.matrix[1, 0], found.motion.matrix[0, 0]))
        self.assertAlmostEqual(abs((found.other - turn + 180) % 360 - 180), 180, delta=6)

    def test_floors_tell_nothing(self):
        fixed, right, _ = self.two(3, lambda xy: np.zeros(len(xy)))
        with self.assertRaisesRegex(NotDeterminable, "give pairs or a start"):
            upright_start(right[:-60], fixed[:-60], silent())

    def test_pairs_that_agree_are_counted_as_by_numpy(self):
        rng = np.random.default_rng(8)
        one, other = rng.normal(0, 1, (2, 500, 3))
        turns, shifts = Rotation.random(40, random_state=3).as_matrix(), rng.normal(0, 0.5, (40, 3))
        count = agreeing(one, other, turns, shifts, 1.5)
        self.assertEqual(count.tolist(), reference_agreeing(one, other, turns, shifts, 1.5).tolist())
        self.assertGreater(count.min(), 50)

    def test_turned_anyhow(self):
        """Blocks on rolling ground of which each cloud lacks a part, turned about any axis and far away, in two units: to a step; the
        same twice over is doubtful; ground without marks, and clouds of other places, are no start."""

        def scene(seed, low, high, n=14_000):
            rng = np.random.default_rng(seed)
            xy = rng.uniform([low, 0], [high, 40], (n, 2))
            z = 1.5 * np.sin(xy[:, 0] / 5) + 1.2 * np.cos(xy[:, 1] / 7) + 0.8 * np.sin((xy[:, 0] + 2 * xy[:, 1]) / 9)
            parts = []
            for east, north, wide, high_ in ((12, 12, 5, 4), (24, 9, 4, 6), (20, 28, 7, 3), (14, 34, 3, 5)):
                inside = (np.abs(xy - [east, north]) < wide / 2).all(axis=1)
                z[inside] = high_
                t, up, side = (
                    rng.uniform(-wide / 2, wide / 2, 1600), rng.uniform(-1, high_, 1600), rng.integers(0, 4, 1600),
                )  # fmt: skip
                sign = np.where(side % 2, 1, -1) * wide / 2
                parts.append(np.column_stack([east + np.where(side < 2, t, sign), north + np.where(side < 2, sign, t), up]))
            return np.concatenate([np.column_stack([xy, z]), *parts]) + rng.normal(0, 0.01, (n + 6400, 3))

        for seed, unit in ((1, METRE), (2, FOOT)):
            rng = np.random.default_rng(seed)
            one, other = scene(seed, 0, 31) / unit.metres, scene(seed + 50, 5, 38) / unit.metres
            turn = Rotation.random(random_state=seed)
            moved = turn.apply(one) + FAR / unit.metres
            found = any_start(moved, other, silent())
            self.assertLess(np.linalg.norm(found.motion(moved) - one, axis=1).max() * unit.metres, 1.2)
            self.assertFalse(found.doubtful)
            self.assertGreater(found.share, 0.7)
        sources = sources_of(None, unit, moving=store_of(moved, unit), to=store_of(other, unit))
        refined = run(AlignSetup(Scope("a"), Scope("b"), search_any=True), sources, silent())
        back = typed_motion(" ".join(repr(v) for row in refined.tables["matrix"].rows for v in row))
        self.assertLess(np.linalg.norm(back(moved) - one, axis=1).max() * unit.metres, 0.05)
        self.assertIn("search", [note.code for note in refined.warnings])
        block = scene(7, 10, 30)
        block = np.concatenate([block, block @ np.diag([-1.0, -1, 1]) + [40, 40, 0]])
        self.assertTrue(any_start(turn.apply(block[::2]) + FAR, block[1::2], silent()).doubtful, "as well turned by half round")
        for first, second in ((rng.uniform(0, 9, (3000, 3)), rng.uniform(0, 9, (3000, 3))), (rng.uniform(0, 9, (50, 3)), block)):
            with self.assertRaises(NotDeterminable):
                any_start(first, second, silent())

    def test_a_study_that_searches_and_refines(self):
        fixed, right, _ = self.two(5)
        motion = Rigid.turned(133.0, right.mean(axis=0), np.array([300.0, -120, 9]))
        sources = sources_of(None, METRE, moving=store_of(motion(right)), to=store_of(fixed))
        outcome = run(AlignSetup(Scope("a"), Scope("b"), search=True), sources, silent())
        matrix = np.array([[float(v) for v in row[-4:]] for row in outcome.tables["matrix"].rows])
        back = motion(right) @ matrix[:3, :3].T + matrix[:3, 3]
        self.assertLess(np.abs(back - right).max(), 0.03)
        self.assertAlmostEqual(outcome.value("rotation"), 133.0, delta=0.02)
        self.assertIn("found by heights", " ".join(note.text for note in outcome.warnings))
