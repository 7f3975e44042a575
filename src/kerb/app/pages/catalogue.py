"""Open data: connect to a STAC catalogue, see its tiles in plan, choose some, fetch them, bring them in."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kerb.app.session import Session
from kerb.app.shapes import shapes_of
from kerb.app.sheets.fields import hairline, section
from kerb.app.theme import Theme
from kerb.app.widgets import Label, emptied, made, plain, there
from kerb.core.arrays import Floats
from kerb.core.errors import InputError
from kerb.core.geometry.features import LineSet
from kerb.core.progress import Progress
from kerb.core.reference import ReferenceSystem, from_text
from kerb.core.things import CLOUD, LINES
from kerb.formats.fetch import fetch
from kerb.formats.stac import Catalogue, CatalogueTile, kept_under, read_catalogue
from kerb.job.places import user_data

if TYPE_CHECKING:
    from kerb.standins.agency import Agency


class CataloguePage(QWidget):
    """Mirrors a catalogue; what is ticked in the list is what is filled in the plan."""

    closed = Signal()
    fetched = Signal(object)
    backdrop_wanted = Signal(object)
    changed = Signal()
    fit_wanted = Signal(object, object)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("sheetBody")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.session, self.theme = session, theme
        self.catalogue: Catalogue | None = None
        self.chosen: set[str] = set()
        self.outlines: dict[str, Floats] = {}
        self.agency: Agency | None = None
        self._build()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 14, 18, 12)
        column.setSpacing(7)
        title = Label("Open data")
        title.setProperty("role", "heading")
        column.addWidget(title)
        words = made(Label("Address or folder of a STAC catalogue. Nothing is fetched until you ask."), wordWrap=True)
        words.setProperty("role", "small")
        column.addWidget(words)
        self.address = QLineEdit(self.session.settings.get("catalogue", ""))
        self.address.setPlaceholderText("https://… or a folder")
        self.address.setAccessibleName("Address of the catalogue")
        self.address.returnPressed.connect(self.connect_catalogue)
        column.addWidget(self.address)
        row = QHBoxLayout()
        self.simulate = made(QPushButton("Simulated agency"), toolTip="Start a small made-up agency on this machine")
        self.simulate.clicked.connect(self.start_agency)
        self.connect_button = made(QPushButton("Connect"), toolTip="Read the catalogue at this address")
        self.connect_button.clicked.connect(self.connect_catalogue)
        row.addWidget(self.simulate)
        row.addStretch(1)
        row.addWidget(self.connect_button)
        column.addLayout(row)
        column.addWidget(hairline())
        self._build_choice(column)
        self.mirror()

    def _build_choice(self, column: QVBoxLayout) -> None:
        self.title = made(Label("Not connected"), wordWrap=True)
        self.title.setProperty("role", "quiet")
        column.addWidget(self.title)
        row = QHBoxLayout()
        self.first, self.last = QLineEdit(), QLineEdit()
        for field, words in ((self.first, "From date"), (self.last, "To date")):
            field.setPlaceholderText("year-month-day")
            field.setToolTip(plain(f"{words} of the survey; empty for any"))
            field.setAccessibleName(words)
            field.textChanged.connect(lambda _t: self.mirror())
        row.addWidget(Label("From"))
        row.addWidget(self.first)
        row.addWidget(Label("to"))
        row.addWidget(self.last)
        column.addLayout(row)
        row = QHBoxLayout()
        row.addWidget(section("Tiles"))
        row.addStretch(1)
        for words, tip, work in (
            ("My area", "Tiles that the open study, the job's areas or its data touch", self.choose_area),
            ("All", "All tiles listed", self.choose_all), ("None", "No tile", self.choose_none),
        ):  # fmt: skip
            button = made(QPushButton(words), toolTip=tip)
            button.setProperty("role", "link")
            button.clicked.connect(work)
            row.addWidget(button)
        column.addLayout(row)
        self.list = QListWidget()
        self.list.setAccessibleName("Tiles")
        self.list.itemChanged.connect(self._ticked)
        column.addWidget(self.list, 1)
        self.services = QVBoxLayout()
        column.addLayout(self.services)
        row = QHBoxLayout()
        close = made(QPushButton("Close"), toolTip="Back to the study")
        close.clicked.connect(self.closed)
        self.take = QPushButton("Fetch")
        self.take.setProperty("role", "main")
        self.take.clicked.connect(self.fetch_chosen)
        row.addWidget(close)
        row.addStretch(1)
        row.addWidget(self.take)
        column.addLayout(row)

    # Connecting

    def start_agency(self) -> None:
        """Start the simulated agency and connect to it."""
        from kerb.standins.agency import Agency, agency_folder, make_files

        if self.agency is not None:
            self.address.setText(self.agency.address)
            self.connect_catalogue()
            return

        def started(folder: Path) -> None:
            self.agency = Agency(folder)
            self.address.setText(self.agency.address)
            self.connect_catalogue()

        self.session.start(
            lambda progress: make_files(agency_folder(), progress), "Starting the simulated agency", started
        )

    def stop_agency(self) -> None:
        """Stop the simulated agency where it runs."""
        if self.agency is not None:
            self.agency.stop()
            self.agency = None

    def connect_catalogue(self) -> None:
        """Read the catalogue at the address."""
        address = self.address.text().strip()
        self.session.settings.set("catalogue", "" if self.agency and address == self.agency.address else address)
        self.title.setText("Reading the catalogue…")
        self.session.start(
            lambda progress: read_catalogue(address, progress), "Reading the catalogue", self._connected, self._refused
        )

    def _refused(self, text: str, _error: object) -> None:
        self.title.setText("Not connected")
        self.session.complained.emit("The catalogue cannot be used", text)

    def _connected(self, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self.chosen.clear()
        system = self.system()
        self.outlines = {}
        for tile in catalogue.tiles:
            outline = tile.footprint_in(system)
            if outline is not None:
                self.outlines[tile.id] = outline
        if self.outlines and not self.session.has_data:
            every = np.concatenate(list(self.outlines.values()))
            self.fit_wanted.emit(every.min(axis=0), every.max(axis=0))
        self.mirror()

    def system(self) -> ReferenceSystem:
        """The system the footprints are shown in: the job's, or that of the tiles while the job has none."""
        job = self.session.job
        own = job.state.title.reference_system() if job is not None else ReferenceSystem()
        if own.wkt or self.catalogue is None or (job is not None and job.state.holdings):
            return own
        code = next((tile.system for tile in self.catalogue.tiles if tile.system), "")
        try:
            return from_text(code) if code else own
        except InputError:
            return own

    # Choosing

    def listed(self) -> tuple[CatalogueTile, ...]:
        """Tiles between the dates."""
        if self.catalogue is None:
            return ()
        return self.catalogue.between(self.first.text().strip(), self.last.text().strip())

    def mirror(self) -> None:
        """Show catalogue and choice."""
        self.list.blockSignals(True)
        self.list.clear()
        for tile in self.listed():
            size = f"{tile.size / 1e6:.1f} MB" if tile.size else "size not said"
            item = QListWidgetItem(f"{tile.title}\n{tile.epoch or 'no date'} · {size} · {tile.system or 'no system'}")
            item.setData(Qt.ItemDataRole.UserRole, tile.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if tile.id in self.chosen else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        self._mirror_words()
        self.changed.emit()

    def _mirror_words(self) -> None:
        found = self.catalogue
        chosen = self.taken()
        if found is not None:
            words = f"{found.title}: {len(self.listed())} of {len(found.tiles)} tiles"
            if found.skipped:
                words += f"; {found.skipped} items without points"
            if found.tiles and not self.outlines:
                words += ". The job is on a local grid, so the tiles cannot be shown in plan"
            self.title.setText(words)
        size = sum(tile.size for tile in chosen) / 1e6
        self.take.setText(f"Fetch {len(chosen)} ({size:.1f} MB)" if chosen else "Fetch")
        self.take.setEnabled(bool(chosen))
        emptied(self.services)
        for service in found.services if found is not None else ():
            button = made(QPushButton("Backdrop of picture tiles"), toolTip=f"Put “{service.title}” under the plan")
            button.clicked.connect(lambda _c, s=service: self.backdrop_wanted.emit(s))
            self.services.addWidget(button)

    def taken(self) -> list[CatalogueTile]:
        """Tiles that are ticked and listed."""
        return [tile for tile in self.listed() if tile.id in self.chosen]

    def _ticked(self, item: QListWidgetItem) -> None:
        key = item.data(Qt.ItemDataRole.UserRole)
        (self.chosen.add if item.checkState() == Qt.CheckState.Checked else self.chosen.discard)(key)
        self._mirror_words()
        self.changed.emit()

    def toggle(self, keys: set[str]) -> None:
        """Tick or untick tiles."""
        self.chosen ^= keys
        self.mirror()

    def choose(self, keys: set[str]) -> None:
        """Tick further tiles."""
        self.chosen |= keys
        self.mirror()

    def choose_all(self) -> None:
        self.choose({tile.id for tile in self.listed()})

    def choose_none(self) -> None:
        self.chosen.clear()
        self.mirror()

    def choose_area(self) -> None:
        """Tick what the area of interest touches: what is drawn for the open study, the job's areas, else its data."""
        ring = self._area()
        if ring is None or self.catalogue is None:
            self.session.said.emit("The job has no area yet: draw one for a study, or bring in an area or a cloud.")
            return
        self.choose({tile.id for tile in self.catalogue.touching(ring, self.system())} & {t.id for t in self.listed()})

    def _area(self) -> Floats | None:
        job = self.session.open_job
        shapes: list[Any] = [shapely.Polygon(s.drawn.xy) for s in shapes_of(self.session) if s.closed]
        for holding in job.state.of_kind(LINES) if not shapes else ():
            thing = job.thing(holding).thing
            if isinstance(thing, LineSet):
                shapes += [shapely.Polygon(line.xyz[:, :2]) for line in thing.lines if line.closed]
        for holding in job.state.of_kind(CLOUD) if not shapes else ():
            low, high = job.bounds_of(holding)
            shapes.append(shapely.box(*low[:2], *high[:2]))
        if not shapes:
            return None
        hull: Any = shapely.union_all(shapes).convex_hull
        return np.asarray(shapely.get_coordinates(hull.exterior)[:-1])

    # Fetching

    def fetch_chosen(self) -> None:
        """Fetch what is ticked; what came before a break is gone on with."""
        tiles = self.taken()
        folder = user_data() / "fetched" / _folder_name(there(self.catalogue).title)

        def work(progress: Progress) -> dict[Path, str]:
            found = {}
            for number, tile in enumerate(tiles):
                share = progress.within(number / len(tiles), (number + 1) / len(tiles))
                path = fetch(tile.address, kept_under(folder, tile), tile.size, tile.checksum, share)
                found[path] = tile.epoch
            return found

        self.session.start(work, f"Fetching {len(tiles)} tiles", self.fetched.emit)


def _folder_name(title: str) -> str:
    clean = "".join(letter if letter.isalnum() or letter in " -" else "_" for letter in title)
    return clean[:60].strip() or "catalogue"
