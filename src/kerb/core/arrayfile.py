"""Arrays read from files, safe to call from several threads at once.

NumPy reads the head of an array file with Python's own parser, which in Python 3.11 counts its depth for all threads
together and fails with a SystemError when two of them parse at the same moment (CPython issue 106905).
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tokenize import TokenError
from typing import IO, Any

import numpy as np

from kerb.core.arrays import AnyArray

TRIES = 5
_one_at_a_time = threading.Lock()


def loaded(path: Path, mapped: bool = False) -> AnyArray:
    """An array of a file, memory-mapped on wish. Raises OSError or ValueError, when it cannot be read."""
    for _ in range(TRIES):
        try:
            with _one_at_a_time:
                found: AnyArray = np.load(path, mmap_mode="r" if mapped else None, allow_pickle=False)
                return found
        except SystemError:
            # Another thread parsed something that is none of ours.
            continue
        except (TokenError, SyntaxError, EOFError, OverflowError, MemoryError, TypeError) as error:
            # Heads are written in Python: a damaged one can be anything, and ask for any size.
            raise ValueError(f"the head of {path.name} is damaged ({' '.join(str(error).split())[:80]})") from None
    raise ValueError(f"{path.name} cannot be read")


@contextmanager
def archive(stream: IO[bytes]) -> Iterator[Any]:
    """The arrays of an archive by name, while no other of ours is read. Raises as :func:`loaded`, and BadZipFile."""
    with _one_at_a_time, np.load(stream, allow_pickle=False) as kept:
        yield kept
