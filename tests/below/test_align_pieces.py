"""Single pieces of bringing into line by closed forms and twins: normals, weights, bounds and names of directions."""

import unittest

import numpy as np

from kerb.core.align import snaps
from kerb.core.align.closest import HowFit, refined
from kerb.core.align.targets import MeshTarget, PointTarget, cube_for, evenly, one_a_cube
from kerb.core.errors import NotDeterminable
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import silent
from tests.support import FAR, near


def box(rng, many, noise=0.0, size=(8.0, 6.0, 4.0)):
    """Points on three sides of a box that meet in a corner at the origin."""
    points = rng.uniform(0, 1, (many, 3)) * size
    side = rng.integers(0, 3, many)
    points[np.arange(many), side] = rng.normal(0, noise, many) if noise else 0.0
    return points


def fit(moving, target, start=None, **how):
    return refined(moving, target, start or Rigid(), HowFit(**how), silent())


class Points(unittest.TestCase):
    def test_normals_by_brute_force(self):
        """Planes of sixteen neighbours, where these are flat; what noise turns them by; the usual distance between points."""
        rng = np.random.default_rng(1)
        for points in (box(rng, 2500, 0.01), box(rng, 900)):
            target = PointTarget(points)
            away = np.linalg.norm(points[:, None] - points, axis=2)
            rows = np.argsort(away, axis=1)[:, :16]
            near(target.spacing, np.median(np.sort(away, axis=1)[:, 1]))
            groups = points[rows] - points[rows].mean(axis=1, keepdims=True)
            values, vectors = np.linalg.eigh(np.einsum("ijk,ijl->ikl", groups, groups))
            share = np.maximum(values[:, 0], 0) / values.sum(axis=1)
            bent = share > max(4 * np.median(share), 0.004)
            known = np.isfinite(target.normals).all(axis=1)
            # What is on the limit may fall either way by rounding.
            clear = np.abs(share - max(4 * np.median(share), 0.004)) > 1e-9
            np.testing.assert_array_equal(known[clear], ~bent[clear])
            self.assertGreater(np.count_nonzero(bent), 50)
            near(np.abs(np.einsum("ij,ij->i", target.normals, vectors[:, :, 0])[known]), np.ones(known.sum()), 1e-6)
            near(target.normal_noise, np.median(np.maximum(values[:, 0], 0) / values[:, 1] / 16), 1e-9)

    def test_matches(self):
        points = np.stack(np.meshgrid(np.arange(30.0), np.arange(40.0)), axis=-1).reshape(-1, 2)
        points = np.column_stack([points, np.zeros(len(points))]) + [50, 60, 70]
        target = PointTarget(points)
        place, normal, away = target.match(np.array([[52.2, 63.1, 70.5], [52.2, 63.1, 72.5], [49, 60, 70]]), 1.5)
        near([*place[0], *place[2]], [52, 63, 70, 50, 60, 70])
        near(np.abs(normal[0]), [0, 0, 1])
        near(away, [np.sqrt(0.04 + 0.01 + 0.25), np.inf, 1.0])
        near(target.spacing, 1.0)
        # What would have fewer than a thousand points, or as many as it has, is as it is.
        self.assertIs(target.coarser(2.0), target)
        dense = PointTarget(
            np.repeat(points, 4, axis=0) + np.tile([[0.1, 0.1, 0], [0.4, 0.1, 0], [0.1, 0.4, 0], [0.4, 0.4, 0]], (1200, 1))
        )
        self.assertEqual(len(dense.coarser(1.0).points), 1200)
        self.assertIs(dense.coarser(0.01), dense)
        mesh = TriangleMesh(np.array([[0.0, 0, 0], [4, 0, 0], [0, 4, 0]]), np.array([[0, 1, 2]]))
        flat = MeshTarget(mesh, 0.5)
        place, normal, away = flat.match(np.array([[1.0, 1, -0.5], [1, 1, 9]]), 2.0)
        near([*place[0], *normal[0], away[0]], [1, 1, 0, 0, 0, 1, 0.5])
        self.assertEqual((flat.spacing, flat.coarser(3.0), away[1], np.isnan(normal[1]).all()), (0.5, flat, np.inf, True))

    def test_cubes(self):
        """The first of a cube stays, in its order; cubes start at the lowest point, wherever that is."""
        points = np.array([[0.9, 0, 0], [0, 0.9, 0.9], [1.1, 0, 0], [0, 1.1, 0], [0, 0, 1.1], [1.9, 0, 0], [0, 0, 0]]) + FAR
        near(one_a_cube(points, 1.0), points[[0, 2, 3, 4]])
        near(one_a_cube(points, 0.0), points)
        rng = np.random.default_rng(2)
        flat = np.column_stack([rng.uniform(0, 50, (40_000, 2)), np.zeros(40_000)])
        for most in (300, 2500):
            self.assertLess(abs(len(one_a_cube(flat, cube_for(flat, most))) / most - 1), 0.1)
        line = np.column_stack([np.arange(1000.0), np.zeros((1000, 2))])
        self.assertLess(abs(len(one_a_cube(line, cube_for(line, 100))) / 100 - 1), 0.1)
        sides_ = box(rng, 40_000)
        self.assertLess(abs(len(one_a_cube(sides_, cube_for(sides_, 300))) / 300 - 1), 0.1)
        self.assertEqual((cube_for(line, 1000), cube_for(line, 999) > 0), (0.0, True))
        # As wide as nine tenths have a neighbour within: 85 % have one at 1/8, 8 % at 1/4, the rest far off.
        far = line[:, [0]] * [10, 0, 0]
        few = np.concatenate([far[:425], far[:425] + [0.125, 0, 0], far[500:540], far[500:540] + [0.25, 0, 0], far[600:670]])
        near(evenly(few), one_a_cube(few, 0.25))
        self.assertLess(len(evenly(few)), 600)


class Fits(unittest.TestCase):
    def test_rms_mean_and_overlap(self):
        """By Tukey's weights of distances to the planes, of which a tenth stray; a share of pairs, and the nearest ones."""
        rng = np.random.default_rng(4)
        target = PointTarget(box(rng, 6000))
        moving = box(rng, 2000, 0.01)
        moving[:200] += 0.25
        found = fit(moving, target)
        rest = found.left - np.median(found.left)
        width = 4.685 * 1.4826022 * np.median(np.abs(rest))
        weight = np.where(np.abs(rest) < width, (1 - (rest / width) ** 2) ** 2, 0)
        near(found.rms, np.sqrt(np.sum(weight * found.left**2) / weight.sum()), 1e-7)
        near(found.mean_abs, np.sum(weight * np.abs(found.left)) / weight.sum(), 1e-7)
        near(found.history[-1], found.rms, 0.02 * found.rms)
        place, normal, _ = target.match(found.motion(found.places), np.inf)
        near(found.left, np.sum((found.motion(found.places) - place) * normal, axis=1), 1e-9)
        near(found.overlap, np.mean(target.match(found.motion(moving), np.inf)[2] < 3 * target.spacing))
        half = fit(moving, target, overlap=0.5)
        _, normal, away = target.match(half.motion(moving), np.inf)
        away[~np.isfinite(normal).all(axis=1)] = np.inf
        self.assertEqual(len(half.left), np.count_nonzero(away <= np.quantile(away, 0.5, method="lower")))

    def test_bounds_are_those_of_the_normal_equations(self):
        """A level square of points and a cube: 1.96 rms / √(value · places), one place in each cube of four spacings."""
        rng = np.random.default_rng(5)
        side = np.arange(48.0) + 0.5
        flat = np.column_stack([np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2), np.zeros(48 * 48)])
        target = PointTarget(flat)
        moving = flat + np.column_stack([np.zeros((48 * 48, 2)), 0.01 * rng.choice([-1.0, 1], 48 * 48)])
        found = fit(moving, target)
        by_name = {one.name: one for one in found.directions}
        self.assertEqual([one.determined for one in found.directions], [False] * 3 + [True] * 3)
        self.assertTrue(0.007 < found.rms < 0.01)
        plain = 1.959964 * found.rms / np.sqrt(144)
        # That of cubes of the scene rules where it is larger.
        self.assertTrue(0.98 * plain <= by_name["up and down"].u95 <= 1.3 * plain)
        turns = [one for one in found.directions if one.determined and one.turning]
        # Turned at the mean distance from the middle, each of both axes has half of the arms.
        near([one.u95 for one in turns], np.full(2, np.sqrt(2) * by_name["up and down"].u95), 0.03 * turns[0].u95)
        near([abs(one.turn[2]) for one in turns], [0, 0], 0.01)
        self.assertIn("turn about the vertical", by_name)
        # Two squares, eight apart but for the noise, so that a border of cubes runs along the upper one: it counts once.
        two = np.concatenate([flat, flat + [0, 0, 7.985]])
        shaken = two + np.column_stack([np.zeros((len(two), 2)), 0.01 * rng.choice([-1.0, 1], len(two))])
        both = fit(shaken, PointTarget(two))
        wanted = 1.959964 * both.rms / np.sqrt(2 * 13 * 13)
        near(next(one.u95 for one in both.directions if one.name == "up and down"), wanted, 0.1 * wanted)
        slides = [one for one in found.directions if not one.turning and not one.determined]
        self.assertEqual(len(slides), 2)
        near(abs(slides[0].slide @ slides[1].slide), 0, 1e-6)

    def test_too_few_points_to_match(self):
        with self.assertRaisesRegex(NotDeterminable, "5 points have no surface; 6 are needed"):
            PointTarget(np.eye(3).repeat(2, axis=0)[:5])

    def test_what_noise_of_normals_makes_is_not_determined(self):
        """A ridge of five degrees tells of slides across it by sin² 5°, of which turns about it leave a quarter (x and its sign go
        together by 3/4 of their squares); that counts where it is three times what noise makes."""
        rise = np.tan(np.radians(5.0))
        corners = np.array([[x, y, rise * (10 - abs(x))] for x in (-10.0, 0.0, 10.0) for y in (0.0, 20.0)])
        triangles = np.array([[0, 2, 1], [1, 2, 3], [2, 4, 3], [3, 4, 5]])
        xy = np.random.default_rng(13).uniform([-9, 1], [9, 19], (4000, 2))
        moving = np.column_stack([xy, rise * (10 - np.abs(xy[:, 0])) + 0.01])
        for times, known in ((2.0, False), (4.5, True), (5.5, True)):
            target = MeshTarget(TriangleMesh(corners, triangles), 0.2)
            target.normal_noise = np.sin(np.radians(5.0)) ** 2 / 4 / times
            told = {one.name: one.determined for one in fit(moving, target).directions}
            self.assertEqual((told["slide along 90°"], told["slide along 0°"], told["up and down"]), (known, False, True))

    def test_a_start_may_be_forty_spacings_off(self):
        side = 2.0 * np.arange(40)
        flat = np.column_stack([np.stack(np.meshgrid(side, side), axis=-1).reshape(-1, 2), np.zeros(1600)])
        target = PointTarget(flat)
        near(fit(flat + [0, 0, 79.0], target).motion.shift, [0, 0, -79], 1e-6)
        with self.assertRaisesRegex(NotDeterminable, "within 80"):
            fit(flat + [0, 0, 81.0], target)

    def test_a_limit_and_too_few(self):
        """Fifty pairs are needed, and no pair is longer than the limit."""
        rng = np.random.default_rng(6)
        target = PointTarget(box(rng, 6000))
        inner = rng.uniform(1, 3, (51, 3))
        inner[np.arange(51), np.arange(51) % 3] = 0.0
        self.assertEqual(len(fit(inner[:50], target, limit=0.5).left), 50)
        with self.assertRaisesRegex(NotDeterminable, "49 points have a match within 0.5; 50 are needed"):
            fit(inner[:49], target, limit=0.5)
        moving = np.concatenate([box(rng, 500), box(rng, 500) - [0.8, 0.8, 0.8]])
        found = fit(moving, target, limit=0.5)
        self.assertLessEqual(np.abs(found.left).max(), 0.5)
        near(found.overlap, np.mean(target.match(found.motion(moving), 3 * target.spacing)[2] < np.inf))


def sides(many, spread=0.0, rng=None, lean=None):
    """Three sides of a metre, with so many points each, that meet in a corner: points on a lattice, or with a spread."""
    found = []
    for axis, count in enumerate(many):
        step = np.sqrt(np.arange(count) + 0.5) / np.sqrt(count)
        turn = np.arange(count) * 2.399963
        at = np.column_stack([0.5 + 0.5 * step * np.cos(turn), 0.5 + 0.5 * step * np.sin(turn)])
        off = rng.normal(0, spread, count) if spread else np.zeros(count)
        found.append(np.insert(at, axis, off, axis=1))
    points = np.concatenate(found)
    return (points if lean is None else points @ np.transpose(lean)) + FAR


class Snaps(unittest.TestCase):
    def test_spheres(self):
        """Exact ones of thirty points; larger than the reach, rough, or of fewer points none. A post beside does not pull."""
        turn, up = np.arange(60) * 2.399963, np.linspace(-0.9, 0.9, 60)
        unit = np.column_stack([np.cos(turn) * np.sqrt(1 - up**2), np.sin(turn) * np.sqrt(1 - up**2), up])
        for radius in (0.1, 0.3):
            ball = radius * unit + FAR
            near(snaps.sphere_centre(ball, ball[7], 2.5 * radius).centre, FAR, 1e-6)
            near(snaps.sphere_centre(ball[:30], ball[7], 2.5 * radius).centre, FAR, 1e-6)
            with self.assertRaisesRegex(NotDeterminable, "fewer than 30"):
                snaps.sphere_centre(ball[:29], ball[7], 2.5 * radius)
            # A cap of it within 0.95 of its radius, and within a little more.
            cap = radius * (
                unit[:, [0, 2, 1]] * [0.6, 0, 0.6] + np.sqrt(1 - 0.36 * (unit[:, :1] ** 2 + unit[:, 1:2] ** 2)) * [0, 1, 0]
            )
            top = radius * np.array([0, 1, 0]) + FAR
            near(snaps.sphere_centre(cap + FAR, top, 1.05 * radius).centre, FAR, 1e-6)
            with self.assertRaisesRegex(NotDeterminable, "no sphere"):
                snaps.sphere_centre(cap + FAR, top, 0.95 * radius)
            rough = (radius * (1 + 0.12 * np.cos(7 * turn)))[:, None] * unit + FAR
            with self.assertRaisesRegex(NotDeterminable, "no sphere"):
                snaps.sphere_centre(rough, rough[7], 2.5 * radius)
            post = np.column_stack([np.zeros((20, 2)), -radius * np.linspace(1.3, 2.2, 20)]) + FAR
            near(snaps.sphere_centre(np.concatenate([ball, post]), ball[59], 2.5 * radius).centre, FAR, 1e-4)

    def test_corners(self):
        """Of just so many points, whatever way it is turned; a share, parallel sides and a fourth side tell none or the same."""
        rng = np.random.default_rng(7)
        place = FAR + [0.2, 0.1, 0.3]
        near(snaps.corner(sides((90, 90, 30)), place, 3.0), FAR, 1e-6)
        lean = np.array([[1, 0, 0], [0, 1, 0], [0.6, 0.2, 0.77]])
        near(snaps.corner(sides((90, 80, 60), lean=lean), place, 3.0), FAR, 1e-6)
        for many, words in (((90, 90, 29), "2 planes"), ((800, 800, 80), "2 planes"), ((90, 0, 0), "1 plane")):
            with self.assertRaisesRegex(NotDeterminable, words):
                snaps.corner(sides(many), place, 3.0)
        near(snaps.corner(sides((800, 800, 90)), place, 3.0), FAR, 1e-6)
        # A roof of 12 degrees over the floor counts as the floor, a steeper one is a plane of its own.
        floor = sides((0, 200, 150))
        slope = sides((0, 0, 100)) - FAR
        for degrees, good in ((12, False), (17, True)):
            roof = slope @ np.array([[1, 0, np.tan(np.radians(degrees))], [0, 1, 0], [0, 0, 1]]) + FAR + [0, 0, 0.5]
            points = np.concatenate([floor, roof])
            if good:
                near(snaps.corner(points, place, 3.0), FAR - [0.5 / np.tan(np.radians(degrees)), 0, 0], 1e-6)
            else:
                with self.assertRaisesRegex(NotDeterminable, "2 planes"):
                    snaps.corner(points, place, 3.0)
        with self.assertRaisesRegex(NotDeterminable, "farther off"):
            snaps.corner(np.concatenate([floor, roof]), FAR + [0.3, 0.4, 0.2], 1.2)
        walls = sides((0, 200, 0)) - FAR
        prism = np.concatenate([walls, walls[:, [1, 0, 2]], walls @ np.array([[0.7, 0.7, 0], [0, 0, 0], [0, 0, 1.0]])]) + FAR
        with self.assertRaisesRegex(NotDeterminable, "in a line"):
            snaps.corner(prism, place, 3.0)
        # A sheet on the floor, five times its noise above it, does not lift it.
        spread = sides((2000, 2000, 3000), 0.001, rng)
        sheet = sides((0, 0, 900), 0.0003, rng) + [0, 0, 0.0052]
        near(snaps.corner(np.concatenate([spread, sheet]), place, 1.0)[2], FAR[2], 1.5e-4)
        # Thousands of returns on one place, as some devices leave them on their own, are no plane.
        with self.assertRaisesRegex(NotDeterminable, "0 planes"):
            snaps.corner(np.zeros((5000, 3)) + FAR, FAR, 1.0)
        # The same in other units, and with a board across the corner that is smaller than its sides.
        board = sides((0, 0, 300)) - FAR
        board = board @ np.array([[1, 0, -1], [0, 1, -0.5], [0, 0, 0]]) + FAR + [0, 0, 1.2]
        for points, most in ((np.concatenate([spread, sheet]), 1.5e-4), (np.concatenate([sides((700, 600, 500)), board]), 1e-6)):
            for unit in (0.01, 1.0, 1000.0):
                found = snaps.corner((points - FAR) * unit + FAR, (place - FAR) * unit + FAR, unit)
                near((found - FAR) / unit, [0, 0, 0], most + 1e-9 / unit)

    def test_painted_planes(self):
        """An exact plane, and one of 20 mm noise; too few points on it, and a mark out of reach."""
        rng = np.random.default_rng(8)
        uv = rng.uniform(-0.5, 0.5, (9000, 2))
        light = np.where(np.abs(uv).max(axis=1) < 0.12, uv.prod(axis=1) > 0, 0.5) * 1000 + rng.normal(0, 20, 9000)
        for noise, most in ((0.0, 0.003), (0.02, 0.006)):
            board = np.column_stack([uv[:, 0], rng.normal(0, noise, 9000) if noise else np.zeros(9000), uv[:, 1]]) + FAR
            # A pick beside the plane, in three units.
            for unit in (0.01, 1.0, 1000.0):
                found = snaps.painted((board - FAR) * unit + FAR, light, FAR + np.array([0.04, 0.03, -0.05]) * unit, 0.3 * unit)
                near((found - FAR) / unit, [0, 0, 0], most)
            with self.assertRaises(NotDeterminable):
                snaps.painted(board, light, FAR + [0.35, 0.0, -0.3], 0.15)
        few = board[np.argsort(np.linalg.norm(board - FAR, axis=1))[:30]]
        for many in (29, 30):
            with self.assertRaisesRegex(NotDeterminable, "no plane" if many < 30 else "needs 30|four fields|stands|fills|alike"):
                snaps.painted(few[:many] * [1, 0, 1] + [0, FAR[1], 0], light[:many], FAR, 0.3)
