"""An HFS Plus volume with nothing on it, as Apple's TN1150 has it: what a kernel's driver may fill."""

from __future__ import annotations

import struct

_BLOCK, _DATE, _NODES = 4096, 3_850_000_000, 64


def blank(size: int, label: str = "loft", *, is_sensitive: bool = False) -> bytes:
    """`size` in bytes, a multiple of 4096."""
    blocks = size // _BLOCK
    bitmap = -(-blocks // 8 // _BLOCK) or 1
    starts = {"bitmap": (1, bitmap)}
    for name in ("extents", "catalog", "attributes"):
        at, count = list(starts.values())[-1]
        starts[name] = (at + count, _NODES)
    used = {0, blocks - 1, *range(sum(list(starts.values())[-1]))}
    raw = bytearray(size)
    for block in used:
        raw[_BLOCK + block // 8] |= 0x80 >> block % 8
    mode = struct.pack(">IIBBHI", 0, 0, 0, 0, 0o40755, 0)
    folder = struct.pack(">HHII4II", 1, 0, 0, 2, *[_DATE] * 4, 0) + mode + bytes(32) + bytes(8)
    thread = struct.pack(">HHIH", 3, 0, 1, len(label)) + label.encode("utf-16-be")
    leaf = _node([_key(1, label) + folder, _key(2, "") + thread])
    kind = 0xBC if is_sensitive else 0xCF
    trees = {"extents": _tree(10, 2), "catalog": _tree(516, 6, leaf, kind), "attributes": _tree(266, 6)}
    for name, own in trees.items():
        raw[starts[name][0] * _BLOCK : starts[name][0] * _BLOCK + len(own)] = own
    head = bytearray(512)
    struct.pack_into(">2sHI4sI", head, 0, b"HX" if is_sensitive else b"H+", 5 if is_sensitive else 4, 0x100, b"8.10", 0)
    struct.pack_into(">4I2I", head, 16, _DATE, _DATE, 0, _DATE, 0, 0)
    struct.pack_into(">9IQ", head, 40, _BLOCK, blocks, blocks - len(used), len(used) - 1, 65536, 65536, 16, 1, 0, 1)
    for at, (first, count) in zip((112, 192, 272, 352), starts.values(), strict=True):
        struct.pack_into(">QIIII", head, at, count * _BLOCK, _BLOCK, count, first, count)
    raw[1024:1536] = head
    raw[size - 1024 : size - 512] = head
    return bytes(raw)


def _key(parent: int, name: str) -> bytes:
    return struct.pack(">HIH", 6 + 2 * len(name), parent, len(name)) + name.encode("utf-16-be")


def _node(records: list[bytes]) -> bytes:
    raw, at, starts = bytearray(_BLOCK), 14, []
    struct.pack_into(">IIbBHH", raw, 0, 0, 0, -1, 1, len(records), 0)
    for record in records:
        starts.append(at)
        raw[at : at + len(record)] = record
        at += len(record)
    for place, start in enumerate([*starts, at], 1):
        struct.pack_into(">H", raw, _BLOCK - 2 * place, start)
    return bytes(raw)


def _tree(longest: int, attributes: int, leaf: bytes = b"", compares: int = 0xCF) -> bytes:
    raw, used = bytearray(_BLOCK * _NODES), 2 if leaf else 1
    struct.pack_into(">IIbBHH", raw, 0, 0, 0, 1, 0, 3, 0)
    first = (1, 1, 2, 1, 1) if leaf else (0, 0, 0, 0, 0)
    struct.pack_into(
        ">HIIIIHHIIHIBBI", raw, 14, *first, _BLOCK, longest, _NODES, _NODES - used, 0, 0, 0, compares, attributes
    )
    raw[248] = 0xC0 if leaf else 0x80
    struct.pack_into(">4H", raw, _BLOCK - 8, _BLOCK - 8, 248, 120, 14)
    raw[_BLOCK : _BLOCK + len(leaf)] = leaf
    return bytes(raw)
