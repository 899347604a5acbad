"""The manifest of a capture file (docs/capture-format.md): what was read, how, and what could not be."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Listed:
    """What a capture's manifest says of one page. `status`: ok, refused, failed, hung, skipped."""

    status: str
    detail: str
    sha256: str | None


_MOST_LISTED = 4000


def read_manifest(files: Mapping[str, bytes]) -> dict[str, Listed]:
    """What `manifest.json` lists, by path; what is not as it should be in it is left out. Without one: nothing."""
    try:
        pages = json.loads(files.get("manifest.json", b"{}")).get("pages", [])
    except (ValueError, AttributeError, RecursionError):
        return {}
    found = {}
    for page in pages[:_MOST_LISTED] if isinstance(pages, list) else []:
        if isinstance(page, dict) and isinstance(page.get("path"), str) and is_plain_path(page["path"]):
            digest = page.get("sha256")
            found[page["path"]] = Listed(str(page.get("status", "ok"))[:20], str(page.get("detail", ""))[:200], digest if isinstance(digest, str) else None)
    return found


def is_plain_path(path: str) -> bool:
    """A relative name of plain parts: nothing that climbs, nothing that a file system would read in a way of its own."""
    return len(path) <= 200 and bool(_PLAIN_PATH.fullmatch(path))


_PLAIN_PATH = re.compile(r"(?!\.\.?(?:/|$))[\w.+ -]+(?:/(?!\.\.?(?:/|$))[\w.+ -]+)*")
