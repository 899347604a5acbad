"""An encrypted volume of which only a part was read, opened with a key of its ticket: in the helper process, and in
memory only."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from gatecheck.adapters.key_file import free_memory
from gatecheck.core.disk.follow import Run, merge_runs
from gatecheck.core.disk.joined import JoinedSectors
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.locked.find import locked_at
from gatecheck.core.locked.keys import key_of
from gatecheck.core.locked.model import Locked, Opened
from gatecheck.core.volume.assemble import RAID, Assembled, MemberPlace, held_by, largest_readable, places_on
from gatecheck.core.volume.gather import RecordingSectors
from gatecheck.core.volume.lvm.read import is_physical_volume
from gatecheck.core.volume.raid.read import MAGIC as RAID_MAGIC
from gatecheck.server.volumes.partial_image import PartSectors, SectorStore

_MOST_OPEN = 4
_MARKED = 8192
"""bytes from the start in which a member says that it is one"""
_RAID_MARK = RAID_MAGIC.to_bytes(4, "little")


@dataclass(slots=True)
class VolumeView:
    """`disk`: what was read; `seen`: what a look sees, the inside where a key opened it, with the volume from `first`
    to `last`, or a logical volume of it, `joined`; `locked`: what its encryption says of itself, None where there is
    none; `wanted`: what has to be read before that can be told; `held_in`: the set or group that it is read from;
    `is_shared`: other drives hold the same bytes, or a part of them: nothing is written."""

    disk: PartSectors
    seen: Sectors
    first: int
    last: int
    locked: Locked | None = None
    open: Opened | None = None
    wanted: tuple[Run, ...] = ()
    problem: str = ""
    joined: JoinedSectors | None = None
    held_in: Assembled | None = None
    is_shared: bool = False

    def sources(self, runs: Sequence[Run]) -> list[Run]:
        """Sectors of the disk that these of the view stand in, in order."""
        if self.seen is not self.disk and self.joined is None and self.open is None:
            return []  # on several copies: nothing of it is asked of the machine
        own = list(runs) if self.joined is None else self.joined.sources(runs)
        if self.open is None:
            return own if self.joined is None else merge_runs(own)
        return merge_runs(self.open.inside.sources(own))

    def seen_at(self, lba: int) -> int | None:
        """Where a sector of the disk is seen; None for the encryption's own records."""
        own = lba if self.open is None else self.open.inside.inside_of(lba)
        return own if self.joined is None or own is None else self.joined.inside_of(own)

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """Raises InputError where it is not safe to write through the key."""
        if self.is_shared:
            raise InputError("expected a volume of this drive alone, got one of a set: it is read, not repaired")
        own = list(writes) if self.joined is None else self.joined.to_disk(writes)
        return own if self.open is None else self.open.to_disk(own)

    def told_set(self) -> Mapping[str, Any] | None:
        """What the screen shows of the set or group that the volume is read from."""
        own = self.held_in
        if own is None:
            return None
        told = {"kind": own.kind, "name": own.name, "level": own.level, "of": own.of, "there": own.there}
        return {
            **told,
            "stale": own.stale,
            "is_read": own.sectors is not None,
            "is_shared": self.is_shared,
            "is_doubtful": own.is_doubtful,
        }

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


@dataclass(frozen=True, slots=True)
class _Held:
    """Where the volume stands: `first` to `last` of what was looked at, or of `seen`, which `own` holds."""

    first: int
    last: int
    seen: Sectors | None = None
    own: Assembled | None = None
    is_shared: bool = False
    joined: JoinedSectors | None = None
    """`seen`, where all of it is on what was looked at"""

    def shown(self, view: VolumeView) -> VolumeView:
        """The view of it."""
        view.held_in, view.is_shared = self.own, self.is_shared
        if self.seen is not None:
            view.seen, view.first, view.last = self.seen, self.first, self.last
            view.joined = self.joined
        return view


@dataclass(slots=True)
class _Kept:
    """What a key opened; `held`: the volume inside, None until enough of it was read."""

    disk: PartSectors
    locked: Locked
    open: Opened
    held: _Held | None = None


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
    plain.locked = locked_now
    if locked_now is None:
        held, plain.wanted = _held_at(disk, first, last, ground.beside)
        return plain if held is None else held.shown(plain)
    plain.wanted = tuple(asked.missing_runs())
    if plain.wanted:
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
    if kept.held is None:
        kept.held, missing = _held_at(inside, 0, inside.length - 1)
        if kept.held is None:
            wanted = tuple(merge_runs(inside.sources(missing)))
            return VolumeView(kept.disk, kept.disk, first, last, kept.locked, kept.open, wanted)
    own = kept.held
    return own.shown(VolumeView(kept.disk, inside, own.first, own.last, kept.locked, kept.open))


def _held_at(
    disk: Sectors, first: int, last: int, beside: Sequence[SectorStore] = ()
) -> tuple[_Held | None, tuple[Run, ...]]:
    """The volume at this place, or the largest that can be read of those that the place holds as a member of a set or a
    group, also together with the copies `beside` it; None where more has to be read first, and what."""
    asked = RecordingSectors(disk)
    start = asked.read(first, -(-_MARKED // disk.sector)).data
    if not is_physical_volume(start) and _RAID_MARK not in (start[:4], start[4096:4100]):
        return _Held(first, last), ()
    others = [place for n, own in enumerate(beside, 1) for place in places_on(PartSectors(own), n)]

    def sets(of: Sectors) -> list[Assembled]:
        found = held_by([MemberPlace(of, first, last, ((0, first),)), *others])
        return [own for own in found if (0, first) in own.members]

    is_read = any(largest_readable([own]) for own in sets(asked))
    missing = tuple(asked.missing_runs())
    if missing:
        return None, missing
    found = sets(disk)
    largest = largest_readable(found) if is_read else None
    if largest is None:
        return _Held(first, last, own=found[0] if found else None, is_shared=bool(found)), ()
    seen, low, high = largest
    own = next(o for o in found if o.sectors is seen)
    joined = seen if isinstance(seen, JoinedSectors) and seen.is_only_on(disk) else None
    return _Held(low, high, seen, own, joined is None or any(o.kind == RAID for o in found), joined), ()


def _mark(keys: Sequence[bytes]) -> bytes:
    """Which keys these are, without being them."""
    return hashlib.sha256(b"".join(hashlib.sha256(k).digest() for k in keys)).digest()
