"""Take the pictures of docs/screenshots from the demo data (``./run shots``)."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="kerb-shots-")
os.environ["XDG_CONFIG_HOME"] = os.environ["XDG_DATA_HOME"] = HOME

import numpy as np
from PySide6.QtWidgets import QApplication

from kerb.app.bringing.dialog import BringIn
from kerb.app.dialogs.deliver import Deliver
from kerb.app.main import application
from kerb.app.panels.drawer import CHART, TABLE
from kerb.app.window import Window
from kerb.core.cloud.filters import Filter
from kerb.core.progress import silent
from kerb.core.section.placed import through
from kerb.demo import yard
from kerb.demo.files import write_files
from kerb.demo.job import INVENTORIES, OTHERS, PITS, QUAY, demo_file, make_demo
from kerb.draw.select import brushed
from kerb.job import holdings
from kerb.job.places import Settings
from kerb.studies.drawn import Drawn

OUT = Path(__file__).parent / "screenshots"


def wait(seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.003)


def settle(window: Window) -> None:
    quiet = 0
    while quiet < 8:
        wait(0.04)
        session = window.session
        busy = session.tasks or not session.live.idle() or session.resting()
        busy = busy or not all(view.drawing.idle() for view in window.panes.views())
        busy = busy or not window.backdrop.idle() or not window.selection.idle()
        busy = busy or window.right.find_page._rest.isActive()
        quiet = 0 if busy else quiet + 1


def opened(theme: str, size: tuple[int, int], job: object = None) -> Window:
    settings = Settings(Path(HOME) / f"{theme}-{size[0]}.json")
    settings.set("theme", theme)
    window = Window(settings)
    window.resize(*size)
    window.show()
    if job is not None:
        window.session.set_job(job)
        settle(window)
    return window


def shut(window: Window) -> None:
    window._end_threads()
    window.session.job = None
    window.close()
    wait(0.05)


def looked(dialog: BringIn) -> None:
    """Wait until a dialog has looked at its files and checked their places."""
    quiet = 0
    while quiet < 6:
        wait(0.05)
        quiet = 0 if dialog.files.busy else quiet + 1


def chosen(dialog: BringIn, name: str) -> None:
    for k in range(dialog.tree.topLevelItemCount()):
        if dialog.tree.topLevelItem(k).text(0) == name:
            dialog.tree.setCurrentItem(dialog.tree.topLevelItem(k).child(0))
    looked(dialog)


def data_pictures(save: Callable) -> None:
    """Bringing data in, a holding, everything together, open data, the field controller."""
    files = write_files(Path(HOME) / "files", silent())
    job = make_demo(Path(HOME) / "Saltmarrow files.kerb", demo_file(silent()), silent(), files)
    window = opened("light", (1280, 800), job)
    names = ("control-swapped.csv", "control-us-feet.csv", "access-road.xml", "harbour-office.obj", "terrain.tif")
    window.handlers.data.bring_in([files[name] for name in names])
    dialog = window.handlers.data.dialog
    looked(dialog)
    chosen(dialog, "control-swapped.csv")
    save(dialog, "place-check")
    dialog.placing.swap.click()
    looked(dialog)
    chosen(dialog, "access-road.xml")
    save(dialog, "bring-in")
    dialog.sure.click()
    dialog.take.click()
    settle(window)
    for name in ("Yard lines", "Orthophoto"):
        holding = job.state.holding(name)
        window.session.execute(holdings.altered(holding, f"Showed {name}", visible=True))
    window.handlers.data.picture_drape(job.state.holding("Orthophoto").id)
    window.handlers.views.view_orbit()
    window.handlers.views.fit()
    window.view.set_camera(window.view.camera.zoomed(1.9, 350, 250, window.view.pixels), False)
    settle(window)
    for holding in job.state.holdings:
        if holding.name.startswith(("Orthophoto", "terrain", "access-road", "control-")):
            window.session.execute(holdings.altered(holding, f"Hid {holding.name}", visible=False))
    window.handlers.views.view_plan()
    window.handlers.views.fit()
    window.session.execute(holdings.altered(job.state.holding("Yard lines"), "Showed the areas", visible=True))
    statistics_picture(window, save)
    open_data_pictures(window, save)
    other_pictures(window, save)
    pit_pictures(window, save)
    shut(window)


def open_data_pictures(window: Window, save: Callable) -> None:
    """Open data from a catalogue, and shots of a field controller."""
    job = window.session.job
    window.handlers.data.open_data()
    page = window.right.catalogue
    page.start_agency()
    settle(window)
    settle(window)
    page.first.setText("2026-01-01")
    window.handlers.data.use_tiles(page.catalogue.services[0])
    window.view.set_camera(replace(window.view.camera, scale=window.view.camera.scale * 4.6), False)
    page.choose_area()
    settle(window)
    tiles = job.state.holdings[-1]
    window.session.execute(holdings.altered(tiles, "Hid the tiles", visible=False))
    window.session.settings.set("controller_interval", 0.03)
    window.handlers.views.fit()
    window.handlers.data.field_controller()
    window.right.controller.start_standin()
    while window.right.controller.list_ is None or window.right.controller.list_.count < 22:
        wait(0.02)
    window.right.controller.toggle()
    settle(window)


def point_pictures(window: Window, save: Callable) -> None:
    """Points selected in plan, found, filtered, and given classes in section; all taken back."""
    window.handlers.run("fit")
    settle(window)
    window.handlers.run("select_points")
    middle = window.view.to_widget(np.append(yard.ORIGIN + np.array(yard.LOADER[0].centre), 4.0)[None])[0]
    angle = np.linspace(0, 2 * np.pi, 9)[:-1]
    window.selection.take([middle + 34 * np.column_stack([np.cos(angle), np.sin(angle)])], "replace")
    settle(window)
    window.handlers.points.make_part("Loader")
    settle(window)
    window.handlers.points.select_with("surface")
    layer = window.colouring.layer()
    xy = layer.store.coordinates(slice(0, layer.store.count))[:, :2]
    row = int(np.argmin(np.hypot(*(xy - yard.ORIGIN - [60, 30]).T)))
    window.handlers.points._picked("surface", row, "replace")
    settle(window)
    window.handlers.points.make_part("Yard floor")
    window.stage.use_edit_tool()
    window.colouring.colour_by("elevation")
    window.handlers.run("find_points")
    window.right.find_page.show_finder("ground")
    settle(window)
    window.right.find_page.on_strip.setChecked(True)
    settle(window)
    window.colouring.colour_by("part")
    settle(window)
    save(window, "find-points")
    window.right.find_page.shut()
    window.selection.forget()
    narrowed_pictures(window, save)
    while window.session.job.can_undo:
        window.session.undo()
    window.stage.use_edit_tool()
    window.selection.forget()
    window.colouring.colour_by("elevation")
    window.handlers.run("view_plan")
    window.handlers.run("fit_study")
    settle(window)


def placed_picture(window: Window, save: Callable) -> None:
    """A section placed across the first heap, looked along in a pane, and taken out again."""
    middle = np.append(window.session.setup.toe.places.mean(axis=0), 4.0)
    window.keeper.add(through(middle + [-28, -6, 0], middle + [34, 10, 0], 1.0))
    window.handlers.run("panes:three")
    settle(window)
    save(window, "section-placed")
    window.handlers.run("remove_section")
    window.handlers.run("panes:one")
    settle(window)


def narrowed_pictures(window: Window, save: Callable) -> None:
    """Filters with their chips, and classes given with the brush in section; taken back again."""
    window.colouring.colour_by("elevation")
    window.filtering.set((Filter("elevation", low=4.2), Filter("classification", (2,))))
    settle(window)
    settle(window)
    window.filtering.set(())
    window.colouring.colour_by("class")
    window.handlers.run("view_section")
    tree = yard.ORIGIN + np.array(yard.LOADER[0].centre)
    window.strip.slice.setCurrentIndex(window.strip.slice.findData(5.0))
    window.strip.slice_wanted.emit(5.0)
    camera = replace(window.view.camera, target=(float(tree[0]), float(tree[1]), 6.0), heading=0.0)
    window.view.set_camera(replace(camera, scale=0.055), False)
    settle(window)
    window.handlers.points.select_with("brush")
    bar = window.selection_bar
    bar.then.setCurrentIndex(bar.then.findData("give_class:6"))
    window.selection.take(brushed(np.array([[250.0, 250.0], [420.0, 250.0]]), 30.0), "replace")
    settle(window)
    bar.then.setCurrentIndex(0)


def statistics_picture(window: Window, save: Callable) -> None:
    """Height above ground, and its statistics in the areas of a drawing."""
    job = window.session.job
    window.handlers.run("over_ground")
    settle(window)
    window.right.heights.run()
    settle(window)
    areas = job.state.holding("Yard lines")
    window.right.show_page("statistics")
    page = window.right.statistics
    page.measure_areas(areas.id)
    settle(window)
    page.field.setCurrentIndex(page.field.findData("height_max"))
    page._show_field()
    window.handlers.views.fit()
    settle(window)
    window.session.execute(holdings.altered(job.state.holding("Yard lines"), "Hid the areas", visible=False))
    window.colouring.colour_by("elevation")
    settle(window)


def inventory_pictures(window: Window, save: Callable) -> None:
    """Many heaps at once, taken from a list."""
    ready = next(s for s in window.session.job.state.studies if s.name in INVENTORIES)
    window.session.select(ready.id)
    window.handlers.run("fit_study")
    settle(window)
    window.drawer.choose(TABLE, "heaps")
    settle(window)
    save(window, "inventory-plan")
    settle(window)


def other_pictures(window: Window, save: Callable) -> None:
    """A series of sections and an accuracy study, in panes."""
    state = window.session.job.state
    sections, accuracy = (next(s for s in state.studies if s.name == name) for name in OTHERS)
    window.session.select(sections.id)
    window.handlers.run("fit_study")
    settle(window)
    window.drawer.choose(CHART, "0")
    wait(0.3)
    window.drawer._charts["Sections"].step(5)
    settle(window)
    save(window, "sections")
    checkpoints = state.holding("Checkpoints")
    window.session.execute(holdings.altered(checkpoints, "Showed the checkpoints", visible=True))
    window.session.select(accuracy.id)
    window.handlers.run("fit_study")
    settle(window)
    window.drawer.choose(TABLE, "points")
    window.drawer.table.selectRow(9)
    settle(window)
    save(window, "accuracy")
    window.handlers.run("panes:one")
    window.session.execute(holdings.altered(state.holding("Checkpoints"), "Hid the checkpoints", visible=False))
    settle(window)


def pit_pictures(window: Window, save: Callable) -> None:
    """The pit: cut and fill between March and May."""
    job = window.session.job
    for holding in job.state.holdings:
        wanted = holding.name == "Pit, May"
        if holding.visible != wanted:
            window.session.execute(holdings.altered(holding, f"Changed {holding.name}", visible=wanted))
    window.session.select(next(s for s in job.state.studies if s.name == PITS[0]).id)
    window.handlers.run("fit_study")
    settle(window)
    save(window, "cutfill")
    window.session.select(next(s for s in job.state.studies if s.name == PITS[9]).id)
    window.handlers.run("panes:one")
    window.handlers.run("fit_study")
    settle(window)
    save(window, "mending")
    window.session.select(next(s for s in job.state.studies if s.name == QUAY[2]).id)
    settle(window)
    window.handlers.run("fit_study")
    window.view.set_camera(window.view.camera.orbited(18.0, 12.0, np.array(window.view.camera.target)), False)
    settle(window)
    save(window, "face")
    window.handlers.run("view_plan")
    for study, shown, name in (
        (QUAY[5], "Quay slab, scan", "floor"), (QUAY[6], "Office, upper storey", "plan"),
        (QUAY[7], "Pipe bridge, scan", "clearance"), (QUAY[8], "Adit, rock", "tunnel"),
    ):  # fmt: skip
        only(window, shown)
        window.session.select(next(s for s in job.state.studies if s.name == study).id)
        settle(window)
        window.handlers.run("fit_study")
        window.handlers.run("study_in_sight")
        settle(window)
        save(window, name)


def only(window: Window, name: str) -> None:
    """Show one holding and hide the others."""
    for holding in window.session.open_job.state.holdings:
        if holding.visible != (holding.name == name):
            window.session.execute(holdings.altered(holding, f"Changed {holding.name}", visible=holding.name == name))


def main() -> int:
    application()
    OUT.mkdir(exist_ok=True)
    save = lambda widget, name: widget.grab().save(str(OUT / f"{name}.png"))  # noqa: E731
    start = opened("light", (1280, 800))
    wait(0.2)
    save(start, "start")
    shut(start)
    job = make_demo(Path(HOME) / "Saltmarrow Quay.kerb", demo_file(silent()), silent())
    window = opened("light", (1280, 800), job)
    window.colouring.style(contour=0.25)
    window.handlers.run("fit_study")
    settle(window)
    save(window, "stockpile-plan")
    point_pictures(window, save)
    window.handlers.run("view_orbit")
    settle(window)
    save(window, "stockpile-orbit")
    window.handlers.run("view_plan")
    placed_picture(window, save)
    for number in (1, 2):
        study = job.state.studies[number]
        window.session.select(study.id)
        ring = yard.HEAPS[number].toe(18, outside=0.3)
        window.session.commit("drew the toe line", toe=Drawn.of(ring))
        settle(window)
    window.handlers.run("fit_study")
    settle(window)
    inventory_pictures(window, save)
    dialog = Deliver(window.session, window)
    dialog.show()
    while not dialog.note.text():
        wait(0.05)
    pages = dialog.pages
    wait(0.3)
    scroll = pages.parentWidget().parentWidget().parentWidget()
    bar = scroll.verticalScrollBar()
    # The next pages are made when the last one is scrolled to.
    while pages.count() < 3:
        bar.setValue(bar.maximum())
        wait(0.05)
    bar.setValue(pages.itemAt(1).widget().y() - 12)
    wait(0.3)
    save(dialog, "deliver")
    dialog.reject()
    shut(window)
    window = opened("dark", (1280, 800), job)
    window.handlers.run("fit_study")
    settle(window)
    save(window, "stockpile-dark-1280")
    shut(window)
    data_pictures(save)
    return 0


if __name__ == "__main__":
    sys.exit(main())
