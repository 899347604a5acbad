"""The kernel's messages -> what they say of a drive, and of the machine. Only what the kernel says plainly is a
finding.

Sources: Linux block/blk-core.c (what a failed request is called), drivers/ata/libata-eh.c, drivers/nvme/host,
drivers/mmc/core, block/partitions/efi.c."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field

from gatecheck.core.findings import CONNECTION, NOTE, PHYSICAL, READING, SIGN, Finding

PAGE = "kernel-messages"
_MOST_LINES, _LONGEST = 8_000, 400
_MOST_NAMED = 8
_OF_A_DISK = re.compile(r"\b(sd[a-z]+|vd[a-z]+|nvme\d+n\d+|mmcblk\d+)(?:p?\d+)?\b")
_MEDIUM = re.compile(r"critical medium error, dev (\w+), sector (\d+)")
_ATTACHED = re.compile(r"\[(sd[a-z]+)\] \d+ \d+-byte (?:logical|hardware) |\b(mmcblk\d+): mmc\d+:[0-9a-f]+ ")
"""a disk gets its name: what was said of that name before was of another one"""
_FAILED = re.compile(r"I/O error, dev (\w+), (?:logical block|sector) (\d+)")
_LINK = re.compile(
    r"\b(ata\d+)(?:\.\d+)?: .*(BadCRC|10B8B|limiting SATA link speed|hard resetting link|link is slow to respond)"
)
_CRC = ("BadCRC", "10B8B", "limiting SATA link speed")
_NOT_READY = re.compile(
    r"\b(ata\d+|nvme\d+|mmc\d+|nvme nvme\d+): .*?(COMRESET failed|Device not ready|not ready; aborting|controller "
    r"is "
    r"down|error -110 whilst initiali[sz]ing|Removing after probe failure)"
)
_TABLE = re.compile(r"\bGPT:\s*(.*(?:Primary|Alternate|alternate|backup|corrupt).*)", re.I)
_VOLUME = re.compile(
    (
        r"(?:EXT4-fs (?:error|warning)|ntfs3|BTRFS(?:: error| error)|XFS|FAT-fs).*?\(?(?:device "
        r")?\b((?:sd[a-z]+|nvme\d+n\d+p|mmcblk\d+p|vd[a-z]+)\d+)\b.*"
    ),
    re.I,
)
_MEMORY = re.compile(r"mce:.*(?:Hardware Error|Machine check)|\[Hardware Error\]|EDAC.*\b[CU]E\b|Memory failure", re.I)
_PCI = re.compile(r"AER: .*error|PCIe Bus Error", re.I)


@dataclass(frozen=True, slots=True)
class Told:
    """What the kernel's messages say. `unreadable`: disk -> sectors of 512 bytes that its drive could not read;
    `failed`: disk -> requests that failed for whatever reason; `link`: port -> lines about lost bits; `silent`: what is
    there and never got ready; `tables`, `volumes`: lines; `memory`, `bus`: how many lines report errors of memory or
    processor, and of the PCI bus."""

    unreadable: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    failed: Mapping[str, int] = field(default_factory=dict)
    link: Mapping[str, int] = field(default_factory=dict)
    silent: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    volumes: Mapping[str, str] = field(default_factory=dict)
    memory: int = 0
    bus: int = 0


def told_by(lines: Iterable[str]) -> Told:
    """Read the messages. Lines that say nothing plain are left out."""
    unreadable: dict[str, set[int]] = {}
    failed: dict[str, int] = {}
    link: dict[str, int] = {}
    silent: dict[str, None] = {}
    tables: dict[str, None] = {}
    volumes: dict[str, str] = {}
    memory = bus = 0
    for place, line in enumerate(lines):
        if place >= _MOST_LINES:
            break
        line = line[:_LONGEST]
        attached = _ATTACHED.search(line)
        if attached:
            name = attached[1] or attached[2]
            unreadable.pop(name, None)
            failed.pop(name, None)
            for volume in [v for v in volumes if v.startswith(name)]:
                del volumes[volume]
        medium, request = _MEDIUM.search(line), _FAILED.search(line)
        if medium and len(medium[2]) < 20:
            unreadable.setdefault(medium[1], set()).add(int(medium[2]))
        elif request:
            failed[request[1]] = failed.get(request[1], 0) + 1
        port, late = _LINK.search(line), _NOT_READY.search(line)
        if port and port[2] in _CRC:
            link[port[1]] = link.get(port[1], 0) + 1
        if late:
            silent.setdefault(late[1].split()[-1])
        table, named = _TABLE.search(line), _VOLUME.search(line)
        if table:
            tables.setdefault(table[1].strip()[:120])
        if named:
            volumes.setdefault(named[1], named[0][:160])
        memory += bool(_MEMORY.search(line))
        bus += bool(_PCI.search(line))
    return Told(
        {disk: tuple(sorted(found)) for disk, found in unreadable.items()},
        failed,
        link,
        tuple(silent),
        tuple(tables),
        volumes,
        memory,
        bus,
    )


def judge_drive(told: Told, names: Collection[str], port: str | None, sector: int = 512) -> Iterable[Finding]:
    """What they say of one drive. `names`: what the kernel calls its disks; `port`: the ATA port that it hangs on;
    `sector`: bytes of its sectors, for the kernel counts in 512."""
    sectors = sorted({lba * 512 // sector for name in names for lba in told.unreadable.get(name, ())})
    if sectors:
        yield Finding(
            "kernel-unreadable", PHYSICAL, SIGN, PAGE, None, {"count": len(sectors), "lbas": sectors[:_MOST_NAMED]}
        )
    failed = sum(told.failed.get(name, 0) for name in names)
    if failed and not sectors:
        yield Finding("kernel-failed", READING, NOTE, PAGE, None, {"count": failed})
    if port and told.link.get(port):
        yield Finding(
            "kernel-link", CONNECTION, SIGN if told.link[port] > 1 else NOTE, PAGE, None, {"count": told.link[port]}
        )
    for volume, line in told.volumes.items():
        match = _OF_A_DISK.match(volume)
        if match and match[1] in names:
            yield Finding("kernel-volume", READING, NOTE, PAGE, None, {"volume": volume, "line": line})


def judge_machine(told: Told, listed: Collection[str]) -> Iterable[Finding]:
    """What they say of the machine. `listed`: ports and controllers that a drive was found on."""
    for name in told.silent:
        if name not in listed:
            yield Finding("kernel-never-ready", CONNECTION, SIGN, PAGE, None, {"name": name})
    for line in told.tables:
        yield Finding("kernel-table", READING, NOTE, PAGE, None, {"line": line})
    if told.memory:
        yield Finding("kernel-memory", PHYSICAL, SIGN, PAGE, None, {"count": told.memory})
    if told.bus:
        yield Finding("kernel-bus", CONNECTION, NOTE, PAGE, None, {"count": told.bus})
