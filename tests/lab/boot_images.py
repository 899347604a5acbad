"""Disk images, healthy and damaged, from Debian's tools: what the boot path verdict is held against, in real firmware.
Each is a name and what makes it.

A loader of our own stands on them: it writes a text to the console (UEFI) or to the first serial line (legacy), so that
a start is seen."""

from __future__ import annotations

import io
import os
import random
import shutil
import struct
import subprocess
import tarfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

MIB = 1 << 20
TEXT = "GATE-STARTED"
LOADER = "EFI/BOOT/BOOTX64.EFI"
FIRST, SECTORS = 2048, 97_952
NEEDED = ("sgdisk", "mkfs.vfat", "mcopy", "mmd", "mdel", "mattrib", "syslinux", "grub-mkimage", "mkfs.ext4")
Make = Callable[[Path], None]


def sh(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


def efi_app(subsystem: int = 10, machine: int = 0x8664) -> bytes:
    """A PE32+ application that writes the text to the console and stays."""
    text = f"\r\n{TEXT}\r\n\0".encode("utf-16-le")
    # sub rsp,28h; mov rcx,[rdx+40h]; lea rdx,[rip+5]; call [rcx+8]; jmp $
    code = bytes.fromhex("4883EC28 488B4A40 488D1505000000 FF5108 EBFE")
    body = (code + text).ljust(512, b"\0")
    head = bytearray(0x80)
    head[:2], head[0x3C:0x40] = b"MZ", struct.pack("<I", 0x80)
    coff = b"PE\0\0" + struct.pack("<HHIIIHH", machine, 1, 0, 0, 0, 0xF0, 0x22E)
    optional = struct.pack("<HBBIIIII", 0x20B, 2, 0, len(body), 0, 0, 0x1000, 0x1000)
    optional += struct.pack(
        "<QIIHHHHHHIIIIHHQQQQII",
        0x400000,
        0x1000,
        512,
        0,
        0,
        0,
        0,
        0,
        0,
        0,
        0x2000,
        0x200,
        0,
        subsystem,
        0,
        0x10000,
        0x1000,
        0x10000,
        0x1000,
        0,
        16,
    )
    section = b".text\0\0\0" + struct.pack(
        "<IIIIIIHHI", len(code + text), 0x1000, len(body), 0x200, 0, 0, 0, 0, 0x60000020
    )
    return (bytes(head) + coff + optional + bytes(128) + section).ljust(0x200, b"\0") + body


def own_code() -> bytes:
    """A boot sector's code that writes the text to the first serial line and stays."""
    # cli; xor ax,ax; mov ds,ax; mov ss,ax; mov sp,7C00h; mov si,text; mov dx,3F8h; again: lodsb; test al,al; jz $; out
    # dx,al; jmp again
    start, end = bytes.fromhex("FA31C08ED88ED0BC007C"), bytes.fromhex("BAF803AC84C074FEEEEBF8")
    at = 0x7C00 + len(start) + 3 + len(end)
    return start + b"\xbe" + struct.pack("<H", at) + end + f"\r\n{TEXT}\r\n\0".encode()


def empty(image: Path, mib: int = 64) -> None:
    with image.open("wb") as file:
        file.truncate(mib * MIB)


def patch(image: Path, at: int, data: bytes) -> None:
    """From the end where `at` is negative."""
    with image.open("r+b") as file:
        file.seek(at, 2 if at < 0 else 0)
        file.write(data)


def fat(
    image: Path,
    files: Mapping[str, bytes],
    *,
    first: int = FIRST,
    sectors: int = SECTORS,
    bits: str = "32",
    options: Sequence[str] = (),
) -> None:
    part, piece = image.with_suffix(".fat"), image.with_suffix(".piece")
    with part.open("wb") as file:
        file.truncate(sectors * 512)
    sh("mkfs.vfat", "-F", bits, *options, str(part))
    made: set[str] = set()
    for name, data in files.items():
        folders = name.split("/")[:-1]
        for depth in range(1, len(folders) + 1):
            folder = "/".join(folders[:depth])
            if folder not in made:
                sh("mmd", "-i", str(part), f"::/{folder}")
                made.add(folder)
        piece.write_bytes(data)
        sh("mcopy", "-i", str(part), str(piece), f"::/{name}")
    with image.open("r+b") as file, part.open("rb") as source:
        file.seek(first * 512)
        shutil.copyfileobj(source, file)
    part.unlink()


def gpt(image: Path, *parts: tuple[str, int, int]) -> None:
    empty(image)
    options = [
        o
        for n, (kind, first, last) in enumerate(parts or (("ef00", FIRST, 100_000),), 1)
        for o in ("-n", f"{n}:{first}:{last}", "-t", f"{n}:{kind}")
    ]
    sh("sgdisk", "-a", "1", "-o", *options, str(image))


APP = efi_app()


def system(
    files: Mapping[str, bytes] | None = None, then: Make | None = None, *, bits: str = "32", options: Sequence[str] = ()
) -> Make:
    """A GPT disk with one system partition."""

    def make(image: Path) -> None:
        gpt(image)
        fat(image, {LOADER: APP} if files is None else files, bits=bits, options=options)
        if then:
            then(image)

    return make


def hurt(at: int, data: bytes, *more: tuple[int, bytes]) -> Make:
    """The healthy disk with these bytes written over it."""

    def then(image: Path) -> None:
        for place, own in ((at, data), *more):
            patch(image, place, own)

    return system(then=then)


def mbr(
    records: Sequence[tuple[int, int, int, int]],
    code: bytes = b"",
    then: Make | None = None,
    *,
    signed: bool = True,
    files: Mapping[str, bytes] | None = None,
) -> Make:
    """records: flag, type, first, sectors."""

    def make(image: Path) -> None:
        empty(image)
        if files is not None:
            fat(image, files)
        table = bytearray(512)
        table[: len(code)] = code
        for n, (flag, kind, first, sectors) in enumerate(records):
            table[446 + 16 * n : 462 + 16 * n] = struct.pack(
                "<B3sB3sII", flag, b"\0\2\0", kind, b"\xff\xff\xff", first, sectors
            )
        if signed:
            table[510:] = b"\x55\xaa"
        patch(image, 0, bytes(table))
        if then:
            then(image)

    return make


def boot_sector(first: int = FIRST, *, signed: bool = True, code: bytes | None = None) -> Make:
    sector = bytearray(512)
    own = own_code() if code is None else code
    sector[: len(own)] = own
    if signed:
        sector[510:] = b"\x55\xaa"
    return lambda image: patch(image, first * 512, bytes(sector))


def two_fats(first: Mapping[str, bytes], second: Mapping[str, bytes]) -> Make:
    def make(image: Path) -> None:
        gpt(image, ("ef00", FIRST, 51_199), ("ef00", 51_200, 100_000))
        fat(image, first, sectors=40_000, bits="16")
        fat(image, second, first=51_200, sectors=40_000, bits="16")

    return make


def no_table(image: Path) -> None:
    empty(image)
    fat(image, {LOADER: APP}, first=0, sectors=131_072)


def linux_type(image: Path) -> None:
    gpt(image, ("8300", FIRST, 100_000))
    fat(image, {LOADER: APP})


def overlapping(image: Path) -> None:
    """A second partition over the first, with sums that fit."""
    system()(image)
    disk = bytearray(image.read_bytes())
    entries = bytearray(disk[1024 : 1024 + 128 * 128])
    second = bytearray(entries[:128])
    second[16:32], second[32:48] = os.urandom(16), struct.pack("<QQ", 60_000, 90_000)
    entries[128:256] = second
    for at in (512, len(disk) - 512):
        head = bytearray(disk[at : at + 512])
        head[88:92], head[16:20] = struct.pack("<I", zlib.crc32(entries)), bytes(4)
        head[16:20] = struct.pack("<I", zlib.crc32(head[:92]))
        disk[at : at + 512] = head
        first = struct.unpack("<Q", head[72:80])[0] * 512
        disk[first : first + len(entries)] = entries
    image.write_bytes(disk)


def no_fallback(files: Mapping[str, bytes], bits: str = "32") -> Make:
    return system(files, bits=bits, options=("-s", "32") if bits == "12" else ())


_MODULES = (
    "part_gpt",
    "part_msdos",
    "fat",
    "ext2",
    "normal",
    "configfile",
    "echo",
    "search",
    "search_label",
    "search_fs_uuid",
    "search_fs_file",
    "linux",
    "chain",
    "test",
    "sleep",
    "true",
    "tar",
    "memdisk",
    "halt",
)
SECOND = 51_200


def grub(
    image: Path,
    *,
    prefix: str = "/EFI/BOOT",
    config: str = "",
    memdisk: Mapping[str, str] | None = None,
    modules: Sequence[str] = _MODULES,
) -> bytes:
    """A boot loader of Debian's with this prefix, this script of its own, these files in its memory disk."""
    out, own = image.with_suffix(".efi"), image.with_suffix(".early")
    options = ["-O", "x86_64-efi", "-p", prefix, "-o", str(out)]
    if config:
        own.write_text(config)
        options += ["-c", str(own)]
    if memdisk is not None:
        with tarfile.open(image.with_suffix(".tar"), "w", format=tarfile.USTAR_FORMAT) as archive:
            for name, text in memdisk.items():
                entry = tarfile.TarInfo(name)
                entry.size = len(text)
                archive.addfile(entry, io.BytesIO(text.encode()))
        options += ["-m", str(image.with_suffix(".tar"))]
    sh("grub-mkimage", *options, *modules)
    return out.read_bytes()


def ext(
    image: Path,
    files: Mapping[str, bytes],
    *,
    first: int = SECOND,
    sectors: int = 49_000,
    label: str = "CHOIR",
    kind: str = "ext4",
) -> None:
    part, tree = image.with_suffix(".ext"), image.with_suffix(".tree")
    for name, data in files.items():
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_bytes(data)
    tree.mkdir(exist_ok=True)
    with part.open("wb") as file:
        file.truncate(sectors * 512)
    sh(
        f"mkfs.{kind}",
        "-q",
        "-F",
        "-L",
        label,
        "-U",
        "7c1d5b0e-2f43-4a8e-9b61-5f0de2a7c318",
        "-d",
        str(tree),
        str(part),
    )
    with image.open("r+b") as file:
        file.seek(first * 512)
        file.write(part.read_bytes())
    shutil.rmtree(tree)
    part.unlink()


SAYS = f"echo {TEXT}\nsleep 3\n"


def chained(
    script: str | None, files: Mapping[str, bytes] | None = None, then: Make | None = None, **options: Any
) -> Make:
    """GRUB as the fallback program, its script beside it."""

    def make(image: Path) -> None:
        own = dict(files or {}) | {LOADER: grub(image, **options)}
        if script is not None:
            own["EFI/BOOT/grub.cfg"] = script.encode()
        gpt(image, ("ef00", FIRST, SECOND - 1), ("8300", SECOND, 100_000))
        fat(image, own, sectors=SECOND - FIRST, bits="16")
        if then:
            then(image)

    return make


def on_ext(script: str, files: Mapping[str, bytes] | None = None) -> Make:
    return lambda image: ext(image, dict(files or {}) | {"boot/grub/grub.cfg": script.encode()})


_ELSEWHERE = "search --label CHOIR --set=root\nset prefix=($root)/boot/grub\n"


def zeroed(make: Make, *ranges: tuple[int, int]) -> Make:
    """(byte, count), from the end where the byte is negative."""

    def hurt_it(image: Path) -> None:
        make(image)
        for at, count in ranges:
            patch(image, at, bytes(count))

    return hurt_it


_FAT = FIRST * 512
UEFI: Mapping[str, Make] = {
    "healthy": system(),
    "fat16": system(bits="16"),
    "fat12": system(bits="12", options=("-s", "32")),
    "lower-case": system({"efi/boot/bootx64.efi": APP}),
    "no-loader": system({"EFI/BOOT/README.TXT": b"x"}),
    "empty-fat": system({}),
    "other-place": system({"EFI/SYSTEM/START.EFI": APP}),
    "wrong-machine": system({LOADER: efi_app(machine=0xAA64)}),
    "ia32": system({LOADER: efi_app(machine=0x14C)}),
    "no-pe": system({LOADER: b"hello" * 200}),
    "empty-file": system({LOADER: b""}),
    "cut-app": system({LOADER: APP[:600]}),
    "cut-app-hard": system({LOADER: APP[:300]}),
    "driver": system({LOADER: efi_app(11)}),
    "runtime-driver": system({LOADER: efi_app(12)}),
    "console": system({LOADER: efi_app(3)}),
    "no-guard": hurt(0, bytes(512)),
    "guard-unsigned": hurt(510, b"\0\0"),
    "guard-active": hurt(446, b"\x80"),
    "guard-starts-at-2": hurt(454, b"\2\0\0\0"),
    "guard-small": hurt(458, b"\x10\0\0\0"),
    "primary-header": hurt(572, b"\xff"),
    "primary-entries": hurt(1324, b"\xff"),
    "primary-gone": hurt(512, bytes(33 * 512)),
    "backup-gone": hurt(-512, bytes(512)),
    "both-gone": hurt(512, bytes(512), (-512, bytes(512))),
    "both-sums": hurt(572, b"\xff", (-452, b"\xff")),
    "fat-boot-zero": hurt(_FAT, bytes(512)),
    "fat-unsigned": hurt(_FAT + 510, b"\0\0"),
    "fat-no-jump": hurt(_FAT, b"\0\0\0"),
    "fat-media": hurt(_FAT + 21, b"\x55"),
    "fat-chain": hurt(_FAT + 32 * 512 + 12, bytes(4000)),
    "fat-second-only": hurt(_FAT + 32 * 512, bytes(700 * 512)),
    "linux-type": linux_type,
    "grub": chained(SAYS),
    "grub-no-script": chained(None),
    "grub-empty-script": chained("# nothing\n"),
    "grub-standalone": chained(None, memdisk={"boot/grub/grub.cfg": SAYS}, prefix="(memdisk)/boot/grub"),
    "grub-standalone-empty": chained(None, memdisk={"boot/grub/other.cfg": SAYS}, prefix="(memdisk)/boot/grub"),
    "grub-chain": chained("chainloader /EFI/GULL/START.EFI\nboot\n", {"EFI/GULL/START.EFI": APP}),
    "grub-chain-missing": chained("chainloader /EFI/GULL/START.EFI\nboot\n"),
    "grub-chain-junk": chained("chainloader /EFI/GULL/START.EFI\nboot\n", {"EFI/GULL/START.EFI": b"junk" * 300}),
    "grub-kernel-missing": chained("linux /vmlinuz quiet\ninitrd /initrd.img\nboot\n"),
    "grub-kernel-junk": chained("linux /vmlinuz quiet\nboot\n", {"vmlinuz": b"junk" * 3000}),
    "grub-menu": chained(
        (
            'set timeout=0\nset default=1\nmenuentry "one" {\n linux /vmlinuz\n}\nmenuentry "two" {\n chainloader '
            "/EFI/GULL/START.EFI\n}\n"
        ),
        {"EFI/GULL/START.EFI": APP},
    ),
    "grub-menu-missing": chained(
        'set timeout=0\nmenuentry "one" {\n chainloader /EFI/GULL/NONE.EFI\n}\n', {"EFI/GULL/START.EFI": APP}
    ),
    "grub-if": chained(
        (
            "if [ -e /EFI/GULL/NONE.EFI ]; then\n chainloader /EFI/GULL/NONE.EFI\nelse\n chainloader "
            "/EFI/GULL/START.EFI\nfi\nboot\n"
        ),
        {"EFI/GULL/START.EFI": APP},
    ),
    "grub-ext": chained(None, then=on_ext(SAYS), config=_ELSEWHERE),
    "grub-ext-gone": chained(None, config=_ELSEWHERE),
    "grub-ext-no-script": chained(None, then=lambda image: ext(image, {"boot/other": b"x"}), config=_ELSEWHERE),
    "grub-ext-prefix": chained(None, then=on_ext(SAYS), prefix="(,gpt2)/boot/grub"),
    "grub-uuid": chained(
        "search --fs-uuid 7c1d5b0e-2f43-4a8e-9b61-5f0de2a7c318 --set=root\nconfigfile ($root)/boot/grub/grub.cfg\n",
        then=on_ext(SAYS),
    ),
    "grub-uuid-other": chained(
        (
            "search --no-floppy --fs-uuid --set=root 00000000-2f43-4a8e-9b61-5f0de2a7c318\nconfigfile "
            "($root)/boot/grub/grub.cfg\n"
        ),
        then=on_ext(SAYS),
    ),
    "grub-no-normal": chained(SAYS, modules=("part_gpt", "fat")),
    "stub-beside-none": system({LOADER: APP, "EFI/BOOT/GRUBX64.EFI": APP}),
    "two-fats": two_fats({"A.TXT": b"x"}, {LOADER: APP}),
    "first-bad": two_fats({LOADER: b"junk" * 99}, {LOADER: APP}),
    "overlap": overlapping,
    "mbr-ef": mbr([(0, 0xEF, FIRST, SECTORS)], files={LOADER: APP}),
    "mbr-0c": mbr([(0x80, 0x0C, FIRST, SECTORS)], files={LOADER: APP}),
    "mbr-unsigned": mbr([(0, 0xEF, FIRST, SECTORS)], files={LOADER: APP}, signed=False),
    "mbr-beyond": mbr([(0, 0xEF, FIRST, SECTORS), (0, 0x83, 100_000, 9_999_999)], files={LOADER: APP}),
    "mbr-overlap": mbr([(0, 0xEF, FIRST, SECTORS), (0, 0x83, 3000, 1000)], files={LOADER: APP}),
    "no-table": no_table,
    "all-zero": empty,
}


def _of_debian(name: str, size: int) -> bytes:
    place = Path("/usr/lib/syslinux/mbr") / name
    return place.read_bytes()[:size] if place.exists() else b""


def gpt_code(image: Path, *, marked: bool) -> None:
    gpt(image)
    if marked:
        sh("sgdisk", "-A", "1:set:2", str(image))
    patch(image, 0, _of_debian("gptmbr.bin", 440))
    boot_sector()(image)


def installed(image: Path, *, unlisted: bool = False, without: bool = False) -> None:
    """A FAT volume with a boot loader of Debian's on it. `unlisted`: its file was deleted, its sectors stand;
    `without`: what it is to start is not there."""
    mbr([(0x80, 0x0C, FIRST, SECTORS)], _of_debian("mbr.bin", 440), files={})(image)
    sh("syslinux", "--install", "-t", str(_FAT), str(image))
    piece, inside = image.with_suffix(".piece"), f"{image}@@{_FAT}"
    piece.write_text("SERIAL 0\nDEFAULT x\nPROMPT 0\nLABEL x\nBOOT start.bin\n")
    sh("mcopy", "-o", "-i", inside, str(piece), "::/syslinux.cfg")
    piece.write_bytes(own_code().ljust(510, b"\0") + b"\x55\xaa")
    if not without:
        sh("mcopy", "-o", "-i", inside, str(piece), "::/start.bin")
    if unlisted:
        sh("mattrib", "-r", "-s", "-h", "-i", inside, "::/ldlinux.sys")
        sh("mdel", "-i", inside, "::/ldlinux.sys")


def legacy_grub(
    config: str = "",
    files: Mapping[str, bytes] | None = None,
    *,
    prefix: str = "(hd0,msdos1)/boot/grub",
    then: Make | None = None,
    modules: Sequence[str] = (),
) -> Make:
    """GRUB for legacy machines: its first sector, its core in the gap behind it, its files on the first partition."""

    def make(image: Path) -> None:
        folder = Path("/usr/lib/grub/i386-pc")
        if not (folder / "boot.img").exists():
            import pytest

            pytest.skip("Debian's grub-pc-bin is not here")
        mbr([(0, 0x0C, FIRST, SECTORS)], files=dict(files or {}))(image)
        out, own = image.with_suffix(".core"), image.with_suffix(".early")
        own.write_text(config or "true\n")
        sh(
            "grub-mkimage",
            "-O",
            "i386-pc",
            "-p",
            prefix,
            "-c",
            str(own),
            "-o",
            str(out),
            *(
                modules
                or (
                    "biosdisk",
                    "part_msdos",
                    "fat",
                    "normal",
                    "echo",
                    "sleep",
                    "configfile",
                    "linux",
                    "chain",
                    "test",
                    "search",
                    "serial",
                    "terminal",
                )
            ),
        )
        core = bytearray(out.read_bytes())
        core[0x1F4:0x200] = struct.pack("<QHH", 2, -(-len(core) // 512) - 1, 0x820)
        sector = bytearray((folder / "boot.img").read_bytes())
        sector[0x5C:0x64] = struct.pack("<Q", 1)
        sector[0x64] = 0xFF
        sector[0x66:0x68] = b"\x90\x90"
        patch(image, 0, bytes(sector[:440]))
        patch(image, 512, bytes(core))
        if then:
            then(image)

    return make


_SERIAL = "serial\nterminal_output serial\n"
_ONE = [(0x80, 7, FIRST, SECTORS)]
_STANDARD, _TOLD = _of_debian("mbr.bin", 440), _of_debian("altmbr.bin", 439)
BIOS: Mapping[str, Make] = {
    "own-code": mbr([], own_code()),
    "own-code-unsigned": mbr([], own_code(), signed=False),
    "no-code": mbr(_ONE),
    "all-zero": empty,
    "standard": mbr(_ONE, _STANDARD, boot_sector()),
    "sector-unsigned": mbr(_ONE, _STANDARD, boot_sector(signed=False)),
    "no-active": mbr([(0, 7, FIRST, SECTORS)], _STANDARD, boot_sector()),
    "two-active": mbr([(0x80, 7, FIRST, 40_000), (0x80, 7, 50_000, 40_000)], _STANDARD, boot_sector()),
    "second-active": mbr([(0, 7, FIRST, 40_000), (0x80, 7, 50_000, 40_000)], _STANDARD, boot_sector(50_000)),
    "sector-no-code": mbr(_ONE, _STANDARD, boot_sector(code=b"")),
    "sector-zero": mbr(_ONE, _STANDARD),
    "beyond": mbr([(0x80, 7, 9_999_999, 1000)], _STANDARD),
    "odd-flag": mbr([(0x81, 7, FIRST, SECTORS)], _STANDARD, boot_sector()),
    "fat-no-system": mbr([(0x80, 0x0C, FIRST, SECTORS)], _STANDARD, files={"A.TXT": b"x"}),
    "told-1": mbr([(0, 7, FIRST, 40_000)], _TOLD + b"\1", boot_sector()),
    "told-2": mbr([(0, 7, FIRST, 40_000)], _TOLD + b"\2", boot_sector()),
    "gpt": system(),
    "gpt-own-code": system(then=lambda image: patch(image, 0, own_code())),
    "gpt-marked": lambda image: gpt_code(image, marked=True),
    "gpt-unmarked": lambda image: gpt_code(image, marked=False),
    "extended-active": mbr([(0, 5, FIRST, SECTORS)], _STANDARD, boot_sector()),
    "installed": installed,
    "installed-unlisted": lambda image: installed(image, unlisted=True),
    "grub": legacy_grub(_SERIAL, {"boot/grub/grub.cfg": SAYS.encode()}),
    "grub-no-script": legacy_grub(_SERIAL),
    "grub-own-script": legacy_grub(_SERIAL + SAYS),
    "grub-kernel-missing": legacy_grub(_SERIAL, {"boot/grub/grub.cfg": b"linux /vmlinuz\nboot\n"}),
    "grub-core-gone": legacy_grub(_SERIAL + SAYS, then=lambda image: patch(image, 1024, bytes(40_000))),
    "grub-no-normal": legacy_grub("", {"boot/grub/grub.cfg": SAYS.encode()}, modules=("biosdisk", "part_msdos", "fat")),
    "installed-without": lambda image: installed(image, without=True),
    "junk": mbr(_ONE, random.Random(7).randbytes(440), boot_sector()),
    "one-byte": mbr(_ONE, b"\xf6" * 440, boot_sector()),
}

_LAST = 33 * 512
_MENDED_UEFI: Mapping[str, Make] = {
    "guard-gone": hurt(0, bytes(512)),
    "guard-elsewhere": hurt(454, b"\2\0\0\0"),
    "both-gone": UEFI["both-gone"],
    "both-sums": UEFI["both-sums"],
    "all-headers": zeroed(system(), (0, 1024), (-512, 512)),
    "table-gone": zeroed(system(), (0, 34 * 512), (-_LAST, _LAST)),
    "fat-boot": UEFI["fat-boot-zero"],
    "media": UEFI["fat-media"],
    "fat16-media": system(then=lambda image: patch(image, _FAT + 21, b"\x33"), bits="16"),
    "chain": UEFI["fat-chain"],
    "first-fat": UEFI["fat-second-only"],
    "unsigned": UEFI["mbr-unsigned"],
    "beyond": UEFI["mbr-beyond"],
    "loader-gone": no_fallback({"EFI/GULL/GRUBX64.EFI": APP, "EFI/GULL/NOTE.TXT": b"x" * 9000}),
    "loader-fat16": no_fallback({"EFI/SYSTEM/START.EFI": APP}, "16"),
    "loader-fat12": no_fallback({"START.EFI": APP}, "12"),
    "loader-junk": system({LOADER: b"junk" * 999, "EFI/GULL/START.EFI": APP}),
    "loader-other": system({LOADER: efi_app(machine=0xAA64), "EFI/GULL/START.EFI": APP}),
    "elsewhere": two_fats({"EFI/BOOT/README.TXT": b"x"}, {"EFI/GULL/START.EFI": APP}),
    "mbr-table-gone": zeroed(mbr([(0, 0xEF, FIRST, SECTORS)], files={LOADER: APP}), (446, 66)),
}
_MENDED_BIOS: Mapping[str, Make] = {
    "unsigned": BIOS["own-code-unsigned"],
    "standard-unsigned": mbr(_ONE, _STANDARD, boot_sector(), signed=False),
    "code-gone": zeroed(installed, (0, 440)),
    "code-and-flag": zeroed(installed, (0, 447)),
    "no-active": BIOS["no-active"],
    "two-active": mbr([(0x80, 7, FIRST, 40_000), (0x80, 7, 50_000, 40_000)], _STANDARD, boot_sector(50_000)),
    "told-2": BIOS["told-2"],
    "sector-unsigned": BIOS["sector-unsigned"],
    "table-gone": zeroed(installed, (446, 66)),
    "all-gone": zeroed(installed, (0, 512)),
    "gpt-unmarked": BIOS["gpt-unmarked"],
    "junk": BIOS["junk"],
    "one-byte": BIOS["one-byte"],
    "wrong-active": mbr([(0x80, 7, FIRST, 40_000), (0, 7, 50_000, 40_000)], _STANDARD, boot_sector(50_000)),
    "boot-sector": zeroed(installed, (_FAT + 510, 2)),
}
DAMAGED: Sequence[tuple[str, str, Make]] = [
    *(("uefi", n, m) for n, m in _MENDED_UEFI.items()),
    *(("bios", n, m) for n, m in _MENDED_BIOS.items()),
]


def need_tools() -> None:
    import pytest

    missing = [tool for tool in NEEDED if shutil.which(tool) is None]
    if missing:
        pytest.fail(f"{', '.join(missing)}: not installed; `make lab` installs Debian's packages for it")
