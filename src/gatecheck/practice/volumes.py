"""Volumes of practice machines: a system, its people and their files, hurt the way that happens at a counter. All names and contents are made up."""

from __future__ import annotations

import random
import struct
from collections.abc import Mapping, Sequence
from functools import lru_cache

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.volume import ntfs_record as rec
from gatecheck.core.volume.encode_ntfs import CLUSTER, SECTOR, ntfs_volume
from gatecheck.core.volume.ntfs import Ntfs

_VERSION = (10 << 16, 19045 << 16 | 3803)
_SYSTEM = ("winload.efi", "hal.dll", "ntdll.dll", "services.exe", "drivers/disk.sys", "drivers/ntfs.sys")
_FILLER = {"Ledger/archive 2019.bin": 9, "Ledger/archive 2022.bin": 14, "Ledger/index.bin": 2, "Atlas/maps of the coast.bin": 17, "Atlas/soundings.bin": 5}
"""programs' files that take so many hundredths of the volume and hold zeros"""
_PLACES = ("the quay", "garden", "choir", "first snow", "harvest fair", "old bridge", "lighthouse", "market", "grandmother's ninetieth", "boat house")
_LETTERS = ("Letter to the parish", "Minutes of the choir", "Insurance", "Recipes", "Garden plan", "Tax 2023", "Tax 2024", "Birthday list", "Contract for the boat", "Inventory")


def _picture(seed: int, size: int) -> bytes:
    return b"\xff\xd8\xff\xe0\0\x10JFIF\0" + random.Random(seed).randbytes(size)


def people_files(person: str, *, pictures: int, seed: int = 1) -> dict[str, bytes]:
    """What somebody has in their own folder."""
    own, chance = f"Users/{person}", random.Random(seed)
    found = {f"{own}/NTUSER.DAT": b"regf" + bytes(8188), f"{own}/Desktop/to do.txt": b"new tyres\r\npay the choir\r\n", f"{own}/Downloads/manual of the boiler.pdf": b"%PDF-1.7\n" + chance.randbytes(60_000)}
    found |= {f"{own}/Pictures/{2015 + n % 10}/{_PLACES[n % len(_PLACES)]} {n + 1:03d}.jpg": _picture(seed * 1000 + n, 60_000 + 4000 * (n % 17)) for n in range(pictures)}
    found |= {f"{own}/Documents/{name}.docx": b"PK\3\4" + chance.randbytes(9_000 + 700 * n) for n, name in enumerate(_LETTERS)}
    found |= {f"{own}/Documents/Mail/letters.pst": b"!BDN" + chance.randbytes(400_000), f"{own}/Videos/swallows in the barn.mp4": bytes(4) + b"ftypisom" + chance.randbytes(900_000)}
    return found


def system_files() -> dict[str, bytes]:
    """As far as a start needs them, and a look tells them by."""
    chance = random.Random(7)
    mark = bytes.fromhex("bd04effe") + struct.pack("<IIIII", 0x10000, *_VERSION, *_VERSION) + bytes(32)
    kernel = b"MZ" + chance.randbytes(90_000) + mark + chance.randbytes(30_000)
    found = {"Windows/System32/ntoskrnl.exe": kernel, **{f"Windows/System32/{name}": b"MZ" + chance.randbytes(24_000) for name in _SYSTEM}}
    found |= {f"Windows/System32/config/{name}": b"regf" + chance.randbytes(60_000) for name in ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")}
    return found | {f"Program Files/Ledger/part {n:02d}.dll": b"MZ" + chance.randbytes(12_000) for n in range(20)}


@lru_cache(8)
def _built(sectors: int, person: str, pictures: int, erased: bool, dirty: bool) -> Mapping[int, bytes]:
    own = people_files(person, pictures=pictures)
    gone = {path: data for path, data in own.items() if erased and path.startswith((f"Users/{person}/Pictures/2019", f"Users/{person}/Pictures/2021"))}
    kept = {path: data for path, data in own.items() if path not in gone}
    room = sectors * SECTOR // CLUSTER
    filler = {f"Program Files/{name}": room * share // 100 for name, share in _FILLER.items()}
    return ntfs_volume({**system_files(), **kept}, sectors=sectors, label="SYSTEM", dirty=dirty, deleted=gone, filler=filler)


def opened(content: Mapping[int, bytes], sectors: int) -> Ntfs:
    return Ntfs(CapturedSectors(content, length=sectors), 0, sectors - 1)


def sound_volume(sectors: int, person: str, *, pictures: int = 40, erased: bool = False) -> dict[int, bytes]:
    """A whole volume. `erased`: two folders of pictures were deleted."""
    return dict(_built(sectors, person, pictures, erased, False))


def torn_volume(sectors: int, person: str) -> dict[int, bytes]:
    """A volume whose power went while it was being written: a folder's record half written, a list of names torn, the mirror behind, the map behind, not put away."""
    content = dict(_built(sectors, person, 40, False, True))
    own = opened(content, sectors)
    table = own._runs[0][1] * CLUSTER

    def record(path: str) -> int:
        node = own.find(path)
        assert node is not None
        return table + node.id * own.boot.record

    photo = own.find(f"Users/{person}/Pictures/2017/garden 002.jpg") or next(n for n in own.nodes() if n.path.endswith("002.jpg"))
    map_at = next(a for a in own.record(6).attributes if a.type == rec.DATA).runs[0][1] * CLUSTER
    first = own.runs(photo)[0].at
    assert first is not None
    cluster = first // CLUSTER
    _write(content, record(f"Users/{person}/Documents"), bytes(512))
    _write(content, record(f"Users/{person}/Desktop/to do.txt") + 510, b"\x31\x7a")
    _write(content, own.boot.mirror * CLUSTER + 3 * own.boot.record + 100, b"\0\0\0\0")
    _write(content, map_at + cluster // 8, b"\0")
    return content


def _write(content: dict[int, bytes], at: int, data: bytes) -> None:
    first = next(s for s, held in content.items() if s * SECTOR <= at < s * SECTOR + len(held))
    raw = bytearray(content[first])
    raw[at - first * SECTOR : at - first * SECTOR + len(data)] = data
    content[first] = bytes(raw)


def bad_places(content: Mapping[int, bytes], sectors: int, names: Sequence[str], each: int = 3) -> frozenset[int]:
    """Sectors in the middle of these files, by the ends of their names."""
    own = opened(content, sectors)
    found = set()
    for node in own.nodes():
        if node.path.endswith(tuple(names)):
            run = next(r for r in own.runs(node) if r.at is not None)
            middle = (run.at or 0) // SECTOR + run.length // SECTOR // 2
            found |= set(range(middle, middle + each))
    return frozenset(found)
