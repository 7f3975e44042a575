"""What an object works out when it is first asked for, and keeps."""

from __future__ import annotations

from functools import cached_property
from typing import Any, TypeVar

T = TypeVar("T")


class Once(cached_property[T]):
    """A property that is worked out at the first look and kept in the object.

    Up to Python 3.11 ``functools.cached_property`` holds one lock for all objects of a class while it works. Work that goes on
    on the pool of :mod:`kerb.core.parallel` then waits for threads that wait for that lock. Here two threads that ask at once
    both work it out, and the last one's is kept: the same number, so nothing is lost but the time.
    """

    def __get__(self, instance: Any, owner: type[Any] | None = None) -> Any:
        """The value for an object, or the property itself for its class."""
        if instance is None or self.attrname is None:
            return super().__get__(instance, owner)
        kept = instance.__dict__
        if self.attrname not in kept:
            kept[self.attrname] = self.func(instance)
        return kept[self.attrname]
