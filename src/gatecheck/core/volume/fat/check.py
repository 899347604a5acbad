"""FAT12, FAT16, FAT32: boot sectors, both tables, every chain, every folder.

Microsoft, "FAT: General Overview of On-Disk Format", 1.03; dirty and error flags: "FAT Type Determination", entry 1.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.names import bad_letters, false_labels, long_flaws
from gatecheck.core.volume.fat.read import FOLDER, Fat, FolderSlot
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding

_FLAGS_AT = {32: 65, 16: 37, 12: 37}
_DEEPEST = 64


def check_fat(volume: Fat, add: Callable[[VolumeFinding], None]) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    _boot(volume, add)
    _label(volume, add)
    table = _tables(volume, add)
    owner = np.zeros(volume.clusters + 2, np.uint32)
    names: list[str] = [""]
    unread: list[str] = []
    files = _folders(volume, table, owner, names, unread, add)
    _lost(volume, table, owner, add, known=not unread)
    used = int(np.count_nonzero(table[2:]))
    _info(volume, int(volume.clusters - used), add)
    return files, used * volume.cluster


def _boot(volume: Fat, add: Callable[[VolumeFinding], None]) -> None:
    own = volume.volume
    raw = own.read(0, 1, "boot sector")
    if raw[510:512] != b"\x55\xaa":
        add(VolumeFinding("boot-unsigned", DAMAGE, repairable=True))
    if raw[_FLAGS_AT[volume.wide]] & 1:
        add(VolumeFinding("dirty", SIGN, repairable=True))
    elif raw[_FLAGS_AT[volume.wide]] & 2:
        add(VolumeFinding("errors-noted", SIGN, repairable=True))
    if volume.wide != 32:
        return
    at = int.from_bytes(raw[50:52], "little")
    if not 0 < at < own.reserved:
        return
    try:
        copy = own.read(at, 1, "copy of the boot sector")
    except DecodeError:
        add(VolumeFinding("unreadable", SIGN, f"sector {at}"))
        return
    alike = raw[:65] == copy[:65] and raw[66:90] == copy[66:90]
    if not alike:
        add(VolumeFinding("boot-copy-differs", DAMAGE, f"sector {at}", repairable=True))


def _label(volume: Fat, add: Callable[[VolumeFinding], None]) -> None:
    """Systems disagree on which of the two they keep: told, not counted as damage."""
    try:
        inside = volume.label_in_root()
    except DecodeError:
        return
    inside = "" if inside == "NO NAME" else inside
    if inside != volume.label:
        add(VolumeFinding("label-differs", NOTE, values={"boot": volume.label, "root": inside}))


def _tables(volume: Fat, add: Callable[[VolumeFinding], None]) -> np.ndarray:
    own = volume.volume
    copies: list[bytes] = []
    for number in range(own.fats):
        try:
            copies.append(volume.raw_copy(number))
        except DecodeError as error:
            add(VolumeFinding("unreadable", DAMAGE, f"FAT, copy {number + 1}: {error}", repairable=own.fats > 1))
    if not copies:
        raise DecodeError("FAT", at=0, expected="one copy that can be read", got="none")
    if len(copies) > 1 and copies[0] != copies[1]:
        wrong = _unlike(volume, copies[0], copies[1])
        if wrong:
            add(VolumeFinding("tables-differ", DAMAGE, count=wrong, repairable=True))
    table = volume.table
    media = own.read(0, 1, "boot sector")[21]
    low = int(table[0]) & 0xFF
    rest = {12: 0xF00, 16: 0xFF00, 32: 0xFF00}[volume.wide]
    if low != media or not int(table[0]) & rest:
        add(
            VolumeFinding(
                "media-differs", DAMAGE, repairable=True, values={"media": f"{media:02X}h", "first": f"{low:02X}h"}
            )
        )
    second = int(table[1])
    top = {32: 27, 16: 15}.get(volume.wide)
    if top is not None and second:
        if not second >> top & 1:
            add(VolumeFinding("dirty", SIGN, repairable=True))
        elif not second >> (top - 1) & 1:
            add(VolumeFinding("errors-noted", SIGN, repairable=True))
    return table


def _unlike(volume: Fat, one: bytes, other: bytes) -> int:
    """Entries in which two copies of the table differ, the four bits of FAT32 that mean nothing too: they are kept
    alike."""
    if volume.wide != 32:
        return int(np.count_nonzero(volume.numbers(one) != volume.numbers(other)))
    count = min(volume.clusters + 2, len(one) // 4)
    return int(np.count_nonzero(np.frombuffer(one, "<u4", count) != np.frombuffer(other, "<u4", count)))


def _folders(
    volume: Fat,
    table: np.ndarray,
    owner: np.ndarray,
    names: list[str],
    unread: list[str],
    add: Callable[[VolumeFinding], None],
) -> int:
    """Walk all folders; the number of files. `owner`: number of the name that holds a cluster."""
    files = 0
    waiting: list[tuple[int, str, int, int]] = [(volume.root, "", 0, 0)]
    if volume.wide == 32:
        names.append("/")
        _claim(volume, table, owner, names, volume.root, None, "/", add)
    while waiting:
        cluster, path, parent, depth = waiting.pop()
        seen: dict[str, int] = {}
        for slot in volume.slots(cluster):
            if slot.deleted:
                continue
            if slot.name in (".", ".."):
                _dots(volume, slot, cluster, parent, path, add)
                continue
            own = f"{path}/{slot.name}" if path else slot.name
            files += not slot.is_folder
            key = slot.raw[:11].decode("latin-1")
            if key in seen:
                add(VolumeFinding("name-twice", DAMAGE, own, repairable=True))
            seen[key] = 1
            if not _plausible(slot):
                add(VolumeFinding("entry-broken", DAMAGE, own, repairable=True))
                continue
            if bad_letters(slot.raw[:11]):
                add(VolumeFinding("name-broken", DAMAGE, own, repairable=True))
            names.append(own)
            first = slot.cluster(volume.wide)
            if slot.is_folder:
                if not 2 <= first < volume.clusters + 2:
                    add(VolumeFinding("folder-nowhere", DAMAGE, own))
                    continue
                if owner[first]:
                    add(VolumeFinding("crossed", DAMAGE, own, repairable=True, values={"other": names[owner[first]]}))
                    continue
                _claim(volume, table, owner, names, first, None, own, add)
                if depth < _DEEPEST:
                    waiting.append((first, own, cluster if cluster != volume.root else 0, depth + 1))
            elif first or slot.size:
                _claim(volume, table, owner, names, first, slot.size, own, add)
        labels = len(false_labels(volume, cluster))
        if labels:
            add(VolumeFinding("entry-broken", DAMAGE, path or "/", count=labels, repairable=True))
        missing_dots = [] if cluster == volume.root else dots_gone(volume, cluster)
        for _, name in missing_dots:
            add(
                VolumeFinding(
                    "folder-links",
                    DAMAGE,
                    path,
                    repairable=dots_can_stand(volume, cluster, missing_dots),
                    values={"name": name.decode().rstrip()},
                )
            )
        flaws = sum(1 for _ in long_flaws(volume, cluster))
        if flaws:
            add(VolumeFinding("long-name", DAMAGE, path or "/", count=flaws, repairable=True))
        missing = [p for p in volume.stretches(cluster) if _gone(volume, *p)]
        if missing:
            unread.append(path)
            add(VolumeFinding("unreadable", DAMAGE, path or "/", count=len(missing)))
    return files


def dots_gone(volume: Fat, cluster: int) -> list[tuple[int, bytes]]:
    """(byte of the volume, name that belongs there) of a folder's own first two entries where they have another
    name."""
    try:
        raw = volume.bytes.read(volume.at(cluster), 64, "folder")
    except DecodeError:
        return []  # said where the folder is read
    return [
        (volume.at(cluster) + at, name)
        for at, name in ((0, b".          "), (32, b"..         "))
        if raw[at : at + 11] != name
    ]


def dots_can_stand(volume: Fat, cluster: int, gone: list[tuple[int, bytes]]) -> bool:
    """May these be written again? One of the two always: the other shows that it is a folder. Both where nothing
    living stands in their places, and what follows is a list of entries."""
    if len(gone) < 2:
        return bool(gone)
    try:
        raw = volume.bytes.read(volume.at(cluster), volume.cluster, "folder")
    except DecodeError:
        return False
    entries = [raw[at : at + 32] for at in range(0, len(raw), 32)]
    behind = entries[2:]
    end = next((n for n, entry in enumerate(behind) if not entry[0]), len(behind))
    if any(any(entry) for entry in behind[end:]):
        return False  # an end with something behind it: no list that was written by a system
    listed = all(entry[0] == 0xE5 or _looks_like_entry(entry, volume) for entry in behind[:end])
    return listed and (bool(end) or not any(raw)) and not any(_is_living(entry, volume) for entry in entries[:2])


def _looks_like_entry(entry: bytes, volume: Fat) -> bool:
    """A short entry that can be, or a piece of a long name."""
    if entry[11] & 0x3F == 0x0F:
        return entry[12] == 0 and entry[26:28] == b"\0\0" and 1 <= entry[0] & 0x3F <= 20
    high = int.from_bytes(entry[20:22], "little") if volume.wide == 32 else 0
    first = high << 16 | int.from_bytes(entry[26:28], "little")
    is_folder, size = bool(entry[11] & FOLDER), int.from_bytes(entry[28:32], "little")
    return (
        not entry[11] & 0xC0
        and not bad_letters(entry[:11])
        and all(b >= 0x20 for b in entry[:11])
        and (first == 0 or 2 <= first < volume.clusters + 2)
        and not (is_folder and size)
    )


def _is_living(entry: bytes, volume: Fat) -> bool:
    return entry[0] not in (0, 0xE5) and _looks_like_entry(entry, volume)


def _gone(volume: Fat, at: int, length: int) -> bool:
    return bool(volume.bytes.span(at, length)[0].missing)


def _plausible(slot: FolderSlot) -> bool:
    """No control letters in the short name, no impossible attributes."""
    return (
        not slot.raw[11] & 0xC0
        and all(b >= 0x20 or (n == 0 and b == 0x05) for n, b in enumerate(slot.raw[:11]))
        and not (slot.is_folder and slot.size)
    )


def _dots(
    volume: Fat, slot: FolderSlot, cluster: int, parent: int, path: str, add: Callable[[VolumeFinding], None]
) -> None:
    own = slot.cluster(volume.wide)
    wanted = cluster if slot.name == "." else parent
    if own != wanted and not (slot.name == ".." and own in (0, volume.root) and wanted in (0, volume.root)):
        add(VolumeFinding("folder-links", DAMAGE, path, repairable=True, values={"name": slot.name}))
    if not slot.raw[11] & FOLDER:
        add(VolumeFinding("folder-links", DAMAGE, path, repairable=True, values={"name": slot.name}))


def _claim(
    volume: Fat,
    table: np.ndarray,
    owner: np.ndarray,
    names: list[str],
    first: int,
    size: int | None,
    path: str,
    add: Callable[[VolumeFinding], None],
) -> None:
    """Follow a chain and take its clusters. `size`: None for a folder, whose chain says its length."""
    need = -(-size // volume.cluster) if size is not None else None
    mine, cluster, count = len(names) - 1, first, 0
    bad_end = False
    while 2 <= cluster < volume.clusters + 2:
        if owner[cluster] == mine:
            add(VolumeFinding("chain-circle", DAMAGE, path))
            return
        if owner[cluster]:
            add(VolumeFinding("crossed", DAMAGE, path, repairable=True, values={"other": names[owner[cluster]]}))
            return
        owner[cluster] = mine
        count += 1
        following = int(table[cluster])
        if (
            following == 0
            or following == volume.bad_mark
            or (following >= volume.clusters + 2 and following < volume.bad_mark)
        ):
            bad_end = True
            cluster = following
            break
        cluster = following
    if count == 0:
        add(VolumeFinding("chain-nowhere", DAMAGE, path, values={"cluster": first}))
    elif bad_end or cluster == 1:
        add(VolumeFinding("chain-broken", DAMAGE, path, repairable=size is not None, values={"cluster": cluster}))
    elif need is not None and count < need:
        add(
            VolumeFinding(
                "chain-short", DAMAGE, path, repairable=True, values={"size": size, "held": count * volume.cluster}
            )
        )
    elif need is not None and count > need:
        add(
            VolumeFinding(
                "chain-long", DAMAGE, path, repairable=True, values={"size": size, "held": count * volume.cluster}
            )
        )


def _lost(
    volume: Fat, table: np.ndarray, owner: np.ndarray, add: Callable[[VolumeFinding], None], *, known: bool
) -> None:
    """`known`: every folder was read; else what no file has may be that of one that was not."""
    taken = (table != 0) & (table != volume.bad_mark)
    taken[:2] = False
    alone = taken & (owner[: len(table)] == 0)
    count = int(alone.sum())
    if count and known:
        pointed = np.zeros(len(table), bool)
        inside = table[alone]
        pointed[inside[(inside >= 2) & (inside < len(table))]] = True
        chains = int(np.count_nonzero(alone & ~pointed)) or 1
        add(
            VolumeFinding(
                "lost", DAMAGE, count=count, repairable=True, values={"chains": chains, "bytes": count * volume.cluster}
            )
        )
    bad = int(np.count_nonzero(table[2:] == volume.bad_mark))
    if bad:
        add(VolumeFinding("bad-places", NOTE, count=bad, values={"bytes": bad * volume.cluster}))


def _info(volume: Fat, free: int, add: Callable[[VolumeFinding], None]) -> None:
    own = volume.volume
    if volume.wide != 32:
        return
    at = int.from_bytes(own.read(0, 1, "boot sector")[48:50], "little")
    if not 0 < at < own.reserved:
        return
    try:
        raw = own.read(at, 1, "FSInfo")
    except DecodeError:
        add(VolumeFinding("unreadable", SIGN, f"sector {at}"))
        return
    if raw[:4] != b"RRaA" or raw[484:488] != b"rrAa":
        add(VolumeFinding("info-broken", SIGN, f"sector {at}", repairable=True))
        return
    told = int.from_bytes(raw[488:492], "little")
    if told not in (free, 0xFFFFFFFF):
        add(VolumeFinding("free-count", SIGN, repairable=True, values={"told": told, "real": free}))
