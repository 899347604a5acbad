"""A volume through the link on a machine that runs from the stick: a real kernel reads the device for the look, writes
the repair, and what is saved is what the system's own driver reads.

The volume is made and filled by Debian's tools and hurt here; afterwards the driver mounts what was repaired.
"""

from __future__ import annotations

import csv
import hashlib
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from boot_images import MIB, patch, sh
from stick_lab import Wire, sum_of
from test_mended_linked import Linked
from test_volumes_repaired import mounted, need, run, sums

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.volume.ntfs.read import Ntfs

FIRST, SECTORS = 2048, 192 * 1024 * 2


class Volume(Linked):
    """The same machine at its Volume instrument."""

    def view(self) -> Any:
        return self.server.call("GET", f"/api/tickets/{self.number}/volumes?source=sda")

    def ask(self, what: str, **more: Any) -> None:
        self.server.call(
            "POST",
            f"/api/tickets/{self.number}/volumes/{what}",
            json={"source": "sda", "first": FIRST, "by": "KT", **more},
        )

    def until(self, wanted: Callable[[Any], bool]) -> Any:
        for _ in range(600):
            now = self.view()
            if now["job"] is None and wanted(now):
                return now
            time.sleep(0.3)
        raise AssertionError((now["job"], now["look"] and now["look"]["verdict"], now["rescues"][:1]))


@pytest.mark.lab_all
def test_a_volume_is_looked_at_repaired_taken_back_and_saved_from_on_a_device(wire: Wire, tmp_path: Path) -> None:
    need("mkfs.ntfs", "ntfs-3g", "sgdisk")
    part, image = tmp_path / "part.img", tmp_path / "disk.img"
    with part.open("wb") as file:
        file.truncate(SECTORS * 512)
    run("mkfs.ntfs", "-F", "-q", "-L", "GULLHAVEN", "-p", str(FIRST), str(part))
    with mounted(part, "ntfs") as tree:
        for folder in ("Users/Choir/Documents", "Users/Choir/Pictures", "Users/Choir/Music", "other"):
            (tree / folder).mkdir(parents=True)
        for number in range(300):
            name = ("Users/Choir/Documents", "Users/Choir/Pictures", "other")[number % 3]
            (tree / name / f"file {number:03d}.dat").write_bytes(
                hashlib.sha256(b"%d" % number).digest() * (number * 7 % 900)
            )
    with mounted(part, "ntfs", "-o", "ro") as tree:
        files = sums(tree)
    own = Ntfs(ImageSectors(str(part)), 0, SECTORS - 1)
    lost = own.find("Users/Choir/Documents")
    assert lost is not None
    # the record of a folder is half gone
    patch(part, own._runs[0][1] * own.cluster + lost.id * own.boot.record, bytes(512))
    patch(part, own.boot.mirror * own.cluster, bytes(64))
    with image.open("wb") as file:
        file.truncate((SECTORS + 2 * FIRST) * 512 + MIB)
    sh("sgdisk", "-a", "1", "-o", "-n", f"1:{FIRST}:{FIRST + SECTORS - 1}", "-t", "1:0700", str(image))
    patch(image, FIRST * 512, part.read_bytes())
    machine = Volume(tmp_path, image, wire)
    try:
        before = sum_of(image)
        machine.ask("look")
        found = machine.until(lambda v: v["look"] is not None)
        look = found["look"]
        assert look["state"] == "damaged"
        assert {"copies", "records", "orphans"} <= {g["id"] for g in look["groups"]}
        machine.ask("rescue", only=["Users/Choir/Pictures", "other"])
        saved = machine.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")["rescues"][0]
        with (Path(saved["folder"]) / "manifest.csv").open(encoding="utf-8") as file_:
            rows = {row["path"]: (row["sha256"], row["state"]) for row in csv.DictReader(file_)}
        assert rows == {
            path: (digest, "whole")
            for path, digest in files.items()
            if path.startswith(("Users/Choir/Pictures", "other"))
        }
        assert sum_of(image) == before  # nothing of this wrote to it
        machine.ask("repair", groups=[g["id"] for g in look["groups"]])
        found = machine.until(lambda v: v["look"]["state"] == "clean")
        after = sum_of(image)
        assert after != before
        machine.ask("take-back", id=found["repairs"][0]["id"])
        found = machine.until(lambda v: v["look"]["state"] == "damaged")
        assert sum_of(image) == before  # every byte
        machine.ask("repair", groups=[g["id"] for g in found["look"]["groups"]])
        machine.until(lambda v: v["look"]["state"] == "clean")
        assert sum_of(image) == after
    finally:
        machine.stop()
    with image.open("rb") as disk:
        disk.seek(FIRST * 512)
        part.write_bytes(disk.read(SECTORS * 512))
    with mounted(part, "ntfs") as tree:
        now = sums(tree)
        (tree / "Users/Choir/Pictures/new.txt").write_text("written after it")
    untouched = {path: digest for path, digest in files.items() if not path.startswith("Users/Choir/Documents/")}
    assert {path: now.get(path) for path in untouched} == untouched
    brought = sorted(d for p, d in now.items() if p.startswith("Saved by Gate Check/"))
    assert brought == sorted(d for p, d in files.items() if p.startswith("Users/Choir/Documents/"))
