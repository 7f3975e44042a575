"""Settings as data: kind, unit, default, choices and help in one place for sheets, command line and tests."""

from __future__ import annotations

from dataclasses import Field, dataclass, field, fields
from typing import Any

import numpy as np

from kerb.core.errors import InputError


@dataclass(frozen=True)
class Setting:
    """What is known of one setting. A number is at least ``low``, more than ``above`` and at most ``high``; ``unit`` is
    ``length`` for the job unit, or a unit code, or empty."""

    label: str
    help: str
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()
    low: float | None = None
    above: float | None = None
    high: float | None = None
    automatic: str = ""


def setting(default: Any, about: Setting) -> Any:
    """A dataclass field with its description."""
    return field(default=default, metadata={"setting": about})


def settings_of(kind: type) -> dict[str, tuple[Setting, Any]]:
    """Name → (description, default) of every described setting of a setup class."""
    found = {}
    for item in fields(kind):
        about = described(item)
        if about is not None:
            found[item.name] = (about, item.default)
    return found


def check_positive(**lengths: float) -> None:
    """Raises InputError, when a named length is not above zero."""
    for name, value in lengths.items():
        if not (np.isfinite(value) and value > 0):
            raise InputError(f"{name.replace('_', ' ')} must be above zero, not {value:g}")


def described(item: Field) -> Setting | None:
    """The description of a dataclass field, if it has one."""
    about = item.metadata.get("setting")
    return about if isinstance(about, Setting) else None
