"""Repairs that are certain for exFAT: boot regions, the table of capitals, sums of entry sets, chains, files that share
a place, lost clusters, the map of clusters, flags.

Microsoft, "exFAT file system specification": 3.4, 6.3, 7.1, 7.2, 7.4 to 7.7.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.core.volume.exfat.read import (
    BAD,
    END,
    ENTRY,
    FILE_ENTRY,
    FOLDER,
    IN_USE,
    LETTERS,
    NAME,
    NO_CHAIN,
    STREAM,
    ExFat,
    Set,
    name_hash,
    region_sum,
    set_sum,
)
from gatecheck.core.volume.exfat.upcase import usual_capitals
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import Hole

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report

FOLDER_NAME = "SAVEDBIT"
_MOST_SAVED, _MOST_COPIED = 400, 64 << 20
_WHEN, _MEANT = 0x5A215A21, 0x37
"""attributes that have a meaning"""


def exfat_groups(volume: ExFat, report: Report) -> list[Callable[[], RepairGroup | None]]:
    own = _ExFat(volume, {f.id for f in report.findings})
    return [
        own.regions,
        own.upcase_table,
        own.ended,
        own.sums,
        own.broken,
        own.chains,
        own.apart,
        own.lost,
        own.cluster_map,
        own.flags,
    ]


class _ExFat:
    def __init__(self, volume: ExFat, ids: set[str]) -> None:
        self.volume, self.ids, self.base = volume, ids, volume.bytes.base

    def _live(self) -> Iterator[tuple[Set, str]]:
        return ((own, path) for own, path in self.volume.walk() if not own.deleted)

    def _held(self, own: Set) -> list[int]:
        return self.volume.chain(own.cluster, own.size, contiguous=own.contiguous) if own.size else []

    @cached_property
    def _of_files(self) -> set[int]:
        """Clusters of files, where something is had by two: what stands there is not entries, whatever folder leads to
        it."""
        return (
            {n for own, _ in self._live() if own.sound and not own.is_folder for n in self._held(own)}
            if "crossed" in self.ids
            else set()
        )

    def _is_folders(self, at: int) -> bool:
        """Does this byte of the volume belong to folders alone?"""
        return (at - self.volume.at(2)) // self.volume.cluster + 2 not in self._of_files

    def _entries(self, own: Set, raw: bytearray) -> list[tuple[int, bytes]]:
        """A set anew, with its sum, wherever its entries stand."""
        raw[2:4] = set_sum(bytes(raw)).to_bytes(2, "little")
        return [(self.base + at, bytes(raw[n * ENTRY : (n + 1) * ENTRY])) for n, at in enumerate(own.ats)]

    def _next(self, pairs: Sequence[tuple[int, int]]) -> list[tuple[int, bytes]]:
        """Entries of the table in use: (cluster, what follows it)."""
        active = self.volume.fat_at + (self.volume.fat_length if self.volume.flags & 1 and self.volume.fats == 2 else 0)
        return [(self.base + active + 4 * cluster, following.to_bytes(4, "little")) for cluster, following in pairs]

    def _marked(self, used: np.ndarray) -> list[tuple[int, bytes]]:
        """The map of clusters where it is another one than now."""
        volume = self.volume
        raw, now = (np.packbits(bits, bitorder="little").tobytes() for bits in (used, volume.bitmap()))
        pieces = (
            (volume.at(n), place * volume.cluster)
            for place, n in enumerate(volume.chain(volume.bitmap_cluster, volume.bitmap_size, contiguous=False))
        )
        return [
            (self.base + at, raw[low : low + volume.cluster])
            for at, low in pieces
            if raw[low : low + volume.cluster] != now[low : low + volume.cluster]
        ]

    # --- what stands twice, or is known

    def regions(self) -> RepairGroup | None:
        """Whichever boot region's sum fits, for the other; where only the sum is wrong in both, left."""
        if not self.ids & {"boot-sum", "boot-copy-differs"}:
            return None
        volume = self.volume
        size = 12 * volume.sector
        both = [volume.bytes.read(at, size, "boot region") for at in (0, size)]
        sound = [
            raw[11 * volume.sector :] == region_sum(raw, volume.sector).to_bytes(4, "little") * (volume.sector // 4)
            for raw in both
        ]
        if not any(sound):
            return None
        source = 0 if sound[0] else 1
        return group("boot-copy", [(self.base + (1 - source) * size, both[source])], "boot-sector")

    def upcase_table(self) -> RepairGroup | None:
        """The usual table of capitals where its entry says, by size and sum, that it was that one."""
        cluster, size, _ = self.volume.upcase
        if "capitals" not in self.ids or not self.volume.had_usual_capitals:
            return None
        raw = usual_capitals()
        places = self.volume.chain(cluster, size, contiguous=False)
        if len(places) * self.volume.cluster < size:
            return None
        return group(
            "capitals",
            [
                (self.base + self.volume.at(n), raw[i * self.volume.cluster : (i + 1) * self.volume.cluster])
                for i, n in enumerate(places)
            ],
            "capitals",
        )

    def ended(self) -> RepairGroup | None:
        """Lists that end before whole sets in use: the ends made entries out of use."""
        if "folder-ended" not in self.ids:
            return None
        volume = self.volume
        folders = [
            ("/", volume.root, 0, False),
            *(
                (path, own.cluster, own.size, own.contiguous)
                for own, path in self._live()
                if own.is_folder and own.size
            ),
        ]
        found = [
            (path, at)
            for path, cluster, size, contiguous in folders
            for at in volume.false_ends(cluster, size, contiguous=contiguous)
            if self._is_folders(at)
        ]
        touched = tuple(dict.fromkeys(path for path, _ in found))
        return (
            group(
                "ended",
                [(self.base + at, bytes([FILE_ENTRY & ~IN_USE])) for _, at in found],
                "entry",
                touches=touched,
                count=len(touched),
            )
            if found
            else None
        )

    def sums(self) -> RepairGroup | None:
        """Entry sets whose parts are all there and can be so, but whose sum does not fit: the sums anew, for without
        them no system shows the file."""
        if "entry-broken" not in self.ids:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        volume, upcase_table = self.volume, self.volume.upcase_table
        owned = {n for own, _ in self._live() if own.sound for n in self._held(own)} | {
            n for n, _ in volume.own_clusters()
        }
        marked = volume.bitmap() if "map-unread" not in self.ids else np.zeros(0, np.uint8)
        for own, path in self._live():
            sizes = None if own.sound else self._right_sizes(own, owned, marked)
            if sizes is None or not volume.is_possible(own) or not all(map(self._is_folders, own.ats)):
                continue
            raw, name = bytearray(own.raw), volume.right_name(own)
            raw[1], raw[35], raw[36:38] = (
                len(raw) // ENTRY - 1,
                len(name) // 2,
                name_hash(name, upcase_table).to_bytes(2, "little"),
            )
            raw[4], raw[5] = raw[4] & _MEANT & ~(0 if volume.looks_like_folder(own) else FOLDER), 0
            if not sizes[0]:
                raw[52:56] = bytes(4)
            raw[40:48], raw[56:64] = sizes[1].to_bytes(8, "little"), sizes[0].to_bytes(8, "little")
            raw[0], raw[ENTRY] = FILE_ENTRY, STREAM
            for n, at in enumerate(range(2 * ENTRY, len(raw), ENTRY)):
                raw[at] = NAME
                raw[at + 2 : at + ENTRY] = name[30 * n : 30 * n + 30].ljust(30, b"\0")
            writes += self._entries(own, raw)
            touched.append(path)
        return (
            group("sums", writes, "entry", doubts=("letter-or-time",), touches=tuple(touched), count=len(touched))
            if writes
            else None
        )

    def _right_sizes(self, own: Set, owned: set[int], marked: np.ndarray) -> tuple[int, int] | None:
        """(size, bytes that were written) of a set whose sum does not fit, so that it holds nobody else's clusters;
        None where neither of the two it says can be."""
        if not own.size and (not own.valid or not own.cluster):
            return 0, 0
        ways = [(own.size, min(own.size, own.valid)), (own.valid, own.valid)]
        if own.valid > own.size and -(-own.valid // self.volume.cluster) > -(-own.size // self.volume.cluster):
            ways.reverse()
        for size, valid in ways:
            need = -(-size // self.volume.cluster)
            if not size or need > self.volume.clusters:
                continue
            held = self.volume.chain(own.cluster, size, contiguous=own.contiguous)
            is_larger = (size, valid) == (own.valid, own.valid) and own.valid > own.size
            if (
                len(held) == need
                and not owned.intersection(held)
                and (not is_larger or (len(marked) and bool(marked[[n - 2 for n in held]].all())))
            ):
                return size, valid
        return None

    def broken(self) -> RepairGroup | None:
        """Entry sets of which parts are gone, or that say what cannot be: let go, so that what they held is lost and
        can be saved."""
        if "entry-broken" not in self.ids or "unreadable" in self.ids:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        folders = [("/", self.volume.root, 0, False)]
        for own, path in self._live():
            if own.is_folder and own.sound and self.volume.looks_like_folder(own):
                folders.append((path, own.cluster, own.size, own.contiguous))
            if not own.sound and not own.is_folder and all(map(self._is_folders, own.ats)):
                writes += [(self.base + at, bytes([own.raw[n * ENTRY] & ~IN_USE])) for n, at in enumerate(own.ats)]
                touched.append(path)
        for path, cluster, size, contiguous in folders:
            orphans = [at for at in self.volume.orphans(cluster, size, contiguous=contiguous) if self._is_folders(at)]
            writes += [(self.base + at, bytes([self.volume.bytes.read(at, 1, path)[0] & ~IN_USE])) for at in orphans]
            touched += [path] if orphans else []
        return (
            group("broken", writes, "entry", doubts=("nameless",), touches=tuple(touched), count=len(touched))
            if writes
            else None
        )

    # --- chains

    def chains(self) -> RepairGroup | None:
        """Files that hold less than their entry says: shortened to what is held, their chains ended there; files that
        claim more written bytes than they have."""
        if not self.ids & {"chain-short", "chain-broken", "size-differs"}:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        for own, path in self._live():
            if not own.sound or own.is_folder:
                continue
            held = self._held(own)
            size = min(own.size, len(held) * self.volume.cluster)
            valid = min(own.valid, size)
            broken = bool(held) and not own.contiguous and self.volume.leads_nowhere(held[-1])
            if (size, valid) == (own.size, own.valid) and not broken:
                continue
            raw = bytearray(own.raw)
            raw[40:48], raw[56:64] = valid.to_bytes(8, "little"), size.to_bytes(8, "little")
            if not size:
                raw[33], raw[52:56] = raw[33] & ~NO_CHAIN, bytes(4)
            writes += self._entries(own, raw)
            if held and not own.contiguous and (broken or size < own.size):
                writes += self._next([(held[-1], END)])
            touched.append(path)
        return (
            group("chains", writes, "entry", doubts=("shortened",), touches=tuple(touched), count=len(touched))
            if writes
            else None
        )

    def apart(self) -> RepairGroup | None:
        """Files that claim the same place: the later one gets places of its own with a copy of what stands there."""
        if "crossed" not in self.ids or "map-unread" in self.ids:
            return None
        volume = self.volume
        owner = dict(volume.own_clusters())
        live = sorted(self._live(), key=lambda p: (not p[0].is_folder, p[1]))
        used = volume.bitmap().copy()
        taken = used.copy()
        for own, _ in live:
            taken[[n - 2 for n in self._held(own)]] = 1
        taken[np.flatnonzero(volume.table[2:] == BAD)] = 1
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        count = 0
        for own, path in live:
            held = self._held(own)
            other = next((owner[n] for n in held if n in owner), None)
            if other is not None and own.sound and not own.is_folder and len(held) * volume.cluster <= _MOST_COPIED:
                new = _room(taken, len(held))
                if new:
                    writes += self._moved(own, held, new)
                    used[[n - 2 for n in new]] = taken[[n - 2 for n in new]] = 1
                    touched += [path, other]
                    held, count = new, count + 1
            for number in held:
                owner.setdefault(number, path)
        return (
            group(
                "apart",
                [*writes, *self._marked(used)],
                "file",
                doubts=("one-is-wrong",),
                touches=tuple(touched),
                count=count,
            )
            if writes
            else None
        )

    def _moved(self, own: Set, held: Sequence[int], new: Sequence[int]) -> list[tuple[int, bytes]]:
        volume = self.volume
        writes = []
        for old, place in zip(held, new, strict=True):
            data = b"".join(
                bytes(p.length) if isinstance(p, Hole) else p
                for p in volume.bytes.pieces(volume.at(old), volume.cluster)
            )
            writes.append((self.base + volume.at(place), data))
        raw = bytearray(own.raw)
        raw[52:56] = new[0].to_bytes(4, "little")
        if new[-1] - new[0] == len(new) - 1:
            raw[33] |= NO_CHAIN
        else:
            raw[33] &= ~NO_CHAIN
            writes += self._next([*zip(new, [*new[1:], END], strict=True)])
        return writes + self._entries(own, raw)

    # --- what nobody holds

    def lost(self) -> RepairGroup | None:
        """Clusters in use that no file has, as files of a folder of their own in the root."""
        if "lost" not in self.ids or self.ids & {"unreadable", "map-unread", "crossed"}:
            return None
        volume = self.volume
        used = volume.bitmap().copy()
        claimed = np.zeros(volume.clusters, bool)
        claimed[[n - 2 for n, _ in volume.own_clusters()]] = True
        for own, _ in self._live():
            claimed[[n - 2 for n in self._held(own)]] = True
        claimed[np.flatnonzero(volume.table[2:] == BAD)] = True
        pieces = self._pieces([int(n) + 2 for n in np.flatnonzero((used != 0) & ~claimed)])[:_MOST_SAVED]
        place, name = self._free_place(), self._free_name()
        body = b""
        upcase_table = volume.upcase_table
        writes: list[tuple[int, bytes]] = []
        for number, line in enumerate(pieces):
            is_run = line[-1] - line[0] == len(line) - 1
            body += _new_set(f"PIECE{number:03d}.BIN", 0x20, line[0], len(line) * volume.cluster, is_run, upcase_table)
            writes += [] if is_run else self._next([(line[-1], END)])
        room = _room(np.where(claimed, 1, used), -(-len(body) // volume.cluster)) if body else []
        if not room or place is None or room[-1] - room[0] != len(room) - 1:
            return None
        used[[n - 2 for n in room]] = 1
        body = body.ljust(len(room) * volume.cluster, b"\0")
        entry = _new_set(name, FOLDER, room[0], len(body), True, upcase_table)
        writes += [
            (self.base + volume.at(n), body[i * volume.cluster : (i + 1) * volume.cluster]) for i, n in enumerate(room)
        ]
        return group(
            "lost",
            [*writes, *self._marked(used), (self.base + place, entry)],
            "folder",
            touches=(name,),
            count=len(pieces),
        )

    def _pieces(self, alone: Sequence[int]) -> list[list[int]]:
        """Lost clusters by what the table says follows what; those of which it says nothing as they lie side by
        side."""
        left, table = set(alone), self.volume.table
        led_to = {int(table[n]) for n in alone}
        found: list[list[int]] = []
        for head in [*(n for n in alone if n not in led_to), *alone]:
            line: list[int] = []
            while head in left:
                left.discard(head)
                line.append(head)
                head = int(table[head])
            if (
                line
                and len(line) == 1
                and found
                and table[line[0]] == 0
                and found[-1][-1] == line[0] - 1
                and not any(table[n] for n in found[-1])
            ):
                found[-1] += line
            elif line:
                found.append(line)
        return found

    def _free_place(self) -> int | None:
        """Byte of the volume at which three entries of the root are free, one after the other."""
        volume = self.volume
        for number in volume.chain(volume.root, 0, contiguous=False):
            raw = volume.bytes.read(volume.at(number), volume.cluster, "root")
            free = 0
            for place in range(0, volume.cluster, ENTRY):
                free = free + 1 if not raw[place] & IN_USE else 0
                if free == 3:
                    return volume.at(number) + place - 2 * ENTRY
        return None

    def _free_name(self) -> str:
        taken = {own.name.upper() for own in self.volume.sets(self.volume.root, 0, contiguous=False) if not own.deleted}
        return next(name for name in (f"{FOLDER_NAME}.{n:03d}" for n in range(len(taken) + 1)) if name not in taken)

    def cluster_map(self) -> RepairGroup | None:
        """What files hold is in use; what nobody holds is free."""
        if not self.ids & {"unmarked", "lost"} or self.ids & {
            "entry-broken",
            "unreadable",
            "chain-nowhere",
            "map-unread",
        }:
            return None  # a folder that could not be read would lose what it holds
        volume = self.volume
        used = np.zeros(volume.clusters, np.uint8)
        used[[n - 2 for n, _ in volume.own_clusters()]] = 1
        for own, _ in self._live():
            used[[n - 2 for n in self._held(own)]] = 1
        used[np.flatnonzero(volume.table[2:] == BAD)] = 1
        writes = self._marked(used)
        return group("map", writes, "map", doubts=("freed",) if "lost" in self.ids else ()) if writes else None

    def flags(self) -> RepairGroup | None:
        if not self.ids <= {"dirty", "errors-noted", "bad-places"} or not self.ids & {"dirty", "errors-noted"}:
            return None
        return group("counts", [(self.base + 106, (self.volume.flags & ~6).to_bytes(2, "little"))], "count")


def _room(used: np.ndarray, count: int) -> list[int]:
    """Free clusters, side by side where there is such a place; empty where there are not so many."""
    free = np.flatnonzero(used == 0) + 2
    if count < 1 or len(free) < count:
        return []
    runs = np.flatnonzero(free[count - 1 :] - free[: len(free) - count + 1] == count - 1)
    at = int(runs[0]) if len(runs) else 0
    return [int(n) for n in free[at : at + count]]


def _new_set(
    name: str, attributes: int, cluster: int, size: int, contiguous: bool, upcase_table: Sequence[int]
) -> bytes:
    """Sections 7.4, 7.6, 7.7."""
    letters = name.encode("utf-16-le")
    head = struct.pack(
        "<BBHHHIIIBBBBB7x",
        FILE_ENTRY,
        1 + -(-len(name) // LETTERS),
        0,
        attributes,
        0,
        _WHEN,
        _WHEN,
        _WHEN,
        0,
        0,
        0x80,
        0x80,
        0x80,
    )
    stream = struct.pack(
        "<BBBBHHQ4xIQ",
        STREAM,
        1 | (NO_CHAIN if contiguous else 0),
        0,
        len(name),
        name_hash(letters, upcase_table),
        0,
        size,
        cluster,
        size,
    )
    raw = bytearray(
        head
        + stream
        + b"".join(bytes([NAME, 0]) + letters[n : n + 30].ljust(30, b"\0") for n in range(0, len(letters), 30))
    )
    raw[2:4] = set_sum(bytes(raw)).to_bytes(2, "little")
    return bytes(raw)
