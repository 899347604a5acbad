"""A whole capture as one document: its drives and its firmware."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict

from gatecheck.core.disk.gpt import read_gpt
from gatecheck.core.disk.mbr import disk_layout, read_mbr
from gatecheck.core.disk.volume import volume_of
from gatecheck.core.firmware.captured import firmware_document, is_firmware_page, read_firmware
from gatecheck.core.storage.capture import Capture
from gatecheck.core.storage.report import capture_document

Json = dict[str, object]
_START = re.compile(r"(?:^|/)lba0[^/]*$")
_PARTITION = re.compile(r"(?:^|/)part(\d+)[^/]*$")


def is_disk_start(path: str) -> bool:
    """True for the first sectors of a disk."""
    return bool(_START.search(path))


def is_partition_start(path: str) -> bool:
    """True for the first sectors of a partition."""
    return bool(_PARTITION.search(path))


def _volume(page: Json, start: bytes) -> Json:
    """What lives in a partition; marks its page as decoded where its mark is known."""
    volume = volume_of(start)
    page.update(status="decoded" if volume else "empty", decoded=volume is not None, detail="" if volume else "no known file system's mark")
    number = _PARTITION.search(str(page["path"]))
    return {"device": page["device"], "partition": int(number[1]) if number else None, "volume": asdict(volume) if volume else None}


def _disk(page: Json, start: bytes) -> Json:
    """How a disk is divided; marks its page as decoded where it carries a table."""
    layout = disk_layout(start)
    partitions: list[Json] = []
    if layout == "gpt":
        partitions = [asdict(p) for p in read_gpt(start).partitions]
    elif layout == "mbr":
        partitions = [asdict(p) for p in read_mbr(start).partitions]
    page.update(status="decoded" if layout else "empty", decoded=layout is not None, detail="" if layout else "no partition table in it")
    return {"device": page["device"], "layout": layout, "partitions": partitions}


def read_document(files: Mapping[str, bytes], capture: Capture) -> Json:
    """`identity`, `pages`, `findings`, `devices` of the drives, and `firmware` where the capture has such pages."""
    said = capture_document(capture)
    pages, findings = said["pages"], said["findings"]
    assert isinstance(pages, list)
    assert isinstance(findings, list)
    said["disks"] = [_disk(page, files[page["path"]]) for page in pages if is_disk_start(page["path"]) and page["path"] in files]
    said["volumes"] = [_volume(page, files[page["path"]]) for page in pages if is_partition_start(page["path"]) and page["path"] in files]
    firmware = read_firmware(files)
    if firmware is None:
        return {**said, "firmware": None}
    for page in pages:
        if is_firmware_page(page["path"]):
            error = firmware.broken.get(page["path"])
            page.update(status="broken" if error else "decoded", decoded=error is None, detail=str(error or ""))
    own = [{"device": "firmware", **asdict(f)} for f in firmware.findings]
    return {**said, "findings": [*findings, *own], "firmware": firmware_document(firmware)}
