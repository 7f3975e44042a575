"""Catalogues, fetching that breaks off, picture tiles and the field controller, against real sockets on this machine."""

import hashlib
import io
import json
import socket
import threading
import time
from contextlib import suppress
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock

import numpy as np
import pyproj
import pystac
from PIL import Image

from kerb.core.errors import Cancelled, FormatError, InputError
from kerb.core.progress import Progress, silent
from kerb.core.reference import from_text, local_grid
from kerb.core.units import FOOT, METRE
from kerb.demo import landscape, yard
from kerb.formats import shots
from kerb.formats.fetch import fetch, read_bytes
from kerb.formats.stac import CatalogueTile, kept_under, read_catalogue
from kerb.formats.tiles import TileCache, mosaic
from kerb.job.holdings import ImportWish, import_file
from kerb.job.job import Change, Job
from kerb.job.shots import ShotList
from kerb.standins.agency import Agency, make_files, picture_tile
from kerb.standins.controller import Controller
from tests.support import Folder, near


class Served(Folder):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        import tempfile
        from pathlib import Path

        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.files = make_files(Path(holder.name) / "agency", silent(), density=0.02)

    def setUp(self):
        super().setUp()
        self.agency = Agency(self.files)
        self.addCleanup(self.agency.stop)


class Catalogues(Served):
    def test_the_catalogue_is_valid_stac_and_its_checksums_are_true(self):
        """pystac's own reading; SHA-256 by hashlib; the footprint by pyproj."""
        catalogue = pystac.Catalog.from_file(str(self.files / "catalog.json"))
        for item in catalogue.get_items(recursive=True):
            asset = item.assets["points"]
            data = read_bytes(asset.get_absolute_href())
            self.assertEqual(asset.extra_fields["file:checksum"], "1220" + hashlib.sha256(data).hexdigest())
            self.assertEqual(asset.extra_fields["file:size"], len(data))
        tile = read_catalogue(str(self.files), silent()).tiles[0]
        corner = pyproj.Transformer.from_crs(4326, 25830, always_xy=True).transform(*tile.footprint[0])
        near(np.mod(np.array(corner) - yard.ORIGIN + 125, 250.0).round(3) % 250, 0, atol=2e-3)
        self.assertIsNone(tile.footprint_in(local_grid(METRE)))

    def test_tricks_and_nonsense(self):
        for data, words in (
            ({"type": "Catalog"}, "no STAC"), ([1, 2], "no STAC"), ({"a": 1}, "no STAC"),
        ):  # fmt: skip
            path = self.folder / "catalog.json"
            path.write_text(json.dumps(data))
            with self.assertRaisesRegex((FormatError, InputError), words):
                read_catalogue(str(self.folder), silent())
        path.write_text("{")
        with self.assertRaises(FormatError):
            read_catalogue(str(self.folder), silent())
        with self.assertRaisesRegex(InputError, "no catalogue"):
            read_catalogue(str(self.folder / "nowhere"), silent())
        with self.assertRaises(InputError):
            read_catalogue("ftp://x/catalog.json", silent())
        tile = read_catalogue(str(self.files), silent()).tiles[0]
        for address in (
            "http://x/../../../etc/passwd.laz", "file:///..", "http://x/%2e%2e%2f%2e%2e%2fa.laz", "http://x/.bashrc",
        ):  # fmt: skip
            odd = type(tile)(**{**vars(tile), "address": address})
            kept = kept_under(self.folder, odd)
            self.assertEqual(kept.resolve().parent.parent, self.folder.resolve(), address)
            self.assertFalse(kept.name.startswith("."), address)

    def test_a_remote_catalogue_cannot_name_files_of_this_machine(self):
        secret = self.folder / "secret.json"
        secret.write_text(json.dumps({"stac_version": "1.0.0", "type": "Catalog", "id": "s", "description": "", "links": []}))
        link = {"rel": "child", "href": f"file://{secret}"}
        root = {"stac_version": "1.0.0", "type": "Catalog", "id": "r", "description": "d", "links": [link]}
        trap = self.files / "trap.json"
        trap.write_text(json.dumps(root))
        self.addCleanup(trap.unlink)
        with self.assertRaisesRegex(FormatError, "file of this machine"):
            read_catalogue(self.agency.address.replace("catalog.json", "trap.json"), silent())
        item = {
            "type": "Feature", "stac_version": "1.0.0", "id": "t", "bbox": [0, 50, 1, 51], "links": [],
            "geometry": {"type": "Polygon", "coordinates": [[[0, 50], [1, 50], [1, 51], [0, 50]]]},
            "properties": {"datetime": "2026-01-01T00:00:00Z"}, "assets": {"points": {"href": "file:///etc/own.laz"}},
        }  # fmt: skip
        (self.files / "trap-item.json").write_text(json.dumps(item))
        self.addCleanup((self.files / "trap-item.json").unlink)
        trap.write_text(json.dumps({**root, "links": [{"rel": "item", "href": "./trap-item.json"}]}))
        with self.assertRaisesRegex(FormatError, "own.laz.*not read"):
            read_catalogue(self.agency.address.replace("catalog.json", "trap.json"), silent())


class Fetching(Served):
    def test_it_goes_on_after_a_break(self):
        tile = read_catalogue(self.agency.address, silent()).tiles[0]
        target = self.folder / "t.laz"
        self.agency.break_after = 2_000
        for expected in (2_000, 4_000):
            with self.assertRaisesRegex(InputError, "broke off"):
                fetch(tile.address, target, tile.size, tile.checksum, silent())
            self.assertEqual((self.folder / "t.laz.part").stat().st_size, expected)
            self.assertFalse(target.exists())
        self.agency.break_after = 0
        fetch(tile.address, target, tile.size, tile.checksum, silent())
        self.assertEqual(target.stat().st_size, tile.size)
        before = len(self.agency.requests)
        fetch(tile.address, target, tile.size, tile.checksum, silent())
        self.assertEqual(len(self.agency.requests), before, "what is there and right is not fetched again")

    def test_wrong_bytes_are_thrown_away(self):
        tile = read_catalogue(self.agency.address, silent()).tiles[0]
        target = self.folder / "t.laz"
        for size, checksum in ((tile.size, "1220" + "0" * 64), (tile.size - 7, tile.checksum)):
            with self.assertRaisesRegex(FormatError, "thrown away"):
                fetch(tile.address, target, size, checksum, silent())
            self.assertEqual(list(self.folder.iterdir()), [])

    def test_too_large_and_not_there(self):
        with self.assertRaisesRegex(FormatError, "larger"):
            read_bytes(self.agency.address, 10)
        with self.assertRaises(InputError):
            read_bytes(self.agency.address + "x")
        with self.assertRaises(InputError):
            read_bytes("gopher://x/y")


class OddServer:
    """A server of one file: with a mark that changes, without checksums, slow on wish."""

    def __init__(self, data):
        self.data, self.mark, self.cut, self.pause, self.asked = data, '"one"', 0, 0.0, []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                outer.asked.append(dict(self.headers))
                start = 0
                if "Range" in self.headers and self.headers.get("If-Range", outer.mark) == outer.mark:
                    start = int(self.headers["Range"][6:-1])
                self.send_response(206 if start else 200)
                if outer.mark:
                    self.send_header("ETag", outer.mark)
                if start:
                    self.send_header("Content-Range", f"bytes {start}-{len(outer.data) - 1}/{len(outer.data)}")
                self.send_header("Content-Length", str(len(outer.data) - start))
                self.end_headers()
                part = outer.data[start : outer.cut or None]
                with suppress(OSError):
                    if outer.pause:
                        for k in range(len(part)):
                            self.wfile.write(part[k : k + 1])
                            time.sleep(outer.pause)
                    else:
                        self.wfile.write(part)
                self.close_connection = True

            def log_message(self, *_):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.address = f"http://127.0.0.1:{self.server.server_port}/a/tile.laz"

    def stop(self):
        self.server.shutdown()
        self.server.server_close()


class OddServers(Folder):
    def setUp(self):
        super().setUp()
        self.server = OddServer(b"old" * 1000)
        self.addCleanup(self.server.stop)
        self.target = self.folder / "tile.laz"

    def test_a_part_of_another_file_is_not_gone_on_with(self):
        self.server.cut = 1000
        with self.assertRaisesRegex(InputError, "broke off"):
            fetch(self.server.address, self.target, 0, "", silent())
        self.server.cut, self.server.data, self.server.mark = 0, b"new" * 900, '"two"'
        fetch(self.server.address, self.target, 0, "", silent())
        self.assertEqual(self.target.read_bytes(), b"new" * 900)
        self.assertEqual(self.server.asked[-1]["If-Range"], '"one"')
        self.assertEqual(list(self.folder.iterdir()), [self.target])

    def test_without_mark_and_checksum_it_begins_anew_and_with_a_mark_it_goes_on(self):
        self.server.cut, self.server.mark = 1000, ""
        with self.assertRaises(InputError):
            fetch(self.server.address, self.target, 0, "", silent())
        self.server.cut = 0
        fetch(self.server.address, self.target, 0, "", silent())
        self.assertNotIn("Range", self.server.asked[-1])
        self.target.unlink()
        self.server.cut, self.server.mark = 1000, '"same"'
        with self.assertRaises(InputError):
            fetch(self.server.address, self.target, 0, "", silent())
        self.server.cut = 0
        fetch(self.server.address, self.target, 0, "", silent())
        self.assertEqual(self.server.asked[-1]["Range"], "bytes=1000-")
        self.assertEqual(self.target.read_bytes(), self.server.data)

    def test_a_server_that_drips_is_given_up_and_cancel_works_at_once(self):
        self.server.pause = 0.05
        with mock.patch("kerb.formats.fetch.SLOW_AFTER", 0.6), self.assertRaisesRegex(InputError, "too slow"):
            fetch(self.server.address, self.target, 0, "", silent())
        with mock.patch("kerb.formats.fetch.SLOW_AFTER", 0.6), self.assertRaisesRegex(InputError, "too slow"):
            read_bytes(self.server.address)
        progress = Progress()
        threading.Timer(0.3, progress.stop).start()
        began = time.monotonic()
        with self.assertRaises(Cancelled):
            fetch(self.server.address, self.target, 0, "", progress)
        self.assertLess(time.monotonic() - began, 2.0)

    def test_tiles_of_one_name_lie_apart(self):
        at = lambda address: kept_under(self.folder, CatalogueTile("t", "T", address, np.empty((0, 2)), "", "", 0, ""))  # noqa: E731
        self.assertNotEqual(at("http://x/a/tile.laz"), at("http://x/b/tile.laz"))
        self.assertEqual(at("http://x/a/tile.laz").name, "tile.laz")


class PictureTiles(Served):
    def template(self):
        return self.agency.address.replace("catalog.json", "tiles/{z}/{x}/{y}.png")

    def test_a_mosaic_is_the_land_in_the_job_system(self):
        low, high = yard.ORIGIN - 60, yard.ORIGIN + 240
        wkt = from_text(yard.CRS).wkt
        image, affine = mosaic(self.template(), TileCache(self.folder), (low, high, 1.0), wkt, lambda: False)
        x = affine[2] + affine[0] * (np.arange(image.shape[1]) + 0.5)
        y = affine[5] + affine[4] * (np.arange(image.shape[0]) + 0.5)
        places = np.stack(np.meshgrid(x, y), -1).reshape(-1, 2) - yard.ORIGIN
        truth = landscape.colours(places).reshape(*image.shape[:2], 3).astype(int)
        off = np.abs(image[..., :3].astype(int) - truth).max(axis=2)
        self.assertLess(np.median(off), 4)
        self.assertGreater((off < 25).mean(), 0.97)

    def test_tiles_are_kept_and_bad_ones_refused(self):
        cache = TileCache(self.folder)
        cache.tile(self.template(), (3, 1, 2))
        asked = len(self.agency.requests)
        cache.tile(self.template(), (3, 1, 2))
        self.assertEqual(len(self.agency.requests), asked)
        with self.assertRaisesRegex(FormatError, "no picture"):
            cache.tile(self.agency.address + "?{z}{x}{y}", (1, 0, 0))
        self.assertEqual(len(list(self.folder.rglob("*.tile"))), 1)
        with self.assertRaisesRegex(InputError, "local grid"):
            mosaic(self.template(), cache, (np.zeros(2), np.ones(2), 1.0), "", lambda: False)
        with Image.open(io.BytesIO(picture_tile(0, 0, 0))) as picture:
            self.assertEqual(picture.size, (256, 256))


class FieldController(Folder):
    def test_the_protocol(self):
        """The lines of docs/field-controller.md."""
        hello = shots.parsed(b'{"type":"hello","unit":"us-ft","crs":"EPSG:2229","job":"x"}')
        self.assertEqual((hello.unit, hello.crs), ("us-ft", "EPSG:2229"))
        shot = shots.parsed(b'{"type":"shot","name":"S1","n":2.0,"e":1.0,"z":3,"precision":{"plan":0.01,"height":0.02}}')
        self.assertEqual((shot.easting, shot.northing, shot.elevation, shot.precision), (1.0, 2.0, 3.0, (0.01, 0.02)))
        for line in (b"", b'{"type":"battery","level":3}'):
            self.assertIsNone(shots.parsed(line))
        self.assertIs(shots.parsed(b'{"type":"bye"}'), shots.Bye.BYE)
        for line in (b"{", b"[]", b'{"type":"shot","name":"a","n":1,"e":2}', b'{"type":"hello","unit":"yd"}', b"x" * 20_000,
                     b'{"type":"shot","name":"a","n":NaN,"e":2,"z":1}', b"[" * 10_000):  # fmt: skip
            with self.assertRaises(FormatError):
                shots.parsed(line)

    def test_shots_go_into_a_job_in_feet_and_survive_a_crash(self):
        job = Job.create(self.folder / "j.kerb")
        path = self.folder / "p.csv"
        path.write_text("name,easting (ft),northing (ft),elevation (ft)\na,1,2,3\n")
        holding = import_file(job.folder, job.state, ImportWish(path), silent())
        from kerb.job.holdings import added

        job.execute(added(job, holding))
        self.assertEqual(job.state.title.length_unit(), FOOT)
        controller = Controller(0.0, [{"type": "shot", "name": f"S{k}", "n": 0.3048, "e": 0.6096, "z": 1.0} for k in range(4)])
        received = ShotList(job)
        ended = shots.listen("127.0.0.1", controller.port, silent(), received.take, self.fail)
        self.assertEqual(ended, shots.Ended(4, 0, shots.BYE))
        controller.stop()
        received.close()
        job.flush()
        again = Job.open(job.folder, recover=True)
        thing = again.thing(again.state.holding("Field shots"))
        np.testing.assert_allclose(thing.thing.xyz[0], [2.0, 1.0, 1 / 0.3048])
        self.assertEqual(thing.count, 4)
        # Renamed and dated while more came: both stay, as do the shots.
        listed = job.state.holding("Field shots")
        job.execute(
            Change("Renamed", lambda s: s.with_holding(replace(s.holding(listed.id), name="East bank", epoch="2026-05-01")))
        )
        received.take([shots.Shot("late", 1.0, 2.0, 3.0)])
        now = job.state.holding(listed.id)
        self.assertEqual((now.name, now.epoch, now.points), ("East bank", "2026-05-01", 5))
        job.undo()
        self.assertEqual((job.state.holding(listed.id).name, job.state.holding(listed.id).points), ("Field shots", 5))
        self.assertIn("4 shots", again.record[-1].sentence)

    def test_stopping_and_hanging_up(self):
        controller = Controller(0.05)
        port = controller.port
        progress, seen = Progress(), []

        def take(messages):
            seen.extend(messages)
            if len(seen) >= 3:
                progress.stop()

        ended = shots.listen("127.0.0.1", controller.port, progress, take, self.fail)
        self.assertLessEqual(len(seen), 4)
        self.assertEqual(ended, shots.Ended(len(seen) - 1, 0, shots.STOPPED))
        controller.stop()
        with self.assertRaisesRegex(InputError, "no field controller"):
            shots.listen("127.0.0.1", port, silent(), take, self.fail)

    def heard(self, data: bytes, job: Job | None = None):
        """What comes of bytes that a controller sends at once before it hangs up: (ended, wrong lines, list, batches)."""
        job = job or Job.create(self.folder / f"{len(data)}.kerb")
        server = socket.create_server(("127.0.0.1", 0))

        def send():
            line, _ = server.accept()
            with line:
                line.sendall(data)

        sender = threading.Thread(target=send)
        sender.start()
        received, wrong, batches = ShotList(job), [], []

        def take(messages):
            batches.append(received.take(messages))

        ended = shots.listen("127.0.0.1", server.getsockname()[1], silent(), take, wrong.append)
        sender.join()
        server.close()
        return ended, wrong, received, batches

    def test_one_bad_line_ends_nothing_and_the_last_needs_no_end(self):
        ended, wrong, received, _ = self.heard(
            b'{"type":"hello","unit":"m","crs":""}\n{"type":"shot","name":"A","n":1,"e":2,"z":3}\n<html>\n'
            b'{"type":"shot","name":"B","n":1,"e":2}\n\xff\xfe\n{"type":"shot","name":"C","n":4,"e":5,"z":6}'
        )
        self.assertEqual(ended, shots.Ended(2, 3, shots.HUNG_UP))
        self.assertEqual([text.count("makes no sense") for text in wrong], [1, 1, 1])
        np.testing.assert_array_equal(received.job.thing(received.holding).thing.xyz, [[2, 1, 3], [5, 4, 6]])
        with self.assertRaisesRegex(FormatError, "makes no sense"):
            shots.parsed(b'{"type":"shot","name":"B","n":1,"e":2,"z":' + b"9" * 400 + b"}")

    def test_repeated_names_are_told_apart(self):
        lines = [b'{"type":"hello","unit":"m","crs":""}']
        lines += [b'{"type":"shot","name":"%s","n":1,"e":2,"z":3}' % name for name in (b"A", b"A (2)", b"A", b"B", b"A")]
        _, _, received, batches = self.heard(b"\n".join(lines) + b"\n")
        wanted = ("A", "A (2)", "A (3)", "B", "A (4)")
        self.assertEqual(received.job.thing(received.holding).thing.names, wanted)
        self.assertEqual(tuple(shot.name for batch in batches for shot in batch), wanted)

    def test_a_second_hello_changes_the_unit_of_what_follows_only(self):
        place = b'"n":10,"e":20,"z":30}\n'
        _, _, received, _ = self.heard(
            b'{"type":"hello","unit":"m","crs":""}\n{"type":"shot","name":"A",' + place
            + b'{"type":"hello","unit":"ft","crs":""}\n{"type":"shot","name":"B",' + place
        )  # fmt: skip
        np.testing.assert_allclose(
            received.job.thing(received.holding).thing.xyz, [[20, 10, 30], np.array([20, 10, 30]) * 0.3048]
        )
