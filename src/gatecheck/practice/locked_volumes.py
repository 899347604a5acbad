"""Encrypted system volumes of practice machines, and the keys that their made-up customers have."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from uuid import UUID

from gatecheck.core.locked.encode import Protection, noise, recovery_text, windows_sparse
from gatecheck.core.locked.keys import RECOVERY_PASSWORD, Key
from gatecheck.practice.volumes import sound_volume, torn_volume

_AREA = 64 << 10
_PLACES = (80, 90, 95)
"""where its metadata stands, in hundredths of the volume: free in all of them"""

STRETCHED = {
    "locked-torn": "71b01c3e9d7753398a663e231eb47eb0a89aea6b8e705983dc29c221a09a59f0",
    "locked-other-key": "d64d6091050d2ae17366f3400294d79a631fe6bcb364401933cc732bc882407a",
    "locked-lost-key": "9d7c174cefa826f7b7b260faf79ea393845725c1c5731c59100ecbe937300c25",
}
"""what stretching gives for the recovery password of each, a million rounds long: known beforehand, so that a practice
machine is there at once"""


@lru_cache(8)
def recovery_key(name: str) -> str:
    """The recovery password of the machine by this name."""
    return recovery_text(noise(f"recovery {name}", 16))


def key_id(name: str) -> UUID:
    return UUID(bytes=noise(f"protector {name}", 16), version=4)


def locked_volume(sectors: int, name: str, person: str, *, is_torn: bool = False) -> dict[int, bytes]:
    """A Windows system, encrypted; the machine's own chip opens it at home, its recovery password everywhere."""
    content: Mapping[int, bytes] = torn_volume(sectors, person) if is_torn else sound_volume(sectors, person)
    key = Key(RECOVERY_PASSWORD, recovery=noise(f"recovery {name}", 16))
    one, other, third = ((sectors * 512 * share // 100) & -_AREA for share in _PLACES)
    ways = [
        Protection(UUID(bytes=noise(f"chip {name}", 16), version=4), "tpm"),
        Protection(key_id(name), RECOVERY_PASSWORD, key, stretched=bytes.fromhex(STRETCHED.get(name, ""))),
    ]
    return windows_sparse(
        content, sectors, ways, places=(one, other, third), volume=UUID(bytes=noise(f"volume {name}", 16), version=4)
    )
