"""Saving large files through the link against what the source gives: a real server, a real probe, an NTFS volume that
Debian's tools made.

`python bench/rescuing.py [MIB] [MB/s]`: files of a volume on a source limited to 110 MB/s, which is what gigabit
Ethernet brings from a sick machine. Baselines: the same bytes in a row at that pace, and the whole disk copied through
the same link. Bench and sick machine are one computer here, so they share its processors, and the sums of the files
(SHA-256) with them: 250 MB/s of one where it has no instructions for it."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

sys.path[:0] = [str(Path(__file__).parents[1] / "tests"), str(Path(__file__).parents[1] / "tests" / "link")]
from benches import Bench  # noqa: E402

from gatecheck.practice.drives import AtaDrive, PracticeDisk  # noqa: E402

MB_S, FIRST = float(os.environ.get("GATECHECK_BENCH_PACE", "110")), 2048


@dataclass
class FileDisk(PracticeDisk):
    """A disk whose bytes are those of a file, given at a pace."""

    place: str = ""
    given: float = field(default_factory=time.monotonic)

    def read(self, sector: int, count: int) -> bytes:
        first = sector if sector >= 0 else max(0, self.sectors + sector)
        with open(self.place, "rb") as file:
            file.seek(first * 512)
            data = file.read(count * 512)
        self.given = max(self.given, time.monotonic() - 0.02) + len(data) / MB_S / 1e6
        time.sleep(max(0.0, self.given - time.monotonic()))
        return data

    def timed(self, lba: int, count: int, into: memoryview | None) -> float:
        began = time.monotonic()
        data = self.read(lba, count)
        if into is not None:
            into[:] = data
        return (time.monotonic() - began) * 1e3


def as_probe(place: str, rest: list[str]) -> int:
    from gatecheck.practice.patients import _machine
    from gatecheck.probe.main import main as probe_main

    disk = FileDisk(os.path.getsize(place) // 512, place=place)
    machine = _machine("Ferrow Adze-22", {"sda": AtaDrive("QUARRY FLINT S1", "QF0-BENCH-1", disk, 100, rotation=0)})
    return int(probe_main(rest, machine=machine))


def made(place: Path, mib: int) -> None:
    """A disk with one NTFS volume, a folder of large files in it."""
    part, tree = place.with_suffix(".part"), place.parent / "tree"
    sectors = (mib + 96) * 2048
    with part.open("wb") as file:
        file.truncate(sectors * 512)
    subprocess.run(["mkfs.ntfs", "-F", "-q", "-p", str(FIRST), str(part)], check=True, capture_output=True)
    tree.mkdir()
    subprocess.run(["ntfs-3g", str(part), str(tree)], check=True)
    try:
        (tree / "Users/Choir/Videos").mkdir(parents=True)
        (tree / "Users/Choir/Documents").mkdir(parents=True)
        for n in range(mib // 64):
            with (tree / f"Users/Choir/Videos/film {n:02d}.mp4").open("wb") as file:
                for _ in range(64):
                    file.write(os.urandom(1 << 20))
    finally:
        subprocess.run(["umount", str(tree)], check=True)
    with place.open("wb") as file:
        file.truncate((sectors + 2 * FIRST) * 512)
    subprocess.run(
        ["sgdisk", "-a", "1", "-o", "-n", f"1:{FIRST}:{FIRST + sectors - 1}", "-t", "1:0700", str(place)],
        check=True,
        capture_output=True,
    )
    with place.open("rb+") as disk, part.open("rb") as source:
        disk.seek(FIRST * 512)
        while data := source.read(8 << 20):
            disk.write(data)
    part.unlink()


def main() -> None:
    global MB_S
    mib = int(sys.argv[1]) if len(sys.argv) > 1 else 768
    MB_S = float(sys.argv[2]) if len(sys.argv) > 2 else MB_S
    os.environ["GATECHECK_BENCH_PACE"] = str(MB_S)  # for the probe
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "disk.img"
        made(place, mib)
        bench = Bench(Path(folder))
        bench.start()
        try:
            number, secret = bench.linked(
                platform="pc", installed_os="windows-10", data="irreplaceable", drive_kind="sata-ssd"
            )
            bench.probes.append(
                subprocess.Popen(
                    [
                        sys.executable,
                        __file__,
                        "--probe",
                        str(place),
                        "--server",
                        bench.url,
                        "--secret",
                        secret,
                        "--spool",
                        f"{folder}/spool",
                        "--wait",
                        "2",
                    ],
                    stdout=subprocess.DEVNULL,
                )
            )
            bench.until(number, lambda link: any(o["state"] == "done" for o in link["orders"]))

            def view() -> Any:
                return bench.call("GET", f"/api/tickets/{number}/volumes?source=sda")

            def ask(what: str, **more: Any) -> None:
                bench.call(
                    "POST",
                    f"/api/tickets/{number}/volumes/{what}",
                    json={"source": "sda", "first": FIRST, "by": "KT", **more},
                )

            ask("look")
            while view()["job"] is not None or view()["look"] is None:
                time.sleep(0.2)
            began = time.monotonic()
            ask("rescue", only=["Users/Choir"])
            while not ((now := view())["rescues"] and now["rescues"][0]["state"] == "done"):
                time.sleep(0.1)
            took = time.monotonic() - began
            size = mib // 64 * 64 * (1 << 20)
            bench.call("POST", f"/api/tickets/{number}/orders", json={"order": "copy", "device": "sda", "by": "KT"})
            began = time.monotonic()
            bench.until(
                number,
                lambda link: link["orders"][-1]["order"] == "copy" and link["orders"][-1]["state"] == "done",
                600,
            )
            copied = place.stat().st_size / (time.monotonic() - began)
            print(
                f"{size >> 20} MiB in large files saved at {size / took / 1e6:.0f} MB/s, ratio to the same bytes in a "
                f"row at {MB_S:.0f} MB/s {size / MB_S / 1e6 / took:.2f}, "
                f"to the disk's whole copy with its reading back ({copied / 1e6:.0f} MB/s) {size / took / copied:.2f}; "
                f"{now['rescues'][0]['whole']} files whole"
            )
        finally:
            bench.stop_probes()
            bench.stop()


if __name__ == "__main__":
    if sys.argv[1:2] == ["--probe"]:
        sys.exit(as_probe(sys.argv[2], sys.argv[3:]))
    main()
