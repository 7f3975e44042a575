"""The field controller's messages: one JSON object a line, described in docs/field-controller.md.

A connection begins with a ``hello`` that names unit and reference system, goes on with ``shot`` after ``shot`` and
ends with ``bye`` or by itself.
"""

from __future__ import annotations

import json
import math
import socket
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import Enum
from typing import Any

from kerb.core.errors import FormatError, InputError
from kerb.core.progress import Progress
from kerb.core.units import LENGTH_UNITS

LONGEST = 16_384
SECONDS = 5.0
PULSE = 0.2
BYE, HUNG_UP, STOPPED = "bye", "hung up", "stopped"


@dataclass(frozen=True)
class Hello:
    """What the controller says of itself: unit code and reference system of what follows."""

    unit: str
    crs: str
    job: str = ""


@dataclass(frozen=True)
class Shot:
    """One measured point; ``precision`` is the controller's own 1-sigma estimate in plan and height, if it has one."""

    name: str
    easting: float
    northing: float
    elevation: float
    code: str = ""
    precision: tuple[float, float] | None = None
    time: str = ""


class Bye(Enum):
    """The controller's last word."""

    BYE = "bye"


def parsed(line: bytes) -> Hello | Shot | Bye | None:
    """A message from a line; None for an empty line or a kind that is not known.

    Raises
    ------
    FormatError, when the line is no JSON object, or a shot without a name or a finite place.
    """
    if len(line) > LONGEST:
        raise FormatError(f"field controller: a message of more than {LONGEST} bytes")
    if not line.strip():
        return None
    try:
        data = json.loads(line)
        if not isinstance(data, dict):
            raise ValueError("not an object")
        if data.get("type") == "hello":
            unit = str(data["unit"])
            if unit not in LENGTH_UNITS:
                raise ValueError(f"unit '{unit[:20]}' is not known")
            return Hello(unit, str(data.get("crs", "")), str(data.get("job", "")))
        if data.get("type") == "bye":
            return Bye.BYE
        return _shot(data) if data.get("type") == "shot" else None
    except (ValueError, KeyError, TypeError, RecursionError, OverflowError) as error:
        words = line[:60].decode("utf-8", "replace").strip()
        raise FormatError(f"field controller: a message makes no sense ({error}): {words}") from None


def _shot(data: dict[str, Any]) -> Shot:
    place = [float(data[key]) for key in ("e", "n", "z")]
    if not all(map(math.isfinite, place)):
        raise ValueError("a coordinate is no number")
    name = str(data["name"])[:80]
    if not name:
        raise ValueError("a shot has no name")
    precision = None
    if isinstance(data.get("precision"), dict):
        precision = (float(data["precision"]["plan"]), float(data["precision"]["height"]))
    e, n, z = place
    return Shot(name, e, n, z, str(data.get("code", ""))[:80], precision, str(data.get("time", ""))[:40])


@dataclass(frozen=True)
class Ended:
    """How listening ended: ``how`` is BYE, HUNG_UP or STOPPED; ``bad`` counts lines that made no sense."""

    shots: int
    bad: int
    how: str


def listen(
    host: str,
    port: int,
    progress: Progress,
    take: Callable[[list[Hello | Shot]], None],
    wrong: Callable[[str], None],
) -> Ended:
    """Listen until the controller says bye, hangs up, or the progress is stopped.

    ``take`` is given what came together, in order; ``wrong`` is told of each line that makes no sense, and listening goes on.

    Raises
    ------
    InputError, when nobody answers at the address; FormatError, when what comes has no lines; Cancelled never: stopping is
    the usual end.
    """
    try:
        line = socket.create_connection((host, port), timeout=SECONDS)
    except (OSError, OverflowError) as error:
        raise InputError(
            f"{host}:{port}: no field controller answers there ({getattr(error, 'strerror', None) or error})"
        ) from None
    shots, bad, bye = 0, 0, False
    with line:
        line.settimeout(PULSE)
        for lines in _lines(line, progress):
            messages: list[Hello | Shot] = []
            for text in lines:
                try:
                    what = parsed(text)
                except FormatError as error:
                    bad += 1
                    wrong(str(error))
                    continue
                bye |= what is Bye.BYE
                if isinstance(what, (Hello, Shot)):
                    messages.append(what)
                    shots += isinstance(what, Shot)
            if messages:
                take(messages)
    return Ended(shots, bad, BYE if bye else STOPPED if progress.stopped else HUNG_UP)


def _lines(line: socket.socket, progress: Progress) -> Iterator[list[bytes]]:
    """Whole lines that came together. A last one without an end is one too, when the controller hung up after it."""
    rest = b""
    while not progress.stopped:
        try:
            block = line.recv(65_536)
        except TimeoutError:
            continue
        except OSError:
            block = b""
        if not block:
            break
        *whole, rest = (rest + block).split(b"\n")
        if len(rest) > LONGEST:
            raise FormatError(f"field controller: a message of more than {LONGEST} bytes")
        if whole:
            yield whole
    if rest.strip():
        yield [rest]
