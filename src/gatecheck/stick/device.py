"""Writing the image to a stick: only to one that is plugged in from outside, is used by nothing, and has the serial
number that was named; read back afterwards."""

from __future__ import annotations

import hashlib
import os
import stat
import tempfile
from collections.abc import Callable
from pathlib import Path

from gatecheck.core.errors import InputError

_BLOCK = 4 << 20
_MIB, _LARGEST = 1 << 20, 4096
SYS = Path("/sys")


def facts_of(device: str, sys: Path = SYS) -> tuple[str, int, str]:
    """(kernel name, bytes, serial number) of a whole disk that may be overwritten. Raises InputError for any other."""
    place = Path(device)
    try:
        told = place.stat()
    except OSError as error:
        raise InputError(f"--to {device}: expected a stick, got {error.strerror}") from error
    if not stat.S_ISBLK(told.st_mode):
        raise InputError(f"--to {device}: expected a block device, got a file; name the image without --to instead")
    name = place.resolve().name
    own = sys / "block" / name
    if not own.is_dir():
        raise InputError(f"--to {device}: expected a whole stick, got a partition or something else")
    path = str(own.resolve())
    if "/usb" not in path and _text(own / "removable") != "1":
        raise InputError(
            f"--to {device}: expected a stick that is plugged in from outside, got a drive of this computer"
        )
    for part in (own, *own.glob(f"{name}*")):
        holders = list((part / "holders").glob("*")) if (part / "holders").is_dir() else []
        if holders:
            raise InputError(
                f"--to {device}: expected a stick that nothing uses, got one that {holders[0].name} stands on"
            )
    used = {
        line.split()[0]
        for file in ("/proc/mounts", "/proc/swaps")
        for line in Path(file).read_text().splitlines()
        if line.startswith("/dev/")
    }
    taken = sorted(u for u in used if Path(u).resolve().name.startswith(name))
    if taken:
        raise InputError(f"--to {device}: expected a stick that nothing uses, got one of which {taken[0]} is mounted")
    return name, int(_text(own / "size") or 0) * 512, serial_of(own)


def serial_of(own: Path) -> str:
    """Of the device, or of what it is plugged in by."""
    for place in (own / "device" / "serial", *(p / "serial" for p in (own / "device").resolve().parents)):
        text = _text(place)
        if text:
            return text
    return ""


def _text(place: Path) -> str:
    try:
        return place.read_text("utf-8", "replace").strip()
    except OSError:
        return ""


def write_stick(
    device: str, serial: str, smallest: int, make: Callable[[Path, int], int], say: Callable[[str], None]
) -> dict[str, object]:
    """`make`: puts the image into a file, for so many MiB at most, and says how many it took; `smallest`: MiB that it
    needs. Raises InputError; nothing is written where the stick is not the one that was named, or is too small."""
    name, size, own = facts_of(device)
    if not own or own.lower() != serial.strip().lower():
        raise InputError(
            f"--to {device}: expected --serial {own or '(it tells none: such a stick is not written to)'}, so that "
            f"it "
            f"is surely this one, got {serial or 'nothing'}; all that is on it goes"
        )
    whole = size // _MIB
    if whole < smallest:
        raise InputError(f"--to {device}: expected a stick of at least {smallest} MiB, got {whole}")
    with tempfile.TemporaryDirectory() as folder:
        image = Path(folder) / "stick.img"
        made = make(image, min(whole, _LARGEST))
        say(f"Writing {made} MiB to {name}")
        wanted = _copied(image, device)
        say("Reading it back")
        if _sum(device, image.stat().st_size) != wanted:
            raise InputError(f"--to {device}: expected to verify the written bytes, got other bytes; use another stick")
    return {"stick": device, "serial": own, "mib": made, "starts": ["uefi", "secure-boot", "legacy"]}


def _copied(image: Path, device: str) -> str:
    total = hashlib.sha256()
    try:
        descriptor = os.open(device, os.O_WRONLY | os.O_EXCL)
        try:
            with image.open("rb") as source:
                while block := source.read(_BLOCK):
                    total.update(block)
                    done = 0
                    while done < len(block):
                        done += os.write(descriptor, block[done:])
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise InputError(
            f"--to {device}: expected a stick that takes what is written, got {error.strerror}; what is on it is "
            f"neither the old nor the new"
        ) from error
    return total.hexdigest()


def _sum(device: str, size: int) -> str:
    total, left = hashlib.sha256(), size
    try:
        descriptor = os.open(device, os.O_RDONLY)
        try:
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
            while left and (block := os.read(descriptor, min(_BLOCK, left))):
                total.update(block)
                left -= len(block)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise InputError(
            f"--to {device}: expected to verify the written bytes, got {error.strerror}; use another stick"
        ) from error
    return total.hexdigest()
