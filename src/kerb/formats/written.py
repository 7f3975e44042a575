"""Files appear under their name only when they are complete; whatever goes wrong leaves what was there before."""

from __future__ import annotations

import glob
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kerb.core.errors import OutputError


@contextmanager
def placed_when_complete(path: Path) -> Iterator[Path]:
    """A name beside ``path``, with the same ending, to write to; moved to ``path`` at the end.

    Raises OutputError for what the system refuses; every other error passes, and the half-written file is removed.
    """
    partial = path.with_name(f".{path.stem}.partial{path.suffix}")
    try:
        yield partial
        partial.replace(path)
    except OSError as error:
        raise OutputError(f"{path}: {error.strerror or error}") from None
    finally:
        for left in path.parent.glob(f"{glob.escape(partial.stem)}.*"):
            left.unlink(missing_ok=True)
