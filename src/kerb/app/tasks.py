"""Work on other threads: tasks with progress and cancel, and 'only the latest matters' work for live figures."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app.widgets import there
from kerb.core.errors import Cancelled, KerbError
from kerb.core.progress import Progress
from kerb.core.space import refusal

log = logging.getLogger("kerb.tasks")


class Task(QObject):
    """One piece of background work. Its signals arrive on the thread of the window."""

    progressed = Signal(float, str)
    done = Signal(object)
    failed = Signal(str, object)
    cancelled = Signal()
    ended = Signal()

    def __init__(self, work: Callable[[Progress], Any], title: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.title = title
        self._work = work
        self.progress = Progress(lambda fraction, sentence: self.progressed.emit(fraction, sentence))
        self._thread = threading.Thread(target=self._run, name=f"kerb-task {title}", daemon=True)
        # Work that is done at once must not end before whoever began it has connected to its end.
        self._begin = threading.Event()

    def start(self) -> None:
        """Begin with the next turn of the event loop."""
        self._thread.start()
        QTimer.singleShot(0, self._begin.set)

    def stop(self) -> None:
        """Ask the work to stop; ``cancelled`` follows."""
        self.progress.stop()
        self._begin.set()

    def wait(self, seconds: float) -> bool:
        """Wait for the thread to end; whether it did."""
        self._begin.set()
        self._thread.join(seconds)
        return not self._thread.is_alive()

    def _run(self) -> None:
        self._begin.wait()
        try:
            result = self._work(self.progress)
        except Cancelled:
            self._emit(self.cancelled)
        except KerbError as error:
            self._emit(self.failed, str(error), error)
        except OSError as error:  # a full disk, a share that went away: nothing of ours is broken
            log.warning("%s: %s", self.title, error)
            self._emit(self.failed, refusal(error, self.title), error)
        except Exception as error:  # a fault of ours: say so in the window, and keep the trace for the log
            log.exception("task failed")
            self._emit(self.failed, f"Kerb failed at '{self.title}': {error}", error)
        else:
            self._emit(self.done, result)
        self._emit(self.ended)

    def _emit(self, signal: Any, *values: Any) -> None:
        try:
            signal.emit(*values)
        except RuntimeError:
            log.debug("the window closed before '%s' ended", self.title)


class Latest(QObject):
    """Runs the latest work it was given on one thread; what was overtaken before it began is dropped.

    A work is called with a function that says whether something newer is waiting.
    """

    done = Signal(object)

    def __init__(self, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._condition = threading.Condition()
        self._next: Callable[[Callable[[], bool]], Any] | None = None
        self._closing = False
        self._busy = False
        self._thread = threading.Thread(target=self._loop, name=f"kerb-{name}", daemon=True)
        self._thread.start()

    def submit(self, work: Callable[[Callable[[], bool]], Any]) -> None:
        """Do this next, in place of anything that waits."""
        with self._condition:
            self._next = work
            self._condition.notify()

    def idle(self) -> bool:
        """Whether nothing runs or waits."""
        with self._condition:
            return self._next is None and not self._busy

    def close(self) -> None:
        """End the thread after the work at hand."""
        with self._condition:
            self._closing = True
            self._next = None
            self._condition.notify()
        self._thread.join(5.0)

    def _overtaken(self) -> bool:
        return self._next is not None or self._closing

    def _loop(self) -> None:
        while True:
            with self._condition:
                self._busy = False
                while self._next is None and not self._closing:
                    self._condition.wait()
                if self._closing:
                    return
                work, self._next, self._busy = there(self._next), None, True
            try:
                result = work(self._overtaken)
            except Exception as error:
                if not isinstance(error, KerbError):
                    log.exception("background work failed")
                result = error
            try:
                self.done.emit(result)
            except RuntimeError:
                return
