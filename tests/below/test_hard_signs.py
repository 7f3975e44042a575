"""Signs of distances where data are hard: turned triangles, bores, walls, faces seen from setups."""

import unittest

import numpy as np
import trimesh

from kerb.core.change.distances import How, distances
from kerb.core.geometry.closest import MeshDistance
from kerb.core.geometry.mesh import TriangleMesh, joined
from kerb.core.geometry.orient import alike, turned_triangles
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.things import MODEL, Placed
from kerb.core.units import METRE
from kerb.studies.change.run import run
from kerb.studies.change.setup import ChangeSetup
from kerb.studies.scope import Scope
from tests.support import FAR, near, sources_of, store_of

VIEW = Scope("cloud").of
RNG = np.random.default_rng(4)


def bore(n, radius, length=40.0, seed=1):
    """Points of a level bore along the east."""
    rng = np.random.default_rng(seed)
    a, s = rng.uniform(0, 2 * np.pi, n), rng.uniform(0, length, n)
    return np.column_stack([s, radius * np.cos(a), radius * np.sin(a)]) + FAR


class Meshes(unittest.TestCase):
    def ball(self):
        made = trimesh.creation.icosphere(2, 5.0)
        return np.asarray(made.vertices) + FAR, np.asarray(made.faces, np.int32)

    def test_turned_triangles_do_not_turn_signs(self):
        """Fourteen of 320 triangles the wrong way round: every sign is that of the distance from the middle; it is said."""
        vertices, faces = self.ball()
        some = RNG.choice(len(faces), 14, replace=False)
        faces[some] = faces[some][:, ::-1]
        mesh = TriangleMesh(vertices, faces)
        self.assertEqual(sorted(np.flatnonzero(mesh.turned)), sorted(some.tolist()))
        self.assertTrue(mesh.closed)
        self.assertAlmostEqual(mesh.volume / abs(trimesh.creation.icosphere(2, 5.0).volume), 1.0, 9)
        ways = RNG.normal(size=(2000, 3))
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        r = RNG.uniform(2, 8, 2000)
        r = np.where(np.abs(r - 4.9) < 0.3, 7.0, r)
        found = MeshDistance(mesh).nearest(ways * r[:, None] + FAR)
        self.assertEqual(np.count_nonzero(np.sign(found.distance) != np.sign(r - 5)), 0)
        self.assertEqual(MeshDistance(mesh).repaired, 14)
        cloud = store_of(ways * 5.1 + FAR)
        sources = sources_of(cloud, compared=cloud, against=Placed(MODEL, mesh, local_grid(METRE)))
        outcome = run(ChangeSetup(Scope("compared"), Scope("against")), sources, silent())
        self.assertIn("14 triangles look the other way", {n.code: n.text for n in outcome.warnings}["turned-triangles"])
        self.assertGreater(outcome.value("p05"), 0)
        # As a surface seen from above only the upper half counts, whatever the turns.
        self.assertAlmostEqual(mesh.tin().plan_area / TriangleMesh(vertices, self.ball()[1]).tin().plan_area, 1.0, 6)

    def test_all_the_wrong_way_and_none(self):
        vertices, faces = self.ball()
        self.assertFalse(TriangleMesh(vertices, faces).turned.any())
        self.assertFalse(TriangleMesh(vertices, faces[:, ::-1].copy()).turned.any())
        two = joined([TriangleMesh(vertices, faces), TriangleMesh(vertices + [20, 0, 0], faces[:, ::-1].copy())])
        self.assertFalse(two.turned.any())
        self.assertTrue(two.closed)
        # Three triangles on one edge join nothing; a strip of two that disagree turns the smaller one.
        fan = np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]])
        self.assertFalse(turned_triangles(fan, np.ones(3)).any())
        self.assertEqual(turned_triangles(np.array([[0, 1, 2], [0, 1, 3]]), np.array([2.0, 1.0])).tolist(), [False, True])


class Faces(unittest.TestCase):
    def test_a_bore_that_shrank(self):
        """A bore of 3 m that is 20 mm smaller all round: -20 mm everywhere, by every way; larger: +20 mm."""
        reference = store_of(bore(60_000, 3.0))
        for away in (-0.02, 0.02):
            compared = store_of(bore(20_000, 3.0 + away, seed=2))
            for way in ("plane", "quadric", "normal"):
                how = How(way, scale=0.6, cylinder=0.4, depth=0.3, neighbours=12)
                found = distances(VIEW(compared), VIEW(reference), how, silent()).distance
                found = found[np.isfinite(found)]
                near(np.median(found), away, 0.004)
                self.assertGreater(np.mean(np.sign(found) == np.sign(away)), 0.98, way)

    def test_a_room_and_a_wall(self):
        """A box seen from inside and a single wall: one side all along each face."""
        side = np.column_stack([np.full(5000, 6.0), RNG.uniform(0, 8, 5000), RNG.uniform(0, 3, 5000)])
        wall = store_of(side + RNG.normal(0, 0.002, side.shape) + FAR)
        moved = store_of(side + [0.05, 0, 0] + FAR)
        found = distances(VIEW(moved), VIEW(wall), How("plane", neighbours=16), silent()).distance
        self.assertAlmostEqual(abs(np.median(found)), 0.05, delta=0.005)
        self.assertGreater(np.mean(np.sign(found) == np.sign(np.median(found))), 0.99)

    def test_towards_setups_up_and_outwards(self):
        """Random signs of normals of a floor, of a ball, and of a wall before a setup are put right."""
        flip = lambda n: n * RNG.choice([-1.0, 1.0], len(n))[:, None]  # noqa: E731
        none = np.empty((0, 3))
        floor = np.column_stack([RNG.uniform(0, 9, (900, 2)), np.zeros(900)])
        up = np.tile([0.0, 0, 1], (900, 1))
        near(alike(floor, flip(up), none, floor.mean(axis=0)), up)
        ways = RNG.normal(size=(4000, 3))
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        near(alike(3 * ways, flip(ways), none, np.zeros(3)), ways)
        near(alike(3 * ways, flip(ways), np.zeros((1, 3)), np.zeros(3)), -ways)
        wall = np.column_stack([np.zeros(900), RNG.uniform(0, 9, (900, 2))])
        east = np.tile([1.0, 0, 0], (900, 1))
        near(alike(wall, flip(east), np.array([[-5.0, 4, 2]]), wall.mean(axis=0)), -east)
        near(alike(wall[:1], east[:1], none, np.zeros(3)), east[:1])


if __name__ == "__main__":
    unittest.main()
