"""A report as a file: a PDF, or a Word document by its ending."""

from __future__ import annotations

from pathlib import Path

from kerb.core.errors import OutputError
from kerb.core.progress import Progress
from kerb.formats.written import placed_when_complete
from kerb.report.pdf import Chapter, ReportWish, make_report

AS_PAGES, AS_DOCUMENT = ".pdf", ".docx"


def write_report(path: Path, chapters: list[Chapter], wish: ReportWish, force: bool = False) -> None:
    """Write the report as PDF, or as a Word document by its ending, beside its name first and moved there when complete.

    Raises
    ------
    OutputError, when the file exists (unless ``force``) or cannot be written.
    """
    if path.exists() and not force:
        raise OutputError(f"{path}: exists; not overwritten without --force")
    data = made_for(path, chapters, wish)
    with placed_when_complete(path) as partial:
        partial.write_bytes(data)


def made_for(path: Path, chapters: list[Chapter], wish: ReportWish, progress: Progress | None = None) -> bytes:
    """The report as the bytes of the file that the ending of a path asks for. Raises OutputError for another; Cancelled."""
    if path.suffix.lower() == AS_DOCUMENT:
        # The library is loaded only where a document is asked for.
        from kerb.report.docx import make_document

        return make_document(chapters, wish, progress)
    if path.suffix.lower() not in ("", AS_PAGES):
        raise OutputError(f"{path}: a report is written as {AS_PAGES} or {AS_DOCUMENT}")
    return make_report(chapters, wish, progress)
