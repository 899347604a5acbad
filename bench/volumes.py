"""The check of an NTFS volume against a plain Python loop over the same records, and against the system's own read-only
check of an ext4 volume with as many files.

`python bench/volumes.py [FILES ...]` (200000): the volume is made by our encoder; both volumes are files in memory.
Baseline: every record's attributes read with `struct`, one after the other, nothing compared. `e2fsck -fn` checks an
image that `mke2fs -d` fills from a folder of the same files. Peak memory is that of a process of its own."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.volume.check import check
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.encode import ntfs_volume
from gatecheck.core.volume.ntfs.read import Ntfs

_IN_A_FOLDER, _ROUNDS = 200, 7


def made(files: int, place: Path) -> tuple[ImageSectors, int]:
    names = {
        f"folder {n // _IN_A_FOLDER:05d}/file number {n:07d}.txt": b"x" * 3000 if n % 50 == 0 else b""
        for n in range(files)
    }
    sectors = 4_000_000 + files * 8
    with place.open("wb") as file:
        file.truncate(sectors * 512)
        for at, data in ntfs_volume(names, sectors=sectors).items():
            file.seek(at * 512)
            file.write(data)
    return ImageSectors(str(place)), sectors


def plain_loop(disk: ImageSectors, sectors: int) -> int:
    """Every record's attributes, as `ntfs_record` reads them."""
    found = 0
    for number, raw in Ntfs(disk, 0, sectors - 1).raw_records():
        if raw is not None and raw[:4] == b"FILE":
            found += len(rec.parse_record(raw, number).attributes)
    return found


def timed(files: int) -> None:
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        _timed(files, *made(files, Path(folder) / "ntfs.img"))


def _timed(files: int, disk: ImageSectors, sectors: int) -> None:
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        ext = ext_image(files, Path(folder))
        ours = theirs = 1e9
        for _ in range(_ROUNDS):  # in turns: what else goes on on this machine meets both
            began = time.perf_counter()
            told = check(disk, 0, sectors - 1)
            ours = min(ours, time.perf_counter() - began)
            assert not told.findings, told.findings[:3]
            if ext is not None:
                began = time.perf_counter()
                subprocess.run(["e2fsck", "-fn", ext], capture_output=True, check=False)
                theirs = min(theirs, time.perf_counter() - began)
    began = time.perf_counter()
    plain_loop(disk, sectors)
    loop = time.perf_counter() - began
    print(
        f"{files:,} files: check {ours:.2f} s ({ours / files * 1e6:.1f} us a file), plain loop over records "
        f"{loop:.2f} "
        f"s, ratio {loop / ours:.1f}"
    )
    if ext is not None:
        print(f"  e2fsck -fn over as many on ext4 {theirs:.2f} s, ratio {ours / theirs:.1f}")


def ext_image(files: int, folder: Path) -> Path | None:
    """An ext4 volume with the same files; None where this system cannot make one."""
    source, image = folder / "tree", folder / "ext.img"
    for n in range(files):
        place = source / f"folder {n // _IN_A_FOLDER:05d}"
        if n % _IN_A_FOLDER == 0:
            place.mkdir(parents=True)
        (place / f"file number {n:07d}.txt").write_bytes(b"x" * 3000 if n % 50 == 0 else b"")
    made_it = subprocess.run(
        [
            "mke2fs",
            "-q",
            "-t",
            "ext4",
            "-N",
            str(files + files // 50 + 100),
            "-d",
            source,
            image,
            f"{files // 1500 + 200}M",
        ],
        capture_output=True,
        check=False,
    )
    shutil.rmtree(source)
    if made_it.returncode:
        print(made_it.stderr.decode()[:200])
    return image if not made_it.returncode else None


_PEAK = """
import resource, sys
sys.path.insert(0, {here!r})
from volumes import made, check, Path
disk, sectors = made({files}, Path({folder!r}) / "ntfs.img")
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
import tracemalloc
tracemalloc.start()
check(disk, 0, sectors - 1)
print(tracemalloc.get_traced_memory()[1] >> 20)
"""


def peak(files: int) -> None:
    """MiB that the check itself takes at most, beside the volume's bytes."""
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        told = subprocess.run(
            [sys.executable, "-c", _PEAK.format(here=str(Path(__file__).parent), files=files, folder=folder)],
            capture_output=True,
            text=True,
            check=True,
        ).stdout
    print(f"{files:,} files: the check takes {told.strip()} MiB at most")


if __name__ == "__main__":
    counts = [int(a) for a in sys.argv[1:]] or [200_000]
    for count in counts:
        timed(count)
    for count in (counts[0] // 4, counts[0]):
        peak(count)
