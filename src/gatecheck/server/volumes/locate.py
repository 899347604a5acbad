"""Which disks and copies a ticket has, which volumes stand on them, and where their sectors are kept."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from gatecheck.core.disk.division import Division, division_of
from gatecheck.core.disk.follow import LayeredSectors
from gatecheck.core.disk.owners import owners_of
from gatecheck.core.disk.sectors import Sectors, guessed_sector
from gatecheck.core.volume.readers import name_at
from gatecheck.server.copies.service import Copies
from gatecheck.server.errors import NotFoundError
from gatecheck.server.path.service import Paths
from gatecheck.server.volumes.partial_image import PartialImages, PartSectors, SectorStore
from gatecheck.server.volumes.wire import VolumePieceOut, VolumeSourceOut
from gatecheck.store import links

_COPY = "copy-"
_TABLE = 34
"""sectors at a disk's beginning, and at its end, that name its partitions"""
_NO_VOLUME = {"C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "E3C9E316-0B5C-4DB8-817D-F92DF00215AE"}
"""GPT types that hold no files of the customer: system partition, reserved"""


@dataclass(frozen=True, slots=True)
class SourceVolume:
    """One partition of one source. `ground`: where what was read of it is kept; `device`: the drive's name, empty for a
    copy; `session`: start of the live system that it was read in."""

    source: str
    device: str
    disk: str
    first: int
    last: int
    ground: SectorStore
    session: str
    is_main: bool

    @property
    def is_copy(self) -> bool:
        return self.source.startswith(_COPY)

    @property
    def copy(self) -> int:
        """The order that made the copy that it stands on."""
        return int(self.source.removeprefix(_COPY))


@dataclass(frozen=True, slots=True)
class KnownSource:
    """A source and its division; None where nobody has read its table."""

    source: VolumeSourceOut
    device: str
    sectors: Sectors
    division: Division
    ground: SectorStore
    session: str


class VolumeLocator:
    def __init__(self, paths: Paths, parts: PartialImages, copies: Copies) -> None:
        self.paths, self.parts, self.copies = paths, parts, copies

    def sources(self, ticket_id: int) -> list[VolumeSourceOut]:
        """Disks of the newest reading, the machine's own first; then copies that are on the bench."""
        disks = self.paths.disks_of(ticket_id)
        own = next((d for d in disks if self.paths.captures.is_the_machines(ticket_id, d.device)), None)
        ordered = sorted(disks, key=lambda d: d is not own)
        names = {
            str(o.id): str(o.body.get("device", ""))
            for o in self._orders(ticket_id)
            if o.body["order"] == "copy" and o.state not in (links.WAITING, links.PAUSED)
        }
        held = [c for c in self.copies.of_ticket(ticket_id) if str(c.order) in names]
        return [
            *(VolumeSourceOut(id=d.disk, name=d.name, is_copy=False) for d in ordered),
            *(VolumeSourceOut(id=f"{_COPY}{c.order}", name=names[str(c.order)], is_copy=True) for c in held),
        ]

    def _orders(self, ticket_id: int) -> list[links.Order]:
        with self.paths.shop.database.read() as connection:
            return links.orders_of(connection, ticket_id)

    def session(self, ticket_id: int) -> str:
        with self.paths.shop.database.read() as connection:
            found = next(iter(links.sessions_of(connection, ticket_id)), None)
        return found.id if found else ""

    def known(self, ticket_id: int, source: str) -> KnownSource | None:
        """None where nothing is known of it. Raises StoreError."""
        own = next((s for s in self.sources(ticket_id) if s.id == source), None)
        if own is None:
            return None
        if own.is_copy:
            others = [s.id for s in self.sources(ticket_id) if s.is_copy and s.id != source]
            ground = replace(
                self._copy(ticket_id, source), beside=tuple(self._copy(ticket_id, other) for other in others)
            )
            sectors: Sectors = PartSectors(ground)
            return KnownSource(own, "", sectors, division_of(sectors), ground, source)
        seen = self.paths.ground_of(ticket_id, source)
        session = self.session(ticket_id)
        if seen is None or not seen.sectors.length or not session:
            return None
        ground = self.parts.of(ticket_id, f"{source}-{session[:16]}", seen.sectors.sector, seen.sectors.length)
        layers = LayeredSectors(
            [PartSectors(ground), seen.sectors], sector=seen.sectors.sector, length=seen.sectors.length
        )
        return KnownSource(own, seen.device, layers, division_of(layers), ground, session)

    def _copy(self, ticket_id: int, source: str) -> SectorStore:
        """Raises StoreError."""
        image = self.copies.image(ticket_id, int(source.removeprefix(_COPY)))
        with image.open("rb") as file:
            sector = guessed_sector(file.read(4104))
        return SectorStore(str(image), sector, image.stat().st_size // sector, is_copy=True)

    def seed(self, known: KnownSource) -> None:
        """The table of a disk, as the first reading brought it, into what is kept of its sectors."""
        length = known.sectors.length or 0
        if known.source.is_copy or not length:
            return
        for first, count in ((0, min(_TABLE, length)), (max(0, length - _TABLE), min(_TABLE, length))):
            span = known.sectors.read(first, count)
            for lba in range(first, first + count):
                if lba not in span.missing:
                    self.parts.write(
                        known.ground,
                        lba * span.sector,
                        [span.data[(lba - first) * span.sector : (lba - first + 1) * span.sector]],
                        span.sector,
                    )
        self.parts.settle(known.ground)

    @staticmethod
    def pieces(known: KnownSource) -> list[VolumePieceOut]:
        """Partitions that may hold files, in the disk's order; the whole disk where it has no table."""
        length = known.sectors.length or 0
        own = [
            p for p in sorted(known.division.pieces, key=lambda p: p.first) if not p.is_extended and p.first < length
        ]
        if not own:
            return [
                VolumePieceOut(
                    number=0,
                    first=0,
                    last=length - 1,
                    name="",
                    holds=_holds(known.sectors, 0, length - 1),
                    size=length * known.sectors.sector,
                )
            ]
        return [
            VolumePieceOut(
                number=p.number,
                first=p.first,
                last=min(p.last, length - 1),
                name=p.name,
                holds=_holds(known.sectors, p.first, min(p.last, length - 1)),
                size=(min(p.last, length - 1) - p.first + 1) * known.sectors.sector,
            )
            for p in own
        ]

    def main(self, known: KnownSource) -> int | None:
        """Where the largest volume begins that is no system partition."""
        types = {p.first: p.type.upper() for p in known.division.pieces}
        own = [p for p in self.pieces(known) if types.get(p.first) not in _NO_VOLUME]
        return max(own, key=lambda p: p.size).first if own else None

    def volume(self, ticket_id: int, source: str, first: int) -> SourceVolume:
        """Raises NotFoundError."""
        known = self.known(ticket_id, source)
        piece = next((p for p in self.pieces(known) if p.first == first), None) if known else None
        if known is None or piece is None:
            raise NotFoundError(
                f"volume at sector {first} of {source[:40]}: expected one that the table names, got none"
            )
        return SourceVolume(
            source,
            known.device,
            source if not known.source.is_copy else "",
            first,
            piece.last,
            known.ground,
            known.session,
            self.main(known) == first,
        )

    def folder(self, ticket_id: int) -> Path:
        return self.parts.folder / str(ticket_id)


def _holds(sectors: Sectors, first: int, last: int) -> str:
    """Kind and label of the volume that begins there, else whose marks stand there."""
    return name_at(sectors, first) or next((o.name for o in owners_of(sectors, first, last)), "")
