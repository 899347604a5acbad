"""LVM: where the volumes of a group begin. What lvm2 itself writes is judged in the lab."""

from __future__ import annotations

import random

import pytest

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.disk.volume import volume_at, volume_start
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.lvm.encode import physical_volume
from gatecheck.core.volume.lvm.read import is_physical_volume, read_group

OWN = physical_volume("vg_loft", {"boot": (10, volume_start("ext")), "root": (200, volume_start("luks"))})
MIB = 1 << 20


def test_volumes_are_found_where_they_begin() -> None:
    disk = CapturedSectors({4096 + at: data for at, data in OWN.items()})
    group = read_group(disk, 4096)
    assert [(v.name, v.at, v.size) for v in group.volumes] == [("boot", MIB, 40 * MIB), ("root", 41 * MIB, 800 * MIB)]
    kinds = [volume_at(disk, 4096 + (v.at or 0) // 512) for v in group.volumes]
    assert [v.kind if v else None for v in kinds] == ["ext", "encrypted"]
    assert is_physical_volume(OWN[0][:4096])


def changed(old: bytes, new: bytes) -> CapturedSectors:
    assert len(old) == len(new)
    return CapturedSectors({0: OWN[0].replace(old, new)})


def test_a_volume_on_another_disk_has_no_place_here() -> None:
    assert [v.at for v in read_group(changed(b'"pv0", 0', b'"pv1", 0'), 0).volumes] == [None, 41 * MIB]


@pytest.mark.parametrize(("old", "new"), [(b"LABELONE", b"LABELTWO"), (b" LVM2 x[5A%", b" LVM2 y[5A%")])
def test_what_is_no_group_says_so(old: bytes, new: bytes) -> None:
    with pytest.raises(DecodeError, match="LVM"):
        read_group(changed(old, new), 0)


def test_hostile_descriptions_end() -> None:
    rng = random.Random(3)
    for _ in range(400):
        raw = bytearray(OWN[0])
        for _ in range(rng.choice((1, 4, 40))):
            raw[rng.randrange(4096 + 512, len(raw)) if rng.random() < 0.7 else rng.randrange(len(raw))] = rng.choice(
                b'{}[]"=#\\0 9\xff'
            )
        try:
            read_group(CapturedSectors({0: bytes(raw)}), 0)
        except DecodeError:
            continue
