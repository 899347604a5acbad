"""Files on tickets: kept, decoded, and weighed on the tape with the file that each entry rests on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.evidence import capture_evidence, expected_drive
from gatecheck.core.storage.capture import Capture, Drive, read_capture
from gatecheck.core.storage.field_at import field_at
from gatecheck.core.storage.judge_logs import log_weights, said_of
from gatecheck.core.storage.report import capture_document
from gatecheck.core.storage.trend import same_drive, trend_of
from gatecheck.files import InputError, pages_of
from gatecheck.server.bench import Bench, NotFoundError, now
from gatecheck.server.models import TicketOut
from gatecheck.server.models_captures import CaptureOut, RawOut, TrendOut
from gatecheck.store.files import attach, attachments

_MOST_RAW = 1 << 15
ELSEWHERE = "firmware"
"""what an entry rests on that is not one drive's pages"""


class Captures:
    """The files of a shop's tickets."""

    def __init__(self, bench: Bench) -> None:
        self.bench = bench

    def add_file(self, ticket_id: int, name: str, data: bytes, *, by: str, at: str | None = None) -> CaptureOut:
        """Keep a file on the ticket, decode it, and weigh it where it is clear which drive is the machine's.

        Raises InputError for what is no page or capture, StoreError where it cannot be kept. Nothing is lost by either.
        """
        row = self.bench.row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        files = pages_of(name, data)
        capture = read_capture(files)
        if len(capture.pages) == 1 and capture.pages[0].status in ("unknown", "broken"):
            raise InputError(f"{name}: expected a capture or a page of a drive, got {capture.pages[0].detail}")
        digest = self.bench.files.put(data)
        moment = at or now()
        with self.bench.database.write() as connection:
            attach(connection, ticket_id, digest, name, len(data), by=by, at=moment)
        drive = expected_drive(capture, self.bench.ticket(ticket_id).facts, with_pages=True)
        if drive is not None:
            self._weigh(ticket_id, digest, name, drive, by=by, at=moment)
        self._weigh_rest(ticket_id, digest, name, files, capture, by=by, at=moment)
        self.bench.announce({"kind": "file", "ticket": ticket_id})
        return self._capture_out(digest, name, moment, capture, drive.device if drive else None)

    def _weigh_rest(self, ticket_id: int, digest: str, name: str, files: Mapping[str, bytes], capture: Capture, *, by: str, at: str) -> None:
        """What the capture says of settings, boot entries and sightings goes on the tape with the file it rests on."""
        bench = self.bench
        entries = capture_evidence(bench.model.knowledge, bench.ticket(ticket_id).facts, files, capture)
        for place, body in enumerate(entries):
            full = {**body, "rests_on": {"file": digest, "name": name, "device": ELSEWHERE}}
            bench.append(ticket_id, full, by=by, key=f"{digest[:24]}-{ELSEWHERE}-{place}", at=at)

    def weigh(self, ticket_id: int, digest: str, device: str, *, by: str) -> TicketOut:
        """Put one drive of a capture on the tape. Raises NotFoundError where the ticket has no such file or drive."""
        name, _, capture = self.capture_of(ticket_id, digest)
        for drive in capture.drives:
            if drive.device == device and drive.weights:
                return self._weigh(ticket_id, digest, name, drive, by=by)
        raise NotFoundError(f"{name}: expected a drive {device!r} with pages about its health, got none")

    def _weigh(self, ticket_id: int, digest: str, name: str, drive: Drive, *, by: str, at: str | None = None) -> TicketOut:
        body = {
            "move": "health-pages", "weights": drive.weights, "note": drive.verdict,
            "rests_on": {"file": digest, "name": name, "device": drive.device},
        }  # fmt: skip
        ticket = self.bench.append(ticket_id, body, by=by, key=f"{digest[:24]}-{drive.device}", at=at)
        for check, weights in log_weights(drive.logs).items():
            entry = {**body, "move": check, "weights": weights, "note": said_of(check, drive.logs)}
            ticket = self.bench.append(ticket_id, entry, by=by, key=f"{digest[:24]}-{drive.device}-{check}", at=at)
        return ticket

    def captures(self, ticket_id: int) -> list[CaptureOut]:
        """All decoded files of a ticket, newest first."""
        self.bench.row_of(ticket_id)
        weighed_of = {
            str(body["rests_on"]["file"]): str(body["rests_on"]["device"])
            for e in self.bench.ticket(ticket_id).tape
            for body in [e.body]
            if e.stands and isinstance(body.get("rests_on"), dict) and body["rests_on"]["device"] != ELSEWHERE
        }
        with self.bench.database.read() as connection:
            kept = attachments(connection, ticket_id)
        decoded = [(a, self.capture_of(ticket_id, a.sha256)[2]) for a in kept]
        shown = [self._capture_out(a.sha256, a.name, a.added_at, c, weighed_of.get(a.sha256)) for a, c in decoded]
        oldest_first = [(a.added_at, c) for a, c in reversed(decoded)]
        for place, (_, capture) in enumerate(decoded):
            earlier = oldest_first[: len(decoded) - place]
            for drive, out in zip(capture.drives, shown[place].devices, strict=True):
                out.trend = _trend(drive, earlier)
        return shown

    def raw(self, ticket_id: int, digest: str, path: str, at: int | None) -> RawOut:
        """The bytes of one page of a capture, with the field at a byte marked. Raises NotFoundError."""
        name, _, capture = self.capture_of(ticket_id, digest)
        page = next((p for p in capture.pages if p.path == path), None)
        data = pages_of(name, self.bench.files.get(digest)).get(path)
        if page is None or data is None:
            raise NotFoundError(f"{name}: expected a page {path[:80]!r}, got none by that name")
        found = field_at(page.kind, at) if at is not None else None
        field, start, length = found or (None, at or 0, 0 if at is None else 1)
        return RawOut(path=path, size=len(data), hex=data[:_MOST_RAW].hex(), field=field, start=start, length=length)

    def capture_of(self, ticket_id: int, digest: str) -> tuple[str, str, Capture]:
        with self.bench.database.read() as connection:
            for kept in attachments(connection, ticket_id):
                if kept.sha256 == digest:
                    return kept.name, kept.added_at, self.bench.decoded.capture(kept.name, digest)
        raise NotFoundError(f"file {digest[:12]}: expected a file of this ticket, got none")

    def _capture_out(self, digest: str, name: str, at: str, capture: Capture, device: str | None) -> CaptureOut:
        said: dict[str, Any] = capture_document(capture)
        named = {drive.device for drive in capture.drives}
        return CaptureOut.model_validate({
            "sha256": digest, "name": name, "added_at": at, "devices": said["devices"],
            "other_pages": [p for p in said["pages"] if p["device"] not in named], "weighed": device,
        })  # fmt: skip


def _trend(drive: Drive, captures: list[tuple[str, Capture]]) -> TrendOut | None:
    """The drive against its captures so far, oldest first, this one last."""
    own = [(moment, d) for moment, capture in captures for d in capture.drives if d is drive or same_drive(d, drive)]
    trend = trend_of(own)
    if trend is None:
        return None
    return TrendOut.model_validate({**asdict(trend), "captures": len(own)})
