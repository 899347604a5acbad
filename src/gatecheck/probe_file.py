"""The probe as text: as it ships, or with the bench's address and a ticket's secret filled in."""

from __future__ import annotations

from importlib import resources


def probe_with(server: str = "", secret: str = "") -> str:
    """The one file that runs on the sick machine."""
    text = (resources.files("gatecheck.probe") / "gatecheck_probe.py").read_text(encoding="utf-8")
    return text.replace('SERVER = ""', f"SERVER = {server.rstrip('/')!r}", 1).replace('SECRET = ""', f"SECRET = {secret!r}", 1) if server or secret else text
