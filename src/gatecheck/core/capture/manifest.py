"""The manifest of a capture file (docs/capture-format.md), written and read: what was read, how, and what could not
be."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

FORMAT = 1
NAME = "manifest.json"
LINE = ("path", "kind", "device", "how", "status", "detail", "sha256")
"""keys of a page's line, as written"""
_MOST_FACTS, _LONGEST_FACT = 100, 400


@dataclass(frozen=True, slots=True)
class Listed:
    """What a capture's manifest says of one page. `status`: ok, refused, failed, hung, skipped."""

    status: str
    detail: str
    sha256: str | None
    how: str = ""


@dataclass(frozen=True, slots=True)
class Manifest:
    """`pages`: what is listed, by path; `machine`: what the machine called itself."""

    pages: Mapping[str, Listed] = field(default_factory=dict)
    machine: Mapping[str, str] = field(default_factory=dict)


_MOST_LISTED = 4000


def write_manifest(pages: Iterable[Mapping[str, object]], *, probe: str, machine: Mapping[str, str]) -> bytes:
    """The manifest of these pages, each a line with the keys of `LINE` (and perhaps more, which are left out)."""
    lines = [{key: page.get(key) for key in LINE if key in page} for page in pages]
    return json.dumps({"format": FORMAT, "probe": probe, "machine": dict(machine), "pages": lines}, indent=1).encode()


def read_manifest(files: Mapping[str, bytes]) -> Manifest:
    """What `manifest.json` says; what is not as it should be in it is left out. Without one: nothing."""
    try:
        said = json.loads(files.get(NAME, b"{}"))
        pages, machine = said.get("pages", []), said.get("machine", {})
    except (ValueError, AttributeError, RecursionError):
        return Manifest()
    facts = list(machine.items())[:_MOST_FACTS] if isinstance(machine, dict) else []
    return Manifest(
        _listed(pages), {_text(k, _LONGEST_FACT): _text(v, _LONGEST_FACT) for k, v in facts if isinstance(v, str)}
    )


def _text(value: object, longest: int) -> str:
    """Text that can be written: half a letter of UTF-16 becomes a question mark."""
    return str(value)[:longest].encode("utf-8", "replace").decode("utf-8")


def _listed(pages: object) -> dict[str, Listed]:
    found = {}
    for page in pages[:_MOST_LISTED] if isinstance(pages, list) else []:
        if isinstance(page, dict) and isinstance(page.get("path"), str) and is_plain_path(page["path"]):
            digest = page.get("sha256")
            texts = _text(page.get("status", "ok"), 20), _text(page.get("detail", ""), 200)
            found[page["path"]] = Listed(
                *texts, _text(digest, 80) if isinstance(digest, str) else None, _text(page.get("how", ""), 1200)
            )
    return found


def is_plain_path(path: str) -> bool:
    """A relative name of plain parts: nothing that climbs, nothing that a file system would read in a way of its
    own."""
    return len(path) <= 200 and bool(_PLAIN_PATH.fullmatch(path))


_PLAIN_PATH = re.compile(r"(?!\.\.?(?:/|$))[\w.+ -]+(?:/(?!\.\.?(?:/|$))[\w.+ -]+)*")
