"""The sections of the job in the window: which one is looked along, and how it is while it is dragged or stepped."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from kerb.app.session import Session
from kerb.app.widgets import made
from kerb.core.quantity import quantity
from kerb.core.section.placed import PlacedSection
from kerb.core.units import METRE
from kerb.job import sections

# A run of steps or a drag is one step of the job when it has rested so long.
REST_MS = 600
USUAL_M, USUAL_FT = (20.0, 0.5), (60.0, 2.0)


class SectionKeeper(QObject):
    """Gives out the sections as they are now, and keeps what was tried as one step."""

    changed = Signal()
    # A section was chosen to be looked along.
    looked_along = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.session = session
        self.chosen = ""
        self._draft: PlacedSection | None = None
        self._words = ""
        self._seen: tuple[PlacedSection, ...] = ()
        self._rest = made(QTimer(self), singleShot=True, interval=REST_MS)
        self._rest.timeout.connect(self.keep)
        session.opened.connect(self.forget)
        session.settling.connect(self.keep)
        session.changed.connect(self._follow)

    def all(self) -> list[PlacedSection]:
        """Every section of the job, one that is being moved as it is now."""
        state = self.session.job.state if self.session.job is not None else None
        draft = self._draft
        return [draft if draft is not None and s.id == draft.id else s for s in (state.sections if state else ())]

    def section(self, key: str = "") -> PlacedSection | None:
        """The section of an id, else the one that is looked along."""
        return next((s for s in self.all() if s.id == (key or self.chosen)), None)

    def choose(self, key: str) -> None:
        """Look along a section, along none when the id is empty."""
        self.keep()
        self.chosen = key
        self.changed.emit()
        if key:
            self.looked_along.emit()

    def forget(self) -> None:
        """Another job: nothing is chosen."""
        self._rest.stop()
        self.chosen, self._draft = "", None
        self.changed.emit()

    def usual(self) -> tuple[float, float]:
        """Width and thickness that a new section begins with: those used last in this unit."""
        unit = self.session.open_job.state.title.length_unit()
        plain = USUAL_M if unit.code == METRE.code else USUAL_FT
        width, thickness = self.session.settings.get(f"section {unit.code}", list(plain))
        return float(width), float(thickness)

    def add(self, section: PlacedSection) -> None:
        """Put a new section into the job and look along it."""
        self.keep()
        new = sections.named(self.session.open_job.state, section)
        self.session.execute(sections.put(new, f"Placed section {new.name}"))
        self.remember(new)
        self.choose(new.id)

    def remember(self, section: PlacedSection) -> None:
        """New ones begin as wide and thick as this one."""
        self.session.settings.set(f"section {self.session.unit}", [section.width, section.thickness])

    def try_(self, section: PlacedSection, verb: str) -> None:
        """Show a section otherwise; it is kept when that comes to rest."""
        self._draft, self._words = section, f"{verb} section {section.name}"
        self._rest.start()
        self.changed.emit()

    def keep(self) -> None:
        """Keep what was tried as one step of the job."""
        self._rest.stop()
        draft, self._draft = self._draft, None
        if draft is not None and self.session.job is not None:
            self.session.execute(sections.put(draft, self._words))

    def take_back(self) -> bool:
        """Forget what was tried and not kept yet; False when there is nothing."""
        tried = self._draft is not None
        if tried:
            self.drop()
        return tried

    def drop(self) -> None:
        """Forget what was tried."""
        self._rest.stop()
        self._draft = None
        self.changed.emit()

    def step(self, by: int) -> bool:
        """Move the section that is looked along by its step; False when there is none."""
        here = self.section()
        if here is not None:
            self.try_(here.stepped(by), "Stepped")
        return here is not None

    def flip(self) -> bool:
        """Look at it from the other side; False when there is none."""
        here = self.section()
        if here is not None:
            self.try_(here.flipped(), "Turned about")
        return here is not None

    def change(self, section: PlacedSection, words: str) -> None:
        """Keep a changed section at once."""
        self._draft = None
        self._rest.stop()
        self.session.execute(sections.put(section, words))

    def copies(self, section: PlacedSection, count: int, spacing: float) -> None:
        """Add copies of a section."""
        self.keep()
        self.session.execute(sections.copied(self.session.open_job.state, section, count, spacing))
        self.session.said.emit(
            f"{count} copies of {section.name}, {quantity(spacing, self.session.unit)} apart, are in the list."
        )

    def _follow(self) -> None:
        """Most changes of the job are about something else."""
        found = self.session.job.state.sections if self.session.job is not None else ()
        if found is self._seen:
            return
        self._seen = found
        if self.chosen and not any(section.id == self.chosen for section in found):
            self.chosen = ""
        self.changed.emit()
