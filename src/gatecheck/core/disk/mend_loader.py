"""Mending plans for the loader: a program of the right kind from elsewhere on the same disk, put where firmware looks
without entries (UEFI 2.10, 3.5.1.1)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from gatecheck.core.disk.boot_uefi import content, image_fault, slices, volumes
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.plan import RepairPlan, Write, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Walk
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.pe import FALLBACK
from gatecheck.core.volume.fat.layout import FatFile, FatListing, FatVolume
from gatecheck.core.volume.fat.write import put_file

_KNOWN = (
    ("efi/microsoft/boot/bootmgfw.efi", "Windows"),
    ("efi/systemd/systemd-boot", "Linux"),
    ("shimx64.efi", "Linux"),
    ("shimaa64.efi", "Linux"),
    ("shimia32.efi", "Linux"),
    ("grubx64.efi", "Linux"),
    ("grubaa64.efi", "Linux"),
    ("grubia32.efi", "Linux"),
    ("grub.efi", "Linux"),
)
_NOT_A_START = (
    "mmx64",
    "mmaa64",
    "mmia32",
    "fbx64",
    "fbaa64",
    "fbia32",
    "memtest",
    "memtest.efi",
    "bootmgr.efi",
    "shell",
    "fwup",
)
_FOR_SHIM = ("grubx64.efi", "grubaa64.efi", "grubia32.efi")
_MOST_PLANS, _LARGEST = 4, 32 << 20


@dataclass(frozen=True, slots=True)
class LoaderCopy:
    """A program that could be put back. `beside`: files that it needs in its own folder."""

    file: FatFile
    data: bytes
    system: str
    rank: int
    beside: tuple[tuple[str, bytes], ...] = ()
    origin: int = 0
    """number of the partition that it comes from, 0: the one that it goes to"""


def loader_plans(disk: Sectors, stops: str, machine: str) -> Iterator[RepairPlan]:
    """`stops`: the finding at which the walk ended. Only where the fallback program is missing or cannot be loaded."""
    if stops not in _MENDABLE:
        return
    opened = list(volumes(disk, slices(disk, Walk()), Walk()))
    number = 0
    for own, volume, files in opened:
        found = list(candidates(volume, files, machine))
        for other, elsewhere, its_files in opened if not found else ():
            if other is not own:
                found += [replace(c, origin=other.number) for c in candidates(elsewhere, its_files, machine)]
        for candidate in sorted(found, key=lambda c: (c.rank, c.file.path))[:_MOST_PLANS]:
            try:
                writes = _put(volume, candidate, machine)
            except DecodeError:
                continue
            number += 1
            name = "loader" if number == 1 else f"loader-{number}"
            doubts = [
                *([doubt("several-systems")] if len({c.system for c in found}) > 1 else []),
                *([doubt("unknown-program")] if candidate.rank == len(_KNOWN) else []),
            ]
            yield RepairPlan(
                name,
                what("loader", file=candidate.file.path, to=FALLBACK[machine], number=own.number),
                why("loader", file=candidate.file.path, system=candidate.system),
                tuple(writes),
                tuple(doubts),
                "loader",
            )


_MENDABLE = (
    "no-fallback",
    "loader-missing",
    "loader-chain-broken",
    "loader-no-program",
    "loader-other-machine",
    "loader-no-application",
    "loader-cut-short",
    "loader-hollow",
)


def candidates(volume: FatVolume, files: FatListing, machine: str) -> Iterator[LoaderCopy]:
    for path, file in files.files.items():
        low = path.lower()
        if (
            file.is_directory
            or not low.endswith(".efi")
            or low == FALLBACK[machine].lower()
            or not 512 <= file.size <= _LARGEST
        ):
            continue
        if any(low.rpartition("/")[2].startswith(word) for word in _NOT_A_START):
            continue
        try:
            data = content(volume, file)
        except DecodeError:
            continue
        if image_fault(data, machine):
            continue
        rank, system = next(((n, s) for n, (mark, s) in enumerate(_KNOWN) if mark in low), (len(_KNOWN), ""))
        yield LoaderCopy(file, data, system, rank, tuple(_beside(volume, files, path)) if "shim" in low else ())


def _beside(volume: FatVolume, files: FatListing, path: str) -> Iterator[tuple[str, bytes]]:
    """What a program that only starts another one needs beside itself."""
    folder = path.rpartition("/")[0]
    for name in _FOR_SHIM:
        own = files.find(f"{folder}/{name}")
        if own is not None and not own.is_directory:
            yield name, content(volume, own)


def _put(volume: FatVolume, candidate: LoaderCopy, machine: str) -> Sequence[Write]:
    folder = FALLBACK[machine].rpartition("/")[0]
    made: list[Write] = []
    for path, data in [
        *((f"{folder}/{name}", data) for name, data in candidate.beside),
        (FALLBACK[machine], candidate.data),
    ]:
        now = replace(volume, disk=Overlay(volume.disk, [(w.at, w.data) for w in made])) if made else volume
        made += [write(w.at, w.data, f"fat-{w.kind}", file=path) for w in put_file(now, path, data)]
    return made
