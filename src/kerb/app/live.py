"""Quick answers while something is dragged: the model of the open study kept ready, asked on a thread of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from kerb.app.tasks import Latest
from kerb.core.errors import Cancelled, KerbError
from kerb.core.progress import Progress
from kerb.studies.kind import Live, StudyKind
from kerb.studies.outcome import Outcome
from kerb.studies.setup import Setup
from kerb.studies.sources import Sources

# A kind without a quicker answer is run while settings are tried, on clouds of no more points than this together.
RUN_LIVE = 300_000


@dataclass(frozen=True)
class Question:
    """A setup to be answered: ``print`` tells which state the answer belongs to, ``inputs`` what a model is good for. A ``draft``
    is of settings that are being tried and not yet taken."""

    kind: StudyKind
    setup: Setup
    sources: Sources
    inputs: tuple[object, ...]
    print: str
    draft: bool = False


class Overtaken(Progress):
    """A progress that nobody watches, stopped when something newer is asked."""

    def __init__(self, overtaken: Callable[[], bool]) -> None:
        super().__init__()
        self._overtaken = overtaken

    def check(self) -> None:
        """Raise Cancelled when something newer is asked."""
        if self._overtaken():
            self.stop()
        super().check()

    def within(self, _start: float, _end: float) -> Progress:
        """The same, for nothing is reported."""
        return self

    def unseen(self) -> Progress:
        """The same."""
        return self


@dataclass(frozen=True)
class Answer:
    """What a question found, or why it found nothing."""

    print: str
    outcome: Outcome | None
    trouble: str = ""


@dataclass(frozen=True)
class Shown:
    """What may be shown of the open study now: an outcome that belongs to it, or in words why there is none."""

    outcome: Outcome | None = None
    words: str = ""

    @property
    def whole(self) -> bool:
        """Whether it is a full answer."""
        return self.outcome is not None and not self.outcome.live


def points_of(sources: Sources) -> int:
    """How many points the clouds have that a study reads."""
    return sum(item.count for item in sources.items.values() if item.store is not None)


def _run(question: Question, overtaken: Callable[[], bool]) -> Answer | None:
    """The whole answer of a kind that has no quicker one; None where something newer was asked meanwhile."""
    try:
        outcome = question.kind.run(question.setup, question.sources, Overtaken(overtaken))
    except Cancelled:
        return None
    except KerbError as error:
        return Answer(question.print, None, str(error))
    outcome.live = True
    return Answer(question.print, outcome)


class LiveKeeper(QObject):
    """Live outcomes of the open study. An answer is given out only for the state that was asked about."""

    answered = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._model: tuple[tuple[object, ...], Live] | None = None
        self._answer: Answer | None = None
        self._worker = Latest("live", self)
        self._worker.done.connect(self._arrived)

    def forget(self) -> None:
        """Another study or job is open: nothing that was found before is of use."""
        self._answer = None

    def drop(self) -> None:
        """Forget the model too."""
        self._answer, self._model = None, None

    def ask(self, question: Question) -> None:
        """Answer a question; only the latest one asked is answered."""
        if question.setup.missing():
            return
        if question.kind.live is not None:
            self._worker.submit(lambda _overtaken: self._work(question))
        elif question.draft and points_of(question.sources) <= RUN_LIVE:
            self._worker.submit(lambda overtaken: _run(question, overtaken))

    def found(self, print_: str) -> Outcome | None:
        """The live outcome of a state; None where there is none for it."""
        return self._answer.outcome if self._answer is not None and self._answer.print == print_ else None

    def trouble(self, print_: str) -> str:
        """Why there is no live outcome of a state; empty where it is not known."""
        return self._answer.trouble if self._answer is not None and self._answer.print == print_ else ""

    def idle(self) -> bool:
        """Whether nothing is being answered."""
        return self._worker.idle()

    def close(self) -> None:
        """End the thread."""
        self._worker.close()

    def _work(self, question: Question) -> Answer:
        assert question.kind.live is not None
        make: Callable[..., Live] = question.kind.live
        try:
            known = self._model
            model = known[1] if known is not None and known[0] == question.inputs else None
            if model is None or not model.covers(question.setup):
                model = make(question.setup, question.sources)
                self._model = (question.inputs, model)
            return Answer(question.print, model.answer(question.setup))
        except KerbError as error:
            return Answer(question.print, None, str(error))

    def _arrived(self, result: object) -> None:
        if isinstance(result, Answer):
            self._answer = result
            self.answered.emit()
