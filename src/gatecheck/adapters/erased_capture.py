"""A capture without its customer: the drives' own pages and what the kernel lists stay, sectors of the medium, messages
and variables go."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile

from gatecheck.adapters.capture_files import pages_of
from gatecheck.core.capture.kinds import DRIVE, kind_of
from gatecheck.core.capture.manifest import NAME, is_plain_path, write_manifest
from gatecheck.core.errors import InputError

_STAYS = ("block-device", "block-devices", "machine-state", "pci-devices", "read-map")


def without_customer(name: str, data: bytes) -> bytes | None:
    """What stays of a file of a ticket; the same bytes where nothing of it goes, None where nothing stays."""
    try:
        pages = pages_of(name, data)
    except InputError:
        return None
    own = {path: page for path, page in pages.items() if path != NAME and _stays(path, page)}
    if NAME not in pages and len(own) == len(pages):
        return data
    if not own:
        return None
    return _packed(pages.get(NAME, b"{}"), own)


def _stays(path: str, page: bytes) -> bool:
    kind = kind_of(path, page)
    return kind is not None and (kind.id in _STAYS or kind.scope == DRIVE)


def _packed(manifest: bytes, own: dict[str, bytes]) -> bytes:
    try:
        said = json.loads(manifest)
        lines, machine = said.get("pages", []), said.get("machine", {})
    except (ValueError, AttributeError, RecursionError):
        said, lines, machine = {}, [], {}
    told = {
        str(line["path"]): line
        for line in lines
        if isinstance(line, dict) and isinstance(line.get("path"), str) and is_plain_path(line["path"])
    }
    kept = [
        {
            **told.get(path, {"kind": "", "device": "", "how": "", "status": "ok", "detail": ""}),
            "path": path,
            "sha256": hashlib.sha256(page).hexdigest(),
        }
        for path, page in own.items()
    ]
    gone = [
        {**line, "how": "", "status": "skipped", "detail": "erased", "sha256": None}
        for path, line in told.items()
        if path not in own and not _names_somebody(path)
    ]
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        facts = {k: v for k, v in machine.items() if isinstance(v, str)} if isinstance(machine, dict) else {}
        archive.writestr(
            zipfile.ZipInfo(NAME),
            write_manifest(
                [*kept, *gone], probe=str(said.get("probe", "")) if isinstance(said, dict) else "", machine=facts
            ),
        )
        for path, page in own.items():
            entry = zipfile.ZipInfo(path)
            entry.compress_type = zipfile.ZIP_STORED
            archive.writestr(entry, page)
    return buffer.getvalue()


def _names_somebody(path: str) -> bool:
    """A variable's page is called by the variable's name, whatever that is."""
    return "efivars/" in path
