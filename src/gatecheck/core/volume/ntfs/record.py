"""Records of an NTFS volume's file table: fixups, attributes, runs.

Layouts as NTFS 3.1 stores them: record header, attribute header (resident and not), $ATTRIBUTE_LIST, $FILE_NAME,
$STANDARD_INFORMATION, index entries. Offsets are of the structure's start. All work is bounded by the record."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.names import name_of_utf16

STANDARD, LIST, NAME, SECURITY, VOLUME_NAME, VOLUME_INFO, DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP, REPARSE = (
    0x10,
    0x20,
    0x30,
    0x50,
    0x60,
    0x70,
    0x80,
    0x90,
    0xA0,
    0xB0,
    0xC0,
)
END = 0xFFFFFFFF
IN_USE, IS_FOLDER = 1, 2
COMPRESSED, ENCRYPTED, SPARSE = 0x0001, 0x4000, 0x8000
POSIX, WIN32, DOS, BOTH = 0, 1, 2, 3
_EPOCH = 11_644_473_600
_STRIDE = 512


@dataclass(frozen=True, slots=True)
class Attribute:
    """`value`: its bytes where it is resident; `runs`: (first VCN, LCN or -1 for none, clusters) where it is not.
    `sizes`: allocated, real, initialised."""

    type: int
    name: str
    flags: int
    resident: bool
    value: bytes
    lowest: int
    runs: tuple[tuple[int, int, int], ...]
    sizes: tuple[int, int, int]
    unit: int
    id: int

    @property
    def size(self) -> int:
        return len(self.value) if self.resident else self.sizes[1]


@dataclass(frozen=True, slots=True)
class Record:
    """`base`: number of the record that this one extends, 0 where it is a base itself; `sequence`, `links`, `flags` of
    its header."""

    number: int
    sequence: int
    links: int
    flags: int
    base: int
    base_sequence: int
    attributes: tuple[Attribute, ...]

    @property
    def in_use(self) -> bool:
        return bool(self.flags & IN_USE)

    @property
    def is_folder(self) -> bool:
        return bool(self.flags & IS_FOLDER)

    def first(self, kind: int, name: str = "") -> Attribute | None:
        return next((a for a in self.attributes if a.type == kind and a.name == name), None)


@dataclass(frozen=True, slots=True)
class FileName:
    parent: int
    parent_sequence: int
    space: int
    name: str
    raw: bytes


def fixed(raw: bytes, magic: bytes, what: str) -> bytes:
    """The record with the ends of its strides put back. Raises DecodeError where it is none, or torn."""
    if raw[:4] != magic:
        raise DecodeError(what, at=0, expected=magic.decode(), got=raw[:4].hex() or "nothing")
    at, count = struct.unpack_from("<HH", raw, 4)
    if count < 2 or at + 2 * count > len(raw) or (count - 1) * _STRIDE > len(raw) or at & 1:
        raise DecodeError(
            f"{what} fixups", at=4, expected=f"{len(raw) // _STRIDE} within the record", got=f"{count - 1} at {at}"
        )
    mark = raw[at : at + 2]
    out = bytearray(raw)
    for n in range(1, count):
        end = n * _STRIDE
        if raw[end - 2 : end] != mark:
            raise DecodeError(f"{what} fixups", at=end - 2, expected=mark.hex(), got=raw[end - 2 : end].hex())
        out[end - 2 : end] = raw[at + 2 * n : at + 2 * n + 2]
    return bytes(out)


def comparable(raw: bytes, number: int) -> bytes:
    """A record without what changes at every write: its fixups and its place in the journal."""
    body = bytearray(fixed(raw, b"FILE", f"file record {number}"))
    at, count = struct.unpack_from("<HH", raw, 4)
    body[8:16] = bytes(8)
    body[at : at + 2 * count] = bytes(2 * count)
    return bytes(body)


def parse_record(raw: bytes, number: int) -> Record:
    """A record as it stands on the disk. Raises DecodeError where it is none, torn, or its attributes leave it."""
    what = f"file record {number}"
    body = fixed(raw, b"FILE", what)
    sequence, links, first, flags, used, allocated = struct.unpack_from("<HHHHII", body, 16)
    base = int.from_bytes(body[32:38], "little")
    if not 42 <= first <= len(body) - 4 or used > len(body) or allocated > len(body) or first & 7:
        raise DecodeError(
            f"{what} sizes",
            at=20,
            expected=f"within {len(body)} bytes",
            got=f"attributes at {first}, {used} used, {allocated} in all",
        )
    return Record(
        number,
        sequence,
        links,
        flags,
        base,
        int.from_bytes(body[38:40], "little"),
        tuple(_attributes(body, first, what)),
    )


def _attributes(body: bytes, at: int, what: str) -> Iterator[Attribute]:
    end = len(body)
    while at + 4 <= end:
        kind = struct.unpack_from("<I", body, at)[0]
        if kind == END:
            return
        if at + 24 > end:
            break
        length, foreign, name_length, name_at, flags, own_id = struct.unpack_from("<IBBHHH", body, at + 4)
        if length < 24 or length & 7 or at + length > end or not 0x10 <= kind <= 0x1000:
            raise DecodeError(
                f"{what} attribute",
                at=at,
                expected="a known kind within the record",
                got=f"{kind:X}h of {length} bytes",
            )
        name = body[at + name_at : at + name_at + 2 * name_length].decode("utf-16-le", "replace") if name_length else ""
        if not foreign:
            size, offset = struct.unpack_from("<IH", body, at + 16)
            if offset + size > length:
                raise DecodeError(
                    f"{what} attribute {kind:X}h",
                    at=at + 16,
                    expected=f"a value within {length} bytes",
                    got=f"{size} at {offset}",
                )
            yield Attribute(
                kind, name, flags, True, body[at + offset : at + offset + size], 0, (), (size, size, size), 0, own_id
            )
        else:
            if length < 64:
                raise DecodeError(f"{what} attribute {kind:X}h", at=at, expected="64 bytes at least", got=length)
            lowest, highest, runs_at, unit = struct.unpack_from("<QqHH", body, at + 16)
            sizes = struct.unpack_from("<QQQ", body, at + 40)
            if runs_at > length or lowest >= 1 << 48:
                raise DecodeError(
                    f"{what} attribute {kind:X}h", at=at + 32, expected=f"runs within {length} bytes", got=runs_at
                )
            yield Attribute(
                kind,
                name,
                flags,
                False,
                b"",
                lowest,
                # of a file that was cut to nothing, the bytes of its former runs may still stand there
                tuple(runs(body[at + runs_at : at + length], lowest, what)) if highest >= 0 or sizes[0] else (),
                sizes,
                unit,
                own_id,
            )
        at += length
    raise DecodeError(f"{what} attributes", at=at, expected="an end within the record", got="none")


def runs(raw: bytes, vcn: int, what: str = "runs") -> Iterator[tuple[int, int, int]]:
    """(first VCN, LCN or -1, clusters). Raises DecodeError where a run is none."""
    at, lcn = 0, 0
    while at < len(raw) and raw[at]:
        sizes = raw[at]
        of_length, of_offset = sizes & 15, sizes >> 4
        if not 1 <= of_length <= 8 or of_offset > 8 or at + 1 + of_length + of_offset > len(raw):
            raise DecodeError(what, at=at, expected="a run", got=f"{sizes:02X}h")
        count = int.from_bytes(raw[at + 1 : at + 1 + of_length], "little")
        if not 0 < count < 1 << 48:
            raise DecodeError(what, at=at, expected="a run of at least one cluster", got=count)
        if of_offset:
            lcn += int.from_bytes(raw[at + 1 + of_length : at + 1 + of_length + of_offset], "little", signed=True)
            if not 0 <= lcn < 1 << 48:
                raise DecodeError(what, at=at, expected="a cluster on the volume", got=lcn)
        yield vcn, lcn if of_offset else -1, count
        vcn += count
        at += 1 + of_length + of_offset


def file_name(value: bytes) -> FileName:
    """Raises DecodeError for a value that is no $FILE_NAME."""
    if len(value) < 66 or len(value) < 66 + 2 * value[64]:
        raise DecodeError("file name", at=0, expected="66 bytes and its letters", got=f"{len(value)} bytes")
    raw = value[66 : 66 + 2 * value[64]]
    return FileName(
        int.from_bytes(value[:6], "little"), int.from_bytes(value[6:8], "little"), value[65], name_of_utf16(raw), raw
    )


def seconds(raw: bytes) -> float | None:
    """A time of 100 ns since 1601, as seconds since 1970; None where it is none."""
    ticks = int.from_bytes(raw, "little")
    return ticks / 10_000_000 - _EPOCH if 0 < ticks < 1 << 62 else None


@dataclass(frozen=True, slots=True)
class IndexEntry:
    """`record`, `sequence`: the file that it names; `key`: the value it is sorted by; `child`: VCN of the block below,
    None where there is none."""

    record: int
    sequence: int
    key: bytes
    child: int | None
    is_last: bool


def index_entries(raw: bytes, at: int, end: int, what: str) -> Iterator[IndexEntry]:
    """Entries of an index node. Raises DecodeError where they leave it."""
    while at + 16 <= end:
        length, key, flags = struct.unpack_from("<HHH", raw, at + 8)
        if length < 16 or length & 7 or at + length > end or 16 + key > length:
            raise DecodeError(
                what, at=at, expected=f"an entry within {end - at} bytes", got=f"{length} bytes, key {key}"
            )
        child = int.from_bytes(raw[at + length - 8 : at + length], "little") if flags & 1 and length >= 24 else None
        yield IndexEntry(
            int.from_bytes(raw[at : at + 6], "little"),
            int.from_bytes(raw[at + 6 : at + 8], "little"),
            raw[at + 16 : at + 16 + key],
            child,
            bool(flags & 2),
        )
        if flags & 2:
            return
        at += length
    raise DecodeError(what, at=at, expected="a last entry", got="none")
