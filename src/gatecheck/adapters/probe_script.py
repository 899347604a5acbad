"""The probe as text: as it ships, or with the bench's address and a ticket's secret filled in."""

from __future__ import annotations

import re
from importlib import resources


def probe_with(server: str = "", secret: str = "") -> str:
    """The one file that runs on the sick machine."""
    text = (resources.files("gatecheck.probe") / "gatecheck_probe.py").read_text(encoding="utf-8")
    return (
        text.replace('SERVER = ""', f"SERVER = {server.rstrip('/')!r}", 1).replace(
            'SECRET = ""', f"SECRET = {secret!r}", 1
        )
        if server or secret
        else text
    )


def start_line(server: str, secret: str, refused: str = "") -> str:
    """The script behind the line that a technician types: it fetches the probe and starts it, or says what is in the
    way. `refused`: why this code does not lead to a probe."""
    text = (resources.files("gatecheck.probe") / "start.sh").read_text(encoding="utf-8")
    server = _unquoted(server.rstrip("/"))
    return (
        text.replace("@ADDRESS@", f"{server}/p/{_unquoted(secret)}")
        .replace("@SERVER@", server)
        .replace("@REFUSED@", _unquoted(refused))
    )


def _unquoted(text: str) -> str:
    """What stands between quotation marks of a shell must not end them."""
    return re.sub(r"[^\w .,:;/+@\[\]()-]", "_", text)
