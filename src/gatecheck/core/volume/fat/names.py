"""Long names in folders of FAT: pieces that belong to no entry, and fields of them that hold what they must not.

Microsoft, "FAT: General Overview of On-Disk Format", 1.03, "Long Directory Entries": the last piece of a name stands
first; each has the number, the sum of the short name behind them, attributes 0Fh, and zeros in two fields. A piece that
does not fit is passed over by every system and only takes room."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.volume.fat.read import ENTRY, VOLUME, Fat, FolderSlot, is_piece

_DELETED, _LAST, _MOST = 0xE5, 0x40, 20
_NEVER = b'"*/:<>?\\|\x7f'
"""letters that no name may have; those that only long names may have are let pass, for old programs wrote them"""
_SECOND = b"\\|"
"""of these, those that may be second halves"""


@dataclass(frozen=True, slots=True)
class LongFlaw:
    """`orphans`: bytes of the volume at which pieces stand that belong to no entry; `fields`: (byte, what belongs
    there) of pieces that do."""

    orphans: tuple[int, ...] = ()
    fields: tuple[tuple[int, bytes], ...] = ()


def long_flaws(volume: Fat, cluster: int) -> Iterator[LongFlaw]:
    """What is wrong with the long names of a folder; where something of it was not read, nothing is said of what
    touches that."""
    parts: list[tuple[int, bytes]] = []
    for at, raw in _raw(volume, cluster):
        if raw is None:
            parts = []
        elif raw[0] not in (0, _DELETED) and is_piece(raw):
            if parts and not _goes_on(parts, raw):
                yield LongFlaw(orphans=tuple(a for a, _ in parts))
                parts = []
            parts.append((at, raw))
        else:
            if parts:
                yield from _ended(parts, raw)
            parts = []
    if parts:
        yield LongFlaw(orphans=tuple(a for a, _ in parts))


def duplicate_names(volume: Fat, cluster: int) -> Iterator[tuple[int, bytes, list[tuple[int, bytes]]]]:
    """(byte of the volume, entry, pieces of its long name) of every entry whose short name an earlier one of its folder
    has."""
    seen: set[bytes] = set()
    parts: list[tuple[int, bytes]] = []
    for at, raw in _raw(volume, cluster):
        if raw is None or raw[0] in (0, _DELETED):
            parts = []
        elif is_piece(raw):
            parts = [*(parts if parts and _goes_on(parts, raw) else []), (at, raw)]
        else:
            short = raw[:11]
            if (
                not raw[11] & VOLUME and short[:1] != b"."
            ):  # a label may be called as a file is; links to folders are mended by what they lead to
                if short in seen:
                    yield at, raw, parts if parts and parts[0][1][13] == sum_of(short) else []
                seen.add(short)
            parts = []


def name_beside(short: bytes, taken: Collection[bytes]) -> bytes:
    """A short name like this one that none of the others has: its first letters, a line that waves, a number."""
    begin = bytes(byte for byte in short[:8] if chr(byte).isascii() and chr(byte).isalnum()) or b"FILE"
    names = (
        (begin[: 8 - len(tail)] + tail).ljust(8) + short[8:]
        for tail in (b"~%d" % number for number in range(1, len(taken) + 2))
    )
    return next(name for name in names if name not in taken)


def false_labels(volume: Fat, cluster: int) -> list[int]:
    """Bytes of the volume at which entries stand that say they are the volume's name and are not: elsewhere than in the
    root, or a second time."""
    found = [
        (at, raw)
        for at, raw in _raw(volume, cluster)
        if raw is not None and raw[0] not in (0, _DELETED) and raw[11] & VOLUME and not is_piece(raw)
    ]
    return [at for at, _ in found[1 if cluster == volume.root else 0 :]]


def _goes_on(parts: Sequence[tuple[int, bytes]], raw: bytes) -> bool:
    """By its number and its sum; one that says it is the last of a name, in the middle of it, has a hurt number."""
    before = parts[-1][1]
    return raw[0] & 0x1F == (before[0] & 0x1F) - 1 and raw[13] == before[13]


def _ended(parts: Sequence[tuple[int, bytes]], raw: bytes) -> Iterator[LongFlaw]:
    """The entry behind the pieces of a name; an end of the folder, or a deleted one, is none."""
    numbers = [own[0] & 0x1F for _, own in parts]
    is_entry = raw[0] not in (0, _DELETED) and not raw[11] & VOLUME
    is_whole = (
        numbers == list(range(len(parts), 0, -1)) and len(parts) <= _MOST and len({own[13] for _, own in parts}) == 1
    )
    if not (is_entry and is_whole and (parts[0][1][13] == sum_of(raw[:11]) or _is_alias(parts, raw))):
        yield LongFlaw(orphans=tuple(a for a, _ in parts))
        return
    right = [bytes([number | (_LAST if n == 0 else 0)]) for n, number in enumerate(numbers)]
    sums = bytes([sum_of(raw[:11])])
    fields = [
        (at + place, good)
        for (at, own), number in zip(parts, right, strict=True)
        for place, good in ((0, number), (11, b"\x0f"), (12, b"\0"), (13, sums), (26, b"\0\0"))
        if own[place : place + len(good)] != good
    ]
    if fields:
        yield LongFlaw(fields=tuple(fields))


def _is_alias(parts: Sequence[tuple[int, bytes]], raw: bytes) -> bool:
    """The short name begins as the long one does: what was hurt is a letter of it, and with it its sum."""
    letters = (
        b"".join(own[1:11] + own[14:26] + own[28:32] for _, own in reversed(parts))
        .decode("utf-16-le", "replace")
        .split("\0")[0]
    )
    plain = "".join(letter for letter in letters.upper() if letter.isascii() and letter.isalnum())
    begins = "".join(chr(byte) for byte in raw[:8].split(b"~")[0].rstrip() if chr(byte).isalnum())
    return len(begins) > 1 and plain.startswith(begins[:4]) and b"~" in raw[:8]


def behind_end(volume: Fat, cluster: int) -> tuple[int, list[FolderSlot]]:
    """(byte of the volume at which a folder's list ends, entries in use that stand behind it in the folder's room);
    (-1, none) where it is full."""
    entries = list(_raw(volume, cluster, whole=True))
    place = next((n for n, (_, raw) in enumerate(entries) if raw is not None and raw[0] == 0), len(entries))
    behind = [
        FolderSlot(at, raw, "", False, at, True)
        for at, raw in entries[place + 1 :]
        if raw is not None and raw[0] not in (0, _DELETED) and not is_piece(raw) and not raw[11] & VOLUME
    ]
    return (entries[place][0], behind) if place < len(entries) else (-1, [])


def _raw(volume: Fat, cluster: int, *, whole: bool = False) -> Iterator[tuple[int, bytes | None]]:
    """(byte of the volume, entry) of a folder up to its end and with it, or of all its room; None for what was not
    read."""
    for start, length in volume.stretches(cluster):
        span, skip = volume.bytes.span(start, length)
        for place in range(0, length - ENTRY + 1, ENTRY):
            if span.missing and span.lba + (skip + place) // span.sector in span.missing:
                yield start + place, None
                continue
            raw = span.data[skip + place : skip + place + ENTRY]
            yield start + place, raw
            if raw[0] == 0 and not whole:
                return


def sum_of(short: bytes) -> int:
    """Of the eleven letters of a short name, for its long one."""
    total = 0
    for byte in short:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    return total


def bad_letters(short: bytes) -> list[int]:
    """Places in a short name of letters that none may have there, or of a space at its beginning. What follows a letter
    above 80h may be the second half of one of two bytes, as in Japan."""
    found = [
        n for n, byte in enumerate(short) if byte in _NEVER and not (byte in _SECOND and n and short[n - 1] > 0x80)
    ]
    return [0, *found] if short[:1] == b" " else found
