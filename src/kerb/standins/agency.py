"""A simulated public agency on the loopback address: a STAC catalogue of LAZ tiles, and picture tiles.

It is started when the analyst asks for it and stopped with the window. It serves byte ranges, as real ones do, so
that a fetch can be resumed.
"""

from __future__ import annotations

import hashlib
import io
import json
import re
import threading
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pyproj

from kerb.core.progress import Progress
from kerb.demo import landscape, yard
from kerb.job.places import user_data

TILE = 250.0
TILES = range(-1, 2)
DENSITY = 1.0
EPOCHS = (("2023-04-18", False), ("2026-02-27", True))
TITLE = "Saltmarrow and Hythe survey office (simulated)"
PIXELS = 256
MERCATOR = 20_037_508.342789244
GEOGRAPHIC = pyproj.CRS.from_epsg(4326)


def agency_folder() -> Path:
    """Where the simulated agency keeps its files."""
    return user_data() / "demo" / "agency"


def make_files(folder: Path, progress: Progress, density: float = DENSITY) -> Path:
    """Generate catalogue and tiles where they are not there yet; returns the folder. Raises Cancelled."""
    import pystac

    if (folder / "catalog.json").exists():
        return folder
    catalogue = pystac.Catalog("saltmarrow", "Airborne points of an invented coast, for trying things out", title=TITLE)
    done, total = 0, len(EPOCHS) * len(TILES) ** 2
    for epoch, later in EPOCHS:
        collection = pystac.Collection(
            f"points-{epoch}", f"Airborne points, {epoch}", _extent(epoch), title=f"Airborne points {epoch}"
        )
        for column in TILES:
            for row in TILES:
                progress.step(done / total, "The simulated agency prepares its tiles")
                name = f"shq_{3800 + column}_{55600 + row}_{epoch[:4]}.laz"
                path = folder / "points" / name
                corner = np.array([column, row]) * TILE - TILE / 2
                _write_tile(path, corner, (density, later, done))
                collection.add_item(_item(path, corner, epoch))
                done += 1
        catalogue.add_child(collection)
    catalogue.normalize_hrefs(str(folder))
    for item in catalogue.get_items(recursive=True):
        asset = item.assets["points"]
        depth = len(Path(str(item.get_self_href())).relative_to(folder).parts) - 1
        asset.href = "../" * depth + "points/" + Path(asset.href).name
    catalogue.save(catalog_type=pystac.CatalogType.SELF_CONTAINED)
    return folder


class Agency:
    """The server. ``address`` is what the analyst connects to."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.requests: list[str] = []
        self.break_after = 0
        handler = type("Handler", (_Handler,), {"agency": self})
        self._server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
        self._server.daemon_threads = True
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.1,), name="kerb-agency", daemon=True)
        self._thread.start()

    @property
    def address(self) -> str:
        """Address of the catalogue."""
        return f"http://127.0.0.1:{self._server.server_address[1]}/catalog.json"

    def stop(self) -> None:
        """Stop serving."""
        self._server.shutdown()
        self._server.server_close()
        self._thread.join(5.0)

    def document(self, path: Path) -> bytes:
        """A catalogue file; the root names the picture tiles of this very server."""
        data = json.loads(path.read_text(encoding="utf-8"))
        if path.name == "catalog.json":
            template = self.address.replace("catalog.json", "tiles/{z}/{x}/{y}.png")
            link = {"rel": "xyz", "href": template, "type": "image/png", "title": "Pictures of the coast (simulated)"}
            data["links"].append(link)
        return json.dumps(data).encode()


class _Handler(BaseHTTPRequestHandler):
    agency: Agency
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        self.agency.requests.append(self.path)
        tile = re.fullmatch(r"/tiles/(\d{1,2})/(\d{1,8})/(\d{1,8})\.png", self.path)
        if tile:
            self._send(picture_tile(*map(int, tile.groups())), "image/png")
            return
        path = (self.agency.folder / self.path.partition("?")[0].lstrip("/")).resolve()
        if not path.is_relative_to(self.agency.folder.resolve()) or not path.is_file():
            self.send_error(404)
        elif path.suffix == ".json":
            self._send(self.agency.document(path), "application/json")
        else:
            self._send(path.read_bytes(), "application/octet-stream")

    def _send(self, data: bytes, kind: str) -> None:
        wanted = re.fullmatch(r"bytes=(\d+)-", self.headers.get("Range", ""))
        start = int(wanted[1]) if wanted else 0
        if wanted and start >= len(data):
            self.send_error(416)
            return
        self.send_response(206 if wanted else 200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(data) - start))
        if wanted:
            self.send_header("Content-Range", f"bytes {start}-{len(data) - 1}/{len(data)}")
        self.end_headers()
        part = data[start:]
        if self.agency.break_after and kind == "application/octet-stream":
            part = part[: self.agency.break_after]
            self.close_connection = True
        try:
            self.wfile.write(part)
        except OSError:
            self.close_connection = True

    def log_message(self, *_args: Any) -> None:
        """Say nothing: the analyst did not ask for a log."""


def picture_tile(zoom: int, x: int, y: int) -> bytes:
    """A PNG of 256 × 256 pixels of the web tile scheme."""
    from PIL import Image

    size = 2 * MERCATOR / 2**zoom
    pixel = (np.arange(PIXELS) + 0.5) / PIXELS * size
    east, north = np.meshgrid(x * size - MERCATOR + pixel, MERCATOR - y * size - pixel)
    change = pyproj.Transformer.from_crs(3857, yard.CRS, always_xy=True)
    places = np.column_stack(change.transform(east.ravel(), north.ravel())) - yard.ORIGIN
    near = np.isfinite(places).all(axis=1) & (np.abs(places) < 50_000).all(axis=1)
    colours = np.full((len(places), 3), (92, 122, 138), np.uint8)
    colours[near] = landscape.colours(places[near])
    out = io.BytesIO()
    Image.fromarray(colours.reshape(PIXELS, PIXELS, 3)).save(out, "PNG")
    return out.getvalue()


def _write_tile(path: Path, corner: Any, how: tuple[float, bool, int]) -> None:
    density, later, seed = how
    rng = np.random.default_rng(yard.SEED + seed)
    xy = corner + rng.uniform(0, TILE, (int(TILE * TILE * density), 2))
    xyz, classes = landscape.flown(xy, rng, later)
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = np.full(3, 0.001), np.array([*yard.ORIGIN, 0.0])
    header.add_crs(pyproj.CRS.from_user_input(yard.CRS), keep_compatibility=False)
    header.system_identifier, header.generating_software = "simulated flight", "Kerb demo"
    las = laspy.LasData(header)
    las.xyz = xyz + np.array([*yard.ORIGIN, 0.0])
    las.classification = classes
    las.intensity = (12_000 + 20_000 * (classes == landscape.BUILDING) + rng.normal(0, 1500, len(xyz))).clip(0, 65535)
    las.return_number = las.number_of_returns = np.ones(len(xyz), np.uint8)
    las.point_source_id = np.full(len(xyz), seed + 1, np.uint16)
    path.parent.mkdir(parents=True, exist_ok=True)
    las.write(str(path))


def _item(path: Path, corner: Any, epoch: str) -> Any:
    import pystac

    ring = np.array([[0, 0], [TILE, 0], [TILE, TILE], [0, TILE], [0, 0]]) + corner + yard.ORIGIN
    change = pyproj.Transformer.from_crs(yard.CRS, GEOGRAPHIC, always_xy=True)
    outline = np.column_stack(change.transform(ring[:, 0], ring[:, 1]))
    data = path.read_bytes()
    item = pystac.Item(
        id=path.stem, geometry={"type": "Polygon", "coordinates": [outline.tolist()]},
        bbox=[*outline.min(axis=0).tolist(), *outline.max(axis=0).tolist()],
        datetime=datetime.fromisoformat(epoch).replace(tzinfo=UTC), properties={"proj:code": yard.CRS},
    )  # fmt: skip
    fields = {"file:size": len(data), "file:checksum": "1220" + hashlib.sha256(data).hexdigest()}
    asset = pystac.Asset(str(path), path.name, media_type="application/vnd.laszip", roles=["data"], extra_fields=fields)
    item.add_asset("points", asset)
    return item


def _extent(epoch: str) -> Any:
    import pystac

    when = datetime.fromisoformat(epoch).replace(tzinfo=UTC)
    return pystac.Extent(pystac.SpatialExtent([[-180.0, -90.0, 180.0, 90.0]]), pystac.TemporalExtent([[when, when]]))
