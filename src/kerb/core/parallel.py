"""Chunks of work on a few threads, with progress between them. The kernels they call release the GIL."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from functools import lru_cache
from typing import Any, TypeVar

from kerb.core.progress import Progress

T = TypeVar("T")
R = TypeVar("R")
_inside = threading.local()


def cores() -> int:
    """Cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)


@lru_cache(maxsize=1)
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max_workers=cores(), thread_name_prefix="kerb-core")


def ranges(total: int, least: int = 20_000, per_core: int = 4) -> list[tuple[int, int]]:
    """Cut ``0..total`` into about ``per_core`` ranges a core, none much smaller than ``least``."""
    pieces = max(1, min(cores() * per_core, total // max(least, 1)))
    step = -(-total // pieces) if total else 0
    return [(lo, min(lo + step, total)) for lo in range(0, total, step)] if total else []


def each(work: Callable[[T], R], items: Iterable[T], progress: Progress | None = None, sentence: str = "") -> list[R]:
    """``[work(item) for item in items]`` on all cores, in order of the items.

    A call from inside such a work runs in its own thread, so nesting cannot wait for itself.
    Raises whatever a work raises, and Cancelled between works when the progress is stopped.
    """
    todo: Sequence[T] = list(items)
    if len(todo) < 2 or getattr(_inside, "busy", False):
        return [_stepped(work, item, (i, len(todo)), progress, sentence) for i, item in enumerate(todo)]
    results: dict[int, R] = {}
    pool = _pool()
    waiting = {}
    upcoming = iter(enumerate(todo))
    done_count = 0
    try:
        for index, item in upcoming:
            waiting[pool.submit(_marked, work, item)] = index
            if len(waiting) < cores() * 2:
                continue
            done_count = _collect(waiting, results, (done_count, len(todo)), progress, sentence)
        while waiting:
            done_count = _collect(waiting, results, (done_count, len(todo)), progress, sentence)
    except BaseException:
        for future in waiting:
            future.cancel()
        wait(waiting)
        raise
    return [results[index] for index in range(len(todo))]


def beside(*works: Callable[[], Any]) -> list[Any]:
    """What works give that do not need one another, on all cores, in order."""
    return each(lambda work: work(), works)


def _stepped(work: Callable[[T], R], item: T, place: tuple[int, int], progress: Progress | None, sentence: str) -> R:
    if progress is not None:
        progress.step(place[0] / place[1], sentence)
    return work(item)


def _marked(work: Callable[[T], R], item: T) -> R:
    _inside.busy = True
    try:
        return work(item)
    finally:
        _inside.busy = False


def _collect(waiting: dict, results: dict, place: tuple[int, int], progress: Progress | None, sentence: str) -> int:
    finished, _ = wait(waiting, return_when=FIRST_COMPLETED)
    for future in finished:
        results[waiting.pop(future)] = future.result()
    done = place[0] + len(finished)
    if progress is not None:
        progress.step(done / place[1], sentence)
    return done
