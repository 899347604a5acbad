"""A whole capture as one document: its drives and its firmware."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict

from gatecheck.core.firmware.captured import firmware_document, is_firmware_page, read_firmware
from gatecheck.core.storage.capture import Capture
from gatecheck.core.storage.report import capture_document

Json = dict[str, object]


def read_document(files: Mapping[str, bytes], capture: Capture) -> Json:
    """`identity`, `pages`, `findings`, `devices` of the drives, and `firmware` where the capture has such pages."""
    said = capture_document(capture)
    firmware = read_firmware(files)
    if firmware is None:
        return {**said, "firmware": None}
    pages, findings = said["pages"], said["findings"]
    assert isinstance(pages, list)
    assert isinstance(findings, list)
    for page in pages:
        if is_firmware_page(page["path"]):
            error = firmware.broken.get(page["path"])
            page.update(status="broken" if error else "decoded", decoded=error is None, detail=str(error or ""))
    own = [{"device": "firmware", **asdict(f)} for f in firmware.findings]
    return {**said, "findings": [*findings, *own], "firmware": firmware_document(firmware)}
