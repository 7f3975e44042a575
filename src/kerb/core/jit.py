"""The one decorator for compiled kernels: no GIL, cached on disk, never parallel by itself.

Parallel work is chunks of a serial kernel on threads (:mod:`kerb.core.parallel`): Numba's own thread pool aborts the
process when two Python threads enter it at once, and the window does just that.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import platformdirs

os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_dir("kerb")) / "kernels"))

import numba

F = TypeVar("F", bound=Callable[..., Any])


def kernel(function: F) -> F:
    """Compile a function on first use, without the GIL, keeping the result on disk."""
    compiled: F = numba.njit(nogil=True, cache=True, error_model="numpy")(function)  # type: ignore[assignment]
    return compiled


def inline(function: F) -> F:
    """Compile a small helper into the kernels that call it."""
    compiled: F = numba.njit(nogil=True, cache=True, error_model="numpy", inline="always")(function)  # type: ignore[assignment]
    return compiled
