"""Sectors that could not be read are named for what stands in them."""

from __future__ import annotations

import pytest

from gatecheck.core.disk.encode import gpt_start, mbr_start
from gatecheck.core.disk.gpt import EFI_SYSTEM
from gatecheck.core.disk.judge import judge_unreadable
from gatecheck.core.disk.mbr import layout_of
from gatecheck.core.disk.sectors import CapturedSectors

GUID = "6E0C2B7A-90D1-4F5B-9C43-0B7C61D2E8F4"
GPT = gpt_start(GUID, [(GUID, EFI_SYSTEM, 64, 128, "EFI system")], sectors=4096)
MBR = mbr_start([(7, True, 64, 1024)]) + bytes(33 * 512)

# what is on the disk, unreadable LBAs, layout that is still told, findings
CASES = [
    (GPT, (0,), "gpt", ["lba0-unreadable"]),
    (GPT, (1,), None, ["gpt-header-unreadable"]),
    (GPT, (0, 1), None, ["lba0-unreadable", "gpt-header-unreadable"]),
    (GPT, (4095,), "gpt", ["gpt-backup-unreadable"]),
    (GPT, (20, 21), "gpt", ["sectors-unreadable"]),
    (MBR, (0,), None, ["lba0-unreadable"]),
    (MBR, (1,), "mbr", ["sectors-unreadable"]),
    (MBR, (4095,), "mbr", ["sectors-unreadable"]),
]


@pytest.mark.parametrize(("start", "unreadable", "kind", "findings"), CASES)
def test_what_stands_in_them(start: bytes, unreadable: tuple[int, ...], kind: str | None, findings: list[str]) -> None:
    ranges = {lba: start[lba * 512 : lba * 512 + 512] for lba in range(34) if lba not in unreadable}
    disk = CapturedSectors(ranges, length=4096, unreadable=unreadable)
    layout = layout_of(disk)
    assert layout.kind == kind
    assert [f.id for f in judge_unreadable(disk, unreadable, layout, "sda")] == findings
    assert layout.kind or not layout.is_known, "a table that cannot be read is not a table that is gone"
