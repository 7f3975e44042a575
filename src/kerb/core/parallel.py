"""Chunks of work on a few threads, with progress between them. The kernels they call release the GIL."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from functools import lru_cache
from typing import Any, Generic, TypeVar

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

    Whoever asks works along, and what the pool's threads have no time for it does alone: a picture does not wait for the studies
    that keep them busy. A call from inside such a work runs in its own thread, so nesting cannot wait for itself.
    Raises whatever a work raises, and Cancelled between works when the progress is stopped.
    """
    todo: Sequence[T] = list(items)
    if len(todo) < 2 or getattr(_inside, "busy", False):
        return [_stepped(work, item, (i, len(todo)), progress, sentence) for i, item in enumerate(todo)]
    shared = _Shared(work, todo)
    helpers = [_pool().submit(shared.help) for _ in range(min(cores(), len(todo)) - 1)]
    try:
        shared.help(progress, sentence)
    except BaseException:
        shared.end()
        raise
    finally:
        for helper in helpers:
            helper.cancel()
        wait(helpers)
    if shared.error is not None:
        raise shared.error
    if progress is not None:
        progress.step(1.0, sentence)
    return shared.results


class _Shared(Generic[T, R]):
    """Items that several threads take one after the other, and what came of them."""

    def __init__(self, work: Callable[[T], R], todo: Sequence[T]) -> None:
        self.work, self.todo = work, todo
        self.results: list[Any] = [None] * len(todo)
        self.error: BaseException | None = None
        self._left = iter(range(len(todo)))
        self._done, self._ended = 0, False
        self._lock = threading.Lock()

    def help(self, progress: Progress | None = None, sentence: str = "") -> None:
        """Work until nothing is left; an error ends it for all. Raises Cancelled, when the progress is stopped."""
        _inside.busy = True
        try:
            while (index := self._take()) is not None:
                try:
                    self.results[index] = self.work(self.todo[index])
                except BaseException as error:
                    self.end(error)
                    return
                with self._lock:
                    self._done += 1
                if progress is not None:
                    progress.step(self._done / len(self.todo), sentence)
        finally:
            _inside.busy = False

    def end(self, error: BaseException | None = None) -> None:
        """Nothing more is begun."""
        with self._lock:
            self._ended = True
            self.error = error if self.error is None else self.error

    def _take(self) -> int | None:
        with self._lock:
            return None if self._ended else next(self._left, None)


def beside(*works: Callable[[], Any]) -> list[Any]:
    """What works give that do not need one another, on all cores, in order."""
    return each(lambda work: work(), works)


def _stepped(work: Callable[[T], R], item: T, place: tuple[int, int], progress: Progress | None, sentence: str) -> R:
    if progress is not None:
        progress.step(place[0] / place[1], sentence)
    return work(item)
