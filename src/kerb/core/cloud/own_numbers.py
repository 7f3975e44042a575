"""Work that compares the points of a cloud with each other only: it is done in the numbers the cloud was imported with."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar, cast

from kerb.core.cloud.store import CloudStore

P = ParamSpec("P")
R = TypeVar("R")


def in_own_numbers(
    work: Callable[Concatenate[CloudStore, P], R],
) -> Callable[Concatenate[CloudStore, P], R]:
    """The same work, for which a placement of the cloud does not count; the points it tells of are the same ones."""

    @wraps(work)
    def unplaced(store: CloudStore, *args: Any, **kwargs: Any) -> R:
        return work(store.unplaced(), *args, **kwargs)

    return cast("Callable[Concatenate[CloudStore, P], R]", unplaced)
