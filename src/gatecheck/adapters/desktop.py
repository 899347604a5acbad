"""The desktop of the computer that the server runs on: a folder is opened in its file manager."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
from pathlib import Path

_OPENER = "xdg-open"


def has_desktop() -> bool:
    """Somebody may sit in front of this computer: a graphical session, and the standard opener of folders."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")) and shutil.which(_OPENER) is not None


def open_folder(folder: Path) -> None:
    """Have the file manager show the folder; it outlives the server, and the caller does not wait. Raises OSError."""
    shown = subprocess.Popen(
        [_OPENER, str(folder)],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    threading.Thread(target=shown.wait, daemon=True).start()
