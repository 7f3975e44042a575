"""Floors held against designs, at further dates, with flow lines, labels, plan and pictures to scale."""

import unittest

import ezdxf
import numpy as np
import rasterio

from kerb.core.errors import NotDeterminable
from kerb.core.floor.water import flow_lines, water_on
from kerb.core.geometry.features import Line, LineSet
from kerb.core.geometry.mesh import TriangleMesh
from kerb.core.reference import local_grid
from kerb.core.things import LINES, SURFACE, Placed
from kerb.core.units import METRE, US_SURVEY_FOOT
from kerb.studies.scope import Scope
from kerb.studies.sources import Source
from tests.below.test_floor import asked, floor
from tests.support import FAR, CommandLine, near, store_of


def placed(kind, thing, unit=METRE):
    """A thing in metres from the far corner, in a unit."""
    return Placed(kind, thing.mapped(lambda xyz: (xyz + FAR) / unit.metres), local_grid(unit))


class Design(unittest.TestCase):
    def test_against_a_design_surface_in_two_units(self):
        """The floor lies 4 mm above a design that falls one percent to the east; what lies beside the design does not count."""
        for unit in (METRE, US_SURVEY_FOOT):
            corners = np.array([[-1.0, -1, 0.01], [8, -1, -0.08], [8, 10, -0.08], [-1, 10, 0.01]])
            mesh = TriangleMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32))
            points = floor(lambda x, y: 0.004 - 0.01 * x)
            found = asked(points, unit, {"design": placed(SURFACE, mesh, unit)}, reference="surface", design=Scope("design"))
            near(np.array([found.value("max_high"), found.value("max_low")]) * unit.metres, [0.004, 0.0], 6e-4)
            near(found.value("area") * unit.metres**2, (8 - 0.3) * (9 - 0.6), 2.0)
            self.assertIn("beside-design", [note.code for note in found.warnings])
            self.assertIn("the design surface design", found.method)
        far = TriangleMesh(corners + [100, 0, 0], mesh.triangles)
        with self.assertRaisesRegex(NotDeterminable, "does not lie under the floor"):
            asked(points, METRE, {"design": placed(SURFACE, far)}, reference="surface", design=Scope("design"))


class Dates(unittest.TestCase):
    def test_a_hump_that_was_ground_off(self):
        """Before: a hump of 12 mm; after: of 3 mm, and 2 mm lower in all. Another corner of points, so another grid by itself."""
        hump = lambda high: lambda x, y: np.maximum(high - 0.008 * np.hypot(x - 6, y - 4.5), 0.0)  # noqa: E731
        for unit in (METRE, US_SURVEY_FOOT):
            after = floor(lambda x, y: hump(0.003)(x, y) - 0.002, seed=7) + [0, 0, 0]
            after = after[(after[:, 0] > 0.33) & (after[:, 1] > 0.21)]
            later = Source("l", "After", store=store_of((after + FAR) / unit.metres, unit, scale=1e-5), epoch="2026-03-01")
            elsewhere = Source("e", "Yard", store=store_of((after + FAR + [90, 0, 0]) / unit.metres, unit, scale=1e-5))
            found = asked(
                floor(hump(0.012)), unit, {"later.0": later, "later.1": elsewhere}, reference="level", reference_level=FAR[2],
                later=(Scope("later.0"), Scope("later.1")),
            )  # fmt: skip
            table = found.tables["dates"]
            first, second, third = (dict(zip([c.name for c in table.columns], row, strict=True)) for row in table.rows)
            self.assertEqual([second["name"], second["date"], third["ff"]], ["After", "2026-03-01", None])
            near(np.array([first["max_high"], second["max_high"]]) * unit.metres, [0.012, 0.001], 1e-3)
            near(second["fall"] * unit.metres, -0.002 - 0.009, 8e-4)
            near(second["rise"] * unit.metres, -0.002, 3e-4)
            self.assertIsNone(first["mean_change"])
            self.assertGreater(second["ff"], first["ff"])
            change = found.layers["change 1"]
            near(change.values.min() * unit.metres, -0.011, 8e-4)
            self.assertIn("no-floor", [note.code for note in found.warnings])


class Flow(unittest.TestCase):
    def test_ways_run_down_and_join(self):
        """A valley to the south: a trunk along its middle, ways from both sides join it, none runs up."""
        y, x = np.mgrid[0:40, 0:41] * 0.25
        z = 0.02 * y + 0.01 * np.abs(x - 5.0)
        water = water_on(z, (0.0, 0.0), 0.25, 0.001)
        ways = flow_lines(water, z, (0.0, 0.0), 0.25)
        self.assertGreater(len(ways), 0)
        near(ways[0][-1], [5.0, 0.0], 0.01)
        seen = set()
        for way in ways:
            column, row = np.round(way / 0.25).astype(int).T
            self.assertLessEqual(np.diff(z[row, column]).max(), 0)
            inner = set(zip(row[:-1].tolist(), column[:-1].tolist(), strict=True))
            self.assertFalse(inner & seen, "no two ways share a stretch")
            seen |= inner

    def test_outlets_take_what_gathers(self):
        y, x = np.mgrid[0:20, 0:20] * 0.5
        z = 0.01 * np.hypot(x - 5, y - 5)
        water = water_on(z, (0.0, 0.0), 0.5, 0.001, np.array([[5.0, 5.0]]))
        ways = flow_lines(water, z, (0.0, 0.0), 0.5, 0.02)
        self.assertTrue(all(np.hypot(*(ways[0][-1] - [5, 5])) < 0.6 for _ in (0,)))


class Drawn(CommandLine):
    def test_labels_plan_and_a_picture_to_scale(self):
        points = floor(lambda x, y: np.where(x < 6, 0.004, -0.004) + 0 * y, size=(12.0, 6.0))
        cloud, walls = self.folder / "slab.csv", self.folder / "walls.geojson"
        np.savetxt(cloud, points + FAR, fmt="%.5f", delimiter=",", header="x,y,z", comments="")
        line = [[float(FAR[0]) + x, float(FAR[1]) + 3.0] for x in (0, 12)]
        walls.write_text('{"type":"Feature","properties":{},"geometry":{"type":"LineString","coordinates":' + str(line) + "}}")
        common = ("floor", cloud, "--unit", "m", "--tolerance", "0.002", "--step", "0.05", "--spacing", "0.2", "--reference", "level",
                  "--reference-level", str(FAR[2]))  # fmt: skip
        for labels, pattern in (("deviation", "+0.0040"), ("level", f"{FAR[2] + 0.004:.4f}")):
            out = self.folder / f"{labels}.dxf"
            more = ("--labels", labels, "--label-every", "1", "--letters", "0.2", "--plan", walls, "--out", out)
            self.assertEqual(self.kerb(*common, *more)[0], 0, self.error)
            space = ezdxf.readfile(out).modelspace()
            texts = list(space.query(f'TEXT[layer=="{"deviations" if labels == "deviation" else "levels"}"]'))
            self.assertIn(pattern, {text.dxf.text for text in texts})
            self.assertEqual({text.dxf.height for text in texts}, {0.2})
            east = np.unique(np.round([text.dxf.insert.x for text in texts], 3))
            near(np.diff(east), 1.0, 1e-3)
            self.assertEqual(len(space.query('*[layer=="plan"]')), 1)
        for name in ("map.tif", "map.png", "map.jpg"):
            self.assertEqual(self.kerb(*common, "--picture", self.folder / name)[0], 0, self.error)
        with rasterio.open(self.folder / "map.tif") as read:
            image, pixel = read.read(), read.transform.a
            colour = lambda e, n: image[:, int((read.transform.f - n) / pixel), int((e - read.transform.c) / pixel)]  # noqa: E731
            high, low = colour(FAR[0] + 2, FAR[1] + 3), colour(FAR[0] + 10, FAR[1] + 3)
        self.assertEqual([high[3], low[3]], [255, 255])
        self.assertGreater(int(high[0]), int(high[2]), "high is amber")
        self.assertGreater(int(low[2]), int(low[0]), "low is indigo")
        self.assertTrue((self.folder / "map.pgw").exists() and (self.folder / "map.jgw").exists())

    def test_a_plan_without_labels(self):
        lines = LineSet((Line(np.array([[0.0, 3, 0], [12, 3, 0]]), False, "joint"),))
        found = asked(floor(lambda x, y: 0 * x), METRE, {"plan": placed(LINES, lines)}, plan="plan", labels="none")
        self.assertNotIn("labels", found.layers)
        near(found.layers["plan 0"].xyz[:, :2] - FAR[:2], [[0, 3], [12, 3]], 1e-9)
