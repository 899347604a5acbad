"""NTFS structures as bytes: records with their fixups, attributes, runs, folder indexes. The readers' mirror, for
repairs.

A folder's index is made anew from its entries: sorted, packed into blocks from the left, every block's separator in the
one above (NTFS B-tree)."""

from __future__ import annotations

import struct
from collections.abc import Sequence

from gatecheck.core.errors import DecodeError

_HEAD = 24
"""bytes of an index block before its index header"""
FOLDER_FLAG = 0x10000000


def sealed(body: bytes, stride: int = 512) -> bytes:
    """A record or index block with its fixups taken out of the strides' ends."""
    out = bytearray(body)
    at, count = struct.unpack_from("<HH", out, 4)
    mark = (int.from_bytes(out[at : at + 2], "little") + 1 & 0xFFFF) or 1
    out[at : at + 2] = struct.pack("<H", mark)
    for n in range(1, count):
        end = n * stride
        out[at + 2 * n : at + 2 * n + 2] = out[end - 2 : end]
        out[end - 2 : end] = out[at : at + 2]
    return bytes(out)


def packed_runs(line: Sequence[tuple[int, int]]) -> bytes:
    """(LCN or -1, clusters) -> mapping pairs, ended."""
    out, before = b"", 0
    for lcn, count in line:
        size = _least(count, signed=False)
        if lcn < 0:
            out += bytes([size]) + count.to_bytes(size, "little")
            continue
        step = lcn - before
        wide = _least(step, signed=True)
        out += bytes([size | wide << 4]) + count.to_bytes(size, "little") + step.to_bytes(wide, "little", signed=True)
        before = lcn
    return out + b"\0"


def _least(value: int, *, signed: bool) -> int:
    """Bytes that hold it; a count keeps its highest bit clear, as the system writes it."""
    for size in range(1, 9):
        if -(1 << (8 * size - 1)) <= value < 1 << (8 * size - 1):
            return size
    raise DecodeError("run", at=0, expected="a number of 64 bits", got=value if signed else hex(value))


def attribute_at(body: bytes, kind: int, name: str, own_id: int | None = None) -> int:
    """Byte of an attribute in a record. Raises DecodeError where there is none."""
    at = struct.unpack_from("<H", body, 20)[0]
    while at + 24 <= len(body):
        own, length = struct.unpack_from("<II", body, at)
        if own == 0xFFFFFFFF or length < 24:
            break
        letters, name_at = body[at + 9], struct.unpack_from("<H", body, at + 10)[0]
        text = body[at + name_at : at + name_at + 2 * letters].decode("utf-16-le", "replace") if letters else ""
        if own == kind and text == name and (own_id is None or struct.unpack_from("<H", body, at + 14)[0] == own_id):
            return int(at)
        at += length
    raise DecodeError("record", at=0, expected=f"an attribute {kind:X}h {name}", got="none")


def replaced(body: bytes, at: int, attribute: bytes) -> bytes:
    """A record in which one attribute has another form. Raises DecodeError where it has no room for it."""
    old = struct.unpack_from("<I", body, at + 4)[0]
    used = struct.unpack_from("<I", body, 24)[0]
    size = used - old + len(attribute)
    if size > len(body):
        raise DecodeError("record", at=at, expected=f"room for {size} bytes", got=len(body))
    out = body[:at] + attribute + body[at + old : used]
    return (out[:24] + struct.pack("<I", size) + out[28:]).ljust(len(body), b"\0")


def resident(kind: int, name: str, value: bytes, own_id: int, *, indexed: bool = False) -> bytes:
    letters = name.encode("utf-16-le")
    value_at = 24 + (len(letters) + 7 & ~7)
    length = value_at + len(value) + 7 & ~7
    head = struct.pack("<IIBBHHHIHBB", kind, length, 0, len(name), 24, 0, own_id, len(value), value_at, int(indexed), 0)
    return (head + letters.ljust(value_at - 24, b"\0") + value).ljust(length, b"\0")


def foreign(
    kind: int, name: str, line: Sequence[tuple[int, int]], own_id: int, cluster: int, real: int | None = None
) -> bytes:
    """An attribute whose bytes lie in clusters."""
    letters, pairs = name.encode("utf-16-le"), packed_runs(line)
    runs_at = 64 + (len(letters) + 7 & ~7)
    length = runs_at + len(pairs) + 7 & ~7
    total = sum(count for _, count in line)
    size = total * cluster if real is None else real
    head = struct.pack(
        "<IIBBHHHQQHH4xQQQ",
        kind,
        length,
        1,
        len(name),
        64,
        0,
        own_id,
        0,
        total - 1,
        runs_at,
        0,
        total * cluster,
        size,
        size,
    )
    return (head + letters.ljust(runs_at - 64, b"\0") + pairs).ljust(length, b"\0")


def entry(reference: int, key: bytes, child: int | None = None, *, is_last: bool = False) -> bytes:
    """An index entry. `reference`: record and sequence as 64 bits."""
    length = 16 + (len(key) + 7 & ~7) + (8 if child is not None else 0)
    out = (struct.pack("<QHHI", reference, length, len(key), (child is not None) | is_last << 1) + key).ljust(
        length, b"\0"
    )
    return out[:-8] + struct.pack("<Q", child) if child is not None else out


def index_block(vcn: int, size: int, entries: bytes, *, has_children: bool) -> bytes:
    count = size // 512 + 1
    start = (0x28 + 2 * count + 7 & ~7) - _HEAD
    head = struct.pack("<4sHHQQ", b"INDX", 0x28, count, 0, vcn) + struct.pack(
        "<IIII", start, start + len(entries), size - _HEAD, int(has_children)
    )
    body = head.ljust(_HEAD + start, b"\0") + entries
    return sealed(body.ljust(size, b"\0"))


def block_room(size: int) -> int:
    """Bytes for entries in an index block, without its last one."""
    return size - (0x28 + 2 * (size // 512 + 1) + 7 & ~7) - 24


def index_tree(entries: Sequence[tuple[int, bytes]], size: int, step: int, most: int) -> tuple[list[bytes], int]:
    """(blocks in their order, VCN of the top one) for sorted entries (reference, key). `step`: VCNs of a block. Raises
    DecodeError where `most` blocks do not hold them."""
    blocks: list[bytes] = []
    line: list[tuple[int, bytes, int | None]] = [(reference, key, None) for reference, key in entries]
    last_child: int | None = None
    while True:
        above: list[tuple[int, bytes, int | None]] = []
        room, body = block_room(size), b""
        for place, (reference, key, child) in enumerate(line):
            own = entry(reference, key, child)
            if len(body) + len(own) > room and place + 1 <= len(line):
                # this entry stands above, between what is in this block and what follows
                vcn = len(blocks) * step
                blocks.append(
                    index_block(vcn, size, body + entry(0, b"", child, is_last=True), has_children=child is not None)
                )
                above.append((reference, key, vcn))
                body = b""
                continue
            body += own
        vcn = len(blocks) * step
        blocks.append(
            index_block(vcn, size, body + entry(0, b"", last_child, is_last=True), has_children=last_child is not None)
        )
        if len(blocks) > most:
            raise DecodeError("folder", at=0, expected=f"at most {most} blocks", got=len(blocks))
        if not above:
            return blocks, vcn
        line, last_child = above, vcn


def index_root(size: int, per_block: int, entries: bytes, *, large: bool, head: bytes = b"") -> bytes:
    """A value of $INDEX_ROOT. `head`: kind and order of an older one."""
    start = head[:8] or struct.pack("<II", 0x30, 1)
    return (
        start
        + struct.pack("<IB3x", size, per_block)
        + struct.pack("<IIII", 16, 16 + len(entries), 16 + len(entries), int(large))
        + entries
    )


def blank_record(size: int, number: int, sequence: int) -> bytes:
    """A record that is free."""
    count = size // 512 + 1
    first = 0x30 + 2 * count + 7 & ~7
    head = struct.pack(
        "<4sHHQHHHHIIQHHI", b"FILE", 0x30, count, 0, sequence, 0, first, 0, first + 8, size, 0, 0, 0, number
    )
    return (head.ljust(first, b"\0") + b"\xff\xff\xff\xff\0\0\0\0").ljust(size, b"\0")


def with_attributes(record: bytes, attributes: Sequence[bytes], *, flags: int, links: int) -> bytes:
    """A blank record filled. Raises DecodeError where it has no room."""
    first = struct.unpack_from("<H", record, 20)[0]
    body = b"".join(attributes) + b"\xff\xff\xff\xff\0\0\0\0"
    if first + len(body) > len(record):
        raise DecodeError("record", at=first, expected=f"room for {len(body)} bytes", got=len(record) - first)
    out = bytearray((record[:first] + body).ljust(len(record), b"\0"))
    out[18:20], out[22:24] = struct.pack("<H", links), struct.pack("<H", flags)
    out[24:28], out[40:42] = struct.pack("<I", first + len(body)), struct.pack("<H", len(attributes))
    return bytes(out)
