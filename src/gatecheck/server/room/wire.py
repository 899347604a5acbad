"""Disk room on the wire."""

from __future__ import annotations

from gatecheck.server.wire import Wire


class TicketRoomOut(Wire):
    """Bytes that one ticket takes on the bench's disk: images of drives; files that were recovered; what was read of
    volumes for checks. `may_go`: it was handed over, and its warranty has ended; `goes_on`: the day from which on that
    is so, None while it is open."""

    id: int
    number: str
    customer: str
    machine: str
    closed_at: str | None
    images: int
    recovered: int
    checks: int
    may_go: bool
    goes_on: str | None


class RoomOut(Wire):
    """`free` and `size` of the disk that holds the data; `others`: bytes of captures, pictures, recordings and the
    database, which stay. Tickets by what they take, the largest first."""

    free: int
    size: int
    others: int
    warranty_days: int
    tickets: list[TicketRoomOut]
