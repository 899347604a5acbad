"""What the probe pushed, as a capture file."""

from __future__ import annotations

import hashlib
import io
import zipfile
import zlib
from typing import Any

from gatecheck.adapters.capture_files import LARGEST_PAGE
from gatecheck.core.capture.manifest import NAME, write_manifest
from gatecheck.core.scan.map_page import repacked
from gatecheck.store.links import Session

_SAFE_RATIO = 100


def capture_of(session: Session, pages: list[tuple[dict[str, Any], bytes]], order: str = "") -> bytes:
    """The pages as a capture file, the same bytes for the same pages. `order`: of one that has to stay a file of its
    own, though another has read the same: what was written, taken back and written again is there three times."""
    newest = {line["path"]: (line, data) for line, data in pages if line["kind"] != "read-map"}
    pieces = [(line, data) for line, data in pages if line["kind"] == "read-map"]
    if pieces:  # the pieces of a map become one page
        whole, first = repacked(b"".join(data for _, data in pieces)), pieces[0][0]
        line = {**first, "path": f"{first['device']}/surface.gcm", "sha256": hashlib.sha256(whole).hexdigest()}
        if len(whole) <= LARGEST_PAGE:
            newest[line["path"]] = (line, whole)
        else:
            newest[line["path"]] = (
                {
                    **line,
                    "status": "skipped",
                    "detail": f"the map takes more than {LARGEST_PAGE >> 20} MiB",
                    "sha256": None,
                },
                b"",
            )
    manifest = write_manifest(
        [line for line, _ in newest.values()],
        probe=session.probe,
        machine={**session.machine, "order": order} if order else session.machine,
    )
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        members = {NAME: manifest} | {path: data for path, (line, data) in newest.items() if line["status"] == "ok"}
        for path, data in members.items():
            # what packs too well looks like a bomb to whoever opens it: nothing is accepted that cannot be read
            entry = zipfile.ZipInfo(path)
            entry.compress_type = (
                zipfile.ZIP_DEFLATED if len(zlib.compress(data, 1)) * _SAFE_RATIO > len(data) else zipfile.ZIP_STORED
            )
            archive.writestr(entry, data)
    return buffer.getvalue()
