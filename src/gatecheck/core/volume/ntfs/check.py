"""NTFS: both boot sectors, the table and its mirror, every record, who holds which clusters, folders against records,
journal and hibernation.

Record numbers and names are kept as numbers and sums, so that a table of millions of records stays bounded in memory.
"""

from __future__ import annotations

import struct
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.claims import Claims, Marks
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.bulk import Folders, Ints, name_mark, plain_records, without
from gatecheck.core.volume.ntfs.names import Names, Parents
from gatecheck.core.volume.ntfs.read import BAD, EXTEND, FIRST_USER, LOG, MFT, ROOT, Ntfs
from gatecheck.core.volume.ntfs.record import Attribute, FileName, Record
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding, capital_of

_DIRTY = 1
_NO_CLIENT, _IS_CLEAN = 0xFFFF, 2
_ASLEEP = (b"hibr", b"HIBR", b"wake", b"WAKE")
_MOST_NAMED = 400
_CAPITALS = 131_072
"""bytes of the table of capitals; what says that it has others may say any number"""
_AT_ONCE = 4096
"""records that are read together"""
_UPCASE, _SYSTEM = 10, 12
Add = Callable[[VolumeFinding], None]
Progress = Callable[[str, int, int], None]


def _nothing(_found: VolumeFinding) -> None:
    """What is told a second time."""


def _columns(rows: Sequence[tuple[int, int, int]]) -> tuple[Ints, Ints, Ints]:
    told = np.array(rows, np.int64).reshape(-1, 3).T
    return told[0], told[1], told[2]


def _below(folder: str, name: str) -> str:
    return f"{folder}/{name}" if folder != "/" else name


def check_ntfs(volume: Ntfs, add: Add, progress: Progress) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    return NtfsCheck(volume, add, progress).whole()


class NtfsCheck:
    """What it finds goes to `add`; what a repair works from it keeps."""

    def __init__(self, volume: Ntfs, add: Add, progress: Progress) -> None:
        self.volume, self.add, self.progress = volume, add, progress
        self.claims = Claims(volume.clusters)
        self.used = bytearray(volume.records)
        self.sequence = array("H", bytes(2 * volume.records))
        self.names = Names(volume.records)
        self.parents = Parents(volume.records)
        self.bad = 0
        self.files = 0
        self.unread: set[int] = set()
        """records that could not be read: what they hold is not known, and nothing is said of it"""
        self.upcase_table = self._capitals()
        self.wrong_folders: set[int] = set()
        self.alone: set[int] = set()
        self.broken: set[int] = set()
        self.links: dict[int, int] = {}
        self.broken_folders: set[int] = set()
        self.dangling: set[tuple[int, int]] = set()

    def whole(self) -> tuple[int | None, int | None]:
        self._boot()
        self._mirror()
        self._state()
        self._records()
        self._folders()
        self._names()
        self._parents()
        self.names.done()
        self._record_map()
        used = self._map()
        if self.bad:
            self.add(
                VolumeFinding("bad-places", NOTE, count=self.bad, values={"bytes": self.bad * self.volume.cluster})
            )
        return self.files, used

    def _name(self, number: int) -> str:
        if number == ROOT:
            return "/"
        try:
            node = next(self.volume.nodes_of(self.volume.record(number)), None)
        except DecodeError:
            node = None
        return node.path.removeprefix("?/") if node is not None and node.path else f"file record {number}"

    # --- what stands twice

    def _boot(self) -> None:
        own = self.volume
        raw = own.bytes.read(0, 512, "boot sector")
        if raw[510:512] != b"\x55\xaa":
            self.add(VolumeFinding("boot-unsigned", DAMAGE, repairable=True))
        at = own.boot.sectors * own.boot.sector
        is_beyond = (
            own.bytes.base + at + 512 > (own.disk.length or 0) * own.disk.sector
            or own.first + at // own.disk.sector > own.last
        )
        if is_beyond:
            at = (own.last - own.first) * own.disk.sector
        try:
            copy = own.bytes.read(at, 512, "copy of the boot sector")
        except DecodeError:
            if not is_beyond:
                self.add(VolumeFinding("unreadable", SIGN, f"sector {own.boot.sectors}"))
            return
        if is_beyond and copy[3:11] != b"NTFS    ":
            return  # the partition, or the image, ends with the volume: no copy is kept there
        if copy[:84] != raw[:84]:
            self.add(VolumeFinding("boot-copy-differs", DAMAGE, f"sector {at // own.boot.sector}", repairable=True))

    def _mirror(self) -> None:
        own, size = self.volume, self.volume.boot.record
        for number in range(max(4, own.cluster // size) if own.cluster > 4 * size else 4):
            if number >= 4:
                break
            try:
                copy = rec.comparable(
                    own.bytes.read(own.boot.mirror * own.cluster + number * size, size, "mirror"), number
                )
            except DecodeError:
                self.add(VolumeFinding("mirror", DAMAGE, f"file record {number}", repairable=True))
                continue
            try:
                first = rec.comparable(own._raw(number, own._runs), number)
            except DecodeError:
                continue  # said when the table is read
            if first != copy:
                self.add(VolumeFinding("mirror", DAMAGE, f"file record {number}", repairable=True))

    def _state(self) -> None:
        own = self.volume
        if own.volume_flags() & _DIRTY:
            self.add(VolumeFinding("dirty", SIGN, repairable=True))
        try:
            log = next((a for a in own.attributes(own.record(LOG)) if a.type == rec.DATA and not a.name), None)
            if log is not None and self._log_pending(log):
                self.add(VolumeFinding("journal-pending", SIGN, repairable=False))
        except DecodeError as error:
            self.add(VolumeFinding("journal-broken", DAMAGE, str(error)))
        asleep = own.find("hiberfil.sys")
        if asleep is not None and asleep.size >= 4096:
            head = next(iter(own.content(asleep)), b"")
            if isinstance(head, bytes) and head[:4] in _ASLEEP:
                self.add(VolumeFinding("hibernated", SIGN, "hiberfil.sys"))

    def _log_pending(self, log: Attribute) -> bool:
        """The newer of the two restart pages says whether somebody still had the volume open."""
        best: tuple[int, bool] | None = None
        raw = b"".join(p for p in self._head(log, 16384) if isinstance(p, bytes))
        for at in (0, 4096):
            page = raw[at : at + 4096]
            if page[:4] != b"RSTR":
                continue
            try:
                page = rec.fixed(page, b"RSTR", "journal")
            except DecodeError:
                continue
            area = int.from_bytes(page[24:26], "little")
            if not 0 < area <= 4096 - 48:
                continue
            lsn, _, _, in_use, flags = struct.unpack_from("<QHHHH", page, area)
            if best is None or lsn >= best[0]:
                best = (lsn, in_use != _NO_CLIENT and not flags & _IS_CLEAN)
        return best is not None and best[1]

    def _head(self, own: Attribute, most: int) -> list[object]:
        found: list[object] = []
        size = 0
        for piece in self.volume.pieces(own):
            found.append(piece)
            size += len(piece) if isinstance(piece, bytes) else piece.length
            if size >= most:
                break
        return found

    # --- records

    def _records(self) -> None:
        own = self.volume
        marked = self._marked_records()
        for number, raw in own.raw_stretches(_AT_ONCE):
            if number >= own.records:
                break
            self.progress("records", number, own.records)
            if raw is None or len(raw) == own.boot.record:  # beside one that does not read they come one by one
                self._one(number, raw, marked)
            else:
                self._several(number, raw[: (own.records - number) * own.boot.record], marked)

    def _several(self, first: int, raw: bytes, marked: np.ndarray | None) -> None:
        """Records side by side: those with which nothing is wrong are taken in together, the others one by one."""
        size = self.volume.boot.record
        count = len(raw) // size
        numbers = np.arange(first, first + count)
        left = numbers
        if size >= 512 and size % 512 == 0:
            found = plain_records(raw, size, self.volume.cluster, numbers >= FIRST_USER)
            used, sequence = np.frombuffer(self.used, np.uint8), np.frombuffer(self.sequence, np.uint16)
            used[numbers[found.plain]] = 1
            sequence[numbers[found.plain]] = found.sequence[found.plain]
            self.claims.add_all(numbers[found.claim_row], found.lcn, found.count)
            self.files += int(np.count_nonzero(found.plain & ~found.is_folder))
            self.names.tell(found.parent, numbers[found.name_row], found.mark)
            rows, at = np.unique(found.name_row, return_index=True)
            folders = found.is_folder[rows]
            self.parents.put(numbers[rows[folders]], found.parent[at[folders]])
            left = numbers[~found.plain]
        for number in left.tolist():
            at_byte = (number - first) * size
            self._one(number, raw[at_byte : at_byte + size], marked)

    def _one(self, number: int, raw: bytes | None, marked: np.ndarray | None) -> None:
        in_use = bool(marked[number]) if marked is not None and number < len(marked) else False
        if raw is None:
            self.unread.add(number)
            if in_use or marked is None:
                self.add(VolumeFinding("unreadable", DAMAGE, f"file record {number}"))
            return
        if raw[:4] != b"FILE":
            if raw[:4] == b"BAAD" or in_use or number < _SYSTEM:
                self.broken.add(number)
                self.add(VolumeFinding("record", DAMAGE, f"file record {number}"))
            return
        try:
            record = rec.parse_record(raw, number)
        except DecodeError as error:
            if in_use or raw[22] & 1:
                self.broken.add(number)
                self.add(VolumeFinding("record", DAMAGE, f"file record {number}", values={"why": str(error)}))
            return
        self.sequence[number] = record.sequence
        if record.in_use:
            self.used[number] = 1
            self._record(record)

    def _record(self, record: Record) -> None:
        own, number = self.volume, record.number
        owner = record.base if 0 < record.base < own.records else number
        for attribute in record.attributes:
            if attribute.resident:
                continue
            is_bad = number == BAD and attribute.name == "$Bad"
            for _, lcn, count in attribute.runs:
                if lcn >= 0:
                    self.claims.add(owner, lcn, count)
                    self.bad += count if is_bad else 0
        if record.base:
            self._extension(record)
            return
        names = self._file_names(record, self.add)
        if number >= FIRST_USER or number == ROOT:
            self.files += not record.is_folder and not any(n.parent == EXTEND for n in names)
            if not names and number != ROOT:
                self.add(VolumeFinding("nameless", DAMAGE, f"file record {number}", repairable=True))
        if number != ROOT:
            self.names.tell(*_columns([(n.parent, number, name_mark(n.raw, n.space)) for n in names]))
        if record.is_folder and names:
            self.parents.put(np.array([number]), np.array([names[0].parent]))
        attributes = own.attributes(record)
        self._sizes(record, attributes)
        self._list(record)
        count = len({(n.parent, n.name, n.space) for n in names})
        if names and record.links != count and number >= FIRST_USER:
            self.links[number] = count
            self.add(
                VolumeFinding(
                    "link-count",
                    DAMAGE,
                    self._name(number),
                    repairable=True,
                    values={"told": record.links, "real": count},
                )
            )

    def _file_names(self, record: Record, add: Add) -> list[FileName]:
        found = []
        for attribute in self.volume.attributes(record):
            if attribute.type == rec.NAME and attribute.resident:
                try:
                    found.append(rec.file_name(attribute.value))
                except DecodeError:
                    add(VolumeFinding("record", DAMAGE, f"file record {record.number}"))
        return found

    def _extension(self, record: Record) -> None:
        try:
            base = self.volume.record(record.base)
        except DecodeError:
            self.add(VolumeFinding("part-alone", DAMAGE, f"file record {record.number}", repairable=True))
            return
        if not base.in_use or (record.base_sequence and base.sequence != record.base_sequence):
            self.add(VolumeFinding("part-alone", DAMAGE, f"file record {record.number}", repairable=True))

    def _list(self, record: Record) -> None:
        """Every record that an attribute list names is there and points back."""
        more = next((a for a in record.attributes if a.type == rec.LIST), None)
        if more is None:
            return
        for number in self.volume._listed(more):
            if number == record.number:
                continue
            try:
                part = self.volume.record(number)
            except DecodeError:
                self.add(VolumeFinding("part-missing", DAMAGE, self._name(record.number), values={"part": number}))
                continue
            if not part.in_use or part.base != record.number:
                self.add(VolumeFinding("part-missing", DAMAGE, self._name(record.number), values={"part": number}))

    def _sizes(self, record: Record, attributes: Sequence[Attribute]) -> None:
        cluster = self.volume.cluster
        for own in attributes:
            if own.resident or (record.number == BAD and own.name == "$Bad"):
                continue
            held = sum(count for _, _, count in own.runs) * cluster
            allocated, real, initialised = own.sizes
            expected = 0
            for vcn, _, count in own.runs:
                if vcn != expected:
                    break
                expected = vcn + count
            gap = bool(own.runs) and expected * cluster != held
            if gap or held != allocated or real > allocated or initialised > real:
                self.add(
                    VolumeFinding(
                        "size-differs",
                        DAMAGE,
                        self._name(record.number),
                        repairable=not gap,
                        values={"size": real, "held": held},
                    )
                )

    # --- folders

    def _folders(self) -> None:
        for parent, number, mark in self._entries([*self.parents.numbers().tolist(), ROOT, EXTEND], self.add):
            self.names.list(parent, number, mark)

    def _entries(self, folders: Iterable[int], add: Add) -> Iterator[tuple[Ints, Ints, Ints]]:
        """(folder, record, number of the name) of every entry that leads where it should, of these folders. Those with
        which nothing is wrong are taken in together, the others read one by one, and what is wrong with them is
        told."""
        own, many = self.volume, Folders(self.upcase_table)
        for number in sorted(set(folders)):
            if number >= own.records or not self.used[number]:
                continue
            try:
                record = own.record(number)
            except DecodeError:
                continue
            if not record.is_folder or record.base:
                continue
            try:
                root, blocks = own.index_parts(record)
            except DecodeError:
                root, blocks = b"", b""
            many.add(number, root, blocks, own.cluster)
            if many.is_full:
                yield from self._taken(many, add)
        yield from self._taken(many, add)

    def _taken(self, many: Folders, add: Add) -> Iterator[tuple[Ints, Ints, Ints]]:
        parent, number, mark, wrong = many.taken(
            np.frombuffer(self.used, np.uint8), np.frombuffer(self.sequence, np.uint16), self.unread
        )
        yield parent, number, mark
        for other in wrong:
            yield _columns(list(self._folder(self.volume.record(other), add)))

    def _folder(self, record: Record, add: Add) -> Iterator[tuple[int, int, int]]:
        own, where = self.volume, self._name(record.number)
        before: str | None = None
        try:
            for entry in own.index(record):
                try:
                    name = rec.file_name(entry.key)
                except DecodeError:
                    self.wrong_folders.add(record.number)
                    self.broken_folders.add(record.number)
                    add(VolumeFinding("folder-broken", DAMAGE, where, repairable=True))
                    return
                now = name.name.upper() if name.name.isascii() else self._collated(name.raw)
                if before is not None and now < before:
                    self.wrong_folders.add(record.number)
                    add(VolumeFinding("folder-order", DAMAGE, where, repairable=True, values={"name": name.name}))
                before = now
                number = entry.record
                if number in self.unread:
                    continue
                if number >= own.records or not self.used[number]:
                    self.wrong_folders.add(record.number)
                    self.dangling.add((number, entry.sequence))
                    add(VolumeFinding("dangling", DAMAGE, _below(where, name.name), repairable=True))
                    continue
                if entry.sequence and self.sequence[number] != entry.sequence:
                    self.wrong_folders.add(record.number)
                    add(VolumeFinding("sequence", DAMAGE, _below(where, name.name), repairable=True))
                    continue
                if name.parent != record.number:
                    self.wrong_folders.add(record.number)
                    add(VolumeFinding("dangling", DAMAGE, _below(where, name.name), repairable=True))
                    continue
                if number != ROOT:
                    yield record.number, number, name_mark(name.raw, name.space)
        except DecodeError as error:
            add(
                VolumeFinding(
                    "unreadable" if "unreadable" in str(error) else "folder-broken",
                    DAMAGE,
                    where,
                    repairable=True,
                    values={"why": str(error)},
                )
            )
            self.wrong_folders.add(record.number)
            self.broken_folders.add(record.number)

    def _collated(self, raw: bytes) -> str:
        """By the volume's own capitals, which for the letters of ASCII are everybody's."""
        upcase_table = self.upcase_table
        return "".join(chr(upcase_table[u]) for u in memoryview(raw[: len(raw) // 2 * 2]).cast("H"))

    def _capitals(self) -> Sequence[int]:
        """The volume's own table of capital letters, by which folders are sorted; that of the language where it cannot
        be read."""
        try:
            data = next(
                (a for a in self.volume.attributes(self.volume.record(_UPCASE)) if a.type == rec.DATA and not a.name),
                None,
            )
            raw = (
                b"".join(p for p in self.volume.pieces(data) if isinstance(p, bytes))
                if data is not None and data.size == _CAPITALS
                else b""
            )
        except DecodeError:
            raw = b""
        if len(raw) == _CAPITALS:
            return np.frombuffer(raw, "<u2").tolist()  # type: ignore[no-any-return]
        return [capital_of(n) for n in range(65536)]

    def _names(self) -> None:
        """Names of records that no folder lists, and the other way round: of the folders whose sums are unlike,
        gathered now."""
        mismatched_names = self.names.mismatched_names()
        for own in self.broken_folders:
            mismatched_names[own] = False
        if not mismatched_names.any():
            return
        named = self._told(mismatched_names)
        listed = np.concatenate(
            [
                np.zeros((3, 0), np.int64),
                *(np.stack(part) for part in self._entries(np.flatnonzero(mismatched_names).tolist(), _nothing)),
            ],
            axis=1,
        )
        alone = without(named, listed)
        alone = alone[:, np.argsort(alone[1], kind="stable")]  # in the table's order, whichever way each was read
        for parent, number, _ in alone.T[:_MOST_NAMED]:
            if self.used[int(parent)]:
                self.wrong_folders.add(int(parent))
                self.add(VolumeFinding("not-listed", DAMAGE, self._name(int(number)), repairable=True))
        extra = without(listed, named)
        extra = extra[:, np.argsort(extra[0], kind="stable")]
        for parent, number, _ in extra.T[:_MOST_NAMED]:
            self.wrong_folders.add(int(parent))
            self.add(
                VolumeFinding(
                    "listed-otherwise",
                    DAMAGE,
                    self._name(int(number)),
                    repairable=True,
                    values={"folder": self._name(int(parent))},
                )
            )

    def _told(self, folders: NDArray[np.bool_], outside: bool = False) -> Ints:
        """(folder, record, number of the name) of every name that says it stands in one of these, shape (3, n);
        `outside`: or in one that the table has not."""
        own, size, parts = self.volume, self.volume.boot.record, [np.zeros((3, 0), np.int64)]
        for first, raw in own.raw_stretches(_AT_ONCE):
            if first >= own.records or raw is None:
                continue
            numbers = np.arange(first, min(first + len(raw) // size, own.records))
            left = numbers
            if size >= 512 and size % 512 == 0 and len(raw) > size:
                found = plain_records(raw[: len(numbers) * size], size, own.cluster, numbers >= FIRST_USER)
                parts.append(np.stack([found.parent, numbers[found.name_row], found.mark]))
                left = numbers[~found.plain]
            for number in left.tolist():
                try:
                    record = rec.parse_record(raw[(number - first) * size : (number - first + 1) * size], number)
                except DecodeError:
                    continue
                if record.in_use and not record.base and number != ROOT:
                    parts.append(
                        np.stack(
                            _columns(
                                [
                                    (n.parent, number, name_mark(n.raw, n.space))
                                    for n in self._file_names(record, _nothing)
                                ]
                            )
                        )
                    )
            parts = [
                np.concatenate(
                    [
                        part[
                            :, np.where(part[0] < len(folders), folders[np.minimum(part[0], len(folders) - 1)], outside)
                        ]
                        for part in parts
                    ],
                    axis=1,
                )
            ]
        return parts[0]

    def _parents(self) -> None:
        """Every name's folder is one that is in use, and folders lead to the root."""
        bare = self.parents.without_folder(self.names, np.frombuffer(self.used, np.uint8), self.unread)
        if bare.any() or self.names.outside:
            parents, numbers, _ = self._told(bare, outside=True)
            for parent in np.unique(parents):
                if int(parent) in self.unread:
                    continue
                mine = np.sort(numbers[parents == parent])
                self.alone |= {int(n) for n in mine}
                for number in mine[:_MOST_NAMED]:
                    self.add(VolumeFinding("orphan", DAMAGE, self._name(int(number)), repairable=True))
        for number in self.parents.folder_cycles().tolist():
            self.add(VolumeFinding("folder-circle", DAMAGE, self._name(number), repairable=True))

    # --- maps

    def _marked_records(self) -> np.ndarray | None:
        own = self.volume
        try:
            bits = next((a for a in own.attributes(own.record(MFT)) if a.type == rec.BITMAP and not a.name), None)
            raw = own._whole(bits, 1 << 28) if bits is not None else b""
        except DecodeError as error:
            self.add(VolumeFinding("map-unread", DAMAGE, str(error)))
            return None
        return np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")

    def _record_map(self) -> None:
        marked = self._marked_records()
        if marked is None:
            return
        count = min(len(marked), self.volume.records)
        used = np.frombuffer(self.used, np.uint8)[:count]
        wrong = np.nonzero(marked[:count] != used)[0]
        wrong = wrong[wrong >= FIRST_USER]
        bare = wrong[used[wrong] == 1]
        if len(bare):
            for number in bare[:_MOST_NAMED]:
                self.add(VolumeFinding("record-unmarked", DAMAGE, self._name(int(number)), repairable=True))
        over = [int(n) for n in wrong[used[wrong] == 0] if self._is_free(int(n))]
        if over:
            self.add(VolumeFinding("record-map", DAMAGE, count=len(over), repairable=True))

    def _is_free(self, number: int) -> bool:
        """A record that says of itself that it is not in use (one that is broken is said to be broken)."""
        try:
            return not self.volume.record(number).in_use
        except DecodeError:
            return False

    def _map(self) -> int | None:
        own = self.volume
        for cross in self.claims.cross_links():
            self.add(
                VolumeFinding(
                    "crossed",
                    DAMAGE,
                    self._name(cross.other),
                    count=cross.count,
                    repairable=True,
                    values={"other": self._name(cross.one)},
                )
            )
        for owner in self.claims.beyond:
            self.add(VolumeFinding("beyond", DAMAGE, self._name(owner)))
        try:
            marked = Marks(own.map_of_clusters(), own.clusters)
        except DecodeError as error:
            self.add(VolumeFinding("map-unread", DAMAGE, str(error)))
            return None
        if len(marked) < own.clusters:
            self.add(VolumeFinding("map-short", DAMAGE, repairable=True))
        found = self.claims.against(marked)
        for owner in found.unmarked:
            self.add(VolumeFinding("unmarked", DAMAGE, self._name(owner), count=found.unmarked[owner], repairable=True))
        if found.lost and not self.unread:
            self.add(
                VolumeFinding(
                    "lost",
                    DAMAGE,
                    count=found.lost,
                    repairable=True,
                    values={"chains": 1, "bytes": found.lost * own.cluster},
                )
            )
        return marked.used() * own.cluster
