"""Page sizes of reports. Apart from the report, so that a choice of sizes does not load what makes one."""

from __future__ import annotations

from reportlab.lib.pagesizes import A4, LETTER

PAGES = {"A4": A4, "Letter": LETTER}
