"""The check of an NTFS volume against a plain Python loop over the same records, and against the system's own read-only check of an ext4 volume with as many files.

`python bench/volumes.py [FILES ...]` (200000): the volume is made by our encoder; its bytes lie in memory. Baseline: every record's attributes read with `struct`, one after the
other, nothing compared. `e2fsck -fn` checks an image that `mke2fs -d` fills from a folder of as many empty files. Peak memory is that of a process of its own.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path

from gatecheck.core.disk.sectors import Span
from gatecheck.core.volume import ntfs_record as rec
from gatecheck.core.volume.check import check
from gatecheck.core.volume.encode_ntfs import ntfs_volume
from gatecheck.core.volume.ntfs import Ntfs

_IN_A_FOLDER = 200


class Sparse:
    """A disk that holds what stands at some sectors, in pages of a MiB, and zeros elsewhere."""

    sector = 512

    def __init__(self, content: Mapping[int, bytes], sectors: int) -> None:
        self.length: int | None = sectors
        self.pages: dict[int, bytearray] = {}
        for at, data in content.items():
            place, view = at * 512, memoryview(data)
            while len(view):
                page, inside = divmod(place, 1 << 20)
                take = min(len(view), (1 << 20) - inside)
                self.pages.setdefault(page, bytearray(1 << 20))[inside : inside + take] = view[:take]
                place, view = place + take, view[take:]

    def read(self, lba: int, count: int) -> Span:
        out, place, end = bytearray(), lba * 512, (lba + count) * 512
        while place < end:
            page, inside = divmod(place, 1 << 20)
            take = min(end - place, (1 << 20) - inside)
            own = self.pages.get(page)
            out += own[inside : inside + take] if own is not None else bytes(take)
            place += take
        return Span(lba, 512, bytes(out), {})


def made(files: int) -> tuple[Sparse, int]:
    names = {f"folder {n // _IN_A_FOLDER:05d}/file number {n:07d}.txt": b"x" * 3000 if n % 50 == 0 else b"" for n in range(files)}
    sectors = 4_000_000 + files * 8
    return Sparse(ntfs_volume(names, sectors=sectors), sectors), sectors


def plain_loop(disk: Sparse, sectors: int) -> int:
    """Every record's attributes, as `ntfs_record` reads them."""
    found = 0
    for number, raw in Ntfs(disk, 0, sectors - 1).raw_records():
        if raw is not None and raw[:4] == b"FILE":
            found += len(rec.parse_record(raw, number).attributes)
    return found


def timed(files: int) -> None:
    disk, sectors = made(files)
    began = time.perf_counter()
    told = check(disk, 0, sectors - 1)
    ours = time.perf_counter() - began
    assert not told.findings, told.findings[:3]
    began = time.perf_counter()
    plain_loop(disk, sectors)
    loop = time.perf_counter() - began
    print(f"{files:,} files: check {ours:.2f} s ({ours / files * 1e6:.1f} us a file), plain loop over records {loop:.2f} s, ratio {loop / ours:.1f}")
    theirs = of_ext(files)
    if theirs:
        print(f"  e2fsck -fn over as many on ext4 {theirs:.2f} s, ratio {ours / theirs:.1f}")


def of_ext(files: int) -> float | None:
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        source, image = Path(folder) / "tree", Path(folder) / "ext.img"
        for n in range(files):
            place = source / f"folder {n // _IN_A_FOLDER:05d}"
            if n % _IN_A_FOLDER == 0:
                place.mkdir(parents=True)
            (place / f"file number {n:07d}.txt").touch()
        made_it = subprocess.run(["mke2fs", "-q", "-t", "ext4", "-N", str(files + files // 50 + 100), "-d", source, image, f"{files // 1500 + 200}M"], capture_output=True, check=False)
        if made_it.returncode:
            print(made_it.stderr.decode()[:200])
            return None
        best = 1e9
        for _ in range(3):
            began = time.perf_counter()
            subprocess.run(["e2fsck", "-fn", image], capture_output=True, check=False)
            best = min(best, time.perf_counter() - began)
        return best


_PEAK = """
import resource, sys
sys.path.insert(0, {here!r})
from volumes import made, check
disk, sectors = made({files})
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
import tracemalloc
tracemalloc.start()
check(disk, 0, sectors - 1)
print(tracemalloc.get_traced_memory()[1] >> 20)
"""


def peak(files: int) -> None:
    """MiB that the check itself takes at most, beside the volume's bytes."""
    told = subprocess.run([sys.executable, "-c", _PEAK.format(here=str(Path(__file__).parent), files=files)], capture_output=True, text=True, check=True).stdout
    print(f"{files:,} files: the check takes {told.strip()} MiB at most")


if __name__ == "__main__":
    counts = [int(a) for a in sys.argv[1:]] or [200_000]
    for count in counts:
        timed(count)
    for count in (counts[0] // 4, counts[0]):
        peak(count)
