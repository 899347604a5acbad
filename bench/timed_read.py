"""The timed read and the copy against `dd` with the same block size on the same file, past the cache, in the same run.

`python bench/timed_read.py [MIB] [FOLDER]`: the file is made there. `--limit MB_S`: as if the source gave so much and
no more, as a disk does."""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from gatecheck.probe.machine import Machine
from gatecheck.probe.scan import Scan
from gatecheck.probe.worker import Worker

BLOCK = 2048


class Limited(Machine):  # type: ignore[misc]
    """This machine, with a source that gives so many MB/s."""

    def __init__(self, mb_s: float | None) -> None:
        self.mb_s = mb_s

    def block_reader(self, device: str, size: int, keep: bool = False) -> Any:
        read, start, given = super().block_reader(device, size, keep), time.perf_counter(), 0

        def limited(lba: int, count: int, into: memoryview) -> None:
            nonlocal given
            read(lba, count, into)
            given += count * size
            if self.mb_s:
                time.sleep(max(0.0, given / self.mb_s / 1e6 - (time.perf_counter() - start)))

        return limited


def scanned(device: str, sectors: int, mb_s: float | None, keep: Any = None) -> float:
    """Seconds that a whole read takes."""
    worker = Worker(Limited(mb_s), device, 512, BLOCK, 30, keep=keep is not None)
    own = Scan(worker, sectors, BLOCK, keep=keep)
    began = time.perf_counter()
    for _ in own.steps():
        pass
    worker.leave()
    return time.perf_counter() - began


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("mib", type=int, nargs="?", default=1024)
    parser.add_argument("folder", type=Path, nargs="?", default=Path(tempfile.gettempdir()))
    chosen = parser.parse_args()
    place = chosen.folder / "gatecheck-bench.img"
    with place.open("wb") as file:
        for _ in range(chosen.mib):
            file.write(os.urandom(1 << 20))
        os.fsync(file.fileno())
    try:
        device, sectors = os.path.relpath(place, "/dev"), chosen.mib * BLOCK
        subprocess.run(["dd", f"if={place}", "of=/dev/null", "bs=1M", "iflag=direct"], check=True, capture_output=True)
        began = time.perf_counter()
        subprocess.run(["dd", f"if={place}", "of=/dev/null", "bs=1M", "iflag=direct"], check=True, capture_output=True)
        dd = time.perf_counter() - began
        ours = scanned(device, sectors, None)
        print(
            f"unlimited: dd {chosen.mib / dd:.0f} MiB/s, timed read {chosen.mib / ours:.0f} MiB/s, ratio "
            f"{dd / ours:.2f}"
        )
        kept = [0]

        def keep(lba: int, data: memoryview) -> None:
            kept[0] += len(bytes(data))

        ideal = chosen.mib * (1 << 20) / 250e6
        for name, own in (("timed read", None), ("read with its bytes", keep)):
            took = scanned(device, sectors, 250.0, own)
            print(
                f"source of 250 MB/s: {name} {chosen.mib * 1.048576 / took:.0f} MB/s, ratio to what it gives "
                f"{ideal / took:.3f}"
            )
        print(
            f"peak memory of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB, of its "
            f"reading child {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10} MiB"
        )
    finally:
        place.unlink()


if __name__ == "__main__":
    sys.exit(main())
