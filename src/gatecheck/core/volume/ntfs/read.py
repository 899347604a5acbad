"""NTFS: boot sector, file table, files and folders with their bytes.

NTFS 3.1 as Windows 2000 and later write it. Reads over `Sectors`, so over an image, a copy or a linked machine; a
record that is torn or unreadable is left out here and named by the check."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice

import numpy as np

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.lznt1 import unpacked
from gatecheck.core.volume.ntfs.record import Attribute, FileName, Record
from gatecheck.core.volume.place import BOOT as BOOT_SECTOR
from gatecheck.core.volume.place import CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, limited
from gatecheck.core.words.said import Said, say

MFT, MIRROR, LOG, VOLUME, ROOT, CLUSTERS, BOOT, BAD, SECURE, EXTEND = 0, 1, 2, 3, 5, 6, 7, 8, 9, 11
FIRST_USER = 24
ROOM = 64
"""records read at once"""
_MOST_LIST, _MOST_EXTRA, _MOST_DEPTH, _MOST_PIECES = 1 << 20, 4096, 255, 1 << 20
_FEW = 20_000
"""entries of a folder that are kept at hand"""
_REPARSE = {
    0xA0000003: "junction",
    0xA000000C: "link",
    0x80000013: "deduplicated",
    0x80000017: "compressed by the system",
    0x9000001A: "kept elsewhere",
}


@dataclass(frozen=True, slots=True)
class Boot:
    """Fields of the boot sector. Sizes in bytes; `sectors` without the copy at the end."""

    sector: int
    cluster: int
    sectors: int
    mft: int
    mirror: int
    record: int
    index: int
    serial: int


def read_boot(raw: bytes) -> Boot:
    """Raises DecodeError where it is no NTFS boot sector that can be worked with."""
    if raw[3:11] != b"NTFS    ":
        raise DecodeError("NTFS boot sector", at=3, expected="NTFS", got=raw[3:11].hex())
    sector, per = struct.unpack_from("<HB", raw, 11)
    sectors, mft, mirror = struct.unpack_from("<QQQ", raw, 40)
    per = per if per <= 0x80 else 1 << min(256 - per, 31)
    if sector not in (256, 512, 1024, 2048, 4096) or per & (per - 1) or not per or sector * per > 1 << 21:
        raise DecodeError(
            "NTFS boot sector sizes",
            at=11,
            expected="sectors of 256 to 4096 bytes, clusters of up to 2 MiB",
            got=f"{sector}, {per}",
        )

    def of(code: int) -> int:
        signed = code - 256 if code > 127 else code
        return signed * sector * per if signed > 0 else 1 << min(-signed, 31)

    record, index = of(raw[64]), of(raw[68])
    if not 512 <= record <= 65536 or record & (record - 1) or not 512 <= index <= 1 << 21:
        raise DecodeError("NTFS boot sector records", at=64, expected="512 to 65536 bytes", got=f"{record}, {index}")
    clusters = sectors // per
    if not 0 < sectors < 1 << 55 or mft >= clusters or not mft:
        raise DecodeError(
            "NTFS boot sector", at=40, expected="a file table on the volume", got=f"cluster {mft} of {clusters}"
        )
    return Boot(sector, sector * per, sectors, mft, mirror, record, index, int.from_bytes(raw[72:80], "little"))


class Ntfs:
    """Raises DecodeError where boot sector or file table cannot be worked with."""

    kind = "NTFS"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)
        self.boot = read_boot(self.bytes.read(0, 512, "NTFS boot sector"))
        self.cluster = self.boot.cluster
        self.size = self.boot.sectors * self.boot.sector
        self.clusters = self.size // self.cluster
        self.table = self._table()
        room = min(sum(count for _, _, count in self.table.runs) * self.cluster, (last - first + 1) * disk.sector)
        self.records = min(self.table.size, room) // self.boot.record  # a hurt size may say any number
        self._runs = self.table.runs
        self.label = self._label()
        self._folders: dict[int, tuple[int, str]] | None = None
        self._deleted_folders: dict[int, tuple[int, str]] | None = None
        self.record = lru_cache(4096)(self._record)
        self._few = lru_cache(16)(self._named)

    # --- records

    def _table(self) -> Attribute:
        """The file table's own $DATA, from its first record, or that of the mirror where the first cannot be used."""
        raw_at = (self.boot.mft * self.cluster, self.boot.mirror * self.cluster)
        problem: DecodeError | None = None
        for at in raw_at:
            try:
                record = rec.parse_record(self.bytes.read(at, self.boot.record, "file table"), 0)
                data = record.first(rec.DATA)
                if data is None or data.resident or not data.runs:
                    raise DecodeError("file table", at=at, expected="its own runs", got="none")
            except DecodeError as error:
                problem = problem or error
                continue
            self._runs = data.runs
            more = record.first(rec.LIST)
            if more is None:
                return data
            pieces = list(data.runs)
            for number in self._listed(more, rec.DATA, ""):
                if number != 0:
                    extra = self._record_at(number, tuple(pieces))
                    part = extra.first(rec.DATA)
                    if part is not None:
                        pieces += part.runs
            return Attribute(rec.DATA, "", data.flags, False, b"", 0, tuple(sorted(pieces)), data.sizes, 0, data.id)
        assert problem is not None
        raise problem

    def _record_at(self, number: int, pieces: Sequence[tuple[int, int, int]]) -> Record:
        return rec.parse_record(self._raw(number, pieces), number)

    def _raw(self, number: int, pieces: Sequence[tuple[int, int, int]]) -> bytes:
        at, out = number * self.boot.record, b""
        while len(out) < self.boot.record:
            vcn = (at + len(out)) // self.cluster
            run = next((r for r in pieces if r[0] <= vcn < r[0] + r[2]), None)
            if run is None or run[1] < 0:
                raise DecodeError(
                    f"file record {number}", at=at, expected="a record of the file table", got="one outside of it"
                )
            skip = at + len(out) - run[0] * self.cluster
            take = min(self.boot.record - len(out), run[2] * self.cluster - skip)
            out += self.bytes.read(run[1] * self.cluster + skip, take, f"file record {number}")
        return out

    def _record(self, number: int) -> Record:
        """Raises DecodeError where it is none, torn, or could not be read."""
        if not 0 <= number < self.records:
            raise DecodeError(f"file record {number}", at=0, expected=f"0 to {self.records - 1}", got=number)
        return self._record_at(number, self._runs)

    def raw_records(self) -> Iterator[tuple[int, bytes | None]]:
        """(number, bytes) of the whole table in its order, None where they could not be read."""
        size = self.boot.record
        for number, data in self.raw_stretches(ROOM):
            if data is None:
                yield number, None
                continue
            for place in range(0, len(data), size):
                yield number + place // size, data[place : place + size]

    def raw_stretches(self, most: int) -> Iterator[tuple[int, bytes | None]]:
        """The same in stretches of at most so many records side by side: (number of the first, bytes); one by one,
        None, where they could not be read."""
        size, step = self.boot.record, self.boot.record * most
        for vcn, lcn, count in self._runs:
            at, end = vcn * self.cluster, min((vcn + count) * self.cluster, self.table.size)
            while at < end:
                take = min(step, end - at)
                span, skip = (
                    self.bytes.span(lcn * self.cluster + at - vcn * self.cluster, take) if lcn >= 0 else (None, 0)
                )
                if span is not None and not span.missing and take >= size:
                    yield at // size, span.data[skip : skip + take - take % size]
                    at += take
                    continue
                for place in range(0, take - size + 1, size):
                    number = (at + place) // size
                    if span is None or lcn < 0:
                        yield number, None
                        continue
                    gone = False
                    if span.missing:
                        low, high = (skip + place) // span.sector, (skip + place + size - 1) // span.sector
                        gone = any(span.lba + n in span.missing for n in range(low, high + 1))
                    yield number, None if gone else span.data[skip + place : skip + place + size]
                at += take

    def parsed(self, mask: int, flags: int) -> Iterator[Record]:
        """Records of the whole table that can be used, those whose flags under the mask are these (1: in use, 2:
        folder)."""
        for number, raw in self.raw_records():
            if raw is None or raw[:4] != b"FILE" or raw[22] & mask != flags:
                continue
            try:
                yield rec.parse_record(raw, number)
            except DecodeError:
                continue

    def attributes(self, record: Record) -> list[Attribute]:
        """All of a file's attributes, those in other records too, parts of one joined. What cannot be read is left
        out."""
        more = next((a for a in record.attributes if a.type == rec.LIST), None)
        if more is None:
            return list(record.attributes)
        own = [a for a in record.attributes if a.type != rec.LIST]
        for number in self._listed(more):
            if number == record.number:
                continue
            try:
                extra = self.record(number)
            except DecodeError:
                continue
            if extra.base == record.number:
                own += extra.attributes
        return _joined(own)

    def _listed(self, more: Attribute, kind: int | None = None, name: str | None = None) -> list[int]:
        """Records that an attribute list names, each once."""
        try:
            raw = more.value if more.resident else self._whole(more, _MOST_LIST)
        except DecodeError:
            return []
        found: list[int] = []
        at = 0
        while at + 26 <= len(raw) and len(found) < _MOST_EXTRA:
            own, length, letters, name_at = struct.unpack_from("<IHBB", raw, at)
            if length < 24:
                break
            number = int.from_bytes(raw[at + 16 : at + 22], "little")
            text = raw[at + name_at : at + name_at + 2 * letters].decode("utf-16-le", "replace") if letters else ""
            if (kind is None or (own == kind and text == name)) and number not in found:
                found.append(number)
            at += length
        return found

    # --- bytes of an attribute

    def _whole(self, attribute: Attribute, most: int) -> bytes:
        if attribute.size > most:
            raise DecodeError("attribute", at=0, expected=f"at most {most} bytes", got=attribute.size)
        parts: list[bytes] = []
        for piece in self.pieces(attribute):
            if isinstance(piece, Hole):
                raise DecodeError("attribute", at=sum(map(len, parts)), expected="bytes that were read", got=piece.why)
            parts.append(piece)
        return b"".join(parts)

    def pieces(self, attribute: Attribute) -> Iterator[bytes | Hole]:
        """Its bytes in order; holes where they could not be read."""
        if attribute.resident:
            yield attribute.value
            return
        if attribute.flags & rec.COMPRESSED and attribute.unit:
            yield from limited(self._packed(attribute), attribute.sizes[1])
            return
        yield from limited(self._plain(attribute), attribute.sizes[1])

    def _plain(self, attribute: Attribute) -> Iterator[bytes | Hole]:
        at, initialised = 0, attribute.sizes[2]
        for vcn, lcn, count in attribute.runs:
            if vcn * self.cluster > at:
                yield Hole(vcn * self.cluster - at, "its runs are not all there")
                at = vcn * self.cluster
            length = count * self.cluster
            if lcn < 0:
                yield from _zeros(min(length, max(0, attribute.sizes[1] - at)))
            else:
                real = max(0, min(length, initialised - at))
                if real:
                    if lcn + -(-real // self.cluster) > self.clusters + 1:
                        yield Hole(real, "beyond the volume's end")
                    else:
                        yield from self.bytes.pieces(lcn * self.cluster, real)
                yield from _zeros(max(0, min(length - real, attribute.sizes[1] - at - real)))
            at += length
        if at < attribute.sizes[1] and at < initialised:
            yield Hole(attribute.sizes[1] - at, "its runs are not all there")

    def _packed(self, attribute: Attribute) -> Iterator[bytes | Hole]:
        """Units of 2^unit clusters: stored plain, packed with the rest left sparse, or wholly sparse."""
        unit, wide = 1 << min(attribute.unit, 8), self.cluster
        line: list[tuple[int, int]] = []  # (LCN or -1, clusters)
        for _, lcn, count in attribute.runs:
            line.append((lcn, count))
        place, used, done = 0, 0, 0
        while place < len(line) and done < attribute.sizes[1]:
            parts: list[tuple[int, int]] = []
            need = unit
            while need and place < len(line):
                lcn, count = line[place]
                take = min(need, count - used)
                parts.append((lcn + used if lcn >= 0 else -1, take))
                need, used = need - take, used + take
                if used == count:
                    place, used = place + 1, 0
            stored = sum(take for lcn, take in parts if lcn >= 0)
            size = unit * wide
            if not stored:
                yield from _zeros(size)
            else:
                pieces = [p for lcn, take in parts if lcn >= 0 for p in self.bytes.pieces(lcn * wide, take * wide)]
                hole = next((p for p in pieces if isinstance(p, Hole)), None)
                if stored == unit and need == 0:
                    yield from pieces
                elif hole is not None:
                    yield Hole(size, hole.why)
                else:
                    try:
                        yield unpacked(b"".join(p for p in pieces if isinstance(p, bytes)), size).ljust(size, b"\0")
                    except DecodeError as error:
                        yield Hole(size, str(error))
            done += size

    # --- files

    def _label(self) -> str:
        try:
            found = self._record_at(VOLUME, self._runs).first(rec.VOLUME_NAME)
        except DecodeError:
            return ""
        return found.value.decode("utf-16-le", "replace") if found else ""

    def volume_flags(self) -> int:
        """Of $VOLUME_INFORMATION: 1: to be checked; 0 where it cannot be read."""
        try:
            found = self.record(VOLUME).first(rec.VOLUME_INFO)
        except DecodeError:
            return 0
        return int.from_bytes(found.value[10:12], "little") if found and len(found.value) >= 12 else 0

    def names(self, attributes: Sequence[Attribute]) -> list[FileName]:
        """A file's names, without those that only older programs see."""
        found = []
        for own in attributes:
            if own.type == rec.NAME and own.resident:
                try:
                    found.append(rec.file_name(own.value))
                except DecodeError:
                    continue
        return [n for n in found if n.space != rec.DOS] or found

    def folders(self) -> dict[int, tuple[int, str]]:
        """Record of every folder in use -> (parent's record, name). Built once."""
        if self._folders is None:
            self._folders = {}
            for record in self.parsed(3, 3):
                names = self.names(self.attributes(record)) if not record.base else []
                if names:
                    self._folders[record.number] = (names[0].parent, names[0].name)
        return self._folders

    def deleted_folders(self) -> dict[int, tuple[int, str]]:
        """The same for folders that were deleted and whose records still stand. Built once."""
        if self._deleted_folders is None:
            self._deleted_folders = {}
            for record in self.parsed(3, 2):
                names = self.names(self.attributes(record)) if not record.base else []
                if names:
                    self._deleted_folders[record.number] = (names[0].parent, names[0].name)
        return self._deleted_folders

    def path_of(self, parent: int, name: str, *, deleted: bool = False) -> str | None:
        """From the root; None where its folders do not lead there. `deleted`: through deleted folders too."""
        parts, folders = [name], self.folders()
        gone = self.deleted_folders() if deleted else {}
        for _ in range(_MOST_DEPTH):
            if parent == ROOT:
                return "/".join(reversed(parts))
            known = folders.get(parent) or gone.get(parent)
            if known is None:
                return None
            parts.append(known[1])
            parent = known[0]
        return None

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        """Files and folders of users and systems in the table's order; what has lost its folder stands under `?`. Files
        deleted, where their record still stands, on request."""
        for record in self.parsed(1, int(not deleted)):
            if record.number >= FIRST_USER and not record.base:
                yield from self.nodes_of(record)

    def nodes_of(self, record: Record) -> Iterator[Node]:
        """One for each of its names."""
        attributes = self.attributes(record)
        names = self.names(attributes)
        data = next((a for a in attributes if a.type == rec.DATA and not a.name), None)
        standard = next((a for a in attributes if a.type == rec.STANDARD), None)
        modified = rec.seconds(standard.value[8:16]) if standard else None
        link, opaque = self._reparse(attributes)
        if data is not None and data.flags & rec.ENCRYPTED:
            opaque = opaque or "encrypted by the system"
        size = data.size if data is not None and not record.is_folder else 0
        for own in names:
            if own.parent == EXTEND:
                continue
            path = self.path_of(own.parent, own.name, deleted=not record.in_use)
            yield Node(
                record.number,
                path if path is not None else f"?/{own.name}",
                record.is_folder,
                size,
                modified,
                not record.in_use,
                link,
                opaque,
            )

    def _reparse(self, attributes: Sequence[Attribute]) -> tuple[str, str]:
        """(where it points, what it is where its bytes lie elsewhere)."""
        own = next((a for a in attributes if a.type == rec.REPARSE), None)
        if own is None:
            return "", ""
        raw = own.value if own.resident else b""
        tag = int.from_bytes(raw[:4], "little")
        kind = _REPARSE.get(tag, "")
        if kind in ("junction", "link") and len(raw) >= 20:
            at, length = struct.unpack_from("<HH", raw, 8)
            start = 16 if kind == "junction" else 20
            return raw[start + at : start + at + length].decode("utf-16-le", "replace").removeprefix(
                "\\??\\"
            ) or "?", ""
        return "", kind

    def data_of(self, node: Node) -> Attribute | None:
        record = self.record(node.id)
        return next((a for a in self.attributes(record) if a.type == rec.DATA and not a.name), None)

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        """Raises DecodeError where its record cannot be read."""
        data = self.data_of(node)
        if data is not None:
            yield from self.pieces(data)

    def streams(self, node: Node) -> Iterator[tuple[str, int, Iterator[bytes | Hole]]]:
        """(name, bytes, content) of every stream of a file that has a name. Raises DecodeError where its record cannot
        be read."""
        for own in self.attributes(self.record(node.id)):
            if own.type == rec.DATA and own.name:
                yield own.name, own.size, self.pieces(own)

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        try:
            data = self.data_of(node)
        except DecodeError:
            return LOST
        if data is None or data.resident:
            return LOST if data is None and node.size else WHOLE
        held = sum(count for vcn, lcn, count in data.runs if lcn < 0 or lcn + count <= self.clusters) * self.cluster
        return WHOLE if held >= data.sizes[2] else HOLES if held else LOST

    def runs(self, node: Node) -> Sequence[Run]:
        data = self.data_of(node)
        if data is None or data.resident:
            return ()
        return [
            Run(self.bytes.base + lcn * self.cluster if lcn >= 0 else None, count * self.cluster)
            for _, lcn, count in data.runs
        ]

    # --- folders by their index

    def index_parts(self, record: Record, name: str = "$I30") -> tuple[bytes, bytes]:
        """The value of a folder's $INDEX_ROOT and the bytes of its $INDEX_ALLOCATION; empty where there is none. Raises
        DecodeError where they cannot be read."""
        attributes = self.attributes(record)
        root = next((a for a in attributes if a.type == rec.INDEX_ROOT and a.name == name), None)
        blocks = next((a for a in attributes if a.type == rec.INDEX_ALLOCATION and a.name == name), None)
        return root.value if root is not None else b"", self._whole(blocks, 1 << 30) if blocks is not None else b""

    def index(self, record: Record, name: str = "$I30") -> Iterator[rec.IndexEntry]:
        """The entries of a folder in its order. Raises DecodeError where a block is broken."""
        attributes = self.attributes(record)
        root = next((a for a in attributes if a.type == rec.INDEX_ROOT and a.name == name), None)
        if root is None or len(root.value) < 32:
            raise DecodeError(f"folder record {record.number}", at=0, expected="an index", got="none")
        blocks = next((a for a in attributes if a.type == rec.INDEX_ALLOCATION and a.name == name), None)
        size = int.from_bytes(root.value[8:12], "little")
        first, end = struct.unpack_from("<II", root.value, 16)
        raw = self._whole(blocks, 1 << 30) if blocks is not None else b""
        yield from self._descend(
            root.value, 16 + first, min(16 + end, len(root.value)), raw, size, set(), f"folder record {record.number}"
        )

    def _descend(
        self, node: bytes, at: int, end: int, raw: bytes, size: int, seen: set[int], what: str
    ) -> Iterator[rec.IndexEntry]:
        for entry in rec.index_entries(node, at, end, what):
            if entry.child is not None:
                unit = self.cluster if self.cluster <= size else 512
                place = entry.child * unit
                if place in seen or place + size > len(raw) or not size:
                    raise DecodeError(what, at=place, expected="a block of the index", got="one outside, or twice")
                seen.add(place)
                block = rec.fixed(raw[place : place + size], b"INDX", what)
                first, used = struct.unpack_from("<II", block, 24)
                yield from self._descend(block, 24 + first, min(24 + used, len(block)), raw, size, seen, what)
            if not entry.is_last:
                yield entry

    def _listing(self, number: int) -> Iterator[tuple[str, int]]:
        """(name in small letters, record) of a folder's entries. Raises DecodeError where one is broken, after those
        before it."""
        for entry in self.index(self.record(number)):
            yield rec.file_name(entry.key).name.lower(), entry.record

    def _named(self, number: int) -> dict[str, int] | None:
        """The same of a folder that has but so many; None of a larger one, and of one that is broken."""
        try:
            first = list(islice(self._listing(number), _FEW + 1))
        except DecodeError:
            return None
        return dict(reversed(first)) if len(first) <= _FEW else None  # of two with one name the first

    def find(self, path: str) -> Node | None:
        """By path, whatever its case, through the folders' indexes; None where it is not there, or a folder on the way
        cannot be read."""
        number = ROOT
        for part in [p for p in path.replace("\\", "/").split("/") if p]:
            try:
                few = self._few(number)
                found = (
                    few.get(part.lower())
                    if few is not None
                    else next((record for name, record in self._listing(number) if name == part.lower()), None)
                )
            except DecodeError:
                return None
            if found is None:
                return None
            number = found
        try:
            record = self.record(number)
        except DecodeError:
            return None
        return next(self.nodes_of(record), None) if number != ROOT else Node(ROOT, "", True, 0)

    def bitmap(self) -> np.ndarray:
        """One byte a cluster, 1 where the volume's own map says it is used. Raises DecodeError where the map cannot be
        read."""
        return np.unpackbits(np.frombuffer(self.map_of_clusters(), np.uint8), bitorder="little")[: self.clusters]

    def map_of_clusters(self) -> bytes:
        """The same as it lies there, a bit each. Raises DecodeError."""
        data = next((a for a in self.attributes(self.record(CLUSTERS)) if a.type == rec.DATA and not a.name), None)
        if data is None:
            raise DecodeError("map of clusters", at=0, expected="its bytes", got="none")
        return self._whole(data, 1 << 30)

    def owners(self, clusters: set[int]) -> dict[int, tuple[int, bool, str]]:
        """Cluster -> (record, is a folder, name of the attribute) for those that a record in use claims. Non-resident
        attributes of every kind."""
        waiting, found = np.array(sorted(clusters)), {}
        for record in self.parsed(1, 1):
            for own in record.attributes:
                for _, lcn, count in own.runs:
                    if lcn >= 0:
                        low, high = np.searchsorted(waiting, lcn), np.searchsorted(waiting, lcn + count)
                        for cluster in waiting[low:high]:
                            found[int(cluster)] = (record.base or record.number, record.is_folder, own.name)
        return found

    def places(self, lbas: Sequence[int]) -> list[Place]:
        wanted = {lba: (lba - self.first) * self.disk.sector // self.cluster for lba in lbas}
        owners = self.owners({c for c in wanted.values() if c < self.clusters})
        try:
            used: np.ndarray | None = self.bitmap()
        except DecodeError:
            used = None
        out = []
        for lba in lbas:
            cluster, at = wanted[lba], (lba - self.first) * self.disk.sector
            if at < self.boot.sector:
                out.append(Place(Said("where.boot-sector", {"kind": "NTFS"}), None, BOOT_SECTOR))
            elif at // self.boot.sector == self.boot.sectors:
                out.append(Place(Said("where.boot-sector-copy", {"kind": "NTFS"}), None, BOOT_SECTOR))
            elif cluster in owners:
                out.append(self._owned(*owners[cluster][:2]))
            elif cluster >= self.clusters:
                out.append(Place(say("where.after-volume"), None, NOTHING))
            elif used is not None and not used[cluster]:
                out.append(Place(say("where.free"), None, NOTHING))
            else:
                out.append(Place(say("where.lost-cluster"), None, FILE))
        return out

    def _owned(self, number: int, is_folder: bool) -> Place:
        if number == ROOT:
            return Place(say("where.root-folder"), "/", CATALOGUE)
        if number == BOOT:
            return Place(Said("where.reserved", {"kind": "NTFS"}), "$Boot", BOOT_SECTOR)
        try:
            record = self.record(number)
            node = next(self.nodes_of(record), None)
        except DecodeError:
            node = None
        if number < FIRST_USER and number != ROOT:
            name = node.path if node else ""
            return Place(
                say("where.ntfs-table") if number == MFT else Said("where.ntfs-own", {"name": name}),
                name or None,
                CATALOGUE,
            )
        if node is None:
            return Place(say("where.own-file"), None, CATALOGUE)
        return Place(
            say("where.folder") if node.is_folder else say("where.file"), node.path, CATALOGUE if is_folder else FILE
        )


def _joined(attributes: Sequence[Attribute]) -> list[Attribute]:
    """Parts of one attribute that lie in several records, as one."""
    found: dict[tuple[int, str, int], Attribute] = {}
    for own in attributes:
        key = (own.type, own.name, own.id if own.resident else -1)
        if own.type == rec.NAME:
            key = (own.type, own.value.hex(), -2)
        before = found.get(key)
        if before is None or own.resident:
            found[key] = own
        else:
            start = own if own.lowest == 0 else before
            found[key] = Attribute(
                own.type,
                own.name,
                start.flags,
                False,
                b"",
                0,
                tuple(sorted({*before.runs, *own.runs})),
                start.sizes,
                start.unit,
                start.id,
            )
    return list(found.values())


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, 1 << 20))
        count -= 1 << 20
