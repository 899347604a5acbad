"""Blocks of folders of ext: entries as they are, blocks made of entries, the two links that every folder begins with,
and the room that is kept for a sum.

Linux, Documentation/filesystems/ext4: directory entries."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

HEAD, SHORTEST_ENTRY = 8, 12
"""bytes of an entry before its name; of the shortest one"""
TAIL, TAIL_SIZE = b"\0\0\0\0\x0c\0\0\xde", 12
"""the entry that keeps room for a block's sum, before the sum"""


@dataclass(frozen=True, slots=True)
class FolderEntry:
    """An entry as it stands: inode, name, kind."""

    inode: int
    name: bytes
    kind: int

    @property
    def room(self) -> int:
        """Bytes that it needs."""
        return -(-(HEAD + len(self.name)) // 4) * 4


def parsed(raw: bytes) -> tuple[list[FolderEntry], int]:
    """(entries in use, byte up to which they are whole). A kept end for a sum counts as an entry not in use."""
    found, at = list[FolderEntry](), 0
    while at + HEAD <= len(raw):
        inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
        length = 65536 if length in (0, 65535) and len(raw) == 65536 else length
        if length < SHORTEST_ENTRY or length & 3 or at + length > len(raw) or letters + HEAD > length:
            break
        if inode:
            found.append(FolderEntry(inode, raw[at + HEAD : at + HEAD + letters], kind))
        at += length
    return found, at


def placed(raw: bytes) -> Iterator[tuple[int, FolderEntry]]:
    """Entries in use, each with its byte in the block."""
    at = 0
    while at + HEAD <= len(raw):
        inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
        length = 65536 if length in (0, 65535) and len(raw) == 65536 else length
        if length < SHORTEST_ENTRY or at + length > len(raw):
            return
        if inode:
            yield at, FolderEntry(inode, raw[at + HEAD : at + HEAD + letters], kind)
        at += length


def packed(entries: Sequence[FolderEntry], size: int, *, tailed: bool) -> bytes | None:
    """A block of these entries, the last with all the room that is left; None where they do not fit. `tailed`: its end
    is kept for a sum, which is not set."""
    end = size - (TAIL_SIZE if tailed else 0)
    if sum(own.room for own in entries) > end:
        return None
    out, at = bytearray(size), 0
    for place, own in enumerate(entries):
        room = end - at if place == len(entries) - 1 else own.room
        struct.pack_into("<IHBB", out, at, own.inode, room & 0xFFFF, len(own.name), own.kind)
        out[at + HEAD : at + HEAD + len(own.name)] = own.name
        at += room
    if not entries:
        struct.pack_into("<IHBB", out, 0, 0, end & 0xFFFF, 0, 0)
    if tailed:
        out[-TAIL_SIZE:-4] = TAIL
    return bytes(out)


def begins_with_dots(raw: bytes) -> bool:
    """Are the first two entries of a folder's first block its links to itself and to the one above."""
    second = int.from_bytes(raw[4:6], "little")
    return (
        raw[6] == 1
        and raw[8:9] == b"."
        and SHORTEST_ENTRY <= second <= len(raw) - SHORTEST_ENTRY
        and raw[second + 6] == 2
        and raw[second + 8 : second + 10] == b".."
    )


def has_tail(raw: bytes) -> bool:
    """Does a folder's block end with the entry that keeps room for its sum, and do its other entries lead to it. Where
    they break before, nobody knows."""
    if raw[-12:-4] != TAIL:
        return False
    at, end = 0, len(raw) - 12
    while at < end:
        length = int.from_bytes(raw[at + 4 : at + 6], "little")
        if length < SHORTEST_ENTRY or length & 3:
            return True
        at += length
    return at == end
