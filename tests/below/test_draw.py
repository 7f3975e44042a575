"""The picture maker: projection, depth order, determinism, closed surfaces with open gaps, contours, ramps."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import rasterio

from kerb.core.cloud.filters import Filter
from kerb.core.errors import InputError, OutputError
from kerb.core.reference import local_grid
from kerb.core.units import METRE
from kerb.draw.camera import Camera, fitted
from kerb.draw.picture import cut_of, render
from kerb.draw.ramps import ANCHORS, ROUND, SEQUENTIAL, SIGNED, _to_lab, table, table_between
from kerb.draw.raster_kernels import close_pinholes
from kerb.draw.scene import FADE, HIDE, CloudLayer, MeshLayer, Scene, Style
from kerb.draw.seen import seen
from kerb.report.view_out import write_view
from tests.support import FAR, frustum, jittered, near, store_of

SIZE = (240, 180)


def yard():
    xy = jittered(14, 0.15)
    return np.column_stack([xy, frustum(xy)]) + FAR


class Cameras(unittest.TestCase):
    def cameras(self):
        plan = Camera(tuple(FAR), 0.1)
        return (plan, replace(plan, tilt=0.0, heading=90.0), replace(plan, tilt=30.0, heading=200.0, exaggeration=3.0),
                replace(plan, tilt=40.0, perspective=True, exaggeration=2.0))  # fmt: skip

    def test_plan_has_north_up_and_east_right(self):
        seen = self.cameras()[0].project(FAR + [[1, 0, 0], [0, 1, 0], [0, 0, 5]], SIZE)
        near(seen[:, :2], [[130, 90], [120, 80], [120, 90]], atol=1e-9)
        self.assertLess(seen[2, 2], seen[0, 2])

    def test_unproject_undoes_project(self):
        rng = np.random.default_rng(0)
        for camera in self.cameras():
            for place in FAR + rng.uniform(-5, 5, (20, 3)):
                x, y, depth = camera.project(place[None], SIZE)[0]
                near(camera.unproject(x, y, depth, SIZE), place, atol=1e-6)

    def test_zoom_keeps_the_place_under_the_cursor(self):
        for camera in self.cameras():
            x, y, depth = 40.0, 150.0, camera.distance(SIZE)
            place = camera.unproject(x, y, depth, SIZE)
            again = camera.zoomed(1.7, x, y, SIZE).project(place[None], SIZE)[0]
            near(again[:2], (x, y), atol=1e-6)

    def test_fit_shows_the_whole_box(self):
        low, high = FAR - [20, 10, 0], FAR + [20, 10, 6]
        for camera in self.cameras():
            seen = fitted(low, high, SIZE, camera).project(np.array([low, high, FAR]), SIZE)
            self.assertTrue(np.all((seen[:, :2] > -1) & (seen[:, :2] < np.array(SIZE) + 1)))


class Limits(unittest.TestCase):
    """Limits and sizes come from the points there are, not from tiles with hardly any."""

    def test_strays_neither_rule_the_ramp_nor_stand_as_balls(self):
        rng = np.random.default_rng(2)
        xy = rng.uniform(0, 40, (120_000, 2))
        body = np.column_stack([xy, xy[:, 0] * 0.1])
        strays = np.column_stack([rng.uniform(-400, 400, (300, 2)), rng.uniform(300, 900, 300)])
        layer = CloudLayer(store_of(np.vstack([body, strays]) + FAR, scale=0.001))
        self.assertGreater(len(layer.store.tiles), 3, "strays have tiles of their own")
        low, high = np.array(layer.limits()) - FAR[2]
        self.assertTrue(-0.1 < low < 0.1 and 3.9 < high < 4.1, (low, high))
        rows = layer.store.fair_rows(5_000)
        self.assertTrue(4_900 < len(rows) < 5_100)
        self.assertLess(np.mean(layer.store.elevations(rows) > FAR[2] + 100), 0.005)
        self.assertEqual(len(layer.store.fair_rows(10**9)), layer.store.count)
        camera = Camera(tuple(FAR + [0, 0, 600.0]), 2.0, tilt=0.0)
        rows = render(Scene([layer]), camera, SIZE).buffer.rows
        alone = np.isin(rows, np.flatnonzero(layer.store.elevations(slice(None)) > FAR[2] + 100))
        self.assertLess(np.count_nonzero(alone), 4 * len(np.unique(rows[alone])), "a stray is a dot")


class Cuts(unittest.TestCase):
    """Meshes in a slice: cut off at its faces, and the line of its plane drawn, be a face seen edge-on."""

    def box(self):
        import trimesh

        made = trimesh.creation.box((8.0, 6.0, 4.0))
        return MeshLayer(made.vertices + FAR, np.asarray(made.faces, np.int32), (200, 60, 60))

    def test_the_plane_of_a_section_cuts_a_box_in_a_rectangle(self):
        camera = Camera(tuple(FAR + [0, 0.7, 0]), 0.1, tilt=0.0, thickness=0.5)
        ends, triangles = cut_of(self.box(), camera, SIZE)
        lengths = np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1])
        self.assertAlmostEqual(lengths.sum(), 2 * (80 + 40), places=6)
        near(ends.reshape(-1, 2).min(axis=0), [120 - 40, 90 - 20], atol=1e-9)
        near(ends.reshape(-1, 2).max(axis=0), [120 + 40, 90 + 20], atol=1e-9)
        self.assertEqual(len(triangles), 8)
        scene = Scene(meshes=[self.box()])
        image = render(scene, camera, SIZE).image[..., 2::-1].astype(int)
        ink = np.abs(image - scene.background).sum(axis=2) > 60
        self.assertTrue(ink[90, 78:83].any() and ink[90, 158:163].any(), "walls seen edge-on")
        self.assertTrue(ink[70, 90:150].all() and ink[110, 90:150].all(), "no dashes")
        self.assertFalse(ink[80:100, 90:150].any(), "what lies outside the slice is not drawn")
        for away in (3.1, -3.1):
            self.assertEqual(len(cut_of(self.box(), replace(camera, target=tuple(FAR + [0, away, 0])), SIZE)[0]), 0)


class Pictures(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.points = yard()
        cls.store = store_of(cls.points)
        cls.camera = fitted(FAR - [14, 14, 0], FAR + [14, 14, 6], SIZE, Camera(tuple(FAR), 1.0))

    def picture(self, camera=None, budget=None, store=None, meshes=(), **style):
        scene = Scene([CloudLayer(store or self.store, Style(**style))], list(meshes))
        return render(scene, camera or self.camera, SIZE, budget)

    def test_equal_input_gives_equal_pixels(self):
        one, two = self.picture(contour=0.5), self.picture(contour=0.5)
        np.testing.assert_array_equal(one.image, two.image)
        self.assertEqual(one.buffer.drawn, self.store.count)
        self.assertTrue(one.buffer.complete)

    def test_the_nearest_point_wins(self):
        above = self.points[::7].copy()
        above[:, 2] += 50
        store = store_of(np.concatenate([self.points, above]))
        picture = self.picture(store=store)
        rows = picture.buffer.rows[picture.buffer.rows >= 0]
        self.assertGreater(np.mean(store.coordinates(rows)[:, 2] > FAR[2] + 40), 0.2)
        place = picture.place_at(120, 90)
        self.assertGreater(place[2], FAR[2] + 40)

    def test_a_place_under_the_cursor_is_the_point_there(self):
        for camera in (self.camera, replace(self.camera, tilt=35.0, perspective=True)):
            picture = self.picture(camera)
            place = picture.place_at(120, 95)
            near(camera.project(place[None], SIZE)[0, :2], (120, 95), atol=6)

    def test_surfaces_close_and_gaps_stay_open(self):
        hole = np.hypot(*(self.points[:, :2] - FAR[:2] - [4, 4]).T) < 2
        camera = replace(self.camera, scale=0.06)
        whole = self.picture(camera).buffer.rows < 0
        holed = self.picture(camera, store=store_of(self.points[~hole])).buffer.rows < 0
        self.assertLess(whole.mean(), 0.002)
        size = np.pi * 4 / 0.06**2 / holed.size
        self.assertAlmostEqual(holed.mean(), size, delta=0.35 * size)

    def test_pinholes_are_closed_and_wider_gaps_stay_open(self):
        """By brute force: the nearer end of the row or column of background that a pixel lies in, where that is short."""
        rng = np.random.default_rng(6)
        for share, widest in ((0.1, 1), (0.3, 2), (0.6, 3)):
            rows = np.where(rng.random((23, 31)) < share, -1, np.arange(713).reshape(23, 31))
            rows[5:14, 8:19] = -1
            depth = np.where(rows < 0, np.inf, rng.random(rows.shape)).astype(np.float32)
            wanted_depth, wanted = depth.copy(), rows.copy()
            for y, x in np.argwhere(rows < 0):
                for line, at in ((rows[y], x), (rows[:, x], y)):
                    known = np.flatnonzero(line >= 0)
                    before, after = known[known < at][-1:], known[known > at][:1]
                    if len(before) and len(after) and after[0] - before[0] - 1 <= widest:
                        for end in line[[before[0], after[0]]]:
                            if depth.ravel()[end] < wanted_depth[y, x]:
                                wanted_depth[y, x], wanted[y, x] = depth.ravel()[end], end
            found_depth, found = np.empty_like(depth), np.empty_like(rows)
            for first, last in ((0, 9), (9, 23)):
                close_pinholes(depth, rows, widest, first, last, found_depth, found)
            np.testing.assert_array_equal(found, wanted)
            np.testing.assert_array_equal(found_depth, wanted_depth)
            self.assertTrue((found[6:13, 9:18] < 0).all(), "a gap is a gap")

    def test_tiles_about_as_dense_leave_no_edge(self):
        """Points of a slope, the tiles' spacing said to be 0.8 to 1.25 of what it is: the same picture, and another at twice."""
        xy = jittered(12, 0.06)
        with mock.patch("kerb.core.cloud.partition.TILE_POINTS", 9000), mock.patch("kerb.core.cloud.builder.TILE_POINTS", 9000):
            store = store_of(np.column_stack([xy, 0.7 * xy[:, 0]]) + FAR)
        usual = store.spacing
        self.assertGreater(len(store.tiles), 8)

        def drawn(*factors):
            store.tiles["spacing"] = usual * np.resize(factors, len(store.tiles))
            return self.picture(replace(self.camera, scale=0.05), store=store).buffer.depth.copy()

        even = drawn(1.0)
        np.testing.assert_array_equal(drawn(1.0, 0.8, 1.25, 1.0), even)
        self.assertGreater((drawn(1.0, 1.0, 2.0) != even).mean(), 0.05)

    def test_points_in_sight_are_counted(self):
        """Neither what a filter hides nor what lies beside the picture counts as drawn."""
        high = float(self.points[:, 2].mean())
        layer = CloudLayer(self.store, filters=(Filter("elevation", low=high),))
        drawn = render(Scene([layer]), self.camera, SIZE).buffer.drawn
        self.assertEqual(drawn, int(layer.shown().sum()))
        self.assertLess(drawn, self.store.count)
        near = replace(self.camera, scale=self.camera.scale / 3)
        x, y = near.project(self.points, SIZE)[:, :2].T
        beside = self.picture(near).buffer.drawn
        inside = int(((x > 0) & (x < SIZE[0]) & (y > 0) & (y < SIZE[1])).sum())
        self.assertTrue(inside <= beside < 1.6 * inside, (inside, beside))

    def test_a_budget_is_kept_and_said(self):
        picture = self.picture(budget=5000)
        self.assertLess(picture.buffer.drawn, 8000)
        self.assertFalse(picture.buffer.complete)

    def test_stopping_returns_at_once(self):
        picture = render(Scene([CloudLayer(self.store)]), self.camera, SIZE, None, lambda: True)
        self.assertFalse(picture.buffer.complete)
        self.assertEqual(picture.buffer.drawn, 0)

    def test_a_slice_shows_only_what_lies_in_it(self):
        camera = replace(self.camera, tilt=0.0, thickness=1.0)
        rows = self.picture(camera).buffer.rows
        north = self.store.coordinates(rows[rows >= 0])[:, 1] - FAR[1]
        self.assertLessEqual(np.abs(north).max(), 0.5 + 1e-3)

    def test_limits_hide_fade_and_clamp(self):
        kept = self.picture(low=FAR[2] + 2.0, high=FAR[2] + 4.0, beyond=HIDE).buffer.rows
        z = self.store.coordinates(kept[kept >= 0])[:, 2]
        self.assertTrue(np.all((z >= FAR[2] + 1.99) & (z <= FAR[2] + 4.01)))
        faded = self.picture(low=FAR[2] + 2.0, high=FAR[2] + 4.0, beyond=FADE).image
        clamped = self.picture(low=FAR[2] + 2.0, high=FAR[2] + 4.0).image
        self.assertGreater(faded[90, 50, :3].mean(), clamped[90, 50, :3].mean())

    def test_slope_and_aspect_of_surfaces(self):
        """Planes that fall by known angles to known directions, whichever way their triangles run; level ones fall nowhere."""
        for azimuth, steep in ((0, 10.0), (45, 30), (90, 45), (200, 89), (315, 2)):
            way = np.radians(azimuth)
            xy = np.array([[0.0, 0], [4, 1], [-1, 5]])
            z = -np.tan(np.radians(steep)) * (xy @ [np.sin(way), np.cos(way)])
            corners = np.column_stack([xy, z]) + FAR
            mesh = MeshLayer(corners, np.array([[0, 1, 2], [0, 2, 1]], np.int32), (1, 2, 3), by="slope")
            near(mesh.known(), [steep, steep], 1e-6)
            turned = replace(mesh, by="aspect").known()
            near((turned - azimuth + 180) % 360, [180, 180], 1e-6)
            self.assertEqual(mesh.steepest, max(np.percentile(mesh.slopes, 99), 1.0))
        level = MeshLayer(
            np.array([[0.0, 0, 1], [1, 0, 1], [0, 1, 1]]), np.array([[0, 1, 2]], np.int32), (90, 80, 70), ramp="Compass",
            limits=(0.0, 360.0), by="aspect",
        )  # fmt: skip
        self.assertTrue(np.isnan(level.known()).all())
        near(level.tones, np.array([[90.0, 80, 70]]) * (0.45 + 0.55 * 0.82))
        np.testing.assert_array_equal(table("Compass")[[0]], table("Compass")[[255]], "north is one colour from both sides")

    def test_edges_and_contours_of_surfaces(self):
        """A slope of two triangles: its edges are dark, its lines lie where its elevations say; without a cloud too."""
        corners = np.array([[-9, -9, 0.0], [9, -9, 0], [9, 9, 9], [-9, 9, 9.0]]) + FAR
        mesh = MeshLayer(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32), (200, 200, 200))
        camera = Camera(tuple(FAR + [0, 0, 4.5]), 0.1)
        drawn = [
            render(Scene(meshes=[one]), camera, (240, 200)).image[:, :, 1].astype(int)
            for one in (mesh, replace(mesh, edges=True), replace(mesh, contour=1.0))
        ]
        darker = [np.argwhere(one < drawn[0] - 10) for one in drawn[1:]]
        seam = darker[0][(abs(darker[0] - [100, 120]) < 80).all(axis=1)]
        near(seam[:, 1] - 120, 100 - seam[:, 0], atol=2.0)
        self.assertGreater(len(seam), 100)
        inner = darker[1][(abs(darker[1][:, 1] - 120) < 60) & (abs(darker[1][:, 0] - 100) < 75)]
        level = (FAR[1] + (100 - inner[:, 0] - 0.5) * 0.1 - FAR[1] + 9) / 2
        self.assertEqual(set(np.round(level).astype(int).tolist()), {1, 2, 3, 4, 5, 6, 7, 8})
        self.assertLess(np.abs(level - np.round(level)).max(), 0.1)


class SeenToScale(unittest.TestCase):
    """What a view shows as numbers: closed forms of a tilted plane, in plan, from the south and askew."""

    def setUp(self):
        corners = np.array([[-9, -9, 0.0], [9, -9, 0], [9, 9, 9], [-9, 9, 9.0]]) + FAR
        self.mesh = MeshLayer(corners, np.array([[0, 1, 2], [0, 2, 3]], np.int32), (200, 200, 200), ramp="Shore", limits=(0, 9))
        self.plan = Camera(tuple(FAR + [0, 0, 4.5]), 0.2, perspective=True, exaggeration=3.0)

    def test_elevations_and_their_places(self):
        for eye in (self.plan, replace(self.plan, tilt=0.0), replace(self.plan, tilt=30.0, heading=140.0)):
            found = seen(Scene(meshes=[self.mesh]), eye, (120, 100), 0.25)
            known = np.isfinite(found.values)
            self.assertGreater(np.count_nonzero(known), 800)
            local = found.places[known] - FAR
            near(local[:, 2], (local[:, 1] + 9) / 2, 1e-4)
            # The middle of its triangle colours a pixel.
            self.assertEqual(set(np.round(found.values[known] - FAR[2], 6)), {3.0, 6.0})
            rows, columns = np.nonzero(known)
            x, y = found.affine[2] + (columns + 0.5) * 0.25, found.affine[5] - (rows + 0.5) * 0.25
            if eye.tilt == 90.0:
                near(np.column_stack([x, y]), found.places[known][:, :2], 1e-6)
            elif eye.tilt == 0.0:
                near(np.column_stack([x, y]), np.column_stack([local[:, 0], found.places[known][:, 2]]), 1e-6)
            self.assertEqual(found.in_plan, eye.tilt == 90.0)
            self.assertEqual(found.image.shape[:2], found.values.shape)

    def test_cells_by_brute_force_and_files(self):
        cloud = CloudLayer(store_of(yard()))
        scene = Scene([cloud])
        eye = Camera(tuple(FAR), 0.1)
        fine = seen(scene, eye, SIZE, 0.2).values
        for take, of in (("median", np.nanmedian), ("lowest", np.nanmin), ("highest", np.nanmax)):
            found = seen(scene, eye, SIZE, 1.0, take)
            self.assertEqual(found.values.shape, (18, 24))
            block = fine[40:45, 50:55]
            self.assertEqual(found.values[8, 10], of(block))
        with tempfile.TemporaryDirectory() as folder:
            about = ("Elevation", "m", "m")
            for ending in (".asc", ".csv", ".tif"):
                path = Path(folder) / f"view{ending}"
                write_view(path, found, False, about, local_grid(METRE))
                self.assertGreater(path.stat().st_size, 100)
            with rasterio.open(Path(folder) / "view.tif") as raster:
                near(np.nan_to_num(raster.read(1, masked=True).filled(np.nan)), np.nan_to_num(found.values), 1e-4)
                near(raster.transform[:6], found.affine, 1e-9)
            rows = (Path(folder) / "view.csv").read_text().splitlines()
            self.assertEqual(len(rows) - 1, np.count_nonzero(np.isfinite(found.values)))
            with self.assertRaisesRegex(OutputError, "nothing in the view"):
                write_view(Path(folder) / "a.csv", replace(found, values=found.values * np.nan), False, about, local_grid(METRE))
        for pixel, take, words in ((0.0, "each", "above zero"), (1e-5, "each", "the most is"), (1.0, "mean", "no way")):
            with self.assertRaisesRegex(InputError, words):
                seen(scene, eye, SIZE, pixel, take)


class Ramps(unittest.TestCase):
    def test_sequential_ramps_grow_lighter_evenly(self):
        for name in SEQUENTIAL:
            light = np.array([_to_lab(colour / 255)[0] for colour in table(name)])
            self.assertTrue(np.all(np.diff(light) > -0.6), name)
            self.assertGreater(light[-1] - light[0], 50, name)

    def test_signed_ramp_is_palest_in_the_middle(self):
        light = np.array([_to_lab(colour / 255)[0] for colour in table(SIGNED)])
        self.assertLess(abs(int(np.argmax(light)) - 127), 12)
        self.assertEqual(set(ANCHORS), {*SEQUENTIAL, SIGNED, ROUND})


class TwoSided(unittest.TestCase):
    def test_the_middle_of_a_two_sided_ramp_stays_at_nought(self):
        whole = table(SIGNED)
        for low, high in ((-1.0, 1.0), (-0.25, 0.1), (-1.0, 0.02), (0.0, 3.0), (-2.0, 0.0)):
            found = table_between(SIGNED, low, high)
            value = np.linspace(low, high, len(found))
            neutral = found[int(np.abs(value).argmin())].astype(int)
            self.assertLessEqual(np.abs(neutral - whole[len(whole) // 2].astype(int)).max(), 6, (low, high))
        before, after = table_between(SIGNED, -1.0, 1.0), table_between(SIGNED, -1.0, 0.5)
        colour = lambda found, low, high, v: found[int((v - low) / (high - low) * 255)].astype(int)  # noqa: E731
        for value in (-0.9, -0.5, -0.2):
            off = np.abs(colour(before, -1.0, 1.0, value) - colour(after, -1.0, 0.5, value))
            self.assertLessEqual(off.max(), 4, "the other side keeps its colours")
        self.assertTrue(np.array_equal(table_between("Shore", 0.0, 2.0), table("Shore")))
