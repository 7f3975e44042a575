"""Surfaces and volumes under hard conditions: sheets over one another, rims, strays, areas off the data, the same data twice."""

import unittest
import unittest.mock

import numpy as np
import shapely

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.area import Area, overlapping, ring_of, touching_any
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.surface.cloud_top import beyond_rim, rim_edge, strays, top_of, usual_spacing
from kerb.core.surface.cutting import cut_to
from kerb.core.surface.outline import cell_shares, outline
from kerb.core.surface.sampling_error import sampling_variance, vertex_shares
from kerb.core.surface.shared_noise import shared_noise
from kerb.core.surface.sheets import folded, seen_sheet
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.things import SURFACE, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.contours.setup import ContoursSetup
from kerb.studies.cutfill import by_tiles, compared
from kerb.studies.cutfill.run import run
from kerb.studies.cutfill.setup import CutfillSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.registry import study_kind
from kerb.studies.scope import Scope
from kerb.studies.sources import Source, Sources
from kerb.studies.spots.setup import SpotsSetup
from kerb.studies.surface.setup import SurfaceSetup
from tests.support import FAR, near, sources_of, store_of

SIDE = 40.0
CORNERS = np.array([[0.0, 0], [SIDE, 0], [SIDE, SIDE], [0, SIDE]])


def sheet(seed, height, n=150, low=0.0, high=SIDE):
    """A surface of random vertices in a square and its corners."""
    square = low + (high - low) * CORNERS / SIDE
    xy = np.concatenate([np.random.default_rng(seed).uniform(low, high, (n, 2)), square])
    return triangulate(np.column_stack([xy, height(xy)]) + FAR)


def stacked(*tins):
    """Several surfaces as one."""
    starts = np.cumsum([0, *(len(tin.vertices) for tin in tins[:-1])])
    triangles = [tin.triangles + start for tin, start in zip(tins, starts, strict=True)]
    return Tin.of(np.concatenate([tin.points for tin in tins]), np.concatenate(triangles).astype(np.int32))


def both(earlier, later, unit=METRE, **asked):
    """Cut and fill of two surfaces, as job and command line run it."""
    items = {}
    for name, tin in (("earlier", earlier), ("later", later)):
        thing = Placed(SURFACE, TriangleMesh(tin.points, tin.triangles), local_grid(unit))
        items[name] = Source(name, name, kind=SURFACE, load=lambda thing=thing: thing)
    setup = CutfillSetup(Scope("earlier"), Scope("later"), **asked)
    return study_kind("cutfill").compute(setup, Sources(unit, items), silent())


def ring(low, high, name="a"):
    corners = np.array([[low[0], low[1]], [high[0], low[1]], [high[0], high[1]], [low[0], high[1]]], float)
    return Item(name, name, Drawn.of(corners + FAR[:2]))


def area(*corners):
    return Area((ring_of(np.array(corners, float) + FAR[:2]),), "area")


class Sheets(unittest.TestCase):
    def test_top_and_bottom_of_two_that_cross(self):
        """max and min of two planes, exact wherever they cross, over the part that either covers."""
        slope, level = lambda p: 0.1 * (p[:, 0] - 13), lambda p: 0 * p[:, 0]
        tin = stacked(sheet(1, slope), sheet(2, level, low=5.0, high=35.0))
        self.assertAlmostEqual(folded(tin).area / 900, 1.0, 1)
        places = np.random.default_rng(3).uniform(0.1, 39.9, (2000, 2))
        within = np.all((places > 5) & (places < 35), axis=1)
        for side, take in (("top", np.maximum), ("bottom", np.minimum)):
            found = seen_sheet(tin, side)
            self.assertAlmostEqual(found.plan_area / 1600, 1.0, 9)
            wanted = np.where(within, take(slope(places), level(places)), slope(places))
            near(found.at(places + FAR[:2]) - FAR[2], wanted, 1e-6)
            self.assertIsNone(folded(found))
        self.assertIsNone(folded(sheet(4, slope)))

    def test_three_sheets_on_the_same_corners(self):
        """Two that share every corner cover half of a third: the third is seen on the other half."""
        half = lambda z: triangulate(np.column_stack([CORNERS * [0.5, 1], np.full(4, z)]) + FAR)  # noqa: E731
        tin = stacked(sheet(5, lambda p: 0 * p[:, 0], 20), half(1.0), half(2.0))
        found = seen_sheet(tin, "top")
        near(found.at(np.array([[10.0, 20], [30, 20]]) + FAR[:2]) - FAR[2], [2, 0])
        self.assertAlmostEqual(found.plan_area / 1600, 1.0, 9)

    def test_a_design_of_two_layers(self):
        """Layers 1.0 and 1.5 over a level of 0 on 1600: refused, 2400 by the top, 1600 by the bottom; in feet too."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            design = stacked(sheet(6, lambda p: 1.5 + 0 * p[:, 0]), sheet(7, lambda p: 1.0 + 0 * p[:, 0]))
            ground = sheet(8, lambda p: 0 * p[:, 0])
            with self.assertRaisesRegex(InputError, "over one another .*--sheet top or bottom"):
                both(ground, design, unit)
            for side, wanted in (("top", 2400), ("bottom", 1600)):
                found = both(ground, design, unit, sheet=side)
                near([found.value("fill"), found.value("check_net")], [wanted, wanted], 1e-4)
                self.assertFalse(found.verdict)


class Rims(unittest.TestCase):
    def test_shares_of_cells_against_shapely(self):
        """Shares and middles of cells in a polygon with a hole: the intersection of each cell by Shapely itself."""
        shape = shapely.Polygon([(1, 1), (37, 4), (30, 33), (9, 29)], [[(12, 12), (20, 12), (16, 22)]])
        share, middle = cell_shares(shape, np.zeros(2), 3.0, (13, 14))
        for r in range(13):
            for c in range(14):
                piece = shape.intersection(shapely.box(3 * c, 3 * r, 3 * c + 3, 3 * r + 3))
                self.assertAlmostEqual(share[r, c] * 9, piece.area, 9)
                if 0 < share[r, c] < 1 and piece.contains(piece.centroid):
                    near(middle[r, c], [piece.centroid.x, piece.centroid.y], 1e-9)

    def test_outlines(self):
        tin = sheet(9, lambda p: p[:, 0])
        self.assertAlmostEqual(outline(tin, FAR[:2]).area, 1600, 6)
        hole = tin.only(np.abs(tin.vertices[tin.triangles, :2].mean(axis=1) - 20).max(axis=1) > 5)
        self.assertAlmostEqual(outline(hole, FAR[:2]).area, hole.plan_area, 6)
        # Every face with corners of its own, as STL has them.
        split = Tin(
            tin.vertices[tin.triangles].reshape(-1, 3),
            np.arange(3 * len(tin.triangles), dtype=np.int32).reshape(-1, 3),
            tin.origin,
        )
        self.assertAlmostEqual(outline(split, FAR[:2]).area, 1600, 6)
        self.assertAlmostEqual(outline(stacked(tin, tin), FAR[:2]).area, 1600, 6)

    def test_a_grid_of_any_cell_on_a_slope(self):
        """later = earlier + 0.1 (x - 50) on 100 × 100: the net is 0 whatever the cell, and the bound knows the cell."""
        earlier = sheet(10, lambda p: 0 * p[:, 0], high=100.0)
        later = sheet(11, lambda p: 0.1 * (p[:, 0] - 50), high=100.0)
        for cell in (None, 1.3, 7.3, 40.0):
            found = both(earlier, later, cell=cell, method="grid", design="both")
            near(found.value("net"), 0.0, 1e-5)
        # On a curved difference cells are off, and the bound has a part for that.
        bent = sheet(12, lambda p: 0.01 * (p[:, 0] - 50) ** 2, 4000, high=100.0)
        found = both(earlier, bent, cell=40.0, method="grid", design="both")
        parts = {row[0]: row[1] for row in found.tables["uncertainty"].rows}
        near(parts["Cell size"], abs(found.value("net") - found.value("check_net")), 1e-6)
        self.assertGreater(parts["Cell size"], 100)

    def test_the_two_ways_differ(self):
        """A spike of a hundred thousand on a triangle that no cell sees: said beside the headline."""
        ground = sheet(13, lambda p: 0 * p[:, 0])
        odd = np.array([[20.0, 20, 0], [20.02, 20, 1e6], [20, 20.02, 0], [20.02, 20.02, 0]])
        later = triangulate(np.concatenate([ground.points, odd + FAR]))
        found = both(ground, later, cell=1.0, design="both")
        self.assertEqual(found.verdict, "The two ways of computing differ")
        self.assertIn("two-ways", [note.code for note in found.warnings])

    def test_long_edges_along_the_hull(self):
        """A U of points: the bay is taken off from the hull inwards, a gap inside stays closed; at least one triangle stays."""
        xy = np.random.default_rng(14).uniform(0, SIDE, (6000, 2))
        keep = ~((np.abs(xy[:, 0] - 20) < 8) & (xy[:, 1] > 12)) & (np.hypot(*(xy - [20, 6]).T) > 3)
        tin = triangulate(np.column_stack([xy, xy[:, 0]])[keep] + FAR)
        cut = tin.compact(~beyond_rim(tin, rim_edge(tin)))
        near(cut.plan_area, 1600 - 16 * 28, 25)
        self.assertEqual(np.isfinite(cut.at(np.array([[20.0, 30], [20, 6]]) + FAR[:2])).tolist(), [False, True])
        few = sheet(15, lambda p: 0 * p[:, 0], 3)
        self.assertFalse(beyond_rim(few, 1e-6).any())

    def test_surface_area_of_rough_ground(self):
        """z with waves of 0.6 on random places: along the hull slivers stand nearly upright and add area; without, within 2 %."""
        rng = np.random.default_rng(16)
        xy = rng.uniform(0, 60, (9000, 2))
        z = 0.6 * np.sin(xy[:, 0] / 2) + 0.6 * np.cos(xy[:, 1] / 2)
        fine = np.stack(np.meshgrid(np.linspace(0, 60, 601), np.linspace(0, 60, 601)), -1).reshape(-1, 2)
        slope = np.sqrt(1 + (0.3 * np.cos(fine[:, 0] / 2)) ** 2 + (0.3 * np.sin(fine[:, 1] / 2)) ** 2).mean()
        tin, trimmed = top_of(np.column_stack([xy, z]) + FAR, None)
        self.assertAlmostEqual(tin.surface_area / tin.plan_area / slope, 1.0, delta=0.02)
        self.assertLess(trimmed.rim_area, 0.02 * 3600)


class Strays(unittest.TestCase):
    def points(self, n=8000):
        xy = np.random.default_rng(17).uniform(0, SIDE, (n, 2))
        return np.column_stack([xy, np.zeros(n)]) + FAR

    def test_high_low_and_far_ones_in_three_units(self):
        odd = np.array([[10, 10, 9.0], [30, 12, -7.0], [4000, 3000, 0.0]]) + FAR
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            points = np.concatenate([self.points(), odd]) / unit.metres
            found = strays(points, usual_spacing(points), 0.6 / unit.metres)
            self.assertEqual(np.flatnonzero(found).tolist(), [8000, 8001, 8002])
        self.assertFalse(strays(self.points(), usual_spacing(self.points()), 0.6).any())

    def test_no_study_of_surfaces_takes_them(self):
        """A level of 1600 m² raised by 0.5 with one point 9 m up and one 4 km away: 800 all the same, named, bound kept."""
        clean, odd = self.points(), np.array([[10, 10, 9.0], [4000, 3000, 0.0]]) + FAR
        later = np.concatenate([self.points() + [0, 0, 0.5], odd])
        stores = {"earlier": store_of(clean), "later": store_of(later), "cloud": store_of(later), "surface": store_of(later)}
        sources = sources_of(stores["cloud"], **{k: v for k, v in stores.items() if k != "cloud"})
        cutfill = study_kind("cutfill")
        found = cutfill.compute(CutfillSetup(Scope("earlier"), Scope("later")), sources, silent())
        near(found.value("net"), 0.5 * found.tables["areas"].rows[0][4], 1e-3)
        self.assertLess(found.figures["net"].u95, 1.0)
        note = next(note.text for note in found.warnings if note.code == "strays")
        self.assertIn("2 stray points were excluded", note)
        self.assertIn("strays later", found.layers)
        counted = cutfill.compute(CutfillSetup(Scope("earlier"), Scope("later"), strays="counted"), sources, silent())
        self.assertGreater(counted.value("fill"), found.value("fill") + 0.2)
        for kind, setup in (
            ("surface", SurfaceSetup(Scope("cloud"))), ("contours", ContoursSetup(Scope("surface"), interval=0.4)),
            ("spots", SpotsSetup(Scope("cloud"), spacing=5.0)),
        ):  # fmt: skip
            outcome = study_kind(kind).compute(setup, sources_of(stores["cloud"], surface=stores["surface"]), silent())
            self.assertIn("strays", [note.code for note in outcome.warnings], kind)
            if kind == "surface":
                near(
                    [outcome.value("highest"), outcome.value("surface_area") / outcome.value("plan_area")],
                    [FAR[2] + 0.5, 1.0],
                    1e-3,
                )
            if kind == "contours":
                self.assertEqual(outcome.value("lines"), 0)


class Areas(unittest.TestCase):
    def test_off_the_data_missing_and_twice(self):
        ground, later = sheet(18, lambda p: 0 * p[:, 0]), sheet(19, lambda p: 1.0 + 0 * p[:, 0])
        found = both(ground, later, areas=(ring((10, 10), (20, 20), "in"), ring((80, 80), (90, 90), "off")))
        rows = {row[0]: row for row in found.tables["areas"].rows}
        self.assertEqual(rows["off"][1:7], (None,) * 6)
        near(rows["off"][9], 100, 1e-6)
        self.assertEqual(found.verdict, "An area lies off the data")
        near(found.value("net"), 100, 1e-6)
        found = both(ground, later, areas=(ring((30, 10), (60, 20), "over"),))
        near([found.value("net"), found.value("uncovered_area")], [100, 200], 1e-6)
        self.assertEqual(found.verdict, "Ground is missing inside the areas")
        found = both(ground, later, areas=(ring((5, 5), (25, 25), "one"), ring((10, 10), (20, 20), "two")))
        self.assertEqual(found.verdict, "Areas overlap and count twice")
        self.assertIn("one and two overlap on 100.0\u00a0m²", found.warnings[0].text)
        with self.assertRaises(NotDeterminable):
            both(ground, later, areas=(ring((80, 80), (90, 90)),))

    def test_pairs_of_areas(self):
        square = area((0, 0), (4, 0), (4, 4), (0, 4))
        self.assertEqual(overlapping([square, area((4, 0), (8, 0), (8, 4), (4, 4))]), [])
        self.assertAlmostEqual(overlapping([square, area((3, 3), (5, 3), (5, 5), (3, 5))])[0][2], 1.0)

    def test_nodes_on_the_outline(self):
        """A square of 8 with nodes every 1 has 9 × 9 of them, all of which count; those of a hole's border too."""
        nodes = np.stack(np.meshgrid(np.arange(-2.0, 11), np.arange(-2.0, 11)), -1).reshape(-1, 2) + FAR[:2]
        self.assertEqual(touching_any((area((0, 0), (8, 0), (8, 8), (0, 8)),), nodes, 1e-9).sum(), 81)
        holed = Area((ring_of(CORNERS / 5 + FAR[:2]), ring_of(CORNERS / 20 + 2 + FAR[:2])))
        self.assertEqual(touching_any((holed,), nodes, 1e-9).sum(), 80)
        points = np.column_stack([np.random.default_rng(20).uniform(-5, 15, (9000, 2)), np.zeros(9000)]) + FAR
        store = store_of(points)
        inside = area((0, 0), (8, 0), (8, 8), (0, 8))
        found = study_kind("spots").compute(
            SpotsSetup(Scope("cloud", within=(inside,)), spacing=1.0), sources_of(store), silent()
        )
        self.assertEqual((found.value("count"), found.value("empty")), (81, 0))

    def test_an_area_limits_the_answer(self):
        """Cut exactly: the area of what is left, and elevations of the surface that goes on beyond; contours end at the border."""
        tin = sheet(21, lambda p: 0.3 * p[:, 0] - 0.1 * p[:, 1], 900)
        parts = [area((3, 3), (20, 5), (15, 30)), area((10, 10), (30, 10), (30, 30))]
        shape = shapely.union_all([part.shape for part in parts])
        found = cut_to(tin, parts)
        self.assertAlmostEqual(found.plan_area, shape.area, 5)
        places = np.random.default_rng(22).uniform(0, SIDE, (1000, 2))
        inside = shapely.contains_xy(shape, places + FAR[:2])
        near(np.isfinite(found.at(places + FAR[:2])), inside)
        near(found.at(places[inside] + FAR[:2]) - FAR[2], 0.3 * places[inside, 0] - 0.1 * places[inside, 1], 1e-6)
        with self.assertRaises(NotDeterminable):
            cut_to(tin, [area((90, 90), (95, 90), (95, 95))])
        xy = np.random.default_rng(23).uniform(0, SIDE, (4000, 2))
        store = store_of(np.column_stack([xy, xy[:, 0]]) + FAR)
        box = area((10, 10), (30, 10), (30, 30), (10, 30))
        for kind, setup, name, wanted in (
            ("surface", SurfaceSetup(Scope("cloud", within=(box,))), "plan_area", 400),
            ("contours", ContoursSetup(Scope("surface", within=(box,)), interval=5.0, base=102.5), "total_length", 4 * 20),
        ):
            outcome = study_kind(kind).compute(setup, sources_of(store, surface=store), silent())
            near(outcome.value(name), wanted, 0.05)

    def test_area_of_a_grid_is_that_of_its_cells(self):
        xy = np.random.default_rng(24).uniform(0, SIDE, (9000, 2))
        store = store_of(np.column_stack([xy, 0 * xy[:, 0]]) + FAR)
        found = study_kind("surface").compute(SurfaceSetup(Scope("cloud"), form="grid", cell=10.0), sources_of(store), silent())
        near(found.value("plan_area"), 1600)


class SameData(unittest.TestCase):
    def test_both_inputs_the_same(self):
        points = np.column_stack([np.random.default_rng(25).uniform(0, SIDE, (3000, 2)), np.zeros(3000)]) + FAR
        one, other = store_of(points), store_of(points)
        sources = sources_of(one, earlier=one, later=other)
        found = study_kind("cutfill").compute(CutfillSetup(Scope("earlier"), Scope("later")), sources, silent())
        self.assertEqual(found.verdict, "Both inputs are the same data")
        self.assertNotIn("as a whole", " ".join(note.text for note in found.warnings))
        moved = sources_of(one, earlier=one, later=store_of(points + [0, 0, 0.1]))
        self.assertFalse(study_kind("cutfill").compute(CutfillSetup(Scope("earlier"), Scope("later")), moved, silent()).verdict)


class Bounds(unittest.TestCase):
    """The bound's building blocks, against what they estimate."""

    def test_what_half_of_the_points_says(self):
        """Of white noise s on vertices that stand for areas w the variance of the volume is s² Σw²; of a plane there is none."""
        values, white = [], []
        for seed in range(6):
            rng = np.random.default_rng(seed)
            xy = np.concatenate([rng.uniform(0, SIDE, (6000, 2)), CORNERS])
            tin = triangulate(np.column_stack([xy, rng.normal(0, 0.05, len(xy))]) + FAR)
            values.append(sampling_variance([(tin, np.ones(len(tin.vertices), bool))]))
            white.append(0.05**2 * np.sum(vertex_shares(tin) ** 2))
        self.assertAlmostEqual(np.sqrt(np.mean(values) / np.mean(white)), 1.0, delta=0.25)
        flat = sheet(26, lambda p: 0.2 * p[:, 0], 2000)
        near(sampling_variance([(flat, np.ones(len(flat.vertices), bool))]), 0.0, 1e-12)

    def test_a_step_on_a_grid_moves_as_one(self):
        """A step h along a line of a lattice s of length L may lie s / 2 off all along: the error is some h L s / 4."""
        side = np.arange(0, SIDE + 0.1, 0.5)
        xy = np.stack(np.meshgrid(side, side), -1).reshape(-1, 2)
        tin = triangulate(np.column_stack([xy, (xy[:, 0] > 24.2) * 1.0]) + FAR)
        found = np.sqrt(sampling_variance([(tin, np.ones(len(tin.vertices), bool))]))
        self.assertTrue(0.3 < found / (SIDE * 0.5 / 2) < 1.5, found)

    def test_noise_that_neighbours_share(self):
        """A field with an exponential covariance of 0.05 and 2 m on noise of 0.02, changed on a tenth of the site."""
        rng = np.random.default_rng(27)
        cell, n = 0.25, 480
        k = 2 * np.pi * np.hypot(*np.meshgrid(np.fft.fftfreq(n, cell), np.fft.fftfreq(n, cell)))
        field = np.real(np.fft.ifft2(np.fft.fft2(rng.normal(size=(n, n))) * np.sqrt((1 + (k * 2.0) ** 2) ** -1.5)))
        field *= 0.05 / field.std()
        field += rng.normal(0, 0.02, field.shape)
        field[:150, :150] += 1.5

        def difference(xy):
            i, j = (np.clip(np.round(xy / cell).astype(int), 0, n - 1)).T
            return field[j, i]

        found = shared_noise(difference, np.zeros(2), np.full(2, 119.0), 0.25, 0.03)
        self.assertAlmostEqual(np.sqrt(found.variance(1e4)) / np.sqrt(0.05**2 * 2 * np.pi * 4 * 1e4), 1.0, delta=0.35)
        # Never more than all of the area is alike.
        self.assertLessEqual(found.variance(1.0), found.sigma**2 + 1e-12)
        self.assertIsNone(shared_noise(lambda xy: xy[:, 0], np.zeros(2), np.full(2, 100.0), 0.5, 0.02))


class Simulated(unittest.TestCase):
    def test_bounds_hold(self):
        """A few pairs of each kind of the simulation in ``bench``: all but one inside, at most some four times the mean error."""
        from bench.bound_cutfill import one

        for kind in ("smooth", "steps", "vegetation, alike over 1.5 m"):
            found = np.array([one(kind, seed) for seed in range(3)])
            self.assertGreaterEqual(np.count_nonzero(np.abs(found[:, 0]) <= found[:, 1]), 2, kind)
            self.assertLess(found[:, 1].mean(), 6 * np.abs(found[:, 0]).mean(), kind)


class Tiles(unittest.TestCase):
    def test_tile_by_tile_is_the_whole(self):
        """Clouds cut to many tiles: the volume of one piece to 1e-7 inside areas, and whole, with what stable ground says, in feet."""
        for unit in (METRE, US_SURVEY_FOOT):
            rng = np.random.default_rng(30)
            stores = []
            for n, rise in ((9_000, 0.0), (8_000, 0.02)):
                xy = rng.uniform(0, 80, (n, 2))
                z = np.sin(xy[:, 0] / 7) + rise * xy[:, 1]
                stores.append(store_of((np.column_stack([xy, z]) + FAR) / unit.metres, unit))
            sources = sources_of(stores[0], unit, earlier=stores[0], later=stores[1])
            corners = np.array([[10.0, 12], [70, 20], [50, 70]]) + FAR[:2]
            one = Item("a", "a", Drawn.of(corners / unit.metres))
            road = Item("s", "s", Drawn.of((np.array([[5.0, 5], [75, 5], [75, 12], [5, 12]]) + FAR[:2]) / unit.metres))
            every = ({}, {"areas": (one,)}, {"areas": (one,), "stable": (road,), "take_out": "offset"})
            for asked in every if unit == METRE else every[2:]:
                setup = CutfillSetup(Scope("earlier"), Scope("later"), **asked)
                whole = run(setup, sources, silent())
                with (
                    unittest.mock.patch.object(compared, "MOST_VERTICES", 4_000),
                    unittest.mock.patch.object(compared, "MOST_SAMPLE", 8_000 if not asked.get("stable") else 10**9),
                    unittest.mock.patch.object(by_tiles, "TILE_POINTS", 1_500),
                ):
                    found = run(setup, sources, silent())
                self.assertIn("by-tiles", [note.code for note in found.warnings])
                # Without areas the longest edge along the rim is that of one tile, not of all.
                places = 7 if asked else 3
                self.assertAlmostEqual(found.value("net") / whole.value("net"), 1.0, places)
                self.assertAlmostEqual(found.value("fill_area") / whole.value("fill_area"), 1.0, places)
