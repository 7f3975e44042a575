"""Files appear under their name only when they are complete; whatever goes wrong leaves what was there before."""

from __future__ import annotations

import glob
import itertools
import os
import re
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from kerb.core.errors import OutputError
from kerb.core.space import alive, why

_numbers = itertools.count(1)
# Seconds after which a half-written file of another name counts as left behind.
LEFT = 3600.0


@contextmanager
def placed_when_complete(path: Path) -> Iterator[Path]:
    """A name beside ``path``, with the same ending, to write to; moved to ``path`` at the end.

    The name is that of this process and this call alone: several Kerbs may write beside one another. What a killed one
    left there is swept. Raises OutputError for what the system refuses; every other error passes, and the half-written
    file is removed.
    """
    partial = path.with_name(f".{path.stem}.{os.getpid()}-{next(_numbers)}.partial{path.suffix}")
    _sweep(path)
    try:
        yield partial
        partial.replace(path)
    except OSError as error:
        raise OutputError(f"{path}: {why(error, path.parent)}") from None
    finally:
        for left in path.parent.glob(f"{glob.escape(partial.stem)}.*"):
            left.unlink(missing_ok=True)


def _sweep(path: Path) -> None:
    """Remove half-written files in the folder whose process is no more: those that were to be ``path``, and others that have not
    changed for an hour, for in a shared folder a process of another machine may write them."""
    for left in path.parent.glob(".*.partial*"):
        owner = re.fullmatch(r"\.(.+)\.(\d+)-\d+\.partial(\.\w+)?", left.name)
        if owner is None or alive(int(owner.group(2))):
            continue
        with suppress(OSError):
            if owner.group(1) == path.stem or time.time() - left.stat().st_mtime > LEFT:
                left.unlink()


def refuse_others(path: Path, *beside: Path) -> None:
    """Files that will be written beside ``path`` may replace its own of before, and nobody else's. Raises OutputError."""
    if not path.exists():
        for other in beside:
            if other.exists():
                raise OutputError(f"{other}: is there and would be written beside {path.name}; not overwritten")
