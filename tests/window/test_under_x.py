"""The window under a real X server: the platform that analysts have, which the offscreen one only stands for."""

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from tests.support import YARD

SCRIPT = """
import sys, time
from pathlib import Path
from PySide6.QtGui import QGuiApplication
from kerb.app.main import application
from kerb.app.window import Window
from kerb.job.job import Job
from kerb.job.places import Settings

app = application()
window = Window(Settings(Path(sys.argv[1]) / "settings.json"))
window.resize(1280, 800)
window.show()
window.handlers.jobs.open_folder(Path(sys.argv[2]))
end = time.monotonic() + 30
while time.monotonic() < end and (window.session.job is None or not window.isVisible()):
    app.processEvents()
for _ in range(60):
    app.processEvents()
    time.sleep(0.02)
shown = window.screen().grabWindow(0).toImage()
colours = {shown.pixel(x, y) for x in range(0, shown.width(), 7) for y in range(0, shown.height(), 7)}
others = [w.windowTitle() for w in QGuiApplication.topLevelWindows() if w.isVisible() and w is not window.windowHandle()]
print(QGuiApplication.platformName(), window.session.job.state.holdings[0].name, len(colours) > 50, others)
sys.stdout.flush()
import os
os._exit(0)
"""


@unittest.skipUnless(shutil.which("Xvfb"), "no X server here; type: sudo apt-get install xvfb")
class UnderX(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        reading, writing = os.pipe()
        command = ["Xvfb", "-displayfd", str(writing), "-screen", "0", "1400x900x24", "-nolisten", "tcp"]
        self.server = subprocess.Popen(command, pass_fds=[writing], stderr=subprocess.DEVNULL)
        os.close(writing)
        self.addCleanup(self.server.wait)
        self.addCleanup(self.server.terminate)
        with os.fdopen(reading) as stream:
            self.display = f":{stream.readline().strip()}"

    def test_a_job_opens_and_is_drawn(self):
        env = {
            **os.environ,
            "DISPLAY": self.display,
            "QT_QPA_PLATFORM": "xcb",
            "XDG_DATA_HOME": str(self.folder / "home"),
        }
        job = self.folder / "a.kerb"
        subprocess.run([sys.executable, "-m", "kerb", "add", str(job), str(YARD)], check=True, capture_output=True)
        began = time.monotonic()
        ended = subprocess.run(
            [sys.executable, "-c", SCRIPT, str(self.folder), str(job)],
            env=env,
            capture_output=True,
            text=True,
            timeout=120,
        )
        self.assertEqual(ended.stdout.strip(), "xcb yard_small True []", ended.stderr)
        self.assertLess(time.monotonic() - began, 100)
