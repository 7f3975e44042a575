"""Mending a surface: every edge looked at after every step, closed forms, what must not change, and steps kept in files."""

import json
import unittest
import unittest.mock
from dataclasses import replace
from itertools import pairwise

import numpy as np
import shapely

from kerb.core.errors import InputError
from kerb.core.geometry.area import Area, ring_of
from kerb.core.progress import silent
from kerb.core.reference import local_grid
from kerb.core.surface import mending
from kerb.core.surface.mending import Mended
from kerb.core.surface.overlay import change, mask_of
from kerb.core.surface.surfaces import TinSurface
from kerb.core.surface.tin import Tin, triangulate
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn, Item
from kerb.studies.mend.live import ready
from kerb.studies.mend.run import run
from kerb.studies.mend.setup import MendSetup
from kerb.studies.mend.steps import WAYS, apply, from_features, to_features, water_level
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of

SIDE = 40.0
CORNERS = np.array([[0.0, 0], [SIDE, 0], [SIDE, SIDE], [0, SIDE]])
RING = np.array([[10.0, 10], [22, 9], [25, 20], [15, 26], [8, 18]])


def rolling(xy):
    return np.sin(xy[:, 0] / 5) + np.cos(xy[:, 1] / 7)


def tin(seed=1, height=rolling, n=400):
    xy = np.concatenate([np.random.default_rng(seed).uniform(0, SIDE, (n, 2)), CORNERS])
    return triangulate(np.column_stack([xy, height(xy)]) + FAR)


def flat(level):
    """A level surface over all of it."""
    return Tin.of(np.column_stack([CORNERS, np.full(4, level)]) + [*FAR[:2], 0], np.array([[0, 1, 2], [0, 2, 3]], np.int32))


def far(ring):
    return np.asarray(ring, float) + FAR[:2]


def level_at(m, xy):
    return mending.levels(m, m.local(far(xy))) + m.origin[2]


def net_over(m, level, ring=RING):
    return change(flat(level), m.surface, mask_of(Area((ring_of(far(ring)),)))).net


class Valid(unittest.TestCase):
    """Whatever is done, the triangles cover what they covered, none overlaps another, and lines are kept."""

    def sound(self, m, area=None, delaunay=True):
        triangles = m.triangles[m.there]
        corners = m.vertices[triangles, :2]
        a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        size = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
        self.assertGreater(size.min(), 0)
        sides = np.concatenate([triangles[:, [k, (k + 1) % 3]] for k in range(3)]).astype(int)
        beyond = np.concatenate([triangles[:, (k + 2) % 3] for k in range(3)]).tolist()
        opposite = dict(zip(map(tuple, sides.tolist()), beyond, strict=True))
        self.assertEqual(len(opposite), len(sides), "an edge runs the same way twice")
        if area is not None:
            self.assertAlmostEqual(size.sum(), area, delta=1e-7 * area)
        fixed = {tuple(pair) for pair in np.sort(m.fixed, axis=1).tolist()}
        self.assertFalse(fixed - {tuple(sorted(pair)) for pair in opposite}, "lines that are not kept")
        for (p, q), far_off in opposite.items():
            if delaunay and p < q and (q, p) in opposite and (p, q) not in fixed:
                rows = m.vertices[[p, q, far_off], :2] - m.vertices[opposite[q, p], :2]
                inside = np.linalg.det(np.column_stack([rows, (rows**2).sum(axis=1)]))
                self.assertLess(inside, 1e-6, "a free edge that is not Delaunay's")

    def test_steps_one_after_another(self):
        rng = np.random.default_rng(2)
        for seed in range(6):
            m = Mended.of(tin(seed))
            area, before = m.base.plan_area, m.vertices.tobytes() + m.triangles.tobytes()
            first = m
            for _ in range(6):
                m = mending.with_vertex(m, far(rng.uniform(1, SIDE - 1, 2)), FAR[2] + rng.normal())
            m = mending.with_vertex(m, (m.vertices[m.triangles[7, :2]].mean(axis=0) + m.origin)[:2])
            self.sound(m, area)
            row = mending.nearest_vertex(m, far([20, 20]))
            m = mending.without_vertices(m, np.array([row]))
            self.assertNotIn(row, m.triangles[m.there])
            self.sound(m, area)
            line = np.array([[3.0, 5, 100], [20, 30, 101], [37, 12, 99.5]]) + [*FAR[:2], 0]
            bare0 = m
            m, _ = mending.along_line(m, line)
            self.sound(m, area)
            near(level_at(m, line[:, :2] - FAR[:2]), line[:, 2], atol=1e-6)
            self.assertEqual(level_at(m, [[20.0, 8.5]]), level_at(bare0, [[20.0, 8.5]]), "from end to start there is no line")
            middle = (line[0] + line[1]) / 2
            near(level_at(m, middle[None, :2] - FAR[:2]), middle[2], atol=1e-6, msg="straight along the line")
            bare = mending.without_vertices(m, mending.inside(m, far([[26, 26], [38, 26], [38, 38], [26, 38]])))
            self.assertEqual(len(mending.inside(bare, far([[26, 26], [38, 26], [38, 38], [26, 38]]))), 0)
            self.sound(bare, area)
            m = mending.with_vertex(bare, far([20.0, 30.0 - 1e-7]), 105.0)
            self.sound(m, area)
            for made in (mending.smoothed(m, far(RING)), mending.vertex_level(m, far([5, 5]), 90.0)):
                self.sound(made, area)
            laid, order = mending.along_line(m, np.column_stack([far(RING), np.full(5, np.nan)]), True, True)
            self.assertEqual(len(set(order.tolist())), len(order), "each vertex of the ring once")
            again = mending.along_line(laid, np.column_stack([far(RING), np.full(5, np.nan)]), True, True)[0]
            for made in (laid, again):
                self.sound(made, area, delaunay=False)
                found = change(m.surface, made.surface)
                self.assertLess(found.fill + found.cut, 1e-6, "laid into the surface as it is")
            for made in (
                mending.raised(m, far(RING), 1.5), mending.brought_to_mean(m, far(RING), 103.0), mending.water(m, far(RING), 99.0),
                mending.river(m, far(RING), 0.5), mending.other_inside(m, far(RING), tin(seed + 9).at, tin(seed + 9).points),
            ):  # fmt: skip
                self.sound(made, area, delaunay=False)
            self.assertEqual(first.vertices.tobytes() + first.triangles.tobytes(), before, "what was before stays")

    def test_corners_of_the_outline(self):
        m = Mended.of(tin())
        made = mending.without_vertices(m, np.array([mending.nearest_vertex(m, far([0.01, 0.01]))]))
        self.sound(made)
        self.assertLess(made.surface.plan_area, m.base.plan_area)

    def test_another_edge(self):
        square = triangulate(np.array([[0.0, 0, 0], [2, 0, 0], [2.2, 2.1, 5], [0, 2, 0]]) + FAR)
        m = Mended.of(square)
        once = mending.swapped(m, far([1.0, 1.0]))
        self.sound(once, square.plan_area, delaunay=False)
        either = {tuple(sorted(row)) for row in square.triangles.tolist()}
        self.assertFalse(either & {tuple(sorted(row)) for row in once.triangles[once.there].tolist()})
        twice = mending.swapped(once, far([1.0, 1.0]))
        self.assertEqual({tuple(sorted(row)) for row in twice.triangles[twice.there].tolist()}, either)
        for place, words in (([1.0, 0.01], "outline"), ([9.0, 9.0], "no triangle")):
            with self.assertRaisesRegex(InputError, words):
                mending.swapped(m, far(place))
        held = mending.along_line(m, np.array([[0.0, 0, np.nan], [2.2, 2.1, np.nan]]) + [*FAR[:2], 0])[0]
        with self.assertRaisesRegex(InputError, "break line"):
            mending.swapped(held, far([1.0, 1.0]))
        dart = Mended.of(triangulate(np.array([[0.0, 0, 0], [4, 0, 0], [1, 0.5, 0], [0, 4, 0]]) + FAR))
        with self.assertRaisesRegex(InputError, "no other way"):
            mending.swapped(dart, far([0.6, 0.33]))

    def test_lines_that_meet(self):
        """A line over one that stays takes that one's level there; one that crosses itself is refused."""
        m = Mended.of(tin())
        m = mending.along_line(m, np.array([[5.0, 20, 110], [35, 20, 110]]) + [*FAR[:2], 0])[0]
        m = mending.along_line(m, np.array([[20.0, 5, 90], [20, 35, 90]]) + [*FAR[:2], 0])[0]
        self.sound(m, m.base.plan_area)
        near(level_at(m, [[20, 20], [12, 20], [20, 12.5], [20, 5]]), [110, 110, 100, 90], atol=1e-6)
        for bend in np.linspace(9.3, 17.9, 7):  # a bend on it is one vertex, on either side of it by rounding
            for east in (19.0, 21.0):
                bent = np.array([[12.0, bend, 100], [20, bend, 100], [east, bend + 1.5, 100]]) + [*FAR[:2], 0]
                made = mending.along_line(m, bent)[0]
                self.sound(made, m.base.plan_area)
                away = np.hypot(*(made.vertices[:, :2] - made.local(far([[20.0, bend]]))).T)
                self.assertEqual(np.count_nonzero(away < 1e-3), 1)
        with self.assertRaisesRegex(InputError, "crosses itself"):
            mending.along_line(m, np.array([[2.0, 2, 0], [8, 8, 0], [8, 2, 0], [2, 8, 0]]) + [*FAR[:2], 0])
        with self.assertRaisesRegex(InputError, "does not lie on"):
            mending.along_line(m, np.array([[90.0, 2, 0], [98, 8, 0]]) + [*FAR[:2], 0])

    def test_a_line_that_leaves_the_surface(self):
        m = Mended.of(tin())
        made, _ = mending.along_line(m, np.array([[30.0, 20, 105], [50, 20, 105]]) + [*FAR[:2], 0])
        self.sound(made, m.base.plan_area)
        out = np.array([[30.0, 30], [60, 30], [60, 60], [30, 60]])
        cut = mending.cut_out(m, far(out))
        self.sound(cut, m.base.plan_area - 100, delaunay=False)
        self.sound(mending.cut_out(m, far(out), keep=True), 100.0, delaunay=False)
        with self.assertRaisesRegex(InputError, "does not lie on"):
            mending.cut_out(m, far(out + 100))


class Levels(unittest.TestCase):
    def setUp(self):
        self.m = Mended.of(tin(3))

    def test_mean_and_height(self):
        area = Area((ring_of(RING),)).size
        for level in (95.0, 103.0):
            self.assertAlmostEqual(net_over(mending.brought_to_mean(self.m, far(RING), level), level), 0.0, delta=1e-6)
        up, down = mending.raised(self.m, far(RING), 0.7), mending.raised(self.m, far(RING), -0.7)
        both = [change(self.m.base, one.surface) for one in (up, down)]
        self.assertAlmostEqual(both[0].net, -both[1].net, delta=1e-6)
        self.assertTrue(0.7 * 0.6 * area < both[0].fill < 0.7 * area)
        self.assertLess(both[0].cut, 1e-9)
        near(level_at(up, RING) - level_at(self.m, RING), 0, atol=1e-9, msg="the ring stays")
        with self.assertRaisesRegex(InputError, "no vertex"):
            mending.raised(self.m, far(RING * 0.001 + 17.3), 1.0)

    def test_water(self):
        made = mending.water(self.m, far(RING), 100.4)
        inside = np.array([[15.0, 15], [20, 18], [12, 18]])
        near(level_at(made, inside), 100.4, atol=1e-9)
        near(level_at(made, RING), 100.4, atol=1e-9)
        self.assertAlmostEqual(net_over(made, 100.4), 0.0, delta=1e-9)
        away = np.array([[35.0, 35], [2, 2], [38, 4]])
        near(level_at(made, away), level_at(self.m, away), atol=0, msg="nothing else moves")
        shore = mending.shore(self.m, far(RING), 0.01)
        self.assertTrue(shore.min() < shore.mean() < shore.max())
        self.assertAlmostEqual(float(shore.max()), float(level_at(self.m, RING[[0]])[0]), delta=1.2)

    def test_rivers_fall_and_lie_nowhere_above_the_shore(self):
        def valley(xy):
            return 5 - 0.05 * xy[:, 0] + 0.3 * np.sin(xy[:, 0] / 2) + 0.1 * np.abs(xy[:, 1] - 20)

        m = Mended.of(tin(5, valley, 3000))
        x = np.linspace(4, 36, 6)
        ring = np.concatenate([np.column_stack([x, np.full(6, 18.0)]), np.column_stack([x[::-1], np.full(6, 22.5)])])
        made = mending.river(m, far(ring), 0.2)
        across = np.linspace(4.05, 35.95, 80)
        south, north = (level_at(made, np.column_stack([across, np.full(80, y)])) for y in (18.0, 22.5))
        near(south, north, atol=5e-3, msg="the same on both banks")
        self.assertTrue((np.diff(south) <= 1e-9).all())
        self.assertLess(south[-1], south[0] - 0.5)
        for y in (18.0, 22.5):
            shore = level_at(m, np.column_stack([across, np.full(80, y)]))
            self.assertTrue((level_at(made, np.column_stack([across, np.full(80, y)])) <= shore + 0.02).all())

    def test_falling(self):
        station, level = np.array([0.0, 0.25, 0.5, 0.75, 1.0, 0.5]), np.array([5.0, 6.0, 4.0, 4.5, 3.0, 1.0])
        bank = np.array([True, True, True, True, True, False])
        near(mending.falling(station, level, bank), [5.0, 4.5, 4.0, 3.5, 3.0, 4.0])
        near(mending.falling(station[:2], np.array([1.0, 2.0]), bank[:2]), [1.0, 1.0], msg="it never rises")

    def test_smoothing_by_hand(self):
        """A peak of one vertex goes to the mean of its neighbours at once; a second round takes what they had become."""
        xy = np.array([[0.0, 0], [2, 0], [2, 2], [0, 2], [1.1, 1.0]])
        m = Mended.of(triangulate(np.column_stack([xy, [1.0, 2, 3, 4, 50]]) + FAR))
        ring = far([[0.5, 0.5], [1.5, 0.5], [1.5, 1.5], [0.5, 1.5]])
        for rounds in (1, 4):
            near(level_at(mending.smoothed(m, ring, rounds), xy[[4]]), FAR[2] + 2.5)


def step(way, drawn, value=None, name="it", taken=True):
    values = (("way", way), *((("value", value),) if value is not None else ()))
    return Item(name, name, drawn if isinstance(drawn, Drawn) else Drawn.of(far(drawn)), values, taken)


class Study(CommandLine):
    def setUp(self):
        super().setUp()
        # Random places and four corners: their hull is the square that figures are of.
        whole = unittest.mock.patch("kerb.core.surface.cloud_top.RIM_EDGES", 1e9)
        whole.start()
        self.addCleanup(whole.stop)

    def sources(self, unit=METRE):
        xy = np.concatenate([np.random.default_rng(4).uniform(0, SIDE, (900, 2)), CORNERS])
        store = store_of((np.column_stack([xy, rolling(xy)]) + FAR) / unit.metres, unit)
        return sources_of(None, unit, surface=store)

    def test_figures_in_three_units_and_live_alike(self):
        """What is raised and lowered is a volume: the same in cubic metres, whatever the unit."""
        found = []
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            one = 1 / unit.metres
            ring = Drawn.of(far(RING) * one)
            steps = (
                step("raise", ring, 0.5 * one), step("water", ring, 100.2 * one, "pond"), step("cut", ring, taken=False),
            )  # fmt: skip
            setup = MendSetup(Scope("cloud"), steps=steps)
            sources = self.sources(unit)
            outcome = run(setup, sources, silent())
            live = ready(setup, sources).answer(setup)
            for key in ("net", "raised", "lowered", "changed_area"):
                self.assertAlmostEqual(outcome.value(key), live.value(key), places=9)
            self.assertAlmostEqual(outcome.value("net"), outcome.value("raised") - outcome.value("lowered"), places=6)
            self.assertEqual([row[2] for row in outcome.tables["steps"].rows], ["Raised by", "Water at a level"])
            self.assertEqual([note.text for note in outcome.warnings if note.code == "steps-off"], ["left out: it"])
            # What each step changed is what lies between the surfaces before and after it, over all of them.
            other = sources.surface("surface", Scope("cloud"))
            before = Mended.of(other.tin(*other.bounds))
            for one_step, row in zip(steps, outcome.tables["steps"].rows, strict=False):
                after = apply(before, one_step, None)
                whole, before = change(before.surface, after.surface), after
                near(row[3:], [whole.fill, whole.cut, whole.fill_area + whole.cut_area], 1e-6 * one**3)
                self.assertTrue(row[5] > 0.98 * shapely.Polygon(RING).area * one**2)
            tin = outcome.makes[0].item.thing.tin()
            drawn = outcome.layers["step pond"].xyz
            near(drawn[:, 2], tin.at(drawn[:, :2]), 1e-6)
            z = tin.points[np.unique(tin.triangles), 2]
            near([outcome.value("lowest"), outcome.value("highest")], [z.min(), z.max()])
            level = np.average(tin.points[tin.triangles, 2].mean(axis=1), weights=tin.plan_areas)
            near([outcome.value("mean"), outcome.value("triangles")], [level, len(tin.triangles)], 1e-6)
            near([outcome.value("plan_area"), outcome.value("plan_area_before")], np.full(2, SIDE**2 * one**2), 0.01)
            found.append([outcome.value("net") * unit.metres**3, outcome.value("changed_area") * unit.metres**2])
        for other in found[1:]:
            near(other, found[0], atol=2e-2)

    def test_live_does_not_do_again_what_was_done(self):
        sources = self.sources()
        first, second = step("raise", RING, 0.5, "a"), step("smooth", RING, None, "b")
        live = ready(MendSetup(Scope("cloud"), steps=(first, second)), sources)
        live.answer(MendSetup(Scope("cloud"), steps=(first, second)))
        kept = live.done[0][1]
        live.answer(MendSetup(Scope("cloud"), steps=(first, step("smooth", RING, 2.0, "b"))))
        self.assertIs(live.done[0][1], kept)
        one = live.answer(MendSetup(Scope("cloud"), steps=(second,)))
        self.assertAlmostEqual(one.value("net"), run(MendSetup(Scope("cloud"), steps=(second,)), sources, silent()).value("net"))

    def test_every_way_and_what_it_lacks(self):
        sources = self.sources()
        other = sources.surface("surface", Scope("cloud"))
        places = {"ring": RING, "line": RING[:2], "places": RING[:1]}
        m = Mended.of(other.tin(*other.bounds))
        for way in WAYS:
            made = apply(m, step(way.id, places[way.kind], {"smooth": 2.0, "spikes": 0.01}.get(way.id, 100.0)), other)
            self.assertFalse(np.array_equal(made.triangles, m.triangles) and np.array_equal(made.vertices, m.vertices), way.id)
        for way, words in (("level", "an elevation"), ("raise", "a height"), ("mean", "a level"), ("dig", "no way")):
            with self.assertRaisesRegex(InputError, words):
                apply(m, step(way, RING), other)
        with self.assertRaisesRegex(InputError, "it: choose the other surface"):
            apply(m, step("other", RING), None)
        shares = [float(level_at(apply(m, step("share", RING, share), None), [[15.0, 15]])[0]) for share in (5.0, 50.0, 95.0)]
        self.assertTrue(all(a < b for a, b in pairwise(shares)))
        lowest = float(level_at(apply(m, step("water", RING), None), [[15.0, 15]])[0])
        self.assertLessEqual(lowest, shares[0])

    def test_each_way_is_what_it_says(self):
        """A step against the edit it stands for, made directly; without a value by the usual one."""
        sources = self.sources()
        other = sources.surface("surface", Scope("cloud"))
        m = Mended.of(other.tin(*other.bounds))
        place, ring, points = far(RING[0]), far(RING), other.tin(*other.bounds).points + [0.3, 0.2, 1.5]
        second = TinSurface(triangulate(points), local_grid(METRE))
        wanted = {
            ("vertex", 101.0): mending.with_vertex(m, place, 101.0), ("vertex", None): mending.with_vertex(m, place, None),
            ("level", 102.0): mending.vertex_level(m, place, 102.0),
            ("off", None): mending.without_vertices(m, np.array([mending.nearest_vertex(m, place)])),
            ("swap", None): mending.swapped(m, place), ("bare", None): mending.without_vertices(m, mending.inside(m, ring)),
            ("smooth", None): mending.smoothed(m, ring, 5), ("smooth", 2.0): mending.smoothed(m, ring, 2),
            ("raise", -0.5): mending.raised(m, ring, -0.5), ("mean", 99.0): mending.brought_to_mean(m, ring, 99.0),
            ("keep", None): mending.cut_out(m, ring, keep=True), ("cut", None): mending.cut_out(m, ring),
            ("water", 99.5): mending.water(m, ring, 99.5),
            ("share", None): mending.water(m, ring, water_level(m, "share", ring, 10.0)),
            ("other", None): mending.other_inside(m, ring, second.at, points),
        }  # fmt: skip
        kinds = {way.id: way.kind for way in WAYS}
        for (way, value), direct in wanted.items():
            drawn = RING[:1] if kinds[way] == "places" else RING
            made = apply(m, step(way, drawn, value), second)
            np.testing.assert_array_equal(made.surface.points, direct.surface.points, f"{way} {value}")
            np.testing.assert_array_equal(made.surface.triangles, direct.surface.triangles, f"{way} {value}")

    def test_nothing_changed_and_nothing_left(self):
        sources = self.sources()
        first = sources.surface("surface", Scope("cloud"))
        still = step("level", CORNERS[:1], float(first.at(far(CORNERS[:1]))[0]))
        setup = MendSetup(Scope("cloud"), steps=(still,))
        found = run(setup, sources, silent())
        near([found.value(n) for n in ("net", "raised", "lowered", "changed_area")], np.zeros(4))
        near(found.tables["steps"].rows[0][3:], np.zeros(3))
        many = len(found.layers["surface"].triangles)
        for most, drawn in ((many, True), (many - 1, False)):
            with unittest.mock.patch("kerb.studies.mend.run.MOST_DRAWN", most):
                self.assertEqual("surface" in run(setup, sources, silent()).layers, drawn)
                self.assertIn("surface", run(replace(setup, keep=False), sources, silent()).layers)
        self.assertNotIn("mended", found.layers)
        live = ready(setup, sources)
        self.assertTrue(live.answer(setup).live)
        self.assertTrue(live.covers(replace(setup, steps=())))
        for other in (replace(setup, other=Scope("b")), replace(setup, surface=Scope("b"))):
            self.assertFalse(live.covers(other))
        with self.assertRaisesRegex(InputError, "nothing of the surface is left"):
            run(replace(setup, steps=(step("cut", CORNERS),)), sources, silent())

    def test_steps_in_a_file(self):
        drawn = Drawn.of(far(RING[:2]))
        steps = (
            step("water", RING, None, "pond"), step("line", drawn.with_level(0, 103.5), None, "edge"),
            step("vertex", RING[:3], 99.0, "three", taken=False),
        )  # fmt: skip
        path = self.folder / "steps.geojson"
        path.write_text(to_features(steps), encoding="utf-8")
        again = from_features(path)
        for one, other in zip(steps, again, strict=True):
            self.assertEqual(
                (one.name, one.ring, one.taken, dict(one.values)), (other.name, other.ring, other.taken, dict(other.values))
            )
        feature = json.loads(path.read_text())["features"][0]
        one = {"type": "Point", "coordinates": [1.0, 2.0, 3.5]}
        bare = {"geometry": one, "properties": {"way": "vertex"}}
        path.write_text(json.dumps({"features": [bare, {**bare, "geometry": {"type": "MultiPoint", "coordinates": [[1, 2]]}}]}))
        first, second = from_features(path)
        self.assertEqual((first.name, first.taken, first.ring.xy, first.ring.z), ("Step 1", True, ((1.0, 2.0),), (3.5,)))
        self.assertEqual((second.key, second.ring.level(0), second.value("value")), ("s2", None, None))
        for broken, words in (
            ({"properties": {"way": "dig"}}, "no way"), ({"properties": {"way": "line"}}, "has to be a LineString"),
            ({"geometry": one}, "is a Point, for 'water' it has to be a Polygon"), ({"properties": {}}, "no file of steps"), ({"geometry": None}, "no file of steps"),
            ({"properties": {"way": "water", "levels": [1.0]}}, "not a number"),
            ({"properties": {"way": "water", "value": float("nan")}}, "not a number"),
            ({"properties": {"way": "water", "value": float("inf")}}, "not a number"),
            ({"properties": {"way": "water", "levels": [float("nan")] * 5}}, "not a number"),
        ):  # fmt: skip
            path.write_text(json.dumps({"features": [{**feature, **broken}]}))
            with self.assertRaisesRegex(InputError, f"steps.geojson: .*{words}"):
                from_features(path)
        for text in ("", "[]", "{", '{"features": 3}'):
            path.write_text(text)
            with self.assertRaisesRegex(InputError, "steps.geojson"):
                from_features(path)

    def test_from_file_to_file(self):
        xy = np.concatenate([np.random.default_rng(4).uniform(0, SIDE, (900, 2)), CORNERS])
        np.savetxt(self.folder / "a.xyz", np.column_stack([xy, rolling(xy)]) + FAR, fmt="%.3f")
        steps = self.folder / "steps.geojson"
        steps.write_text(to_features((step("water", RING, 100.2, "pond"),)))
        made, copy, report = self.folder / "m.xml", self.folder / "copy.geojson", self.folder / "m.pdf"
        code, _ = self.kerb(
            "mend", self.folder / "a.xyz", "--steps", steps, "--out", made, "--steps-out", copy, "--report", report
        )
        self.assertEqual(code, 0, self.error)
        self.assertEqual(from_features(copy)[0].ring, from_features(steps)[0].ring)
        self.assertTrue(report.read_bytes().startswith(b"%PDF"))
        again = self.json("cutfill", self.folder / "a.xyz", made)["figures"]
        first = self.json("mend", self.folder / "a.xyz", "--steps", steps)["figures"]
        self.assertAlmostEqual(again["net"]["value"], first["net"]["value"], delta=0.02)
        for words, wrong in (
            (("--steps", steps, "--out", made), "m.xml"), (("--steps", steps, "--steps-out", steps), "input"),
            ((), "Add a step"), (("--steps", self.folder / "none.geojson"), "No such file"),
        ):  # fmt: skip
            code, _ = self.kerb("mend", self.folder / "a.xyz", *words)
            self.assertNotEqual(code, 0)
            self.assertIn(wrong, self.error)
