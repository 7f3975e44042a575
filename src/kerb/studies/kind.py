"""What a kind of study declares. Sheet, drawer, views, live figure, report, command line and help follow from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from kerb.core.arrays import Floats
from kerb.core.geometry.rigid import Rigid
from kerb.core.progress import Progress
from kerb.core.section.placed import PlacedSection
from kerb.studies.drawn import Item
from kerb.studies.fields import CODECS
from kerb.studies.inputs import judge_inputs
from kerb.studies.outcome import Outcome
from kerb.studies.setup import Setup
from kerb.studies.sources import Sources

HEADLINE, SHEET, SUMMARY, REPORT = "headline", "sheet", "summary", "report"
VOLUME, AREA, LENGTH, MASS, PERCENT, ANGLE, COUNT = "volume", "area", "length", "mass", "percent", "angle", "count"


@dataclass(frozen=True)
class FigureAbout:
    """A published figure: its name, label and kind of quantity, and where it is shown.

    ``adds`` says that figures of several studies may be summed in a summary; ``signed`` that its sign is written;
    ``optional`` ones are shown only where they have a value.
    """

    name: str
    label: str
    quantity: str
    shown: tuple[str, ...] = (SHEET, REPORT)
    signed: bool = False
    adds: bool = False
    optional: bool = False


@dataclass(frozen=True)
class Step:
    """A named step from setup to setup, such as pulling a line to the toe; ``field`` is what it changes.

    ``remark`` says, of the setups before and after, what the analyst should know of the change; nothing where all is well.
    """

    id: str
    label: str
    help: str
    field: str
    apply: Callable[[Any, Sources, Progress], Setup]
    said: str = ""
    key: str = ""
    fresh: bool = False
    remark: Callable[[Any, Any, Sources], str] | None = None

    def taken(self, setup: Any, sources: Sources, progress: Progress) -> tuple[Setup, str]:
        """The setup after the step, and the remark on it. Raises what the step raises; Cancelled."""
        after = self.apply(setup, sources, progress)
        return after, self.remark(setup, after, sources) if self.remark is not None else ""

    def lacks(self, setup: Setup) -> str:
        """What must be there before it can be taken, in words; nothing when it can be."""
        about = setup.declared()[self.field]
        if self.fresh or not CODECS[about.kind].empty(getattr(setup, self.field)):
            return ""
        return about.needed or f"{self.label}: there is nothing to change yet."


@dataclass(frozen=True)
class PlaceStep:
    """What a click adds to a field: ``apply`` gives values of the setup from it, the sources and the place (3,), whose elevation
    is NaN where the click does not tell it. ``anywhere``: in every view, not in plan only."""

    label: str
    help: str
    field: str
    apply: Callable[[Any, Sources, Floats], dict[str, Any]]
    anywhere: bool = False


@dataclass(frozen=True)
class MoveStep:
    """What is moved by eye: the holding that the field ``moving`` names; the motion is kept in the text ``field`` as sixteen
    numbers of a 4 × 4 matrix; ``read`` reads it, about a middle (3,) where the text names no place."""

    label: str
    help: str
    moving: str
    field: str
    read: Callable[[str, Floats], Rigid]


@dataclass(frozen=True)
class RowStep:
    """What can be done with rows of a table of the outcome: ``apply`` gives values of the setup from the names in their first
    column and a typed text, which is asked for with the words of ``asks``, and begins with ``usual``."""

    table: str
    label: str
    apply: Callable[[Any, tuple[str, ...], str], dict[str, Any]]
    asks: str = ""
    usual: str = ""


class Live(Protocol):
    """What stays the same while something is dragged, ready to answer at once."""

    def covers(self, setup: Any) -> bool:
        """Whether a setup can be answered from what was made ready."""

    def answer(self, setup: Any) -> Outcome:
        """A quick outcome, marked live. Raises InputError or NotDeterminable with the reason."""


@dataclass(frozen=True)
class Option:
    """An option of the command line beyond the fields of the setup, such as a file to write.

    The window offers those that write a file, with ``endings`` to choose from.
    """

    flag: str
    help: str
    metavar: str = "FILE"
    output: bool = True
    endings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Kept:
    """What a study says of the points of a list, to be kept with them: the field that names the list, columns by heading (point →
    text), and the values of the setup once the list says it itself."""

    field: str
    columns: dict[str, dict[str, str]]
    values: dict[str, Any]


@dataclass(frozen=True)
class Correction:
    """What would take a bias out: the holding that ``field`` names moved.

    ``title`` tells it from others that would; ``words`` say it with the sign in words, as a name and in the record.
    """

    field: str
    move: Rigid
    words: str
    title: str = ""


@dataclass(frozen=True)
class StudyKind:
    """One kind of study.

    ``name`` is what a new study is called; ``live`` makes ready for quick answers
    (without, ``run`` answers while settings are tried, where the clouds are small); ``write`` carries out ``options`` of the
    command line that make files; ``sheet`` names a widget of its own in ``app/sheets``; ``panes`` is what the views look at
    when a study is opened; ``tables`` are those that stand in the report and ``describe`` what stands beside its headline;
    ``begin`` fits the values of a new one to the box of what it is asked of. ``trial`` gives setups that a small round mound
    at the origin answers, for warm-up and tests. ``page_each`` gives each item of the outcome a page. ``follow`` asks the
    same of a later cloud, and ``upgrade`` brings the setups of earlier versions into the present form. ``corrections`` say
    what would take a bias out, the usual one first; ``from_section`` gives the values of a setup that goes on from a section,
    so many times at a spacing. ``of_selection`` ones are offered for points that are selected. ``keeps`` is what it says of a
    list of points, to be kept with them. ``row_steps`` are offered on rows of its tables, ``place_steps`` beside the fields
    that they fill, ``move_step`` beside what it moves; ``deciding`` gives the places (k, 3) of the data that decide what is
    found at a place (3,). ``shared`` names the parts of the bound that studies of one survey have in common, which add
    plainly where figures are summed. ``read_items`` reads the items of a field that has ways from a file. Inputs of a kind
    that may lie ``apart`` are not held against one another by the place check; of one that is not ``contoured`` a
    report draws no lines of equal elevation under its map. A new one is answered ``at_once`` where it has all it needs and its
    clouds are not large; others wait until they are asked for. ``read_words`` gives the words of a text field from a file, in a
    unit of so many metres.
    """

    id: str
    title: str
    question: str
    group: str
    name: str
    setup: type[Setup]
    run: Callable[[Any, Sources, Progress], Outcome]
    figures: tuple[FigureAbout, ...]
    help_page: str
    example: str
    live: Callable[[Any, Sources], Live] | None = None
    steps: tuple[Step, ...] = ()
    options: tuple[Option, ...] = ()
    write: Callable[[Any, Outcome, Sources, dict[str, Any]], list[tuple[str, str]]] | None = None
    sheet: str = ""
    panes: tuple[str, ...] = ("plan",)
    key: str = ""
    tables: tuple[str, ...] = ()
    shared: tuple[str, ...] = ()
    describe: Callable[[Any, Outcome], list[str]] | None = None
    begin: Callable[[Any, Floats, Floats], Setup] | None = None
    page_each: bool = False
    follow: Callable[[Any, str], Setup] | None = None
    trial: Callable[[], tuple[Setup, ...]] | None = None
    upgrade: Callable[[dict[str, Any]], dict[str, Any]] | None = None
    corrections: Callable[[Outcome], tuple[Correction, ...]] | None = None
    keeps: Callable[[Any, Outcome], Kept | None] | None = None
    of_selection: bool = False
    row_steps: tuple[RowStep, ...] = ()
    place_steps: tuple[PlaceStep, ...] = ()
    move_step: MoveStep | None = None
    deciding: Callable[[Any, Sources, Floats], Floats] | None = None
    from_section: Callable[[PlacedSection, int, float], dict[str, Any]] | None = None
    read_items: Callable[[Path], tuple[Item, ...]] | None = None
    apart: bool = False
    contoured: bool = True
    at_once: bool = True
    read_words: Callable[[str, Path, float], str] | None = None

    def compute(self, setup: Any, sources: Sources, progress: Progress) -> Outcome:
        """Run it, and add what its inputs say of themselves and of one another. Raises what ``run`` raises."""
        outcome = self.run(setup, sources, progress)
        judge_inputs(setup, sources, outcome)
        return outcome

    @property
    def headline(self) -> FigureAbout:
        """The figure that answers the question."""
        return self.where(HEADLINE)[0]

    def where(self, place: str) -> list[FigureAbout]:
        """The figures shown at a place, in order."""
        return [figure for figure in self.figures if place in figure.shown]

    def setup_of(self, data: dict[str, Any]) -> Setup:
        """A setup from its JSON, that of earlier versions too."""
        return self.setup.from_json(self.upgrade(data) if self.upgrade is not None else data)
