"""A new drive is filled from a copy that lies on the bench: which drives it may be, who said so, and the bytes as the
probe asks for them."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.capture.drive import Drive
from gatecheck.core.capture.identity import Identity, drives_with, identity_of, same_serial
from gatecheck.core.capture.medium import CapturedDisk
from gatecheck.core.capture.read import Capture
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.evidence import missing_of
from gatecheck.core.words.said import Said, say, to_json
from gatecheck.core.work.job import SeenDrive
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.drive_copy import DriveCopies
from gatecheck.server.link.orders import Orders, held_by
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.wire import TargetOut
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import StoreError, links
from gatecheck.store.links import Order

_BY = "probe"
LARGEST_PIECE = 8 << 20


@dataclass(frozen=True, slots=True)
class _Target:
    """A drive that stands in the machine now. `against`: why it is not to be written to; `holds`: partitions that were
    seen on it, 0 where nothing but zeros stands at its beginning and end, None where it is not known; `who`: what the
    order is bound to."""

    device: str
    disk: str
    drive: SeenDrive
    size: int
    holds: int | None
    against: Said | None
    who: Identity
    found: str = ""
    """what stands on it where that is no partition, as far as it could be named"""


class DriveRestores:
    """Drives that are filled from copies."""

    def __init__(
        self, shop: Shop, at_work: Tickets, captures: Captures, sessions: Sessions, copies: DriveCopies, orders: Orders
    ) -> None:
        self.shop, self.tickets, self.captures, self.sessions, self.copies, self.orders = (
            shop,
            at_work,
            captures,
            sessions,
            copies,
            orders,
        )

    def targets(self, ticket_id: int, copy: int) -> list[TargetOut]:
        """The drives of the newest reading, and why one is none to be filled from this copy. Raises NotFoundError."""
        say_it = self.shop.words.say
        return [
            TargetOut(
                device=t.device,
                name=t.drive.name,
                serial=t.drive.serial,
                size=t.size,
                holds=t.holds,
                found=t.found,
                against=say_it(t.against) if t.against else None,
            )
            for t in self._targets(ticket_id, copy)
        ]

    def _copy(self, ticket_id: int, copy: int) -> tuple[Order, int]:
        """The order that made the copy, and the copy's bytes."""
        found = next((c for c in self.copies.of_ticket(ticket_id) if c.order == copy), None)
        with self.shop.database.read() as connection:
            order = links.order_of(connection, ticket_id, copy)
        if found is None or order is None:
            raise NotFoundError(f"copy {copy}: expected a copy of this ticket, got none")
        return order, found.size

    def _sources(self, ticket_id: int, order: Order) -> list[Identity]:
        """Who the drive is that a copy is of: as the order was bound to it, and as the drive told while it was
        copied."""
        told = order.body.get("identity") or {}
        found = [Identity(str(told.get("serial") or ""), str(told.get("wwn") or ""), "", None)]
        name = str(order.body.get("drive") or "")
        found += [Identity(name, "", "", None), Identity("", name, "", None)]
        captures = self.captures
        for capture in captures.of_order(ticket_id, order.id):
            found += [identity_of(capture, d) for d in capture.drives if d.device == str(order.body.get("device"))]
        return [own for own in found if own.name]

    def _targets(self, ticket_id: int, copy: int) -> list[_Target]:
        order, size = self._copy(ticket_id, copy)
        part = self.tickets.folded_of(ticket_id).part
        newest, sources = self.captures.listing(ticket_id), self._sources(ticket_id, order)
        found = []
        for drive in newest.drives if newest else ():
            assert newest is not None
            block, disk = newest.block_of(drive), newest.disk_of(drive)
            place = disk.device if disk else f"{drive.device}n1" if drive.bus == "nvme" else drive.device
            who, told = identity_of(newest, drive, place), (drive.identity or {}).get("capacity")
            room = told if isinstance(told, int) else block.size if block and block.size else 0
            holds, on_it = _holds(newest, drive, disk)
            twins = [d.device for d in drives_with(newest, who)]
            against = None
            if not who.serial:
                against = say("fill.no-serial")
            elif any(who.is_same(own) for own in sources):
                against = say("fill.source")
            elif len(twins) > 1:
                against = say("fill.twins", names=twins)
            elif part is not None and part.serial and not same_serial(part.serial, who.serial):
                against = say("fill.not-chosen", serial=part.serial)
            elif room < size:
                against = say("fill.too-small", size=room, needs=size)
            elif not sources and holds != 0:
                against = say("fill.source-unknown")
            seen = SeenDrive(who.model or drive.device, who.serial, None)
            found.append(_Target(drive.device, place, seen, room, holds, against, who, on_it))
        return found

    def fill(
        self, ticket_id: int, copy: int, device: str, ends: str, *, holes: bool, over: bool, by: str, serial: str = ""
    ) -> None:
        """Order it, for the drive that was confirmed and for no other that has its name by now. `ends`: the last four
        characters of the drive's serial number, as somebody has read them off its label; `serial`: the whole of it, as
        the screen showed it; `over`: it is known that the drive is not empty, or that nobody has looked. Raises
        NotFoundError, StoreError."""
        order, size = self._copy(ticket_id, copy)
        target = next((t for t in self._targets(ticket_id, copy) if t.device == device), None)
        if target is None:
            raise StoreError(f"fill: expected a drive of the machine, got {device!r}")
        if target.against is not None:
            raise StoreError(f"fill {device}: {self.shop.words.say(target.against)}")
        if ends.strip().upper() != target.drive.ends:
            raise StoreError(
                f"fill: expected the last four characters of {target.drive.serial} ({target.drive.name}), got "
                f"{ends.strip()[:20]!r}"
            )
        if serial and not same_serial(serial, target.drive.serial):
            raise StoreError(
                f"fill: expected {serial[:60]} as {device}, as it was shown, got {target.drive.serial}: look again"
            )
        if target.holds != 0 and not over:
            raise StoreError(
                f"fill {device}: expected an empty drive, or a word that what is on it may go, got {_not_empty(target)}"
            )
        if order.state in (links.WAITING, links.PAUSED):
            raise StoreError(f"copy {copy}: expected one that is finished or was left, got one that is {order.state}")
        with self.copies.changes:
            self._copy(ticket_id, copy)
            if self.copies.is_written_to(ticket_id, copy):
                raise StoreError(
                    f"copy {copy}: expected one that nothing is written to, got one that is being repaired; wait "
                    f"until "
                    f"that is through"
                )
            share, missing = self._whole(ticket_id, copy)
            if (share < 1.0 or missing) and not holes:
                raise StoreError(
                    f"copy {copy}: expected a complete image, or your consent to its gaps, got {share:.2%} of "
                    f"the "
                    f"drive and {missing} sectors missing in it"
                )
            self.orders.enqueue(
                ticket_id,
                {
                    "order": "fill",
                    "device": device,
                    "disk": target.disk,
                    "copy": str(copy),
                    "size": size,
                    "holes": holes,
                },
                by=by,
                to=target.who,
            )

    def _whole(self, ticket_id: int, copy: int) -> tuple[float, int]:
        """Share of the drive that the copy holds, and sectors missing within; what was found changed on the bench's
        disk is missing too."""
        with self.shop.database.read() as connection:
            pages = links.all_pages_of(connection, ticket_id, str(copy))
        share, missing, sector = missing_of(b"".join(data for line, data in pages if line["kind"] == "read-map"))
        copies = self.copies.copies
        return share, missing + sum(-(-length // sector) for _, length in copies.wrong(copies.image(ticket_id, copy)))

    def piece(self, secret: str, session_id: str, order_id: str, at: int, length: int) -> tuple[bytes | None, int]:
        """Bytes of the copy that an order fills from, or how many from there are zeros. Raises NotFoundError,
        StoreError."""
        link, session, order = self.sessions.order_of(secret, session_id, order_id)
        if order is None or order.name != "fill" or order.state != links.WAITING:
            raise NotFoundError(f"order {order_id[:20]!r}: expected a drive that is being filled, got none")
        held_by(order, session)
        try:
            return self.copies.copies.read(
                link.ticket_id, int(order.body["copy"]), at, length, holes=bool(order.body.get("holes"))
            )
        except NotFoundError as error:  # it ends this order, and not the link
            raise StoreError(str(error)) from error

    def order_ended(self, ticket_id: int, order: Order, result: str) -> None:
        """A drive that is filled and read back stands on the tape, with what it was filled from; so does one that was
        begun and is not what it was, nor a copy."""
        if result in ("done", "failed") and order.may_have_written:
            serial = str(order.body.get("drive") or order.body["device"])
            if result == "failed":
                said = say("fill.failed", serial=serial, why=order.detail)
            else:
                share, missing = self._whole(ticket_id, int(order.body["copy"]))
                said = say(
                    "fill.done" if share >= 1.0 and missing == 0 else "fill.done-part",
                    serial=serial,
                    size=int(order.body["size"]),
                    share=share,
                    missing=missing,
                )
            self.tickets.append_all(ticket_id, [({"note": to_json(said)}, f"fill-{order.id}")], by=_BY)

    def left(self, ticket_id: int, order: Order) -> None:
        """One that was begun and is not gone on with."""
        said = say("fill.left", serial=str(order.body.get("drive") or order.body["device"]))
        self.tickets.append_all(ticket_id, [({"note": to_json(said)}, f"fill-{order.id}")], by=_BY)


def _holds(capture: Capture, drive: Drive, disk: CapturedDisk | None) -> tuple[int | None, str]:
    """How many volumes stand on a drive, and what else does by its name. None: not known. Empty is only what was read
    from end to end of its edges and is zeros."""
    if disk is None:
        return None, ""
    volumes = capture.volumes_of(drive)
    if volumes or disk.layout.kind is not None:
        return len(volumes) or None, ""
    if disk.is_blank:
        return 0, ""
    try:
        own = volume_at(disk.sectors, 0)
    except DecodeError:
        own = None
    return None, own.name if own else ""


def _not_empty(target: _Target) -> str:
    if target.holds:
        return f"{target.holds} volumes on it"
    return f"{target.found} on it" if target.found else "one that was not read, or that is not known to be empty"
