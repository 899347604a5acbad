"""The second stage of the SYSLINUX family as its boot sector loads it: by the runs of sectors that its first sector
names, and held to its own sum.

SYSLINUX 6, libinstaller/syslxint.h (patch_area, ext_patch_area) and diskstart.inc: the double words of the whole stage
add up to its mark."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from gatecheck.core.disk.sectors import Sectors

MARK = b"\xfe\x02\xb2\x3e"
_WHOLE = 0x3EB202FE
_VERSION, _WITH_LIBRARY = re.compile(rb"LINUX (\d{1,2})\."), 5
_HEAD, _RUN, _MOST_SECTORS = 24, 10, 4096
LIBRARY = "ldlinux.c32"
LIBRARY_FOLDERS = ("boot/isolinux", "isolinux", "boot/syslinux", "syslinux", "")


@dataclass(frozen=True, slots=True)
class StageFile:
    """`whole`: its sum fits, None where it does not tell where its sectors are; `folder`: where it was installed."""

    whole: bool | None
    folder: str = ""
    has_library: bool = False


def stage_file(disk: Sectors, base: int, lba: int) -> StageFile:
    """`base`: LBA that its runs count from; `lba`: of its first sector, from the disk's start."""
    sector = disk.read(lba, 1).data[:512]
    at = sector.find(MARK)
    count, words = _number(sector, at + 8, 2), _number(sector, at + 12, 4)
    if at < 0 or not 1 < count <= _MOST_SECTORS or not 128 < words <= count * 128:
        return StageFile(None)
    damaged = False
    for place in range(at + _HEAD, 512 - _RUN):
        raw = _loaded(disk, base, sector, place, count)
        if raw is None:
            continue
        if int(np.frombuffer(raw[: words * 4], "<u4").sum(dtype=np.uint32)) == _WHOLE:
            extra = _number(raw, at + 22, 2)
            name, length = _number(raw, extra + 2, 2), _number(raw, extra + 4, 2)
            folder = raw[name : name + length].split(b"\0")[0].decode("utf-8", "replace").strip("/")
            version = _VERSION.search(raw[:512])
            return StageFile(True, folder, version is not None and int(version.group(1)) >= _WITH_LIBRARY)
        damaged = True
    return StageFile(False if damaged else None)


def _loaded(disk: Sectors, base: int, sector: bytes, place: int, count: int) -> bytes | None:
    """The stage by the runs that stand from `place` on, in its first sector and then in what was loaded; None where
    they do not add up to its sectors."""
    raw = sector
    while len(raw) < count * 512:
        first, length = _number(raw, place, 8), _number(raw, place + 8, 2)
        if len(raw) < place + _RUN or not first or not 0 < length <= count - len(raw) // 512:
            return None
        if first + base + length > (disk.length or 1 << 62):
            return None
        span = disk.read(first + base, length)
        if span.missing:
            return None
        raw += span.data
        place += _RUN
    return raw


def _number(raw: bytes, at: int, size: int) -> int:
    return int.from_bytes(raw[at : at + size], "little") if at >= 0 else 0
