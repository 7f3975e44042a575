"""Clearances against closed forms: sloping, cambered and curved roads, beams of known sag, wires of known catenary, moving envelopes
against shapely, strays, brute force, and a simulation of the bound."""

import json
import unittest
from dataclasses import replace

import ezdxf
import laspy
import numpy as np
import scipy
import shapely

from kerb.core.clearance.envelope import Vehicle, outline_of, passage
from kerb.core.clearance.over import heights_over, lowest_by_cell, standing
from kerb.core.clearance.road import Road, carried, road_in
from kerb.core.clearance.wires import fitted, wires_in
from kerb.core.errors import InputError, NotDeterminable
from kerb.core.geometry.alignment import Alignment, arc
from kerb.core.geometry.features import SurveyPoints
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.section.stations import alignment_of
from kerb.core.things import POINTS, SURFACE, Placed
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.clearance.run import LiveClearance, run
from kerb.studies.clearance.setup import ClearanceSetup
from kerb.studies.drawn import Drawn, Item
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of

CROWN = lambda x, y: 0.02 * x - 0.025 * np.abs(y)  # noqa: E731


def road(level=CROWN, noise=0.0, n=60_000, size=(20.0, 10.0), seed=1):
    """Points of a road about the origin."""
    rng = np.random.default_rng(seed)
    xy = rng.uniform(-np.asarray(size), size, (n, 2))
    return np.column_stack([xy, level(*xy.T) + rng.normal(0, noise, n)])


def deck(under, n=40_000, west=-3.0, east=3.0, noise=0.0, seed=2):
    """Points of an underside over the road."""
    rng = np.random.default_rng(seed)
    xy = rng.uniform([west, -9], [east, 9], (n, 2))
    return np.column_stack([xy, under(*xy.T) + rng.normal(0, noise, n)])


def asked(above, below=None, unit=METRE, things=None, **values):
    """The outcome of clearances of points in metres, in a unit and far from the origin."""
    placed = lambda points: store_of((points + FAR) / unit.metres, unit, scale=0.00005)  # noqa: E731
    others = {"below": placed(below)} if isinstance(below, np.ndarray) else {}
    if isinstance(below, TriangleMesh):
        others = {"below": Placed(SURFACE, below.mapped(lambda xyz: (xyz + FAR) / unit.metres), local_grid(unit))}
    usual = {"lane_width": 3.5, "cell": 0.25, "radius": 0.25, "posted_step": 0.05, "length": 12.0, "wheelbase": 6.0, "step": 0.25}
    lengths = {*usual, "level", "most", "least", "required", "margin", "registration_error", "stray_radius"}
    made = {k: v / unit.metres if k in lengths and v is not None else v for k, v in {**usual, **values}.items()}
    scope = {"below": Scope("below")} if others else {}
    sources = sources_of(placed(above), unit, **others, **(things or {}))
    sources.items["above"] = sources.items.pop("cloud")
    return run(ClearanceSetup(above=Scope("above"), **scope, **made), sources, silent())


def lane(name, west, south, east, north):
    """A lane as an area."""
    ring = np.array([[west, south], [east, south], [east, north], [west, north]]) + FAR[:2]
    return Item(name, name, Drawn.of(ring), (("way", "area"),))


def rows_of(table):
    """Rows as dictionaries."""
    return [dict(zip([column.name for column in table.columns], row, strict=True)) for row in table.rows]


class Lowest(unittest.TestCase):
    def test_a_sloping_cambered_road_under_a_flat_slab_in_three_units(self):
        """5 m over the crown at the middle; the road rises 2 % to the east, so the lowest is at the eastern edge of the slab."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            found = asked(deck(lambda x, y: 5 + 0 * x), road(), unit)
            with self.subTest(unit.code):
                near(found.value("lowest") * unit.metres, 5 - 0.02 * 3, 0.006)
                near(found.value("lowest_e") * unit.metres, FAR[0] + 3, 0.3)
                near(found.value("uncovered_area"), 0, 1e-9)
                near(found.value("covered_area") * unit.metres**2, 6 * 18, 4)
                self.assertEqual(found.figures["lowest"].unit, unit.code)
                posted = found.value("posted") * unit.metres
                self.assertLessEqual(posted, found.value("lowest") * unit.metres)
                near(posted / 0.05, round(posted / 0.05), 1e-6)

    def test_square_to_the_road_is_shorter_by_the_cosine(self):
        slope = lambda x, _y: 0.2 * x  # noqa: E731
        up, square = (
            asked(deck(lambda x, y: 5 + 0.2 * x), road(slope), measure=how).value("lowest") for how in ("vertical", "square")
        )
        near(up, 5.0, 0.003)
        near(square, 5.0 / np.hypot(1, 0.2), 0.003)

    def test_the_shortest_distance_in_space(self):
        """To a road as a cloud by brute force; to a tilted plane as a surface by its cosine."""
        below, above = road(n=4000), deck(lambda x, y: 4 + 0.3 * np.sin(x) + 0.2 * np.cos(2 * y), n=3000)
        found = asked(above, below, cell=0.5, stray_radius=2.0)
        kept = scipy.spatial.cKDTree(below).query(above)[0].min()
        near(found.value("nearest"), kept, 1e-4)
        plane = TriangleMesh(
            np.array([[-30.0, -30, -6], [30, -30, 6], [30, 30, 6], [-30, 30, -6]]), np.array([[0, 1, 2], [0, 2, 3]], np.int32)
        )
        found = asked(deck(lambda x, y: 5 + 0.2 * x), plane)
        near([found.value("lowest"), found.value("nearest")], [5.0, 5.0 / np.hypot(1, 0.2)], 1e-3)

    def test_random_undersides_against_brute_force(self):
        rng = np.random.default_rng(8)
        for seed in range(4):
            above = np.column_stack([rng.uniform(-5, 5, (3000, 2)), rng.uniform(3, 6, 3000)])
            own = lowest_by_cell(above, above[:, 2], 0.7, 1.0)
            tree = scipy.spatial.cKDTree(above)
            lone = np.array([len(near_) - 1 < 2 for near_ in tree.query_ball_point(above, 1.0)])
            cell = np.floor((above[:, :2] - above[:, :2].min(axis=0)) / 0.7).astype(int)
            key, wanted = cell[:, 1] * 1000 + cell[:, 0], []
            for k in np.unique(key):
                rows = np.flatnonzero((key == k) & ~lone)
                wanted += [rows[np.argmin(above[rows, 2])]] if len(rows) else []
            self.assertEqual(sorted(own.rows.tolist()), sorted(wanted), seed)
            near(own.height, above[own.rows, 2])

    def test_strays_are_left_out_told_and_put_back(self):
        """A single point, two together, one given three times over: all lower than the slab, none counts unless it is asked for."""
        false = np.array([[0, 0, 3.0], [1, 2, 3.1], [1.02, 2, 3.1], [-1, 1, 2.5], [-1, 1, 2.5], [-1, 1, 2.5]])
        above = np.concatenate([deck(lambda x, y: 5 + 0 * x), false])
        found = asked(above, road())
        near(found.value("lowest"), 4.94, 0.006)
        self.assertEqual(found.value("strays"), 6)
        self.assertIn("6 isolated points excluded", next(n.text for n in found.warnings if n.code == "strays"))
        self.assertIn("strays", found.layers)
        near(found.value("nearest"), 4.94, 0.02)
        put_back = asked(above, road(), strays="counted")
        near(put_back.value("lowest"), 2.5 - CROWN(-1, 1), 0.004)
        self.assertEqual(put_back.value("strays"), 0)
        # Three together are something: a lamp, the end of a branch.
        lamp = np.array([[0, 0, 3.0], [0.05, 0, 3.0], [0, 0.05, 3.02]])
        near(asked(np.concatenate([above, lamp]), road()).value("lowest"), 3.0, 0.01)

    def test_the_bound_holds_by_simulation(self):
        """On an even slope the bound holds and is no wider than it must be; under a crown it holds too."""
        even = lambda x, y: 0.02 * x  # noqa: E731
        for level, truth in ((even, 5 - 0.06 - 0.18), (CROWN, 5 - 0.06)):
            inside, widths, errors = 0, [], []
            for seed in range(20):
                under = (lambda x, y: 5 + 0.02 * y) if level is even else (lambda x, y: 5 + 0 * x)
                above = deck(under, 6000, noise=0.004, seed=100 + seed)
                found = asked(above, road(level, noise=0.004, n=20_000, seed=200 + seed))
                errors.append(found.value("lowest") - truth)
                widths.append(found.figures["lowest"].u95)
                inside += abs(errors[-1]) <= widths[-1]
            self.assertGreaterEqual(inside, 17, truth)
            self.assertLess(np.mean(widths), 3.5 * 1.96 * np.sqrt(np.mean(np.square(errors))), truth)

    def test_by_itself_in_one_scan(self):
        """A lorry of 3.5 m under the slab, its shadow on the road, a pier and a post: none of them is what hangs there."""
        rng = np.random.default_rng(3)
        ground = road(lambda x, y: 0.01 * x)
        ground = ground[~((np.abs(ground[:, 0]) < 2) & (np.abs(ground[:, 1] + 4) < 1.2))]
        lorry = np.column_stack([rng.uniform([-2, -5.2], [2, -2.8], (8000, 2)), rng.uniform(0.3, 3.5, 8000)])
        pier = np.column_stack([rng.uniform([-0.4, 6], [0.4, 7], (6000, 2)), rng.uniform(0, 5.2, 6000)])
        post = np.column_stack([rng.normal(0, 0.02, (500, 2)) + [-8, 5], rng.uniform(0, 2.5, 500)])
        every = np.concatenate([ground, lorry, pier, post, deck(lambda x, y: 5.2 + 0 * x, 200_000)])
        found = asked(every)
        near(found.value("lowest"), 5.2 - 0.03, 0.01)
        codes = {note.code for note in found.warnings}
        self.assertLessEqual({"standing", "supports"}, codes)
        counted = asked(every, standing="counted", least=0.2)
        self.assertLess(counted.value("lowest"), 2.0)
        # Under the lorry the road is carried over, and where the lowest lies there that is said.
        low = np.concatenate([every, deck(lambda x, y: 4.9 + 0 * x, 3000, -0.5, 0.5)[lambda p: np.abs(p[:, 1] + 4) < 0.5] if False else
                              np.column_stack([rng.uniform([-0.3, -4.3], [0.3, -3.7], (400, 2)), np.full(400, 4.9)])])  # fmt: skip
        hidden = asked(low)
        near(hidden.value("lowest"), 4.9 - 0.003, 0.02)
        self.assertIn("road-hidden", {note.code for note in hidden.warnings})

    def test_over_a_level_and_within_a_limit(self):
        above = deck(lambda x, y: 5 + 0.1 * x)
        near(asked(above, level=FAR[2]).value("lowest"), 4.7, 0.001)
        with self.assertRaisesRegex(NotDeterminable, r"no points within 4 m above the road; the lowest is 4\.70"):
            asked(above, level=FAR[2], most=4.0)
        near(asked(above, level=FAR[2], most=4.9).value("covered_area"), 2 * 18, 3)

    def test_what_cannot_be(self):
        above, below = deck(lambda x, y: 5 + 0 * x), road()
        with self.assertRaisesRegex(InputError, "above and below are exchanged"):
            asked(below, above)
        with self.assertRaisesRegex(InputError, "do not overlap in plan"):
            asked(above + [200, 0, 0], below)
        with self.assertRaisesRegex(NotDeterminable, "no points above the road"):
            asked(below)
        with self.assertRaisesRegex(NotDeterminable, "too few points"):
            asked(above[:2], below)
        partly = asked(np.concatenate([above, above + [18, 0, 0]]), road())
        self.assertGreater(partly.value("uncovered_area"), 5)
        self.assertIn("uncovered", {note.code for note in partly.warnings})


class Lanes(unittest.TestCase):
    def test_lanes_beams_and_places(self):
        """Two beams of known sag over two lanes: each lane × beam has its lowest in the middle of the sag or at the lane's edge."""
        sag = lambda y: 0.3 * (1 - (y / 9) ** 2)  # noqa: E731
        under = lambda x, y: np.where(np.abs(np.abs(x) - 2) < 0.25, 5.0 - sag(y), 5.6)  # noqa: E731
        level = lambda x, y: 0.01 * x  # noqa: E731
        lanes = (lane("North", -20, 0.5, 20, 4), lane("South", -20, -4, 20, -2), lane("Beside", 30, 0, 40, 4))
        points = SurveyPoints(np.array([[2.0, 0, 0], [0, 3, 0], [15, 0, 0]]) + FAR, ("a", "b", "c"), ("", "", ""))
        for unit in (METRE, US_SURVEY_FOOT):
            scaled = tuple(Item(i.key, i.name, Drawn.of(i.ring.places / unit.metres), i.values) for i in lanes)
            held = Placed(POINTS, points.mapped(lambda xyz: xyz / unit.metres), local_grid(unit))  # noqa: B023
            picks = Drawn.of((np.array([[-2.0, -3.0]]) + FAR[:2]) / unit.metres)
            found = asked(
                deck(under, 120_000),
                road(level),
                unit,
                {"points": held},
                lanes=scaled,
                points="points",
                picks=picks,
                pattern="C-#",
            )
            by = {row["name"]: row for row in rows_of(found.tables["lanes"])}
            near(by["North"]["lowest"] * unit.metres, 5 - sag(0.5) - 0.0225, 0.006)
            near(by["South"]["lowest"] * unit.metres, 5 - sag(2) - 0.0225, 0.006)
            self.assertIsNone(by["Beside"]["lowest"])
            self.assertIn("lane-outside", {note.code for note in found.warnings})
            matrix = rows_of(found.tables["matrix"])
            self.assertEqual([row["beam"] for row in matrix], ["B1", "B2"])
            near(np.array([matrix[0]["lane_1"], matrix[1]["lane_2"]]) * unit.metres,
                 [5 - sag(0.5) + 0.0175, 5 - sag(2) - 0.0225], 0.008)  # fmt: skip
            places = {row["name"]: row for row in rows_of(found.tables["points"])}
            near(places["a"]["clearance"] * unit.metres, 5 - sag(0) - 0.02, 0.01)
            near(places["C-1"]["clearance"] * unit.metres, 5 - sag(2.75) + 0.02, 0.01)
            self.assertEqual([places["C-1"]["lane"], places["a"]["lane"]], ["South", ""])
            self.assertIsNone(places["c"]["clearance"])
            near((places["b"]["above_z"] - places["b"]["below_z"] - places["b"]["clearance"]) * unit.metres, 0, 1e-6)

    def test_a_lane_by_its_middle_and_what_is_required(self):
        middle = Item("m", "Middle", Drawn.of(np.array([[-10.0, 0], [10, 0]]) + FAR[:2]), (("way", "middle"),))
        under = lambda x, y: np.where(np.abs(y) < 3, 5.0, 4.0)  # noqa: E731
        for required, words in ((4.5, "met"), (4.94, "inconclusive"), (5.2, "not met")):
            found = asked(deck(under, noise=0.003), road(noise=0.003), lanes=(middle,), lane_width=5.0, required=required)
            row = rows_of(found.tables["lanes"])[0]
            near(row["lowest"], 4.94, 0.02)
            self.assertEqual(row["verdict"], words)
            # All in all the slab beside the lane is lower: the headline says so.
            near(found.value("lowest"), 4 - 0.06 + 0.075, 0.02)
            self.assertTrue(found.verdict)

    def test_road_at_further_dates(self):
        resurfaced = store_of(road(lambda x, y: CROWN(x, y) + 0.05) + FAR, scale=0.00005)
        elsewhere = store_of(road() + FAR + [500, 0, 0], scale=0.00005)
        found = asked(deck(lambda x, y: 5 + 0 * x), road(), METRE, {"later.0": resurfaced, "later.1": elsewhere},
                      later=(Scope("later.0"), Scope("later.1")))  # fmt: skip
        rows = rows_of(found.tables["dates"])
        near(rows[1]["change"], -0.05, 0.003)
        self.assertIsNone(rows[2]["lowest"])


class Quick(unittest.TestCase):
    def test_lanes_and_places_are_answered_from_what_was_found(self):
        """The same figures as a whole run, for other lanes, places and requirements; another cell is no longer covered."""
        above, below = deck(lambda x, y: 5 + 0.1 * x), road(noise=0.002)
        placed = [store_of(points + FAR, scale=0.00005) for points in (above, below)]
        sources = sources_of(placed[0], below=placed[1])
        sources.items["above"] = sources.items.pop("cloud")
        first = ClearanceSetup(above=Scope("above"), below=Scope("below"))
        live = LiveClearance(first, sources)
        picks = Drawn.of(np.array([[1.0, 2.0]]) + FAR[:2])
        asked_ = replace(first, lanes=(lane("North", -20, 0, 20, 4),), picks=picks, required=4.8, registration_error=0.02)
        self.assertTrue(live.covers(asked_))
        quick, whole = live.answer(asked_), run(asked_, sources, silent())
        self.assertTrue(quick.live)
        for name in ("lanes", "points"):
            self.assertEqual(quick.tables[name].rows, whole.tables[name].rows)
        for name, figure in whole.figures.items():
            self.assertEqual((quick.figures[name].value, quick.figures[name].u95), (figure.value, figure.u95), name)
        self.assertEqual(quick.verdict, whole.verdict)
        self.assertFalse(live.covers(replace(asked_, cell=0.5)))


class Wires(unittest.TestCase):
    def wire(self, a=80.0, half=20.0, shift=3.0, noise=0.0, n=300, lift=6.0):
        s = np.linspace(-half, half, n)
        z = lift + a * (np.cosh((s - shift) / a) - 1)
        rng = np.random.default_rng(2)
        return np.column_stack([0.6 * s, 0.8 * s, z]) + rng.normal(0, noise, (n, 3))

    def test_a_known_catenary(self):
        """Lowest place, sag against the straight between its ends, length a (sinh − sinh); from few noisy points too."""
        for noise, within in ((0.0, 1e-6), (0.005, 0.004)):
            points = self.wire(noise=noise)
            found = wires_in(points, 1.0)
            self.assertEqual(len(found), 1)
            wire = found[0]
            place, over = wire.lowest(lambda xy: np.zeros(len(xy)))
            near(over, 6.0, max(within, 1e-5))
            near(place[:2], [1.8, 2.4], 0.02 if not noise else 1.0)
            near(wire.length, 80 * (np.sinh(17 / 80) + np.sinh(23 / 80)), max(within, 1e-3) * 8)
            s = np.linspace(-20, 20, 4001)
            z = 80 * (np.cosh((s - 3) / 80) - 1)
            near(wire.sag, (z[0] + (z[-1] - z[0]) * (s + 20) / 40 - z).max(), max(within, 1e-4))

    def test_heat_lengthens_it(self):
        """Same ends, a length 1e-3 greater: found by solving √(L² − v²) = 2 a sinh(h / 2a), checked by its length and ends."""
        wire = fitted(self.wire(), np.arange(300), 1.0)
        hot = wire.longer(1.001)
        near(hot.length / wire.length, 1.001, 1e-9)
        near(hot.height(np.array(wire.span)), wire.height(np.array(wire.span)), 1e-6)
        self.assertGreater(hot.sag, wire.sag + 0.1)
        near(wire.longer(1.0).sag, wire.sag, 1e-6)

    def test_what_is_no_wire(self):
        rng = np.random.default_rng(4)
        self.assertEqual(wires_in(rng.uniform(0, 10, (2000, 3)), 1.0), [])
        self.assertEqual(wires_in(np.column_stack([np.linspace(0, 2, 100), np.zeros(100), np.zeros(100)]), 1.0), [])
        self.assertEqual(wires_in(np.empty((0, 3)), 1.0), [])

    def test_in_the_study_and_in_feet(self):
        above = np.concatenate([deck(lambda x, y: 9 + 0 * x, west=-18, east=-15), self.wire(half=10, shift=0.0)])
        found = asked(above, road(lambda x, y: 0 * x), US_SURVEY_FOOT, warmer=50.0)
        row = rows_of(found.tables["wires"])[0]
        near(row["clearance"] * US_SURVEY_FOOT.metres, 6.0, 0.003)
        self.assertLess(row["hot_clearance"], row["clearance"])
        near(found.value("lowest") * US_SURVEY_FOOT.metres, 6.0, 0.01)


class Envelope(unittest.TestCase):
    def test_outlines_of_words(self):
        near(outline_of("4x5"), [[-2, 0], [2, 0], [2, 5], [-2, 5]])
        near(outline_of("-1,0 1,0 0,2"), [[-1, 0], [1, 0], [0, 2]])
        for words in ("", "4", "0x5", "a x b", "1,2 3,4", "nanx4", "1e9x2"):
            with self.assertRaisesRegex(InputError, "is no envelope"):
                outline_of(words)

    def flat(self, level=lambda x, y: 0 * x):
        y, x = np.mgrid[0:241, 0:241] * 0.5 - 60
        return Road(level(x, y), (-60.0, -60.0), 0.5, np.zeros(x.shape, bool))

    def test_a_curve_costs_room_on_both_sides(self):
        """Radius 20, 12 m long, axles 6 m apart: posts all along inside and outside, against the swept rectangle of shapely."""
        line = Alignment("", 0.0, (arc(np.array([0.0, -20]), np.zeros(2), np.array([20.0, 0]), False),))
        angle = np.radians(np.linspace(-120, 30, 3000))
        posts = [np.column_stack([r * np.cos(angle), r * np.sin(angle), np.full(len(angle), 1.0)]) for r in (17.8, 22.6)]
        posts = np.concatenate(posts)
        vehicle = Vehicle(outline_of("2.6x4"), 12.0, 6.0)
        way = passage(posts, self.flat(), line, vehicle, 0.5, silent())
        for k in (8, len(way.stations) // 2):
            ahead = way.ways[k]
            right = np.array([ahead[1], -ahead[0]])
            body = [way.places[k, :2] + u * ahead + v * right for u, v in ((-6, -1.3), (6, -1.3), (6, 1.3), (-6, 1.3))]
            inside = [p for p in posts if abs((p[:2] - way.places[k, :2]) @ ahead) <= 6]
            wanted = min(shapely.Polygon(body).distance(shapely.Point(p)) for p in inside)
            near(way.remains[k], wanted, 1e-6)
            # The middle of the axles lies inside of the curve by the rise of the chord between them.
            near(np.hypot(*way.places[k, :2]), np.sqrt(20**2 - 3**2), 1e-6)
        touched = passage(np.array([[20 * np.cos(-0.8), 20 * np.sin(-0.8), 2.0]]), self.flat(), line, vehicle, 0.5, silent())
        self.assertLess(touched.remains.min(), -0.5)

    def test_humps_and_sags_cost_height(self):
        """Over a hump of radius 100 m axles 6 m apart stand 45 mm lower in the middle; in a sag the middle is as much higher."""
        line = alignment_of(np.array([[-30.0, 0], [30, 0]]))
        roof = np.column_stack([np.zeros(50), np.linspace(-1, 1, 50), np.full(50, 5.0)])
        for sign in (-1.0, 1.0):
            way = passage(
                roof, self.flat(lambda x, _y, s=sign: s * x**2 / 200), line, Vehicle(outline_of("3x4"), 0.2, 6.0), 0.25, silent()
            )
            at = int(np.argmin(np.abs(way.stations - 30)))
            near(way.over[at], 5.0 - sign * 9 / 200, 2e-3)
        # On a cross-fall the floor leans: a roof to the right hangs lower over it.
        lean = passage(
            np.array([[0.0, -1.0, 5.0]]),
            self.flat(lambda _x, y: 0.05 * y),
            line,
            Vehicle(outline_of("3x4"), 1.0, 0.5),
            0.25,
            silent(),
        )
        near(lean.over.min(), 5.0 + 0.05, 1e-6)

    def test_in_the_study(self):
        """A beam at 4.8 m over a path: what passes is that, the envelope of 5 m is touched, stations and verdict say where."""
        under = lambda x, y: np.where(np.abs(x) < 0.3, 4.8, 5.5)  # noqa: E731
        path = Drawn.of(np.array([[-15.0, 0], [15, 0]]) + FAR[:2])
        for unit in (METRE, FOOT):
            drawn = Drawn.of(path.places / unit.metres)
            box = f"{3 / unit.metres}x{5 / unit.metres}"
            found = asked(deck(under), road(lambda x, y: 0 * x), unit, path=drawn, envelope=box)
            near(found.value("highest_load") * unit.metres, 4.8, 0.003)
            near(found.value("remains") * unit.metres, -0.2, 0.003)
            self.assertEqual(found.verdict, "Obstacles inside the envelope")
            self.assertIn("tightest", found.layers)
        with self.assertRaisesRegex(InputError, "Draw the path"):
            asked(deck(under), road(), envelope="3x5")
        with self.assertRaisesRegex(InputError, "does not lie on the road"):
            asked(deck(under), road(), envelope="3x5", path=Drawn.of(path.places + [0, 400]))
        with self.assertRaisesRegex(InputError, "shorter than the vehicle"):
            asked(deck(under), road(), envelope="3x5", path=Drawn.of(np.array([[0.0, 0], [1, 0]]) + FAR[:2]))


class Parts(unittest.TestCase):
    def test_the_road_beneath_what_stands_on_it(self):
        rng = np.random.default_rng(6)
        ground = road(noise=0.003)
        cone = np.column_stack([rng.normal(0, 0.1, (300, 2)) + [5, 5], rng.uniform(0, 0.7, 300)])
        found, up = road_in(np.concatenate([ground, cone]), 0.2, 4.0, 1.0)
        self.assertGreater(up[len(ground) :].mean(), 0.6)
        self.assertFalse(up[: len(ground)].any())
        places = np.column_stack([rng.uniform(-18, 18, 200), rng.uniform(-8, 8, 200)])
        near(found.at(places), CROWN(*places.T), 0.006)
        self.assertTrue(np.isnan(found.at(np.array([[100.0, 0]]))).all())
        near(found.rise(np.array([[3.0, 4.0], [3.0, -4.0]])), [[0.02, -0.025], [0.02, 0.025]], 0.01)

    def test_gaps_are_carried_over_as_far_as_said(self):
        y, x = np.mgrid[0:60, 0:60] * 1.0
        plane = 0.1 * x + 0.05 * y
        z = plane.copy()
        z[20:26, 10:40] = np.nan
        z[:, 50:] = np.nan
        made, which = carried(z, 8)
        near(made[20:26, 12:38], plane[20:26, 12:38], 1e-9)
        self.assertTrue(which[22, 20] and not which[:, 55].any() and np.isnan(made[:, 55]).all())
        narrow, none = carried(z, 3)
        self.assertTrue(np.isnan(narrow[23, 25]) and not none[23, 25])

    def test_heights_and_what_stands(self):
        flat = Road(np.zeros((11, 11)), (0.0, 0.0), 1.0, np.zeros((11, 11), bool))
        near(heights_over(np.array([[5.0, 5, 3]]), flat), [3.0])
        tall = np.column_stack([np.full((200, 2), 2.0), np.linspace(0.2, 6, 200)])
        low = np.column_stack([np.full((100, 2), 8.0), np.linspace(0.2, 3, 100)])
        every = np.concatenate([tall, low])
        found = standing(every, every[:, 2], 1.0)
        self.assertEqual([found[:200].any(), found[200:].all()], [False, True])


class Verb(CommandLine):
    def written(self, name, points, classes):
        las = laspy.create(file_version="1.4", point_format=6)
        las.header.offsets, las.header.scales = FAR, [0.001] * 3
        las.xyz = points + FAR
        las.classification = classes
        las.write(self.folder / name)
        return self.folder / name

    def test_one_cloud_by_its_classes_and_every_file(self):
        above, below = deck(lambda x, y: 5 + 0 * x, 8000), road(n=20_000)
        cloud = self.written("all.las", np.concatenate([above, below]), np.repeat([17, 11], [len(above), len(below)]))
        lanes, places = self.folder / "lanes.geojson", self.folder / "places.csv"
        ring = [[float(FAR[0]) + x, float(FAR[1]) + y] for x, y in ((-9, 0), (9, 0), (9, 4), (-9, 4), (-9, 0))]
        shape = {"type": "Polygon", "coordinates": [ring]}
        lanes.write_text(json.dumps({"type": "Feature", "properties": {"name": "North"}, "geometry": shape}))
        places.write_text(f"name,e,n,z\na,{FAR[0]},{FAR[1] + 2},0\n")
        common = ("clearance", cloud, "--unit", "m", "--above-class", "17", "--below-class", "11")
        found = self.json(*common, "--lanes", lanes, "--points", places, "--out", self.folder / "c.laz", "--max", "6")
        near(found["figures"]["lowest"]["value"], 4.94, 0.006)
        for name in ("lowest", "lowest_e", "lowest_n", "nearest", "uncovered_area"):
            self.assertIn(name, found["figures"])
        self.assertEqual([c["name"] for c in found["tables"]["lanes"]["columns"]][:4], ["name", "lowest", "e", "n"])
        self.assertEqual([c["name"] for c in found["tables"]["points"]["columns"]],
                         ["name", "e", "n", "above_z", "below_z", "clearance", "lane"])  # fmt: skip
        self.assertEqual(found["tables"]["points"]["rows"][0][-1], "North")
        column = laspy.read(self.folder / "c.laz")["clearance"]
        self.assertEqual(int(np.isfinite(column).sum()), len(above))
        near(np.nanmin(column), 4.94, 0.006)
        whole = self.json("clearance", cloud, "--unit", "m", "--below-class", "11")
        near(whole["figures"]["lowest"]["value"], found["figures"]["lowest"]["value"], 1e-3)
        apart = self.written("above.las", above, np.full(len(above), 1)), self.written("below.las", below, np.full(len(below), 1))
        two = self.json("clearance", apart[0], "--over", apart[1], "--unit", "m", "--envelope", "3x4.5", "--along",
                        self.path(), "--out", self.folder / "c.dxf", "--report", self.folder / "c.pdf")  # fmt: skip
        near(two["figures"]["lowest"]["value"], found["figures"]["lowest"]["value"], 1e-3)
        near(two["figures"]["highest_load"]["value"], 4.94, 0.03)
        texts = [t.dxf.text for t in ezdxf.readfile(self.folder / "c.dxf").modelspace().query('TEXT[layer=="clearances"]')]
        self.assertTrue(texts[0].startswith("Lowest 4.9"), texts)
        self.assertEqual(self.kerb(*common, "--out", self.folder / "c.csv")[0], 0, self.error)
        self.assertIn("description", (self.folder / "c.csv").read_text().splitlines()[0])
        status, _ = self.kerb("clearance", apart[1], "--over", apart[0], "--unit", "m")
        self.assertEqual(status, 2)
        self.assertIn("exchanged", self.error)

    def path(self):
        line = self.folder / "path.geojson"
        places = [[float(FAR[0]) + x, float(FAR[1])] for x in (-15, 15)]
        line.write_text('{"type":"Feature","properties":{},"geometry":{"type":"LineString","coordinates":' + str(places) + "}}")
        return line
