"""One image that starts in UEFI with and without Secure Boot and in legacy mode: a GPT, and on it one FAT partition
that any computer can read.

UEFI 2.10, 5.3 (GPT; attribute bit 2: legacy firmware's code starts this partition), 3.5.1.1 (the fallback program).
"""

from __future__ import annotations

import os
import struct
import zlib
from pathlib import Path

from gatecheck.adapters.durable_file import put_in_place
from gatecheck.core.disk.encode import gpt_end, gpt_start
from gatecheck.core.disk.gpt import EFI_SYSTEM, ENTRY, HEADER
from gatecheck.core.errors import InputError
from gatecheck.stick.build import MOMENT, Parts, run

SECTOR, FIRST = 512, 2048
DISK, PARTITION = "6B1E4D0C-5F0A-4C57-9A30-7C1D2E8F4B61", "8F2C7A15-3D64-4E0B-B7A9-1E5C60D3F294"
"""of every stick: it is told by them when it looks for its own partition"""
LABEL, SERIAL = "GATECHECK", "6A7ECC01"
_LEGACY = 4
_ROOM = 48 << 20
"""for captures, beside what the stick itself takes"""
LEAST = 96
_MIB = 1 << 20


def smallest(parts: Parts) -> int:
    """MiB of the smallest image that holds it all."""
    return max(LEAST, -(-(sum(f.stat().st_size for f in parts.files.values()) + _ROOM + 2 * FIRST * SECTOR) // _MIB))


def write_image(target: Path, parts: Parts, size: int | None = None) -> int:
    """The image, whole under its name or not there at all; MiB of it. Raises InputError."""
    least = smallest(parts)
    if size is not None and size < least:
        raise InputError(f"--size: expected at least {least} MiB for the stick and room for readings, got {size}")
    whole = size or least
    sectors = whole * _MIB // SECTOR
    waiting = target.with_name(f".{target.name}.part")
    try:
        with waiting.open("wb") as file:
            file.truncate(sectors * SECTOR)
        _volume(waiting, parts, sectors)
        _table(waiting, parts, sectors)
        put_in_place(waiting, target)
    except OSError as error:
        raise InputError(f"{target}: expected a file that can be written, got {error.strerror}") from error
    finally:
        waiting.unlink(missing_ok=True)
    return whole


def _volume(image: Path, parts: Parts, sectors: int) -> None:
    volume = image.with_name(f"{image.name}.fat")
    try:
        with volume.open("wb") as file:
            file.truncate((sectors - FIRST - FIRST) * SECTOR)
        run("mkfs.fat", "-F", "32", "-n", LABEL, "-i", SERIAL, "-h", str(FIRST), "--invariant", str(volume))
        folders = sorted({folder for place in parts.files for folder in _above(place)})
        run("mmd", "-i", str(volume), *(f"::{folder}" for folder in folders))
        for place, file_ in sorted(parts.files.items()):
            os.utime(file_, (MOMENT, MOMENT))
            run("mcopy", "-m", "-i", str(volume), str(file_), f"::{place}")
        run("syslinux", "--install", str(volume))
        with image.open("rb+") as whole, volume.open("rb") as own:
            whole.seek(FIRST * SECTOR)
            while block := own.read(4 << 20):
                whole.write(block)
    finally:
        volume.unlink(missing_ok=True)


def _above(place: str) -> list[str]:
    pieces = place.split("/")[:-1]
    return ["/".join(pieces[: n + 1]) for n in range(len(pieces))]


def _table(image: Path, parts: Parts, sectors: int) -> None:
    start = bytearray(
        gpt_start(DISK, [(PARTITION, EFI_SYSTEM, FIRST, sectors - FIRST - 1, "Gate Check")], sectors=sectors)
    )
    struct.pack_into("<Q", start, 2 * SECTOR + 48, _LEGACY)
    struct.pack_into("<I", start, SECTOR + 88, zlib.crc32(start[2 * SECTOR : 2 * SECTOR + 128 * ENTRY]))
    struct.pack_into("<I", start, SECTOR + 16, 0)
    struct.pack_into("<I", start, SECTOR + 16, zlib.crc32(start[SECTOR : SECTOR + HEADER]))
    code = parts.boot_code[:440]
    start[: len(code)] = code
    start[446] = 0x80  # some legacy firmware starts nothing from a disk without an active record; UEFI does not mind
    end = gpt_end(bytes(start), sectors=sectors)
    with image.open("rb+") as file:
        file.write(start)
        file.seek((sectors - len(end) // SECTOR) * SECTOR)
        file.write(end)
