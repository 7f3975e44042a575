"""The one decorator for compiled kernels: no GIL, cached on disk, never parallel by itself.

Parallel work is chunks of a serial kernel on threads (:mod:`kerb.core.parallel`): Numba's own thread pool aborts the
process when two Python threads enter it at once, and the window does just that.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from types import ModuleType
from typing import Any, TypeVar

import platformdirs

os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_dir("kerb")) / "kernels"))

import numba
from numba.core.caching import UserProvidedCacheLocator
from numba.core.dispatcher import Dispatcher

F = TypeVar("F", bound=Callable[..., Any])


def kernel(function: F) -> F:
    """Compile a function on first use, without the GIL, keeping the result on disk."""
    compiled: F = numba.njit(nogil=True, cache=True, error_model="numpy")(function)  # type: ignore[assignment]
    return compiled


def inline(function: F) -> F:
    """Compile a small helper into the kernels that call it."""
    compiled: F = numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")(function)  # type: ignore[assignment]
    return compiled


class ByAllItsText(UserProvidedCacheLocator):
    """Where a compiled kernel is kept, and what it was compiled from: its own module and all that comes into it.

    Numba looks at the kernel's own file only. A kernel that calls one of another module holds that one's code as well, and
    would give the old figures after an upgrade that changes the other file.
    """

    def __init__(self, function: Callable[..., Any], path: str) -> None:
        super().__init__(function, path)
        self._stamp = _stamp(function.__globals__)

    def get_source_stamp(self) -> str:
        """What must be the same for a kept kernel to be used."""
        return self._stamp


_PLACES = (f"{__name__}.ByAllItsText", "UserProvidedCacheLocator", "InTreeCacheLocator", "UserWideCacheLocator")
numba.config.CACHE_LOCATOR_CLASSES = ",".join(_PLACES)  # type: ignore[attr-defined]

_STAMPS: dict[str, str] = {}


def _stamp(names: dict[str, Any]) -> str:
    """A digest of a module's text and of the kernels, modules and numbers it has from others, which its kernels take in.

    What a module imports stands at its top, and so is known when its first kernel is declared.
    """
    module = names["__name__"]
    if module not in _STAMPS:
        digest = hashlib.sha256(Path(names["__file__"]).read_bytes())
        parts = []
        for name, value in sorted(names.items()):
            if isinstance(value, Dispatcher):
                theirs = value.py_func.__globals__
                parts.append("" if theirs is names else _stamp(theirs))
            elif isinstance(value, ModuleType) and value.__name__.startswith("kerb."):
                parts.append(_stamp(vars(value)))
            elif isinstance(value, int | float | tuple) and not name.startswith("__"):
                parts.append(f"{name}={value!r}")
        digest.update("\n".join(parts).encode())
        _STAMPS[module] = digest.hexdigest()
    return _STAMPS[module]
