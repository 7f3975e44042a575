"""Keeps the gridded heap of the open study ready and answers drafts from it on a thread of its own."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from kerb.app.tasks import Latest
from kerb.core.errors import KerbError
from kerb.job import studies
from kerb.studies.stockpile.live import LiveAnswer, LiveHeap
from kerb.studies.stockpile.setup import StockpileSetup

if TYPE_CHECKING:
    from kerb.app.session import Session


class LiveKeeper(QObject):
    """Live figures for the open study."""

    answered = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.heap: LiveHeap | None = None
        self.answer: LiveAnswer | None = None
        self._heap_of = ""
        self._worker = Latest("live", self)
        self._worker.done.connect(self._arrived)

    def forget(self) -> None:
        """Another job is open."""
        self.heap, self.answer, self._heap_of = None, None, ""

    def prepare(self) -> None:
        """Get ready for the open study, so that the first drag does not wait."""
        setup = self.session.setup
        self.answer = None
        if setup is not None and setup.toe:
            self.ask(setup)

    def ask(self, setup: StockpileSetup) -> None:
        """Answer a setup; only the latest one asked is answered."""
        job, study = self.session.job, self.session.study
        if job is None or study is None or len(setup.toe) < 3:
            return
        try:
            data = studies.data_for(job, study)
        except KerbError:
            return
        sets = "-".join(h.sets.mark + repr(h.sets.parts) for h in job.state.holdings)
        key = f"{study.id}-{setup.cloud}-{sets}-{setup.base_surface if setup.base == 'surface' else ''}"

        def work(_overtaken: Any) -> Any:
            heap = self.heap if self._heap_of == key else None
            if heap is None or not heap.covers(setup):
                heap = LiveHeap(data.cloud, setup, data.unit, data.base)
                self.heap, self._heap_of = heap, key
            setup.check()
            return heap.answer(setup)

        self._worker.submit(work)

    def idle(self) -> bool:
        """Whether nothing is being answered."""
        return self._worker.idle()

    def close(self) -> None:
        self._worker.close()

    def _arrived(self, result: object) -> None:
        self.answer = result if isinstance(result, LiveAnswer) else None
        self.answered.emit(result)
