"""``kerb convert IN... OUT``: any readable file to any writable one of its kind, filtered, joined, in another unit or
system."""

from __future__ import annotations

import argparse
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from kerb.core.cloud.builder import build
from kerb.core.cloud.filters import Filter
from kerb.core.cloud.layout import PointStream
from kerb.core.cloud.outgoing import from_store, from_stream
from kerb.core.cloud.sieve import MOST_EVERY, Sieve, Sieved
from kerb.core.cloud.thinning import Thinning, thinned
from kerb.core.errors import InputError, OutputError
from kerb.core.placing import CONVERT, TRANSFORM, Placing, degrees_of
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem, from_text
from kerb.core.things import CLOUD, LINES, MODEL, POINTS, SURFACE, PictureRef, Placed, relocated
from kerb.core.units import length_unit
from kerb.formats.points import Joined, Opening, middle_of, placed, stated_system, stated_unit
from kerb.formats.read_things import Reading, read_offer
from kerb.formats.recognise import Examined, examine
from kerb.formats.write_things import ENDINGS, write_cloud, write_thing
from kerb.headless.choosing import Search, chosen, without
from kerb.headless.options import check_output, held_by, points_of, progress_to_terminal, workspace
from kerb.headless.placed import areas_of
from kerb.job.job import Job
from kerb.job.state import Holding
from kerb.studies.outcome import Figure, Input, Note, Outcome


@dataclass(frozen=True)
class Wish:
    """What the command line asks for: what the numbers are in, and what they shall be in."""

    sieve: Sieve
    unit_in: str = ""
    crs_in: str = ""
    unit: str = ""
    to_crs: str = ""
    partial: bool = False
    thinning: Thinning | None = None
    without: tuple[Search, ...] = ()
    only: tuple[Filter, ...] = ()
    within: str = ""

    def sieve_in(self, source: ReferenceSystem) -> tuple[Sieve, list[Note]]:
        """The sieve for numbers in ``source``, the areas brought there. Raises InputError naming their file."""
        if not self.within:
            return self.sieve, []
        areas, notes = areas_of(self.within, source)
        return replace(self.sieve, areas=tuple(item.area for item in areas)), notes

    def placing(self, source: ReferenceSystem, place: tuple[float, float] | None = None) -> Placing:
        """What is done with numbers in ``source`` round a place. Raises InputError, when the system is not known."""
        if self.to_crs:
            target = from_text(self.to_crs)
            if self.unit:
                target = replace(target, unit=length_unit(self.unit), vertical_unit=length_unit(self.unit))
            return Placing(TRANSFORM, source, target, at=degrees_of(source, place))
        if self.unit:
            unit = length_unit(self.unit)
            return Placing(CONVERT, source, replace(source, unit=unit, vertical_unit=unit))
        return Placing(source=source)

    def stated(self, reference: ReferenceSystem) -> ReferenceSystem:
        """The system of the numbers as the command line says, else as the file does."""
        if self.crs_in:
            reference = replace(from_text(self.crs_in), certainty="confirmed")
        if not self.unit_in:
            return reference
        unit = length_unit(self.unit_in)
        keep = reference.unit == unit
        return replace(
            reference.confirmed(unit), wkt=reference.wkt if keep else "", code=reference.code if keep else ""
        )


def run_convert(args: argparse.Namespace) -> Outcome:
    """The verb ``convert``. Raises InputError or OutputError, naming the file; Cancelled."""
    *inputs, out = [Path(item) for item in args.files]
    if not inputs:
        raise InputError("convert needs at least one input and one output file")
    check_output(out, args, [str(path) for path in inputs])
    thinning = Thinning(args.thin, args.spacing, args.count, max(args.every, 1)) if args.thin else None
    if thinning is not None:
        thinning.check()
    wish = Wish(
        _sieve(args), args.unit_in or "", args.crs or "", args.unit or "", args.to_crs or "", args.partial, thinning,
        args.without, tuple(args.only), str(args.within or ""),
    )  # fmt: skip
    progress = progress_to_terminal()
    held = [held_by(str(path)) for path in inputs]
    if any(one is not None for one in held):
        first = held[0]
        if first is not None and len(held) == 1 and first[1].kind != CLOUD:
            return _write_holding(first, inputs[0], out, wish, progress)
        return _convert_cloud(inputs, out, wish, progress)
    seen = [examine(path) for path in inputs]
    kind = _kind(seen, out)
    if kind == CLOUD:
        return _convert_cloud(inputs, out, wish, progress)
    return _convert_thing(seen, kind, out, wish, progress)


def _sieve(args: argparse.Namespace) -> Sieve:
    if not 1 <= args.every <= MOST_EVERY:
        raise InputError(f"--every must be one to {MOST_EVERY}")
    if not 0 <= args.spacing < float("inf"):
        raise InputError("--spacing must be above zero")
    # With --thin these say how the points of the whole cloud are thinned, not those of each file as it is read.
    every, spacing = (1, 0.0) if args.thin else (args.every, args.spacing)
    return Sieve(every, spacing, tuple(args.classes or ()))


def _kind(seen: list[Examined], out: Path) -> str:
    """What is converted: the first kind that all inputs offer and the output's ending can hold."""
    suffix = out.suffix.lower()
    for kind in (CLOUD, SURFACE, MODEL, POINTS, LINES, "picture"):
        offered = all(any(offer.kind == kind for offer in item.offers) for item in seen)
        preferred = kind == seen[0].offers[0].kind
        if offered and suffix in ENDINGS[kind] and (preferred or suffix not in ENDINGS[seen[0].offers[0].kind]):
            return kind
    kinds = sorted({offer.kind for item in seen for offer in item.offers})
    fitting = sorted({ending for kind in kinds for ending in ENDINGS[kind]})
    raise OutputError(f"{out}: {' and '.join(kinds)} can be written as {' '.join(fitting)}")


def _convert_cloud(inputs: list[Path], out: Path, wish: Wish, progress: Progress) -> Outcome:
    placings, streams, read = [], [], []
    placing_notes: list[Note] = []
    for path in inputs:
        stream = points_of(str(path), Opening(wish.partial))
        sieve, areas = wish.sieve_in(wish.stated(stream.layout.reference))
        placing_notes += [note for note in areas if note not in placing_notes]
        stream = points_of(str(path), Opening(wish.partial, box=sieve.bounds(), spacing=sieve.spacing))
        if wish.crs_in:
            stream = stated_system(stream, wish.stated(stream.layout.reference))
        elif wish.unit_in:
            stream = stated_unit(stream, length_unit(wish.unit_in))
        source = stream.layout.reference
        sieved = Sieved(stream, sieve)
        read.append((path, sieved, source))
        placings.append(wish.placing(source, middle_of(stream)))
        streams.append(placed(sieved, placings[-1]))
    joined = streams[0] if len(streams) == 1 else Joined(streams)
    if wish.thinning is None and not wish.without and not wish.only:
        written, notes = write_cloud(from_stream(joined), out, progress)
    else:
        written, notes = _write_found(joined, out, wish, progress)
    unit = joined.layout.reference
    outcome = _outcome(out, unit, [placing.sentence for placing in placings])
    outcome.inputs = [Input("file", str(path), s.seen, s.passed, source.sentence) for path, s, source in read]
    outcome.figures = {
        "count_in": Figure(sum(s.seen for _, s, _ in read), "", "Points read"),
        "count_out": Figure(written, "", "Points written"),
    }
    said = [note for note in joined.warnings if note[0] != "thinned"]
    outcome.warnings = [*placing_notes, *(Note(*note) for note in [*said, *notes])]
    if not unit.wkt and placings[0].source.wkt:
        words = f"numbers are now {unit.unit.plural}; the reference system's record was left out"
        outcome.warnings.append(Note("crs-dropped", words))
    return outcome


def _write_found(stream: PointStream, out: Path, wish: Wish, progress: Progress) -> tuple[int, list[tuple[str, str]]]:
    """Write what is left of a cloud after something was found in it, and after thinning."""
    with workspace() as folder:
        store = build(stream, folder / "cloud", progress.within(0.0, 0.4))
        keep = chosen(store, list(wish.only), stream.layout.source, progress.within(0.4, 0.45))
        keep, notes = without(store, wish.without, keep, progress.within(0.45, 0.6))
        if wish.thinning is not None:
            keep = thinned(store, wish.thinning, keep, progress.within(0.6, 0.8))
        if not keep.any():
            raise InputError(f"{stream.layout.source}: no point would be left")
        outgoing = from_store(store, lambda: iter([np.flatnonzero(keep)]))
        written, more = write_cloud(outgoing, out, progress.within(0.8, 1.0))
    return written, [*notes, *more]


def _convert_thing(seen: list[Examined], kind: str, out: Path, wish: Wish, progress: Progress) -> Outcome:
    if len(seen) > 1:
        raise InputError("only clouds can be joined; convert one file at a time")
    if not wish.sieve.idle or wish.thinning is not None or wish.without or wish.only:
        raise InputError(
            f"{seen[0].path}: --every, --spacing, --classes, --within, --only, --thin, --without are for clouds"
        )
    offer = seen[0].offer(kind)
    item, notes = read_offer(replace(seen[0], reference=wish.stated(seen[0].reference)), offer, Reading(), progress)
    return _write_thing(item, seen[0].path, notes, (out, wish), progress)


def _write_holding(held: tuple[Job, Holding], path: Path, out: Path, wish: Wish, progress: Progress) -> Outcome:
    """Points, lines, a surface or a model that a job holds."""
    job, holding = held
    item = job.thing_to_write(holding)
    if isinstance(item.thing, PictureRef):
        raise InputError(f"{path}: is a picture; convert the file it came from")
    return _write_thing(item, path, [], (out, wish), progress)


def _write_thing(
    item: Placed, path: Path, notes: list[tuple[str, str]], to: tuple[Path, Wish], progress: Progress
) -> Outcome:
    out, wish = to
    item = replace(item, reference=wish.stated(item.reference))
    placing = wish.placing(item.reference)
    if isinstance(item.thing, PictureRef):
        more = _convert_picture(path, (item, placing), out, progress)
        moved = replace(item, reference=placing.result)
    else:
        moved = relocated(item, placing)
        more = write_thing(moved, out, progress)
    outcome = _outcome(out, moved.reference, [placing.sentence])
    outcome.inputs = [Input(item.kind, str(path), item.count, moved.count, item.reference.sentence)]
    outcome.figures = {
        "count_in": Figure(item.count, "", "Read"), "count_out": Figure(moved.count, "", "Written"),
    }  # fmt: skip
    outcome.warnings = [Note(*note) for note in [*notes, *more]]
    return outcome


def _convert_picture(path: Path, what: tuple[Placed, Placing], out: Path, progress: Progress) -> list[tuple[str, str]]:
    from kerb.formats.rasters import store_picture

    item, placing = what
    warp = None
    if placing.how == TRANSFORM:
        placing.route()
        warp = (placing.source.wkt, placing.target.wkt)
    with workspace() as folder:
        kept = folder / "picture.tif"
        moved = relocated(item, placing).thing
        assert isinstance(moved, PictureRef)
        width, height, affine = store_picture(path, kept, (None if warp else moved.affine, warp), progress)
        return write_thing(Placed(item.kind, PictureRef(width, height, affine), placing.result), out, progress, kept)


def _outcome(out: Path, reference: ReferenceSystem, how: list[str]) -> Outcome:
    settings = {"out": str(out), "how": how[0] if len(set(how)) == 1 else how}
    return Outcome("convert", reference.unit.code, reference.code or reference.name, {}, settings)
