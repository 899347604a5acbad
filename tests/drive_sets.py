"""The drives of a set with a volume on it, for tests that put them together."""

from __future__ import annotations

from gatecheck.core.volume.ext.encode import ext_volume
from gatecheck.core.volume.raid.encode import raid_members

SECTORS, FILE = 32_768, b"rope " * 4000


def volume_of_a_store(sectors: int = SECTORS) -> bytearray:
    """An ext4 volume, "store", with letters/rope.txt."""
    whole = bytearray(sectors * 512)
    for at, data in ext_volume({"letters/rope.txt": FILE}, sectors=sectors, label="store").items():
        whole[at * 512 : at * 512 + len(data)] = data
    return whole


def drives_of_a_store() -> list[bytes]:
    """The three drives of a RAID 5 with that volume."""
    return raid_members(bytes(volume_of_a_store()), 5, 3, layout=2)
