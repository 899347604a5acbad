"""What would have to be written to put a file into a FAT volume: its clusters, both tables, its place in the folder,
the count of free clusters.

Microsoft, "FAT: General Overview of On-Disk Format", 1.03. Nothing here writes: the caller gets byte ranges of the
disk, data first, what points at it last."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.layout import FatVolume, listing

_ENTRY, _LONG, _DIRECTORY, _ARCHIVE, _VOLUME = 32, 0x0F, 0x10, 0x20, 0x08
_MOST_FAT = 64 << 20
_MOST_FOLDER = 1024
_STAMP = (0, 0x5A21)
"""time and date of what is written: a fixed day, since the core knows no clock"""

FILE, FOLDER, TABLE, ENTRY, COUNT = "file", "folder", "fat", "entry", "count"


@dataclass(frozen=True, slots=True)
class FatWrite:
    """`at`: byte on the disk; `kind`: file, folder, fat, entry, count."""

    at: int
    data: bytes
    kind: str


def put_file(volume: FatVolume, path: str, data: bytes) -> list[FatWrite]:
    """Writes that put this file there, in the place of one of that name. Raises DecodeError where there is no room, the
    name is none that fits 8.3, or the table cannot be read."""
    return _Putting(volume).put(path, data)


def link_clusters(volume: FatVolume, clusters: Sequence[int]) -> list[FatWrite]:
    """Writes that make these clusters one chain, with its end. Raises DecodeError where the table cannot be read."""
    own = _Putting(volume)
    own.changed = dict(zip(clusters, [*clusters[1:], own.end], strict=True))
    return [*own.tables(), *own.count()]


class _Putting:
    def __init__(self, volume: FatVolume) -> None:
        self.volume = volume
        size = volume.fat_sectors * volume.sector
        if size > _MOST_FAT:
            raise DecodeError("FAT", at=0, expected=f"at most {_MOST_FAT >> 20} MiB", got=f"{size >> 20} MiB")
        self.fat = bytearray(volume.read(volume.reserved, volume.fat_sectors, "FAT"))
        self.changed: dict[int, int] = {}
        self.next_free, self.each = 2, volume.cluster_sectors * volume.sector
        self.end = 0x0FFFFFFF if volume.wide == 32 else (1 << volume.wide) - 1

    def value(self, cluster: int) -> int:
        if cluster in self.changed:
            return self.changed[cluster]
        at = cluster * self.volume.wide // 8
        raw = int.from_bytes(self.fat[at : at + 4], "little")
        return (
            raw & 0x0FFFFFFF
            if self.volume.wide == 32
            else raw & 0xFFFF
            if self.volume.wide == 16
            else raw >> 4 * (cluster & 1) & 0xFFF
        )

    def take(self, count: int) -> list[int]:
        """Free clusters, the first there are."""
        found: list[int] = []
        for cluster in range(self.next_free, self.volume.clusters + 2):
            if len(found) == count:
                break
            if self.value(cluster) == 0:
                found.append(cluster)
        if len(found) < count:
            raise DecodeError("FAT volume", at=0, expected=f"{count} free clusters", got=len(found))
        self.next_free = found[-1] + 1 if found else self.next_free
        for own, following in zip(found, [*found[1:], self.end], strict=True):
            self.changed[own] = following
        return found

    def place(self, cluster: int) -> int:
        """Byte on the disk at which a cluster begins."""
        return (
            self.volume.first * self.volume.disk.sector
            + (self.volume.data_at + (cluster - 2) * self.volume.cluster_sectors) * self.volume.sector
        )

    def put(self, path: str, data: bytes) -> list[FatWrite]:
        *folders, name = [part for part in path.replace("\\", "/").split("/") if part]
        writes: list[FatWrite] = []
        where = self.volume.root_cluster if self.volume.wide == 32 else 0
        parent = 0
        for depth, folder in enumerate(folders):
            found = self.entry(where, folder)
            if found is not None:
                raw, _ = found
                if not raw[11] & _DIRECTORY:
                    raise DecodeError("/".join(folders[: depth + 1]), at=0, expected="a folder", got="a file")
                parent, where = where, self.cluster_of(raw)
                continue
            own = self.take(1)[0]
            above = 0 if depth == 0 else where
            body = self.made(b".          ", _DIRECTORY, own, 0) + self.made(b"..         ", _DIRECTORY, above, 0)
            rest = folders[depth + 1 :]
            made, inner = [(own, body, above)], own
            for following in rest:
                child = self.take(1)[0]
                made[-1] = (
                    made[-1][0],
                    made[-1][1] + self.made(short_name(following), _DIRECTORY, child, 0),
                    made[-1][2],
                )
                made.append(
                    (
                        child,
                        self.made(b".          ", _DIRECTORY, child, 0)
                        + self.made(b"..         ", _DIRECTORY, inner, 0),
                        inner,
                    )
                )
                inner = child
            clusters = self.take(-(-len(data) // self.each)) if data else []
            writes += self.content(clusters, data)
            last = made[-1]
            made[-1] = (
                last[0],
                last[1] + self.made(short_name(name), _ARCHIVE, clusters[0] if clusters else 0, len(data)),
                last[2],
            )
            writes += [FatWrite(self.place(cluster), raw.ljust(self.each, b"\0"), FOLDER) for cluster, raw, _ in made]
            slot, more = self.free_slot(where)
            return [
                *writes,
                *more,
                *self.tables(),
                FatWrite(slot, self.made(short_name(folder), _DIRECTORY, own, 0), ENTRY),
                *self.count(),
            ]
        del parent
        found = self.entry(where, name)
        if found is not None and found[0][11] & _DIRECTORY:
            raise DecodeError(path, at=0, expected="a file", got="a folder")
        if found is not None:
            self.release(self.cluster_of(found[0]), path)
        clusters = self.take(-(-len(data) // self.each)) if data else []
        writes += self.content(clusters, data)
        first = clusters[0] if clusters else 0
        if found is not None:
            raw, at = found
            entry = (
                raw[:20]
                + struct.pack("<H", first >> 16 if self.volume.wide == 32 else 0)
                + raw[22:26]
                + struct.pack("<HI", first & 0xFFFF, len(data))
            )
            return [*writes, *self.tables(), FatWrite(at, entry, ENTRY), *self.count()]
        at, more = self.free_slot(where)
        return [
            *writes,
            *more,
            *self.tables(),
            FatWrite(at, self.made(short_name(name), _ARCHIVE, first, len(data)), ENTRY),
            *self.count(),
        ]

    def content(self, clusters: list[int], data: bytes) -> list[FatWrite]:
        """A file's bytes, runs of clusters that follow each other as one."""
        found: list[FatWrite] = []
        at = 0
        while at < len(clusters):
            end = at + 1
            while end < len(clusters) and clusters[end] == clusters[end - 1] + 1:
                end += 1
            piece = data[at * self.each : end * self.each]
            found.append(
                FatWrite(
                    self.place(clusters[at]),
                    piece.ljust(-(-len(piece) // self.volume.sector) * self.volume.sector, b"\0"),
                    FILE,
                )
            )
            at = end
        return found

    @staticmethod
    def made(short: bytes, attributes: int, cluster: int, size: int) -> bytes:
        time, date = _STAMP
        return short + struct.pack(
            "<BBBHHHHHHHI", attributes, 0, 0, time, date, date, cluster >> 16, time, date, cluster & 0xFFFF, size
        )

    def cluster_of(self, raw: bytes) -> int:
        high = int.from_bytes(raw[20:22], "little") << 16 if self.volume.wide == 32 else 0
        return high | int.from_bytes(raw[26:28], "little")

    def slots(self, cluster: int) -> list[tuple[int, bytes]]:
        """(byte on the disk, entry) of a folder, all of its room; cluster 0: the fixed root."""
        own = self.volume
        if cluster == 0 and own.wide != 32:
            raw = own.read(own.root_at, own.data_at - own.root_at, "root folder")
            base = own.first * own.disk.sector + own.root_at * own.sector
            return [(base + at, raw[at : at + _ENTRY]) for at in range(0, own.root_entries * _ENTRY, _ENTRY)]
        found = []
        for number in own.chain(cluster or own.root_cluster, _MOST_FOLDER):
            raw = own.cluster(number, "folder")
            found += [(self.place(number) + at, raw[at : at + _ENTRY]) for at in range(0, len(raw), _ENTRY)]
        return found

    def entry(self, cluster: int, name: str) -> tuple[bytes, int] | None:
        """(entry, byte on the disk) of a name, by its short or its long one."""
        long: list[bytes] = []
        for at, raw in self.slots(cluster):
            if raw[0] == 0:
                return None
            if raw[0] == 0xE5:
                long = []
            elif raw[11] & 0x3F == _LONG:
                long.insert(0, raw[1:11] + raw[14:26] + raw[28:32])
            elif raw[11] & _VOLUME:
                long = []
            else:
                text = b"".join(long).decode("utf-16-le", "replace").split("\0")[0].rstrip("\uffff")
                base, extension = raw[:8].decode("latin-1").rstrip(), raw[8:11].decode("latin-1").rstrip()
                long = []
                if name.lower() in (text.lower(), (f"{base}.{extension}" if extension else base).lower()):
                    return raw, at
        return None

    def free_slot(self, cluster: int) -> tuple[int, list[FatWrite]]:
        """(byte on the disk of a free entry, what must be written so that it is one)."""
        slots = self.slots(cluster)
        for at, raw in slots:
            if raw[0] in (0, 0xE5):
                return at, []
        if cluster == 0 and self.volume.wide != 32:
            raise DecodeError("root folder", at=0, expected="a free entry", got="none")
        last = list(self.volume.chain(cluster, _MOST_FOLDER))[-1]
        own = self.take(1)[0]
        self.changed[last] = own
        return self.place(own), [FatWrite(self.place(own), bytes(self.each), FOLDER)]

    def release(self, cluster: int, path: str) -> None:
        """Free the clusters of a file that is replaced, as far as no other file has them."""
        own, others = self.volume, set[int]()
        for file in listing(own).files.values():
            if file.path.lower() != path.lower():
                try:
                    others |= set(own.chain(file.cluster, 1 << 20))
                except DecodeError:
                    others.add(file.cluster)
        seen: set[int] = set()
        while 2 <= cluster < own.clusters + 2 and cluster not in seen and cluster not in others:
            seen.add(cluster)
            cluster = self.value(cluster)
        for number in seen:
            self.changed[number] = 0

    def tables(self) -> list[FatWrite]:
        """The changed places of every copy of the table, the last copy first."""
        own, fat = self.volume, bytearray(self.fat)
        places: set[int] = set()
        for cluster, value in self.changed.items():
            at = cluster * own.wide // 8
            if own.wide == 12:
                pair = int.from_bytes(fat[at : at + 2], "little")
                pair = pair & 0x000F | value << 4 if cluster & 1 else pair & 0xF000 | value
                fat[at : at + 2] = pair.to_bytes(2, "little")
                places |= {at, at + 1}
            elif own.wide == 16:
                fat[at : at + 2] = value.to_bytes(2, "little")
                places |= {at, at + 1}
            else:
                top = int.from_bytes(fat[at : at + 4], "little") & 0xF0000000
                fat[at : at + 4] = (top | value & 0x0FFFFFFF).to_bytes(4, "little")
                places |= set(range(at, at + 4))
        runs: list[tuple[int, int]] = []
        for at in sorted(places):
            if runs and runs[-1][1] == at:
                runs[-1] = (runs[-1][0], at + 1)
            else:
                runs.append((at, at + 1))
        base = own.first * own.disk.sector + own.reserved * own.sector
        return [
            FatWrite(base + copy * own.fat_sectors * own.sector + low, bytes(fat[low:high]), TABLE)
            for copy in reversed(range(own.fats))
            for low, high in runs
        ]

    def count(self) -> list[FatWrite]:
        """FSInfo of FAT32: the count of free clusters, where it was told and stands to be right."""
        own = self.volume
        if own.wide != 32:
            return []
        at = int.from_bytes(own.read(0, 1, "boot sector")[48:50], "little")
        if not 0 < at < own.reserved:
            return []
        raw = own.read(at, 1, "FSInfo")
        free = int.from_bytes(raw[488:492], "little")
        if raw[:4] != b"RRaA" or raw[484:488] != b"rrAa" or free > own.clusters:
            return []
        taken = sum((value != 0) - (self._before(cluster) != 0) for cluster, value in self.changed.items())
        return [
            FatWrite(
                own.first * own.disk.sector + at * own.sector + 488, struct.pack("<I", max(0, free - taken)), COUNT
            )
        ]

    def _before(self, cluster: int) -> int:
        kept, self.changed = self.changed, {}
        try:
            return self.value(cluster)
        finally:
            self.changed = kept


def short_name(name: str) -> bytes:
    """The eleven bytes of an 8.3 name. Raises DecodeError for a name that is none."""
    base, _, extension = name.upper().partition(".")
    if (
        not 1 <= len(base) <= 8
        or len(extension) > 3
        or not (base + extension).isascii()
        or any(c in ' "*+,./:;<=>?[\\]|' for c in base + extension)
    ):
        raise DecodeError("name", at=0, expected="eight letters, a dot and three", got=name)
    return base.ljust(8).encode() + extension.ljust(3).encode()
