"""Registries walked mechanically: every action, study and setting is described, unique and reachable."""

import unittest
from dataclasses import fields
from pathlib import Path

from kerb import cli
from kerb.app.actions import ACTIONS, MENUS
from kerb.core import errors
from kerb.core.setting import settings_of
from kerb.core.units import METRE
from kerb.report.text import figures_table
from kerb.studies.outcome import Outcome
from kerb.studies.registry import STUDIES
from kerb.studies.stockpile.figures import LABELS, none
from kerb.studies.stockpile.setup import StockpileSetup

ROOT = Path(__file__).parents[2]


class Actions(unittest.TestCase):
    def test_ids_titles_help_and_shortcuts(self):
        self.assertEqual(len({a.id for a in ACTIONS}), len(ACTIONS))
        shortcuts = [a.shortcut for a in ACTIONS if a.shortcut]
        self.assertEqual(len(set(shortcuts)), len(shortcuts))
        for action in ACTIONS:
            self.assertTrue(action.title and len(action.help) > 5, action.id)
            self.assertIn(action.menu, MENUS)
            self.assertIn(action.needs, ("", "job", "data", "cloud", "study", "toe", "outcome", "undo", "redo"))

    def test_every_action_has_a_handler(self):
        source = "".join(
            (ROOT / f"src/kerb/app/{name}.py").read_text() for name in ("handlers", "handlers_data", "handlers_points")
        )
        for action in ACTIONS:
            name = "import_points" if action.id == "import" else action.id
            self.assertIn(f"def {name}(self", source)


class Studies(unittest.TestCase):
    def test_every_study_has_all_its_parts(self):
        for key, kind in STUDIES.items():
            self.assertEqual(key, kind.id)
            page = (ROOT / "docs/methods" / kind.help_page).read_text()
            for word in ("Formula", "Source", "Limits"):
                self.assertIn(word, page)
            self.assertTrue((ROOT / f"src/kerb/app/sheets/{key}.py").exists())
            self.assertIn(key, cli.VERBS)
            words = kind.example.split()[1:]
            cli.parser().parse_args(words)
            setup = kind.setup()
            self.assertEqual(kind.setup.from_json(setup.to_json()), setup)

    def test_every_setting_is_described_and_on_the_command_line(self):
        described = settings_of(StockpileSetup)
        self.assertEqual(
            {f.name for f in fields(StockpileSetup)} - set(described), {"cloud", "toe", "toe_z", "classes", "only"}
        )
        sub = cli.parser()._subparsers._group_actions[0].choices["stockpile"].format_help()
        for name, (about, default) in described.items():
            self.assertTrue(about.label and len(about.help) > 8, name)
            self.assertIn(f"--{name.replace('_', '-')}", sub)
            if about.choices:
                self.assertIn(default, dict(about.choices))

    def test_figures_of_the_contract(self):
        contract = ["above", "below", "net", "plan_area", "surface_area", "highest", "gap_area", "check_net", "mass"]
        self.assertLessEqual(set(contract), set(LABELS))
        outcome = Outcome("stockpile", "m", "", none(METRE, StockpileSetup()), {})
        self.assertEqual(len(figures_table(outcome).rows), len(LABELS))


class Errors(unittest.TestCase):
    def test_the_tree_is_one(self):
        for name in dir(errors):
            kind = getattr(errors, name)
            if isinstance(kind, type) and issubclass(kind, Exception):
                self.assertTrue(issubclass(kind, errors.KerbError), name)
                self.assertIn(name, errors.__doc__)
