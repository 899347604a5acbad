"""What a legacy firmware does with a disk: it runs the first sector if that is signed; all else is up to the code that
stands there.

Known code is followed: one that looks for the active partition and runs its boot sector, one that ignores the table and
reads a second stage from where it was told, boot sectors of volumes. Code that is not known is believed to start what
it was made for, and said to be unknown."""

from __future__ import annotations

from gatecheck.core.disk.gpt import read_gpt
from gatecheck.core.disk.grub import grub_stop, legacy_script_stop
from gatecheck.core.disk.grub_image import grub_image, has_spare_parity, is_packed_core, unpacked_core
from gatecheck.core.disk.second_stage import OpenVolumes, syslinux_stop
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.stage_file import LIBRARY, LIBRARY_FOLDERS, MARK, stage_file
from gatecheck.core.disk.walk import Stop, Walk
from gatecheck.core.errors import DecodeError

_ENCRYPTED = b"-FVE-FS-"
_SIGNATURE = b"\x55\xaa"
_CONFIGS = (
    "boot/syslinux/extlinux.conf",
    "boot/syslinux/syslinux.cfg",
    "boot/extlinux/extlinux.conf",
    "boot/extlinux.conf",
    "syslinux/extlinux.conf",
    "syslinux/syslinux.cfg",
    "extlinux/extlinux.conf",
    "extlinux.conf",
    "syslinux.cfg",
    "isolinux/isolinux.cfg",
)
_SCRIPTS = ("boot/grub/grub.cfg", "grub/grub.cfg", "boot/grub2/grub.cfg", "grub2/grub.cfg")
_NO_START = {"none": "mbr-no-code", "junk": "code-junk", "says-no": "code-says-no-system"}
_JUNK_VALUES, _MOST_ZEROS = 175, 48
_STAGE_AT, _LIST_AT = 0x5C, 0x1F4
NUMBER_AT, _LEGACY = 439, 4
_FOLLOWS_TABLE = (
    b"Missing operating system",
    b"Operating system load error",
    b"Invalid partition table",
    b"Error loading operating system",
    b"No active partition",
)
_NO_SYSTEM = (b"This is not a bootable disk", b"Non-System disk", b"not bootable")


def start_legacy(disk: Sectors, walk: Walk) -> bool:
    """True where the walk ends in a system's own code."""
    start = disk.read(0, 1)
    walk.step("first-sector")
    if start.missing:
        walk.stop("layout", "start-unreadable", "LBA 0")
        return False
    sector = start.data[:512]
    if sector[510:512] != _SIGNATURE:
        walk.stop("layout", "mbr-unsigned", "LBA 0")
        return False
    use = first_sector_use(sector)
    if use in _NO_START:
        walk.stop("layout", _NO_START[use], "LBA 0")
        return False
    if use == "own" and b"GRUB" in sector and b"Geom" in sector:
        return _second_stage(disk, sector, walk)
    if use == "follows":
        return _follow_table(disk, sector, walk)
    walk.find("code-unknown", "layout", "LBA 0")
    walk.step("own-code", where="LBA 0")
    return True


def first_sector_use(sector: bytes) -> str:
    """What the first sector's code does: none (there is none), junk, says-no, follows (the table), own (anything
    else)."""
    if len(set(sector[:440])) < 2:
        return "none"
    if any(mark in sector for mark in _NO_SYSTEM):
        return "says-no"
    if b"GRUB" in sector and b"Geom" in sector:
        return "own"
    if any(mark in sector for mark in _FOLLOWS_TABLE):
        return "follows"
    if _is_junk(sector[:440]):
        return "junk"
    return "follows" if _looks_for_active(sector) else "own"


def _is_junk(code: bytes) -> bool:
    """Bytes that are spread as no program's are: nearly every value there is, none of them often."""
    return len(set(code)) > _JUNK_VALUES


def boot_sector_starts(disk: Sectors, first: int) -> bool:
    """Would the boot sector there start something, by what can be told of it?"""
    return _boot_sector(disk, first, "", Walk())


def _looks_for_active(sector: bytes) -> bool:
    """Code that points at the table at 7BEh or 1BEh and compares with 80h."""
    return (b"\xbe\x07" in sector or b"\xbe\x01" in sector) and b"\x80" in sector[:446]


def _follow_table(disk: Sectors, sector: bytes, walk: Walk) -> bool:
    records = [sector[446 + 16 * n : 462 + 16 * n] for n in range(4)]
    told = sector[NUMBER_AT]
    if 1 <= told <= 4:  # code that was told which partition, whatever is active
        if not records[told - 1][4]:
            walk.stop("layout", "told-partition-missing", f"partition {told}")
            return False
        return _boot_sector(disk, int.from_bytes(records[told - 1][8:12], "little"), f"partition {told}", walk)
    active = [(n + 1, r) for n, r in enumerate(records) if r[0] & 0x80]
    if not active and any(r[4] == 0xEE for r in records):
        return _follow_gpt(disk, walk)
    if not active:
        walk.stop("layout", "no-active-partition", "LBA 0")
        return False
    if len(active) > 1:
        walk.stop("layout", "several-active-partitions", ", ".join(f"partition {n}" for n, _ in active))
        return False
    number, record = active[0]
    first = int.from_bytes(record[8:12], "little")
    return _boot_sector(disk, first, f"partition {number}", walk)


def _follow_gpt(disk: Sectors, walk: Walk) -> bool:
    """Code that looks for the partition of a GPT that is marked as the one to start in legacy mode (UEFI 2.10, table
    5.8, bit 2)."""
    try:
        table = read_gpt(disk)
    except DecodeError:
        walk.stop("layout", "gpt-both-broken", "LBA 1")
        return False
    marked = [p for p in table.partitions if p.attributes & _LEGACY]
    if not marked:
        walk.stop("layout", "no-active-partition", "LBA 0")
        return False
    return _boot_sector(disk, marked[0].first, f"partition {marked[0].number}", walk)


def _boot_sector(disk: Sectors, first: int, where: str, walk: Walk) -> bool:
    walk.step("boot-sector", where=where, lba=first)
    span = disk.read(first, 1)
    if not first or span.missing:
        walk.stop("loader", "boot-sector-unreadable", f"{where}, LBA {first}")
        return False
    sector = span.data[:512]
    if sector[510:512] != _SIGNATURE:
        walk.stop("loader", "boot-sector-unsigned", f"{where}, LBA {first}")
        return False
    if sector[3:11] == _ENCRYPTED:
        walk.stop("loader", "boot-sector-encrypted", where)
        return False
    if any(mark in sector for mark in _NO_SYSTEM):
        walk.stop("loader", "boot-sector-no-system", where)
        return False
    if not _has_code(sector):
        walk.stop("loader", "boot-sector-no-code", where)
        return False
    if b"GRUB" in sector and b"Geom" in sector:
        return _second_stage(disk, sector, walk)
    if _is_junk(sector[90:510]):
        walk.stop("loader", "code-junk", where)
        return False
    if b"SYSLINUX" in sector or b"EXTLINUX" in sector:
        if bytes(_MOST_ZEROS) in sector[62:506]:
            walk.stop("loader", "boot-sector-code-cut", where)
            return False
        return _named_stage(disk, first, where, "ldlinux.sys", walk)
    walk.find("code-unknown", "layout", where)
    walk.step("own-code", where=where)
    return True


def _has_code(sector: bytes) -> bool:
    """Something stands where the first jump leads, or at the start where there is none."""
    at = 2 + sector[1] if sector[0] == 0xEB else 3 + int.from_bytes(sector[1:3], "little") if sector[0] == 0xE9 else 0
    return at < 510 and len(set(sector[at:510])) > 1


def _named_stage(disk: Sectors, first: int, where: str, name: str, walk: Walk) -> bool:
    walk.step("tries", where=where, file=name)
    boot = disk.read(first, 1).data[:512]
    named = {int.from_bytes(boot[at : at + 4], "little") for at in range(62, 506)}
    stages = [
        (base, lba + base)
        for lba in sorted(named)
        if 0 < lba < (disk.length or 0)
        for base in sorted({0, first})
        if lba + base < (disk.length or 0) and MARK in disk.read(lba + base, 1).data
    ]
    if not stages:
        walk.stop("loader", "second-stage-missing", f"{where}: {name}")
        return False
    stage = stage_file(disk, *stages[0])
    if stage.whole is False:
        walk.stop("loader", "second-stage-broken", f"{where}: {name}")
        return False
    found = OpenVolumes(disk)
    number = found.number_at(first)
    if found.opened(number) is None:
        return True  # a file system that has no reader: its own code knows it
    if stage.has_library and not any(
        found.find(number, f"{folder}/{LIBRARY}".strip("/")) for folder in (stage.folder, *LIBRARY_FOLDERS)
    ):
        walk.stop("loader", "second-stage-library-missing", f"{where}: {LIBRARY}")
        return False
    try:
        stop = syslinux_stop(found, number, walk, _CONFIGS)
    except DecodeError as error:
        stop = Stop("loader", "configuration-unread", f"{where}: {error}")
    if stop is not None:
        walk.stop(stop.gate, stop.id, stop.where)
    return stop is None


def _second_stage(disk: Sectors, sector: bytes, walk: Walk) -> bool:
    """Code that ignores the table: its first second-stage sector, then the list of runs at that one's end."""
    at = int.from_bytes(sector[_STAGE_AT : _STAGE_AT + 8], "little")
    walk.step("second-stage", lba=at)
    span = disk.read(at, 1) if at else None
    if span is None or span.missing or not any(span.data[:512]):
        walk.stop("loader", "second-stage-missing", f"LBA {at}")
        return False
    entry = span.data[_LIST_AT : _LIST_AT + 12]
    first, count = int.from_bytes(entry[:8], "little"), int.from_bytes(entry[8:10], "little")
    runs = disk.read(first, min(count, 512)) if first and count else None
    if runs is None or runs.missing or not any(runs.data[:512]):
        walk.stop("loader", "second-stage-missing", f"LBA {first}")
        return False
    walk.step("second-stage-rest", lba=first, count=count)
    packed = _core(disk, span.data[:512])
    core = unpacked_core(packed)
    image = grub_image(core) if core else None
    if (image is None and is_packed_core(packed)) or (image is not None and not image.whole):
        if not has_spare_parity(packed):
            walk.stop("loader", "second-stage-broken", f"LBA {first}")
            return False
        walk.find("second-stage-broken", "loader", f"LBA {first}")  # it mends itself as it starts, as far as that goes
        image = None
    if image is None:
        return _script(disk, walk)
    stop = grub_stop(image, OpenVolumes(disk), 0, walk, lambda _number, _path: None)
    if stop is not None:
        walk.stop(stop.gate, stop.id, stop.where)
    return stop is None


def _core(disk: Sectors, sector: bytes) -> bytes:
    """The sectors that the runs at a first second-stage sector's end name, from the last entry downwards; empty where
    one is missing."""
    parts: list[bytes] = []
    for at in range(_LIST_AT, 0x100, -12):
        first, count = int.from_bytes(sector[at : at + 8], "little"), int.from_bytes(sector[at + 8 : at + 10], "little")
        if not count:
            break
        span = disk.read(first, min(count, 1 << 16))
        if span.missing:
            return b""
        parts.append(span.data)
    return b"".join(parts)


def _script(disk: Sectors, walk: Walk) -> bool:
    """Its script, by where that always stands: which volume it asks cannot be told from its packed second stage."""
    found = OpenVolumes(disk)
    opened = False
    for number, volume in found.all():
        opened = True
        for place in _SCRIPTS:
            if volume.find(place):
                stop = legacy_script_stop(found, number, place, walk)
                if stop is not None:
                    walk.stop(stop.gate, stop.id, stop.where)
                return stop is None
    if opened:
        walk.stop("loader", "configuration-missing", "boot/grub/grub.cfg")
    return not opened
