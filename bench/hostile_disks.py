"""Hostile disk images and volumes: every command that reads one ends in a verdict or one error, in bounded time and
memory.

    python bench/hostile_disks.py --seconds 600 [IMAGE …]

Takes healthy images, hurts them at random (bits, words, sectors, the first sectors most) and asks every reader. Prints
the slowest and what came up."""

from __future__ import annotations

import argparse
import random
import resource
import time
import traceback
from collections.abc import Callable
from pathlib import Path

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.file_rescue import listed
from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.mend import mending_of
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.where import places_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.repair import repair_of


def asked(disk: Sectors, rng: random.Random) -> list[tuple[str, Callable[[], object]]]:
    last = (disk.length or 1) - 1

    def listing() -> object:
        volume = opened(disk, 0, last).volume
        return (
            None
            if volume is None
            else [
                sum(len(p) if isinstance(p, bytes) else 0 for p in volume.content(i.node))
                for i in listed(volume)[:20]
                if not i.node.is_folder and i.node.size < 1 << 20
            ]
        )

    return [
        ("bootpath uefi", lambda: boot_path(disk, "uefi")),
        ("bootpath bios", lambda: boot_path(disk, "bios")),
        ("mend uefi", lambda: mending_of(disk, "uefi")),
        ("mend bios", lambda: mending_of(disk, "bios")),
        ("where", lambda: places_of(disk, [rng.randrange(last + 1) for _ in range(5)])),
        ("volume", lambda: check(disk, 0, last)),
        ("repair", lambda: repair_of(disk, 0, last)),
        ("rescue", listing),
    ]


def hurt(disk: Sectors, rng: random.Random, hot: list[int]) -> list[tuple[int, bytes]]:
    size = (disk.length or 1) * disk.sector
    writes = []
    for _ in range(rng.choice([1, 1, 2, 4, 16])):
        at = rng.choice(hot) * disk.sector + rng.randrange(disk.sector) if rng.random() < 0.9 else rng.randrange(size)
        kind = rng.random()
        now = disk.read(at // disk.sector, 1).data[at % disk.sector]
        data = (
            bytes([now ^ 1 << rng.randrange(8)])
            if kind < 0.4
            else rng.randbytes(rng.choice([1, 2, 4, 8]))
            if kind < 0.7
            else b"\xff" * rng.choice([1, 2, 4, 8])
            if kind < 0.85
            else rng.randbytes(512)
        )
        writes.append((at, data[: size - at]))
    return writes


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("images", nargs="+", type=Path)
    arguments = parser.parse_args()
    rng = random.Random(arguments.seed)
    disks = [ImageSectors(str(p)) for p in arguments.images]
    hots = [
        [n for n in range(0, disk.length or 0, 1) if n < 4096 or n > (disk.length or 0) - 64 or n % 97 == 0]
        for disk in disks
    ]
    hots = [[n for n in hot if any(disk.read(n, 1).data)] or [0] for hot, disk in zip(hots, disks, strict=True)]
    end, rounds, slowest, failed = time.monotonic() + arguments.seconds, 0, (0.0, "", ""), 0
    while time.monotonic() < end:
        place = rng.randrange(len(disks))
        over = Overlay(disks[place], hurt(disks[place], rng, hots[place]))
        for name, ask in asked(over, rng):
            start = time.process_time()
            try:
                ask()
            except DecodeError as error:
                if name not in ("rescue",):
                    print(f"{arguments.images[place].name}: {name}: {error}")
            except Exception:
                failed += 1
                print(f"--- {arguments.images[place].name}: {name}, round {rounds}")
                traceback.print_exc(limit=-3)
            took = time.process_time() - start
            slowest = max(slowest, (took, name, arguments.images[place].name))
        rounds += 1
    print(
        f"{rounds} rounds, {failed} failed; slowest {slowest[0]:.2f} s ({slowest[1]}, {slowest[2]}); "
        f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB"
    )


if __name__ == "__main__":
    main()
