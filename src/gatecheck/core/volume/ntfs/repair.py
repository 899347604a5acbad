"""Repairs that are certain for NTFS: what stands twice, folders from their files' own names, files that lost their
folder, counts, maps, flags.

Planned from a check of its own. Files whose record cannot be read are given up only as a group of its own, which says
so."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.claims import CrossLink
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs import write as out
from gatecheck.core.volume.ntfs.boot_sectors import boots, fits_better, is_mirror
from gatecheck.core.volume.ntfs.check import NtfsCheck
from gatecheck.core.volume.ntfs.read import CLUSTERS, FIRST_USER, MFT, ROOT, VOLUME, Ntfs
from gatecheck.core.volume.ntfs.record import Attribute
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import Hole

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report

SAVED = "Saved by Gate Check"
_MOST_SAVED, _LARGEST_APART = 20_000, 256 << 20
_LARGEST_BLOCK, _MOST_CROSSED = 1 << 20, 1 << 20
_FOLDERS = {"dangling", "sequence", "folder-broken", "folder-order", "not-listed", "listed-otherwise", "folder-circle"}
_DAY = 133_700_000_000_000_000
"""a fixed time for what is made, since the core knows no clock (100 ns since 1601)"""


def ntfs_groups(volume: Ntfs, report: Report) -> list[Callable[[], RepairGroup | None]]:
    own = _Ntfs(volume, {f.id for f in report.findings})
    if volume.size > (volume.last - volume.first + 1) * volume.disk.sector:
        # it says that it is larger than its partition: before that is put right, nothing else can be
        return [own.copies]
    return [
        own.copies,
        own.revived,
        own.records,
        own.parts,
        own.apart,
        own.orphans,
        own.folders,
        own.links,
        own.maps,
        own.flags,
    ]


class _Ntfs:
    def __init__(self, volume: Ntfs, ids: set[str]) -> None:
        self.volume, self.ids, self.base = volume, ids, volume.bytes.base
        self._seen: NtfsCheck | None = None

    @property
    def seen(self) -> NtfsCheck:
        if self._seen is None:
            self._seen = NtfsCheck(self.volume, lambda _found: None, lambda _stage, _done, _of: None)
            self._seen.whole()
        return self._seen

    # --- records

    def body(self, number: int) -> bytes:
        """With its fixups in place. Raises DecodeError."""
        own = self.volume
        return rec.fixed(own._raw(number, own._runs), b"FILE", f"file record {number}")

    def place(self, number: int) -> int:
        """Byte of the disk at which a record begins."""
        own = self.volume
        vcn, skip = divmod(number * own.boot.record, own.cluster)
        run = next((r for r in own._runs if r[0] <= vcn < r[0] + r[2]), None)
        if run is None:
            raise DecodeError(f"file record {number}", at=0, expected="one of the table", got="none")
        return self.base + (run[1] + vcn - run[0]) * own.cluster + skip

    def written(self, number: int, body: bytes) -> list[tuple[int, bytes]]:
        raw = out.sealed(body)
        writes = self._pieces(number, raw)
        if number < 4 and is_mirror(self.volume):
            writes.append((self.base + self.volume.boot.mirror * self.volume.cluster + number * len(raw), raw))
        return writes

    def _pieces(self, number: int, raw: bytes) -> list[tuple[int, bytes]]:
        """A record that is larger than a cluster need not lie in one piece."""
        own, step = self.volume, min(self.volume.cluster, len(raw))
        found = []
        for at in range(0, len(raw), step):
            vcn, skip = divmod(number * own.boot.record + at, own.cluster)
            run = next((r for r in own._runs if r[0] <= vcn < r[0] + r[2] and r[1] >= 0), None)
            if run is None:
                raise DecodeError(f"file record {number}", at=vcn, expected="a place of the file table", got="none")
            found.append((self.base + (run[1] + vcn - run[0]) * own.cluster + skip, raw[at : at + step]))
        return found

    # --- what stands twice

    def copies(self) -> RepairGroup | None:
        """Of the boot sector and its copy the one by which less is wrong, for both; the mirror from the table, or the
        table's first records from the mirror."""
        own, writes = self.volume, list[tuple[int, bytes]]()
        by_copy = False
        if self.ids & {"boot-copy-differs", "boot-unsigned"}:
            boot, copy, at = boots(self.volume)
            by_copy = fits_better(self.volume, copy)
            raw = (copy if by_copy else boot)[:510] + b"\x55\xaa"
            writes += [(self.base, raw)] if by_copy or "boot-unsigned" in self.ids else []
            writes += [(self.base + at, raw)] if at else []
        if self.ids & {"mirror", "record"} and not by_copy and is_mirror(self.volume):
            for number in range(4):
                at = own.boot.mirror * own.cluster + number * own.boot.record
                table, mirror = self._sound(number, None), self._sound(number, at)
                if table is None and mirror is not None:
                    writes += self._pieces(number, mirror)
                elif table is not None and (
                    mirror is None or rec.comparable(table, number) != rec.comparable(mirror, number)
                ):
                    writes.append((self.base + at, table))
        return group("copies", writes, "copy") if writes else None

    def _sound(self, number: int, at: int | None) -> bytes | None:
        """A record of the table, or of the mirror at that byte, where it is whole."""
        own = self.volume
        try:
            raw = own._raw(number, own._runs) if at is None else own.bytes.read(at, own.boot.record, "mirror")
            rec.parse_record(raw, number)
        except DecodeError:
            return None
        return raw

    # --- records that cannot be used

    def revived(self) -> RepairGroup | None:
        """Files that a folder and the table's map know, whose record is whole and only says that it is free: in use
        again."""
        marked = self.seen._marked_records() if "dangling" in self.ids else None
        if marked is None:
            return None
        writes, touched = list[tuple[int, bytes]](), list[str]()
        for number, sequence in sorted(self.seen.dangling):
            if number >= min(self.volume.records, len(marked)) or not marked[number]:
                continue
            try:
                record, body = self.volume.record(number), bytearray(self.body(number))
            except DecodeError:
                continue
            if record.in_use or record.base or record.sequence != sequence or not self.volume.names(record.attributes):
                continue
            body[22:24] = struct.pack("<H", record.flags | rec.IN_USE)
            writes += self.written(number, bytes(body))
            touched.append(self.seen._name(number))
        return group("revived", writes, "record", touches=tuple(touched), count=len(touched)) if writes else None

    def records(self) -> RepairGroup | None:
        """Records that are broken: made free, so that nothing hangs on them any more. What they held is given up."""
        broken = sorted(n for n in self.seen.broken if n >= FIRST_USER) if "record" in self.ids else []
        if not broken:
            return None
        writes: list[tuple[int, bytes]] = []
        for number in broken:
            writes += self._pieces(number, out.sealed(out.blank_record(self.volume.boot.record, number, 1)))
        writes += self.marked(broken, 0)
        return group(
            "records",
            writes,
            "record",
            doubts=("given-up",),
            touches=tuple(f"file record {n}" for n in broken),
            count=len(broken),
        )

    def parts(self) -> RepairGroup | None:
        """Parts of files that are not there any more: made free."""
        if "part-alone" not in self.ids:
            return None
        writes, touched = list[tuple[int, bytes]](), list[str]()
        for record in self.volume.parsed(1, 1):
            if not record.base:
                continue
            try:
                base = self.volume.record(record.base)
                alone = not base.in_use or base.sequence != record.base_sequence
            except DecodeError:
                alone = True
            if alone:
                writes += self._pieces(
                    record.number, out.sealed(out.blank_record(self.volume.boot.record, record.number, record.sequence))
                )
                touched.append(f"file record {record.number}")
        return (
            group("records", writes, "record", doubts=("given-up",), touches=tuple(touched), count=len(touched))
            if writes
            else None
        )

    # --- folders

    def children(self, wanted: set[int]) -> dict[int, list[tuple[int, bytes]]]:
        """Folder -> (reference, $FILE_NAME) of every name that says it stands there."""
        found: dict[int, list[tuple[int, bytes]]] = {number: [] for number in wanted}
        for number, record in self._live():
            for own in self.volume.attributes(record):
                if own.type == rec.NAME and own.resident and len(own.value) >= 66:
                    parent = int.from_bytes(own.value[:6], "little")
                    if parent in found:
                        found[parent].append((number | record.sequence << 48, own.value))
        return found

    def _live(self) -> Iterator[tuple[int, rec.Record]]:
        yield from ((record.number, record) for record in self.volume.parsed(1, 1) if not record.base)

    def sorted(self, entries: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        return sorted(entries, key=lambda e: (self.seen._collated(e[1][66 : 66 + 2 * e[1][64]]), e[1][66:]))

    def folders(self) -> RepairGroup | None:
        """Folders' lists made anew from what the files say of themselves."""
        if not self.ids & _FOLDERS:
            return None
        wrong = {n for n in self.seen.wrong_folders if n < self.volume.records and self.seen.used[n]}
        writes, touched = list[tuple[int, bytes]](), list[str]()
        for number, entries in self.children(wrong).items():
            try:
                writes += self.rebuilt(number, self.sorted([*entries, *self._of_broken(number)]))
                touched.append(self.seen._name(number))
            except DecodeError:
                continue  # it has no room for them: left, and said by the check after
        return group("folders", writes, "folder", touches=tuple(touched), count=len(touched)) if writes else None

    def _of_broken(self, number: int) -> list[tuple[int, bytes]]:
        """A folder's entries of files whose record could not be read, or is broken and was not given up: they stay."""
        try:
            return [
                (e.record | e.sequence << 48, e.key)
                for e in self.volume.index(self.volume.record(number))
                if e.record in self.seen.broken | self.seen.unread
            ]
        except DecodeError:
            return []

    def rebuilt(self, number: int, entries: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """A folder's index with just these entries, in the room it has. Raises DecodeError where that is too small."""
        own, body = self.volume, self.body(number)
        record = own.record(number)
        attributes = own.attributes(record)
        root = next((a for a in attributes if a.type == rec.INDEX_ROOT and a.name == "$I30"), None)
        if root is None or len(root.value) < 16:
            raise DecodeError(f"file record {number}", at=0, expected="a folder's index", got="none")
        size, per_block = int.from_bytes(root.value[8:12], "little") or own.boot.index, root.value[12]
        if size & size - 1 or not 512 <= size <= _LARGEST_BLOCK:
            raise DecodeError(
                f"file record {number}", at=8, expected=f"blocks of 512 to {_LARGEST_BLOCK} bytes", got=size
            )
        blocks = next((a for a in attributes if a.type == rec.INDEX_ALLOCATION and a.name == "$I30"), None)
        if blocks is None:
            value = out.index_root(
                size,
                per_block,
                b"".join(out.entry(r, k) for r, k in entries) + out.entry(0, b"", is_last=True),
                large=False,
                head=root.value,
            )
            at = out.attribute_at(body, rec.INDEX_ROOT, "$I30")
            return self.written(number, out.replaced(body, at, out.resident(rec.INDEX_ROOT, "$I30", value, root.id)))
        step = size // own.cluster if own.cluster <= size else size // 512
        most = sum(count for _, _, count in blocks.runs) * own.cluster // size
        made, top = out.index_tree(entries, size, step, most)
        writes = self._blocks(blocks, made, size)
        value = out.index_root(size, per_block, out.entry(0, b"", top, is_last=True), large=True, head=root.value)
        body = out.replaced(
            body, out.attribute_at(body, rec.INDEX_ROOT, "$I30"), out.resident(rec.INDEX_ROOT, "$I30", value, root.id)
        )
        bits = next((a for a in attributes if a.type == rec.BITMAP and a.name == "$I30"), None)
        used = (1 << len(made)) - 1
        if bits is not None and bits.resident:
            raw = used.to_bytes(max(len(bits.value), 8), "little")
            body = out.replaced(
                body, out.attribute_at(body, rec.BITMAP, "$I30"), out.resident(rec.BITMAP, "$I30", raw, bits.id)
            )
        elif bits is not None:
            writes += self.over(bits, used.to_bytes(bits.sizes[1], "little"))
        return [*writes, *self.written(number, body)]

    @cached_property
    def _crossed(self) -> list[CrossLink]:
        return self.seen.claims.cross_links(_MOST_CROSSED) if "crossed" in self.ids else []

    def _blocks(self, attribute: Attribute, made: Sequence[bytes], size: int) -> list[tuple[int, bytes]]:
        return self.over(attribute, b"".join(made))

    def over(self, attribute: Attribute, data: bytes) -> list[tuple[int, bytes]]:
        """Writes that put these bytes at the start of an attribute that lies in clusters; only what differs, by
        cluster. Raises DecodeError where another file has some of them: its bytes would be gone."""
        own, found = self.volume, list[tuple[int, bytes]]()
        for cross in self._crossed:
            if cross.one != cross.other and any(
                lcn < cross.first + cross.count and cross.first < lcn + count for _, lcn, count in attribute.runs
            ):
                raise DecodeError(
                    "clusters",
                    at=cross.first,
                    expected="those of one file",
                    got=f"those of {self.seen._name(cross.one)} and {self.seen._name(cross.other)}",
                )
        for vcn, lcn, count in attribute.runs:
            for n in range(min(count, max(0, -(-len(data) // own.cluster) - vcn))):  # a hurt run may say any count
                low = (vcn + n) * own.cluster
                piece = data[low : low + own.cluster]
                if piece and lcn >= 0:
                    at = self.base + (lcn + n) * own.cluster
                    span, skip = own.bytes.span((lcn + n) * own.cluster, len(piece))
                    if span.missing or span.data[skip : skip + len(piece)] != piece:
                        if found and found[-1][0] + len(found[-1][1]) == at:
                            found[-1] = (found[-1][0], found[-1][1] + piece)
                        else:
                            found.append((at, piece))
        return found

    # --- files without a folder

    def orphans(self) -> RepairGroup | None:
        """Files whose folder is gone: into a new folder in the root, each under its own name."""
        if "orphan" not in self.ids or ROOT in self.seen.broken:
            return None
        alone = sorted(n for n in self.seen.alone if n >= FIRST_USER)[:_MOST_SAVED]
        free = self._free_record()
        if not alone or free is None:
            return None
        sequence = self._sequence(free)
        reference = free | sequence << 48
        writes, entries, names = list[tuple[int, bytes]](), list[tuple[int, bytes]](), set[str]()
        for number in alone:
            try:
                body, record = self.body(number), self.volume.record(number)
            except DecodeError:
                continue
            for own in record.attributes:
                if own.type != rec.NAME or len(own.value) < 66:
                    continue
                parent = int.from_bytes(own.value[:6], "little")
                if parent < self.volume.records and self.seen.used[parent] and parent in self.seen.parents:
                    continue
                name = rec.file_name(own.value)
                text = name.name if name.name.lower() not in names else f"{number} {name.name}"[:255]
                names.add(text.lower())
                letters = text.encode("utf-16-le")
                value = (
                    struct.pack("<Q", reference) + own.value[8:64] + bytes([len(letters) // 2, name.space]) + letters
                )
                at = out.attribute_at(body, rec.NAME, "", own.id)
                body = out.replaced(body, at, out.resident(rec.NAME, "", value, own.id, indexed=True))
                entries.append((number | record.sequence << 48, value))
            writes += self.written(number, body)
        made = self._new_folder(free, sequence, self.sorted(entries))
        if made is None:
            return None
        kept = self.children({ROOT})[ROOT]
        own_name = self._name_value(ROOT | self._sequence(ROOT) << 48, SAVED)
        try:
            root = self.rebuilt(ROOT, self.sorted([*kept, (reference, own_name)]))
        except DecodeError:
            return None
        return group("orphans", [*writes, *made, *root], "folder", touches=(SAVED,), count=len(alone))

    def _sequence(self, number: int) -> int:
        try:
            return max(1, int.from_bytes(self.body(number)[16:18], "little"))
        except DecodeError:
            return 1

    def _free_record(self) -> int | None:
        marked = self.seen._marked_records()
        if marked is None:
            return None
        for number in range(FIRST_USER + 40, min(self.volume.records, len(marked))):
            if not marked[number] and not self.seen.used[number] and number not in self.seen.broken:
                return number
        return None

    @staticmethod
    def _name_value(parent: int, name: str) -> bytes:
        return struct.pack(
            "<Q4QQQIIBB",
            parent,
            _DAY,
            _DAY,
            _DAY,
            _DAY,
            0,
            0,
            out.FOLDER_FLAG,
            0,
            len(name),
            rec.WIN32 if len(name) > 12 else rec.BOTH,
        ) + name.encode("utf-16-le")

    def _new_folder(
        self, number: int, sequence: int, entries: Sequence[tuple[int, bytes]]
    ) -> list[tuple[int, bytes]] | None:
        own = self.volume
        size = own.boot.index
        per = max(1, size // own.cluster)
        step = per if own.cluster <= size else size // 512
        made, top = out.index_tree(entries, size, step, 1 << 16)
        need = -(-len(made) * size // own.cluster)
        start = self._free_clusters(need)
        if start is None:
            return None
        bits = ((1 << len(made)) - 1).to_bytes(max(8, (len(made) + 63) // 64 * 8), "little")
        standard = struct.pack("<4QI", _DAY, _DAY, _DAY, _DAY, 0).ljust(48, b"\0")
        attributes = [
            out.resident(rec.STANDARD, "", standard, 0),
            out.resident(rec.NAME, "", self._name_value(ROOT | self._sequence(ROOT) << 48, SAVED), 1, indexed=True),
            out.resident(
                rec.INDEX_ROOT,
                "$I30",
                out.index_root(
                    size, per if own.cluster <= size else size // 512, out.entry(0, b"", top, is_last=True), large=True
                ),
                2,
            ),
            out.foreign(rec.INDEX_ALLOCATION, "$I30", [(start, need)], 3, own.cluster),
            out.resident(rec.BITMAP, "$I30", bits, 4),
        ]
        record = out.with_attributes(out.blank_record(own.boot.record, number, sequence), attributes, flags=3, links=1)
        data = b"".join(made).ljust(need * own.cluster, b"\0")
        return [
            (self.base + start * own.cluster, data),
            *self.written(number, record),
            *self.marked([number], 1),
            *self.clusters_marked(start, need),
        ]

    def _free_clusters(self, need: int) -> int | None:
        """The first of so many clusters in a row that nobody has."""
        taken = self.volume.bitmap() != 0
        start, count, _ = self.seen.claims.sorted()
        for low, many in zip(start, count, strict=True):
            taken[low : low + many] = True
        run = 0
        for cluster in range(16, self.volume.clusters):
            run = 0 if taken[cluster] else run + 1
            if run == need:
                return cluster - need + 1
        return None

    def marked(self, numbers: Sequence[int], value: int) -> list[tuple[int, bytes]]:
        """Records marked as in use, or free, in the table's own map."""
        return self._bits(MFT, rec.BITMAP, numbers, value)

    def clusters_marked(self, start: int, count: int) -> list[tuple[int, bytes]]:
        return self._bits(CLUSTERS, rec.DATA, range(start, start + count), 1)

    def _bits(self, owner: int, kind: int, places: Sequence[int], value: int) -> list[tuple[int, bytes]]:
        attribute = next(
            (a for a in self.volume.attributes(self.volume.record(owner)) if a.type == kind and not a.name), None
        )
        raw = bytearray(self.volume._whole(attribute, 1 << 30)) if attribute is not None else bytearray()
        if attribute is None or (value and places and max(places) // 8 >= len(raw)):
            raise DecodeError("map", at=0, expected=f"a bit for {max(places, default=0)}", got=f"{8 * len(raw)} bits")
        for place in places:
            if place // 8 >= len(raw):
                continue  # what the map does not tell of is free
            raw[place // 8] = raw[place // 8] | 1 << place % 8 if value else raw[place // 8] & ~(1 << place % 8)
        return self.bytes_of(owner, attribute, bytes(raw))

    def bytes_of(self, owner: int, attribute: Attribute, raw: bytes) -> list[tuple[int, bytes]]:
        if not attribute.resident:
            return self.over(attribute, raw)
        body = self.body(owner)
        at = out.attribute_at(body, attribute.type, attribute.name, attribute.id)
        return self.written(
            owner, out.replaced(body, at, out.resident(attribute.type, attribute.name, raw, attribute.id))
        )

    # --- files that claim the same place

    def _plain_data(self, number: int) -> Attribute | None:
        """What a file holds in clusters, neither packed nor encrypted; None for a folder."""
        try:
            return next(
                (
                    a
                    for a in self.volume.record(number).attributes
                    if a.type == rec.DATA and not a.resident and not a.flags
                ),
                None,
            )
        except DecodeError:
            return None

    def apart(self) -> RepairGroup | None:
        """The later file gets places of its own with a copy of what stands there."""
        if "crossed" not in self.ids:
            return None
        writes, touched, done = list[tuple[int, bytes]](), list[str](), set[int]()
        for cross in self.seen.claims.cross_links():
            number = next((n for n in (cross.other, cross.one) if n >= FIRST_USER and self._plain_data(n)), 0)
            if number in done or not number:
                continue
            try:
                body, data = self.body(number), self._plain_data(number)
                assert data is not None
                total = sum(count for _, _, count in data.runs)
                start = self._free_clusters(total)
                if start is None or data.sizes[1] > _LARGEST_APART or any(lcn < 0 for _, lcn, _ in data.runs):
                    continue
                raw = b"".join(bytes(p.length) if isinstance(p, Hole) else p for p in self.volume.pieces(data)).ljust(
                    total * self.volume.cluster, b"\0"
                )
                at = out.attribute_at(body, rec.DATA, data.name, data.id)
                body = out.replaced(
                    body,
                    at,
                    out.foreign(rec.DATA, data.name, [(start, total)], data.id, self.volume.cluster, data.sizes[1]),
                )
            except DecodeError:
                continue
            done.add(number)
            self.seen.claims.add(number, start, total)
            writes += [
                (self.base + start * self.volume.cluster, raw),
                *self.clusters_marked(start, total),
                *self.written(number, body),
            ]
            touched += [self.seen._name(number), self.seen._name(cross.one if number == cross.other else cross.other)]
        return (
            group("apart", writes, "file", doubts=("one-is-wrong",), touches=tuple(touched), count=len(done))
            if writes
            else None
        )

    # --- counts, maps, flags

    def links(self) -> RepairGroup | None:
        if "link-count" not in self.ids:
            return None
        writes = list[tuple[int, bytes]]()
        for number, count in self.seen.links.items():
            body = bytearray(self.body(number))
            body[18:20] = struct.pack("<H", count)
            writes += self.written(number, bytes(body))
        return group(
            "links",
            writes,
            "record",
            touches=tuple(self.seen._name(n) for n in self.seen.links),
            count=len(self.seen.links),
        )

    def maps(self) -> RepairGroup | None:
        """Both maps by what files say: records in use, clusters in use. Only where no record is broken: what one held
        would be given away."""
        if (
            not self.ids & {"lost", "unmarked", "record-map", "record-unmarked", "map-short"}
            or self.seen.broken
            or self.seen.unread
        ):
            return None
        own, writes, doubts = self.volume, list[tuple[int, bytes]](), list[str]()
        if self.ids & {"record-map", "record-unmarked"}:
            table = next((a for a in own.attributes(own.record(MFT)) if a.type == rec.BITMAP and not a.name), None)
            marked = self.seen._marked_records()
            if table is not None and marked is not None:
                bits = marked.copy()
                count = min(len(bits), own.records)
                bits[FIRST_USER:count] = np.frombuffer(bytes(self.seen.used), np.uint8)[FIRST_USER:count]
                writes += self.bytes_of(MFT, table, np.packbits(bits, bitorder="little").tobytes())
        if self.ids & {"lost", "unmarked"}:
            data = next((a for a in own.attributes(own.record(CLUSTERS)) if a.type == rec.DATA and not a.name), None)
            if data is None:
                raise DecodeError("map of clusters", at=0, expected="its bytes", got="none")
            raw = np.unpackbits(np.frombuffer(own._whole(data, 1 << 30), np.uint8), bitorder="little")
            used = np.zeros(own.clusters, np.uint8)
            starts, counts, _ = self.seen.claims.sorted()
            for low, many in zip(starts, counts, strict=True):
                used[low : low + many] = 1
            raw[: own.clusters] = used
            writes += self.bytes_of(CLUSTERS, data, np.packbits(raw, bitorder="little").tobytes())
            doubts += ["freed"] if "lost" in self.ids else []
        return group("map", writes, "map", doubts=tuple(doubts)) if writes else None

    def flags(self) -> RepairGroup | None:
        """The mark that asks for a check: off where nothing is left, on where the system's own has something to do."""
        left = self.ids - {"dirty", "bad-places", "hibernated", "journal-pending", "more-alike"}
        now = self.volume.volume_flags()
        wanted = now | 1 if left else now & ~1
        if wanted == now:
            return None
        body = bytearray(self.body(VOLUME))
        at = out.attribute_at(bytes(body), rec.VOLUME_INFO, "")
        value_at = at + struct.unpack_from("<H", body, at + 20)[0]
        body[value_at + 10 : value_at + 12] = struct.pack("<H", wanted)
        return group("asks" if left else "counts", self.written(VOLUME, bytes(body)), "flags")
