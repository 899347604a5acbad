"""Volumes of practice machines: a system, its people and their files, hurt the way that happens at a counter. All names
and contents are made up."""

from __future__ import annotations

import plistlib
import random
import struct
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any
from uuid import UUID

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.volume.exfat.encode import exfat_volume
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.encode import BLOCK, ext_volume
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.hfsplus.encode import hfsplus_volume
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.encode import CLUSTER, SECTOR, ntfs_volume
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.ntfs.write import attribute_at
from gatecheck.core.volume.readers import open_volume
from gatecheck.practice.system_records import linux_records, mac_records, record_files

_VERSION = (10 << 16, 19045 << 16 | 3803)
_SYSTEM = ("winload.efi", "hal.dll", "ntdll.dll", "services.exe", "drivers/disk.sys", "drivers/ntfs.sys")
_FILLER = {
    "Ledger/archive 2019.bin": 9,
    "Ledger/archive 2022.bin": 14,
    "Ledger/index.bin": 2,
    "Atlas/maps of the coast.bin": 17,
    "Atlas/soundings.bin": 5,
}
"""programs' files that take so many hundredths of the volume and hold zeros"""
_PLACES = (
    "the quay",
    "garden",
    "choir",
    "first snow",
    "harvest fair",
    "old bridge",
    "lighthouse",
    "market",
    "grandmother's ninetieth",
    "boat house",
)
_LETTERS = (
    "Letter to the parish",
    "Minutes of the choir",
    "Insurance",
    "Recipes",
    "Garden plan",
    "Tax 2023",
    "Tax 2024",
    "Birthday list",
    "Contract for the boat",
    "Inventory",
)


def _picture(seed: int, size: int) -> bytes:
    return b"\xff\xd8\xff\xe0\0\x10JFIF\0" + random.Random(seed).randbytes(size)


def people_files(person: str, *, pictures: int, seed: int = 1) -> dict[str, bytes]:
    """What somebody has in their own folder."""
    own, chance = f"Users/{person}", random.Random(seed)
    found = {
        f"{own}/NTUSER.DAT": b"regf" + bytes(8188),
        f"{own}/Desktop/to do.txt": b"new tyres\r\npay the choir\r\n",
        f"{own}/Downloads/manual of the boiler.pdf": b"%PDF-1.7\n" + chance.randbytes(60_000),
    }
    found |= {
        f"{own}/Pictures/{2015 + n % 10}/{_PLACES[n % len(_PLACES)]} {n + 1:03d}.jpg": _picture(
            seed * 1000 + n, 60_000 + 4000 * (n % 17)
        )
        for n in range(pictures)
    }
    found |= {
        f"{own}/Documents/{name}.docx": b"PK\3\4" + chance.randbytes(9_000 + 700 * n) for n, name in enumerate(_LETTERS)
    }
    found |= {
        f"{own}/Documents/Mail/letters.pst": b"!BDN" + chance.randbytes(400_000),
        f"{own}/Videos/swallows in the barn.mp4": bytes(4) + b"ftypisom" + chance.randbytes(900_000),
    }
    return found


def system_files() -> dict[str, bytes]:
    """As far as a start needs them, and a look tells them by."""
    chance = random.Random(7)
    mark = bytes.fromhex("bd04effe") + struct.pack("<IIIII", 0x10000, *_VERSION, *_VERSION) + bytes(32)
    kernel = b"MZ" + chance.randbytes(90_000) + mark + chance.randbytes(30_000)
    found = {
        "Windows/System32/ntoskrnl.exe": kernel,
        **{f"Windows/System32/{name}": b"MZ" + chance.randbytes(24_000) for name in _SYSTEM},
    }
    found |= {
        f"Windows/System32/config/{name}": b"regf" + chance.randbytes(60_000)
        for name in ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")
    }
    return found | {f"Program Files/Ledger/part {n:02d}.dll": b"MZ" + chance.randbytes(12_000) for n in range(20)}


@lru_cache(8)
def _built(
    sectors: int, person: str, pictures: int, erased: bool, dirty: bool, records: str = ""
) -> Mapping[int, bytes]:
    own = people_files(person, pictures=pictures)
    gone = {
        path: data
        for path, data in own.items()
        if erased and path.startswith((f"Users/{person}/Pictures/2019", f"Users/{person}/Pictures/2021"))
    }
    kept = {path: data for path, data in own.items() if path not in gone}
    room = sectors * SECTOR // CLUSTER
    filler = {f"Program Files/{name}": room * share // 100 for name, share in _FILLER.items()}
    files = {**system_files(), **(record_files(records) if records else {}), **kept}
    return ntfs_volume(files, sectors=sectors, label="SYSTEM", dirty=dirty, deleted=gone, filler=filler)


def opened(content: Mapping[int, bytes], sectors: int) -> Ntfs:
    return Ntfs(CapturedSectors(content, length=sectors), 0, sectors - 1)


def sound_volume(
    sectors: int, person: str, *, pictures: int = 40, erased: bool = False, records: str = ""
) -> dict[int, bytes]:
    """A whole volume. `erased`: two folders of pictures were deleted; `records`: what its system has written down of
    itself (`record_files`)."""
    return dict(_built(sectors, person, pictures, erased, False, records))


def torn_volume(sectors: int, person: str, *, records: str = "") -> dict[int, bytes]:
    """A volume whose power went while it was being written: a folder's record half written, a list of names torn, the
    mirror behind, the map behind, not put away."""
    content = dict(_built(sectors, person, 40, False, True, records))
    own = opened(content, sectors)
    table = own._runs[0][1] * CLUSTER

    def record(path: str) -> int:
        node = own.find(path)
        assert node is not None
        return table + node.id * own.boot.record

    photo = own.find(f"Users/{person}/Pictures/2017/garden 002.jpg") or next(
        n for n in own.nodes() if n.path.endswith("002.jpg")
    )
    map_at = next(a for a in own.record(6).attributes if a.type == rec.DATA).runs[0][1] * CLUSTER
    first = own.runs(photo)[0].at
    assert first is not None
    cluster = first // CLUSTER
    _write(content, record(f"Users/{person}/Documents"), bytes(512))
    _write(content, record(f"Users/{person}/Desktop/to do.txt") + 510, b"\x31\x7a")
    _write(content, own.boot.mirror * CLUSTER + 3 * own.boot.record + 100, b"\0\0\0\0")
    _write(content, map_at + cluster // 8, b"\0")
    return content


def crossed_volume(sectors: int, person: str) -> dict[int, bytes]:
    """A volume whose first sector is gone, on which two pictures claim the same place, a name leads to a file that is
    none any more, and a count of links is wrong."""
    content = dict(_built(sectors, person, 40, False, False))
    own = opened(content, sectors)
    table, size = own._runs[0][1] * CLUSTER, own.boot.record

    def place(end: str) -> tuple[int, int]:
        """(where its record lies, its first cluster)."""
        node = next(n for n in own.nodes() if n.path.endswith(end))
        return table + node.id * size, (own.runs(node)[0].at or 0) // CLUSTER

    (one, _), (_, there) = place("011.jpg"), place("016.jpg")
    raw = bytearray(_read(content, one, size))
    data = next(a for a in own.record((one - table) // size).attributes if a.type == rec.DATA)
    runs = attribute_at(bytes(raw), rec.DATA, data.name, data.id) + 64
    width, after = raw[runs] >> 4, runs + 1 + (raw[runs] & 15)
    raw[after : after + width] = there.to_bytes(width, "little", signed=True)
    _write(content, one, bytes(raw))
    _write(content, place("Recipes.docx")[0] + 22, b"\0\0")
    _write(content, place("Insurance.docx")[0] + 18, b"\4\0")
    _write(content, 0, bytes(SECTOR))
    return content


def card_files(pictures: int) -> dict[str, bytes]:
    """What a camera writes."""
    return {
        f"DCIM/{100 + n // 40}QUARRY/QSP{n + 1:05d}.JPG": _picture(90_000 + n, 30_000 + 2000 * (n % 23))
        for n in range(pictures)
    }


def pulled_card(sectors: int) -> dict[int, bytes]:
    """exFAT, pulled while it was written: its map lacks a picture and has clusters that are nobody's, one picture's
    name has a hurt letter, of another's entries one is gone, the first of its boot regions is torn, it was not put
    away."""
    content = exfat_volume(card_files(90), sectors=sectors, label="HARBOUR", cluster_sectors=64)
    own = _of(ExFat, content, sectors)
    picture = next(n for n in own.nodes() if n.path.endswith("QSP00012.JPG"))
    cluster = ((own.runs(picture)[0].at or 0) - own.heap) // own.cluster
    bitmap = own.at(own.bitmap_cluster)
    held = _read(content, bitmap + cluster // 8, 1)[0]
    _write(content, bitmap + cluster // 8, bytes([held & ~(1 << cluster % 8)]))
    _write(content, bitmap + 400, b"\x0f")
    sets = {path.rpartition("/")[2]: own for own, path in own.walk()}
    _write(content, sets["QSP00030.JPG"].ats[2] + 8, b"q")
    _write(content, sets["QSP00071.JPG"].ats[1], b"\1")
    _write(content, 106, b"\2\0")
    _write(content, 3 * SECTOR + 510, b"\0\0")
    return content


def card_cross_linked(sectors: int) -> dict[int, bytes]:
    """FAT32: two pictures share their end, a chain is nobody's, and the two tables are not alike."""
    content = fat_volume(card_files(60), sectors=sectors, label="QUAY", cluster_sectors=64)
    own = _of(Fat, content, sectors)
    fat, second = own.volume.reserved * SECTOR, (own.volume.reserved + own.volume.fat_sectors) * SECTOR
    outer = next(slot for slot in own.slots(own.root) if slot.name == "DCIM").cluster(32)
    folders = [slot.cluster(32) for slot in own.slots(outer) if slot.is_folder and not slot.name.startswith(".")]
    slots = {slot.name: slot for folder in folders for slot in own.slots(folder)}

    def first(name: str) -> int:
        return int(slots[name].cluster(32))

    one, other = first("QSP00003.JPG"), first("QSP00024.JPG")
    for table in (fat, second):
        _write(content, table + 4 * one, (other + 1).to_bytes(4, "little"))
    _write(content, slots["QSP00040.JPG"].at, b"\xe5")
    _write(content, second + 4 * first("QSP00050.JPG"), b"\0\0\0\0")
    return content


def server_without_boot_sector(sectors: int) -> dict[int, bytes]:
    """ext4 of a small server: its superblock is gone, and what its groups count as free is wrong."""
    files = {
        "etc/os-release": b'NAME="Loft Linux"\nVERSION_ID="12"\n',
        "etc/fstab": b"/dev/sda2 / ext4 defaults 0 1\n",
        "sbin/init": b"\x7fELF" + bytes(4000),
        "home/ingrid/.bashrc": b"alias ll='ls -l'\n",
        "home/ingrid/.profile": b"umask 022\n",
    }
    files |= {
        f"home/ingrid/Documents/{name}.odt": b"PK\3\4" + random.Random(n).randbytes(9_000 + 600 * n)
        for n, name in enumerate(_LETTERS)
    }
    files |= {f"home/ingrid/Pictures/{place}.jpg": _picture(70 + n, 50_000) for n, place in enumerate(_PLACES)}
    content = ext_volume(files, sectors=sectors, label="server")
    _write(content, BLOCK + 12, b"\x10\x27")  # free blocks of the first group
    _write(content, 1024, bytes(1024))
    return content


def waiting_server(sectors: int) -> dict[int, bytes]:
    """ext4 of a small server that is whole; its table of volumes has a line for a disk that is not there any more."""
    uuid = _read(ext_volume({}, sectors=sectors, label="server"), 1024 + 0x68, 16)
    files = linux_records(str(UUID(bytes=uuid)))
    files |= {
        f"home/ingrid/Documents/{name}.odt": b"PK\3\4" + random.Random(n).randbytes(9_000)
        for n, name in enumerate(_LETTERS)
    }
    return ext_volume(files, sectors=sectors, label="server")


def _of(kind: Callable[..., Any], content: Mapping[int, bytes], sectors: int) -> Any:
    return kind(CapturedSectors(content, length=sectors), 0, sectors - 1)


def _read(content: Mapping[int, bytes], at: int, length: int) -> bytes:
    first = next(s for s, held in content.items() if s * SECTOR <= at < s * SECTOR + len(held))
    return content[first][at - first * SECTOR : at - first * SECTOR + length]


def _write(content: dict[int, bytes], at: int, data: bytes) -> None:
    first = next(s for s, held in content.items() if s * SECTOR <= at < s * SECTOR + len(held))
    raw = bytearray(content[first])
    raw[at - first * SECTOR : at - first * SECTOR + len(data)] = data
    content[first] = bytes(raw)


@lru_cache(2)
def album_volume(sectors: int, person: str, *, pictures: int = 48) -> Mapping[int, bytes]:
    """The volume of a Mac: a system as far as a look tells it by, and a person's files."""
    version = plistlib.dumps({"ProductName": "macOS", "ProductVersion": "10.13.6"})
    files = {
        "System/Library/CoreServices/SystemVersion.plist": version,
        "System/Library/CoreServices/boot.efi": b"MZ" + random.Random(9).randbytes(40_000),
        **people_files(person, pictures=pictures, seed=5),
        **mac_records(),
    }
    files.pop(f"Users/{person}/NTUSER.DAT")
    return hfsplus_volume(files, sectors=sectors, label="Album")


def bad_places(content: Mapping[int, bytes], sectors: int, names: Sequence[str], each: int = 3) -> frozenset[int]:
    """Sectors in the middle of these files, by the ends of their names."""
    own = open_volume(CapturedSectors(content, length=sectors), 0, sectors - 1)
    found = set()
    for node in own.nodes() if own is not None else ():
        if own is not None and node.path.endswith(tuple(names)):
            run = next(r for r in own.runs(node) if r.at is not None)
            middle = (run.at or 0) // SECTOR + run.length // SECTOR // 2
            found |= set(range(middle, middle + each))
    return frozenset(found)
