"""A few kills of each kind; the long run is ``bench/kills.py``."""

import unittest

from bench import kills


class Killed(unittest.TestCase):
    def test_nothing_is_lost_and_the_next_use_goes_on(self):
        for number, kind in enumerate(kills.KINDS):
            with self.subTest(kind.__name__):
                _, _, wrong = kills.one(number, kind)
                self.assertEqual(wrong, "")
