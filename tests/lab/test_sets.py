"""Sets of drives that a real kernel made: Linux RAID of every level and layout, logical volumes over several drives.

What was written to them there is read from the members here, whole and with members missing."""

from __future__ import annotations

import itertools
import random
import shutil
import subprocess
from pathlib import Path

import pytest
from guest import Emulator, LabMissing, guest

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.volume.assemble import Assembled, assembled

pytestmark = [
    pytest.mark.lab_all,
    pytest.mark.skipif(
        not all(map(shutil.which, ("mdadm", "lvm", "sgdisk"))),
        reason="no lab here: mdadm, lvm2 and gdisk are not installed",
    ),
]
MIB = 1 << 20
DISKS, SLICE, MORE, DATA = 5, 14, 4, 96
"""drives; MiB of a partition, of those on the third drive more; MiB of what is written"""
# mdadm's words -> members
SETS = {
    "raid0 three sizes": ("--level=0 --chunk=64", 3),
    "raid0 two": ("--level=0 --chunk=16", 2),
    "linear": ("--level=linear", 3),
    "raid1 at the end": ("--level=1 --metadata=1.0", 2),
    "raid1 of old": ("--level=1 --metadata=0.90", 2),
    "raid1 at the start": ("--level=1 --metadata=1.1", 3),
    "raid4": ("--level=4 --chunk=32", 3),
    "raid5": ("--level=5 --chunk=64", 4),
    "raid5 la": ("--level=5 --chunk=32 --layout=left-asymmetric --metadata=0.90", 3),
    "raid5 rs": ("--level=5 --chunk=32 --layout=right-symmetric", 4),
    "raid5 ra": ("--level=5 --chunk=128 --layout=right-asymmetric", 5),
    "raid5 p last": ("--level=5 --chunk=32 --layout=parity-last", 4),
    "raid6": ("--level=6 --chunk=64", 5),
    "raid6 ra": ("--level=6 --chunk=32 --layout=right-asymmetric", 4),
    "raid6 n": ("--level=6 --chunk=32 --layout=ddf-N-restart", 5),
    "raid6 zero": ("--level=6 --chunk=32 --layout=ddf-zero-restart", 5),
    "raid6 c": ("--level=6 --chunk=32 --layout=ddf-N-continue", 4),
    "raid6 as 5": ("--level=6 --chunk=32 --layout=left-symmetric-6", 5),
    "raid10": ("--level=10 --chunk=64 --layout=n2", 4),
    "raid10 odd": ("--level=10 --chunk=32 --layout=n2", 3),
    "raid10 far": ("--level=10 --chunk=32 --layout=f2", 4),
    "raid10 far odd": ("--level=10 --chunk=32 --layout=f2", 5),
    "raid10 offset": ("--level=10 --chunk=32 --layout=o2", 4),
}
VOLUMES = {
    "linear": "-l 100%PVS -n linear one {first} {third}",
    "striped": "-i 3 -I 64 -L 12M -n striped two",
    "mirrored": "--type raid1 -m 1 -L 8M -n mirrored two",
    "five": "--type raid5 -i 3 -L 12M -n five three",
    "six": "--type raid6 -i 3 -L 12M -n six three",
    "ten": "--type raid10 -m 1 -i 2 -L 8M -n ten four",
    "zeroth": "--type raid0 -i 2 -L 8M -n zeroth four",
}
MISSING = {"0": 0, "linear": 0, "1": 1, "4": 1, "5": 1, "6": 2, "10": 1}


def _id(number: int) -> str:
    return f"5e7a11ce:00000000:00000000:{number:08x}"


def _job() -> str:
    lines = [
        "export PATH=/bin:/sbin:/usr/bin:/usr/sbin; B=/bin/busybox",
        "for m in crc32c_generic raid0 raid1 raid10 raid456 linear dm-mod dm-mirror dm-raid; do modprobe $m; done",
        "mkdir -p /run /etc/lvm /run/lock/lvm; echo 1 > /sys/module/raid0/parameters/default_layout",
        "echo 2 > /sys/module/raid0/parameters/default_layout",
    ]
    for number, (words, count) in enumerate(SETS.values(), 1):
        members = " ".join(f"/dev/vd{'cdefg'[n]}{number}" for n in range(count))
        clean = "" if "=0 " in words or "linear" in words else "--assume-clean"
        lines += [
            f"mdadm --create /dev/md{number} --run {words} {clean} --uuid={_id(number)} -n {count} {members}",
            f"[ -b /dev/md{number} ] || echo 'job: set {number} failed'",
            f"$B dd if=/dev/vdb of=/dev/md{number} bs=65536 skip={number} conv=fsync",
            f"mdadm --stop /dev/md{number}",
        ]
    first = len(SETS) + 1
    lvm = "lvm"
    quiet = "--config 'activation{udev_sync=0 udev_rules=0 verify_udev_operations=0} devices{use_devicesfile=0}'"
    for place, name in enumerate(("one", "two", "three", "four")):
        members = " ".join(f"/dev/vd{disk}{first + place}" for disk in "cdefg")
        lines += [f"{lvm} pvcreate -y {quiet} {members}", f"{lvm} vgcreate {quiet} -s 1M {name} {members}"]
    for name, words in VOLUMES.items():
        group = words.split(" {")[0].split()[-1]
        own = words.format(first=f"/dev/vdc{first}", third=f"/dev/vde{first}")
        lines += [
            f"{lvm} lvcreate -y -Zn -Wn {quiet} {own} || echo 'job: volume {name} failed'",
            f"$B dd if=/dev/vdb of=/dev/{group}/{name} bs=65536 skip=3 conv=fsync",
        ]
    lines += ["$B sync", "echo 'job: done'"]
    return "\n".join(lines) + "\n"


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[bytes, list[Path]]:
    """(what was written, the drives)."""
    folder = tmp_path_factory.mktemp("sets")
    try:
        system = guest()
    except LabMissing as error:
        pytest.skip(f"no lab here: {error}")
    data = random.Random(41).randbytes(DATA * MIB)
    (folder / "data.img").write_bytes(data)
    job = _job().encode()
    (folder / "job.img").write_bytes(job.ljust(-(-len(job) // 65536) * 65536, b"\0"))
    disks = [folder / f"drive-{n}.img" for n in range(DISKS)]
    count = len(SETS) + 4
    for n, disk in enumerate(disks):
        size = SLICE + (MORE if n == 2 else 0)
        with disk.open("wb") as file:
            file.truncate((count * size + 4) * MIB)
        parts = itertools.chain.from_iterable(
            ("-n", f"{k}:{(1 + (k - 1) * size) * 2048}:+{size}M") for k in range(1, count + 1)
        )
        subprocess.run(["sgdisk", "-S", "64", *parts, str(disk)], check=True, capture_output=True)
    machine = Emulator(
        folder,
        False,
        [
            part
            for place in (folder / "job.img", folder / "data.img", *disks)
            for part in ("-drive", f"file={place},format=raw,if=virtio")
        ],
    )
    machine.start(system, "job=/dev/vda")
    assert machine.process is not None
    machine.process.wait(timeout=1500)
    told = machine.console.read_text("utf-8", "replace")
    assert "job: done" in told, told[-2000:]
    assert not [line for line in told.splitlines() if "job: " in line and "failed" in line]
    return data, disks


def _read(own: Assembled) -> bytes:
    assert own.sectors is not None, own.problem
    span = own.sectors.read(0, own.sectors.length or 0)
    assert not span.missing, f"{own.name}: {len(span.missing)} sectors are missing"
    return span.data


def _sets(disks: list[Path], *, without: tuple[int, ...] = ()) -> dict[str, Assembled]:
    found = assembled([ImageSectors(str(d)) for n, d in enumerate(disks) if n not in without])
    names = dict(zip((_id(n).replace(":", "") for n in range(1, len(SETS) + 1)), SETS, strict=True))
    told = {}
    for own in found:
        if own.kind == "raid":
            told[names[own.id.hex()]] = own
        else:
            told[f"volume {own.name.split('/')[-1]}"] = own
    return told


def test_every_set_holds_what_the_kernel_wrote(made: tuple[bytes, list[Path]]) -> None:
    data, disks = made
    found = _sets(disks)
    for number, name in enumerate(SETS, 1):
        own = _read(found[name])
        assert len(own) >= (SLICE - 3) * MIB, name
        assert own == data[number * 65536 :][: len(own)], name


@pytest.mark.parametrize("without", [(0,), (1,), (2,), (0, 1), (1, 3), (0, 4), (2, 3)])
def test_a_set_holds_it_still_without_what_it_can_lack(
    made: tuple[bytes, list[Path]], without: tuple[int, ...]
) -> None:
    data, disks = made
    found = _sets(disks, without=without)
    read = 0
    for number, (name, (words, count)) in enumerate(SETS.items(), 1):
        level = words.split()[0].split("=")[1]
        gone = sum(n < count for n in without)
        if gone <= MISSING[level]:
            own = _read(found[name])
            assert own == data[number * 65536 :][: len(own)], name
            read += 1
        elif level in ("0", "linear", "4", "5", "6"):
            assert name not in found or found[name].sectors is None, name
    assert read > 3


@pytest.mark.parametrize("without", [(), (1,), (4,)])
def test_logical_volumes_hold_what_was_written(made: tuple[bytes, list[Path]], without: tuple[int, ...]) -> None:
    data, disks = made
    found = _sets(disks, without=without)
    for name in VOLUMES:
        if without and name in ("striped", "zeroth", "linear"):
            continue
        own = _read(found[f"volume {name}"])
        assert len(own) >= 8 * MIB, name
        assert own == data[3 * 65536 :][: len(own)], name
