"""LZNT1, by which NTFS compresses: chunks of 4096 bytes, each of literals and references back within it.

[MS-XCA] 2.5, "LZNT1 Algorithm Details".
"""

from __future__ import annotations

from gatecheck.core.errors import DecodeError

CHUNK = 4096


def unpacked(raw: bytes, size: int) -> bytes:
    """At most `size` bytes; shorter where the data ends. Raises DecodeError where a reference leads before its
    chunk."""
    out = bytearray()
    at = 0
    while at + 2 <= len(raw) and len(out) < size:
        head = int.from_bytes(raw[at : at + 2], "little")
        if not head:
            break
        end = min(at + 3 + (head & 0x0FFF), len(raw))
        at += 2
        if not head & 0x8000:
            out += raw[at:end].ljust(CHUNK, b"\0")
        else:
            _chunk(raw, at, end, out)
        at = end
    return bytes(out[:size])


def _chunk(raw: bytes, at: int, end: int, out: bytearray) -> None:
    start = len(out)
    while at < end and len(out) - start < CHUNK:
        flags = raw[at]
        at += 1
        for bit in range(8):
            if at >= end or len(out) - start >= CHUNK:
                break
            if not flags >> bit & 1:
                out.append(raw[at])
                at += 1
                continue
            if at + 2 > end:
                return
            pair = raw[at] | raw[at + 1] << 8
            at += 2
            place, shift = len(out) - start, 12
            while place > 1 << (16 - shift):
                shift -= 1
            back, length = (pair >> shift) + 1, (pair & (1 << shift) - 1) + 3
            if back > place:
                raise DecodeError("LZNT1 chunk", at=at, expected=f"a reference within {place} bytes", got=back)
            for _ in range(length):
                out.append(out[-back])
    short = CHUNK - (len(out) - start)
    if short > 0 and at < end:
        out.extend(bytes(short))
