"""The first look at a file, before any library is let near it."""

from __future__ import annotations

from pathlib import Path

from kerb.core.errors import FormatError, InputError


def first_bytes(path: Path, count: int, largest: int | None = None) -> bytes:
    """The first ``count`` bytes of a file, fewer where it is shorter.

    Raises
    ------
    InputError, when it cannot be opened; FormatError, when it has more than ``largest`` bytes.
    """
    try:
        if largest is not None and path.stat().st_size > largest:
            raise FormatError(f"{path}: larger than {largest / 1e9:g} GB; too large for its kind")
        with open(path, "rb") as stream:
            return stream.read(count)
    except FileNotFoundError:
        raise InputError(f"{path}: no such file") from None
    except OSError as error:
        raise InputError(f"{path}: {error.strerror or error}") from None
