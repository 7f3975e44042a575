"""Floor plans against rooms whose walls are known: in three units, turned, furnished, with doors, arcs and columns."""

import json
import unittest

import ezdxf
import numpy as np
import shapely

from kerb.core.errors import InputError, NotDeterminable
from kerb.core.plan.slice_cells import cells_of
from kerb.core.plan.walls import Rules, crossing, drawn_wall, main_direction, walls_of
from kerb.core.progress import silent
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT
from kerb.studies.drawn import Drawn, Item
from kerb.studies.plan.kind import PLAN, begin, level_at
from kerb.studies.plan.run import run
from kerb.studies.plan.setup import PlanSetup
from kerb.studies.scope import Scope
from tests.support import FAR, CommandLine, near, sources_of, store_of

TWO_ROOMS = [
    ((0, 0), (6, 0)), ((0, 0), (0, 4)), ((0, 4), (6, 4)), ((6, 0), (6, 1)), ((6, 1.9), (6, 4)), ((6.15, 0), (6.15, 1)),
    ((6.15, 1.9), (6.15, 4)), ((6, 1), (6.15, 1)), ((6, 1.9), (6.15, 1.9)), ((6.15, 0), (11.15, 0)), ((6.15, 4), (11.15, 4)),
    ((11.15, 0), (11.15, 4)),
]  # fmt: skip


def face(a, b, rng, density=900.0, noise=0.003, height=(0.0, 2.6)):
    """Points of a wall face from a to b (2,), so many a square metre."""
    a, b = np.asarray(a, float), np.asarray(b, float)
    long = np.hypot(*(b - a))
    n = int(density * long * (height[1] - height[0]))
    across = np.array([a[1] - b[1], b[0] - a[0]]) / long
    xy = a + rng.random((n, 1)) * (b - a) + rng.normal(0, noise, (n, 1)) * across
    return np.column_stack([xy, rng.uniform(*height, n)])


def ring_of(centre, radius, rng, n=30_000, span=(0.0, 2 * np.pi), noise=0.003):
    """Points of a round wall."""
    angle, r = rng.uniform(*span, n), radius + rng.normal(0, noise, n)
    return np.column_stack([centre[0] + r * np.cos(angle), centre[1] + r * np.sin(angle), rng.uniform(0, 2.6, n)])


def walls(lines, seed=1, **more):
    """Points of several faces."""
    rng = np.random.default_rng(seed)
    return np.concatenate([face(a, b, rng, **more) for a, b in lines])


def turned(points, angle):
    """Points turned about the origin."""
    c, s = np.cos(angle), np.sin(angle)
    return np.column_stack([points[:, :2] @ np.array([[c, s], [-s, c]]), points[:, 2]])


def asked(points, unit=METRE, **values):
    """The outcome of a plan of points in metres, in a unit and far from the origin."""
    store = store_of((points + FAR) / unit.metres, unit, scale=0.0001)
    usual = {"level": FAR[2] + 1.2, "thickness": 0.1, "tolerance": 0.02, "shortest": 0.3, "opening": 1.2} | values
    made = {k: v / unit.metres if isinstance(v, float) and k != "square" else v for k, v in usual.items()}
    return run(PlanSetup(cloud=Scope("cloud"), **made), sources_of(store, unit), silent())


def areas(outcome):
    """Areas of the rooms, the smallest first."""
    return sorted(row[1] for row in outcome.tables["rooms"].rows)


class Rooms(unittest.TestCase):
    def test_two_rooms_and_a_door_in_three_units(self):
        """20 and 24 m² between the faces, a doorway of 0.9 m closed; the wall between is no room."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            found = asked(turned(walls(TWO_ROOMS), 0.3), unit)
            with self.subTest(unit.code):
                self.assertEqual(found.value("rooms"), 2)
                near(np.array(areas(found)) * unit.metres**2, [20.0, 24.0], 0.02)
                near(sorted(row[2] * unit.metres for row in found.tables["rooms"].rows), [18.0, 20.0], 0.01)
                near(found.value("room_area") * unit.metres**2, 44.0, 0.03)
                self.assertFalse([note for note in found.warnings if note.code == "open-ends"])

    def test_lines_lie_on_the_faces(self):
        """Ends to 5 mm, spread of the points as it was made, and as many points as there are on each face."""
        found = asked(walls(TWO_ROOMS))
        faces = [shapely.LineString(line) for line in TWO_ROOMS]
        rows = [
            dict(zip([c.name for c in found.tables["lines"].columns], row, strict=True)) for row in found.tables["lines"].rows
        ]
        self.assertEqual(len(rows), 10)
        for row in rows:
            ends = np.array([[row["e1"], row["n1"]], [row["e2"], row["n2"]]]) - FAR[:2]
            least = min(one.hausdorff_distance(shapely.LineString(ends)) for one in faces)
            self.assertLess(least, 0.03)
            self.assertLess(min(one.distance(shapely.Point(ends.mean(axis=0))) for one in faces), 0.001)
            self.assertAlmostEqual(row["rms"], 0.003, delta=0.001)
            self.assertAlmostEqual(row["points"] / (90 * row["length"]), 1.0, delta=0.15)
        near(found.value("length"), sum(row["length"] for row in rows), 1e-9)

    def test_furniture_strays_and_uneven_density_move_no_wall(self):
        rng = np.random.default_rng(4)
        near_scanner = face((0, 0), (2, 0), rng, density=30_000)
        chairs = np.concatenate([rng.normal([x, y, 1.2], [0.08, 0.08, 0.2], (900, 3)) for x, y in ((2, 2), (4, 1), (9, 3))])
        strays = np.column_stack([rng.uniform([-1, -1], [12, 5], (400, 2)), rng.uniform(1.1, 1.3, 400)])
        found = asked(np.concatenate([walls(TWO_ROOMS), near_scanner, chairs, strays]))
        near(areas(found), [20.0, 24.0], 0.03)

    def test_a_column_is_taken_off_and_an_oblique_wall_kept(self):
        lines = [((0, 0), (8, 0)), ((8, 0), (8, 3)), ((8, 3), (5, 6)), ((5, 6), (0, 6)), ((0, 6), (0, 0))]
        column = [((3, 3), (3.5, 3)), ((3.5, 3), (3.5, 3.5)), ((3.5, 3.5), (3, 3.5)), ((3, 3.5), (3, 3))]
        found = asked(walls([*lines, *column]))
        near(areas(found), [48 - 4.5 - 0.25], 0.02)

    def test_round_rooms_close_whatever_gaps_chance_leaves(self):
        for seed in range(12):
            rng = np.random.default_rng(seed)
            whole = asked(ring_of((0, 0), 2.0, rng, n=23_000), arcs=True)
            near(areas(whole), [np.pi * 4], 0.03, seed)
            doors = np.sort(rng.uniform(0, 2 * np.pi, 2)) if seed % 2 else rng.uniform(0, 2 * np.pi, 1)
            points = ring_of((0, 0), 2.0, rng, n=60_000)
            angle = np.arctan2(points[:, 1], points[:, 0])
            for door in doors:
                away = np.abs((angle - door + np.pi) % (2 * np.pi) - np.pi)
                points, angle = points[away > 0.22], angle[away > 0.22]
            near(areas(asked(points, arcs=True)), [np.pi * 4], 0.04, (seed, doors))

    def test_round_walls(self):
        rng = np.random.default_rng(5)
        round_ = asked(ring_of((0, 0), 3.0, rng), arcs=True)
        near(areas(round_), [9 * np.pi], 0.03)
        row = round_.tables["lines"].rows[0]
        self.assertEqual(len(round_.tables["lines"].rows), 1)
        near([row[5], row[6]], [6 * np.pi, 3.0], 0.01)
        # A room with one rounded corner of 1 m.
        lines = [((0, 0), (5, 0)), ((6, 1), (6, 4)), ((6, 4), (0, 4)), ((0, 4), (0, 0))]
        corner = ring_of((5, 1), 1.0, rng, 4000, (-np.pi / 2, 0))
        near(areas(asked(np.concatenate([walls(lines), corner]), arcs=True)), [24 - (1 - np.pi / 4)], 0.03)

    def test_an_open_room_is_told_and_closed_by_hand(self):
        """One side was not scanned: no room, three open ends or more; a drawn wall closes it, an area takes a cupboard out."""
        lines = [((0, 0), (6, 0)), ((0, 0), (0, 4)), ((0, 4), (6, 4))]
        cupboard = [((2, 0.6), (3, 0.6)), ((2, 0), (2, 0.6)), ((3, 0), (3, 0.6))]
        points = walls(lines + cupboard)
        found = asked(points)
        self.assertEqual(found.value("rooms"), 0)
        self.assertIsNone(found.value("room_area"))
        self.assertIn("open-ends", [note.code for note in found.warnings])
        wall = Item("a", "East", Drawn.of(np.array([[6.0, 0.01], [6.0, 3.98]]) + FAR[:2]), (("way", "wall"),))
        off = Item(
            "b", "Cupboard", Drawn.of(np.array([[1.9, 0.05], [3.1, 0.05], [3.1, 0.7], [1.9, 0.7]]) + FAR[:2]), (("way", "off"),)
        )
        found = asked(points, marks=(wall, off))
        near(areas(found), [24.0], 0.03)
        self.assertIn("Drawn walls", {layer.title for layer in found.layers.values()})

    def test_right_angles(self):
        """A wall 0.4° off the square is turned where that is asked for, one at 45° is not."""
        off = np.tan(np.radians(0.4)) * 4
        lines = [((0, 0), (6, 0)), ((6, 0), (6 + off, 4)), ((6 + off, 4), (0, 4)), ((0, 4), (0, 0)), ((1, 1), (2, 2))]
        for square, wanted in ((0.0, 0.4), (1.0, 0.0)):
            found = asked(walls(lines), square=square)
            angle = [np.degrees(np.arctan2(r[4] - r[2], r[3] - r[1])) % 90 for r in found.tables["lines"].rows]
            apart = [min(a, 90 - a) for a in angle]
            # What is turned takes the mean direction of all: a fifth of the length is off.
            self.assertAlmostEqual(np.ptp(sorted(apart)[:-1]), wanted, delta=0.06 if wanted else 1e-6)
            self.assertAlmostEqual(max(apart), 45.0, delta=0.5)

    def test_what_cannot_be(self):
        points = walls(TWO_ROOMS)
        with self.assertRaisesRegex(InputError, "no points in the slice at .* the cloud extends from"):
            asked(points, level=FAR[2] + 9.0)
        with self.assertRaisesRegex(NotDeterminable, "too few for a floor plan"):
            asked(points[:20])
        with self.assertRaisesRegex(InputError, "Enter or pick the level"):
            asked(points, level=None)
        alone = asked(np.random.default_rng(1).uniform([0, 0, 1.1], [30, 30, 1.3], (300, 3)))
        self.assertEqual([alone.value("lines"), alone.value("rooms")], [0, 0])
        self.assertIn("no-lines", [note.code for note in alone.warnings])
        with self.assertRaisesRegex(InputError, "no elevation at"):
            level_at(PlanSetup(), None, np.array([0, 0, np.nan]))
        self.assertEqual(level_at(PlanSetup(), None, np.array([0, 0, 1.23456])), {"level": 1.235})
        self.assertEqual(begin(PlanSetup(), np.array([0, 0, 2.0]), np.array([9, 9, 12.0])).level, 3.2)


class Lines(unittest.TestCase):
    def test_main_direction_and_crossings(self):
        long, short = drawn_wall(np.zeros(2), np.array([10.0, 1.0])), drawn_wall(np.zeros(2), np.array([1.0, 1.0]))
        square = drawn_wall(np.array([3.0, 5.0]), np.array([2.5, 10.0]))
        near(np.degrees(main_direction([short, long, square])), np.degrees(np.arctan2(1, 10)), 1e-6)
        near(crossing(long, drawn_wall(np.array([5.0, -1.0]), np.array([5.0, 4.0]))), [5.0, 0.5], 1e-12)
        self.assertIsNone(crossing(long, drawn_wall(np.zeros(2), np.array([10.0, 2.0]))))

    def test_faces_of_a_thin_wall_stay_apart(self):
        """100 mm between the faces: two lines, each within a millimetre."""
        points = walls([((0, 0), (5, 0)), ((0, 0.1), (5, 0.1))])[:, :2]
        found = walls_of(cells_of(points, 0.02), Rules(0.02, 0.3), silent())
        near(sorted(float((wall.a + wall.b)[1] / 2) for wall in found), [0.0, 0.1], 0.001)

    def test_many_rooms(self):
        """Hundred rooms in rows, each with a door: all are found, each to a percent."""
        lines = []
        for x in np.arange(10) * 4.15:
            for y in np.arange(10) * 4.15:
                room = [
                    ((0, 0), (4, 0)),
                    ((0, 0), (0, 4)),
                    ((0, 4), (1.5, 4)),
                    ((2.5, 4), (4, 4)),
                    ((4, 0), (4, 1)),
                    ((4, 1.9), (4, 4)),
                ]
                lines += [(np.add(a, (x, y)), np.add(b, (x, y))) for a, b in room]
        found = asked(walls(lines, height=(1.1, 1.3)))
        self.assertEqual(found.value("rooms"), 100)
        near(areas(found), np.full(100, 16.0), 0.05)


class Verb(CommandLine):
    def test_figures_and_files(self):
        cloud = self.folder / "rooms.csv"
        np.savetxt(cloud, (walls(TWO_ROOMS) + FAR) / 0.3048, fmt="%.4f", delimiter=",", header="x,y,z", comments="")
        level = str((FAR[2] + 1.2) / 0.3048)
        common = (cloud, "--unit", "ft", "--level", level, "--thickness", "0.5", "--tolerance", "0.07", "--opening", "4")
        out = self.folder / "rooms.dxf"
        found = self.json("plan", *common, "--shortest", "1", "--out", out)
        self.assertEqual(found["figures"]["rooms"]["value"], 2)
        self.assertEqual(found["figures"]["length"]["unit"], "ft")
        self.assertEqual([c["name"] for c in found["tables"]["rooms"]["columns"]][:3], ["name", "area", "perimeter"])
        names = [c["name"] for c in found["tables"]["lines"]["columns"]]
        self.assertLessEqual({"e1", "n1", "e2", "n2", "rms", "points"}, set(names))
        drawing = ezdxf.readfile(out)
        self.assertEqual(drawing.header["$INSUNITS"], 2)
        space = drawing.modelspace()
        self.assertEqual({entity.dxf.layer for entity in space}, {"walls", "rooms", "room names"})
        said = sorted(text.dxf.text for text in space.query("TEXT"))
        self.assertRegex(said[0], r"^Room 1 .*\d ft²")
        near(sum(row[1] for row in found["tables"]["rooms"]["rows"]) * 0.3048**2, 44.0, 0.1)
        # By hand: closed lines leave points out, open ones are walls.
        marks = self.folder / "marks.geojson"
        corners = ((7, -1), (12, -1), (12, 5), (7, 5), (7, -1))
        ring = [[float(FAR[0] + x) / 0.3048, float(FAR[1] + y) / 0.3048] for x, y in corners]
        shape = {"type": "Polygon", "coordinates": [ring]}
        marks.write_text(json.dumps({"type": "Feature", "properties": {}, "geometry": shape}))
        self.assertEqual(self.kerb("plan", *common)[0], 0, self.error)
        less = self.json("plan", *common, "--marks", marks)
        self.assertEqual(less["figures"]["rooms"]["value"], 1)
        status, _ = self.kerb("plan", *common[:3], "--thickness", "0.5")
        self.assertEqual(status, 2)
        self.assertIn("level", self.error)
        self.assertEqual(PLAN.setup.main(), "cloud")
        pdf = self.folder / "p.pdf"
        self.assertEqual(self.kerb("plan", *common, "--report", pdf)[0], 0, self.error)
