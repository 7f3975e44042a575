"""Dates of surveys as people type them, and as they stand in the names of files."""

from __future__ import annotations

import re
from contextlib import suppress
from datetime import date

from kerb.core.errors import InputError

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
EARLIEST = 1900


def date_of(text: str) -> str:
    """A typed date as year-month-day (ISO 8601), nothing for nothing.

    Taken are 2026-05-02, 2026/5/2, 20260502, 2.5.2026, 2 May 2026, May 2, 2026 and 02/05/2026 where one of the first two
    numbers can only be a day. Raises InputError, when it is none, or day and month cannot be told apart.
    """
    words = text.strip()
    if not words:
        return ""
    found = re.fullmatch(r"(\d{4})[-/. ](\d{1,2})[-/. ](\d{1,2})", words) or re.fullmatch(
        r"(\d{4})(\d{2})(\d{2})", words
    )
    if found:
        return _made(text, int(found[1]), int(found[2]), int(found[3]))
    found = re.fullmatch(r"(\d{1,2})\.\s*(\d{1,2})\.\s*(\d{4})", words)
    if found:
        return _made(text, int(found[3]), int(found[2]), int(found[1]))
    found = re.fullmatch(r"(\d{1,2})[-/ ](\d{1,2})[-/ ](\d{4})", words)
    if found:
        one, other, year = (int(part) for part in found.groups())
        if one != other and one <= 12 and other <= 12:
            raise InputError(
                f"“{text}”: which is the day? Type {year}-{other:02d}-{one:02d} or {year}-{one:02d}-{other:02d}"
            )
        day, month = (one, other) if other <= 12 else (other, one)
        return _made(text, year, month, day)
    parts = re.findall(r"[A-Za-z]+|\d+", words)
    month = next((MONTHS.index(p[:3].lower()) + 1 for p in parts if p.isalpha() and p[:3].lower() in MONTHS), 0)
    numbers = [int(p) for p in parts if p.isdigit()]
    years = [n for n in numbers if n >= EARLIEST]
    days = [n for n in numbers if n <= 31]
    if month and len(years) == 1 and len(days) == 1 and len(parts) == 3:
        return _made(text, years[0], month, days[0])
    raise InputError(f"“{text}” is no date; type it as year-month-day, such as 2026-05-02")


def date_in(name: str) -> str:
    """The one date that stands in a name as year, month and day, such as pit_2026-03-11 or 20260311; else nothing.

    A number that would be a day to come is no date of a survey, and of two dates none is taken.
    """
    found = set()
    for year, _, month, day in re.findall(r"(?<!\d)((?:19|20)\d\d)([-_.]?)(\d\d)\2(\d\d)(?!\d)", name):
        with suppress(ValueError):
            found.add(date(int(year), int(month), int(day)))
    one = found.pop() if len(found) == 1 else date.max
    return one.isoformat() if one <= date.today() else ""


def _made(text: str, year: int, month: int, day: int) -> str:
    try:
        made = date(year, month, day)
    except ValueError:
        raise InputError(f"“{text}”: there is no such day") from None
    if made.year < EARLIEST:
        raise InputError(f"“{text}”: no survey is as old as that")
    return made.isoformat()
