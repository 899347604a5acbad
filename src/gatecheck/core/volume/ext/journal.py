"""What a journal of ext3 or ext4 still holds: the blocks that a mount would write before anything else (JBD2).

Linux, Documentation/filesystems/ext4/journal.rst: superblock, descriptor, commit and revoke blocks; big-endian. Every
sum is verified, and the reading ends where the system's own ends; what the system would not carry out, or what is not
known here, is refused: a journal carried out otherwise than by its system loses files.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext.layout import JOURNAL
from gatecheck.core.volume.ext.read import Ext

_MAGIC, _DESCRIPTOR, _COMMIT, _FIRST_KIND, _SECOND_KIND, _REVOKE = 0xC03B3998, 1, 2, 3, 4, 5
_SUM1 = 0x1
_REVOKES, _WIDE, _ASYNC, _SUM2, _SUM3, _FAST = 0x1, 0x2, 0x4, 0x8, 0x10, 0x20
_KNOWN = _REVOKES | _WIDE | _ASYNC | _SUM2 | _SUM3 | _FAST
_ESCAPED, _SAME_UUID, _LAST = 1, 2, 8
_CRC32, _CRC32C = 1, 4
_LARGEST = 1 << 30
_FAST_BLOCKS = 256
_HEAD_TAG = 9
_COMMIT_HEAD = 60
_NONE = 0xFFFFFFFF


@dataclass(frozen=True, slots=True)
class _Head:
    """The journal's superblock: `length` in blocks without those of fast commits, which are the last `fast`."""

    length: int
    first: int
    sequence: int
    start: int
    compat: int
    incompat: int
    fast: int
    seed: int


def pending_blocks(volume: Ext) -> dict[int, bytes]:
    """Block of the volume -> bytes, of every transaction that was committed. Raises DecodeError where the journal
    cannot be followed, where one of its sums is wrong in a place at which the system gives up too, and where it holds
    what is not known here."""
    inode = volume.inode(JOURNAL)
    if inode.size > _LARGEST:
        raise DecodeError("journal", at=0, expected="at most 1 GiB", got=inode.size)
    line: list[int] = []
    for run in sorted(volume.mapped(inode), key=lambda r: r.first):
        if run.block is not None:
            line += range(run.block, run.block + run.count)
    head = _read_head(volume, line)
    return _Walk(volume, line, head).pending() if head.start else {}


def _read_head(volume: Ext, line: list[int]) -> _Head:
    what = "journal superblock"
    raw = volume.bytes.read(line[0] * volume.block, 1024, what) if line else b""
    if len(raw) < 1024 or struct.unpack_from(">I", raw, 0)[0] != _MAGIC:
        raise DecodeError(what, at=0, expected=f"{_MAGIC:08X}", got=raw[:4].hex() or "nothing")
    kind = struct.unpack_from(">I", raw, 4)[0]
    block, length, first, sequence, start = struct.unpack_from(">5I", raw, 12)
    compat, incompat, read_only = struct.unpack_from(">3I", raw, 36) if kind == _SECOND_KIND else (0, 0, 0)
    sums = incompat & (_SUM2 | _SUM3)
    fast = (struct.unpack_from(">I", raw, 84)[0] or _FAST_BLOCKS) if incompat & _FAST else 0
    for broken, at, expected, got in (
        (kind not in (_FIRST_KIND, _SECOND_KIND), 4, "kind 3 or 4", kind),
        (block != volume.block, 12, f"blocks of {volume.block} bytes", block),
        (length > len(line), 16, f"at most {len(line)} blocks, the length of the journal's file", length),
        (incompat & ~_KNOWN, 40, "features that are known", f"{incompat & ~_KNOWN:#x}"),
        (read_only, 44, "features that are known", f"{read_only:#x}"),
        (sums == _SUM2 | _SUM3, 40, "checksums of one version", "versions 2 and 3"),
        (sums and compat & _SUM1, 36, "checksums of one version", "version 1 beside another"),
        (sums and raw[80] != _CRC32C, 80, "checksums of kind 4 (CRC-32C)", raw[80]),
        (fast >= length - 1, 84, f"fewer fast commit blocks than {length - 1}", fast),
        (start and not max(1, first) <= start < length - fast, 28, "a start inside the journal", start),
    ):
        if broken:
            raise DecodeError(what, at=at, expected=expected, got=got)
    if sums:
        own = struct.unpack_from(">I", raw, 0xFC)[0]
        right = crc32c(_NONE, raw[:0xFC] + bytes(4) + raw[0x100:1024])
        if own != right:
            raise DecodeError(what, at=0xFC, expected=f"checksum {right:08X}", got=f"{own:08X}")
    seed = crc32c(_NONE, raw[48:64]) if sums else 0
    return _Head(length - fast, max(1, first), sequence, start, compat, incompat, fast, seed)


class _Walk:
    def __init__(self, volume: Ext, line: list[int], head: _Head) -> None:
        self.volume, self.line, self.head = volume, line, head
        self.wide, self.third = bool(head.incompat & _WIDE), bool(head.incompat & _SUM3)
        self.summed = bool(head.incompat & (_SUM2 | _SUM3))
        self.tail = 4 if self.summed else 0
        size = 16 if self.third else 12 if self.wide else 8
        self.tag = size + 2 if head.incompat & _SUM2 else size

    def at(self, place: int) -> bytes:
        return self.volume.bytes.read(self.line[place] * self.volume.block, self.volume.block, "journal")

    def after(self, place: int) -> int:
        return place + 1 if place + 1 < self.head.length else self.head.first

    def pending(self) -> dict[int, bytes]:
        """Two passes, as the system makes them: where the last whole transaction ends, then what they hold."""
        end = self.end()
        if self.head.fast and self.holds_fast_commits(end):
            raise DecodeError("journal", at=0, expected="full commits only", got="fast commits")
        done: dict[int, tuple[int, bytes]] = {}
        revoked: dict[int, int] = {}
        for place, kind, sequence, raw in self.blocks(until=end):
            if kind == _DESCRIPTOR:
                for number, flags, own, data in self.journalled(place, raw):
                    if number >= self.volume.super.blocks:
                        last = self.volume.super.blocks - 1
                        raise DecodeError("journal", at=place, expected=f"blocks up to {last}", got=number)
                    self.verify_data(sequence, data, own)
                    done[number] = (sequence, struct.pack(">I", _MAGIC) + data[4:] if flags & _ESCAPED else data)
            elif kind == _REVOKE:
                for number in self.revoked(raw):
                    revoked[number] = sequence
        return {
            number: data
            for number, (when, data) in done.items()
            if number not in revoked or _later(when, revoked[number])
        }

    def blocks(self, until: int | None = None) -> Iterator[tuple[int, int, int, bytes]]:
        """(place, kind, sequence, block) of each block that leads, in the order of the log."""
        place, sequence, seen = self.head.start, self.head.sequence, 0
        while seen < self.head.length and sequence != until:
            raw = self.at(place)
            magic, kind, own = struct.unpack_from(">3I", raw, 0)
            if magic != _MAGIC or own != sequence or kind not in (_DESCRIPTOR, _COMMIT, _REVOKE):
                return
            yield place, kind, sequence, raw
            steps = 1 + (len(self.tags(raw)) if kind == _DESCRIPTOR else 0)
            for _ in range(steps):
                place = self.after(place)
            seen += steps
            sequence = (sequence + (kind == _COMMIT)) & _NONE

    def end(self) -> int:
        """The sequence of the first transaction that is not carried out: one without a commit, or whose commit has a
        wrong sum. Raises DecodeError where a descriptor or revoke block has one in a transaction that is newer than the
        one before it, as the system does: an older one is a rest of before."""
        last_time, sequence, doubtful, mix = 0, self.head.sequence, False, _NONE
        for place, kind, own, raw in self.blocks():
            if kind == _DESCRIPTOR:
                doubtful = doubtful or not self.tail_holds(raw)
                if self.head.compat & _SUM1 and not self.summed:
                    mix = _crc32_be(mix, raw)
                    for _, _, _, data in self.journalled(place, raw):
                        mix = _crc32_be(mix, data)
            elif kind == _REVOKE:
                doubtful = doubtful or not self.tail_holds(raw)
            else:
                when = struct.unpack_from(">Q", raw, 48)[0]
                if doubtful:
                    if when >= last_time:
                        raise DecodeError("journal", at=place, expected="a right checksum", got="a wrong one")
                    return own
                if not self.commit_holds(raw, mix):
                    return own
                last_time, mix, sequence = when, _NONE, (own + 1) & _NONE
        return sequence

    def tail_holds(self, raw: bytes) -> bool:
        if not self.tail:
            return True
        own: int = struct.unpack_from(">I", raw, len(raw) - 4)[0]
        return crc32c(self.head.seed, raw[:-4] + bytes(4)) == own

    def commit_holds(self, raw: bytes, mix: int) -> bool:
        own = struct.unpack_from(">I", raw, 16)[0]
        if self.summed:
            bare = raw[:16] + bytes(4) + raw[20:]
            if own == crc32c(self.head.seed, bare):
                return True
            if own == crc32c(self.head.seed, bare[:_COMMIT_HEAD] + bytes(len(raw) - _COMMIT_HEAD)):
                raise DecodeError("journal commit", at=_COMMIT_HEAD, expected="zeros", got="something else")
            return False  # systems do not agree on one that is right but for the bytes that say nothing
        if self.head.compat & _SUM1:
            kind, size = raw[12], raw[13]
            return (own == mix and kind == _CRC32 and size == 4) or not (own or kind or size)
        return True

    def verify_data(self, sequence: int, data: bytes, own: int) -> None:
        if not self.summed:
            return
        right = crc32c(crc32c(self.head.seed, struct.pack(">I", sequence)), data)
        if own != (right if self.third else right & 0xFFFF):
            raise DecodeError("journal data block", at=0, expected=f"checksum {right:08X}", got=f"{own:08X}")

    def journalled(self, place: int, raw: bytes) -> Iterator[tuple[int, int, int, bytes]]:
        """(block, flags, checksum, bytes as stored) of what a descriptor at `place` leads."""
        for number, flags, own in self.tags(raw):
            place = self.after(place)
            yield number, flags, own, self.at(place)

    def tags(self, raw: bytes) -> list[tuple[int, int, int]]:
        """(block, flags, checksum) of a descriptor."""
        found, at, end = [], 12, len(raw) - self.tail
        while at + self.tag <= end:
            if self.third:
                number, flags, high, own = struct.unpack_from(">4I", raw, at)
            else:
                number, own, flags = struct.unpack_from(">IHH", raw, at)
                high = struct.unpack_from(">I", raw, at + 8)[0] if self.wide else 0
            found.append((number | (high << 32 if self.wide else 0), flags, own))
            at += self.tag + (0 if flags & _SAME_UUID else 16)
            if flags & _LAST:
                break
        return found

    def revoked(self, raw: bytes) -> list[int]:
        count, most = struct.unpack_from(">I", raw, 12)[0], len(raw) - self.tail
        if count > most:
            raise DecodeError("journal revoke block", at=12, expected=f"at most {most} bytes", got=count)
        size = 8 if self.wide else 4
        return [int.from_bytes(raw[at : at + size], "big") for at in range(16, count - size + 1, size)]

    def holds_fast_commits(self, expected: int) -> bool:
        """Does the fast part hold commits that follow the last full one (`expected`: the next sequence)?"""
        raw = self.volume.bytes.read(self.line[self.head.length] * self.volume.block, 16, "journal")
        tag, _, _, sequence = struct.unpack_from("<HHII", raw, 0)
        return bool(tag == _HEAD_TAG and sequence == expected)


def _later(one: int, other: int) -> bool:
    """Sequences go round at 32 bits."""
    return 0 < ((one - other) & _NONE) < 1 << 31


_REVERSED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


def _turned(value: int) -> int:
    return int(f"{value:032b}"[::-1], 2)


def _crc32_be(seed: int, data: bytes) -> int:
    """CRC-32 of the same polynomial, most significant bit first, without inversions: the reflected one over bytes
    turned round."""
    return _turned(zlib.crc32(data.translate(_REVERSED), _turned(seed) ^ _NONE) ^ _NONE)
