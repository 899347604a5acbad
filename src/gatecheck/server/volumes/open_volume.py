"""An encrypted volume of which only a part was read, opened with a key of its ticket: in the helper process, and in
memory only."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from gatecheck.adapters.key_file import free_memory
from gatecheck.core.disk.follow import Run, merge_runs
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.find import locked_at
from gatecheck.core.locked.keys import key_of
from gatecheck.core.locked.model import Locked, Opened
from gatecheck.core.volume.gather import RecordingSectors
from gatecheck.core.volume.lvm.largest import largest_of_group
from gatecheck.server.volumes.partial_image import PartSectors, SectorStore

_MOST_OPEN = 4


@dataclass(slots=True)
class VolumeView:
    """`disk`: what was read; `seen`: what a look sees, the inside where a key opened it, with the volume from `first`
    to `last`; `locked`: what its encryption says of itself, None where there is none; `wanted`: what has to be read
    before that can be told."""

    disk: PartSectors
    seen: Sectors
    first: int
    last: int
    locked: Locked | None = None
    open: Opened | None = None
    wanted: tuple[Run, ...] = ()
    problem: str = ""

    def sources(self, runs: Sequence[Run]) -> list[Run]:
        """Sectors of the disk that these of the view stand in, in order."""
        if self.open is None:
            return list(runs)
        return merge_runs(self.open.inside.sources(runs))

    def seen_at(self, lba: int) -> int | None:
        """Where a sector of the disk is seen; None for the encryption's own records."""
        return lba if self.open is None else self.open.inside.inside_of(lba)

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """Raises InputError where it is not safe to write through the key."""
        return list(writes) if self.open is None else self.open.to_disk(writes)

    def told(self) -> Mapping[str, Any] | None:
        """What the screen shows of the encryption: nothing of the key."""
        own = self.locked
        if own is None:
            return None
        return {
            "name": own.name,
            "id": own.id,
            "method": own.method,
            "state": own.state,
            "keys": [{"id": p.id.strip("{}"), "how": p.how, "name": p.told, "opens": p.opens} for p in own.protectors],
            "needs_key": own.needs_key,
            "opened_by": self.open.by.strip("{}") if self.open else None,
        }


@dataclass(slots=True)
class _Kept:
    """What a key opened; `place`: where the volume stands inside, None until enough of it was read."""

    disk: PartSectors
    locked: Locked
    open: Opened
    place: tuple[int, int] | None = None


_OPEN: dict[tuple[str, int, bytes], _Kept] = {}


def forget(image: str = "") -> None:
    """No derived key stays in this process, of one disk or of all."""
    for key in [k for k in _OPEN if not image or k[0] == image]:
        del _OPEN[key]


def view_of(ground: SectorStore, first: int, last: int, keys: Sequence[bytes]) -> VolumeView:
    """The volume at this place, opened where one of the keys opens it. Never raises for what stands on it."""
    key = (ground.image, first, _mark(keys))
    if key in _OPEN:
        _OPEN[key].disk.refresh()
        return _inside(_OPEN[key], first, last)
    disk = PartSectors(ground)
    asked = RecordingSectors(disk)
    plain = VolumeView(disk, disk, first, last)
    try:
        locked_now = locked_at(asked, first, last, memory=free_memory())
    except DecodeError as error:
        plain.problem, plain.wanted = str(error), tuple(asked.missing_runs())
        return plain
    plain.locked, plain.wanted = locked_now, tuple(asked.missing_runs())
    if locked_now is None or plain.wanted:
        plain.wanted = plain.wanted if locked_now is not None else ()
        return plain
    plain.locked = locked_at(disk, first, last, memory=free_memory())  # over what was read, nothing is noted any more
    for raw in [*keys, *([] if plain.locked is None or plain.locked.needs_key else [b""])]:
        try:
            now = plain.locked.open(key_of(raw) if raw else None) if plain.locked else None
        except (InputError, DecodeError) as error:
            plain.problem = plain.problem or str(error)
            continue
        if now is not None and plain.locked is not None:
            while len(_OPEN) >= _MOST_OPEN:
                del _OPEN[next(iter(_OPEN))]
            _OPEN[key] = _Kept(disk, plain.locked, now)
            return _inside(_OPEN[key], first, last)
    return plain


def _inside(kept: _Kept, first: int, last: int) -> VolumeView:
    """What a look sees of what is open."""
    inside = kept.open.inside
    if kept.place is None:
        asked, place = RecordingSectors(inside), None
        with contextlib.suppress(DecodeError):
            place = largest_of_group(asked)
        if asked.missing_runs():
            wanted = tuple(merge_runs(inside.sources(asked.missing_runs())))
            return VolumeView(kept.disk, kept.disk, first, last, kept.locked, kept.open, wanted)
        kept.place = place or (0, inside.length - 1)
    return VolumeView(kept.disk, inside, *kept.place, kept.locked, kept.open)


def _mark(keys: Sequence[bytes]) -> bytes:
    """Which keys these are, without being them."""
    return hashlib.sha256(b"".join(hashlib.sha256(k).digest() for k in keys)).digest()
