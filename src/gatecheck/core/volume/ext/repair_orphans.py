"""Files of ext that no folder names any more get a name in lost+found: `#` and their number, as the system's own
checker names them. What they hold is not written; a folder's own link to the one above it is set to lost+found."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.check import ExtCheck
from gatecheck.core.volume.ext.folder_blocks import TAIL, parsed
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_names import TYPES, folder_blocks, unheard
from gatecheck.core.volume.repair_group import RepairGroup, group

_WHERE, _HEAD, _MOST = "lost+found", 8, 2000
_UNSURE = {
    "unreadable",
    "crossed",
    "group",
    "superblock-field",
    "map-unread",
    "folder-broken",
    "deleted-noted",
    "inode",
    "extents",
    "beyond",
}
"""findings under which it is not known what an inode without a name is"""


@dataclass(slots=True)
class _Block:
    """A block of lost+found as it is to be, and whether its end is kept for a sum."""

    at: int
    raw: bytearray
    changed: bool = False

    def put(self, number: int, kind: int, *, end: int) -> bool:
        """An entry in the first room that is large enough, up to byte `end`."""
        name = f"#{number}".encode()
        need, at = _room(len(name)), 0
        while at + _HEAD <= end:
            target, length, letters, _ = struct.unpack_from("<IHBB", self.raw, at)
            if length < _HEAD or length & 3 or at + length > len(self.raw):
                return False
            used = _room(letters) if target else 0
            if length - used >= need and at + used + need <= end:
                if used:
                    struct.pack_into("<H", self.raw, at + 4, used)
                struct.pack_into("<IHBB", self.raw, at + used, number, length - used, len(name), kind)
                self.raw[at + used + _HEAD : at + used + _HEAD + len(name)] = name
                self.changed = True
                return True
            at += length
        return False


def _room(letters: int) -> int:
    return -(-(_HEAD + letters) // 4) * 4


def orphan_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """None where there are none, where lost+found is not whole or full, or where it is not known what they are."""
    if "orphan" not in ids or ids & _UNSURE:
        return None
    own = ExtCheck(volume, unheard, lambda _stage, _done, _of: None)
    own.whole()
    found = next((n for n in own.folders if own.names.get(n) == _WHERE and n in own.reached), None)
    tops = _tops(own)
    if found is None or found in own.broken or not tops or len(tops) > _MOST:
        return None
    if own.folders[found].flags & (e.INDEXED | e.ENCRYPTED | e.INLINE):
        return None
    try:
        blocks = [
            _Block(b * volume.block, bytearray(volume.bytes.read(b * volume.block, volume.block, _WHERE)))
            for b in folder_blocks(volume, own.folders[found])
        ]
        links = list(_upwards(own, tops, found))
    except DecodeError:
        return None
    is_typed, names = bool(volume.super.incompat & e.FILETYPE), list[str]()
    for number in tops:
        kind = TYPES.get(own.kinds[number], 0) if is_typed else 0
        if any(b.put(number, kind, end=len(b.raw) - (12 if _is_summed(own, bytes(b.raw)) else 0)) for b in blocks):
            names.append(f"{_WHERE}/#{number}")
    if len(names) < len(tops):
        return None  # without room for all of them nothing is done: lost+found is made larger by the system itself
    writes = [(b.at, _summed(own, found, bytes(b.raw))) for b in blocks if b.changed] + links
    base = volume.bytes.base
    return group(
        "orphans-named", [(base + at, raw) for at, raw in writes], "entry", touches=tuple(names), count=len(names)
    )


def _tops(own: ExtCheck) -> Sequence[int]:
    """Inodes without a name that no folder without a name holds."""
    volume = own.volume
    lost = {
        n
        for n in own.taken_inodes
        if n >= own.super.first_inode
        and n not in own.reached
        and n not in own.kept
        and n not in own.orphans
        and n not in own.value_inodes
        and n not in own.broken
        and own.kinds.get(n) in TYPES
        and own.links.get(n)
    }
    held: set[int] = set()
    for number in lost & set(own.folders):
        for block in folder_blocks(volume, own.folders[number]):
            try:
                raw = volume.bytes.read(block * volume.block, volume.block, "folder")
            except DecodeError:
                continue
            held |= {own.inode for own in parsed(raw)[0] if own.name not in (b".", b"..")}
    return sorted(lost - held)


def _upwards(own: ExtCheck, tops: Sequence[int], found: int) -> Iterator[tuple[int, bytes]]:
    """(byte, block) of each folder among them whose link upwards leads elsewhere. Raises DecodeError for one whose
    beginning is not a folder's."""
    volume = own.volume
    for number in tops:
        if number not in own.folders:
            continue
        inode = own.folders[number]
        first = next(folder_blocks(volume, inode), None)
        if first is None or inode.flags & e.INDEXED:
            raise DecodeError(f"inode {number}", at=0, expected="a folder's first block", got="none that is plain")
        raw = bytearray(volume.bytes.read(first * volume.block, volume.block, "folder"))
        own_entry, second = struct.unpack_from("<IHBB", raw), raw[4] | raw[5] << 8
        if own_entry[0] != number or raw[8:9] != b"." or raw[second + 8 : second + 10] != b"..":
            raise DecodeError(f"inode {number}", at=0, expected="its own two links", got="others")
        if int.from_bytes(raw[second : second + 4], "little") != found:
            struct.pack_into("<I", raw, second, found)
            yield first * volume.block, _summed(own, number, bytes(raw))


def _is_summed(own: ExtCheck, raw: bytes) -> bool:
    return own.sums and raw[-12:-4] == TAIL


def _summed(own: ExtCheck, number: int, raw: bytes) -> bytes:
    """A folder's block with its sum, where it has one."""
    if not _is_summed(own, raw):
        return raw
    return raw[:-4] + struct.pack("<I", crc32c(own.inode_seed(own.folders[number]), raw[:-12]))
