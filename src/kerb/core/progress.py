"""Progress and cancellation, handed down from whoever asked for the work.

The work calls :meth:`Progress.step`; the asker sees a fraction and a sentence, and may ask it to stop.
"""

from __future__ import annotations

import threading
from collections.abc import Callable

from kerb.core.errors import Cancelled

Report = Callable[[float, str], None]


class Progress:
    """A fraction from 0 to 1 with a sentence, and a stop switch.

    ``within`` makes a child that fills a span of its parent, so that a step need not know what comes after it.
    """

    def __init__(self, report: Report | None = None, stop: threading.Event | None = None) -> None:
        self._report = report
        self._stop = stop or threading.Event()

    def step(self, fraction: float, sentence: str = "") -> None:
        """Say how far the work is. Raises Cancelled when the asker wants it to stop."""
        self.check()
        if self._report is not None:
            self._report(min(max(fraction, 0.0), 1.0), sentence)

    def check(self) -> None:
        """Raise Cancelled when the asker wants the work to stop."""
        if self._stop.is_set():
            raise Cancelled

    def stop(self) -> None:
        """Ask the work to stop at its next step."""
        self._stop.set()

    @property
    def stopped(self) -> bool:
        """Whether a stop was asked for."""
        return self._stop.is_set()

    def within(self, start: float, end: float) -> Progress:
        """A child whose 0..1 fills ``start``..``end`` of this one; it shares the stop switch."""

        def report(fraction: float, sentence: str) -> None:
            if self._report is not None:
                self._report(start + (end - start) * fraction, sentence)

        return Progress(report, self._stop)

    def unseen(self) -> Progress:
        """A child that reports nothing but can be stopped: for works that run beside each other."""
        return Progress(None, self._stop)


def silent() -> Progress:
    """A progress nobody watches."""
    return Progress()
