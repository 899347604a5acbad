"""What a journal of ext3 or ext4 still holds: the blocks that a mount would write before anything else (JBD2).

Linux, Documentation/filesystems/ext4/journal.rst: superblock, descriptor, commit and revoke blocks; big-endian.
"""

from __future__ import annotations

import struct

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ext.layout import JOURNAL
from gatecheck.core.volume.ext.read import Ext

_MAGIC, _DESCRIPTOR, _COMMIT, _REVOKE = 0xC03B3998, 1, 2, 5
_WIDE, _CSUM2, _CSUM3 = 0x2, 0x8, 0x10
_ESCAPED, _SAME_UUID, _LAST = 1, 2, 8
_LARGEST = 1 << 30


def pending_blocks(volume: Ext) -> dict[int, bytes]:
    """Block of the volume -> bytes, of every transaction that was committed. Raises DecodeError where the journal
    cannot be followed at all."""
    inode = volume.inode(JOURNAL)
    if inode.size > _LARGEST:
        raise DecodeError("journal", at=0, expected="at most 1 GiB", got=inode.size)
    line: list[int] = []
    for run in sorted(volume.mapped(inode), key=lambda r: r.first):
        if run.block is not None:
            line += range(run.block, run.block + run.count)
    head = volume.bytes.read(line[0] * volume.block, 1024, "journal superblock") if line else b""
    if len(head) < 1024 or struct.unpack_from(">I", head, 0)[0] != _MAGIC:
        raise DecodeError("journal superblock", at=0, expected=f"{_MAGIC:08X}", got=head[:4].hex() or "nothing")
    block, length, first, sequence, start = struct.unpack_from(">5I", head, 12)
    incompat = struct.unpack_from(">I", head, 40)[0]
    if block != volume.block or not start:
        return {}
    length = min(length, len(line))
    walk = _Walk(volume, line, length, first, incompat)
    return walk.pending(start, sequence)


class _Walk:
    def __init__(self, volume: Ext, line: list[int], length: int, first: int, incompat: int) -> None:
        self.volume, self.line, self.length, self.first = volume, line, length, max(1, first)
        self.tag = 16 if incompat & _CSUM3 else 12 if incompat & _WIDE else 8
        self.tag = self.tag + 2 if incompat & _CSUM2 and not incompat & _CSUM3 else self.tag
        self.wide, self.third = bool(incompat & _WIDE), bool(incompat & _CSUM3)
        self.tail = 4 if incompat & (_CSUM2 | _CSUM3) else 0

    def at(self, place: int) -> bytes:
        return self.volume.bytes.read(self.line[place] * self.volume.block, self.volume.block, "journal")

    def after(self, place: int, steps: int = 1) -> int:
        for _ in range(steps):
            place = place + 1 if place + 1 < self.length else self.first
        return place

    def pending(self, start: int, sequence: int) -> dict[int, bytes]:
        done: dict[int, tuple[int, bytes]] = {}
        revoked: dict[int, int] = {}
        now: dict[int, bytes] = {}
        now_revoked: list[int] = []
        place, seen = start, 0
        while seen < self.length:
            raw = self.at(place)
            magic, kind, own = struct.unpack_from(">3I", raw, 0)
            if magic != _MAGIC or own != sequence:
                break
            if kind == _DESCRIPTOR:
                following = self.after(place)
                for number, flags in self.tags(raw):
                    data = self.at(following)
                    now[number] = struct.pack(">I", _MAGIC) + data[4:] if flags & _ESCAPED else data
                    following = self.after(following)
                    seen += 1
                place, seen = following, seen + 1
                continue
            if kind == _REVOKE:
                now_revoked += self.revoked(raw)
            elif kind == _COMMIT:
                done |= {number: (sequence, data) for number, data in now.items()}
                revoked |= dict.fromkeys(now_revoked, sequence)
                now, now_revoked = {}, []
                sequence = (sequence + 1) & 0xFFFFFFFF
            else:
                break
            place, seen = self.after(place), seen + 1
        return {
            number: data for number, (when, data) in done.items() if not (number in revoked and when <= revoked[number])
        }

    def tags(self, raw: bytes) -> list[tuple[int, int]]:
        """(block, flags) of a descriptor."""
        found, at, end = [], 12, len(raw) - self.tail
        while at + self.tag <= end:
            if self.third:
                number, flags, high = struct.unpack_from(">3I", raw, at)
                number |= high << 32 if self.wide else 0
            else:
                number, _, flags = struct.unpack_from(">IHH", raw, at)
                number |= struct.unpack_from(">I", raw, at + 8)[0] << 32 if self.wide else 0
            found.append((number, flags))
            at += self.tag + (0 if flags & _SAME_UUID else 16)
            if flags & _LAST:
                break
        return found

    def revoked(self, raw: bytes) -> list[int]:
        end = min(struct.unpack_from(">I", raw, 12)[0], len(raw) - self.tail)
        size = 8 if self.wide else 4
        return [int.from_bytes(raw[at : at + size], "big") for at in range(16, end - size + 1, size)]
