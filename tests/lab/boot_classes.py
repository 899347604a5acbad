"""More disks for the boot path verdict, by classes of damage that a firmware and a reader of disks may see differently:
logical partitions, FAT volumes of odd counts, programs that are hollow or cut, a whole program behind a broken one,
second stages cut or overwritten, an active flag that is off by one, sectors of 4096 bytes, today's boot loaders."""

from __future__ import annotations

import struct
import uuid
import zlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from boot_images import (
    APP,
    FIRST,
    LOADER,
    SAYS,
    SECTORS,
    Make,
    _of_debian,
    boot_sector,
    chained,
    efi_app,
    empty,
    fat,
    installed,
    legacy_grub,
    mbr,
    patch,
    sh,
    system,
    two_fats,
)

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.volume.fat.layout import read_fat
from gatecheck.core.volume.fat.write import put_file

_GPT_TYPE = uuid.UUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
_STANDARD = _of_debian("mbr.bin", 440)


# --- logical partitions

NOTHING = -1


def logical(
    *logicals: tuple[int, Mapping[str, bytes] | None],
    kind: int = 0x05,
    link: Callable[[int, int], int] = lambda number, at: at,
    signed: Sequence[bool] = (True,) * 4,
) -> Make:
    """An extended partition with these: type, files or None for no volume. `link`: where the chain's next record is
    said to be; `signed`: each record's signature."""
    base, room = 10_000, 20_000

    def make(image: Path) -> None:
        mbr([(0, 0x83, FIRST, 4000), (0, kind, base, 100_000)])(image)
        for number, (own, files) in enumerate(logicals):
            at = base + number * room
            sector = bytearray(512)
            size = room - 100 if own != NOTHING else 0
            sector[446:462] = struct.pack("<B3sB3sII", 0, b"\0\2\0", own & 0xFF, b"\xff\xff\xff", 63, size)
            if number + 1 < len(logicals):
                goal = link(number, (number + 1) * room)
                sector[462:478] = struct.pack("<B3sB3sII", 0, b"\0\2\0", 0x05, b"\xff\xff\xff", goal, room)
            if signed[number]:
                sector[510:] = b"\x55\xaa"
            patch(image, at * 512, bytes(sector))
            if files is not None:
                fat(image, files, first=at + 63, sectors=room - 100, bits="16")

    return make


_FULL = {LOADER: APP}
_LOGICAL: Mapping[str, Make] = {
    "logical-first": logical((0xEF, _FULL)),
    "logical-second": logical((0x83, None), (0x0C, _FULL)),
    "logical-third-0f": logical((0x83, None), (0x83, None), (0xEF, _FULL), kind=0x0F),
    "logical-85": logical((0xEF, _FULL), kind=0x85),
    "logical-none": logical((0x83, None), (0x83, None)),
    "logical-unsigned": logical((0xEF, _FULL), signed=(False,)),
    "logical-second-unsigned": logical((0x83, None), (0xEF, _FULL), signed=(True, False)),
    "logical-empty-first": logical((0x00, None), (0xEF, _FULL)),
    "logical-nothing-first": logical((NOTHING, None), (0xEF, _FULL)),
    "logical-link-outside": logical((0x83, None), (0xEF, _FULL), link=lambda n, at: 900_000),
    "logical-link-off": logical((0x83, None), (0xEF, _FULL), link=lambda n, at: at + 1),
    "logical-loop": logical((0x83, None), (0x83, None), link=lambda n, at: 0),
    "logical-both": logical((0xEF, {"A.TXT": b"x"}), (0xEF, _FULL)),
}

# --- FAT volumes of odd counts


def few_clusters(each: int) -> Make:
    """A FAT32 of fewer clusters than FAT32 has by the book: mtools writes into none, so the program is put there by our
    own writer."""

    def make(image: Path) -> None:
        system({}, bits="32", options=("-s", str(each)))(image)
        for own in put_file(read_fat(ImageSectors(str(image)), FIRST), LOADER, APP):
            patch(image, own.at, own.data)

    return make


_FATS: Mapping[str, Make] = {
    "fat32-few": few_clusters(64),
    "fat32-fewer": few_clusters(128),
    "fat12-tiny": system(bits="12", options=("-s", "128")),
    "fat32-one-table": system(options=("-f", "1")),
    "fat16-wide-root": system(bits="16", options=("-r", "2048")),
    "fat32-reserved": system(options=("-R", "200")),
    "fat16-sectors-2048": system(bits="16", options=("-S", "2048")),
}

# --- programs


def hollow(start: int, end: int | None = None, value: int = 0, app: bytes = APP) -> bytes:
    raw = bytearray(app)
    stop = len(raw) if end is None else end
    raw[start:stop] = bytes([value]) * (stop - start)
    return bytes(raw)


def field(at: int, data: bytes) -> bytes:
    """The program with these bytes at `at` of its optional header."""
    raw = bytearray(APP)
    raw[0x98 + at : 0x98 + at + len(data)] = data
    return bytes(raw)


def grub_hurt(hurt: Callable[[bytes], bytes]) -> Make:
    def make(image: Path) -> None:
        chained(SAYS)(image)
        inside = f"{image}@@{FIRST * 512}"
        piece = image.with_suffix(".piece")
        sh("mcopy", "-o", "-i", inside, f"::/{LOADER}", str(piece))
        piece.write_bytes(hurt(piece.read_bytes()))
        sh("mcopy", "-o", "-i", inside, str(piece), f"::/{LOADER}")

    return make


def section(data: bytes, name: bytes) -> tuple[int, int]:
    """Where a section's bytes stand in a program."""
    at = data.index(name.ljust(8, b"\0"), 0x80)
    size, place = struct.unpack("<II", data[at + 16 : at + 24])
    return place, place + size


_PROGRAMS: Mapping[str, Make] = {
    "hollow-code": system({LOADER: hollow(0x200)}),
    "hollow-ff": system({LOADER: hollow(0x200, value=0xFF)}),
    "hollow-headers": system({LOADER: hollow(0x40)}),
    "hollow-grub-half": grub_hurt(lambda d: hollow(len(d) // 2, app=d)),
    "hollow-grub-mods": grub_hurt(lambda d: hollow(*section(d, b"mods"), app=d)),
    "hollow-grub-tail": grub_hurt(lambda d: hollow(len(d) - 4096, app=d)),
    "hollow-grub-text": grub_hurt(lambda d: hollow(*section(d, b".text"), app=d)),
    "cut-at-headers": system({LOADER: APP[:0x200]}),
    "cut-by-one": system({LOADER: APP[:-1]}),
    "cut-grub-half": grub_hurt(lambda d: d[: len(d) // 2]),
    "cut-grub-tail": grub_hurt(lambda d: d[:-600]),
    "entry-outside": system({LOADER: field(16, struct.pack("<I", 0x9000))}),
    "entry-zero": system({LOADER: field(16, bytes(4))}),
    "rva-count": system({LOADER: field(108, struct.pack("<I", 40))}),
    "headers-long": system({LOADER: field(60, struct.pack("<I", 0x10000))}),
    "odd-magic": system({LOADER: field(0, b"\x07\x01")}),
    "certificate-outside": system({LOADER: field(112 + 32, struct.pack("<II", 0x4000, 0x200))}),
}

_TWO: Mapping[str, Make] = {
    f"two-{name}": two_fats({LOADER: first}, {LOADER: APP})
    for name, first in {
        "cut": APP[:600],
        "cut-hard": APP[:300],
        "cut-391": APP[:391],
        "cut-392": APP[:392],
        "hollow": hollow(0x200),
        "machine": efi_app(machine=0xAA64),
        "driver": efi_app(11),
        "empty": b"",
        "console": efi_app(3),
        "headers-long": field(60, struct.pack("<I", 0x10000)),
    }.items()
}

# --- sectors of 4096 bytes


def wide(files: Mapping[str, bytes] | None, *hurts: tuple[int, bytes], guarded: bool = True) -> Make:
    """A GPT disk of 4096-byte sectors with one system partition. `hurts`: (byte, from the end where negative; data)."""

    def make(image: Path) -> None:
        size, mib = 4096, 96
        empty(image, mib)
        last = (mib << 20) // size - 1
        first, end = 256, last - 8
        entries = (
            _GPT_TYPE.bytes_le + uuid.UUID(int=7).bytes_le + struct.pack("<QQQ", first, end, 0) + bytes(72)
        ).ljust(16384, b"\0")
        for at, other, table in ((1, last, 2), (last, 1, last - 4)):
            head = struct.pack(
                "<8sIIIIQQQQ16sQIII",
                b"EFI PART",
                0x10000,
                92,
                0,
                0,
                at,
                other,
                6,
                last - 5,
                uuid.UUID(int=9).bytes_le,
                table,
                128,
                128,
                zlib.crc32(entries),
            )
            head = head[:16] + struct.pack("<I", zlib.crc32(head)) + head[20:]
            patch(image, at * size, head)
            patch(image, table * size, entries)
        if guarded:
            patch(image, 446, struct.pack("<B3sB3sII", 0, b"\0\2\0", 0xEE, b"\xff\xff\xff", 1, last))
            patch(image, 510, b"\x55\xaa")
        if files is not None:
            own = image.with_suffix(".wide")
            own.unlink(missing_ok=True)
            fat_wide(own, files, (end - first + 1) * size)
            patch(image, first * size, own.read_bytes())
            own.unlink()
        for place, data in hurts:
            patch(image, place, data)

    return make


def fat_wide(own: Path, files: Mapping[str, bytes], size: int) -> None:
    with own.open("wb") as file:
        file.truncate(size)
    sh("mkfs.vfat", "-F", "16", "-S", "4096", "-s", "1", str(own))
    sh("mmd", "-i", str(own), "::/EFI", "::/EFI/BOOT")
    piece = own.with_suffix(".piece")
    for name, data in files.items():
        piece.write_bytes(data)
        sh("mcopy", "-i", str(own), str(piece), f"::/{name}")


WIDE: Mapping[str, Make] = {
    "wide-healthy": wide(_FULL),
    "wide-empty": wide({"EFI/BOOT/README.TXT": b"x"}),
    "wide-primary-gone": wide(_FULL, (4096, bytes(4096))),
    "wide-backup-gone": wide(_FULL, (-4096, bytes(4096))),
    "wide-both-gone": wide(_FULL, (4096, bytes(4096)), (-4096, bytes(4096))),
    "wide-no-guard": wide(_FULL, guarded=False),
    "wide-cut": wide({LOADER: APP[:600]}),
    "wide-volume-gone": wide(_FULL, (256 * 4096, bytes(4096))),
}

# --- the boot loaders that common systems ship


def of_debian(place: str) -> bytes:
    path = Path(place)
    if not path.exists():
        import pytest

        pytest.skip(f"Debian's {place} is not here")
    return path.read_bytes()


def first_stage(files: Mapping[str, str | bytes]) -> Make:
    """Debian's first stage as the fallback program, and these files; of a path, the file there."""

    def make(image: Path) -> None:
        own = {name: of_debian(data) if isinstance(data, str) else data for name, data in files.items()}
        system(own)(image)

    return make


_SHIM, _GRUB = "/usr/lib/shim/shimx64.efi", "/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"
_AGAIN, _SD = "/usr/lib/shim/fbx64.efi", "/usr/lib/systemd/boot/efi/systemd-bootx64.efi"
_CSV = "grubx64.efi,Gull,,A system\n".encode("utf-16")
_ENTRY = b"title Gull\nefi /EFI/GULL/START.EFI\n"
_SHIPPED: Mapping[str, Make] = {
    "shim": first_stage({LOADER: _SHIM, "EFI/BOOT/grubx64.efi": APP}),
    "shim-alone": first_stage({LOADER: _SHIM}),
    "shim-next-cut": first_stage({LOADER: _SHIM, "EFI/BOOT/grubx64.efi": APP[:600]}),
    "shim-grub": first_stage({LOADER: _SHIM, "EFI/BOOT/grubx64.efi": _GRUB, "EFI/debian/grub.cfg": SAYS.encode()}),
    "shim-grub-no-script": first_stage({LOADER: _SHIM, "EFI/BOOT/grubx64.efi": _GRUB}),
    "shim-grub-chain": first_stage(
        {
            LOADER: _SHIM,
            "EFI/BOOT/grubx64.efi": _GRUB,
            "EFI/debian/grub.cfg": b"chainloader /EFI/GULL/START.EFI\nboot\n",
            "EFI/GULL/START.EFI": APP,
        }
    ),
    "shim-again": first_stage(
        {LOADER: _SHIM, "EFI/BOOT/fbx64.efi": _AGAIN, "EFI/GULL/grubx64.efi": APP, "EFI/GULL/BOOTX64.CSV": _CSV}
    ),
    "shim-again-nothing": first_stage({LOADER: _SHIM, "EFI/BOOT/fbx64.efi": _AGAIN, "EFI/BOOT/grubx64.efi": APP}),
    "shim-again-gone": first_stage({LOADER: _SHIM, "EFI/BOOT/fbx64.efi": _AGAIN, "EFI/GULL/BOOTX64.CSV": _CSV}),
    "sd-entry": first_stage({LOADER: _SD, "loader/entries/gull.conf": _ENTRY, "EFI/GULL/START.EFI": APP}),
    "sd-entry-gone": first_stage({LOADER: _SD, "loader/entries/gull.conf": _ENTRY}),
    "sd-none": first_stage({LOADER: _SD}),
    "sd-linux-efi": first_stage({LOADER: _SD, "EFI/Linux/gull.efi": APP}),
    "sd-default": first_stage(
        {
            LOADER: _SD,
            "loader/loader.conf": b"default gull*\ntimeout 0\n",
            "loader/entries/gull.conf": _ENTRY,
            "loader/entries/heron.conf": b"title Heron\nefi /EFI/GULL/NONE.EFI\n",
            "EFI/GULL/START.EFI": APP,
        }
    ),
}

MORE_UEFI: Mapping[str, Make] = {**_LOGICAL, **_FATS, **_PROGRAMS, **_TWO, **WIDE, **_SHIPPED}

# --- legacy


def core_hurt(start: float, end: float, value: bytes = b"\0") -> Make:
    """GRUB for legacy machines, of whose core the part from `start` to `end` (shares of its length) is overwritten."""

    def then(image: Path) -> None:
        size = image.with_suffix(".core").stat().st_size
        first, last = int(size * start) // 512 * 512, -(-int(size * end) // 512) * 512
        if end > start:
            patch(image, 512 + first, (value * (last - first))[: last - first])

    return legacy_grub("serial\nterminal_output serial\n" + SAYS, then=then)


def stage_hurt(start: float, end: float) -> Make:
    """A SYSLINUX volume, of whose second stage that part is overwritten."""

    def make(image: Path) -> None:
        installed(image)
        piece = image.with_suffix(".stage")
        sh("mcopy", "-o", "-i", f"{image}@@{FIRST * 512}", "::/ldlinux.sys", str(piece))
        raw = piece.read_bytes()
        disk = image.read_bytes()
        for at in range(int(len(raw) * start) // 512 * 512, int(len(raw) * end) // 512 * 512, 512):
            place = disk.find(raw[at : at + 512], FIRST * 512)
            if place >= 0 and any(raw[at : at + 512]):
                patch(image, place, bytes(512))

    return make


def without(name: str) -> Make:
    def make(image: Path) -> None:
        installed(image)
        inside = f"{image}@@{FIRST * 512}"
        sh("mattrib", "-r", "-s", "-h", "-i", inside, f"::/{name}")
        sh("mdel", "-i", inside, f"::/{name}")

    return make


def bad_sum(image: Path) -> None:
    """A FAT boot sector of whose code the second half is gone."""
    installed(image)
    patch(image, FIRST * 512 + 300, bytes(200))


_BOTH = [(0x80, 7, FIRST, 40_000), (0, 7, 50_000, 40_000)]
MORE_BIOS: Mapping[str, Make] = {
    "core-tail": core_hurt(0.9, 1.0),
    "core-half": core_hurt(0.5, 1.0),
    "core-middle": core_hurt(0.5, 0.55),
    "core-early": core_hurt(0.02, 0.1),
    "core-junk": core_hurt(0.6, 0.7, b"\xa5\x3c\x77"),
    "core-whole": core_hurt(0.5, 0.5),
    "stage-tail": stage_hurt(0.8, 1.0),
    "stage-half": stage_hurt(0.4, 0.6),
    "stage-late": stage_hurt(0.95, 1.0),
    "stage-library": without("ldlinux.c32"),
    "flag-empty-entry": mbr([(0, 7, FIRST, SECTORS), (0x80, 0, 0, 0)], _STANDARD, boot_sector()),
    "flag-next": mbr([(0, 7, FIRST, 40_000), (0x80, 7, 50_000, 40_000)], _STANDARD, boot_sector()),
    "flag-before": mbr(_BOTH, _STANDARD, boot_sector(50_000)),
    "flag-typeless": mbr([(0x80, 0, FIRST, SECTORS)], _STANDARD, boot_sector()),
    "sector-only-sign": mbr(_BOTH, _STANDARD, boot_sector(code=b"")),
    "sector-ff": mbr(_BOTH, _STANDARD, boot_sector(code=b"\xff" * 510)),
    "sector-half": bad_sum,
    "sector-extended": mbr([(0x80, 5, FIRST, SECTORS)], _STANDARD, boot_sector()),
    "code-ff": mbr(_BOTH, b"\xff" * 440, boot_sector()),
}


def found(mark: bytes, at: int, data: bytes) -> Make:
    """The healthy disk with these bytes written at `at` from where the mark stands."""

    def make(image: Path) -> None:
        system()(image)
        patch(image, image.read_bytes().index(mark) + at, data)

    return make


def table_changed(*options: str) -> Make:
    """The healthy disk whose table a partitioning tool has changed."""

    def make(image: Path) -> None:
        system()(image)
        sh("sgdisk", "-a", "1", *options, str(image))

    return make


_NAME = b"BOOTX64 EFI"
MORE_DAMAGED: Sequence[tuple[str, str, Make]] = [
    ("uefi", "program-start", found(APP[:0x98], 0, bytes(0x3C))),
    ("uefi", "program-mark", found(APP[:0x98], 0, b"\0\0")),
    ("uefi", "folder-flag", found(_NAME, 11, b"\x10")),
    ("uefi", "deleted-letter", found(_NAME, 0, b"\xe5")),
    ("uefi", "attribute", table_changed("-A", "1:set:1")),
    ("uefi", "start-late", table_changed("-d", "1", "-n", f"1:{FIRST + 1}:100000", "-t", "1:ef00")),
    ("uefi", "start-early", table_changed("-d", "1", "-n", f"1:{FIRST - 1}:100000", "-t", "1:ef00")),
    ("uefi", "chain-unsigned", _LOGICAL["logical-unsigned"]),
    ("uefi", "chain-link-off", _LOGICAL["logical-link-off"]),
    ("uefi", "chain-link-outside", _LOGICAL["logical-link-outside"]),
]
