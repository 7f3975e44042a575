"""Fetch files and texts by HTTP or from a folder: bounded in size and time, resumed after a break, checksum verified.

Nothing here runs unless the analyst asks for it. A fetched file appears under its name only when it is whole and its
checksum is right.
"""

from __future__ import annotations

import hashlib
import itertools
import json
import re
import shutil
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import suppress
from http.client import HTTPException
from pathlib import Path
from queue import Empty, Full, Queue
from typing import Any
from urllib.parse import unquote, urlparse

from kerb.core.errors import FormatError, InputError
from kerb.core.progress import Progress, silent

SECONDS, PULSE = 20.0, 0.1
# Bytes a second, over so many seconds, below which a server is given up.
SLOWEST, SLOW_AFTER = 500.0, 30.0
WAITING = 8
MOST_TEXT = 32_000_000
BLOCK = 1 << 17
# Multihash heads, code and length (multiformats table): sha1, sha2-256, sha2-512, sha3-512, sha3-256.
HASHES = {"1114": "sha1", "1220": "sha256", "1340": "sha512", "1440": "sha3_512", "1620": "sha3_256"}


def is_remote(address: str) -> bool:
    """Whether an address goes over HTTP."""
    return urlparse(address).scheme in ("http", "https")


def local_path(address: str) -> Path:
    """The path of a ``file:`` address or a plain path. Raises InputError for any other scheme."""
    parts = urlparse(address)
    if parts.scheme == "file":
        return Path(unquote(parts.path))
    if parts.scheme and len(parts.scheme) > 1:
        raise InputError(f"{address}: only http, https and files are fetched")
    return Path(address)


def read_bytes(address: str, most: int = MOST_TEXT, progress: Progress | None = None) -> bytes:
    """A small file whole. Raises InputError naming the address, FormatError when it is larger than ``most``; Cancelled."""
    data = b""
    try:
        if is_remote(address):
            for block, _ in _blocks(_request(address), progress or silent()):
                data += block
                if len(data) > most:
                    break
        else:
            with open(local_path(address), "rb") as stream:
                data = stream.read(most + 1)
    except (OSError, ValueError, HTTPException) as error:
        raise InputError(f"{address}: {_words(error)}") from None
    if len(data) > most:
        raise FormatError(f"{address}: is larger than {most / 1e6:.0f} MB")
    return data


def fetch(address: str, target: Path, size: int, checksum: str, progress: Progress) -> Path:
    """Fetch a file to ``target``; a part of it that is there from before is gone on with.

    Parameters
    ----------
    size: bytes it should have, 0 where not known; checksum: a multihash in hexadecimal, or empty.

    Raises
    ------
    InputError naming the address, when it cannot be reached or breaks off (what came stays, to be resumed);
    FormatError, when size or checksum is wrong (nothing stays); Cancelled.
    """
    checksum = checksum.strip().lower()
    if checksum and checksum[:4] not in HASHES:
        raise FormatError(f"{address}: its checksum is of a kind that Kerb does not know ({checksum[:4]}); not fetched")
    if target.exists() and (not checksum or _sum(target, checksum) == checksum):
        return target
    part = target.with_name(target.name + ".part")
    about = part.with_name(part.name + ".json")
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        if is_remote(address):
            _by_http(address, (part, about), (size, bool(checksum)), progress)
        else:
            shutil.copyfile(local_path(address), part)
    except (OSError, ValueError, HTTPException) as error:
        raise InputError(f"{address}: {_words(error)}; what came is kept, fetch again to go on") from None
    got = part.stat().st_size
    if size and got < size:
        raise InputError(f"{address}: broke off after {got} of {size} bytes; what came is kept, fetch again to go on")
    if (size and got != size) or (checksum and _sum(part, checksum) != checksum):
        part.unlink()
        about.unlink(missing_ok=True)
        raise FormatError(f"{address}: what came is not what the catalogue describes (size or checksum); thrown away")
    part.replace(target)
    about.unlink(missing_ok=True)
    return target


def _by_http(address: str, kept: tuple[Path, Path], wanted: tuple[int, bool], progress: Progress) -> None:
    """Fetch to a part, going on with one of the same address whose file is still the same: by the server's mark of it, or
    where a checksum will tell in the end. ``wanted`` is the size (0: not known) and whether there is a checksum."""
    part, about = kept
    size, checked = wanted
    have = part.stat().st_size if part.exists() else 0
    before = _remembered(about)
    same = before.get("address") == address and (checked or before.get("mark"))
    if not same:
        have = 0
    request = _request(address)
    if have:
        request.add_header("Range", f"bytes={have}-")
        if before.get("mark"):
            request.add_header("If-Range", before["mark"])
    blocks = _blocks(request, progress)
    try:
        first, answer = next(blocks, (b"", None))
    except urllib.error.HTTPError as error:
        if error.code != 416 or not have:
            raise
        return  # asked for bytes past the end: everything is there
    goes_on = answer is not None and answer.status == 206
    if goes_on and answer is not None and not _starts_at(answer.headers.get("Content-Range", ""), have, size):
        raise OSError("the server goes on at another place than it was asked for")
    mark = _mark(answer)
    about.write_text(json.dumps({"address": address, "mark": mark}), encoding="utf-8")
    with open(part, "ab" if goes_on else "wb") as out:
        done = have if goes_on else 0
        for block, _ in itertools.chain([(first, answer)], blocks):
            out.write(block)
            done += len(block)
            if size and done > size:
                return
            progress.step(done / size if size else 0.0, f"Fetching {part.stem}")
    length = answer.headers.get("Content-Length", "") if answer is not None else ""
    if not size and length.isdigit() and done - (have if goes_on else 0) < int(length):
        raise OSError("the connection broke off")


def _blocks(request: urllib.request.Request, progress: Progress) -> Iterator[tuple[bytes, Any]]:
    """Blocks as they come, each with the answer. Another thread reads, so that a stop works at once whatever the server does.

    Raises OSError, when nothing comes for some seconds or it comes too slowly; Cancelled.
    """
    queue: Queue[tuple[bytes, Any] | BaseException | None] = Queue(WAITING)
    gone = threading.Event()

    def put(what: tuple[bytes, Any] | BaseException | None) -> None:
        while not gone.is_set():
            with suppress(Full):
                queue.put(what, timeout=PULSE)
                return

    def read() -> None:
        try:
            with urllib.request.urlopen(request, timeout=SECONDS) as answer:
                put((b"", answer))
                while not gone.is_set() and (block := answer.read1(BLOCK)):
                    put((block, answer))
            put(None)
        except BaseException as error:  # told to whoever waits
            put(error)

    threading.Thread(target=read, name="kerb-fetch", daemon=True).start()
    began, came = time.monotonic(), 0
    try:
        while True:
            progress.check()
            if time.monotonic() - began > SLOW_AFTER:
                if came < SLOWEST * SLOW_AFTER:
                    raise OSError(f"too slow: {came} bytes in {SLOW_AFTER:.0f} seconds")
                began, came = time.monotonic(), 0
            try:
                what = queue.get(timeout=PULSE)
            except Empty:
                continue
            if what is None:
                return
            if isinstance(what, urllib.error.HTTPError):
                what.close()
            if isinstance(what, BaseException):
                raise what
            came += len(what[0])
            yield what
    finally:
        gone.set()


def _mark(answer: Any) -> str:
    """By what a server tells whether its file is still the same: a strong ETag, else the date of change (RFC 9110, 13.1.5)."""
    if answer is None:
        return ""
    tag = answer.headers.get("ETag", "")
    return tag if tag and not tag.startswith("W/") else answer.headers.get("Last-Modified", "")


def _starts_at(said: str, have: int, size: int) -> bool:
    """Whether a Content-Range goes on where the part ends, of a file of the wanted size."""
    found = re.fullmatch(r"bytes (\d+)-\d+/(\d+|\*)", said.strip())
    return found is not None and int(found[1]) == have and (not size or found[2] in ("*", str(size)))


def _remembered(path: Path) -> dict[str, str]:
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {str(key): str(value) for key, value in data.items()} if isinstance(data, dict) else {}


def _request(address: str) -> urllib.request.Request:
    return urllib.request.Request(address, headers={"User-Agent": "Kerb"})


def _sum(path: Path, like: str) -> str:
    """The multihash of a file in hexadecimal, of the kind of another one."""
    digest = hashlib.new(HASHES[like[:4]])
    with open(path, "rb") as stream:
        while block := stream.read(1 << 20):
            digest.update(block)
    return like[:4] + digest.hexdigest()


def _words(error: BaseException) -> str:
    reason = getattr(error, "reason", None) or getattr(error, "strerror", None) or error
    return " ".join(str(reason).split())[:120] or type(error).__name__
