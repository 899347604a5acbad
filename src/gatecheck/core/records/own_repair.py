"""The trail of an installed Windows' own repair, read by its shape alone, for it is written in the system's language:
blocks below a line of dashes, a count of attempts in the first one, a code behind each test and action."""

from __future__ import annotations

import re
from dataclasses import dataclass

from gatecheck.core.records.source import Files

PATH = "Windows/System32/LogFiles/Srt/SrtTrail.txt"
_LARGEST = 4 << 20
_BELOW = re.compile(r"^\s*-{8,}\s*$")
_CODE = re.compile(r"=\s*0x([0-9A-Fa-f]{1,8})\b")
_COUNT = re.compile(r"^[^:=]+:\s*(\d{1,4})\s*$")
_DEVICE = re.compile(r"=\s*\\Device\\Harddisk\d", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class OwnRepair:
    """attempts: as it counts them, None where it does not say; sessions: how often it is recorded; tests: tests and
    actions with a result in the last session; failed: codes of those of them that did not end well."""

    path: str
    attempts: int | None
    sessions: int
    tests: int
    failed: tuple[str, ...]


def read_own_repair(files: Files, root: str) -> OwnRepair | None:
    """None where it left no trail, or one that has not this shape."""
    path = "/".join(part for part in (root, PATH) if part)
    raw = files.read(path)
    if raw is None or len(raw[0]) > _LARGEST:
        return None
    text = raw[0].decode("utf-16" if raw[0][:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8", "replace")
    blocks = _blocks(text.splitlines())
    begins = [n for n, block in enumerate(blocks) if any(_DEVICE.search(line) for line in block)]
    if not begins:
        return None
    head = [line for block in blocks[: begins[0]] for line in block]
    counts = [int(found[1]) for line in head if (found := _COUNT.match(line))]
    codes = [found[1] for block in blocks[begins[-1] :] for line in block if (found := _CODE.search(line))]
    bad = tuple(f"0x{int(code, 16):X}" for code in codes if int(code, 16))
    return OwnRepair(path, counts[-1] if counts else None, len(begins), len(codes), bad)


def _blocks(lines: list[str]) -> list[list[str]]:
    """Lines below each line of dashes, up to the heading of the next."""
    out: list[list[str]] = [[]]
    for number, line in enumerate(lines):
        if _BELOW.match(line):
            if out[-1] and number:
                out[-1].pop()  # the heading stands above its line
            out.append([])
        elif line.strip():
            out[-1].append(line.strip())
    return out
