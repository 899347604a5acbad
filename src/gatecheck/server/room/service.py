"""What the bench's disk holds for each ticket, and room made on it: images and recovered files of tickets that were
handed over. Captures, pictures, recordings and the log stay: they are small, and tell what was done."""

from __future__ import annotations

import logging
import os
import shutil
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from gatecheck.server.errors import NotFoundError
from gatecheck.server.room.wire import RoomOut, TicketRoomOut
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.volumes.service import Volumes
from gatecheck.store import StoreError
from gatecheck.store.keeping import COPIES, VOLUMES

_log = logging.getLogger(__name__)
_BLOCK = 512
"""bytes that `st_blocks` counts in (POSIX, sys/stat.h, as Linux has it)"""
_RECOVERED = "rescued"


class Room:
    """Over a shop's data folder."""

    def __init__(self, shop: Shop, tickets: Tickets, volumes: Volumes) -> None:
        self.shop, self.tickets, self.volumes = shop, tickets, volumes
        self.data = shop.files.folder.parent

    def view(self) -> RoomOut:
        disk, days = shutil.disk_usage(self.data), self.shop.page.warranty_days
        found = [self._ticket(number, days) for number in self._numbers()]
        others = sum(
            used(path) for path in self.data.iterdir() if path.name not in (COPIES, VOLUMES) and not path.is_symlink()
        )
        shown = sorted((t for t in found if t is not None), key=lambda t: -(t.images + t.recovered + t.checks))
        return RoomOut(free=disk.free, size=disk.total, others=others, warranty_days=days, tickets=shown)

    def _numbers(self) -> list[int]:
        """Tickets that have something lying here."""
        found = set()
        for folder in (COPIES, VOLUMES):
            place = self.data / folder
            found |= {int(p.name) for p in place.iterdir() if p.name.isdecimal()} if place.is_dir() else set()
        return sorted(found)

    def _ticket(self, number: int, days: int) -> TicketRoomOut | None:
        images = used(self.data / COPIES / str(number))
        recovered = used(self.data / VOLUMES / str(number) / _RECOVERED)
        checks = used(self.data / VOLUMES / str(number)) - recovered
        if images + recovered + checks == 0:
            return None
        try:
            row = self.tickets.row_of(number)
        except NotFoundError:
            return None  # a folder that is nobody's: not ours to tell of
        ends = datetime.fromisoformat(row.closed_at) + timedelta(days=days) if row.closed_at else None
        return TicketRoomOut(
            id=row.id,
            number=row.number,
            customer=row.customer,
            machine=row.machine,
            closed_at=row.closed_at,
            images=images,
            recovered=recovered,
            checks=checks,
            may_go=ends is not None and ends <= datetime.now(UTC),
            goes_on=ends.date().isoformat() if ends else None,
        )

    def make(self, ticket_id: int, *, by: str) -> RoomOut:
        """Delete the images and recovered files of a ticket that was handed over. Raises NotFoundError; StoreError for
        one that is open: nothing is deleted then."""
        row = self.tickets.row_of(ticket_id)
        if not row.closed_at:
            raise StoreError(f"room: expected a ticket that was handed over, got {row.number}, which is open")
        self.volumes.remove_all(ticket_id)
        _log.info("images and recovered files of %s deleted by %s", row.number, by)
        self.shop.announce({"kind": "ticket", "ticket": ticket_id})
        return self.view()


def used(place: Path) -> int:
    """Bytes that a file, or everything in a folder, takes on its disk; holes take none, and links are not followed."""
    return sum(_sizes(place))


def _sizes(place: Path) -> Iterator[int]:
    try:
        if place.is_symlink() or not place.is_dir():
            yield place.lstat().st_blocks * _BLOCK
            return
        entries = list(os.scandir(place))
    except OSError:
        return  # gone, or never there
    for entry in entries:
        yield from _sizes(Path(entry.path))
