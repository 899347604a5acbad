"""A new drive is filled from a copy that lies on the bench: which drives it may be, who said so, and the bytes as the
probe asks for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

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


@dataclass(frozen=True, slots=True)
class _Candidate:
    """A drive that may be filled. `chosen`: serial of the drive that the work order names, empty where it names none;
    `room`, `size`: bytes of the drive and of the copy; `holds`: as of `_Target`."""

    who: Identity
    sources: Sequence[Identity]
    twins: Sequence[str]
    chosen: str
    room: int
    size: int
    holds: int | None


def _without_serial(at: _Candidate) -> Said | None:
    return None if at.who.serial else say("fill.no-serial")


def _is_the_source(at: _Candidate) -> Said | None:
    return say("fill.source") if any(at.who.is_same(own) for own in at.sources) else None


def _has_twins(at: _Candidate) -> Said | None:
    return say("fill.twins", names=list(at.twins)) if len(at.twins) > 1 else None


def _is_not_chosen(at: _Candidate) -> Said | None:
    is_other = at.chosen and not same_serial(at.chosen, at.who.serial)
    return say("fill.not-chosen", serial=at.chosen) if is_other else None


def _is_too_small(at: _Candidate) -> Said | None:
    return say("fill.too-small", size=at.room, needs=at.size) if at.room < at.size else None


def _may_be_the_source(at: _Candidate) -> Said | None:
    return say("fill.source-unknown") if not at.sources and at.holds != 0 else None


_AGAINST: tuple[Callable[[_Candidate], Said | None], ...] = (
    _without_serial, _is_the_source, _has_twins, _is_not_chosen, _is_too_small, _may_be_the_source,
)  # fmt: skip
"""why a drive is none to be filled, in their order"""


@dataclass(frozen=True, slots=True)
class _Asked:
    """What somebody confirmed: `ends`, `serial`, `over` as of `fill`; `state`: of the order that made the copy."""

    target: _Target
    ends: str
    serial: str
    over: bool
    copy: int
    state: str


def _reads_its_label(asked: _Asked) -> str:
    own = asked.target.drive
    if asked.ends.upper() == own.ends:
        return ""
    return f"fill: expected the last four characters of {own.serial} ({own.name}), got {asked.ends[:20]!r}"


def _is_as_it_was_shown(asked: _Asked) -> str:
    own = asked.target
    if not asked.serial or same_serial(asked.serial, own.drive.serial):
        return ""
    return f"fill: expected {asked.serial[:60]} as {own.device}, as it was shown, got {own.drive.serial}: look again"


def _is_empty_or_may_go(asked: _Asked) -> str:
    own = asked.target
    if own.holds == 0 or asked.over:
        return ""
    return f"fill {own.device}: expected an empty drive, or a word that what is on it may go, got {_not_empty(own)}"


def _is_finished(asked: _Asked) -> str:
    if asked.state not in (links.WAITING, links.PAUSED):
        return ""
    return f"copy {asked.copy}: expected one that is finished or was left, got one that is {asked.state}"


_CONFIRMED: tuple[Callable[[_Asked], str], ...] = (
    _reads_its_label, _is_as_it_was_shown, _is_empty_or_may_go, _is_finished,
)  # fmt: skip
"""what has to hold before a drive is written to, in their order; a sentence where it does not"""


class PlainReader(Protocol):
    """Copies without their encryption, by the keys of their tickets."""

    def opens(self, ticket_id: int, copy: int) -> list[str]: ...

    def read(self, ticket_id: int, copy: int, at: int, length: int, *, holes: bool) -> tuple[bytes | None, int]: ...


class DriveRestores:
    """Drives that are filled from copies. `plain`: is set by whoever has the keys (`check`)."""

    plain: PlainReader

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

    def check(self) -> None:
        """Raises LookupError where nobody reads copies without their encryption."""
        if not hasattr(self, "plain"):
            raise LookupError("restores: expected a reader of copies without their encryption, got none")

    def opens(self, ticket_id: int, copy: int) -> list[str]:
        """Names of the encryptions of a copy that a key of its ticket opens. Raises NotFoundError, StoreError."""
        self._copy(ticket_id, copy)
        return self.plain.opens(ticket_id, copy)

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
            at = _Candidate(who, sources, twins, part.serial if part is not None else "", room, size, holds)
            against = next((why for rule in _AGAINST if (why := rule(at)) is not None), None)
            seen = SeenDrive(who.model or drive.device, who.serial, None)
            found.append(_Target(drive.device, place, seen, room, holds, against, who, on_it))
        return found

    def fill(
        self,
        ticket_id: int,
        copy: int,
        device: str,
        ends: str,
        *,
        holes: bool,
        over: bool,
        by: str,
        serial: str = "",
        opened: bool = False,
    ) -> None:
        """Order it, for the drive that was confirmed and for no other that has its name by now. `ends`: the last four
        characters of the drive's serial number, as somebody has read them off its label; `serial`: the whole of it, as
        the screen showed it; `over`: it is known that the drive is not empty, or that nobody has looked; `opened`: the
        customer agrees that it is written without its encryption. Raises NotFoundError, StoreError."""
        order, size = self._copy(ticket_id, copy)
        target = next((t for t in self._targets(ticket_id, copy) if t.device == device), None)
        if target is None:
            raise StoreError(f"fill: expected a drive of the machine, got {device!r}")
        if target.against is not None:
            raise StoreError(f"fill {device}: {self.shop.words.say(target.against)}")
        asked = _Asked(target, ends.strip(), serial, over, copy, order.state)
        for rule in _CONFIRMED:
            if why := rule(asked):
                raise StoreError(why)
        if opened and not self.opens(ticket_id, copy):
            raise StoreError(f"copy {copy}: expected a key on the ticket that opens a volume of it, got none")
        with self.copies.changes:
            self._copy(ticket_id, copy)
            if self.copies.is_written_to(ticket_id, copy):
                raise StoreError(
                    f"copy {copy}: expected one that nothing is written to, got one that is being repaired; wait until "
                    f"that is through"
                )
            share, missing = self._whole(ticket_id, copy)
            if (share < 1.0 or missing) and not holes:
                raise StoreError(
                    f"copy {copy}: expected a complete image, or your consent to its gaps, got {share:.2%} of the "
                    f"drive and {missing} sectors missing in it"
                )
            if opened:
                consent = to_json(say("fill.opened", serial=target.drive.serial))
                self.tickets.append_all(ticket_id, [({"note": consent}, None)], by=by)
            self.orders.enqueue(
                ticket_id,
                {
                    "order": "fill",
                    "device": device,
                    "disk": target.disk,
                    "copy": str(copy),
                    "size": size,
                    "holes": holes,
                    **({"opened": True} if opened else {}),
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
        copy, holes = int(order.body["copy"]), bool(order.body.get("holes"))
        try:
            if order.body.get("opened"):
                return self.plain.read(link.ticket_id, copy, at, length, holes=holes)
            return self.copies.copies.read(link.ticket_id, copy, at, length, holes=holes)
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
