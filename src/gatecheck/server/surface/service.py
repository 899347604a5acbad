"""Reads of a ticket's surfaces. A read that runs is worked out from the pieces of its map so far; a finished one from
its file."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

from gatecheck.adapters.capture_files import pages_of
from gatecheck.core.capture.drive import is_of
from gatecheck.core.capture.read import Capture
from gatecheck.core.capture.surface import finding_of, surface_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.csv import map_csv, places_csv
from gatecheck.core.scan.evidence import Scanned, scanned, settled
from gatecheck.core.scan.judge import SlowPatch
from gatecheck.core.scan.map_page import read_map_page
from gatecheck.core.scan.view import bins_of, newly_bad
from gatecheck.core.words.said import say
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.service import Links
from gatecheck.server.shop import Shop
from gatecheck.server.surface.wire import (
    LivesOut,
    PlaceOut,
    ReadableOut,
    RibbonBinOut,
    SurfaceOut,
    SurfaceReadOut,
    SurfacesOut,
)
from gatecheck.store import links
from gatecheck.store.files import attachments
from gatecheck.store.links import PAUSED, WAITING, Order

_MOST_PLACES = 200
_MOST_KEPT = 8


@dataclass(frozen=True, slots=True)
class _Read:
    """A read with its map. `order`: of one that is not done."""

    id: str
    device: str
    drive: str
    at: str
    state: str
    order: int | None
    scanned: Scanned
    file: str = ""
    """SHA-256 of the capture that it stands in, of one that is done"""


class Surfaces:
    """The surfaces of a shop's tickets."""

    def __init__(self, shop: Shop, captures: Captures, linked: Links) -> None:
        self.shop, self.captures, self.links = shop, captures, linked
        self._of_order = lru_cache(_MOST_KEPT)(self._judged_order)

    def all(self, ticket_id: int) -> SurfacesOut:
        """Every read, newest first; which drives can be read now. Raises NotFoundError."""
        ticket = self.captures.tickets.ticket(ticket_id)
        held = next((f"{h.why}. {h.release}" for h in ticket.held if h.move == "read-scan"), "")
        copy_held = next((f"{h.why}. {h.release}" for h in ticket.held if h.move == "copy-data"), "")
        return SurfacesOut(
            reads=[_out(r) for r in self._reads(ticket_id)],
            drives=self._drives(ticket_id),
            held=held,
            copy_held=copy_held,
        )

    def one(self, ticket_id: int, read_id: str, first: int | None, end: int | None, n: int) -> SurfaceOut:
        """A span of one read in n parts. Raises NotFoundError."""
        reads = self._reads(ticket_id)
        own = self._named(reads, read_id)
        found, surface = own.scanned, own.scanned.surface
        low = min(max(first or 0, 0), found.page.sectors - 1)
        high = min(max(end or found.page.sectors, low + 1), found.page.sectors)
        bins = bins_of(found, low, high, min(n, high - low))
        lives = self._lives(ticket_id, own)
        before = self._before(reads, own)
        grown = {p.first for p in newly_bad(found, before.scanned)} if before else set()
        words = self.shop.words
        finding = finding_of(found)
        heads = surface.heads
        width = (high - low) / len(bins.read)
        return SurfaceOut(
            read=_out(own),
            pattern=surface.pattern,
            text=words.say(finding.text),
            means=words.say(finding.means),
            share=found.share,
            unreadable=found.unreadable,
            heads=words.say(say("surface.heads", share=heads.share, confidence=heads.confidence)) if heads else "",
            sector=found.page.sector,
            sectors=found.page.sectors,
            first=low,
            end=high,
            bins=[
                RibbonBinOut(
                    mb_s=_finite(mb),
                    slowest=_finite(slow),
                    read=round(min(r / width, 1.0), 3),
                    bad=round(min(b / width, 1.0), 4) or (0.0001 if b else 0.0),
                )
                for mb, slow, r, b in zip(
                    bins.mb_s.tolist(), bins.slowest.tolist(), bins.read.tolist(), bins.unreadable.tolist(), strict=True
                )
            ],
            places=[
                PlaceOut(
                    first=p.first,
                    last=p.last,
                    kind=p.kind,
                    lives=_at(lives, p),
                    is_new=any(p.first <= g <= p.last for g in grown),
                )
                for p in surface.patches[:_MOST_PLACES]
            ],
            more_places=max(0, len(surface.patches) - _MOST_PLACES),
            lives=lives,
            outer=surface.outer_mb_s,
            inner=surface.inner_mb_s,
            seconds_left=surface.seconds_left,
            before=before.id if before else None,
        )

    def csv(self, ticket_id: int, read_id: str, what: str) -> str:
        """The bad places with what lives there, or the whole map. Raises NotFoundError."""
        own = self._named(self._reads(ticket_id), read_id)
        lives = self._lives(ticket_id, own)
        return (
            map_csv(settled(read_map_page(self._raw(ticket_id, own))))
            if what == "map"
            else places_csv(own.scanned, [_at(lives, p) for p in own.scanned.surface.patches])
        )

    def _raw(self, ticket_id: int, own: _Read) -> bytes:
        """The map as it was read: of what is judged, good neighbours may be joined."""
        if own.order is not None:
            with self.shop.database.read() as connection:
                return b"".join(links.map_of(connection, ticket_id, str(own.order)))
        pages = pages_of("capture.gcap", self.shop.files.get(own.file))
        return max(
            (path, data) for path, data in pages.items() if path.startswith(own.device + "/") and path.endswith(".gcm")
        )[1]

    @staticmethod
    def _before(reads: list[_Read], own: _Read) -> _Read | None:
        """The read of the same drive before it: by its serial number, where one is known, for kernel names move."""
        return next(
            (
                r
                for r in reads[reads.index(own) + 1 :]
                if (r.drive == own.drive if own.drive else r.device == own.device)
            ),
            None,
        )

    @staticmethod
    def _named(reads: list[_Read], read_id: str) -> _Read:
        own = next((r for r in reads if r.id == read_id), None)
        if own is None:
            raise NotFoundError(
                f"read {read_id[:40]!r}: expected a read of this ticket's surfaces, got none by that name"
            )
        return own

    def _reads(self, ticket_id: int) -> list[_Read]:
        self.captures.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            kept, orders = attachments(connection, ticket_id), links.orders_of(connection, ticket_id)
        found = [
            r
            for order in reversed(orders)
            if order.body.get("order") in ("scan", "copy") and order.state in (WAITING, PAUSED)
            for r in [self._of(ticket_id, order)]
            if r
        ]
        for file in kept:
            capture = self.captures.decoded.capture(file.name, file.sha256)
            for device in sorted({p.device for p in capture.pages if p.kind == "read-map"}):
                own = surface_of(device, capture.pages)
                if own is not None:
                    found.append(
                        _Read(
                            file.sha256[:16] + "-" + device,
                            device,
                            _serial(capture, device),
                            file.added_at,
                            "done",
                            None,
                            own,
                            file.sha256,
                        )
                    )
        return found

    def _of(self, ticket_id: int, order: Order) -> _Read | None:
        with self.shop.database.read() as connection:
            pieces = links.map_pieces(connection, ticket_id, str(order.id))
        own = self._of_order(ticket_id, order.id, pieces) if pieces else None
        state = "paused" if order.state == PAUSED else "running"
        device = str(order.body.get("device") or "")
        return (
            _Read(f"order-{order.id}", device, str(order.body.get("drive") or ""), order.made_at, state, order.id, own)
            if own
            else None
        )

    def _judged_order(self, ticket_id: int, order_id: int, pieces: int) -> Scanned | None:
        """As far as these pieces go; kept until there is another."""
        with self.shop.database.read() as connection:
            raw = b"".join(links.map_of(connection, ticket_id, str(order_id))[:pieces])
        try:
            return scanned(read_map_page(raw))
        except DecodeError:
            return None

    def _newest_with(self, ticket_id: int, device: str) -> Capture | None:
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        decoded = (self.captures.decoded.capture(file.name, file.sha256) for file in kept)
        return next(
            (c for c in decoded if any(is_of(d.device, device) and (d.layout.gpt or d.layout.mbr) for d in c.disks)),
            None,
        )

    def _lives(self, ticket_id: int, own: _Read) -> list[LivesOut]:
        """The partitions by name, and what kind of volume each holds."""
        capture = self._newest_with(ticket_id, own.device)
        if capture is None:
            return []
        disk = next(d for d in capture.disks if is_of(d.device, own.device) and (d.layout.gpt or d.layout.mbr))
        kinds = {
            v.partition: v.volume.name for v in capture.volumes if v.device == disk.device and v.volume and not v.within
        }
        gpt, mbr = disk.layout.gpt, disk.layout.mbr
        parts = (
            [(p.number, p.name, p.first, p.last) for p in gpt.partitions]
            if gpt
            else [(p.number, "", p.first, p.first + p.size - 1) for p in mbr.partitions]
            if mbr
            else []
        )
        return [
            LivesOut(
                name=self.shop.words.say(
                    say("surface.partition", number=number, kind=kinds.get(number, ""), name=name)
                ),
                first=first,
                last=last,
            )
            for number, name, first, last in sorted(parts, key=lambda p: p[2])
        ]

    def _drives(self, ticket_id: int) -> list[ReadableOut]:
        """Drives of the newest reading that has any."""
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        for file in kept:
            capture = self.captures.decoded.capture(file.name, file.sha256)
            own = [d for d in capture.drives if d.bus != "usb"] or list(capture.drives)
            if own:
                return [
                    ReadableOut(
                        device=d.device,
                        name=str((d.identity or {}).get("model") or d.device),
                        fits=self.links.copies.fits(ticket_id, d.device),
                    )
                    for d in own
                ]
        return []


def _serial(capture: Capture, device: str) -> str:
    drive = next((d for d in capture.drives if d.device == device), None)
    return str((drive.identity or {}).get("serial") or "") if drive else ""


def _finite(value: float) -> float | None:
    return None if math.isnan(value) else round(value, 1)


def _at(lives: list[LivesOut], place: SlowPatch) -> str:
    return ", ".join(own.name for own in lives if own.first <= place.last and place.first <= own.last)


def _out(read: _Read) -> SurfaceReadOut:
    return SurfaceReadOut(
        id=read.id,
        device=read.device,
        drive=read.drive,
        at=read.at,
        state=read.state,
        order=read.order,
        share=read.scanned.share,
    )
