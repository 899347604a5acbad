"""Repairs that are certain for FAT: copies, chains, files that share a place, lost chains, folder links, counts, flags.

Microsoft, "FAT: General Overview of On-Disk Format", 1.03. The table is changed as numbers and written as runs of
changed entries in every copy."""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.check import _FLAGS_AT, _plausible, check_fat, dots_can_stand, dots_gone
from gatecheck.core.volume.fat.names import (
    bad_letters,
    behind_end,
    duplicate_names,
    false_labels,
    long_flaws,
    name_beside,
    sum_of,
)
from gatecheck.core.volume.fat.read import Fat, FolderSlot
from gatecheck.core.volume.fat.tables import best_table
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import DAMAGE, Hole, VolumeFinding

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report

FOLDER_NAME, PIECE = b"SAVEDBIT", b"PIECE"
_MOST_SAVED, _MOST_COPIED = 400, 64 << 20


def fat_groups(volume: Fat, report: Report) -> list[Callable[[], RepairGroup | None]]:
    ids = {f.id for f in report.findings}
    own = _Fat(volume, ids)
    return [
        own.copy,
        own.tables,
        own.ended,
        own.spelled,
        own.duplicate_names,
        own.broken,
        own.apart,
        own.chains,
        own.links,
        own.names,
        own.lost,
        own.counts,
    ]


class _Fat:
    def __init__(self, volume: Fat, ids: set[str]) -> None:
        self.volume, self.ids, self.base = volume, ids, volume.bytes.base
        self.table = volume.table.astype(np.int64).copy()
        self.end = 0x0FFFFFFF if volume.wide == 32 else (1 << volume.wide) - 1

    # --- what stands twice

    def copy(self) -> RepairGroup | None:
        """The copy of the boot sector from the one in use."""
        if not self.ids & {"boot-copy-differs", "boot-unsigned"}:
            return None
        own = self.volume.volume
        raw = bytearray(own.read(0, 1, "boot sector"))
        at = int.from_bytes(raw[50:52], "little")
        has_copy = self.volume.wide == 32 and 0 < at < own.reserved
        copy = own.read(at, 1, "copy of the boot sector") if has_copy else b""
        by_copy = bool(copy) and self._fits_better(copy)
        raw = bytearray(copy) if by_copy else raw
        raw[510:512] = b"\x55\xaa"
        writes = [(self.base, bytes(raw))] if by_copy or "boot-unsigned" in self.ids else []
        if has_copy:
            writes.append((self.base + at * own.sector, bytes(raw)))
        return group("boot-copy", writes, "boot-sector")

    def _fits_better(self, boot: bytes) -> bool:
        """By another boot sector less is wrong with the volume."""
        counts = []
        for raw in (self.volume.volume.read(0, 1, "boot sector"), boot):
            found: list[VolumeFinding] = []
            try:
                check_fat(
                    Fat(Overlay(self.volume.disk, [(self.base, raw)]), self.volume.first, self.volume.last),
                    found.append,
                )
            except DecodeError:
                return False
            counts.append(sum(f.severity == DAMAGE and f.id != "boot-copy-differs" for f in found))
        return counts[1] < counts[0]

    def tables(self) -> RepairGroup | None:
        """Both tables alike: the one by which more hangs together is taken, and where they differ in a few places, of
        each place the one that fits."""
        if not self.ids & {"tables-differ", "media-differs"}:
            return None
        own = self.volume.volume
        copies = {}
        for number in range(min(own.fats, 2)):
            with contextlib.suppress(DecodeError):
                copies[number] = own.read(own.reserved + number * own.fat_sectors, own.fat_sectors, "FAT")
        if not copies:
            return None
        best, raw = best_table(self.volume, copies, self._slots) if own.fats > 1 else (0, copies[0])
        # the first entry is the medium's byte, and ones (3.5)
        first = bytes([own.read(0, 1, "boot sector")[21]])
        if self.volume.wide == 12:
            raw = first + bytes([raw[1] | 0x0F]) + raw[2:]
        elif self.volume.wide == 16:
            raw = first + b"\xff" + raw[2:]
        else:
            raw = first + b"\xff\xff" + bytes([raw[3] | 0x0F]) + raw[4:]
        writes = []
        for number in range(own.fats):
            at = self.base + (own.reserved + number * own.fat_sectors) * own.sector
            try:
                now = own.read(own.reserved + number * own.fat_sectors, own.fat_sectors, "FAT")
            except DecodeError:
                now = b""
            writes += [(at + low, raw[low:high]) for low, high in _changed(now, raw, own.sector)]
        return group("tables", writes, "fat", number=best + 1)

    def _slots(self) -> Iterator[tuple[str, FolderSlot]]:
        """(path, entry) of everything that lives."""
        volume = self.volume
        waiting, seen = [(volume.root, "")], {volume.root}
        while waiting:
            cluster, path = waiting.pop()
            for slot in volume.slots(cluster):
                if slot.deleted or slot.name in (".", "..") or not _plausible(slot):
                    continue
                own = f"{path}/{slot.name}" if path else slot.name
                yield own, slot
                inner = slot.cluster(volume.wide)
                if slot.is_folder and inner not in seen and 2 <= inner < volume.clusters + 2:
                    seen.add(inner)
                    waiting.append((inner, own))

    # --- entries

    @cached_property
    def _of_files(self) -> set[int]:
        """Clusters of files, where something is had by two: what stands there is not entries, whatever folder leads to
        it."""
        if "crossed" not in self.ids:
            return set()
        return {
            c
            for _, slot in self._slots()
            if not slot.is_folder
            for c in self._walk(slot.cluster(self.volume.wide))[0][: -(-slot.size // self.volume.cluster)]
        }

    def _is_folders(self, at: int) -> bool:
        """Does this byte of the volume belong to folders alone?"""
        own = self.volume.volume
        place = at // own.sector - own.data_at
        return place < 0 or place // own.cluster_sectors + 2 not in self._of_files

    def _folders(self) -> list[tuple[str, int]]:
        """(path, first cluster) of every folder that can be read, the root first."""
        return [
            ("/", self.volume.root),
            *((path, slot.cluster(self.volume.wide)) for path, slot in self._slots() if slot.is_folder),
        ]

    def _hurt(self) -> Iterator[tuple[str, FolderSlot]]:
        """Entries in use whose name or attributes cannot be."""
        for path, cluster in self._folders():
            for slot in self.volume.slots(cluster):
                if (
                    not slot.deleted
                    and slot.name not in (".", "..")
                    and self._is_folders(slot.at)
                    and (not _plausible(slot) or bad_letters(slot.raw[:11]))
                ):
                    yield (f"{path}/{slot.name}" if path != "/" else slot.name), slot

    def _hangs_together(self, slot: FolderSlot) -> bool:
        """What it leads to is as long as it says; a folder begins with itself."""
        first, volume = slot.cluster(self.volume.wide), self.volume
        if slot.is_folder:
            return 2 <= first < volume.clusters + 2 and not dots_gone(volume, first)
        held, ends = self._walk(first)
        return (first == 0 and slot.size == 0) or (
            bool(slot.size) and ends and len(held) == -(-slot.size // volume.cluster)
        )

    def ended(self) -> RepairGroup | None:
        """Lists of folders that end too early: entries behind the end lead to chains that nobody else has and that are
        as long as they say."""
        if "lost" not in self.ids:
            return None
        owned = {c for _, slot in self._slots() for c in self._walk(slot.cluster(self.volume.wide))[0]}
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        for path, cluster in self._folders():
            at, behind = behind_end(self.volume, cluster)
            for slot in behind:
                first = slot.cluster(self.volume.wide)
                if (
                    first
                    and first not in owned
                    and self._is_folders(at)
                    and _plausible(slot)
                    and not bad_letters(slot.raw[:11])
                    and self._hangs_together(slot)
                ):
                    writes.append((self.base + at, b"\xe5"))
                    touched.append(path)
                    break
        return group("ended", writes, "entry", touches=tuple(touched), count=len(touched)) if writes else None

    def spelled(self) -> RepairGroup | None:
        """Letters that no name may have are written as lines, attributes that have no meaning taken off: only where the
        file itself hangs together."""
        if not self.ids & {"entry-broken", "name-broken"}:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        for path, slot in self._hurt():
            if not self._hangs_together(slot):
                continue
            bad = {
                *bad_letters(slot.raw[:11]),
                *(n for n, byte in enumerate(slot.raw[:11]) if byte < 0x20 and not (n == 0 and byte == 0x05)),
            }
            name = bytes(ord("_") if n in bad else byte for n, byte in enumerate(slot.raw[:11]))
            at = self.base + slot.at
            writes += [(at, name + bytes([slot.raw[11] & 0x3F]))] + (
                [(at + 28, bytes(4))] if slot.is_folder and slot.size else []
            )
            touched.append(path)
        return group("spelled", writes, "entry", touches=tuple(touched), count=len(touched)) if writes else None

    def duplicate_names(self) -> RepairGroup | None:
        """Of entries with one short name the later ones get another; a long name stays, with the sum of the new one."""
        if "name-twice" not in self.ids or "unreadable" in self.ids:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        for path, cluster in self._folders():
            taken = {slot.raw[:11] for slot in self.volume.slots(cluster) if not slot.deleted}
            for at, raw, parts in duplicate_names(self.volume, cluster):
                if not all(map(self._is_folders, (at, *(piece for piece, _ in parts)))):
                    continue
                name = name_beside(raw[:11], taken)
                taken.add(name)
                writes += [
                    (self.base + at, name),
                    *((self.base + piece + 13, bytes([sum_of(name)])) for piece, _ in parts),
                ]
                stem, ending = name[:8].decode("latin-1").rstrip(), name[8:].decode("latin-1").rstrip()
                touched.append(f"{path if path != '/' else ''}/{stem}.{ending}".strip("/."))
        return group("twins", writes, "entry", touches=tuple(touched), count=len(touched)) if writes else None

    def broken(self) -> RepairGroup | None:
        """Entries that say what cannot be and lead to nothing that fits them: let go, so that what they held is lost
        and can be saved."""
        if "entry-broken" not in self.ids or "unreadable" in self.ids:
            return None
        found = [
            (path, slot.at) for path, slot in self._hurt() if not _plausible(slot) and not self._hangs_together(slot)
        ]
        found += [
            (path, at)
            for path, cluster in self._folders()
            for at in false_labels(self.volume, cluster)
            if self._is_folders(at)
        ]
        writes = [(self.base + at, b"\xe5") for _, at in found]
        return (
            group(
                "broken",
                writes,
                "entry",
                doubts=("nameless",),
                touches=tuple(path for path, _ in found),
                count=len(found),
            )
            if found
            else None
        )

    # --- chains

    def _walk(self, first: int) -> tuple[list[int], bool]:
        """(clusters of a chain as far as it hangs together, whether it ends as a chain should)."""
        found: list[int] = []
        seen: set[int] = set()
        cluster = first
        while 2 <= cluster < self.volume.clusters + 2 and cluster not in seen:
            found.append(cluster)
            seen.add(cluster)
            cluster = int(self.table[cluster])
        return found, cluster >= self.volume.end_mark

    def chains(self) -> RepairGroup | None:
        """Chains that break off, run on or run in a circle: ended where the file's bytes end; sizes that are larger
        than what is held."""
        if not self.ids & {"chain-short", "chain-long", "chain-broken", "chain-circle", "chain-nowhere", "crossed"}:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        heads: dict[int, str] = {}
        owned: dict[int, str] = {}
        """clusters that somebody holds within his size"""
        if self.volume.wide == 32:
            heads[self.volume.root] = "/"
            owned.update(dict.fromkeys(self._walk(self.volume.root)[0], "/"))
        for path, slot in self._slots():
            heads[slot.cluster(self.volume.wide)] = path
            held, _ = self._walk(slot.cluster(self.volume.wide))
            for cluster in held if slot.is_folder else held[: -(-slot.size // self.volume.cluster)]:
                owned.setdefault(cluster, path)
        for path, slot in self._slots():
            first = slot.cluster(self.volume.wide)
            held, ends = self._walk(first)
            need = -(-slot.size // self.volume.cluster) if not slot.is_folder else len(held)
            if len(held) == need and (ends or not (held or first)):
                continue
            keep = held[:need]
            if slot.is_folder and not held:
                continue
            if any(heads.get(c, path) != path for c in keep[1:]) or any(owned.get(c, path) != path for c in keep):
                continue  # it leads into another file: that is a shared place
            touched.append(path)
            if keep:
                self.table[keep[-1]] = self.end
                rest = next((n for n, c in enumerate(held[need:]) if c in owned), len(held) - need)
                self.table[held[need : need + rest]] = 0  # from where somebody else's begins it is his
            at = self.base + slot.at
            if not need and first:  # what it leads to is another's, or lost and can be saved
                writes += [(at + 20, b"\0\0"), (at + 26, b"\0\0")]
            elif len(keep) < need or (not keep and slot.size):
                if not keep:
                    writes += [(at + 20, b"\0\0"), (at + 26, bytes(6))]
                else:
                    writes.append((at + 28, struct.pack("<I", min(slot.size, len(keep) * self.volume.cluster))))
        return (
            group(
                "chains",
                [*self.entries(), *writes],
                "fat",
                doubts=("shortened",),
                touches=tuple(touched),
                count=len(touched),
            )
            if touched
            else None
        )

    def apart(self) -> RepairGroup | None:
        """Files that claim the same place: the later one gets places of its own with a copy of what stands there."""
        if "crossed" not in self.ids:
            return None
        owner: dict[int, str] = {}
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        free = iter(np.nonzero(self.table[2:] == 0)[0] + 2)
        if self.volume.wide == 32:
            owner.update(dict.fromkeys(self._walk(self.volume.root)[0], "/"))
        for path, slot in sorted(self._slots(), key=lambda p: (not p[1].is_folder, p[0])):
            first = slot.cluster(self.volume.wide)
            held, _ = self._walk(first)
            if not slot.is_folder:
                held = held[: -(-slot.size // self.volume.cluster)]
            shared = [n for n, c in enumerate(held) if c in owner]
            if shared and not slot.is_folder and len(held) * self.volume.cluster <= _MOST_COPIED:
                place = shared[0]
                new = [int(c) for _, c in zip(held[place:], free, strict=False)]
                if len(new) < len(held) - place:
                    continue
                for old, own in zip(held[place:], new, strict=True):
                    data = b"".join(
                        bytes(p.length) if isinstance(p, Hole) else p
                        for p in self.volume.bytes.pieces(self.volume.at(old), self.volume.cluster)
                    )
                    writes.append((self.base + self.volume.at(own), data))
                line = [*held[:place], *new]
                for own, following in zip(
                    line[max(0, place - 1) :],
                    [*line[max(1, place) :], self.end] if place else [*line[1:], self.end],
                    strict=False,
                ):
                    self.table[own] = following
                if place == 0:
                    at = self.base + slot.at
                    writes += [
                        (at + 20, struct.pack("<H", new[0] >> 16 if self.volume.wide == 32 else 0)),
                        (at + 26, struct.pack("<H", new[0] & 0xFFFF)),
                    ]
                held = line
                touched += [path, owner[self._first_shared(slot, owner)]]
            for cluster in held:
                owner.setdefault(cluster, path)
        return (
            group(
                "apart",
                [*writes, *self.entries()],
                "file",
                doubts=("one-is-wrong",),
                touches=tuple(touched),
                count=len(touched) // 2,
            )
            if touched
            else None
        )

    def _first_shared(self, slot: FolderSlot, owner: dict[int, str]) -> int:
        """A cluster of the file that another one had first, by the table as it is on the disk."""
        cluster, table = slot.cluster(self.volume.wide), self.volume.table
        for _ in range(self.volume.clusters):
            if cluster in owner:
                return cluster
            cluster = int(table[cluster])
        return next(iter(owner))

    def links(self) -> RepairGroup | None:
        """Folders' own links to themselves and to the folder above."""
        if "folder-links" not in self.ids:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        volume = self.volume
        waiting = [(volume.root, "", 0)]
        seen = {volume.root}
        while waiting:
            cluster, path, parent = waiting.pop()
            gone = dots_gone(volume, cluster) if cluster != volume.root else []
            for at, name in gone if dots_can_stand(volume, cluster, gone) else ():
                if not self._is_folders(at):
                    continue
                wanted = cluster if name.strip() == b"." else parent
                writes.append((self.base + at, _entry(name, 0x10, wanted if volume.wide == 32 else wanted & 0xFFFF, 0)))
                touched.append(path)
            for slot in volume.slots(cluster):
                inner = slot.cluster(volume.wide)
                if slot.deleted:
                    continue
                if slot.name in (".", ".."):
                    wanted = cluster if slot.name == "." else parent
                    if inner != wanted and not (wanted == 0 and inner == volume.root) and self._is_folders(slot.at):
                        at = self.base + slot.at
                        writes += [
                            (at + 20, struct.pack("<H", wanted >> 16 if volume.wide == 32 else 0)),
                            (at + 26, struct.pack("<H", wanted & 0xFFFF)),
                        ]
                        touched.append(path)
                elif slot.is_folder and inner not in seen and 2 <= inner < volume.clusters + 2:
                    seen.add(inner)
                    waiting.append(
                        (inner, f"{path}/{slot.name}" if path else slot.name, cluster if cluster != volume.root else 0)
                    )
        return group("links", writes, "entry", touches=tuple(touched), count=len(touched)) if writes else None

    def names(self) -> RepairGroup | None:
        """Pieces of long names that belong to no entry are let go; fields of others get what belongs there."""
        if "long-name" not in self.ids:
            return None
        writes: list[tuple[int, bytes]] = []
        touched: list[str] = []
        for path, cluster in self._folders():
            for flaw in long_flaws(self.volume, cluster):
                if not all(map(self._is_folders, (*flaw.orphans, *(at for at, _ in flaw.fields)))):
                    continue
                writes += [(self.base + at, b"\xe5") for at in flaw.orphans] + [
                    (self.base + at, good) for at, good in flaw.fields
                ]
                touched.append(path)
        return (
            group("names", writes, "entry", touches=tuple(dict.fromkeys(touched)), count=len(touched))
            if writes
            else None
        )

    def lost(self) -> RepairGroup | None:
        """Chains that no file has, as files of a folder of their own in the root."""
        if "lost" not in self.ids or "unreadable" in self.ids:
            return None
        volume = self.volume
        held: set[int] = set()
        for _, slot in self._slots():
            held |= set(self._walk(slot.cluster(volume.wide))[0])
        held |= set(self._walk(volume.root)[0]) if volume.wide == 32 else set()
        alone = [
            int(c)
            for c in np.nonzero((self.table[2:] != 0) & (self.table[2:] != volume.bad_mark))[0] + 2
            if int(c) not in held
        ]
        if not alone:
            return None
        left = set(alone)
        led_to = {int(self.table[a]) for a in alone}
        heads = [c for c in alone if c not in led_to] or alone[:1]
        pieces: list[list[int]] = []
        for head in heads:
            line: list[int] = []
            cluster = head
            while cluster in left:
                left.discard(cluster)
                line.append(cluster)
                cluster = int(self.table[cluster])
            if line:
                self.table[line[-1]] = self.end
                pieces.append(line)
        for cluster in sorted(left):  # circles that nothing leads into
            self.table[cluster] = 0
        for line in pieces[_MOST_SAVED:]:
            self.table[line] = 0
        return self._saved(pieces[:_MOST_SAVED])

    def _saved(self, pieces: list[list[int]]) -> RepairGroup | None:
        volume = self.volume
        per = volume.cluster // 32
        need = -(-(len(pieces) + 2) // per)
        free = [int(c) for c in np.nonzero(self.table[2:] == 0)[0][:need] + 2]
        slot = self._free_slot()
        if len(free) < need or slot is None:
            return None
        for own, following in zip(free, [*free[1:], self.end], strict=True):
            self.table[own] = following
        body = _entry(b".          ", 0x10, free[0], 0) + _entry(b"..         ", 0x10, 0, 0)
        for number, line in enumerate(pieces):
            body += _entry(PIECE + f"{number:03d}".encode() + b"BIN", 0x20, line[0], len(line) * volume.cluster)
        body = body.ljust(need * volume.cluster, b"\0")
        writes = [
            (self.base + volume.at(c), body[n * volume.cluster : (n + 1) * volume.cluster]) for n, c in enumerate(free)
        ]
        number = 0
        names = {s.raw[:11] for s in volume.slots(volume.root) if not s.deleted}
        while FOLDER_NAME + f"{number:03d}".encode() in names:
            number += 1
        entry = _entry(FOLDER_NAME + f"{number:03d}".encode(), 0x10, free[0], 0)
        return group(
            "lost",
            [*writes, *self.entries(), (self.base + slot, entry)],
            "folder",
            touches=(f"{FOLDER_NAME.decode()}.{number:03d}",),
            count=len(pieces),
        )

    def _free_slot(self) -> int | None:
        """Byte of the volume of a free entry of the root."""
        for start, length in self.volume.stretches(self.volume.root):
            raw = self.volume.bytes.read(start, length, "root folder")
            for place in range(0, length, 32):
                if raw[place] in (0, 0xE5) and self._is_folders(start + place):
                    return start + place
        return None

    def counts(self) -> RepairGroup | None:
        """The count of free space and the flags, when nothing else is left."""
        if not self.ids & {"free-count", "info-broken", "dirty", "errors-noted"} or self.ids & {
            "crossed",
            "chain-broken",
            "chain-short",
            "chain-long",
            "chain-circle",
            "lost",
            "tables-differ",
        }:
            return None
        own, writes = self.volume.volume, list[tuple[int, bytes]]()
        boot = own.read(0, 1, "boot sector")
        at = int.from_bytes(boot[48:50], "little") if self.volume.wide == 32 else 0
        if 0 < at < own.reserved and self.ids & {"free-count", "info-broken"}:
            info = bytearray(own.read(at, 1, "FSInfo"))
            info[:4], info[484:488], info[508:512] = b"RRaA", b"rrAa", b"\0\0\x55\xaa"
            info[488:492] = struct.pack("<I", int(np.count_nonzero(self.table[2:] == 0)))
            writes.append((self.base + at * own.sector, bytes(info)))
        if self.ids & {"dirty", "errors-noted"}:
            place = _FLAGS_AT[self.volume.wide]
            writes.append((self.base + place, bytes([boot[place] & ~3])))
            if self.volume.wide != 12:
                top = 27 if self.volume.wide == 32 else 15
                self.table[1] |= 1 << top | 1 << (top - 1)
                writes += self.entries()
        return group("counts", writes, "count") if writes else None

    def entries(self) -> list[tuple[int, bytes]]:
        """The changed entries, in every copy of the table, the last copy first."""
        volume, own = self.volume, self.volume.volume
        changed = [int(n) for n in np.nonzero(self.table != volume.table)[0]]
        if not changed:
            return []
        raw = bytearray(own.read(own.reserved, own.fat_sectors, "FAT"))
        before = bytes(raw)
        for cluster in changed:
            at, value = cluster * volume.wide // 8, int(self.table[cluster])
            if volume.wide == 12:
                pair = int.from_bytes(raw[at : at + 2], "little")
                raw[at : at + 2] = (pair & 0x000F | value << 4 if cluster & 1 else pair & 0xF000 | value).to_bytes(
                    2, "little"
                )
            elif volume.wide == 16:
                raw[at : at + 2] = value.to_bytes(2, "little")
            else:
                top = int.from_bytes(raw[at : at + 4], "little") & 0xF0000000
                raw[at : at + 4] = (top | value).to_bytes(4, "little")
        runs = _changed(before, bytes(raw), 16)
        place = self.base + own.reserved * own.sector
        return [
            (place + number * own.fat_sectors * own.sector + low, bytes(raw[low:high]))
            for number in reversed(range(own.fats))
            for low, high in runs
        ]


def _entry(short: bytes, attributes: int, cluster: int, size: int) -> bytes:
    return short + struct.pack(
        "<BBBHHHHHHHI", attributes, 0, 0, 0, 0x5A21, 0x5A21, cluster >> 16, 0, 0x5A21, cluster & 0xFFFF, size
    )


def _changed(before: bytes, after: bytes, step: int) -> list[tuple[int, int]]:
    """(from, to) of pieces of `step` bytes that differ, neighbours joined."""
    runs: list[tuple[int, int]] = []
    for at in range(0, len(after), step):
        if before[at : at + step] != after[at : at + step]:
            if runs and runs[-1][1] == at:
                runs[-1] = (runs[-1][0], min(at + step, len(after)))
            else:
                runs.append((at, min(at + step, len(after))))
    return runs
