"""Registries walked mechanically: every action, study and field is described, unique and reachable from everywhere."""

import ast
import re
import unittest
from pathlib import Path

import numpy as np

from kerb import cli
from kerb.app.actions import MENUS, actions
from kerb.core import errors
from kerb.studies.fields import CLOUDS, CODECS, SECTIONS
from kerb.studies.kind import HEADLINE, StudyKind
from kerb.studies.registry import STUDIES
from tests.declared import KEPT, declared
from tests.support import frustum, jittered, store_of

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src/kerb"
# Where a kind of study may be named, besides its own folder.
MAY_NAME = ("app/sheets/", "demo/", "studies/registry.py", "standins/")


class Actions(unittest.TestCase):
    def test_ids_titles_help_and_shortcuts(self):
        every = actions()
        self.assertEqual(len({a.id for a in every}), len(every))
        shortcuts = [keys for a in every for keys in (a.shortcut, a.also) if keys]
        self.assertEqual(len(set(shortcuts)), len(shortcuts))
        needs = (
            "", "job", "data", "cloud", "ground", "study", "ready", "outcome", "has", "found", "section", "undo", "redo",
        )  # fmt: skip
        for action in every:
            self.assertTrue(action.title and len(action.help) > 5, action.id)
            self.assertIn(action.menu, MENUS)
            need, _, what = action.needs.partition(":")
            self.assertTrue((need in needs and (not what or hasattr(StudyKind, what))) or what in STUDIES, action.needs)

    def test_every_action_has_a_method(self):
        source = "".join(path.read_text() for path in (SOURCE / "app/doing").glob("*.py"))
        source += (SOURCE / "app/handlers.py").read_text()
        for action in actions():
            name = "import_points" if action.id == "import" else action.id.partition(":")[0]
            self.assertIn(f"def {name}(self" if name != "redo" else '"redo"', source)


class Studies(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        xy = jittered(12, 0.15)
        cls.store = store_of(np.column_stack([xy, frustum(xy, 6.0, 2.0, 3.0)]))

    def test_every_study_has_all_its_parts(self):
        for key, kind in STUDIES.items():
            self.assertEqual(key, kind.id)
            page = (ROOT / "docs/methods" / kind.help_page).read_text()
            for word in ("Formula", "Source", "Limits"):
                self.assertIn(word, page)
            self.assertIn(key, cli.verbs())
            cli.parser().parse_args(kind.example.split()[1:])
            self.assertEqual(len({f.name for f in kind.figures}), len(kind.figures))
            self.assertTrue(kind.where(HEADLINE))
            for step in kind.steps:
                self.assertIn(step.field, kind.setup.declared())

    def test_every_field_is_described_kept_and_on_the_command_line(self):
        for key, kind in STUDIES.items():
            options = cli.parser()._subparsers._group_actions[0].choices[key].format_help()
            for name, about in kind.setup.declared().items():
                with self.subTest(f"{key}.{name}"):
                    self.assertTrue(about.label and len(about.help) > 8)
                    self.assertIn(about.section, SECTIONS)
                    self.assertIn(about.kind, CODECS)
                    if about.choices:
                        self.assertIn(kind.setup.defaults()[name], dict(about.choices))
                    if about.when:
                        self.assertIn(about.when[0], kind.setup.declared())
                    if (
                        not (about.hidden and about.show_only)
                        and name != kind.setup.main()
                        and not (about.positional or about.kind == CLOUDS)
                    ):
                        flag = f"--{(about.flag or name).replace('_', '-')}"
                        self.assertEqual(flag in options.split(), not about.by_hand)

    def test_what_is_declared_changes_on_purpose(self):
        now, kept = declared(), KEPT.read_text().splitlines()
        self.assertEqual(
            ([line for line in now if line not in kept], [line for line in kept if line not in now]), ([], []),
            "if this is meant, run python -m tests.declared",
        )  # fmt: skip
        self.assertEqual(now, kept)

    def test_figures_of_the_contract(self):
        contract = {
            "stockpile": ["above", "below", "net", "plan_area", "surface_area", "highest", "gap_area", "check_net", "mass"],
            "inventory": ["total_above", "total_mass"],
            "sections": ["sections"],
            "surface": ["vertices", "triangles", "plan_area", "surface_area", "lowest", "highest", "mean"],
            "contours": ["lines", "total_length"],
            "spots": ["count", "empty"],
            "align": ["iterations", "rms", "mean_abs", "overlap", "rotation", "shift", "shift_e", "shift_n", "shift_z"],
            "change": ["count", "unmatched", "mean", "std", "rms", "median", "p05", "p95", "min", "max", "within", "mean_abs",
                       "significant_share", "detection"],
            "cutfill": ["fill", "cut", "net", "fill_area", "cut_area", "same_area", "only_earlier_area", "only_later_area",
                        "check_net", "stable_offset", "stable_noise"],
            "plan": ["lines", "rooms", "length"],
            "tunnel": ["over_area", "under_area", "over_volume", "under_volume", "over_volume_end_areas", "under_volume_end_areas",
                       "max_over", "max_under", "wall_area", "uncovered_share"],
            "clearance": ["lowest", "lowest_e", "lowest_n", "nearest", "uncovered_area"],
            "accuracy": ["n", "left_out", "mean", "median", "std", "rms", "min", "max", "accuracy95", "p95"],
        }  # fmt: skip
        for key, names in contract.items():
            self.assertLessEqual(set(names), {f.name for f in STUDIES[key].figures})

    def test_nothing_else_names_a_kind_of_study(self):
        # Words that mean other things as well count where they can only mean the study.
        common = {
            "accuracy",
            "sections",
            "surface",
            "contours",
            "spots",
            "change",
            "align",
            "floor",
            "plan",
            "clearance",
            "tunnel",
        }
        strict = "|".join(key for key in STUDIES if key not in common)
        loose = "|".join(rf"studies\.{key}\b|{key.title()}Setup|study_kind\([\"']{key}" for key in common)
        words = re.compile(rf"(?i:(?<![a-z])({strict})(?![a-z]))|{loose}")
        found = []
        for path in SOURCE.rglob("*.py"):
            name = path.relative_to(SOURCE).as_posix()
            if not (name.startswith(MAY_NAME) or name.startswith(tuple(f"studies/{key}/" for key in STUDIES))):
                found += [f"{name}:{n}" for n, line in enumerate(path.read_text().splitlines(), 1) if words.search(line)]
        self.assertEqual(found, [])


class Structure(unittest.TestCase):
    def test_there_are_no_cycles(self):
        """Imports of every kind count: those in functions and those for the type checker only, too."""
        graph = {path: _imports(path) for path in SOURCE.rglob("*.py")}
        names = {path: "kerb." + path.relative_to(SOURCE).with_suffix("").as_posix().replace("/", ".") for path in graph}
        names = {path: name.removesuffix(".__init__") for path, name in names.items()}
        known = set(names.values())
        edges = {names[path]: {m for m in found if m in known and m != names[path]} for path, found in graph.items()}
        self.assertEqual(_cycles(edges), [])

    def test_no_module_of_the_window_holds_the_window(self):
        for path in (SOURCE / "app").rglob("*.py"):
            if path.name not in ("window.py", "main.py"):
                self.assertNotIn("kerb.app.window", path.read_text(), path.name)

    def test_texts_of_the_window_are_plain(self):
        """Names come from files. Labels are ours, tips and messages go through ``plain``, pages are our own."""
        wrong = []
        for path in (SOURCE / "app").rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.Call) or path.name == "widgets.py":
                    continue
                called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
                shown = []
                if called in ("setToolTip", "setInformativeText", "showText"):
                    shown = node.args[-1:] if called == "setToolTip" else node.args
                elif ast.unparse(node.func) in ("QMessageBox", "QMessageBox.question", "QMessageBox.warning"):
                    shown = node.args[2:3]
                elif called in ("setLabel", "setTitle") and path.parent.name == "charts":
                    shown = node.args[-1:]
                elif path.name != "reading.py" and called in (
                    "QLabel", "setHtml", "insertHtml", "setTextFormat", "QTextDocument", "QStaticText", "setMarkdown",
                ):  # fmt: skip
                    wrong.append(f"{path.name}:{node.lineno} {called}")
                for text in shown:
                    safe = isinstance(text, ast.Constant) or ast.unparse(text).startswith(("plain(", "escape(", "f'Elevation"))
                    if not safe:
                        wrong.append(f"{path.name}:{node.lineno} {ast.unparse(text)}")
        self.assertEqual(wrong, [])

    def test_files_stay_short(self):
        long = [f"{p.name} {n}" for p in SOURCE.rglob("*.py") if (n := len(p.read_text().splitlines())) > 600]
        self.assertEqual(long, [])


def _imports(path):
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module} | {f"{node.module}.{alias.name}" for alias in node.names}
    return found


def _cycles(edges):
    """Groups of modules that import each other, by taking away what imports nothing that is left."""
    left = {name: set(out) for name, out in edges.items()}
    while True:
        free = {name for name, out in left.items() if not out & left.keys()}
        if not free:
            break
        left = {name: out for name, out in left.items() if name not in free}
    while True:
        used = {name for out in left.values() for name in out}
        free = left.keys() - used
        if not free:
            return sorted(left)
        left = {name: out for name, out in left.items() if name not in free}


class Errors(unittest.TestCase):
    def test_the_tree_is_one(self):
        for name in dir(errors):
            kind = getattr(errors, name)
            if isinstance(kind, type) and issubclass(kind, Exception):
                self.assertTrue(issubclass(kind, errors.KerbError), name)
                self.assertIn(name, errors.__doc__)
