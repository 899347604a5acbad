"""The probe as the one file that ships: as it is, or with the bench's address and a ticket's secret filled in."""

from __future__ import annotations

import io
import os
import re
import tempfile
import zipapp
from importlib import resources
from pathlib import Path

PACKAGE = "gatecheck_probe"
_START = f'"""Starts the probe."""\n\nimport sys\n\nfrom {PACKAGE}.main import main\n\nsys.exit(main())\n'
_DAY = 1_600_000_000
"""when each file in the archive was changed: the same bytes each time"""


def probe_files(server: str = "", secret: str = "", authority: str = "") -> dict[str, str]:
    """The probe's modules: name in the package -> text. `authority`: certificate (PEM) of the one that it trusts."""
    own = resources.files("gatecheck.probe")
    files = {entry.name: entry.read_text("utf-8") for entry in own.iterdir() if entry.name.endswith(".py")}
    if server or secret:
        filled = f"SERVER = {server.rstrip('/')!r}\nSECRET = {secret!r}\nAUTHORITY = {authority!r}\n"
        files["address.py"] = re.sub(
            r'SERVER = ""\nSECRET = ""\nAUTHORITY = ""\n', lambda _: filled, files["address.py"]
        )
    return files


def probe_archive(server: str = "", secret: str = "", authority: str = "") -> bytes:
    """The one file that runs on the sick machine: a zip that Python starts, whatever it is called there."""
    with tempfile.TemporaryDirectory() as folder:
        package = Path(folder) / PACKAGE
        package.mkdir()
        for name, text in probe_files(server, secret, authority).items():
            (package / name).write_text(text, "utf-8")
        (Path(folder) / "__main__.py").write_text(_START, "utf-8")
        for place in (package, *package.iterdir(), Path(folder) / "__main__.py"):
            os.utime(place, (_DAY, _DAY))
        into = io.BytesIO()
        zipapp.create_archive(folder, into, interpreter="/usr/bin/env python3")  # stored: it can be read as text
        return into.getvalue()


def start_line(server: str, secret: str, refused: str = "", *, pin: str = "", sum: str = "") -> str:
    """The script behind the line that a technician types: it fetches the probe and starts it, or says what is in the
    way. `refused`: why this code does not lead to a probe; `pin`: of the bench's key (RFC 7469), for what can check it;
    `sum`: SHA-256 of the probe, which is checked before it runs."""
    text = (resources.files("gatecheck.probe") / "start.sh").read_text(encoding="utf-8")
    server = _unquoted(server.rstrip("/"))
    return (
        text.replace("@ADDRESS@", f"{server}/p/{_unquoted(secret)}")
        .replace("@SERVER@", server)
        .replace("@REFUSED@", _unquoted(refused))
        .replace("@PIN@", pin)
        .replace("@SUM@", sum)
    )


def _unquoted(text: str) -> str:
    """What stands between quotation marks of a shell must not end them."""
    return re.sub(r"[^\w .,:;/+@\[\]()-]", "_", text)
