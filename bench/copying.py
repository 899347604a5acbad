"""Copying through the link against what the source gives: a real server, a real probe's reading and sending, the image
on this machine's disk.

`python bench/copying.py [MIB]`: a source limited to 250 MB/s, as a disk is, and one that is not; beside them `dd` of
the same file past the cache. Bench and sick machine are one computer here, so they share its processors."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path[:0] = [str(Path(__file__).parents[1] / "tests"), str(Path(__file__).parent)]
from serving import Served  # noqa: E402
from timed_read import BLOCK, Limited, probe  # noqa: E402


def copied(bench: Served, device: str, sectors: int, mb_s: float | None) -> float:
    """Seconds from the order to the last acknowledged piece."""
    number = bench.take_in("screen=other-stop", data="backed-up")
    secret = bench.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})["secret"]
    link: Any = probe.Link(bench.url, secret, lambda text: None)
    link.hello({"product_name": "bench"}, "0" * 16, 0)
    bench.call(
        "POST", f"/api/tickets/{number}/orders", json={"order": "copy", "device": "sda", "by": "KT", "tight": True}
    )
    order = next(o for o in link.call("GET", f"/orders?session={link.session}")["orders"] if o["order"] == "copy")
    link.call("POST", "/copy", {"session": link.session, "order": order["id"], "size": sectors * 512})
    box = probe.Outbox(link, order["id"], 512)
    worker = probe.Worker(Limited(mb_s), device, 512, BLOCK, 30, keep=True)
    own = probe.Scan(worker, sectors, BLOCK, keep=box.put)
    began = time.perf_counter()
    for _ in own.steps():
        pass
    box.drain()
    took = time.perf_counter() - began
    box.end()
    worker.leave()
    return took


def main() -> None:
    mib = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "source.img"
        with place.open("wb") as file:
            for _ in range(mib):
                file.write(os.urandom(1 << 20))
            os.fsync(file.fileno())
        began = time.perf_counter()
        subprocess.run(["dd", f"if={place}", "of=/dev/null", "bs=1M", "iflag=direct"], check=True, capture_output=True)
        dd = time.perf_counter() - began
        bench = Served(Path(folder) / "data")
        bench.start()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        try:
            device = os.path.relpath(place, "/dev")
            for mb_s in (250.0, None):
                took = copied(bench, device, mib * BLOCK, mb_s)
                given = mib * (1 << 20) / 250e6 if mb_s else dd
                print(
                    f"{'250 MB/s' if mb_s else 'unlimited'}: copied through the link at "
                    f"{mib * 1.048576 / took:.0f} "
                    f"MB/s, ratio to {'what the source gives' if mb_s else 'dd'} {given / took:.3f}"
                )
                print(
                    f"  most memory so far: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB, of "
                    f"which "
                    f"{before >> 10} before (this program's own modules)"
                )
        finally:
            bench.stop()


if __name__ == "__main__":
    main()
