"""Sectors that could not be read -> findings: which of them every start needs, and how many others."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from gatecheck.core.disk.mbr import Layout
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.findings import PHYSICAL, SIGN, Finding

_MOST_NAMED = 8


def judge_unreadable(disk: Sectors, unreadable: Collection[int], layout: Layout, device: str) -> Iterable[Finding]:
    """What it means that these LBAs cannot be read. UEFI Specification 2.10, 5.2.1 (LBA 0), 5.3.2 (LBA 1, last LBA).
    `device`: the folder of its pages."""

    def page(lba: int) -> str:
        return f"{device}/lba{lba}.bin"

    left = set(unreadable)
    if 0 in left:
        yield Finding("lba0-unreadable", PHYSICAL, SIGN, page(0))
        left.discard(0)
    if 1 in left and layout.kind != "mbr":
        yield Finding("gpt-header-unreadable", PHYSICAL, SIGN, page(1))
        left.discard(1)
    if disk.length is not None and disk.length - 1 in left and layout.kind != "mbr":
        yield Finding("gpt-backup-unreadable", PHYSICAL, SIGN, page(disk.length - 1), values={"lba": disk.length - 1})
        left.discard(disk.length - 1)
    if left:
        yield Finding(
            "sectors-unreadable",
            PHYSICAL,
            SIGN,
            page(min(left)),
            values={"count": len(left), "lbas": sorted(left)[:_MOST_NAMED]},
        )
