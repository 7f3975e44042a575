"""The verb of any kind of study: options from its declaration, inputs resolved, run, report and files written."""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable, Collection
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kerb.core.errors import InputError
from kerb.core.geometry.area import Area
from kerb.core.geometry.features import LineSet
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem
from kerb.core.setting import Setting
from kerb.core.things import CLOUD
from kerb.headless.choosing import chosen, filter_of
from kerb.headless.options import (
    add_common,
    check_output,
    class_list,
    held_by,
    open_cloud,
    progress_to_terminal,
    workspace,
)
from kerb.headless.pairs import place_notes
from kerb.headless.placed import KINDS, areas_of, lines_of, one_area, thing_of
from kerb.job.state import Title
from kerb.job.studies import source_of
from kerb.report.pdf import Chapter, ReportWish
from kerb.report.write import write_report
from kerb.studies.drawn import Drawn, Item
from kerb.studies.fields import (
    ALIGNMENT,
    CHOICE,
    CLOUDS,
    DIRECTION,
    DRAWN,
    HOLDINGS,
    LINE,
    LINES,
    MANY,
    NUMBER,
    PLACES,
    POINTS,
    RING,
    RINGS,
    SCOPE,
    SURFACE,
    SURFACES,
    SWITCH,
    TEXT,
    Field,
)
from kerb.studies.kind import StudyKind
from kerb.studies.outcome import Note, Outcome, bounded
from kerb.studies.registry import study_kind
from kerb.studies.scope import Scope
from kerb.studies.setup import Setup
from kerb.studies.sources import NOT_A, Source, Sources, numbered
from kerb.studies.taking import item_from, ring_from

LEVEL = "level:"
NARROWING = ("classes", "part", "only", "within")
# Easting and northing, and elevation where it is known.
PLACE = r"[-+]?[\d.]+,[-+]?[\d.]+(,[-+]?[\d.]+)?"
POLY_HELP = "GeoJSON, GeoPackage, Shapefile, KML, DXF, LandXML, WKT or text with easting, northing"


def main_field(kind: StudyKind) -> str:
    """The field that the first word on the command line fills."""
    return kind.setup.main()


def add_options(kind: StudyKind) -> Callable[[argparse.ArgumentParser], None]:
    """A function that adds the options of a kind to a parser."""

    def add(parser: argparse.ArgumentParser) -> None:
        first = main_field(kind)
        for name, about in kind.setup.declared().items():
            if name == first:
                # Where further clouds are asked for they follow the first one.
                more: dict[str, Any] = {"nargs": "+"} if kind.setup.named(CLOUDS) else {}
                parser.add_argument(
                    name,
                    metavar="CLOUD" if about.kind == SCOPE else about.label.upper(),
                    help=f"{_safe(about.help)}: a cloud file, or JOB.kerb#holding",
                    **more,
                )
                _add_narrowing(
                    parser, "", name, about.classes_flag, taken={a.flag for a in kind.setup.declared().values()}
                )
            elif about.kind != CLOUDS and not about.by_hand:
                _add_field(parser, kind, name, about)
        for step in kind.steps:
            flag = f"--{step.id.replace('_', '-')}"
            parser.add_argument(flag, dest=step.id, action="store_true", help=f"first: {_safe(step.help)}")
        for option in kind.options:
            parser.add_argument(f"--{option.flag}", metavar=option.metavar, help=_safe(option.help))
        parser.add_argument(
            "--accept-warnings", "--seen", dest="seen", action="store_true",
            help="compute although the place check has an alarm about two of the inputs",
        )  # fmt: skip
        add_common(parser, report=True)

    return add


def _add_narrowing(
    parser: argparse.ArgumentParser, role: str, name: str, classes: str, alias: str = "", taken: Collection[str] = ()
) -> None:  # fmt: skip
    flags = lambda word: [f"--{r}{word}" for r in dict.fromkeys((role, alias or role))]  # noqa: E731
    of = f" of --{role.rstrip('-')}" if role else ""
    parser.add_argument(
        *flags("classes"),
        *([f"--{classes}"] if classes else []),
        dest=f"{name}_classes",
        type=class_list,
        default=(),
        help=f"classes{of} that count (default: all but noise)",
    )
    parser.add_argument(
        *flags("only"), dest=f"{name}_only", type=filter_of, action="append", default=[], metavar="NAME=WHAT",
        help=f"only points{of} that pass, such as intensity=100..900 or source_file!=3; may be given several times",
    )  # fmt: skip
    parser.add_argument(*flags("part"), dest=f"{name}_part", default="", help=f"only points{of} of this part count")
    if "within" in taken:
        # The study itself has areas, each of which is counted by itself.
        parser.set_defaults(**{f"{name}_within": ""})
        return
    parser.add_argument(
        *flags("within"),
        dest=f"{name}_within",
        metavar="POLY",
        default="",
        help=f"only points{of} inside these areas count",
    )


def _add_field(parser: argparse.ArgumentParser, kind: StudyKind, name: str, about: Field) -> None:
    flag = f"--{(about.flag or name).replace('_', '-')}"
    default = kind.setup.defaults()[name]
    if about.kind in HOLDINGS:
        named: dict[str, Any] = {"dest": name, "default": ""} if not about.positional else {}
        parser.add_argument(
            name if about.positional else flag,
            metavar=about.label.upper() if about.positional else "FILE",
            help=_file_help(about),
            **named,
        )
        if about.kind == POINTS and about.needed:
            parser.add_argument(
                "--columns", default="", metavar="name,e,n,z,role",
                help=f"what the columns of a text file of {flag} hold, in order; - for one that is not read",
            )  # fmt: skip
        if about.kind in (SCOPE, SURFACE):
            single = [n for n, a in kind.setup.declared().items() if a.kind in (SCOPE, SURFACE)][1:2] == [name]
            _add_narrowing(parser, f"{flag[2:]}-", name, about.classes_flag, "against-" if single else "")
    elif about.kind == SURFACES:
        parser.add_argument(
            flag, dest=name, action="append", default=[], metavar="FILE",
            help=f"{_safe(about.help)}, or JOB.kerb#holding; may be given several times",
        )  # fmt: skip
    elif about.kind in DRAWN:
        if not about.hidden:
            parser.add_argument(
                flag, dest=name, metavar="POLY", required=bool(about.needed), default="",
                help=f"{_safe(about.help)}: {POLY_HELP}; FILE#NAME chooses one",
            )  # fmt: skip
    elif about.kind == RINGS:
        where = "a GeoJSON file of steps, as the study writes it" if kind.read_items is not None else POLY_HELP
        if about.ways and kind.read_items is None:
            where = "closed lines and open lines of any readable file"
        parser.add_argument(
            flag, dest=name, metavar="FILE" if about.ways else "POLYS", default="", help=f"{_safe(about.help)}: {where}"
        )
    elif about.kind == CHOICE:
        words = f"{about.help} (default: {default})"
        parser.add_argument(flag, dest=name, choices=[c for c, _ in about.choices], default=default, help=_safe(words))
    elif about.kind == NUMBER:
        parser.add_argument(flag, dest=name, type=float, default=None, help=_help(about, default))
    elif about.kind == SWITCH:
        parser.add_argument(flag, dest=name, action="store_true", help=_safe(about.help))
    elif about.kind == TEXT:
        parser.add_argument(flag, dest=name, default=default, help=_safe(about.help))


def _file_help(about: Field) -> str:
    return f"{_safe(about.help)}, or JOB.kerb#holding" + (", or level:Z" if about.level else "")


def runner(key: str) -> Callable[[argparse.Namespace], Outcome]:
    """The verb of a kind of study. It raises InputError or OutputError; Cancelled."""
    return lambda args: _run(study_kind(key), args)


def _run(kind: StudyKind, args: argparse.Namespace) -> Outcome:
    declared = kind.setup.declared()
    given = [getattr(args, name, None) for name in declared]
    words = [word for value in given for word in (value if isinstance(value, list) else [value])]
    named = [word.partition("#")[0] for word in words if isinstance(word, str)]
    given_files = {option.flag: getattr(args, option.flag.replace("-", "_")) for option in kind.options}
    outputs = {flag: path for flag, path in given_files.items() if path}
    for path in (args.report, *(Path(path) for path in outputs.values())):
        check_output(path, args, [name for name in named if name])
    progress = progress_to_terminal()
    with workspace() as folder:
        opened = _Opened(kind, args, folder)
        setup, sources = opened.setup(progress.within(0.0, 0.45))
        for step in kind.steps:
            if getattr(args, step.id):
                setup, remark = step.taken(setup, sources, progress.within(0.45, 0.5))
                opened.notes += [Note(step.id, remark)] if remark else []
        setup.check()
        if not kind.apart:
            opened.notes += place_notes(setup, sources, main_field(kind), args.seen)
        outcome = kind.compute(setup, sources, progress.within(0.5, 1.0))
        outcome.warnings += [note for note in opened.notes if note not in outcome.warnings]
        if outputs and kind.write is not None:
            outcome.warnings += [Note(*note) for note in kind.write(setup, outcome, sources, outputs)]
        if args.report:
            _report(kind, args, (setup, outcome, sources), opened.name)
    return outcome


def _report(kind: StudyKind, args: argparse.Namespace, what: tuple[Setup, Outcome, Sources], name: str) -> None:
    setup, outcome, sources = what
    first = sources.source(main_field(kind))
    stem = Path(_first(args, kind)).stem
    title = Title(f"{kind.title} report: {stem}", unit=sources.unit.code, reference=first.reference.to_json())
    chapter = Chapter(name or kind.name, outcome, first.store, setup)
    write_report(args.report, [chapter], ReportWish(title), args.force)


def _first(args: argparse.Namespace, kind: StudyKind) -> str:
    """The first cloud that is named."""
    given = getattr(args, main_field(kind))
    return str(given[0] if isinstance(given, list) else given)


class _Opened:
    """The inputs of one call: files opened in a temporary folder, in the unit and system of the first cloud."""

    def __init__(self, kind: StudyKind, args: argparse.Namespace, folder: Path) -> None:
        self.kind, self.args, self.folder = kind, args, folder
        self.notes: list[Note] = []
        self.name = ""
        self.reference = ReferenceSystem()
        self.items: dict[str, Source] = {}

    def setup(self, progress: Progress) -> tuple[Setup, Sources]:
        """The setup and what it reads. Raises InputError naming the file; Cancelled."""
        first = main_field(self.kind)
        self._levels(first)
        self.items[first] = self._main(first, _first(self.args, self.kind), progress)
        self.reference = self.items[first].reference
        values: dict[str, Any] = {}
        for name, about in self.kind.setup.declared().items():
            given = getattr(self.args, name, None)
            if name == first:
                given = _first(self.args, self.kind)
            if about.kind in HOLDINGS:
                values |= self._holding(name, about, str(given or ""), progress)
            elif about.kind in MANY:
                files = given if about.kind == SURFACES else getattr(self.args, first)[1:]
                values |= {name: self._many(name, about, list(files or ()), progress)}
            elif about.kind in DRAWN:
                values |= {name: self._drawn(about, str(given))} if given else {}
            elif about.kind == RINGS:
                values |= {name: self._items(about, str(given))} if given else {}
            elif about.kind == TEXT and given and self.kind.read_words is not None and Path(given).is_file():
                values[name] = self.kind.read_words(name, Path(given), self.reference.unit.metres)
            elif given is not None:
                values[name] = given
        setup = self.kind.setup(**{**self.kind.setup.usual(self.reference.unit), **values})
        used = {name: source for name, source in self.items.items() if setup.counts(name.partition(".")[0])}
        stated = list(dict.fromkeys(note for source in used.values() for note in source.notes))
        return setup, Sources(self.reference.unit, used, tuple(stated))

    def _levels(self, first: str) -> None:
        """``level:Z`` in place of a file. Raises InputError, when it is no number or both are levels."""
        name, about = next(((n, a) for n, a in self.kind.setup.declared().items() if a.level), ("", None))
        if about is None:
            return
        words = [str(getattr(self.args, key) or "") for key in (first, name)]
        levels = [word.startswith(LEVEL) for word in words]
        if not any(levels):
            return
        if all(levels):
            raise InputError(f"{words[0]} and {words[1]} are both levels: one of them has to be a cloud or a surface")
        word = words[levels.index(True)]
        try:
            z = float(word.removeprefix(LEVEL))
        except ValueError:
            raise InputError(f"{word}: say level:Z with an elevation") from None
        setattr(self.args, about.level, z)
        setattr(self.args, first, words[levels.index(False)])
        setattr(self.args, name, "")
        if levels[0] and about.swap:
            setattr(self.args, about.swap, True)

    def _main(self, name: str, given: str, progress: Progress) -> Source:
        """What the question is asked of: a cloud, or a surface where one will do."""
        if self.kind.setup.declared()[name].kind == SURFACE:
            held = _from_job(given)
            if held is not None:
                return replace(held, key=name, path=given)
            found = thing_of(Path(given), KINDS[SURFACE], None, progress) if Path(given).is_file() else None
            if found is not None:
                item, notes = found
                return Source(name, Path(given).name, given, item.kind, None, lambda: item, tuple(notes))
        return self._cloud(name, given, progress, None)

    def _holding(self, name: str, about: Field, given: str, progress: Progress) -> dict[str, Any]:
        if not given and about.same_cloud and any(getattr(self.args, f"{name}_{what}") for what in NARROWING):
            # Points of the main cloud: its classes, part or areas are all that is said of it.
            given = str(getattr(self.args, main_field(self.kind)))
            self.items[name] = self.items[main_field(self.kind)]
        if not given:
            return {}
        which = ""
        if about.naming and held_by(given) is None:
            given, _, which = given.partition("#")
        if name not in self.items:
            self.items[name] = self._other(name, about, given, progress)
        if about.kind not in (SCOPE, SURFACE):
            return {name: name, about.naming: which} if which else {name: name}
        return {name: self._scope(name, given)}

    def _many(self, name: str, about: Field, given: list[str], progress: Progress) -> tuple[Scope, ...]:
        """Any number of clouds, narrowed like the first, or of things with elevations."""
        first, single = main_field(self.kind), replace(about, kind=SCOPE if about.kind == CLOUDS else SURFACE)
        for number, one in enumerate(given):
            self.items[numbered(name, number)] = self._other(numbered(name, number), single, one, progress)
        if about.kind == CLOUDS:
            return tuple(replace(self._scope(first, one), holding=numbered(name, n)) for n, one in enumerate(given))
        return tuple(Scope(numbered(name, n)) for n in range(len(given)))

    def _scope(self, name: str, given: str) -> Scope:
        get = lambda what: getattr(self.args, f"{name}_{what}")  # noqa: E731
        within: tuple[Area, ...] = ()
        if get("within"):
            areas, notes = areas_of(get("within"), self.reference)
            within, self.notes = tuple(item.area for item in areas), self.notes + notes
        scope = Scope(name, get("classes"), get("part"), tuple(get("only")), within)
        store = self.items[name].store
        if store is None and scope.narrow:
            raise InputError(f"{given}: is no cloud that could be narrowed")
        if store is not None and scope.part and scope.part not in store.part_names:
            known = ", ".join(store.part_names) or "none"
            raise InputError(f"{given}: has no part '{scope.part}'; there are: {known}")
        if store is not None and scope.only:
            chosen(store, list(scope.only), given, Progress())
        return scope

    def _cloud(self, name: str, given: str, progress: Progress, beside: ReferenceSystem | None) -> Source:
        cloud = open_cloud(given, self.folder, self.args, progress, beside)
        return Source(name, Path(given).name, cloud.path, CLOUD, cloud.store, None, cloud.notes)

    def _other(self, name: str, about: Field, given: str, progress: Progress) -> Source:
        """A second input: a surface, lines or points of any readable format, else a cloud, in the first one's system."""
        held = _from_job(given)
        if held is not None and (about.kind != SCOPE or held.kind == CLOUD):
            return replace(held, key=name, path=given)
        kinds = KINDS.get(about.kind, ())
        path = Path(given)
        if about.kind in (LINES, ALIGNMENT) and path.is_file():
            found = lines_of(path, self.reference, progress)
        elif about.kind == POINTS and path.is_file():
            found = thing_of(
                path, kinds, self.reference, progress, getattr(self.args, "columns", ""), self.args.unit or ""
            )
        else:
            found = thing_of(path, kinds, self.reference, progress) if kinds and path.is_file() else None
        if found is not None:
            item, notes = found
            return Source(name, path.name, given, item.kind, None, lambda: item, tuple(notes))
        if not path.is_file() and about.kind not in (SCOPE, SURFACE):
            raise InputError(f"{given}: no such file")
        if about.kind not in (SCOPE, SURFACE):
            raise InputError(f"{given}: holds no {NOT_A[about.kind].removeprefix('no ')}")
        return self._cloud(name, given, progress, self.reference)

    def _drawn(self, about: Field, given: str) -> Drawn:
        if about.kind in (LINE, PLACES, DIRECTION):
            return self._open_line(about, given)
        item, notes = one_area(given, self.reference)
        self.notes += notes
        self.name = self.name or item.name
        return ring_from(about, item.area, item.fields)

    def _open_line(self, about: Field, given: str) -> Drawn:
        """Vertices from the one line of a file, or its points."""
        path = Path(given)
        if about.kind == PLACES and re.fullmatch(PLACE, given):
            return Drawn.of(np.array([[float(word) for word in given.split(",")]]))
        if not path.is_file():
            raise InputError(f"{given}: no such file")
        found = lines_of(path, self.reference, Progress())
        if found is None or not isinstance(found[0].thing, LineSet):
            raise InputError(f"{given}: holds no {about.label.lower()}")
        lines = found[0].thing.lines
        if len(lines) != 1:
            raise InputError(f"{given}: has {len(lines)} lines, one is needed for {about.label.lower()}")
        self.notes += found[1]
        return Drawn.of(lines[0].xyz)

    def _items(self, about: Field, given: str) -> tuple[Item, ...]:
        if about.ways and self.kind.read_items is not None:
            return self.kind.read_items(Path(given))
        if about.ways:
            return self._lines_and_rings(about, given)
        areas, notes = areas_of(given, self.reference)
        self.notes += notes
        return tuple(
            item_from(about, found.area, found.fields, f"a{number}", found.name, "file")
            for number, found in enumerate(areas, 1)
        )

    def _lines_and_rings(self, about: Field, given: str) -> tuple[Item, ...]:
        """Items that are lines or rings, from the lines of a file: closed ones are of the first way that is a ring."""
        path = Path(given)
        found = lines_of(path, self.reference, Progress()) if path.is_file() else None
        if found is None or not isinstance(found[0].thing, LineSet):
            raise InputError(f"{given}: holds no lines" if path.is_file() else f"{given}: no such file")
        self.notes += found[1]
        way = {
            closed: next(one.id for one in about.ways if one.kind == kind)
            for closed, kind in ((True, RING), (False, LINE))
        }
        return tuple(
            Item(
                f"a{number}",
                line.name or f"{about.label} {number}",
                Drawn.of(line.xyz),
                (("way", way[line.closed]),),
                origin="file",
            )
            for number, line in enumerate(found[0].thing.lines, 1)
        )


def _from_job(text: str) -> Source | None:
    held = held_by(text)
    if held is None:
        return None
    job, holding = held
    return source_of(job, holding) if holding.kind != CLOUD else None


def text(outcome: Outcome) -> str:
    """Figures and warnings as text."""
    lines = []
    for figure in outcome.figures.values():
        error = f"  {bounded(figure)}" if figure.u95 is not None else ""
        note = f"  {figure.note}" if figure.note else ""
        lines.append(f"{figure.label:28}{figure.text():>18}{error}{note}")
    verdict = [f"NOT RELIABLE: {outcome.verdict}"] if outcome.verdict else []
    return "\n".join([*verdict, *lines, *(f"! {note.text}" for note in outcome.warnings)])


def _help(about: Setting, default: float | None) -> str:
    # Defaults are in metres; in a job in feet about as much, made round.
    mark = {"length": " m", "area": " m²"}.get(about.unit, "") if default else ""
    unit = {"length": "job unit", "area": "square of the job unit"}.get(about.unit, about.unit)
    if isinstance(about, Field) and about.unit_by:
        unit = f"see --{about.unit_by.replace('_', '-')}"
    shown = (about.automatic or "none") if default is None else f"{default:g}{mark}"
    return _safe(f"{about.help}{f', in {unit}' if unit else ''} (default: {shown})")


def _safe(words: str) -> str:
    """Help for argparse, which takes a percent sign for a placeholder."""
    return words.replace("%", "%%")
