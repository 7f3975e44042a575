"""Write a holding to a file: which format, which ending, and the file."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from kerb.formats.write_things import NAMES


def ask_target(parent: QWidget, name: str, endings: tuple[str, ...], start: str) -> Path | None:
    """The file to write, with an ending that fits; None when it was cancelled."""
    filters = ";;".join(f"{NAMES[ending]} (*{ending})" for ending in endings)
    clean = "".join("_" if letter in '/\\:*?"<>|' else letter for letter in name)
    first = str(Path(start) / f"{clean}{endings[0]}")
    path, chosen = QFileDialog.getSaveFileName(parent, f"Write {name}", first, filters)
    if not path:
        return None
    target = Path(path)
    if target.suffix.lower() in endings:
        return target
    wanted = next((ending for ending in endings if f"(*{ending})" in chosen), endings[0])
    return target.with_name(target.name + wanted)
