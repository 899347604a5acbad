"""What lives at a sector: the table's structures, the partition, the volume's structures, and the file where a reader
of its kind exists."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.division import ABSENT, Division, Piece, division_of
from gatecheck.core.disk.joined import JoinedSectors
from gatecheck.core.disk.owners import owners_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.assemble import MemberPlace, held_by
from gatecheck.core.volume.place import BOOT, CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.readers import open_volume
from gatecheck.core.words.said import Said

TABLE = "table"
_FIRST_PART = 128 << 10


@dataclass(frozen=True, slots=True)
class Where:
    """`partition`: its number, None outside of all; `path`: the file or folder, None where none, or where it cannot be
    told; `stakes`: nothing, file, catalogue, boot, table."""

    lba: int
    partition: int | None
    structure: Said
    path: str | None
    stakes: str


def places_of(disk: Sectors, lbas: Sequence[int]) -> list[Where]:
    """One for each LBA, in their order. Never raises for what stands on the disk."""
    division = division_of(disk)
    tables = list(tables_of(disk, division))
    found: dict[int, Where] = {}
    inside: dict[int, list[int]] = {}
    pieces: dict[int, Piece] = {p.number: p for p in division.pieces}
    owners = owners_of(disk)
    if division.scheme == "none" and (owners or _whole_disk(disk)):
        pieces[0] = Piece(0, 0, (disk.length or 1) - 1, "")
    for lba in lbas:
        table = next(
            (name for first, last, name in tables if first <= lba <= last and not (0 in pieces and lba == 0)), None
        )
        piece = pieces.get(0) or division.at(lba)
        if table is not None:
            found[lba] = Where(lba, None, Said(f"where.{table}"), None, BOOT if table in ("second-stage",) else TABLE)
        elif piece is None:
            found[lba] = (
                Where(lba, None, Said("where.not-read", {"kind": owners[0].name}), None, FILE)
                if owners
                else Where(lba, None, Said("where.between"), None, NOTHING)
            )
        else:
            inside.setdefault(piece.number, []).append(lba)
    for number, own in inside.items():
        for lba, place in zip(own, _inside(disk, pieces[number], own), strict=True):
            found[lba] = Where(lba, number or None, place.structure, place.path, place.stakes)
    return [found[lba] for lba in lbas]


def _whole_disk(disk: Sectors) -> bool:
    """Is it one volume, or does it begin with what nobody knows: only zeros at the start say nothing is there."""
    try:
        return volume_at(disk, 0) is not None or any(disk.read(0, max(1, _FIRST_PART // disk.sector)).data)
    except DecodeError:
        return False


def tables_of(disk: Sectors, division: Division) -> Iterator[tuple[int, int, str]]:
    """(first, last, name) of what divides the disk."""
    yield 0, 0, "protective-mbr" if division.is_guarded else "mbr"
    for copy, name in ((division.primary, "gpt"), (division.backup, "gpt-backup")):
        if copy.state == ABSENT or not (copy.header or division.scheme == "gpt"):
            continue
        yield copy.lba, copy.lba, f"{name}-header"
        if copy.header and copy.entries:
            yield copy.entries_lba, copy.entries_lba + -(-len(copy.entries) // disk.sector) - 1, f"{name}-entries"
    for piece in division.pieces:
        if piece.is_extended or piece.table:
            at = piece.first if piece.is_extended else piece.table
            if division.scheme == "mbr":
                yield at, at, "extended"
    first = min((p.first for p in division.pieces), default=0)
    if division.scheme == "mbr" and b"GRUB" in division.start and first > 1:
        yield 1, first - 1, "second-stage"


def _inside(disk: Sectors, piece: Piece, lbas: Sequence[int]) -> list[Place]:
    try:
        volume = open_volume(disk, piece.first, piece.last)
    except DecodeError:
        volume = None
    if volume is not None:
        try:
            return [_raised(place, piece) for place in volume.places(lbas)]
        except DecodeError:
            pass
    try:
        known = volume_at(disk, piece.first)
    except DecodeError:
        known = None
    owner = None if known else next(iter(owners_of(disk, piece.first, piece.last)), None)
    name = known.name if known else owner.name if owner else ""
    found = []
    held = _held(disk, piece, lbas)
    for lba in lbas:
        if lba in held:
            found.append(held[lba])
        elif lba == piece.first and known is not None:
            found.append(Place(Said("where.boot-sector", {"kind": name}), None, BOOT))
        elif known is not None and known.kind == "swap":
            found.append(Place(Said("where.swap"), None, NOTHING))
        else:
            found.append(
                Place(
                    Said("where.not-read" if name else "where.unknown-volume", {"kind": name}),
                    None,
                    CATALOGUE if known and known.is_locked and lba < piece.first + 8 else FILE,
                )
            )
    return found


def _held(disk: Sectors, piece: Piece, lbas: Sequence[int]) -> dict[int, Place]:
    """By LBA, what lives there in the logical volumes, or the mirrored one, that the partition holds alone."""
    found: dict[int, Place] = {}
    for own in held_by([MemberPlace(disk, piece.first, piece.last, ((0, piece.first),))]):
        joined = own.sectors
        if not isinstance(joined, JoinedSectors) or not joined.is_only_on(disk):
            continue
        seen = {lba: there for lba in lbas if (there := joined.inside_of(lba)) is not None}
        try:
            volume = open_volume(joined, 0, joined.length - 1) if seen else None
            if volume is not None:
                found |= dict(zip(seen, volume.places(list(seen.values())), strict=True))
        except DecodeError:
            continue
    return found


def _raised(place: Place, piece: Piece) -> Place:
    """A program on a system partition is more than a file: without it nothing starts."""
    if place.stakes == FILE and piece.is_efi_system and place.path and place.path.lower().endswith(".efi"):
        return Place(place.structure, place.path, BOOT)
    return place
