"""The link between a ticket and the probe on its machine: secret, orders with clearances, pages, the capture at the end."""

from __future__ import annotations

import base64
import binascii
import hashlib
import io
import json
import secrets
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
from collections.abc import Mapping
from typing import Any

from gatecheck.core.errors import BenchError
from gatecheck.core.manifest import is_plain_path
from gatecheck.files import LARGEST_PAGE, MOST_PAGES
from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.probe.gatecheck_probe import FORMAT, NEEDED, PROTOCOL, clearance
from gatecheck.probe_file import probe_with
from gatecheck.server.bench import Bench, NotFoundError, now
from gatecheck.server.captures import Captures
from gatecheck.server.models import TicketOut
from gatecheck.server.models_link import LinkOut, LinkRowOut, PageIn, ProgressIn
from gatecheck.store import StoreError, links
from gatecheck.store.links import Link, Order, Session

_ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"
_AWAY_SECONDS = 12.0
_QUIET_SECONDS = 0.4
BY = "probe"
# order -> (kind ->) the move whose interlocks hold it; None: nothing of the drives is touched
_MOVES: Mapping[str, Mapping[str, str | None]] = {
    "look": {"": None}, "read": {"": "health-pages"}, "self-test": {"short": "short-test", "long": "long-test"},
}  # fmt: skip
_SECTORS_MOVE = "disk-layout"
"""reading first sectors asks the medium: allowed where this check is"""


class LinkUnknownError(BenchError):
    """No ticket has this secret."""


class LinkEndedError(BenchError):
    """The link was ended, or its ticket handed over."""


class _Live:
    """What is known of a probe that is on the line; not kept over a restart, for it says hello again."""

    def __init__(self) -> None:
        self.seen, self.told = time.monotonic(), 0.0
        self.done, self.of, self.text, self.minutes_left = 0, 0, "", None


class Links:
    """Every link of the shop. `url`: where probes on this very computer (practice machines) find the server."""

    def __init__(self, bench: Bench, captures: Captures, url: str | None) -> None:
        self.bench, self.captures, self.url = bench, captures, url
        self._live: dict[int, _Live] = {}
        self._practice: dict[int, tuple[subprocess.Popen[bytes], str]] = {}
        self._lock = threading.Lock()
        bench.link_row = self.row

    # --- for the browser ---------------------------------------------------------------------------------------

    def open(self, ticket_id: int, *, by: str) -> None:
        """Give the ticket a secret, if it has none that is valid. Raises NotFoundError, LinkEndedError."""
        if self.bench.row_of(ticket_id).closed_at:
            raise StoreError("link: expected an open ticket, got one that was handed over")
        with self.bench.database.write() as connection:
            known = links.link_of(connection, ticket_id)
            if known is None or known.ended_at:
                text = "".join(secrets.choice(_ALPHABET) for _ in range(10))
                links.open_link(connection, ticket_id, f"{text[:5]}-{text[5:]}", by=by, at=now())
        self._tell(ticket_id, at_once=True)

    def view(self, ticket_id: int, base_url: str) -> LinkOut:
        """The ticket's link as the screen shows it. Raises NotFoundError."""
        self.bench.row_of(ticket_id)
        with self.bench.database.read() as connection:
            link = links.link_of(connection, ticket_id)
            sessions, orders = links.sessions_of(connection, ticket_id), links.orders_of(connection, ticket_id)
        address = f"{base_url.rstrip('/')}/p/{link.secret}" if link and not link.ended_at else ""
        ticket = self.bench.ticket(ticket_id)
        return LinkOut.model_validate({
            "state": self._state(ticket_id, link), "secret": link.secret if link else "", "address": address,
            "command": f"curl -s {address} | sudo python3 -" if address else "", "qr": _qr(address) if address else "",
            "local_only": any(host in base_url for host in ("//127.", "//localhost", "//[::1]")),
            "practice": link.practice if link else None, "machine": sessions[0].machine if sessions else {},
            "progress": self._progress(ticket_id),
            "orders": [_order_out(o) for o in orders],
            "offers": [
                {"order": order, "kind": kind, "move": move, "held": self._held(ticket, move)}
                for order, kinds in _MOVES.items() for kind, move in kinds.items() if move
            ],
        })  # fmt: skip

    def row(self, ticket_id: int) -> LinkRowOut | None:
        """For the bench: linked, away, and how far it is; None where there is no link."""
        live = self._live.get(ticket_id)
        if live is None:
            return None
        return LinkRowOut(state="linked" if time.monotonic() - live.seen < _AWAY_SECONDS else "away", done=live.done, of=live.of, text=live.text)

    def _progress(self, ticket_id: int) -> dict[str, Any] | None:
        live = self._live.get(ticket_id)
        return {"done": live.done, "of": live.of, "text": live.text, "minutes_left": live.minutes_left} if live and live.of else None

    def _state(self, ticket_id: int, link: Link | None) -> str:
        if link is None:
            return "none"
        if link.ended_at:
            return "ended"
        live = self._live.get(ticket_id)
        return "waiting" if live is None else "linked" if time.monotonic() - live.seen < _AWAY_SECONDS else "away"

    def order(self, ticket_id: int, body: Mapping[str, Any], *, by: str) -> None:
        """Put an order for the probe. Raises StoreError where an interlock holds it or there is no link to pull it."""
        ticket = self.bench.ticket(ticket_id)
        move = _move_of(body)
        held = self._held(ticket, move)
        if held:
            raise StoreError(f"order {body['order']}: {held}")
        with self.bench.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            if link is None or link.ended_at:
                raise StoreError("order: expected a link on this ticket, got none")
            links.put_order(connection, ticket_id, {k: body[k] for k in ("order", "device", "kind") if body.get(k)}, by=by, at=now())
        self._tell(ticket_id, at_once=True)

    @staticmethod
    def _held(ticket: TicketOut, move: str | None) -> str:
        """Why the order's move is held back now; empty where it is not."""
        return next((f"{h.why}. {h.release}" for h in ticket.held if h.move == move), "")

    def end(self, ticket_id: int) -> None:
        """End the link: the probe is told at its next call."""
        self.bench.row_of(ticket_id)
        with self.bench.database.write() as connection:
            links.end_link(connection, ticket_id, now())
        self._live.pop(ticket_id, None)
        self._stop_practice(ticket_id)
        self._tell(ticket_id, at_once=True)

    # --- practice ----------------------------------------------------------------------------------------------

    def connect_practice(self, ticket_id: int, name: str, *, by: str) -> None:
        """Connect a practice machine to the ticket; connected again, the same machine has aged. Raises NotFoundError, StoreError."""
        if name not in {p.id for p in PATIENTS}:
            raise NotFoundError(f"practice machine {name[:40]!r}: expected one of {', '.join(p.id for p in PATIENTS)}")
        if self.url is None:
            raise StoreError("practice machine: expected a server that knows its own address, got none")
        self.open(ticket_id, by=by)
        with self.bench.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            assert link is not None
            since = link.practice_since if link.practice == name and link.practice_since else time.time()
            links.set_practice(connection, ticket_id, name, since)
        self._stop_practice(ticket_id)
        spool = tempfile.mkdtemp(prefix="gatecheck-practice-")
        command = [
            sys.executable, "-m", "gatecheck.practice", name, "--since", str(since), "--server", self.url, "--secret", link.secret, "--spool", spool,
            "--wait", "3",
        ]  # fmt: skip
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        self._practice[ticket_id] = (process, spool)

    def take_in_practice(self, name: str, *, bay: int | None, by: str) -> TicketOut:
        """A practice machine comes to the bench: its ticket with what was asked at the counter, already connected."""
        if name not in {p.id for p in PATIENTS}:
            raise NotFoundError(f"practice machine {name[:40]!r}: expected one of {', '.join(p.id for p in PATIENTS)}")
        own = patient(name)
        ticket = self.bench.take_in(
            customer=own.customer, machine=own.machine, words=own.words, facts=own.facts, entries=[dict(e) for e in own.entries], bay=bay, by=by
        )
        self.connect_practice(ticket.id, name, by=by)
        return ticket

    def _stop_practice(self, ticket_id: int) -> None:
        process, spool = self._practice.pop(ticket_id, (None, ""))
        if process is None:
            return
        if process.poll() is None:
            process.terminate()
            process.wait(5)
        shutil.rmtree(spool, ignore_errors=True)

    def close(self) -> None:
        """Stop all practice machines."""
        for ticket_id in list(self._practice):
            self._stop_practice(ticket_id)

    # --- for the probe -----------------------------------------------------------------------------------------

    def hello(self, secret: str, protocol: int, probe: str, machine: Mapping[str, str], session_id: str, has: int) -> dict[str, Any]:
        """A probe reports. A session that is known goes on where it was; one whose pages the probe has lost begins anew."""
        if protocol != PROTOCOL:
            raise StoreError(f"protocol: expected {PROTOCOL}, got {protocol}; take the probe from this server's /probe")
        link = self._link(secret)
        with self.bench.database.write() as connection:
            known = links.session_by_id(connection, session_id)
            at = links.acknowledged(connection, session_id) if known else 0
            if known and (known.ticket_id != link.ticket_id or at > has):
                session_id, known, at = secrets.token_hex(8), None, 0
            if known is None:
                links.begin_session(connection, session_id, link.ticket_id, machine, probe, now())
        self._seen(link.ticket_id)
        row = self.bench.row_of(link.ticket_id)
        if known is None:
            text = " ".join(filter(None, (machine.get("sys_vendor"), machine.get("product_name"))))
            entry = {"move": "live-start", "outcome": "runs", "note": f"The probe says hello from {text or 'the machine'}"}
            self.bench.append(link.ticket_id, entry, by=BY, key=f"hello-{session_id}")
        self._first_order(link.ticket_id)
        self._tell(link.ticket_id, at_once=True)
        return {"protocol": PROTOCOL, "session": session_id, "ticket": row.number, "acknowledged": at}

    def _first_order(self, ticket_id: int) -> None:
        """Nobody has to ask for the first reading. Where the drive must not be read, only the firmware is looked at."""
        held = self._held(self.bench.ticket(ticket_id), "health-pages")
        with self.bench.database.write() as connection:
            if not links.orders_of(connection, ticket_id):
                links.put_order(connection, ticket_id, {"order": "look" if held else "read"}, by=BY, at=now())

    def orders(self, secret: str, session_id: str) -> dict[str, Any]:
        """Orders to work on, each with the clearances that the ticket's interlocks leave it now."""
        link, _ = self._session(secret, session_id)
        with self.bench.database.read() as connection:
            waiting = [o for o in links.orders_of(connection, link.ticket_id) if o.state == links.WAITING]
        ticket = self.bench.ticket(link.ticket_id) if waiting else None
        return {"orders": [self._made_out(link, o, ticket) for o in waiting if ticket]}

    def _made_out(self, link: Link, order: Order, ticket: TicketOut) -> dict[str, Any]:
        kind = order.body["order"]
        cleared = [NEEDED[kind]] if not self._held(ticket, _move_of(order.body)) else []
        if cleared and kind == "read" and not self._held(ticket, _SECTORS_MOVE):
            cleared.append("sectors")
        device = order.body.get("device", "")
        marks = {what: clearance(link.secret, str(order.id), kind, device, what) for what in cleared}
        return {"id": str(order.id), **order.body, "clearances": marks}

    def page(self, secret: str, page: PageIn) -> dict[str, Any]:
        """Keep one page. Pages come in order; one that is not the next is not kept, and the answer says where the bench stands."""
        link, session = self._session(secret, page.session)
        data = _checked(page)
        with self.bench.database.write() as connection:
            at = links.acknowledged(connection, session.id)
            if page.seq == at + 1:
                if page.seq > MOST_PAGES:
                    raise StoreError(f"page {page.seq}: expected at most {MOST_PAGES} in a session")
                line = page.model_dump(include={"path", "kind", "device", "how", "status", "detail", "sha256"})
                links.keep_page(connection, session.id, page.seq, page.order, line, data)
                at = page.seq
        self._seen(link.ticket_id)
        return {"acknowledged": at}

    def progress(self, secret: str, progress: ProgressIn) -> dict[str, Any]:
        """How far the probe is."""
        link, _ = self._session(secret, progress.session)
        live = self._seen(link.ticket_id)
        live.done, live.of, live.text, live.minutes_left = progress.done, progress.of, progress.text, progress.minutes_left  # type: ignore[assignment]
        self._tell(link.ticket_id)
        return {}

    def done(self, secret: str, session_id: str, order_id: str, result: str, detail: str) -> dict[str, Any]:
        """An order is through: its pages become a capture on the ticket. Said twice it is done once."""
        link, session = self._session(secret, session_id)
        with self.bench.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id), None)
            pages = links.pages_of(connection, session.id, order_id)
        if order is None:
            raise NotFoundError(f"order {order_id[:20]!r}: expected one of this ticket, got none")
        if pages and order.state == links.WAITING:
            row = self.bench.row_of(link.ticket_id)
            self.captures.add_file(link.ticket_id, f"{row.number.lower()}-{order_id}.gcap", _capture(session, pages), by=BY)
        with self.bench.database.write() as connection:
            links.end_order(connection, order.id, result, detail[:300], now())
        live = self._seen(link.ticket_id)
        live.done = live.of = 0
        self._tell(link.ticket_id, at_once=True)
        return {"ok": True}

    def _link(self, secret: str) -> Link:
        with self.bench.database.read() as connection:
            link = links.link_by_secret(connection, secret)
        if link is None:
            raise LinkUnknownError("secret: expected one that a ticket shows, got another")
        if link.ended_at or self.bench.row_of(link.ticket_id).closed_at:
            raise LinkEndedError("link: expected one that is open, got one that was ended")
        return link

    def _session(self, secret: str, session_id: str) -> tuple[Link, Session]:
        link = self._link(secret)
        with self.bench.database.read() as connection:
            session = links.session_by_id(connection, session_id)
        if session is None or session.ticket_id != link.ticket_id:
            raise NotFoundError("session: expected one of this link, got another; say hello first")
        self._seen(link.ticket_id)
        return link, session

    def _seen(self, ticket_id: int) -> _Live:
        with self._lock:
            live = self._live.setdefault(ticket_id, _Live())
            live.seen = time.monotonic()
            return live

    def _tell(self, ticket_id: int, *, at_once: bool = False) -> None:
        live = self._live.get(ticket_id)
        if live and not at_once and time.monotonic() - live.told < _QUIET_SECONDS:
            return
        if live:
            live.told = time.monotonic()
        self.bench.announce({"kind": "link", "ticket": ticket_id})

    # --- handing the probe out ---------------------------------------------------------------------------------

    def probe_for(self, secret: str, base_url: str) -> str:
        """The probe with the server's address and the ticket's secret filled in. Raises LinkUnknownError, LinkEndedError."""
        self._link(secret)
        return probe_with(base_url, secret)


def _move_of(body: Mapping[str, Any]) -> str | None:
    kinds = _MOVES.get(str(body.get("order")), {})
    kind = str(body.get("kind") or "")
    if kind not in kinds:
        raise StoreError(f"order: expected one of {', '.join(_MOVES)} (self-test with kind short or long), got {body.get('order')!r} {kind}".rstrip())
    if body["order"] == "self-test" and not body.get("device"):
        raise StoreError("order self-test: expected the device to test, got none")
    return kinds[kind]


def _order_out(order: Order) -> dict[str, Any]:
    return {"id": order.id, **order.body, "state": order.state, "detail": order.detail, "made_by": order.made_by, "made_at": order.made_at}


def _checked(page: PageIn) -> bytes:
    """The page's bytes. Raises StoreError where they are not what the line says."""
    try:
        data = base64.b64decode(page.data, validate=True)
    except (binascii.Error, ValueError) as error:
        raise StoreError(f"{page.path[:80]}: expected base64, got {error}") from error
    if len(data) > LARGEST_PAGE or not is_plain_path(page.path):
        raise StoreError(f"{page.path[:80]!r}: expected a plain relative name and at most {LARGEST_PAGE >> 20} MiB, got {len(data)} bytes")
    if page.sha256 != (hashlib.sha256(data).hexdigest() if page.status == "ok" else None):
        raise StoreError(f"{page.path[:80]}: expected the bytes of the page's SHA-256, got others")
    return data


def _capture(session: Session, pages: list[tuple[dict[str, Any], bytes]]) -> bytes:
    """The pages as a capture file, the same bytes for the same pages."""
    newest = {line["path"]: (line, data) for line, data in pages}
    manifest = {"format": FORMAT, "probe": session.probe, "machine": session.machine, "pages": [line for line, _ in newest.values()]}
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        members = {"manifest.json": json.dumps(manifest, indent=1).encode()} | {path: data for path, (line, data) in newest.items() if line["status"] == "ok"}
        for path, data in members.items():
            entry = zipfile.ZipInfo(path)
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, data)
    return buffer.getvalue()


def _qr(text: str) -> str:
    """The address as a QR code (ISO/IEC 18004), SVG, dark on light in either theme so that any camera reads it."""
    import segno

    buffer = io.BytesIO()
    segno.make(text, error="m", micro=False).save(buffer, kind="svg", scale=4, border=2, xmldecl=False, svgns=True, dark="#16212b", light="#fdfcf8")
    return buffer.getvalue().decode()
