"""One page of a capture: what it is, and what became of it. Never raises for damaged pages: one that cannot be read
says why."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from dataclasses import dataclass

from gatecheck.core.capture.kinds import PageFile, PageKind
from gatecheck.core.capture.manifest import Listed
from gatecheck.core.errors import DecodeError
from gatecheck.core.storage.layout import SECTOR
from gatecheck.core.storage.read import SmartStatus, is_blank
from gatecheck.core.words.said import Said, say

DECODED, EMPTY, REFUSED, FAILED, BROKEN, NO_KIND = "decoded", "empty", "refused", "failed", "broken", "unknown"
"""`failed`: there are no bytes, because a call never came back or went wrong; the manifest says how"""


@dataclass(frozen=True, slots=True)
class Page:
    """One file of a capture. `kind`: as in the table of kinds, or empty; `values` is set where it was decoded, `detail`
    where not."""

    path: str
    device: str
    kind: str
    status: str
    detail: Said | None
    values: object | None
    size: int


def unread_page(path: str, device: str, kind: PageKind | None, data: bytes, listed: Listed | None) -> Page | None:
    """A page that the manifest says was not read, or whose bytes are not the ones it lists; None for any other."""
    if listed is None:
        return None
    name = kind.id if kind else ""
    if listed.status != "ok":
        status = REFUSED if listed.status == "refused" else FAILED
        return Page(
            path,
            device,
            name,
            status,
            say("page.not-read", status=listed.status, detail=listed.detail),
            None,
            len(data),
        )
    if listed.sha256 and hashlib.sha256(data).hexdigest() != listed.sha256:
        return Page(path, device, name, BROKEN, say("page.other-bytes", sha256=listed.sha256[:12]), None, len(data))
    return None


def read_page(
    path: str, device: str, kind: PageKind | None, data: bytes, decoded: Mapping[str, object], how: str = ""
) -> Page:
    def page(status: str, detail: Said | None = None, values: object | None = None) -> Page:
        return Page(path, device, kind.id if kind else "", status, detail, values, len(data))

    refusal = _refusal(path)
    if refusal:
        return page(REFUSED, say("page.refused", status=refusal))
    if kind is None:
        return page(NO_KIND, say("page.unknown", count=len(data)))
    if len(data) >= SECTOR and is_blank(data) and not kind.blank:
        return page(EMPTY, say("page.empty-log" if kind.optional else "page.empty"))
    try:
        values = kind.read(PageFile(_true_path(path, how), data, decoded))
    except DecodeError as error:
        return page(BROKEN, say("page.broken", error=str(error)), error)
    if isinstance(values, SmartStatus) and values.refused:
        return page(REFUSED, say("page.bridge-refused", detail=values.detail), values)
    return page(DECODED, None, values)


def _true_path(path: str, how: str) -> str:
    """A page's path, with the name that a variable has on its machine: its file has a safer one. `how`: where the probe
    read it."""
    _, here, name = how.rpartition("/efivars/")
    return f"efivars/{name}" if here and name and "/" not in name and path.startswith("efivars/") else path


def _refusal(path: str) -> str | None:
    """NVMe completion status from a name such as `log-06.r16386.bin`; 0 is success."""
    match = re.search(r"\.r(\d{1,6})\.", path)
    return f"{int(match[1]):04X}h" if match and int(match[1]) else None
