"""The start of the window where a screen is named that is not there."""

import os
import subprocess
import sys
import unittest

from kerb.app.main import answers


class Screen(unittest.TestCase):
    def test_a_screen_that_does_not_answer(self):
        self.assertFalse(answers(":4711"))
        self.assertFalse(answers("nonsense"))
        env = {**os.environ, "DISPLAY": ":4711", "QT_QPA_PLATFORM": "xcb"}
        run = subprocess.run([sys.executable, "-m", "kerb"], env=env, capture_output=True, text=True, timeout=60)
        self.assertEqual(run.returncode, 2)
        self.assertIn("the screen ':4711' does not answer", run.stderr)


if __name__ == "__main__":
    unittest.main()
