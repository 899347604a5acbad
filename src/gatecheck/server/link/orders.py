"""What can be ordered of a probe: which move each order belongs to, what is watched and paused, and what of it is shown."""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from gatecheck.adapters.capture_files import LARGEST_PAGE
from gatecheck.core.capture.manifest import is_plain_path
from gatecheck.server.link.wire import PageIn
from gatecheck.store import StoreError
from gatecheck.store.links import Order

# order -> (kind ->) the move whose interlocks hold it; None: nothing of the drives is touched
MOVES: Mapping[str, Mapping[str, str | None]] = {
    "look": {"": None}, "read": {"": "health-pages"}, "self-test": {"short": "short-test", "long": "long-test", "conveyance": "short-test"}, "scan": {"": "read-scan"}, "copy": {"": "copy-data"},
    "sectors": {"": "disk-layout"}, "mend": {fix: fix for fix in ("rebuild-table", "rebuild-boot-record", "rebuild-loader", "repair-volume")}, "entry": {"restore-entry": "restore-entry"},
    "volume": {"": "volume-look"}, "rescue": {"": "copy-data"}, "fill": {"": None},
}  # fmt: skip
MADE_HERE = ("sectors", "mend", "entry", "volume", "rescue", "fill")
"""orders that nobody gives by name: an instrument makes them"""
WRITING = ("mend", "entry", "fill")
"""orders that change something on the machine: to a drive that says who it is, one at a time, with what is written kept here first"""
LONG_ONES, PAUSED_ONES = ("self-test", "scan", "copy", "volume", "rescue", "fill"), ("scan", "copy", "volume", "rescue", "fill")
"""orders that are watched and can be stopped; those that can be paused as well"""
_SHOWN = ("order", "device", "drive", "kind", "minutes", "hot", "first", "end")


class Errand(Protocol):
    """An order that the probe carries out turn by turn: what it reads next follows from what it has read."""

    def wanted(self, ticket_id: int, order: Order, session_id: str, *, ahead: bool) -> dict[str, Any]:
        """`ranges`: (first LBA, sectors), none where it is through; `wait`: seconds after which to ask again instead; `careful`: one by one where they do not read;
        `done`, `of`: bytes; `ahead`: the next question may come while these are still being read, and then says so."""
        ...

    def piece(self, ticket_id: int, order: Order, session_id: str, at: int, parts: Sequence[bytes] | None, length: int) -> None: ...

    def unread(self, ticket_id: int, order: Order, session_id: str, first: int, count: int, *, careful: bool) -> None: ...


def move_of(body: Mapping[str, Any]) -> str | None:
    kinds = MOVES.get(str(body.get("order")), {})
    kind = str(body.get("kind") or "")
    if kind not in kinds:
        raise StoreError(f"order: expected one of {', '.join(o for o in MOVES if o not in MADE_HERE)} (self-test with kind short, long or conveyance), got {body.get('order')!r} {kind}".rstrip())
    if body["order"] in (*LONG_ONES, *MADE_HERE) and not body.get("device"):
        raise StoreError(f"order {body['order']}: expected the device, got none")
    return kinds[kind]


def order_out(order: Order) -> dict[str, Any]:
    body = {name: value for name, value in order.body.items() if name in _SHOWN}
    if "copy" in order.body:
        body["copy_of"] = int(order.body["copy"])
    return {"id": order.id, **body, "wanted": order.wanted, "state": order.standing, "detail": order.detail, "made_by": order.made_by, "made_at": order.made_at}


def checked_page(page: PageIn) -> bytes:
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
