"""Install Kerb's desktop entry, icon and MIME type for the user who runs this (``./run install-desktop``)."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
ENTRY = """[Desktop Entry]
Type=Application
Name=Kerb
GenericName=Point cloud comparison
Comment=Compare point clouds with checkpoints, designs and earlier dates
Exec="{command}" open %F
TryExec={command}
Icon=kerb
Terminal=false
Categories=Science;Geoscience;Engineering;
MimeType=application/x-kerb-job;application/vnd.las;application/vnd.laszip;model/e57;
StartupWMClass=Kerb
"""
MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="application/x-kerb-job">
    <comment>Kerb job</comment>
    <sub-class-of type="inode/directory"/>
    <glob pattern="*.kerb"/>
    <icon name="kerb"/>
  </mime-type>
  <mime-type type="application/vnd.las">
    <comment>Point cloud</comment>
    <glob pattern="*.las"/>
  </mime-type>
  <mime-type type="application/vnd.laszip">
    <comment>Compressed point cloud</comment>
    <glob pattern="*.laz"/>
  </mime-type>
  <mime-type type="model/e57">
    <comment>Scans</comment>
    <glob pattern="*.e57"/>
  </mime-type>
</mime-info>
"""


def main() -> int:
    """Write the three files and refresh the caches that the desktop keeps of them."""
    share = Path(os.environ.get("XDG_DATA_HOME", Path.home() / ".local/share"))
    command = ROOT / ".venv/bin/kerb"
    files = {
        share / "applications/kerb.desktop": ENTRY.format(command=command),
        share / "mime/packages/kerb.xml": MIME,
    }
    for path, text in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        sys.stdout.write(f"wrote {path}\n")
    icon = share / "icons/hicolor/scalable/apps/kerb.svg"
    icon.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(ROOT / "src/kerb/assets/icons/kerb.svg", icon)
    sys.stdout.write(f"wrote {icon}\n")
    for tool, folder in (("update-desktop-database", "applications"), ("update-mime-database", "mime")):
        if shutil.which(tool):
            subprocess.run([tool, str(share / folder)], check=False)
    return 0


if __name__ == "__main__":
    sys.exit(main())
