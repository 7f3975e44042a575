"""Ask where to write a file: which format, which ending, in which folder, and whether what is there may go."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from kerb.app.dialogs.questions import ask
from kerb.app.session import Session
from kerb.formats.write_things import NAMES

REPLACE, WRITE = "Replace", "Write it"
LABELS = {**NAMES, ".csv": "CSV", ".xlsx": "Spreadsheet", ".pdf": "PDF", ".docx": "Word document"}


def ask_target(parent: QWidget, session: Session, name: str, endings: tuple[str, ...], title: str = "") -> Path | None:
    """The file to write, with an ending that fits; None when it was cancelled or has to stay as it is.

    It begins in the folder that was written to last, else beside the job. Sources of the job are never written to.
    """
    filters = ";;".join(f"{LABELS[ending]} (*{ending})" for ending in endings)
    clean = "".join("_" if letter in '/\\:*?"<>|' else letter for letter in name)
    first = Path(session.settings.get("write_folder", "") or _beside(session)) / f"{clean}{endings[0]}"
    path, chosen = QFileDialog.getSaveFileName(parent, title or f"Write {name}", str(first), filters)
    if not path:
        return None
    target = Path(path)
    if target.is_dir():
        session.complained.emit("Not written", f"{target} is a folder; give the file a name.")
        return None
    if target.suffix.lower() not in endings:
        wanted = next((ending for ending in endings if f"(*{ending})" in chosen), endings[0])
        if target.suffix.lower() in LABELS:
            # The ending of another format: it is said that this one cannot be, and not hidden in the name.
            text = f"This is written as {', '.join(endings)}."
            if (
                ask(parent, f"{target.suffix} cannot hold it. Write {target.stem}{wanted}?", text, WRITE, "Cancel")
                != WRITE
            ):
                return None
            target = target.with_suffix("")
        target = target.with_name(target.name + wanted)
        # The chooser asked about what was typed, not about what it becomes.
        if target.exists() and ask(parent, f"{target.name} is there already", "", REPLACE, "Cancel") != REPLACE:
            return None
    if session.keeps(target):
        return None
    session.settings.set("write_folder", str(target.parent))
    return target


def _beside(session: Session) -> Path:
    folder = session.open_job.folder
    return Path.home() if "unsaved" in folder.parts else folder.parent
