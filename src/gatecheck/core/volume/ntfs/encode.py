"""Files -> an NTFS volume's bytes: the reader's mirror, for practice disks and round-trip tests.

What a system writes, as far as readers and checkers look at it: boot sector and copy, file table and mirror, journal
(empty), maps, capitals, folders with their indexes. Security descriptors are left out; drivers take their own in that
case."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, field

from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs import write as out
from gatecheck.core.volume.ntfs.read import FIRST_USER, ROOT
from gatecheck.core.volume.tree import capital_of

SECTOR, CLUSTER, RECORD, INDEX = 512, 4096, 1024, 4096
_MFT_AT, _RESIDENT, _SMALL_FOLDER = 4, 500, 350
_DAY = 133_700_000_000_000_000
_SYSTEM = (
    "$MFT",
    "$MFTMirr",
    "$LogFile",
    "$Volume",
    "$AttrDef",
    ".",
    "$Bitmap",
    "$Boot",
    "$BadClus",
    "$Secure",
    "$UpCase",
    "$Extend",
)
_LOG = 1 << 20


@dataclass(slots=True)
class _Thing:
    """A file or folder to be. `runs`: where its bytes lie."""

    number: int
    name: str
    parent: int
    data: bytes | None
    runs: list[tuple[int, int]] = field(default_factory=list)
    children: list[int] = field(default_factory=list)
    deleted: bool = False
    size: int = 0
    """bytes of zeros instead of data"""


def ntfs_volume(
    files: Mapping[str, bytes],
    *,
    sectors: int,
    label: str = "SYSTEM",
    dirty: bool = False,
    pieces: int = 1,
    deleted: Mapping[str, bytes] | None = None,
    filler: Mapping[str, int] | None = None,
) -> dict[int, bytes]:
    """Sector of the volume -> bytes from there; all else is zeros. `sectors`: with the copy of the boot sector as the
    last one. `pieces`: into how many runs the bytes of a large file are broken; `deleted`: files whose records still
    stand, and their folders where nothing else is in them; `filler`: files of so many clusters of zeros, which take
    room on the volume and none here. Raises ValueError where it is too small for its files."""
    return _Builder(sectors - 1, label, dirty=dirty, pieces=pieces).built(files, deleted or {}, filler or {})


class _Builder:
    def __init__(self, sectors: int, label: str, *, dirty: bool, pieces: int) -> None:
        self.sectors, self.label, self.dirty, self.pieces = sectors, label, dirty, pieces
        self.clusters = sectors * SECTOR // CLUSTER
        self.content: dict[int, bytes] = {}
        self.free = _MFT_AT
        self.used: set[int] = {0, 1}
        self.filled: list[tuple[int, int]] = []
        self.things: list[_Thing] = []
        self.paths: dict[str, _Thing] = {}

    def take(self, data: bytes, *, pieces: int = 1) -> list[tuple[int, int]]:
        """Clusters for some bytes, in so many runs with a free cluster between."""
        need = max(1, -(-len(data) // CLUSTER))
        each = -(-need // min(pieces, need))
        runs: list[tuple[int, int]] = []
        while need:
            count = min(each, need)
            if self.free + count > self.clusters:
                raise ValueError(f"{self.sectors} sectors: too small for its files")
            runs.append((self.free, count))
            self.used |= set(range(self.free, self.free + count))
            self.free += count + (1 if need > count else 0)
            need -= count
        at = 0
        for lcn, count in runs:
            self.content[lcn] = data[at : at + count * CLUSTER].ljust(count * CLUSTER, b"\0")
            at += count * CLUSTER
        return runs

    def room(self, count: int) -> list[tuple[int, int]]:
        """Clusters of zeros."""
        if self.free + count > self.clusters:
            raise ValueError(f"{self.sectors} sectors: too small for its files")
        self.filled.append((self.free, count))
        self.free += count
        return [(self.free - count, count)]

    def built(
        self, files: Mapping[str, bytes], deleted: Mapping[str, bytes], filler: Mapping[str, int]
    ) -> dict[int, bytes]:
        self._tree({**files, **dict.fromkeys(filler, b"")}, deleted)
        for own, count in ((t, filler[p]) for p, t in self.paths.items() if p in filler):
            own.size = count * CLUSTER
        total = max(FIRST_USER + 8, FIRST_USER + len(self.things) - 1 + 8)
        table = self.take(bytes(total * RECORD))
        marks_size = (total + 63) // 64 * 8
        marks_at = self.take(bytes(marks_size)) if marks_size > _RESIDENT else []
        mirror, log = self.take(bytes(CLUSTER)), self.take(b"\xff" * _LOG)
        upcase_table = self.take(b"".join(struct.pack("<H", capital_of(n)) for n in range(65536)))
        definitions = self.take(_definitions())
        for own in self.things:
            if own.size:
                own.runs = self.room(own.size // CLUSTER)
                self.free += own.size // CLUSTER // 3  # what lay between was deleted long ago
            elif own.data is not None and len(own.data) > _RESIDENT:
                own.runs = self.take(own.data, pieces=self.pieces)
                if own.deleted:
                    self.used -= {cluster for first, count in own.runs for cluster in range(first, first + count)}
        bodies = {own.number: self._record(own) for own in self.things}
        bitmap = self.take(bytes(-(-self.clusters // 8)))
        bits = bytearray(sum(c for _, c in bitmap) * CLUSTER)
        for cluster in self.used:
            bits[cluster // 8] |= 1 << cluster % 8
        for first, count in self.filled:
            for cluster in (
                *range(first, min(first + count, -(-first // 8) * 8)),
                *range(max(first, (first + count) // 8 * 8), first + count),
            ):
                bits[cluster // 8] |= 1 << cluster % 8
            low, high = -(-first // 8), (first + count) // 8
            if high > low:
                bits[low:high] = b"\xff" * (high - low)
        for cluster in range(self.clusters, len(bits) * 8):
            bits[cluster // 8] |= 1 << cluster % 8
        self.content[bitmap[0][0]] = bytes(bits)
        marks = bytearray(marks_size)
        for number in [*range(16), *(own.number for own in self.things if not own.deleted)]:
            marks[number // 8] |= 1 << number % 8
        if marks_at:
            self.content[marks_at[0][0]] = bytes(marks).ljust(marks_at[0][1] * CLUSTER, b"\0")
        own_marks = (
            out.foreign(rec.BITMAP, "", marks_at, 3, CLUSTER, marks_size)
            if marks_at
            else out.resident(rec.BITMAP, "", bytes(marks), 3)
        )
        bodies |= self._system(table, mirror, log, upcase_table, definitions, bitmap, own_marks, total)
        raw = b"".join(
            out.sealed(bodies.get(n) or out.blank_record(RECORD, n, n if 0 < n < FIRST_USER else 1))
            for n in range(total)
        )
        self.content[table[0][0]] = raw.ljust(table[0][1] * CLUSTER, b"\0")
        self.content[mirror[0][0]] = raw[: 4 * RECORD]
        boot = self._boot(table[0][0], mirror[0][0])
        self.content[0] = boot.ljust(2 * CLUSTER, b"\0")
        return {lcn * CLUSTER // SECTOR: data for lcn, data in self.content.items()} | {self.sectors: boot}

    def _tree(self, files: Mapping[str, bytes], deleted: Mapping[str, bytes]) -> None:
        root = _Thing(ROOT, ".", ROOT, None)
        self.things = [root]
        known: dict[str, _Thing] = {"": root}
        for path, data in [*files.items(), *deleted.items()]:
            parts = path.split("/")
            for depth in range(len(parts)):
                own = "/".join(parts[: depth + 1])
                if own in known:
                    continue
                above = known["/".join(parts[:depth])]
                thing = _Thing(
                    FIRST_USER + len(self.things) - 1,
                    parts[depth],
                    above.number,
                    data if depth == len(parts) - 1 else None,
                    deleted=path in deleted,
                )
                if not thing.deleted:
                    above.children.append(thing.number)
                known[own] = self.paths[own] = thing
                self.things.append(thing)

    @staticmethod
    def _name(parent: int, name: str, size: int, *, folder: bool) -> bytes:
        reference = parent | (parent if parent < 16 else 1) << 48
        allocated = -(-size // 8) * 8
        return struct.pack(
            "<Q4QQQIIBB",
            reference,
            _DAY,
            _DAY,
            _DAY,
            _DAY,
            allocated,
            size,
            out.FOLDER_FLAG if folder else 0x20,
            0,
            len(name),
            rec.BOTH,
        ) + name.encode("utf-16-le")

    def _standard(self) -> bytes:
        return out.resident(rec.STANDARD, "", struct.pack("<4QI", _DAY, _DAY, _DAY, _DAY, 0).ljust(48, b"\0"), 0)

    def _record(self, own: _Thing) -> bytes:
        sequence = own.number if own.number < 16 else 1
        attributes = [
            self._standard(),
            out.resident(
                rec.NAME,
                "",
                self._name(own.parent, own.name, own.size or len(own.data or b""), folder=own.data is None),
                1,
                indexed=True,
            ),
        ]
        if own.data is None:
            attributes += self._folder(own)
        elif own.runs:
            attributes.append(out.foreign(rec.DATA, "", own.runs, 2, CLUSTER, own.size or len(own.data)))
        else:
            attributes.append(out.resident(rec.DATA, "", own.data, 2))
        return out.with_attributes(
            out.blank_record(RECORD, own.number, sequence),
            attributes,
            flags=(2 if own.data is None else 0) | (not own.deleted),
            links=1,
        )

    def _folder(self, own: _Thing) -> list[bytes]:
        inside = (self.things[n - FIRST_USER + 1] for n in own.children)
        entries = [
            (t.number | 1 << 48, self._name(own.number, t.name, t.size or len(t.data or b""), folder=t.data is None))
            for t in inside
        ]
        if own.number == ROOT:
            entries += [
                (n | (n or 1) << 48, self._name(ROOT, name, 0, folder=name in (".", "$Extend")))
                for n, name in enumerate(_SYSTEM)
            ]
        entries.sort(key=lambda e: [capital_of(ord(c)) for c in e[1][66:].decode("utf-16-le")])
        flat = b"".join(out.entry(r, k) for r, k in entries)
        if len(flat) <= _SMALL_FOLDER:
            return [
                out.resident(
                    rec.INDEX_ROOT,
                    "$I30",
                    out.index_root(INDEX, 1, flat + out.entry(0, b"", is_last=True), large=False),
                    2,
                )
            ]
        blocks, top = out.index_tree(entries, INDEX, 1, 1 << 16)
        runs = self.take(b"".join(blocks))
        bits = ((1 << len(blocks)) - 1).to_bytes((len(blocks) + 63) // 64 * 8, "little")
        return [
            out.resident(
                rec.INDEX_ROOT, "$I30", out.index_root(INDEX, 1, out.entry(0, b"", top, is_last=True), large=True), 2
            ),
            out.foreign(rec.INDEX_ALLOCATION, "$I30", runs, 3, CLUSTER),
            out.resident(rec.BITMAP, "$I30", bits, 4),
        ]

    def _system(
        self,
        table: list[tuple[int, int]],
        mirror: list[tuple[int, int]],
        log: list[tuple[int, int]],
        upcase_table: list[tuple[int, int]],
        definitions: list[tuple[int, int]],
        bitmap: list[tuple[int, int]],
        marks: bytes,
        total: int,
    ) -> dict[int, bytes]:
        data: dict[int, list[bytes]] = {
            0: [out.foreign(rec.DATA, "", table, 2, CLUSTER, total * RECORD), marks],
            1: [out.foreign(rec.DATA, "", mirror, 2, CLUSTER, 4 * RECORD)],
            2: [out.foreign(rec.DATA, "", log, 2, CLUSTER, _LOG)],
            3: [
                out.resident(rec.VOLUME_NAME, "", self.label.encode("utf-16-le"), 2),
                out.resident(rec.VOLUME_INFO, "", struct.pack("<8xBBH", 3, 1, int(self.dirty)), 3),
                out.resident(rec.DATA, "", b"", 4),
            ],
            4: [out.foreign(rec.DATA, "", definitions, 2, CLUSTER, len(_definitions()))],
            6: [out.foreign(rec.DATA, "", bitmap, 2, CLUSTER, (-(-self.clusters // 8) + 7) // 8 * 8)],
            7: [out.foreign(rec.DATA, "", [(0, 2)], 2, CLUSTER)],
            8: [out.resident(rec.DATA, "", b"", 2)],
            9: [out.resident(rec.DATA, "", b"", 2)],
            10: [out.foreign(rec.DATA, "", upcase_table, 2, CLUSTER, 131_072)],
            11: [
                out.resident(
                    rec.INDEX_ROOT, "$I30", out.index_root(INDEX, 1, out.entry(0, b"", is_last=True), large=False), 2
                )
            ],
        }
        found = {}
        for number, attributes in data.items():
            own = [
                self._standard(),
                out.resident(rec.NAME, "", self._name(ROOT, _SYSTEM[number], 0, folder=number == 11), 1, indexed=True),
                *attributes,
            ]
            found[number] = out.with_attributes(
                out.blank_record(RECORD, number, number or 1), own, flags=3 if number == 11 else 1, links=1
            )
        for number in range(12, 16):
            found[number] = out.with_attributes(
                out.blank_record(RECORD, number, number),
                [self._standard(), out.resident(rec.DATA, "", b"", 2)],
                flags=1,
                links=0,
            )
        return found

    def _boot(self, mft: int, mirror: int) -> bytes:
        boot = bytearray(SECTOR)
        boot[:3], boot[3:11] = b"\xeb\x52\x90", b"NTFS    "
        struct.pack_into("<HB", boot, 11, SECTOR, CLUSTER // SECTOR)
        boot[21] = 0xF8
        struct.pack_into("<HHI", boot, 24, 63, 255, 0)
        struct.pack_into("<IQQQ", boot, 36, 0x00800080, self.sectors, mft, mirror)
        boot[64], boot[68] = 0xF6, 1  # records of 2^10 bytes, index blocks of one cluster
        boot[72:80] = struct.pack("<Q", 0x5A2100C45A2100C4)
        boot[510:512] = b"\x55\xaa"
        return bytes(boot)


def _definitions() -> bytes:
    """$AttrDef: which attributes there are (name, type, flags, smallest, largest)."""
    rows = (
        ("$STANDARD_INFORMATION", 0x10, 0x40, 0x30, 0x48),
        ("$ATTRIBUTE_LIST", 0x20, 0x80, 0, -1),
        ("$FILE_NAME", 0x30, 0x42, 0x44, 0x242),
        ("$OBJECT_ID", 0x40, 0x40, 0, 0x100),
        ("$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, -1),
        ("$VOLUME_NAME", 0x60, 0x40, 2, 0x100),
        ("$VOLUME_INFORMATION", 0x70, 0x40, 0xC, 0xC),
        ("$DATA", 0x80, 0, 0, -1),
        ("$INDEX_ROOT", 0x90, 0x40, 0, -1),
        ("$INDEX_ALLOCATION", 0xA0, 0x80, 0, -1),
        ("$BITMAP", 0xB0, 0x80, 0, -1),
        ("$REPARSE_POINT", 0xC0, 0x80, 0, 0x4000),
        ("$EA_INFORMATION", 0xD0, 0x40, 8, 8),
        ("$EA", 0xE0, 0, 0, 0x10000),
        ("$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000),
    )
    return b"".join(
        name.encode("utf-16-le").ljust(128, b"\0") + struct.pack("<IIIIqq", kind, 0, 0, flags, least, most)
        for name, kind, flags, least, most in rows
    ) + bytes(160)
