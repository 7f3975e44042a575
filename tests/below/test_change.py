"""Distances point by point: closed forms, SciPy's tree, brute force on triangles, signs, levels of detection by simulation."""

import json
import unittest
import unittest.mock
from dataclasses import replace

import ezdxf
import laspy
import numpy as np
import rasterio
import scipy
import trimesh

from kerb.core.change import distances as module
from kerb.core.change.distances import How, distances
from kerb.core.change.regions import regions
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.mesh import Element, TriangleMesh
from kerb.core.geometry.shapes import fitted
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import MODEL, Placed
from kerb.core.units import FOOT, METRE
from kerb.studies.change.run import run
from kerb.studies.change.setup import ChangeSetup
from kerb.studies.drawn import Drawn
from kerb.studies.scope import Scope
from tests.below.test_cutfill import written
from tests.support import FAR, CommandLine, near, sources_of, store_of

VIEW = Scope("cloud").of


def wavy(rng, n, lift=0.0, noise=0.0, low=0.0, high=30.0, slope=(0.2, -0.1)):
    xy = rng.uniform(low, high, (n, 2))
    return np.column_stack([xy, xy @ slope + lift + rng.normal(0, noise, n)])


class Points(unittest.TestCase):
    def test_nearest_against_scipy_with_gaps_and_strays(self):
        """The reference is patchy, and some points lie hundreds of spacings away: they are found all the same, or have no match."""
        rng = np.random.default_rng(1)
        ref = wavy(rng, 6000)
        ref = ref[np.hypot(ref[:, 0] - 15, ref[:, 1] - 15) > 8]
        some = np.concatenate([wavy(rng, 3000, 0.3), [[15, 15, 60], [200, -90, 3]]])
        one, other = store_of(some + FAR), store_of(ref + FAR)
        found = distances(VIEW(one), VIEW(other), How("nearest"), silent())
        places = one.coordinates(found.rows)
        wanted, who = scipy.spatial.cKDTree(other.coordinates(slice(0, other.count))).query(places)
        near(found.distance, wanted, 1e-6)
        near(found.parts, places - other.coordinates(who), 1e-4)
        limited = distances(VIEW(one), VIEW(other), How("nearest", limit=1.0), silent())
        near(limited.distance, np.where(wanted <= 1.0, wanted, np.nan), 1e-6)

    def test_blocks_change_nothing(self):
        rng = np.random.default_rng(2)
        one, other = store_of(wavy(rng, 5000, 0.1) + FAR), store_of(wavy(rng, 5000) + FAR)
        whole = distances(VIEW(one), VIEW(other), How("plane"), silent())
        with unittest.mock.patch.object(module, "BLOCK_POINTS", 700):
            parts = distances(VIEW(one), VIEW(other), How("plane"), silent())
        order, again = np.argsort(whole.rows), np.argsort(parts.rows)
        near(parts.distance[again], whole.distance[order], 1e-9)

    def test_parallel_planes_by_every_way_in_two_units(self):
        """A slope lifted by 0.25 square to itself: that, with its sign, by every signed way; below it the other sign."""
        rng = np.random.default_rng(3)
        normal = np.array([-0.2, 0.1, 1.0]) / np.sqrt(1.05)
        for unit in (METRE, FOOT):
            other = store_of((wavy(rng, 9000) + FAR) / unit.metres, unit, 1e-5)
            for side in (0.25, -0.25):
                one = store_of((wavy(rng, 800, 0.0, 0.0, 2.0, 28.0) + side * normal + FAR) / unit.metres, unit, 1e-5)
                for way in ("plane", "triangulated", "quadric", "normal"):
                    how = How(way, scale=3 / unit.metres, cylinder=2 / unit.metres, depth=1 / unit.metres)
                    found = distances(VIEW(one), VIEW(other), how, silent())
                    # A cylinder with fewer than four points of either cloud says nothing.
                    known = np.isfinite(found.distance)
                    self.assertGreater(known.mean(), 0.4 if way == "normal" else 0.999)
                    away = found.distance[known] * unit.metres
                    near(away, np.full(len(away), side), 2e-3)
                    near(away.mean(), side, 2e-4)
                    near(found.parts[known].mean(axis=0) * unit.metres, side * normal, 2e-4)

    def test_models_on_a_cylinder(self):
        """A vertical pipe of radius 5, seen from outside: planes through 8 neighbours leave chords, quadrics do not."""
        rng = np.random.default_rng(4)

        def pipe(radius, n):
            angle, z = rng.uniform(0, 2 * np.pi, n), rng.uniform(0, 10, n)
            return np.column_stack([radius * np.cos(angle), radius * np.sin(angle), z]) + FAR

        other, one = store_of(pipe(5.0, 8000), scale=1e-5), store_of(pipe(5.1, 500), scale=1e-5)
        errors = {}
        for way in ("plane", "quadric"):
            found = distances(VIEW(one), VIEW(other), How(way, neighbours=12), silent()).distance
            inner = np.isfinite(found)
            errors[way] = float(np.sqrt(np.mean((found[inner] - 0.1) ** 2)))
        self.assertLess(errors["quadric"], 0.003)
        self.assertLess(errors["quadric"], errors["plane"])
        self.assertLess(errors["plane"], 0.02)

    def test_level_of_detection_against_its_formula_and_by_simulation(self):
        """Two noisy scans of one slope: 1.96 (√(s₁²/n₁ + s₂²/n₂) + reg) beside our own sums, and false alarms of 5 ± 2 %."""
        rng = np.random.default_rng(5)
        alarms = []
        for _ in range(6):
            one, other = (store_of(wavy(rng, 20_000, 0, noise, slope=(0, 0)) + FAR) for noise in (0.02, 0.03))
            found = distances(VIEW(one), VIEW(other), How("normal", scale=8, cylinder=1.6, depth=0.5), silent())
            alarms.append(np.mean(np.abs(found.distance) > found.detection))
        self.assertAlmostEqual(float(np.mean(alarms)), 0.05, delta=0.02)
        error = distances(VIEW(one), VIEW(other), How("normal", scale=8, cylinder=1.6, depth=0.5, error=0.01), silent())
        near(error.detection - found.detection, np.full(len(error.rows), 0.0196), 1e-5)
        points, ref = (store.coordinates(slice(0, store.count)) for store in (one, other))
        for k in rng.integers(0, len(found.rows), 5):
            place = one.coordinates(found.rows[k : k + 1])[0]
            if np.any(np.abs(place[:2] - FAR[:2] - 15) > 12):
                continue
            mine, theirs = (p[np.hypot(*(p[:, :2] - place[:2]).T) <= 0.8, 2] for p in (points, ref))
            wanted = 1.96 * np.sqrt(mine.var(ddof=1) / len(mine) + theirs.var(ddof=1) / len(theirs))
            near([found.distance[k], found.detection[k]], [mine.mean() - theirs.mean(), wanted], 4e-3)

    def test_scales_of_normals(self):
        """On a roof of 45° with a point each few centimetres a wide neighbourhood beside the ridge takes both sides in, as the plane of
        least squares through all of it does; of several scales the one that lies on one side counts, and far off the widest may."""
        rng = np.random.default_rng(71)
        xy = rng.uniform(-4, 4, (60_000, 2))
        roof = np.column_stack([xy, -np.abs(xy[:, 0]) + rng.normal(0, 0.002, len(xy))]) + FAR
        asked = np.column_stack([rng.uniform(0.45, 0.6, 3000), rng.uniform(-1, 1, 3000), np.zeros(3000)])
        asked[:, 2] = 0.05 - asked[:, 0]
        one, other = store_of(asked + FAR, METRE, 1e-5), store_of(roof, METRE, 1e-5)
        for scale, coarsest in ((0.8, None), (4.0, None), (0.8, 4.0)):
            how = How("normal", scale=scale, cylinder=0.3, depth=0.6, coarsest=coarsest)
            found = distances(VIEW(one), VIEW(other), how, silent())
            known = np.isfinite(found.distance)
            self.assertGreater(known.mean(), 0.9)
            way = np.median(found.parts[known] / found.distance[known, None], axis=0)
            if scale == 4.0:
                near_ = roof[np.linalg.norm(roof - FAR - [0.52, 0, -0.52], axis=1) < 2.0]
                normal = np.linalg.svd(near_ - near_.mean(axis=0), full_matrices=False)[2][2]
                near(way, normal * np.sign(normal[2]), 0.05)
            else:
                near(way, np.array([1, 0, 1]) / np.sqrt(2), 0.01)
        self.assertEqual(How("normal", scale=1.0, coarsest=4.0).scales, (1.0, 2.0, 4.0))

    def test_what_cannot_be(self):
        store = store_of(wavy(np.random.default_rng(6), 50) + FAR)
        for how in (
            How("plane", neighbours=2), How("normal", scale=0.0), How("nearest", limit=0.0), How("plane", radius=-1.0),
        ):  # fmt: skip
            with self.assertRaises(InputError):
                distances(VIEW(store), VIEW(store), how, silent())


class Meshes(unittest.TestCase):
    def test_against_brute_force_and_closed_forms(self):
        rng = np.random.default_rng(7)
        ball = trimesh.creation.icosphere(subdivisions=2, radius=5)
        places = rng.uniform(-8, 8, (400, 3))
        mesh = MeshDistance(TriangleMesh(ball.vertices + FAR, ball.faces.astype(np.int32)))
        found = mesh.nearest(places + FAR)
        corners = np.asarray(ball.triangles)
        every = [
            np.linalg.norm(trimesh.triangles.closest_point(corners, np.tile(p, (len(corners), 1))) - p, axis=1).min()
            for p in places
        ]
        near(np.abs(found.distance), every, 1e-6)
        inside = np.linalg.norm(places, axis=1) < 4.8
        self.assertTrue((found.distance[inside] < 0).all())
        self.assertTrue((found.distance[np.linalg.norm(places, axis=1) > 5] > 0).all())
        near(np.linalg.norm(found.place - FAR - places, axis=1), every, 1e-6)

    def test_box_from_all_sides_inside_out_and_open(self):
        """Distance of a box by its formula: faces, edges and corners, and the same when it is turned inside out."""
        rng = np.random.default_rng(8)
        box = trimesh.creation.box((2, 3, 4))
        places = rng.uniform(-4, 4, (4000, 3))
        q = np.abs(places) - [1, 1.5, 2]
        wanted = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)
        faces = box.faces.astype(np.int32)
        for triangles in (faces, faces[:, ::-1].copy()):
            # Triangles without an area change nothing, nor does the order in which places are asked for.
            none = np.array([[0, 0, 0], [3, 3, 3]], np.int32)
            mesh = MeshDistance(TriangleMesh(box.vertices, np.vstack([none, triangles])))
            found, order = mesh.nearest(places), rng.permutation(4000)
            near(found.distance, wanted, 1e-9)
            again = mesh.nearest(places[order])
            np.testing.assert_array_equal(again.face, found.face[order])
            np.testing.assert_array_equal(again.place, found.place[order])
        plate = TriangleMesh(np.array([[0.0, 0, 0], [9, 0, 0], [9, 9, 0], [0, 9, 0]]), np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        found = MeshDistance(plate).nearest(np.array([[4, 4, 0.3], [4, 4, -0.2], [20, 4, 1.0]]), limit=5.0)
        near(found.distance, [0.3, -0.2, np.nan])
        self.assertEqual(found.face[2], -1)

    def test_slender_bodies_tell_inside_from_outside(self):
        """At sharp edges and corners, against barycentric coordinates."""
        rng = np.random.default_rng(9)
        faces = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]], np.int32)
        for _ in range(80):
            corners, places = rng.normal(size=(4, 3)) * [3, 1, 0.3], rng.normal(size=(300, 3)) * 2
            if np.linalg.det(corners[1:] - corners[0]) < 0:
                corners = corners[[0, 2, 1, 3]]
            shares = np.linalg.solve((corners[1:] - corners[0]).T, (places - corners[0]).T)
            inside = (shares > 0).all(axis=0) & (shares.sum(axis=0) < 1)
            found = MeshDistance(TriangleMesh(corners + FAR, faces)).nearest(places + FAR)
            np.testing.assert_array_equal(found.distance < 0, inside)


class Shapes(unittest.TestCase):
    """Planes, spheres and cylinders of any direction: what was made is found, with noise, strays, holes and a view from one side."""

    def parts(self, seed=4):
        rng = np.random.default_rng(seed)
        axis = rng.normal(0, 1, 3) * [1, 1, 0.4]
        axis /= np.linalg.norm(axis)
        across = np.linalg.svd(axis[None])[2][1:]
        return rng, axis * np.sign(axis[2] or 1), across

    def test_exact_points_give_the_shape_to_rounding(self):
        """Half a pipe of uneven density, its middle far from that of the points, and a cap of a ball."""
        for seed in range(3):
            rng, axis, across = self.parts(seed)
            angle, along = rng.uniform(-0.8, 1.6, 900) ** 3 / 2.6, rng.exponential(2.0, 900)
            ring = np.cos(angle)[:, None] * across[0] + np.sin(angle)[:, None] * across[1]
            centre = FAR + [7, -3, 2]
            pipe = fitted("cylinder", centre + along[:, None] * axis + 2.5 * ring)
            self.assertAlmostEqual(pipe.radius, 2.5, places=5)
            self.assertAlmostEqual(abs(float(pipe.axis @ axis)), 1.0, places=9)
            off = pipe.centre - centre
            self.assertLess(float(np.linalg.norm(off - (off @ axis) * axis)), 1e-5)
            self.assertLess(pipe.rms, 1e-5)
            away, place = pipe.nearest(centre + 3.0 * axis + 4.0 * across[1][None])
            self.assertAlmostEqual(float(away[0]), 1.5, places=5)
            near(place[0], centre + 3.0 * axis + 2.5 * across[1], 1e-4)
            ball = fitted("sphere", centre + 2.5 * ring * np.cos(along)[:, None] + 2.5 * np.sin(along)[:, None] * axis)
            self.assertAlmostEqual(ball.radius, 2.5, places=6)
            near(ball.centre, centre, 1e-5)

    def test_walls_and_floors(self):
        """Orthogonal, not upright: a wall is as good as a floor. Its normal looks up, else east, else north."""
        rng = np.random.default_rng(6)
        for normal, wanted in (
            ([0, 0, -1.0], [0, 0, 1]), ([-1.0, 0, 0], [1, 0, 0]), ([0, -1.0, 0], [0, 1, 0]),
            ([1.0, 2, -2], [-1 / 3, -2 / 3, 2 / 3]),
        ):  # fmt: skip
            normal = np.array(normal) / np.linalg.norm(normal)
            across = np.linalg.svd(normal[None])[2][1:]
            points = FAR + rng.uniform(-4, 4, (2000, 2)) @ across + rng.normal(0, 0.005, (2000, 1)) * normal
            stray = FAR + rng.uniform(-4, 4, (200, 2)) @ across + 0.8 * np.array(wanted)
            made = fitted("plane", np.concatenate([points, stray]))
            near(made.axis, wanted, 0.003)
            self.assertAlmostEqual(float(made.nearest(FAR[None] + 2 * np.array(wanted))[0][0]), 2.0, delta=0.02)

    def test_what_tells_no_shape(self):
        rng = np.random.default_rng(7)
        line = np.outer(rng.uniform(0, 9, 50), [1.0, 2, 3])
        flat = np.column_stack([rng.uniform(0, 9, (500, 2)), np.zeros(500)])
        for kind, points, words in (
            ("plane", line, "one line"), ("sphere", flat, "one plane|too little"), ("cylinder", flat, "too little"),
            ("plane", line[:2], "needs 3"), ("sphere", np.ones((9, 3)), "one place"), ("cylinder", line[:5], "needs 6"),
        ):  # fmt: skip
            with self.assertRaisesRegex(NotDeterminable, words):
                fitted(kind, points + FAR)
        with self.assertRaisesRegex(InputError, "no shape"):
            fitted("cone", flat)


class Regions(unittest.TestCase):
    def test_two_signs(self):
        xy = np.stack(np.meshgrid(np.arange(0, 40, 0.25), np.arange(0, 40, 0.25)), axis=-1).reshape(-1, 2) + 0.125
        away = np.zeros(len(xy))
        away[np.all((xy > 5) & (xy < 15), axis=1)] = 0.4
        away[np.all((xy > [20, 5]) & (xy < [26, 9]), axis=1)] = -0.3
        found = regions(np.column_stack([xy, np.zeros(len(xy))]) + FAR, away, 0.1, 1.0)
        near([one.area for one in found], [100, 24], 1e-6)
        near([one.volume for one in found], [40, -7.2], 1e-6)
        near(found[0].middle, FAR + [10, 10, 0], 0.13)
        self.assertEqual(regions(np.empty((0, 3)), np.empty(0), 0.1, 1.0), [])


class Study(unittest.TestCase):
    def test_figures_signs_and_columns(self):
        rng = np.random.default_rng(9)
        one, other = store_of(wavy(rng, 4000, 0.06, 0.01) + FAR), store_of(wavy(rng, 8000, 0.0, 0.01) + FAR)
        sources = sources_of(one, against=other)
        sources.items["compared"] = sources.items["cloud"]
        ring = Drawn.of(np.array([[5, 5], [25, 5], [25, 25], [5, 25]]) + FAR[:2])
        setup = ChangeSetup(Scope("compared"), Scope("against"), area=ring, method="plane", tolerance=0.05)
        found = run(setup, sources, silent())
        away = found.attributes["distance"].values
        known = np.isfinite(away)
        near([found.value("count"), found.value("unmatched")], [known.sum(), 0])
        values = away[known].astype(float)
        for name, wanted in (("mean", values.mean()), ("std", values.std(ddof=1)), ("rms", np.sqrt((values**2).mean())),
                             ("p05", np.percentile(values, 5)), ("max", values.max()), ("within", (np.abs(values) <= 0.05).mean()),
                             ("mean_abs", np.abs(values).mean())):  # fmt: skip
            near(found.value(name), wanted, 1e-6)
        near(found.value("median"), 0.06 / np.sqrt(1.05), 0.003)
        self.assertIn("positive side", found.warnings[0].text)
        inside = np.all(np.abs(one.coordinates(slice(0, one.count))[:, :2] - FAR[:2] - 15) < 10, axis=1)
        np.testing.assert_array_equal(known, inside)
        back = run(ChangeSetup(Scope("against"), Scope("compared"), method="plane"), type(sources)(METRE, {
            "compared": sources.items["against"], "against": sources.items["compared"]}), silent())  # fmt: skip
        near(back.value("median"), -0.06 / np.sqrt(1.05), 0.003)
        auto = run(ChangeSetup(Scope("compared"), Scope("against"), area=ring), sources, silent())
        self.assertTrue(any(note.code == "proposed" for note in auto.warnings))
        upright = run(ChangeSetup(Scope("compared"), Scope("against"), area=ring, method="vertical"), sources, silent())
        near(upright.value("median"), 0.06, 0.003)
        with self.assertRaisesRegex(InputError, "needs triangles"):
            run(ChangeSetup(Scope("compared"), Scope("against"), method="mesh"), sources, silent())
        with self.assertRaisesRegex(NotDeterminable, "match"):
            run(ChangeSetup(Scope("compared"), Scope("against"), method="nearest", max_distance=1e-9), sources, silent())


class Pieces(unittest.TestCase):
    def test_the_beam_that_is_out_of_place_is_named(self):
        """Three beams of a model, the middle one built 30 mm too high; and the parts that the scan was cut into."""
        for unit in (METRE, FOOT):
            one, rng = 1 / unit.metres, np.random.default_rng(12)
            bodies, seen, first, elements = [], [], 0, []
            for number, lift in enumerate((0.0, 0.03, 0.0)):
                body = trimesh.creation.box((4.0, 0.3, 0.4))
                body.apply_translation(FAR + [0, 2.0 * number, 3])
                points, _ = trimesh.sample.sample_surface(body, 3000, seed=number)
                seen.append(
                    points[points[:, 2] > FAR[2] + 3.19]
                    + [0, 0, lift]
                    + rng.normal(0, 0.001, (int((points[:, 2] > FAR[2] + 3.19).sum()), 3))
                )
                elements.append(Element(f"beam {number}", "IfcBeam", first, len(body.faces)))
                first += len(body.faces)
                bodies.append(body)
            whole = trimesh.util.concatenate(bodies)
            mesh = TriangleMesh(np.array(whole.vertices) * one, np.array(whole.faces, np.int32), tuple(elements))
            points = np.concatenate(seen) * one
            store = store_of(points, unit, 1e-5)
            number = np.where(store.coordinates(slice(0, store.count))[:, 1] * unit.metres > FAR[1] + 1, 2, 0).astype(np.uint16)
            store.lend("part", number, "")
            store.part_names = {"north": 2}
            sources = sources_of(None, unit, compared=store, against=Placed(MODEL, mesh, local_grid(unit)))
            outcome = run(ChangeSetup(Scope("a"), Scope("b"), tolerance=0.01 * one), sources, silent())
            rows = outcome.tables["elements"].rows
            self.assertEqual(rows[0][0], "beam 1")
            near(np.array([row[3] for row in rows]) * unit.metres, [0.03, 0, 0], 0.0015)
            # The same as three models: the nearest of all counts, and each is named.
            models = {
                name: Placed(MODEL, TriangleMesh(np.array(body.vertices) * one, np.array(body.faces, np.int32)), local_grid(unit))
                for name, body in zip(("against", "further.0", "further.1"), bodies, strict=True)
            }
            several = sources_of(None, unit, compared=store, **models)
            setup = ChangeSetup(Scope("a"), Scope("b"), further=(Scope("c"), Scope("d")), tolerance=0.01 * one)
            again = run(setup, several, silent())
            self.assertEqual(again.tables["elements"].rows[0][0], "further.0")
            near([row[1:] for row in again.tables["elements"].rows], [row[1:] for row in rows], 1e-9)
            self.assertEqual([i.role for i in again.inputs], ["compared", "against", "further model", "further model"])
            with self.assertRaisesRegex(InputError, "further models go with"):
                run(replace(setup, method="vertical"), several, silent())
            lines = again.layers["lines"]
            self.assertEqual((lines.shown, len(lines.vertices) % 8, len(lines.values)), (False, 0, len(lines.vertices)))
            self.assertEqual([round(row[7]) for row in rows], [0, 1, 1])
            self.assertEqual(sum(row[1] for row in rows), store.count)
            parts = {row[0]: row for row in outcome.tables["parts"].rows}
            self.assertEqual(set(parts), {"north", "(no part)"})
            self.assertAlmostEqual(parts["(no part)"][3] * unit.metres, 0.0, delta=0.001)


class Told(unittest.TestCase):
    """Over a level lattice: 49 by 49 places 0.02 above, of which a square of 18 by 18 lies 0.2 below and one place 3 above."""

    def found(self, **values):
        def flat(step):
            side = np.arange(0.0, 24.01, step)
            xy = np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2)
            return np.column_stack([xy, np.zeros(len(xy))])

        seen = flat(0.5)
        seen[:, 2] = np.where((seen[:, :2] < 9).all(axis=1), -0.2, 0.02)
        seen[-1, 2] = 3.0
        compared, against = store_of(seen + FAR), store_of(flat(0.25) + FAR)
        sources = sources_of(None, METRE, compared=compared, against=against)
        return run(ChangeSetup(Scope("a"), Scope("b"), **values), sources, silent())

    def test_statistics_and_words(self):
        found = self.found(method="plane", max_distance=1.0, tolerance=0.1, neighbours=8)
        away = found.attributes["distance"].values.astype(float)
        away = away[np.isfinite(away)]
        self.assertEqual((len(away), found.value("count"), found.value("unmatched")), (2400, 2400, 1))
        for name, wanted in (
            ("p05", np.percentile(away, 5)), ("p95", np.percentile(away, 95)), ("median", 0.02), ("std", np.std(away, ddof=1)),
            ("mean_abs", np.mean(np.abs(away))), ("rms", np.sqrt(np.mean(away**2))), ("within", 2076 / 2400), ("min", -0.2), ("max", 0.02),
        ):  # fmt: skip
            near(found.value(name), wanted, 1e-6, name)
        rows = found.tables["statistics"].rows
        near([row[1] for row in rows[1:]], np.percentile(away, [1, 25, 75, 99]), 1e-6)
        self.assertEqual(
            [row[0] for row in rows[1:]], ["1st percentile", "25th percentile", "75th percentile", "99th percentile"]
        )
        said = {note.code: note.text for note in found.warnings}
        self.assertEqual(set(said), {"sense", "unmatched"})
        self.assertIn("1 points (0.0 %)", said["unmatched"])
        self.assertIn("positive side", said["sense"])
        self.assertTrue(found.method.endswith("8 neighbours. Points farther than 1 m have no match."), found.method)
        self.assertIn("Neighbours within 2 m.", self.found(method="plane", radius=2.0).method)
        bare = self.found(method="nearest")
        self.assertEqual({note.code for note in bare.warnings}, {"sense", "nearest"})
        self.assertIn("have no sign", bare.warnings[0].text)
        self.assertRegex(bare.warnings[1].text, "about 0.12[0-9]")
        self.assertEqual([bare.value("mean_abs"), bare.value("within"), bare.value("detection")], [None, None, None])
        self.assertNotIn("detection", bare.attributes)
        self.assertIn("detection", self.found(method="normal").attributes)

    def test_regions_and_probes(self):
        """The hollow as a region, between the last points within it and the first beside; two probes, and one with nothing near it."""
        probes = Drawn.of(np.array([[2.0, 3.1], [20.0, 21.2], [90.0, 3.0]]) + FAR[:2])
        found = self.found(method="plane", tolerance=0.1, probes=probes)
        (region,) = [row for row in found.tables["regions"].rows if row[4] < 0]
        self.assertEqual(found.value("largest_change"), found.tables["regions"].rows[0][4])
        self.assertGreater(region[6], 0)
        near(region[1:3], FAR[:2] + 4.4, 0.6)
        near(region[4], -0.2, 0.05)
        near(region[5], region[3] * region[4])
        self.assertTrue(60 <= region[3] <= 90, region)
        layer = found.layers["regions"]
        self.assertEqual(layer.texts[int(region[0]) - 1], str(region[0]))
        near(layer.xyz[int(region[0]) - 1], [*region[1:3], FAR[2] - 0.2], 0.1)
        near(layer.values[int(region[0]) - 1], region[4])
        one, two = found.tables["probes"].rows
        near(one[1:], [2 + FAR[0], 3 + FAR[1], FAR[2] - 0.2, 2 + FAR[0], 3 + FAR[1], FAR[2], 0, 0, -0.2, -0.2], 1e-4)
        near(two[1:4], np.array([20, 21, 0.02]) + FAR, 1e-4)
        self.assertEqual((one[0], two[0]), ("1", "2"))
        self.assertEqual(
            [note.text for note in found.warnings if note.code == "probe"], ["probe 3 has no compared point near it"]
        )
        labels = found.layers["probes"]
        self.assertEqual(labels.texts, ("P1", "P2"))
        near(labels.xyz, [one[1:4], two[1:4]])
        near(labels.values, [-0.2, 0.02], 1e-4)
        for most in (300, 1200):
            with unittest.mock.patch("kerb.studies.change.run.MOST_DRAWN", most):
                drawn = len(self.found(method="plane").layers["distances"].values)
                self.assertTrue(most / 2 <= drawn / 4 <= 1.1 * most, (most, drawn))


class Verb(CommandLine):
    def test_from_files_to_a_cloud_with_distances(self):
        rng = np.random.default_rng(10)
        one = written(self.folder / "may.las", wavy(rng, 3000, 0.1) + FAR)
        two = written(self.folder / "march.las", wavy(rng, 6000) + FAR)
        found = self.json(
            "change", one, "--against", two, "--method", "plane", "--tolerance", 0.05, "--out", self.folder / "d.laz"
        )
        near(found["figures"]["median"]["value"], 0.1 / np.sqrt(1.05), 1e-3)
        self.assertEqual(found["figures"]["within"]["value"], 0.0)
        las = laspy.read(self.folder / "d.laz")
        near(np.nanmedian(las["distance"]), 0.1 / np.sqrt(1.05), 1e-3)
        near(np.nanmedian(las["distance_up"]), 0.1 / 1.05, 1e-3)
        lifted = np.column_stack([rng.uniform(10, 20, (2, 2)), [0, 0]]) + FAR
        again = ("change", one, "--against", two, "--method", "plane", "--raster-cell", 2)
        self.json(*again, "--out", self.folder / "d.tif")
        with rasterio.open(self.folder / "d.tif") as raster:
            self.assertEqual(raster.res, (2.0, 2.0))
            values = raster.read(1, masked=True).compressed()
        near(np.median(values), 0.1 / np.sqrt(1.05), 1e-3)
        self.assertEqual(self.kerb(*again, "--out", self.folder / "d.dxf")[0], 2)
        self.assertIn("the probes, and none is set", self.error)
        self.assertFalse((self.folder / "d.dxf").exists())
        places = {"type": "LineString", "coordinates": lifted[:, :2].tolist()}
        (self.folder / "probes.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [
            {"type": "Feature", "properties": {}, "geometry": places}]}))  # fmt: skip
        probed = self.json(*again, "--probes", self.folder / "probes.geojson", "--out", self.folder / "d.dxf")
        rows = probed["tables"]["probes"]["rows"]
        self.assertEqual(len(rows), 2)
        drawn = ezdxf.readfile(self.folder / "d.dxf").query("POLYLINE LWPOLYLINE LINE")
        self.assertEqual(len(drawn), 2)
        for line, row in zip(drawn, rows, strict=True):
            near([list(place) for place in line.points()], [row[4:7], row[1:4]], 1e-6)
        self.json("surface", two, "--out", self.folder / "s.xml")
        mesh = self.json("change", one, "--against", self.folder / "s.xml")
        near(mesh["figures"]["median"]["value"], 0.1 / np.sqrt(1.05), 1e-3)
        self.assertEqual(mesh["settings"]["method"], "mesh")
        self.assertEqual(self.kerb("change", one, "--against", self.folder / "s.xml", "--method", "plane")[0], 2)
        self.assertIn("is no cloud", self.error)


if __name__ == "__main__":
    unittest.main()
