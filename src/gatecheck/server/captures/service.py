"""Files on tickets: kept, decoded, and weighed on the tape with the file that each entry rests on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import to_builtins

from gatecheck.adapters.capture_files import pages_of
from gatecheck.core.belief.facts import Facts
from gatecheck.core.capture.document import volume_document
from gatecheck.core.capture.drive import Drive
from gatecheck.core.capture.identity import Identity, drives_with, identity_of, same_serial
from gatecheck.core.capture.kinds import field_at
from gatecheck.core.capture.read import Capture
from gatecheck.core.errors import InputError, TapeError
from gatecheck.core.findings import finding_document
from gatecheck.core.instruments.evidence import (
    capture_evidence,
    clock_entries,
    expected_drive,
    noted,
    strangers,
    system_candidates,
)
from gatecheck.core.storage.trend import Snapshot, same_drive, trend_of
from gatecheck.core.words.said import say, to_json
from gatecheck.server.captures.decoded import Decoded
from gatecheck.server.captures.wire import CaptureOut, RawOut, TrendOut
from gatecheck.server.errors import NotFoundError
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.folded import FoldedTicket
from gatecheck.server.tickets.service import Also, Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import Connection
from gatecheck.store.files import attach, attachments

_MOST_RAW = 1 << 15
ELSEWHERE = "firmware"
"""what an entry rests on that is not one drive's pages"""

Keyed = list[tuple[dict[str, Any], str | None]]


class Captures:
    """The files of a shop's tickets."""

    def __init__(self, shop: Shop, at_work: Tickets) -> None:
        self.shop, self.tickets, self.decoded = shop, at_work, Decoded(shop)

    def add_file(
        self,
        ticket_id: int,
        name: str,
        data: bytes,
        *,
        by: str,
        at: str | None = None,
        also: Also | None = None,
        read_now: bool = False,
    ) -> CaptureOut:
        """Keep a file on the ticket, decode it, and weigh it where it is clear which drive is the machine's: file,
        entries and whatever `also` does stand or fall together. `read_now`: by a probe that has said hello, whose clock
        was judged then.

        Raises InputError for what is no page or capture, StoreError where it cannot be kept. Nothing is lost by either.
        """
        row = self.tickets.row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        capture = self.decoded.of(name, data)
        if len(capture.pages) == 1 and capture.pages[0].status in ("unknown", "broken"):
            raise InputError(
                f"{name}: expected a capture or a page of a drive, got {self.shop.words.say(capture.pages[0].detail)}"
            )
        digest, moment = self.shop.files.put(data), at or now()
        facts = self.tickets.folded(row).state.facts
        drive = expected_drive(capture, facts, with_pages=True)
        baseline = self._baseline(self.tickets.folded(row), capture)
        entries: Keyed
        if baseline is not None:  # the shop's own part is not the patient: its pages are kept and weigh nothing
            drive, entries = None, self._kept_beside(digest, name, baseline)
        else:
            entries = [
                *(self._health_entries(digest, name, drive) if drive else []),
                *self._rest(digest, name, capture, facts, with_clock=not read_now),
            ]

        def keep(connection: Connection) -> None:
            attach(connection, ticket_id, digest, name, len(data), by=by, at=moment)
            if also:
                also(connection)

        self.tickets.append_all(ticket_id, entries, by=by, at=moment, also=keep, event="file")
        return self._capture_out(
            digest,
            name,
            moment,
            capture,
            drive.device if drive else None,
            self.tickets.folded_of(ticket_id).state.facts,
        )

    @staticmethod
    def _baseline(folded: FoldedTicket, capture: Capture) -> Drive | None:
        """The drive of the capture that is the part which takes the old one's place."""
        part = folded.part
        if part is None or not part.serial:
            return None
        return next((d for d in capture.drives if same_serial((d.identity or {}).get("serial"), part.serial)), None)

    @staticmethod
    def _kept_beside(digest: str, name: str, drive: Drive) -> Keyed:
        said = say("work.baseline-kept", verdict=drive.verdict, serial=str((drive.identity or {}).get("serial") or ""))
        return [
            (
                {"note": to_json(said), "rests_on": {"file": digest, "name": name, "device": drive.device}},
                f"{digest[:24]}-baseline",
            )
        ]

    def clock(self, ticket_id: int, machine: Mapping[str, str], now: int) -> list[dict[str, Any]]:
        """What a machine that says hello at this moment (seconds since 1970) says with its clock."""
        return clock_entries(self.shop.model.knowledge, self.tickets.folded_of(ticket_id).state.facts, machine, now)

    def _rest(self, digest: str, name: str, capture: Capture, facts: Facts, *, with_clock: bool) -> Keyed:
        """What the capture says of settings, boot entries and sightings, with the file it rests on."""
        entries = capture_evidence(self.shop.model.knowledge, facts, capture, with_clock=with_clock)
        rests_on = {"file": digest, "name": name, "device": ELSEWHERE}
        return [
            ({**body, "rests_on": rests_on}, f"{digest[:24]}-{ELSEWHERE}-{place}") for place, body in enumerate(entries)
        ]

    def _health_entries(self, digest: str, name: str, drive: Drive) -> Keyed:
        """What a drive's pages and logs say, with the file they rest on."""
        base: dict[str, Any] = {"rests_on": {"file": digest, "name": name, "device": drive.device}}
        own: Keyed = []
        if drive.weights:
            body = {**base, "move": "health-pages", "weights": dict(drive.weights)}
            own.append((noted(body, drive.verdict), f"{digest[:24]}-{drive.device}"))
        for check, weights in drive.log_weights.items():
            body = {**base, "move": check, "weights": weights}
            own.append((noted(body, drive.said_of(check)), f"{digest[:24]}-{drive.device}-{check}"))
        return own

    def weigh(self, ticket_id: int, digest: str, device: str, *, by: str) -> TicketOut:
        """Say that this drive of a capture is the machine's own: its pages and what the capture shows of it go on the
        tape, and its serial number among the facts, so that it is not asked again. Raises NotFoundError where the
        ticket has no such file or drive."""
        name, _, capture = self.capture_of(ticket_id, digest)
        facts = self.tickets.folded_of(ticket_id).state.facts
        for drive in capture.drives:
            inside = [*system_candidates(capture, facts), *strangers(capture, facts)]
            if drive.device == device and (drive.weights or drive in inside):
                own = [*self._health_entries(digest, name, drive), *self._named(digest, name, capture, facts, drive)]
                return self.tickets.append_all(ticket_id, own, by=by)
        raise NotFoundError(f"{name}: expected a drive {device!r} with pages about its health, got none")

    def _named(self, digest: str, name: str, capture: Capture, facts: Facts, drive: Drive) -> Keyed:
        """What the capture says once it is clear that this drive is the machine's own, beside what it said before."""
        serial = str((drive.identity or {}).get("serial") or "")
        known = {**facts, "drive_serial": serial} if serial else dict(facts)
        knowledge = self.shop.model.knowledge
        before = capture_evidence(knowledge, facts, capture, with_clock=False)
        entries = [e for e in capture_evidence(knowledge, known, capture, with_clock=False) if e not in before]
        if serial and facts.get("drive_serial") != serial:
            entries.insert(0, {"fact": {"drive_serial": serial}})
        rests_on = {"file": digest, "name": name, "device": drive.device}
        return [
            ({**body, "rests_on": rests_on}, f"{digest[:24]}-{drive.device}-own-{place}")
            for place, body in enumerate(entries)
        ]

    def captures(self, ticket_id: int) -> list[CaptureOut]:
        """All decoded files of a ticket, newest first."""
        folded = self.tickets.folded_of(ticket_id)
        weighed_of = {
            str(rests_on["file"]): str(rests_on["device"])
            for e, stands in zip(folded.tape, folded.stands, strict=True)
            for rests_on in [e.body.get("rests_on")]
            if stands and isinstance(rests_on, dict) and rests_on["device"] != ELSEWHERE
        }
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        decoded = [(a, self.decoded.capture(a.name, a.sha256)) for a in kept]
        facts = folded.state.facts
        shown = [
            self._capture_out(a.sha256, a.name, a.added_at, c, weighed_of.get(a.sha256), facts) for a, c in decoded
        ]
        oldest_first = [(a.added_at, c) for a, c in reversed(decoded)]
        for place, (_, capture) in enumerate(decoded):
            earlier = oldest_first[: len(decoded) - place]
            for drive, out in zip(capture.drives, shown[place].devices, strict=True):
                out.trend = self._trend(drive, earlier)
        return shown

    def raw(self, ticket_id: int, digest: str, path: str, at: int | None) -> RawOut:
        """The bytes of one page of a capture, with the field at a byte marked. Raises NotFoundError."""
        name, _, capture = self.capture_of(ticket_id, digest)
        page = next((p for p in capture.pages if p.path == path), None)
        data = pages_of(name, self.shop.files.get(digest)).get(path)
        if page is None or data is None:
            raise NotFoundError(f"{name}: expected a page {path[:80]!r}, got none by that name")
        found = field_at(page.kind, at) if at is not None else None
        field, start, length = found or (None, at or 0, 0 if at is None else 1)
        return RawOut(path=path, size=len(data), hex=data[:_MOST_RAW].hex(), field=field, start=start, length=length)

    def capture_of(self, ticket_id: int, digest: str) -> tuple[str, str, Capture]:
        with self.shop.database.read() as connection:
            for kept in attachments(connection, ticket_id):
                if kept.sha256 == digest:
                    return kept.name, kept.added_at, self.decoded.capture(kept.name, digest)
        raise NotFoundError(f"file {digest[:12]}: expected a file of this ticket, got none")

    def listing(self, ticket_id: int) -> Capture | None:
        """The newest reading that says which drives stand in the machine: the one that screens take names and serial
        numbers from."""
        return next((c for c in self._newest_first(ticket_id) if c.listed is not None and c.drives), None)

    def _newest_first(self, ticket_id: int) -> Iterator[Capture]:
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        return (self.decoded.capture(file.name, file.sha256) for file in kept)

    def of_order(self, ticket_id: int, order_id: int) -> list[Capture]:
        """The files that an order of the link came to."""
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        return [
            self.decoded.capture(file.name, file.sha256) for file in kept if file.name.endswith(f"-{order_id}.gcap")
        ]

    def identity_named(self, ticket_id: int, device: str, disk: str = "") -> Identity:
        """Who the drive is that stands under this name: by the reading that screens show, and where that names none, by
        the newest that does. `disk`: which of its disks is meant."""
        listing = self.listing(ticket_id)
        for capture in (*((listing,) if listing else ()), *self._newest_first(ticket_id)):
            drive = next((d for d in capture.drives if d.device == device), None)
            own = identity_of(capture, drive, disk) if drive is not None else None
            if own is not None and own.name:
                return own
        return Identity("", "", "", None)

    def twins_of(self, ticket_id: int, own: Identity) -> list[str]:
        """Names of the drives that say they are this one, where more than one does."""
        listing = self.listing(ticket_id)
        found = [drive.device for drive in drives_with(listing, own)] if listing else []
        return found if len(found) > 1 else []

    def verdicts(self, ticket_id: int) -> dict[str, str]:
        """Device -> verdict in words, of the newest reading of the whole machine; empty where there is none."""
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        for file in kept:
            capture = self.decoded.capture(file.name, file.sha256)
            if capture.listed is not None:
                return {d.device: self.shop.words.say(d.verdict) for d in capture.drives if d.verdict}
        return {}

    def is_the_machines(self, ticket_id: int, device: str) -> bool:
        """Is this the one drive that can be the machine's own, by the newest reading of the whole machine? False where
        that is not clear."""
        facts = self.tickets.folded_of(ticket_id).state.facts
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        for file in kept:
            capture = self.decoded.capture(file.name, file.sha256)
            if capture.listed is not None and any(d.device == device for d in capture.drives):
                own = expected_drive(capture, facts)
                return own is not None and own.device == device
        return False

    def capacity_of(self, ticket_id: int, device: str) -> int | None:
        """Bytes of the drive that stands under this name in the newest capture."""
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        for file in kept:
            capture = self.decoded.capture(file.name, file.sha256)
            drive = next((d for d in capture.drives if d.device == device), None)
            if drive is not None:
                own, block = (drive.identity or {}).get("capacity"), capture.block_of(drive)
                return own if isinstance(own, int) else block.size if block else None
        return None

    def _capture_out(
        self, digest: str, name: str, at: str, capture: Capture, device: str | None, facts: Facts
    ) -> CaptureOut:
        words = self.shop.words
        candidates = system_candidates(capture, facts)
        devices, others = self.decoded.documents(name, digest)
        return CaptureOut.model_validate(
            {
                "sha256": digest,
                "name": name,
                "added_at": at,
                "devices": devices,
                "other_pages": others,
                "weighed": device,
                "asks": [d.device for d in candidates or strangers(capture, facts)]
                if len(candidates) != 1 and device is None
                else [],
                "volumes": [volume_document(v) for v in capture.volumes],
                "notes": [finding_document(f, words) for f in capture.notes],
            }
        )

    def _trend(self, drive: Drive, captures: list[tuple[str, Capture]]) -> TrendOut | None:
        """The drive against its captures so far, oldest first, this one last."""
        own = [
            Snapshot(moment, d.pages, d.findings)
            for moment, capture in captures
            for d in capture.drives
            if d is drive or same_drive(d.identity, drive.identity)
        ]
        trend = trend_of(own, self.shop.shipped.knowledge.findings)
        if trend is None:
            return None
        said: dict[str, Any] = {
            **to_builtins(trend),
            "captures": len(own),
            "findings": [finding_document(f, self.shop.words) for f in trend.findings],
        }
        return TrendOut.model_validate(said)
