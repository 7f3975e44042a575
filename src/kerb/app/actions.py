"""The one registry of actions: menu, command field, tooltips and shortcuts are all made from these entries."""

from __future__ import annotations

from dataclasses import dataclass

from kerb.studies.fields import SCOPE
from kerb.studies.kind import StudyKind
from kerb.studies.registry import STUDIES

# Arrangements of panes, by key.
PANES = (
    ("one", "One pane"), ("beside", "Two side by side"), ("above", "Two above each other"),
    ("three", "One large, two small"), ("four", "Four panes"),
)  # fmt: skip


@dataclass(frozen=True)
class ActionEntry:
    """One thing the analyst can do. ``needs`` says when: ``""`` always, ``job``, ``study``, ``cloud``, ``undo``..."""

    id: str
    title: str
    help: str
    menu: str
    shortcut: str = ""
    needs: str = ""
    separator: bool = False
    # A second key for it.
    also: str = ""


def _wants(kind: StudyKind) -> str:
    """What a job has to hold for a study of a kind: a cloud, or anything that has elevations."""
    return "cloud" if kind.setup.declared()[kind.setup.main()].kind == SCOPE else "ground"


def _of_kinds(what: str) -> tuple[ActionEntry, ...]:
    """Entries that follow from the declarations of studies: a new one of each kind, and the steps of each."""
    if what == "new":
        return tuple(
            ActionEntry(
                f"new_study:{kind.id}", f"New {kind.title.lower()}", kind.question, "Study", kind.key, _wants(kind)
            )
            for kind in STUDIES.values()
        )
    return tuple(
        ActionEntry(f"step:{step.id}", step.label, step.help, "Study", step.key, f"kind:{kind.id}")
        for kind in STUDIES.values() for step in kind.steps
    )  # fmt: skip


def actions() -> tuple[ActionEntry, ...]:
    """Every action there is; those of studies follow from their declarations."""
    return (
        ActionEntry("new_job", "New job", "Start an empty job", "Job", "Ctrl+N"),
        ActionEntry("open_job", "Open job…", "Open a job folder (NAME.kerb)", "Job", "Ctrl+O"),
        ActionEntry("close_job", "Close job", "Back to the start page", "Job", "Ctrl+W", "job"),
        ActionEntry("open_demo", "Open demo job", "Open Saltmarrow Quay, a made-up yard with three heaps", "Job"),
        ActionEntry("save", "Save", "Save the job", "Job", "Ctrl+S", "job", True),
        ActionEntry("save_as", "Save as…", "Save the job in another folder and go on there", "Job", "Ctrl+Shift+S", "job"),
        ActionEntry("save_copy", "Save a copy…", "Write a copy of the job and go on with this one", "Job", "", "job"),
        ActionEntry("title_block", "Title block…", "Names, unit, decimals and page for reports", "Job", "", "job", True),
        ActionEntry("job_record", "Job record", "What was done in this job, step by step", "Job", "", "job"),
        ActionEntry("deliver", "Deliver…", "Make the report for the client", "Job", "Ctrl+D", "outcome", True),
        ActionEntry("quit", "Quit", "Close Kerb", "Job", "Ctrl+Q", "", True),
        ActionEntry("undo", "Undo", "Take the last step back", "Edit", "Ctrl+Z", "undo"),
        ActionEntry("redo", "Redo", "Do the step again", "Edit", "Ctrl+Shift+Z", "redo"),
        ActionEntry("copy_figures", "Copy figures as text", "Figures of the open study, for a spreadsheet", "Edit",
                    "Ctrl+Shift+C", "outcome", True),
        ActionEntry("find", "Do, find or go to…", "Search actions, studies and holdings", "Edit", "Ctrl+K"),
        ActionEntry("view_plan", "Plan", "Look straight down, north up", "View", "F2", "data"),
        ActionEntry("view_orbit", "Orbit", "Look from any side and turn about a point", "View", "F3", "data"),
        ActionEntry("view_section", "Section", "Look at a vertical slice through the data", "View", "F4", "data"),
        ActionEntry("fit", "Fit all", "Show everything", "View", "Home", "data", True),
        ActionEntry("fit_study", "Fit study", "Show the open study's place", "View", "Shift+Home", "study"),
        ActionEntry("look_north", "Look north", "Look horizontally to the north", "View", "", "data", True),
        ActionEntry("look_east", "Look east", "Look horizontally to the east", "View", "", "data"),
        ActionEntry("look_south", "Look south", "Look horizontally to the south", "View", "", "data"),
        ActionEntry("look_west", "Look west", "Look horizontally to the west", "View", "", "data"),
        ActionEntry("perspective", "Perspective", "Switch between perspective and parallel view", "View", "", "data"),
        ActionEntry("legend_limits", "Limits of the legend…", "Type the lowest and highest value of the ramp", "View", "", "data"),
        ActionEntry("view_picture", "Picture of the view…", "What the view shows, to scale: its colours, or the values behind them", "View",
                    "", "data"),
        ActionEntry("surface_look", "Look of surfaces…", "By elevation, slope or aspect; edges of triangles, contour lines", "View", "",
                    "data"),
        ActionEntry("study_layer", "Show study layer", "Draw what the open study keeps back, such as the surface it stands on",
                    "View", "B", "outcome", True),
        ActionEntry("show_noise", "Show noise points", "Draw points of the noise classes too", "View", "", "cloud"),
        ActionEntry("show_aside", "Show what is set aside", "In grey, to pick from it and bring it back", "View", "", "cloud"),
        ActionEntry("ground_only", "Ground only", "Show the ground classes only, or everything again", "View", "G", "cloud"),
        ActionEntry("filter_points", "Filter…", "Which points are shown, by any attribute", "View", "F", "cloud"),
        *(
            ActionEntry(f"panes:{name}", words, "Arrangement of the panes; it is kept with the study", "View", f"Ctrl+{number}",
                        "data", number == 1)
            for number, (name, words) in enumerate(PANES, 1)
        ),
        ActionEntry("next_pane", "Next pane", "The tools go to the next pane", "View", "F6", "data"),
        ActionEntry("whole_pane", "Pane whole, or back", "Make the active pane whole, or put it back", "View", "F12", "data"),
        ActionEntry("own_colours", "Own colours of the pane", "Colour the active pane by itself, or as the others again", "View",
                    "", "data"),
        ActionEntry("fold_left", "Fold lists", "Fold holdings and studies away, or bring them back", "View", "F7", "job", True),
        ActionEntry("fold_right", "Fold sheet", "Fold the sheet at the right away, or bring it back", "View", "Shift+F7", "job"),
        ActionEntry("fold_all", "Picture alone", "Fold everything round the picture away, or bring it back", "View", "F11",
                    "job"),
        ActionEntry("drawer", "Show drawer", "Profiles, histogram and tables below the view", "View", "F9", "job", True),
        ActionEntry("theme", "Dark or light", "Switch between dark and light colours", "View", "F8"),
        ActionEntry("place_section", "Place a section", "By two ends, one click square to a surface, or two picks of a body",
                    "Section", "X", "data"),
        ActionEntry("section_numbers", "Numbers and name…", "Place, direction, width, thickness and step, typed", "Section", "",
                    "section"),
        ActionEntry("section_forward", "Section forward", "The next of a series, or the section moved by its step", "Section",
                    "Alt+PgDown", "data", True, "Alt+Up"),
        ActionEntry("section_back", "Section back", "The one before, or the section moved back by its step", "Section",
                    "Alt+PgUp", "data", also="Alt+Down"),
        ActionEntry("section_flip", "Turn section about", "Look at the section from its other side", "Section", "Alt+End", "data"),
        ActionEntry("section_along", "Look along it", "In the axes of the section", "Section", "", "section", True),
        ActionEntry("section_above", "Look at it from above", "Its right end at the right", "Section", "", "section"),
        ActionEntry("section_side", "Look at it from the side", "From its right end", "Section", "", "section"),
        ActionEntry("section_copies", "Copies…", "The same again, at a spacing the way one looks", "Section", "", "section", True),
        ActionEntry("section_series", "Series of sections…", "A study of sections that goes on from this one", "Section", "",
                    "section"),
        ActionEntry("section_select", "Select its points", "The points of the cloud that lie in the slice", "Section", "",
                    "section", True),
        ActionEntry("compare_setups", "Compare setups on the selection", "How setups, strips or files lie to one another on a face, "
                    "pair by pair", "Section", "", "cloud"),
        ActionEntry("section_outlines", "Outlines of the slice", "Closed lines round what a slice cuts, such as walls", "Section",
                    "", "section"),
        ActionEntry("section_picture", "Picture to a file…", "The slice to scale, with a world file or as GeoTIFF", "Section",
                    "", "section"),
        ActionEntry("remove_section", "Remove section", "Take it out of the job (can be undone)", "Section", "", "section"),
        ActionEntry("import", "Bring data in…", "Clouds, survey points, lines, surfaces, models and pictures", "Data", "Ctrl+I"),
        ActionEntry("open_data", "Find open data…", "Choose and fetch tiles of a STAC catalogue", "Data", "Ctrl+Shift+O"),
        ActionEntry("field_controller", "Field controller…", "Listen to a field controller and see its shots come in", "Data"),
        ActionEntry("look_over", "Look over", "Counts, bounds, classes, density and origin of a holding", "Data", "Ctrl+L",
                    "data", True),
        ActionEntry("rename_holding", "Rename holding…", "Give the chosen holding another name", "Data", "", "data"),
        ActionEntry("epoch", "Set epoch date…", "Date of the survey of the chosen holding", "Data", "", "data"),
        ActionEntry("remove_holding", "Remove holding", "Take the chosen holding out of the job (can be undone)", "Data", "",
                    "data"),
        ActionEntry("write_holding", "Write to a file…", "Write a holding in any format of its kind", "Data", "Ctrl+E", "data"),
        ActionEntry("duplicate_holding", "Duplicate holding", "A copy that can be changed by itself", "Data", "", "data"),
        ActionEntry("select_points", "Select points", "Mark points by outline, box, brush, piece or surface", "Data", "S",
                    "cloud", True),
        ActionEntry("set_aside", "Set selection aside", "Out of sight and out of every computation; nothing is deleted", "Data",
                    "A", "cloud"),
        ActionEntry("keep_only", "Keep only selection", "Set aside everything else of the cloud", "Data", "", "cloud"),
        ActionEntry("bring_back", "Bring back", "Bring back the selected points that were set aside, or all of them", "Data",
                    "Shift+A", "cloud"),
        ActionEntry("new_part", "Make a part…", "A named part of the cloud, of the selected points", "Data", "P", "cloud"),
        ActionEntry("split_parts", "Split into parts…", "A part of each class, file or return, or of ranges of an attribute", "Data", "", "cloud"),
        ActionEntry("find_points", "Find points…", "Noise, duplicates, overlap, surfaces: look first, then decide", "Data",
                    "Ctrl+F", "cloud", True),
        ActionEntry("find_ground", "Find the ground…", "Ground gets class 2, everything else class 1; one step to undo",
                    "Data", "", "cloud"),
        ActionEntry("thin", "Thin and sample…", "One point a cell, a least distance, at random; a part or a new cloud", "Data",
                    "", "cloud"),
        ActionEntry("over_ground", "Height above ground…", "Height of each point over the ground, and height bands", "Data", "",
                    "cloud"),
        ActionEntry("cloud_statistics", "Statistics…", "Counts, elevations, classes: of what is shown, or of each area", "Data",
                    "", "cloud"),
        ActionEntry("slope", "Compute slope of points", "Inclination of the ground at each point, in degrees", "Data", "",
                    "cloud"),
        ActionEntry("reference_system", "Reference system…", "What system the numbers of the job are in", "Data", "", "job"),
        ActionEntry("confirm_unit", "Confirm unit…", "State the unit of a job whose files do not say it", "Data", "", "job"),
        ActionEntry("measure", "Measure", "Distance, height difference, slope, area and coordinates", "Data", "Ctrl+M",
                    "data", True),
        ActionEntry("pick_points", "Pick points", "Points that were not surveyed, snapped to the data: lowest, highest or nearest",
                    "Data", "Shift+P", "cloud"),
        ActionEntry("known_length", "Check a known length", "Two clicks on something of known length tell the scale", "Data", "",
                    "data"),
        ActionEntry("new_study", "New study…", "Choose a question that the data shall answer", "Study", "Ctrl+Shift+Q", "ground"),
        *_of_kinds("new"),
        ActionEntry("draw", "Draw…", "Draw the line or ring that the open study is about; double-click or Enter ends it",
                    "Study", "T", "study", True),
        *_of_kinds("step"),
        ActionEntry("pick_place", "Pick in plan", "Fill a field of the open study by clicks, such as stations of sections",
                    "Study", "", "has:place_steps"),
        ActionEntry("move_by_eye", "Move by eye", "Drag and turn what the open study moves, with arrows by millimetres", "Study", "",
                    "has:move_step"),
        ActionEntry("compute", "Compute", "Compute the open study in full", "Study", "F5", "ready", True),
        ActionEntry("keep_with_points", "Keep roles with the points", "Write what the open study says of its points, such as roles and "
                    "reasons, into their list", "Study", "", "found:keeps"),
        ActionEntry("correct_study", "Take the bias out", "Move a copy by what was found and ask the same of it",
                    "Study", "", "found:corrections"),
        ActionEntry("follow_study", "Same for the next survey…", "Ask the same of a later cloud, and see what changed", "Study",
                    "Ctrl+Shift+F", "study"),
        ActionEntry("write_study", "Write to a file…", "What the open study found as a file of its own, such as lines with figures",
                    "Study", "", "ready:write"),
        ActionEntry("in_report", "In report", "Put the open study into the report, or take it out", "Study", "", "study"),
        ActionEntry("rename_study", "Rename study…", "Give the open study another name", "Study", "", "study"),
        ActionEntry("duplicate_study", "Duplicate study", "Make a copy of the open study", "Study", "Ctrl+Shift+D",
                    "study"),
        ActionEntry("remove_study", "Remove study", "Take the open study out of the job (can be undone)", "Study", "",
                    "study"),
        ActionEntry("study_help", "How it is computed", "Method, formulas and limits of the open study", "Help", "F1",
                    "study"),
        ActionEntry("placing_help", "Units and places", "How numbers are converted, and what the place check looks for", "Help"),
        ActionEntry("ground_help", "Ground and heights", "How ground is found and heights over it are computed", "Help"),
        ActionEntry("cleaning_help", "Finding and thinning points", "How noise, repeats and surfaces are found", "Help"),
        ActionEntry("looking_help", "Sections and corners", "How sections are placed, and corners and outlines found", "Help"),
        ActionEntry("statistics_help", "Statistics", "What the figures of clouds and areas are", "Help"),
        ActionEntry("guide", "Guided start", "Three steps to a first volume", "Help"),
        ActionEntry("shortcuts", "Keys and mouse", "What keys and mouse buttons do", "Help"),
        ActionEntry("about", "About Kerb", "Version and licence", "Help"),
    )  # fmt: skip


MENUS = ("Job", "Edit", "View", "Section", "Data", "Study", "Help")
