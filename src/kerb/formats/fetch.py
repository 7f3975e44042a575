"""Fetch files and texts by HTTP or from a folder: bounded in size and time, resumed after a break, checksum verified.

Nothing here runs unless the analyst asks for it. A fetched file appears under its name only when it is whole and its
checksum is right.
"""

from __future__ import annotations

import hashlib
import shutil
import urllib.error
import urllib.request
from pathlib import Path
from urllib.parse import unquote, urlparse

from kerb.core.errors import FormatError, InputError
from kerb.core.progress import Progress

SECONDS = 20.0
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


def read_bytes(address: str, most: int = MOST_TEXT) -> bytes:
    """A small file whole. Raises InputError naming the address, FormatError when it is larger than ``most``."""
    try:
        if is_remote(address):
            with urllib.request.urlopen(_request(address), timeout=SECONDS) as answer:
                data: bytes = answer.read(most + 1)
        else:
            with open(local_path(address), "rb") as stream:
                data = stream.read(most + 1)
    except (OSError, ValueError) as error:
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
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        if is_remote(address):
            _by_http(address, part, size, progress)
        else:
            shutil.copyfile(local_path(address), part)
    except (OSError, ValueError) as error:
        raise InputError(f"{address}: {_words(error)}; what came is kept, fetch again to go on") from None
    got = part.stat().st_size
    if size and got < size:
        raise InputError(f"{address}: broke off after {got} of {size} bytes; what came is kept, fetch again to go on")
    if (size and got != size) or (checksum and _sum(part, checksum) != checksum):
        part.unlink()
        raise FormatError(f"{address}: what came is not what the catalogue describes (size or checksum); thrown away")
    part.replace(target)
    return target


def _by_http(address: str, part: Path, size: int, progress: Progress) -> None:
    have = part.stat().st_size if part.exists() else 0
    request = _request(address)
    if have:
        request.add_header("Range", f"bytes={have}-")
    try:
        answer = urllib.request.urlopen(request, timeout=SECONDS)
    except urllib.error.HTTPError as error:
        if error.code != 416:
            raise
        return  # asked for bytes past the end: everything is there
    with answer, open(part, "ab" if answer.status == 206 else "wb") as out:
        done = have if answer.status == 206 else 0
        while block := answer.read(BLOCK):
            out.write(block)
            done += len(block)
            if size and done > size:
                return
            progress.step(done / size if size else 0.0, f"Fetching {part.stem}")


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
