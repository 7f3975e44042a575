"""A simulated field controller on the loopback address: it streams a recorded list of shots, one at a time."""

from __future__ import annotations

import json
import socket
import threading
from datetime import UTC, datetime
from typing import Any

import numpy as np

from kerb.demo import yard

INTERVAL = 0.8
CODES = ("GL", "GL", "TOE", "TOE", "KERB", "GL", "CP")


def recorded() -> list[dict[str, Any]]:
    """The recorded shots of the demo: spot levels and the foot of heap 2, as a surveyor walked them."""
    rng = np.random.default_rng(yard.SEED + 77)
    toe = yard.HEAPS[1].toe(12, 0.0) - yard.ORIGIN
    spots = rng.uniform([8.0, 8.0], [120.0, 96.0], (18, 2))
    places = [(xy, "TOE") for xy in toe] + [(xy, CODES[k % len(CODES)]) for k, xy in enumerate(spots)]
    shots = []
    for number, (xy, code) in enumerate(places, 101):
        z = float(yard.ground(np.array([xy]))[0] + rng.normal(0, 0.01))
        east, north = (xy + yard.ORIGIN + rng.normal(0, 0.008, 2)).tolist()
        shots.append({
            "type": "shot", "name": f"S{number}", "n": round(north, 3), "e": round(east, 3), "z": round(z, 3),
            "code": code, "precision": {"plan": 0.008, "height": 0.014},
        })  # fmt: skip
    return shots


class Controller:
    """The server; each listener gets the list from its start."""

    def __init__(self, interval: float = INTERVAL, shots: list[dict[str, Any]] | None = None) -> None:
        self.interval = interval
        self.shots = recorded() if shots is None else shots
        self._stop = threading.Event()
        self._server = socket.create_server(("127.0.0.1", 0))
        self._server.settimeout(0.1)
        self._thread = threading.Thread(target=self._serve, name="kerb-controller", daemon=True)
        self._thread.start()

    @property
    def port(self) -> int:
        """The port it listens on."""
        return int(self._server.getsockname()[1])

    def stop(self) -> None:
        """Hang up and stop."""
        self._stop.set()
        self._thread.join(5.0)
        self._server.close()

    def _serve(self) -> None:
        while not self._stop.is_set():
            try:
                line, _ = self._server.accept()
            except TimeoutError:
                continue
            except OSError:
                return
            with line:
                try:
                    self._talk(line)
                except OSError:
                    continue

    def _talk(self, line: socket.socket) -> None:
        self._send(line, {"type": "hello", "unit": "m", "crs": yard.CRS, "job": "Saltmarrow Quay"})
        for shot in self.shots:
            if self._stop.wait(self.interval):
                return
            now = datetime.now(UTC).isoformat(timespec="seconds")
            self._send(line, {**shot, "time": now})
        self._send(line, {"type": "bye"})

    @staticmethod
    def _send(line: socket.socket, message: dict[str, Any]) -> None:
        line.sendall(json.dumps(message).encode() + b"\n")
