"""Plans for what stands on a disk and is not found or not taken for what it is: a program's start, name, folder and
chain; a partition's flag and start; the chain of logical partitions. Each is made, judged by the walk, and leaves every
other byte alone; where the disk does not tell what stood there, there is none."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable

import pytest

from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.mend import mending_of
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import listing, read_fat
from memory_disk import Memory

SECTORS, FIRST, ROOM, EACH = 65_536, 2048, 40_000, 4
LOADER, SHORT = "EFI/BOOT/BOOTX64.EFI", b"BOOTX64 EFI"
EFI = "28732ac11ff8d211ba4b00a0c93ec93b"


def program(size: int = 9000, *, summed: bool = True, code: bytes = b"\x31\xc0\xc3\x90") -> bytes:
    """An application whose one section is as long as the rest, with its sum."""
    head = bytearray(0x80)
    head[:2], head[0x3C:0x40] = b"MZ", struct.pack("<I", 0x80)
    coff = b"PE\0\0" + struct.pack("<HHIIIHH", 0x8664, 1, 0, 0, 0, 0xF0, 0x22E)
    optional = bytearray(0xF0)
    optional[:2], optional[16:20] = b"\x0b\x02", struct.pack("<I", 0x1000)
    optional[60:64], optional[68:70] = struct.pack("<I", 512), struct.pack("<H", 10)
    section = b".text\0\0\0" + struct.pack("<IIIIIIHHI", size, 0x1000, size - 512, 512, 0, 0, 0, 0, 0x60000020)
    raw = bytearray((bytes(head) + coff + bytes(optional) + section).ljust(512, b"\0"))
    raw += (code + bytes(n * 7 % 251 for n in range(size)))[: size - 512]
    if summed:
        at, total = 0x80 + 24 + 64, 0
        for place in range(0, len(raw), 2):
            total += int.from_bytes(raw[place : place + 2], "little")
            total = (total & 0xFFFF) + (total >> 16)
        raw[at : at + 4] = struct.pack("<I", total + len(raw))
    return bytes(raw)


def gpt(*parts: tuple[int, int, int]) -> bytearray:
    """parts: first, last, attributes; all of the system's type, with both copies of the table."""
    raw = bytearray(SECTORS * 512)
    entries = b"".join(
        bytes.fromhex(EFI) + bytes([n + 1] * 16) + struct.pack("<QQQ", first, last, flags) + bytes(72)
        for n, (first, last, flags) in enumerate(parts)
    ).ljust(16384, b"\0")
    for my, other, table in ((1, SECTORS - 1, 2), (SECTORS - 1, 1, SECTORS - 33)):
        head = struct.pack(
            "<8sIIIIQQQQ16sQIII",
            b"EFI PART",
            0x10000,
            92,
            0,
            0,
            my,
            other,
            34,
            SECTORS - 34,
            b"g" * 16,
            table,
            128,
            128,
            zlib.crc32(entries),
        )
        raw[my * 512 : my * 512 + 92] = head[:16] + struct.pack("<I", zlib.crc32(head)) + head[20:]
        raw[table * 512 : table * 512 + 16384] = entries
    raw[446:462] = struct.pack("<B3sB3sII", 0, b"\0\2\0", 0xEE, b"\xff\xff\xff", 1, SECTORS - 1)
    raw[510:512] = b"\x55\xaa"
    return raw


def put(raw: bytearray, files: dict[str, bytes], first: int = FIRST, sectors: int = ROOM) -> bytearray:
    for at, data in fat_volume(files, sectors=sectors, cluster_sectors=EACH).items():
        raw[(first + at) * 512 : (first + at) * 512 + len(data)] = data
    return raw


def healthy(data: bytes | None = None) -> bytearray:
    return put(gpt((FIRST, FIRST + ROOM - 1, 0)), {LOADER: program() if data is None else data, "A.TXT": b"a" * 3000})


def links(raw: bytearray, change: Callable[[list[int]], dict[int, int]], tables: tuple[int, ...] = (0, 1)) -> bytearray:
    """The links of the loader's clusters changed, in these copies of the FAT."""
    volume = read_fat(Memory(bytes(raw)), FIRST)
    file = listing(volume).files[LOADER]
    own = list(volume.chain(file.cluster, 1000))
    for table in tables:
        base = (FIRST + volume.reserved + table * volume.fat_sectors) * 512
        for cluster, value in change(own).items():
            at = base + cluster * volume.wide // 8
            if volume.wide == 12:
                pair = int.from_bytes(raw[at : at + 2], "little")
                pair = pair & 0x000F | (value & 0xFFF) << 4 if cluster & 1 else pair & 0xF000 | value & 0xFFF
                raw[at : at + 2] = pair.to_bytes(2, "little")
            else:
                raw[at : at + volume.wide // 8] = (value & (1 << volume.wide) - 1).to_bytes(volume.wide // 8, "little")
    return raw


def entry(raw: bytearray, at: int, data: bytes) -> bytearray:
    place = raw.index(SHORT)
    raw[place + at : place + at + len(data)] = data
    return raw


def start(data: bytes, at: int = 0) -> bytearray:
    raw = healthy()
    place = raw.index(b"MZ" + program()[2:512])
    raw[place + at : place + at + len(data)] = data
    return raw


def deleted(raw: bytearray) -> bytearray:
    """As a system deletes: the entry's first letter, and all links."""
    links(raw, lambda own: dict.fromkeys(own, 0))
    return entry(raw, 0, b"\xe5")


def long_name(sums: bytes = b"\x11") -> bytearray:
    """A first stage that needs a file with a long name beside it, and that name's sum is wrong."""
    first = program(code=b"\x31\xc0\xc3\x90" + "EFI\\Microsoft\\Boot\\BCD bootmgfw.efi".encode("utf-16-le"))
    files = {LOADER: first, "EFI/Microsoft/Boot/BCD": b"regf" + bytes(4000)}
    raw = put(gpt((FIRST, FIRST + ROOM - 1, 0)), files)
    at = raw.index(b"MICRO~") - 32
    raw[at + 13 : at + 14] = sums
    return raw


_END, _BAD = 0xFFFFFFFF, 0xFFFFFFF7
PROGRAMS: dict[str, tuple[Callable[[], bytearray], str, bool]] = {
    "first two bytes": (lambda: start(b"\0\0"), "program-start-1", True),
    "all before the head's place": (lambda: start(bytes(0x40)), "program-start-1", True),
    "start, and no sum": (lambda: _unsummed(lambda raw: raw), "program-start-1", True),
    "the head too": (lambda: start(bytes(0x90)), "", False),
    "a folder by its flag": (lambda: entry(healthy(), 11, b"\x10"), "folder-flag-1", True),
    "ends early in both": (lambda: links(healthy(), lambda own: {own[1]: _END}), "chain-1", True),
    "runs into free": (lambda: links(healthy(), lambda own: {own[0]: 0}), "chain-1", True),
    "runs into bad": (lambda: links(healthy(), lambda own: {own[1]: _BAD}), "chain-1", True),
    "ends early in the first": (lambda: links(healthy(), lambda own: {own[1]: _END}, (0,)), "fat-1", True),
    "deleted by its letter": (lambda: entry(healthy(), 0, b"\xe5"), "deleted-entry-1", True),
    "deleted, links freed": (lambda: deleted(healthy()), "deleted-entry-1", True),
    "deleted, no program there": (lambda: deleted(healthy(b"text " * 2000)), "", False),
}


def _unsummed(hurt: Callable[[bytearray], bytearray]) -> bytearray:
    raw = healthy(program(summed=False))
    place = raw.index(b"MZ" + program(summed=False)[2:512])
    raw[place : place + 2] = b"\0\0"
    return hurt(raw)


@pytest.mark.parametrize("name", PROGRAMS)
def test_a_program_is_put_right_by_what_the_disk_tells(name: str) -> None:
    make, plan, boots = PROGRAMS[name]
    raw = make()
    disk = Memory(bytes(raw))
    assert not boot_path(disk, "uefi").boots
    found = mending_of(disk, "uefi").plans
    assert ([p.id for p in found if p.boots_after] or [""])[0] == plan
    if not boots:
        return
    own = next(p for p in found if p.id == plan)
    assert bool(own.doubts) == ("no sum" in name)
    after = Overlay(disk, own.pairs)
    volume = read_fat(after, FIRST)
    data = b"".join(volume.cluster(c, "x") for c in volume.chain(listing(volume).files[LOADER].cluster, 1000))[:9000]
    assert data == program(summed="no sum" not in name), "byte for byte what it was"
    one, two = (after.read(FIRST + volume.reserved + n * volume.fat_sectors, volume.fat_sectors).data for n in (0, 1))
    assert one == two


def attribute() -> bytearray:
    return put(gpt((FIRST, FIRST + ROOM - 1, 2)), {LOADER: program()})


def shifted(by: int) -> Callable[[], bytearray]:
    return lambda: put(gpt((FIRST + by, FIRST + ROOM - 1, 0)), {LOADER: program()})


BASE, FAR = 4096, 24_000


def chain(*hurts: tuple[int, bytes]) -> Callable[[], bytearray]:
    """Two logical partitions, the second with the loader."""

    def make() -> bytearray:
        raw = bytearray(SECTORS * 512)
        raw[446:462] = struct.pack("<B3sB3sII", 0, b"\0\2\0", 0x05, b"\xff\xff\xff", BASE, 60_000)
        for at, size, link in ((BASE, FAR - BASE - 63, FAR - BASE), (FAR, 30_000, 0)):
            raw[at * 512 + 446 : at * 512 + 462] = struct.pack("<B3sB3sII", 0, b"\0\2\0", 0x0C, b"\0\0\0", 63, size)
            if link:
                raw[at * 512 + 462 : at * 512 + 478] = struct.pack(
                    "<B3sB3sII", 0, b"\0\2\0", 0x05, b"\0\0\0", link, 30_063
                )
            raw[at * 512 + 510 : at * 512 + 512] = b"\x55\xaa"
        raw[510:512] = b"\x55\xaa"
        put(raw, {"A.TXT": b"a"}, BASE + 63, 18_000)
        put(raw, {LOADER: program()}, FAR + 63, 29_000)
        for at, data in hurts:
            raw[at : at + len(data)] = data
        return raw

    return make


TABLES: dict[str, tuple[Callable[[], bytearray], str]] = {
    "attribute": (attribute, "partition-attribute-1"),
    "one sector late": (shifted(1), "partition-start-1"),
    "one sector early": (shifted(-1), "partition-start-1"),
    "eight sectors late": (shifted(8), "partition-start-1"),
    "far": (shifted(200), ""),
    "first record unsigned": (chain((BASE * 512 + 510, b"\0\0")), f"logical-signature-{BASE}"),
    "link off by one": (chain((BASE * 512 + 470, struct.pack("<I", FAR - BASE + 1))), f"logical-link-{BASE}"),
    "link outside": (chain((BASE * 512 + 470, struct.pack("<I", 900_000))), f"logical-link-{BASE}"),
    "link gone": (chain((BASE * 512 + 462, bytes(16))), f"logical-link-{BASE}"),
    "second record elsewhere": (chain((FAR * 512 + 454, struct.pack("<I", 99))), f"logical-record-{FAR}"),
    "second record empty": (chain((FAR * 512 + 446, bytes(16))), f"logical-record-{FAR}"),
}


@pytest.mark.parametrize("name", TABLES)
def test_an_entry_is_put_right_by_what_stands_where_it_should_point(name: str) -> None:
    make, plan = TABLES[name]
    disk = Memory(bytes(make()))
    assert not boot_path(disk, "uefi").boots
    found = mending_of(disk, "uefi").plans
    assert ([p.id for p in found if p.boots_after] or [""])[0] == plan
    assert all(p.boots_after == boot_path(Overlay(disk, p.pairs), "uefi").boots for p in found)


def test_a_long_name_is_seen_again_once_its_sum_fits() -> None:
    disk = Memory(bytes(long_name()))
    assert boot_path(disk, "uefi").findings[-1].id == "store-missing"
    plans = mending_of(disk, "uefi").plans
    assert [(p.id, p.boots_after) for p in plans] == [("long-name-1", True)]
    assert len(plans[0].pairs) == 1


def test_sound_chains_and_starts_get_no_plan() -> None:
    for make in (chain(), healthy):
        disk = Memory(bytes(make()))
        assert boot_path(disk, "uefi").boots
        assert mending_of(disk, "uefi").plans == ()


@pytest.mark.parametrize(
    ("data", "stop"),
    [
        (program(code=bytes(64)), "loader-hollow"),
        (program(code=b"\xff" * 64), "loader-hollow"),
        (program()[:4000], "loader-cut-short"),
    ],
)
def test_a_program_that_is_hollow_or_cut_ends_the_walk_of_its_disk(data: bytes, stop: str) -> None:
    raw = gpt((FIRST, FIRST + 20_000, 0), (FIRST + 20_001, FIRST + 50_000, 0))
    put(raw, {LOADER: data}, FIRST, 20_000)
    put(raw, {LOADER: program()}, FIRST + 20_001, 20_000)
    path = boot_path(Memory(bytes(raw)), "uefi")
    assert (path.boots, path.stops_at, path.findings[-1].id) == (False, "loader", stop)


def test_a_program_without_a_head_is_passed_by_for_one_on_another_volume() -> None:
    raw = gpt((FIRST, FIRST + 20_000, 0), (FIRST + 20_001, FIRST + 50_000, 0))
    put(raw, {LOADER: b"junk" * 900}, FIRST, 20_000)
    put(raw, {LOADER: program()}, FIRST + 20_001, 20_000)
    assert boot_path(Memory(bytes(raw)), "uefi").boots


def test_no_chain_is_laid_over_clusters_that_another_file_has() -> None:
    raw = links(healthy(), lambda own: {own[1]: _END})
    assert "chain-1" in {p.id for p in mending_of(Memory(bytes(raw)), "uefi").plans}
    volume = read_fat(Memory(bytes(raw)), FIRST)
    other = list(volume.chain(listing(volume).files["A.TXT"].cluster, 100))[-1]
    first = listing(volume).files[LOADER].cluster
    links(raw, lambda own: {other: first + 2, first + 2: _END})
    assert "chain-1" not in {p.id for p in mending_of(Memory(bytes(raw)), "uefi").plans}


def test_a_logical_partition_of_a_set_of_drives_is_left() -> None:
    hurt = (FAR * 512 + 454, struct.pack("<I", 99))
    assert f"logical-record-{FAR}" in {p.id for p in mending_of(Memory(bytes(chain(hurt)())), "uefi").plans}
    of_a_set = chain(hurt, (FAR * 512 + 450, b"\xfd"))
    assert not mending_of(Memory(bytes(of_a_set())), "uefi").plans


def test_a_start_is_not_moved_to_a_volume_of_unknown_length() -> None:
    raw = gpt((FIRST, FIRST + ROOM - 1, 0))
    raw[(FIRST + 1) * 512 : (FIRST + 1) * 512 + 6] = b"LUKS\xba\xbe"
    assert not [p for p in mending_of(Memory(bytes(raw)), "uefi").plans if p.id.startswith("partition-start")]
