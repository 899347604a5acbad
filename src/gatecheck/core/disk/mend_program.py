"""Mending plans for a program that stands on its volume and is not found or not taken for one: its first bytes, its
folder's entry, its chain of clusters.

UEFI 2.10, 2.1.1 and Microsoft "PE Format" (what a program's start is); Microsoft FAT 1.03 (entries, names, chains).
Each is made only where the disk itself tells what stood there: the rest of the program, its sum, the entry's rest."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from gatecheck.core.disk.boot_uefi import image_fault, slices, volumes
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.plan import RepairPlan, Write, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Walk
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.pe import FALLBACK
from gatecheck.core.volume.fat.layout import FatListing, FatVolume
from gatecheck.core.volume.fat.names import sum_of
from gatecheck.core.volume.fat.write import link_clusters, short_name

_ENTRY, _LONG, _DIRECTORY, _LABEL, _ARCHIVE, _DELETED = 32, 0x0F, 0x10, 0x08, 0x20, 0xE5
_MOST_CLUSTERS = 1 << 20
_MOST_FOLDER, _MOST_FOLDERS, _MOST_TOLD, _LARGEST = 1024, 500, 5, 32 << 20
_HEADS = range(0x40, 0x401, 8)
_CHECKSUM = 64
_STOPS = ("no-fallback", "loader-missing", "loader-no-file", "loader-no-program", "loader-chain-broken")


@dataclass(frozen=True, slots=True)
class _Row:
    """An entry of a folder: byte on the disk, its 32 bytes, the rows of its long name before it."""

    at: int
    raw: bytes
    before: tuple[tuple[int, bytes], ...]

    def cluster(self, wide: int) -> int:
        high = int.from_bytes(self.raw[20:22], "little") << 16 if wide == 32 else 0
        return high | int.from_bytes(self.raw[26:28], "little")

    @property
    def size(self) -> int:
        return int.from_bytes(self.raw[28:32], "little")


def program_plans(disk: Sectors, stops: str, machine: str) -> Iterator[RepairPlan]:
    """`stops`: the finding at which the walk ended. For the fallback program of each volume that firmware opens."""
    yield from name_sum_plans(disk) if stops else ()
    if stops not in _STOPS:
        return
    wanted = FALLBACK[machine]
    for own, volume, files in volumes(disk, slices(disk, Walk()), Walk()):
        try:
            yield from _plans(volume, files, wanted, machine, own.number)
        except DecodeError:
            continue


def _plans(volume: FatVolume, files: FatListing, path: str, machine: str, number: int) -> Iterator[RepairPlan]:
    folder, _, name = path.rpartition("/")
    whole = files.find(path)
    rows: Sequence[_Row] = ()
    parent = 0 if volume.wide != 32 else volume.root_cluster
    for part in folder.split("/"):
        rows = tuple(_rows(volume, parent))
        row = _named(rows, part)
        if row is None or not row.raw[11] & _DIRECTORY:
            yield from _folder_plans(volume, rows, part, number)
            return
        parent = row.cluster(volume.wide)
    rows = tuple(_rows(volume, parent))
    if whole is not None and whole.is_directory:
        yield from _no_folder(volume, _named(rows, name), path, number)
    elif whole is None:
        yield from _deleted(volume, rows, name, path, machine, number, _of_others(volume, files, path))
    else:
        row = _named(rows, name)
        if row is not None:
            yield from _start(volume, row, path, machine, number)
            yield from _chain(volume, row, path, machine, number, _of_others(volume, files, path))


def _of_others(volume: FatVolume, files: FatListing, path: str) -> set[int]:
    """Clusters that other files and folders have, as far as their chains lead."""
    found: set[int] = set()
    for file in files.files.values():
        if file.path.lower() == path.lower():
            continue
        try:
            for cluster in volume.chain(file.cluster, _MOST_CLUSTERS):
                found.add(cluster)
        except DecodeError:
            continue
    return found


def _rows(volume: FatVolume, cluster: int) -> Iterator[_Row]:
    """Every entry of a folder up to its end, deleted ones too; those of long names go with what they belong to."""
    size, step = volume.cluster_sectors * volume.sector, volume.sector
    start = volume.first * volume.disk.sector
    if cluster:
        pieces = [
            (start + (volume.data_at + (c - 2) * volume.cluster_sectors) * step, size)
            for c in volume.chain(cluster, _MOST_FOLDER)
        ]
    else:
        pieces = [(start + volume.root_at * step, (volume.data_at - volume.root_at) * step)]
    before: list[tuple[int, bytes]] = []
    for at, length in pieces:
        sector = volume.disk.sector
        raw = volume.disk.read(at // sector, length // sector).whole("folder")
        for place in range(0, length, _ENTRY):
            own = raw[place : place + _ENTRY]
            if not own[0]:
                return
            if own[11] & 0x3F == _LONG:
                before.append((at + place, own))
                continue
            yield _Row(at + place, own, tuple(before))
            before = []


def _named(rows: Sequence[_Row], name: str) -> _Row | None:
    short = short_name(name)
    return next((r for r in rows if r.raw[:11] == short and r.raw[11] & _LABEL == 0), None)


def _long_text(row: _Row) -> str:
    parts = [raw[1:11] + raw[14:26] + raw[28:32] for _, raw in reversed(row.before)]
    return b"".join(parts).decode("utf-16-le", "replace").split("\0")[0]


def name_sum_plans(disk: Sectors) -> Iterator[RepairPlan]:
    """Long names whose sum is not their short name's though every piece is there and the short name is made of the long
    one: a plan for each volume that firmware opens."""
    for own, volume, files in volumes(disk, slices(disk, Walk()), Walk()):
        folders = [volume.root_cluster if volume.wide == 32 else 0]
        folders += [f.cluster for f in files.files.values() if f.is_directory and f.cluster][:_MOST_FOLDERS]
        wrong: list[_Row] = []
        for cluster in folders:
            try:
                wrong += [row for row in _rows(volume, cluster) if _is_summed_wrong(row)]
            except DecodeError:
                continue
        if wrong:
            yield RepairPlan(
                f"long-name-{own.number}",
                what("long-name", number=own.number),
                why("long-name", names=[_long_text(row) for row in wrong[:_MOST_TOLD]]),
                tuple(
                    write(at + 13, bytes([sum_of(row.raw[:11])]), "fat-entry", file=_long_text(row))
                    for row in wrong
                    for at, _ in row.before
                ),
            )


def _is_summed_wrong(row: _Row) -> bool:
    order = [raw[0] & 0x1F for _, raw in row.before]
    if not row.before or row.raw[0] == _DELETED or order != list(range(len(order), 0, -1)):
        return False
    base = row.raw[:8].decode("latin-1").rstrip().partition("~")[0]
    letters = "".join(c for c in _long_text(row).upper() if c not in " .")
    return letters.startswith(base) and {raw[13] for _, raw in row.before} != {sum_of(row.raw[:11])}


def _folder_plans(volume: FatVolume, rows: Sequence[_Row], part: str, number: int) -> Iterator[RepairPlan]:
    """A folder of the path that was deleted by its entry alone: its clusters are still its own."""
    short = short_name(part)
    for row in rows:
        if row.raw[0] != _DELETED or row.raw[1:11] != short[1:] or not row.raw[11] & _DIRECTORY:
            continue
        cluster = row.cluster(volume.wide)
        if volume.following(cluster) and _is_folder(volume, cluster):
            yield _undeleted(row, short, part, number, ())
            return


def _is_folder(volume: FatVolume, cluster: int) -> bool:
    raw = volume.cluster(cluster, "folder")
    own = int.from_bytes(raw[26:28], "little") | (
        int.from_bytes(raw[20:22], "little") << 16 if volume.wide == 32 else 0
    )
    return raw[:11] == b".          " and own == cluster


def _undeleted(row: _Row, short: bytes, path: str, number: int, doubts: Sequence[str]) -> RepairPlan:
    return RepairPlan(
        f"deleted-entry-{number}",
        what("deleted-entry", file=path, number=number),
        why("deleted-entry"),
        (write(row.at, short[:1], "fat-entry", file=path),),
        tuple(doubt(d) for d in doubts),
        "loader",
    )


def _no_folder(volume: FatVolume, row: _Row | None, path: str, number: int) -> Iterator[RepairPlan]:
    """Its entry says folder, and it has a size and a program's bytes."""
    if row is None or not row.size or not 2 <= row.cluster(volume.wide) < volume.clusters + 2:
        return
    if volume.cluster(row.cluster(volume.wide), path)[:2] == b"MZ":
        yield RepairPlan(
            f"folder-flag-{number}",
            what("folder-flag", file=path, number=number),
            why("folder-flag", size=row.size),
            (write(row.at + 11, bytes([row.raw[11] & ~_DIRECTORY & 0xFF | _ARCHIVE]), "fat-entry", file=path),),
            (),
            "loader",
        )


def _start(volume: FatVolume, row: _Row, path: str, machine: str, number: int) -> Iterator[RepairPlan]:
    """The two bytes MZ and the place of the head are all that firmware reads before the head itself."""
    data = _content(volume, row)
    if data is None or not image_fault(data, machine):
        return
    told = int.from_bytes(data[0x3C:0x40], "little")
    places = [
        at for at in ([told] if 0x40 <= told < len(data) else []) + list(_HEADS) if data[at : at + 4] == b"PE\0\0"
    ]
    for at in dict.fromkeys(places):
        start = b"MZ" + data[2:0x3C] + at.to_bytes(4, "little")
        if image_fault(start + data[0x40:], machine):
            continue
        base = _byte_of(volume, row.cluster(volume.wide))
        changed = [(n, start[n : n + 1]) for n in range(0x40) if data[n : n + 1] != start[n : n + 1]]
        yield RepairPlan(
            f"program-start-{number}",
            what("program-start", file=path, number=number),
            why("program-start", at=at),
            tuple(write(base + n, value, "fat-file", file=path) for n, value in changed),
            () if _sum_fits(start + data[0x40:]) else (doubt("no-sum"),),
            "loader",
        )
        return


def _chain(
    volume: FatVolume, row: _Row, path: str, machine: str, number: int, others: set[int]
) -> Iterator[RepairPlan]:
    """A chain that ends early, or runs into free or bad clusters: the second FAT's where that has it whole, else one
    cluster after the other, where what stands there is the program by its own sum."""
    first, each = row.cluster(volume.wide), volume.cluster_sectors * volume.sector
    need = -(-row.size // each)
    if not 0 < row.size <= _LARGEST or not 2 <= first < volume.clusters + 2:
        return
    try:
        if len(list(volume.chain(first, need + 1))) == need:
            return
    except DecodeError:
        pass
    rows = list(range(first, first + need))
    second = _second_table(volume)
    kept: list[int] = []
    if second is not None:
        try:
            kept = list(second.chain(first, need + 1))
        except DecodeError:
            kept = []
    for clusters, source in ((kept, "second"), (rows, "row")):
        if len(clusters) != need or clusters[-1] >= volume.clusters + 2 or others & set(clusters):
            continue
        data = b"".join(volume.cluster(c, path) for c in clusters)[: row.size]
        if image_fault(data, machine) or (source == "row" and not (_sum_fits(data) or _is_free(volume, clusters))):
            continue
        doubts = () if source == "second" or _sum_fits(data) else (doubt("no-sum"),)
        yield RepairPlan(
            f"chain-{number}",
            what("chain", file=path, number=number),
            why(f"chain-{source}", count=need),
            tuple(_links(volume, clusters, path)),
            doubts,
            "loader",
        )
        return


def _deleted(
    volume: FatVolume, rows: Sequence[_Row], name: str, path: str, machine: str, number: int, others: set[int]
) -> Iterator[RepairPlan]:
    """An entry that was deleted: all of it but its first letter still stands, and that letter is known."""
    short, each = short_name(name), volume.cluster_sectors * volume.sector
    for row in rows:
        first, need = row.cluster(volume.wide), -(-row.size // each)
        if row.raw[0] != _DELETED or row.raw[1:11] != short[1:] or row.raw[11] & (_DIRECTORY | _LABEL):
            continue
        if not 0 < row.size <= _LARGEST or not 2 <= first <= volume.clusters + 2 - need:
            continue
        if volume.following(first):
            data = _content(volume, row)
            if data is not None and not image_fault(data, machine) and first not in others:
                yield _undeleted(row, short, path, number, ())
            continue
        clusters = list(range(first, first + need))
        data = b"".join(volume.cluster(c, path) for c in clusters)[: row.size]
        if others & set(clusters) or any(map(volume.following, clusters)) or image_fault(data, machine):
            continue
        plan = _undeleted(row, short, path, number, () if _sum_fits(data) else ("no-sum",))
        yield replace(plan, writes=(*_links(volume, clusters, path), *plan.writes))


def _links(volume: FatVolume, clusters: Sequence[int], path: str) -> Iterator[Write]:
    return (write(w.at, w.data, f"fat-{w.kind}", file=path) for w in link_clusters(volume, clusters))


def _content(volume: FatVolume, row: _Row) -> bytes | None:
    """All bytes of it by its chain; None where that is not as long as it is."""
    each = volume.cluster_sectors * volume.sector
    need = -(-row.size // each)
    if not 0 < row.size <= _LARGEST:
        return None
    try:
        clusters = list(volume.chain(row.cluster(volume.wide), need))
        return b"".join(volume.cluster(c, "program") for c in clusters)[: row.size] if len(clusters) == need else None
    except DecodeError:
        return None


def _is_free(volume: FatVolume, clusters: Sequence[int]) -> bool:
    """Each is free, bad, an end, or leads to the next of them."""
    end = (1 << min(volume.wide, 28)) - 9
    return all(not volume.following(c) or volume.following(c) >= end or volume.following(c) == c + 1 for c in clusters)


def _byte_of(volume: FatVolume, cluster: int) -> int:
    sector = volume.data_at + (cluster - 2) * volume.cluster_sectors
    return volume.first * volume.disk.sector + sector * volume.sector


def _second_table(volume: FatVolume) -> FatVolume | None:
    """The volume as its second FAT has it."""
    step, per = volume.sector // volume.disk.sector, volume.fat_sectors
    lba = volume.first + volume.reserved * step
    two = (
        volume.disk.read(lba + per * step, per * step) if volume.fats > 1 and per * volume.sector <= _LARGEST else None
    )
    if two is None or two.missing:
        return None
    return replace(volume, disk=Overlay(volume.disk, [(lba * volume.disk.sector, two.data)]))


def _sum_fits(data: bytes) -> bool:
    """The program's own sum (Microsoft "PE Format", CheckSum): 16-bit words with carries, and its length."""
    at = int.from_bytes(data[0x3C:0x40], "little") + 24 + _CHECKSUM
    told = int.from_bytes(data[at : at + 4], "little")
    if not told:
        return False
    raw = data[:at] + bytes(4) + data[at + 4 :]
    total = int(np.frombuffer(raw + b"\0" * (len(raw) % 2), "<u2").sum(dtype=np.uint64))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return (total + len(data)) & 0xFFFFFFFF == told
