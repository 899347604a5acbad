"""What a GRUB 2 image carries: its prefix, its own script, its memory disk, its modules.

GRUB manual, "Embedded configuration"; include/grub/kernel.h (module info and types).
"""

from __future__ import annotations

import lzma
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.layout import listing, read_fat

_MAGIC = b"mimg"
_ELF, _MEMDISK, _CONFIG, _PREFIX = 0, 1, 2, 3
_ELF_MARK, _TAIL = b"\x7fELF", 4096
_ELF_HEAD = 52
"""bytes of the shorter of its two heads"""
_LARGEST_CORE, _CODE = 32 << 20, (0x600, 0x1800)
_MOST_MODULES, _LARGEST_FILE = 600, 1 << 20


@dataclass(frozen=True, slots=True)
class Image:
    """What a GRUB image carries. `memdisk`: path -> bytes where it is a tar archive or a FAT
    volume; `opaque`: it has a memory disk of
    another kind; `whole`: what it carries fills the room that it says it has, and every module is one."""

    prefix: str
    config: str
    memdisk: dict[str, bytes]
    modules: frozenset[str]
    opaque: bool = False
    whole: bool = True


def grub_image(data: bytes) -> Image | None:
    """None where the program is no GRUB image."""
    at = data.find(_MAGIC)
    while at >= 0:
        found = _carried(data, at)
        if found is not None:
            return found
        at = data.find(_MAGIC, at + 4)
    return None


def unpacked_core(raw: bytes) -> bytes | None:
    """The kernel and modules of a GRUB core for legacy machines, from what stands after its first sector; None where it
    does not unpack.

    grub-core/boot/i386/pc/startup_raw.S: sizes at 8 and 12; then the unpacking code, then LZMA with fixed parameters
    (lc 3, lp 0, pb 2, 64 KiB)."""
    size = int.from_bytes(raw[12:16], "little")
    if not 0 < size <= _LARGEST_CORE or len(raw) < _CODE[0]:
        return None
    for at in range(_CODE[0], min(_CODE[1], len(raw)), 16):
        try:
            own = lzma.LZMADecompressor(
                lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA1, "lc": 3, "lp": 0, "pb": 2, "dict_size": 1 << 16}]
            ).decompress(raw[at:], max_length=size)
        except lzma.LZMAError:
            continue
        if len(own) == size and _MAGIC in own:
            return own
    return None


def is_packed_core(raw: bytes) -> bool:
    """Does this say of itself that it is such a core: what is packed, and what comes of it, are of sensible lengths."""
    packed, size = int.from_bytes(raw[8:12], "little"), int.from_bytes(raw[12:16], "little")
    return _CODE[0] < packed < size <= _LARGEST_CORE and packed < len(raw) + 512


def has_spare_parity(raw: bytes) -> bool:
    """Does the core carry parity of its own from which it mends itself as it starts (offset 16)."""
    return 0 < int.from_bytes(raw[16:20], "little") < _LARGEST_CORE


def _carried(data: bytes, at: int) -> Image | None:
    wide = data[at + 4 : at + 8] == bytes(4)
    offset, size = (
        (int.from_bytes(data[at + 8 : at + 16], "little"), int.from_bytes(data[at + 16 : at + 24], "little"))
        if wide
        else (int.from_bytes(data[at + 4 : at + 8], "little"), int.from_bytes(data[at + 8 : at + 12], "little"))
    )
    if not 12 <= offset <= 64 or not offset <= size <= len(data) - at:
        return None
    place, end, prefix, config = at + offset, at + size, "", ""
    memdisk: dict[str, bytes] = {}
    opaque, whole, names = False, True, set[str]()
    for _ in range(_MOST_MODULES):
        if place + 8 > end:
            break
        kind, length = (
            int.from_bytes(data[place : place + 4], "little"),
            int.from_bytes(data[place + 4 : place + 8], "little"),
        )
        if length < 8 or place + length > end:
            break
        body = data[place + 8 : place + length]
        if kind == _PREFIX:
            prefix = body.split(b"\0")[0].decode("utf-8", "replace")
        elif kind == _CONFIG:
            config = body.split(b"\0")[0].decode("utf-8", "replace")
        elif kind == _MEMDISK:
            memdisk = dict(_tar(body)) or dict(_fat(body))
            opaque = not memdisk
        elif kind == _ELF:
            whole &= body[:4] == _ELF_MARK and any(body[-_TAIL:])
            names.add(_module_name(body))
        place += length
    return Image(prefix, config, memdisk, frozenset(names), opaque, whole and place + 8 > end)


def _module_name(elf: bytes) -> str:
    """Of the section .modname."""
    if elf[:4] != b"\x7fELF" or len(elf) < _ELF_HEAD:
        return ""
    wide = elf[4] == 2
    table = int.from_bytes(elf[0x28:0x30] if wide else elf[0x20:0x24], "little")
    each, count, names_at = (
        int.from_bytes(elf[n : n + 2], "little") for n in ((0x3A, 0x3C, 0x3E) if wide else (0x2E, 0x30, 0x32))
    )

    def section(number: int) -> tuple[int, int, int]:
        own = elf[table + number * each :][:each]
        if wide:
            return (
                int.from_bytes(own[:4], "little"),
                int.from_bytes(own[24:32], "little"),
                int.from_bytes(own[32:40], "little"),
            )
        return (
            int.from_bytes(own[:4], "little"),
            int.from_bytes(own[16:20], "little"),
            int.from_bytes(own[20:24], "little"),
        )

    _, strings, _ = section(names_at)
    for number in range(min(count, 64)):
        name, at, size = section(number)
        if elf[strings + name : strings + name + 9] == b".modname\0":
            return elf[at : at + size].split(b"\0")[0].decode("ascii", "replace")
    return ""


def _fat(raw: bytes) -> Iterator[tuple[str, bytes]]:
    """The smaller files of a FAT volume, whose names have no case."""
    try:
        volume = read_fat(CapturedSectors({0: raw[: len(raw) // 512 * 512]}, sector=512), 0)
    except DecodeError:
        return
    for path, file in listing(volume).files.items():
        if file.is_directory or not 0 < file.size <= _LARGEST_FILE:
            continue
        try:
            each = volume.cluster_sectors * volume.sector
            chain = list(volume.chain(file.cluster, -(-file.size // each)))
            yield path.lower(), b"".join(volume.cluster(c, path) for c in chain)[: file.size]
        except DecodeError:
            continue


def _tar(raw: bytes) -> Iterator[tuple[str, bytes]]:
    """Files of a tar archive (POSIX.1-1988 headers)."""
    at = 0
    while at + 512 <= len(raw) and raw[at + 257 : at + 262] == b"ustar":
        name = raw[at : at + 100].split(b"\0")[0].decode("utf-8", "replace").removeprefix("./")
        told = raw[at + 124 : at + 136].split(b"\0")[0].strip() or b"0"
        if told.strip(b"01234567"):
            return
        size = int(told, 8)
        if raw[at + 156 : at + 157] in (b"0", b"\0"):
            yield name.strip("/"), raw[at + 512 : at + 512 + size]
        at += 512 + -(-size // 512) * 512
