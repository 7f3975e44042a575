"""What values promise everywhere: they do not change, they compare, and what they publish is exact to the letter."""

import dataclasses
import importlib
import json
import pkgutil
import threading
import unittest
import unittest.mock

import numpy as np
import scipy

import kerb.core
import kerb.studies
from kerb.core import parallel
from kerb.core.arrays import ends
from kerb.core.errors import Cancelled, InputError
from kerb.core.once import Once
from kerb.core.parallel import beside, cores, each
from kerb.core.progress import Progress
from kerb.core.units import FOOT, METRE, US_SURVEY_FOOT, density_unit
from kerb.studies.inventory.summits_kernels import summits
from kerb.studies.kind import Step
from kerb.studies.outcome import Column, Outcome, Table
from kerb.studies.registry import STUDIES
from kerb.studies.scope import Scope
from kerb.studies.sources import KINDS_OF
from kerb.studies.stockpile.figures import mass_per_volume

# What is meant to be filled or changed.
MAY_CHANGE = {"CutSection", "Halves", "Outcome", "Overview", "StoreMeta", "TestedPoint", "_Surface"}


def modules(package):
    for item in pkgutil.walk_packages(package.__path__, package.__name__ + "."):
        yield importlib.import_module(item.name)


class Kept:
    """What is worked out at the first look."""

    def __init__(self, work):
        self.work, self.times = work, 0

    @Once
    def value(self):
        """Whatever the work gives."""
        self.times += 1
        return self.work()


class WorkedOutOnce(unittest.TestCase):
    def test_a_value_is_worked_out_once_and_does_not_make_another_object_wait(self):
        # A study on the pool that waits for the lock of one that waits for the pool would stand for ever.
        others = []

        def while_working():
            thread = threading.Thread(target=lambda: others.append(Kept(lambda: 7).value))
            thread.start()
            thread.join(10)
            return 5

        kept = Kept(while_working)
        self.assertEqual((kept.value, kept.value, kept.times, others), (5, 5, 1, [7]))
        self.assertIsInstance(Kept.value, Once)


class OnAllCores(unittest.TestCase):
    def test_order_errors_and_a_stop(self):
        self.assertEqual(each(lambda k: k * k, range(999)), [k * k for k in range(999)])
        self.assertEqual(each(str, []), [])
        self.assertEqual(beside(lambda: 1, lambda: "two", lambda: each(str, [3, 4])), [1, "two", ["3", "4"]])
        for wrong in (0, 57, 99):
            with self.assertRaisesRegex(InputError, f"number {wrong}$"):
                each(lambda k, wrong=wrong: self.complain(k, wrong), range(100))
        heard = []
        listening = Progress(lambda share, words: heard.append((share, words)))
        each(str, range(50), listening, "Going on")
        self.assertEqual((sorted(heard), heard[-1]), (heard, (1.0, "Going on")))
        with unittest.mock.patch.object(parallel, "cores", lambda: 1):
            heard.clear()
            each(str, range(8), listening, "Alone")
            self.assertEqual(heard, [*((k / 8, "Alone") for k in range(1, 9)), (1.0, "Alone")])
        heard.clear()
        beside(str, lambda: each(str, range(4), listening, "Within"))
        self.assertEqual(heard, [(k / 4, "Within") for k in range(4)])
        begun, stopped = [], Progress()

        def stop_at_ten(k):
            begun.append(k)
            if k == 10:
                stopped.stop()

        with self.assertRaises(Cancelled):
            each(stop_at_ten, range(10_000), stopped)
        self.assertLess(len(begun), 5000)
        self.assertEqual(each(str, range(3)), ["0", "1", "2"], "what failed leaves nothing behind")

    def test_lowest_and_highest_wherever_they_stand(self):
        numbers = np.zeros((7, 2))
        with unittest.mock.patch("kerb.core.arrays.ranges", lambda total, _least: [(0, 3), (3, 4), (4, total)]):
            for row in range(7):
                numbers[:] = 0
                numbers[row] = [-4, 9]
                low, high = ends(numbers)
                self.assertEqual((low.tolist(), high.tolist()), ([-4, 0], [0, 9]))
        with self.assertRaises(ValueError):
            ends(numbers[:0])

    def complain(self, k, wrong):
        if k == wrong:
            raise InputError(f"number {k}")

    def test_short_work_does_not_wait_for_long_work_of_others(self):
        free = threading.Event()
        long = threading.Thread(target=lambda: each(lambda _: free.wait(30), range(cores() + 3)))
        long.start()
        try:
            found = []
            short = threading.Thread(target=lambda: found.append(sum(each(lambda k: k, range(100)))))
            short.start()
            short.join(10)
            self.assertEqual(found, [4950])
        finally:
            free.set()
            long.join()


class Frozen(unittest.TestCase):
    def test_values_cannot_be_changed(self):
        seen = set()
        for package in (kerb.core, kerb.studies):
            for module in modules(package):
                for kind in vars(module).values():
                    if isinstance(kind, type) and dataclasses.is_dataclass(kind) and kind.__module__ == module.__name__:
                        seen.add(kind.__name__)
                        frozen = kind.__dataclass_params__.frozen
                        self.assertEqual(frozen, kind.__name__ not in MAY_CHANGE, f"{module.__name__}.{kind.__name__}")
        self.assertGreater(len(seen), 50)


class Published(unittest.TestCase):
    def test_tables_of_mixed_columns_come_back(self):
        big = 2**62
        for rows in (
            ((1, 1.5, "a", None, True), (2, 2.5, "b", 3, False)), ((big, -1.0, "", "x", 1), (-big, np.inf, "", "y", 2)), (),
        ):  # fmt: skip
            table = Table("T", tuple(Column(name) for name in "abcde"), rows)
            one = Outcome("x", "m", "", {}, {}, tables={"t": table})
            head, arrays = one.head()
            self.assertEqual(Outcome.of_head(json.loads(json.dumps(head)), arrays).tables["t"].rows, rows)


class Steps(unittest.TestCase):
    def test_what_fields_take(self):
        self.assertEqual(set(KINDS_OF), {"scope", "surface", "lines", "alignment", "points", "clouds", "surfaces"})
        self.assertEqual(KINDS_OF["scope"], ("cloud",))
        step, setup = Step("s", "Do it", "Does it", "toe", lambda *_: None), STUDIES["stockpile"].setup(Scope("c"))
        lacks = [one.lacks(setup) for one in (step, dataclasses.replace(step, fresh=True))]
        self.assertEqual(lacks, [setup.declared()["toe"].needed, ""])


class Summits(unittest.TestCase):
    """The watershed of summits against a an independent count by persistence."""

    def lasting(self, z, least):
        """Summits that rise more than ``least`` over where they meet a higher one: persistence by the elder rule."""
        parent, peak, lasting = {}, {}, 0

        def root(n):
            while parent[n] != n:
                n = parent[n]
            return n

        for flat in np.argsort(-z.ravel(), kind="stable").tolist():
            row, column = divmod(flat, z.shape[1])
            if z[row, column] <= 0:
                continue
            parent[flat], peak[flat] = flat, z[row, column]
            for r in range(max(row - 1, 0), min(row + 2, z.shape[0])):
                for c in range(max(column - 1, 0), min(column + 2, z.shape[1])):
                    other = r * z.shape[1] + c
                    if other in parent and root(other) != root(flat):
                        high, low = sorted((root(other), root(flat)), key=lambda n: -peak[n])
                        lasting += peak[low] - z[row, column] > least
                        parent[low] = high
        return lasting + len({root(n) for n in parent})

    def parted(self, z, least):
        order = np.flatnonzero(z.ravel() > 0)
        order = order[np.argsort(-z.ravel()[order], kind="stable")]
        # What lies behind the last cell is none of its neighbours.
        room = np.zeros(z.size + 1, np.int32)
        room[-1], labels = 1, room[:-1]
        summits(order, z.ravel(), z.shape[1], least, labels)
        return labels.reshape(z.shape)

    def test_two_summits(self):
        x = np.arange(40.0)
        ridge = np.maximum(10 - np.abs(x - 10), 8 - np.abs(x - 28))
        z = np.clip(ridge[None, :] - np.abs(np.arange(-6, 7))[:, None], 0, None)
        saddle = 8 - 8.0
        self.assertEqual(len(np.unique(self.parted(z, 0.5))) - 1, 2)
        close = np.clip(np.maximum(10 - np.abs(x - 10), 8 - np.abs(x - 16))[None, :] - np.abs(np.arange(-6, 7))[:, None], 0, None)
        self.assertEqual(len(np.unique(self.parted(close, 3.0))) - 1, 1, "the lower one rises two over the saddle")
        self.assertEqual(len(np.unique(self.parted(close, 1.0))) - 1, 2)
        self.assertEqual(saddle, 0.0)
        corner = 5.0 - np.hypot(*np.mgrid[0:4, 0:5])
        for way in (corner, corner[::-1], corner[:, ::-1], corner[::-1, ::-1]):
            self.assertEqual(len(np.unique(self.parted(np.clip(way, 0, None), 0.5)[way > 0])), 1, "a summit in a corner")
        apart = np.zeros((4, 5))
        apart[0, 4], apart[3, 0] = 9.0, 3.0
        self.assertEqual(len(np.unique(self.parted(apart, 0.5)[apart > 0])), 2)

    def test_as_many_as_last_and_each_in_one_piece(self):
        rng = np.random.default_rng(2)
        for least in (0.2, 0.7, 1.5):
            z = np.clip(rng.normal(1.0, 1.0, (17, 23)), 0, None) + rng.uniform(0, 1e-4, (17, 23))
            z[z < 0.01] = 0.0
            labels = self.parted(z, least)
            np.testing.assert_array_equal(labels > 0, z > 0)
            found = np.unique(labels[labels > 0])
            self.assertEqual(len(found), self.lasting(z, least))
            calm = scipy.ndimage.gaussian_filter(z, 1.2) * (z > 0)
            labels = self.parted(calm, least / 10)
            for number in np.unique(labels[labels > 0]).tolist():
                self.assertEqual(scipy.ndimage.label(labels == number, np.ones((3, 3)))[1], 1)


class Masses(unittest.TestCase):
    def test_mass_of_a_volume_in_every_unit(self):
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            cubic = unit.metres**3
            self.assertAlmostEqual(mass_per_volume(1.6, "t/m3", unit), 1.6 * cubic, places=12)
            per_yard = density_unit("ton/yd3")
            self.assertAlmostEqual(mass_per_volume(1.2, "ton/yd3", unit), 1.2 * cubic / 0.9144**3, places=12)
            self.assertEqual(per_yard.mass_code, "ton")
        self.assertIsNone(mass_per_volume(None, "t/m3", METRE))
