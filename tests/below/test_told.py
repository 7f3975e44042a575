"""The trials of each study, as the analyst would meet them: run whole, kept, reported, and saying what they said before."""

import json
import unittest

from kerb.core.progress import Progress
from kerb.report.pdf import Chapter, ReportWish, make_report
from kerb.report.text import figures_table
from kerb.studies.outcome import Outcome
from kerb.studies.registry import STUDIES
from kerb.warm import try_out
from tests.told import KEPT, alike, epochs, lines, told_of


class Told(unittest.TestCase):
    """A test for each study, ``test_<id>``, put in below."""

    @classmethod
    def setUpClass(cls):
        cls.store, cls.beside = epochs()
        cls.kept = KEPT.read_text().splitlines()

    def study(self, kind):
        """Progress never falls back, so that what is left can be judged by it; what is kept of an outcome is all of it."""
        shares = []

        def watched():
            shares.append([])
            return Progress(lambda share, _, seen=shares[-1]: seen.append(round(share, 9)))

        found, live = try_out(kind, self.store, watched, self.beside)
        self.assertTrue(found, "no trial")
        self.assertEqual(shares, [sorted(seen) for seen in shares])
        self.assertTrue(all(0 <= share <= 1 for seen in shares for share in seen))
        for setup in kind.trial():
            self.assertEqual(kind.setup_of(json.loads(json.dumps(setup.to_json()))), setup)
        report = make_report([Chapter("One", found[0], self.store)], ReportWish())
        self.assertTrue(report.startswith(b"%PDF"))
        for outcome in found:
            self.assertEqual(set(outcome.figures), {f.name for f in kind.figures})
            # A round mound onto itself from anywhere is ambiguous, and has no figure.
            self.assertTrue(outcome.value(kind.headline.name) is not None or outcome.verdict)
            head, arrays = outcome.head()
            kept = Outcome.of_head(json.loads(json.dumps(head)), arrays)
            self.assertEqual((kept.figures, kept.tables, kept.warnings), (outcome.figures, outcome.tables, outcome.warnings))
            self.assertEqual(list(kept.layers), list(outcome.layers))
            self.assertEqual(len(figures_table(outcome).rows), len(kind.figures))
        self.compare(lines(kind, self.store, self.beside, (found, live)), told_of(kind.id, self.kept))

    def compare(self, now, kept):
        """Line by line; what is new or gone is listed."""
        off = [f"{a}\n    was {b}" for a, b in zip(now, kept, strict=False) if not alike(a, b)][:5]
        self.assertEqual((off, len(now)), ([], len(kept)), "if this is meant, run python -m tests.told")


for _kind in STUDIES.values():
    setattr(Told, f"test_{_kind.id}", lambda self, kind=_kind: self.study(kind))
