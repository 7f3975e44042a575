"""Delaunay triangulation in processes of their own: the library holds Python's lock, so threads alone use one core.

A helper process reads places from its standard input and writes triangles to its standard output. It is this module run
as a program, and knows nothing but the triangulation.
"""

from __future__ import annotations

import contextlib
import queue
import subprocess
import sys
from types import TracebackType
from typing import IO

import numpy as np

from kerb.core.arrays import Floats, Ints32
from kerb.core.parallel import cores
from kerb.core.surface.delaunay import delaunay

WORTH_SENDING = 20_000
HEAD = 8


class Triangulators:
    """Helpers, one a core, started when first needed and ended with the ``with`` block.

    Where none can be started, or one dies, the work is done here: the result is the same.
    """

    def __init__(self, number: int | None = None) -> None:
        self._left = cores() if number is None else number
        self._free: queue.SimpleQueue[subprocess.Popen[bytes]] = queue.SimpleQueue()
        self._all: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> Triangulators:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for helper in self._all:
            helper.kill()
            helper.wait()
            for stream in (helper.stdin, helper.stdout):
                # What was not sent to a helper that died is not missed.
                with contextlib.suppress(OSError):
                    if stream is not None:
                        stream.close()
        self._all.clear()

    def triangles(self, places: Floats) -> Ints32:
        """Delaunay triangles (m, 3) of (n, 2) places, no two alike. Raises NotDeterminable as :func:`delaunay` does."""
        helper = self._helper() if len(places) >= WORTH_SENDING and cores() > 1 else None
        if helper is None:
            return delaunay(places)
        try:
            found = _asked(helper, places)
        except (OSError, ValueError):
            return delaunay(places)
        self._free.put(helper)
        return delaunay(places) if found is None else found

    def _helper(self) -> subprocess.Popen[bytes] | None:
        if self._left > 0:
            self._left -= 1
            try:
                helper = subprocess.Popen(
                    [sys.executable, "-m", "kerb.core.surface.elsewhere"],
                    stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                )  # fmt: skip
            except OSError:
                self._left = 0
                return None
            self._all.append(helper)
            return helper
        try:
            return self._free.get_nowait() if self._all else None
        except queue.Empty:
            return None


def _asked(helper: subprocess.Popen[bytes], places: Floats) -> Ints32 | None:
    """What a helper answers; None when it found no triangles. Raises OSError or ValueError, when it is gone."""
    assert helper.stdin is not None and helper.stdout is not None
    helper.stdin.write(len(places).to_bytes(HEAD, "little"))
    helper.stdin.write(np.ascontiguousarray(places, np.float64).tobytes())
    helper.stdin.flush()
    count = int.from_bytes(_read(helper.stdout, HEAD), "little")
    if count == 0:
        return None
    return np.frombuffer(_read(helper.stdout, count * 12), np.int32).reshape(count, 3).copy()


def _read(stream: IO[bytes], size: int) -> bytes:
    data = stream.read(size)
    if len(data) != size:
        raise ValueError("the helper ended")
    return data


def serve(asked: IO[bytes], answers: IO[bytes]) -> None:
    """Answer until nothing more is asked."""
    from kerb.core.errors import NotDeterminable

    while len(head := asked.read(HEAD)) == HEAD:
        count = int.from_bytes(head, "little")
        places = np.frombuffer(_read(asked, count * 16), np.float64).reshape(count, 2)
        try:
            triangles = delaunay(places)
        except NotDeterminable:
            triangles = np.empty((0, 3), np.int32)
        answers.write(len(triangles).to_bytes(HEAD, "little"))
        answers.write(np.ascontiguousarray(triangles, np.int32).tobytes())
        answers.flush()


if __name__ == "__main__":
    serve(sys.stdin.buffer, sys.stdout.buffer)
