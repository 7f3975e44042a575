"""Where Kerb keeps things of its own for a user, and what it remembers between sessions."""

from __future__ import annotations

import json
import shutil
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any

import platformdirs

from kerb.job import journal
from kerb.job.lock import in_use

MOST_RECENT = 12


def user_data() -> Path:
    """Folder for demo data and jobs not saved yet."""
    return Path(platformdirs.user_data_dir("kerb"))


def unsaved_folder() -> Path:
    """A fresh folder name for a job that has no place yet."""
    stamp = datetime.now().strftime("%Y%m%d-%H%M%S-%f")
    return user_data() / "unsaved" / f"{stamp}.kerb"


def left_unsaved() -> list[Path]:
    """Jobs that were never saved and that no Kerb has open, newest first: a crash left them."""
    return [folder for folder in _unsaved() if journal.left(folder) and not in_use(folder)]


def sweep_unsaved(before: float | None = None) -> None:
    """Remove jobs that were never saved and whose changes were given up; their clouds take room.

    ``before`` (seconds since the epoch) leaves alone what was made later: a job that is just being made has no lock yet.
    """
    for folder in _unsaved():
        with suppress(OSError):
            made = folder.stat().st_mtime
            if (before is None or made < before) and not journal.left(folder) and not in_use(folder):
                shutil.rmtree(folder, ignore_errors=True)


def _unsaved() -> list[Path]:
    return sorted((user_data() / "unsaved").glob("*.kerb"), reverse=True)


class Settings:
    """Remembered settings: one small JSON file, written in one step. A damaged file counts as empty."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path or Path(platformdirs.user_config_dir("kerb")) / "settings.json"
        try:
            data = json.loads(self.path.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            data = {}
        self._values: dict[str, Any] = data if isinstance(data, dict) else {}

    def get(self, key: str, default: Any = None) -> Any:
        """A remembered value."""
        return self._values.get(key, default)

    def set(self, key: str, value: Any) -> None:
        """Remember a value."""
        if self._values.get(key) == value:
            return
        self._values[key] = value
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            partial = self.path.with_suffix(".partial")
            partial.write_text(json.dumps(self._values, indent=1), encoding="utf-8")
            partial.replace(self.path)
        except OSError:
            return  # a read-only home is no reason to stop the analyst

    def recent(self) -> list[Path]:
        """Recent jobs that still exist, newest first."""
        return [Path(item) for item in self.get("recent", []) if Path(item, "job.json").exists()]

    def add_recent(self, folder: Path) -> None:
        """Put a job first among the recent ones."""
        # What was typed from one place is looked for from another.
        first = folder.absolute()
        others = [str(item) for item in self.recent() if item.absolute() != first]
        self.set("recent", [str(first), *others][:MOST_RECENT])
