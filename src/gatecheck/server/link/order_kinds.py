"""The kinds of order that a probe carries out: one row each, and all that the bench has to know of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from gatecheck.store import StoreError
from gatecheck.store.links import Order

_NO_MOVE: Mapping[str, str | None] = {"": None}


@dataclass(frozen=True, slots=True)
class OrderKind:
    """`moves`: variant (an order's `kind`) -> the move whose interlocks hold it, None where nothing of the drives is
    touched; `by_instrument`: no person gives it by name; `long_running`: it is watched and can be stopped; `pausable`:
    and paused; `writes`: it changes something on the machine, and goes to a drive that says who it is, one at a time;
    `runs_alone`: nothing else may wait beside it; `reader`: the instrument that says what it reads next, where it is
    carried out turn by turn; `followers`: the instruments that are told how it ended."""

    name: str
    moves: Mapping[str, str | None] = field(default_factory=lambda: _NO_MOVE)
    by_instrument: bool = False
    long_running: bool = False
    pausable: bool = False
    writes: bool = False
    runs_alone: bool = False
    reader: str = ""
    followers: tuple[str, ...] = ()

    @property
    def needs_device(self) -> bool:
        return self.long_running or self.by_instrument


PATH, VOLUMES, RESTORE = "path", "volumes", "restore"
_REPAIRS: Mapping[str, str | None] = {
    fix: fix for fix in ("rebuild-table", "rebuild-boot-record", "rebuild-loader", "repair-volume")
}
_KINDS = (
    OrderKind("look"),
    OrderKind("read", {"": "health-pages"}),
    OrderKind("self-test", {"short": "short-test", "long": "long-test", "conveyance": "short-test"}, long_running=True),
    OrderKind("scan", {"": "read-scan"}, long_running=True, pausable=True),
    OrderKind("copy", {"": "copy-data"}, long_running=True, pausable=True),
    OrderKind("sectors", {"": "disk-layout"}, by_instrument=True, reader=PATH, followers=(PATH,)),
    OrderKind("mend", _REPAIRS, by_instrument=True, writes=True, runs_alone=True, followers=(PATH, VOLUMES)),
    OrderKind(
        "entry", {"restore-entry": "restore-entry"}, by_instrument=True, writes=True, runs_alone=True, followers=(PATH,)
    ),
    OrderKind(
        "volume",
        {"": "volume-look", "records": "system-records"},
        by_instrument=True,
        long_running=True,
        pausable=True,
        reader=VOLUMES,
        followers=(VOLUMES,),
    ),
    OrderKind(
        "rescue",
        {"": "copy-data"},
        by_instrument=True,
        long_running=True,
        pausable=True,
        reader=VOLUMES,
        followers=(VOLUMES,),
    ),
    OrderKind("fill", by_instrument=True, long_running=True, pausable=True, writes=True, followers=(RESTORE,)),
)
ORDER_KINDS: Mapping[str, OrderKind] = {kind.name: kind for kind in _KINDS}
WRITING = tuple(kind.name for kind in _KINDS if kind.writes)


class InteractiveOrder(Protocol):
    """An order that the probe carries out turn by turn: what it reads next follows from what it has read."""

    def next_ranges(self, ticket_id: int, order: Order, session_id: str, *, ahead: bool) -> dict[str, Any]:
        """`ranges`: (first LBA, sectors), none where it is through; `wait`: seconds after which to ask again instead;
        `careful`: one by one where they do not read; `done`, `of`: bytes; `ahead`: the next question may come while
        these are still being read, and then says so."""
        ...

    def receive(
        self, ticket_id: int, order: Order, session_id: str, at: int, parts: Sequence[bytes] | None, length: int
    ) -> None:
        """Bytes that were read, None for zeros."""
        ...

    def report_unreadable(
        self, ticket_id: int, order: Order, session_id: str, first: int, count: int, *, careful: bool
    ) -> None:
        """Sectors that did not read; `careful`: one by one, so they never will."""
        ...


class OrderFollower(Protocol):
    """Is told of orders that have ended."""

    def order_ended(self, ticket_id: int, order: Order, result: str) -> None: ...


class OrderInstruments:
    """The instruments that orders belong to, by the names in the table. All of them are there before the first order
    (`check`)."""

    def __init__(self) -> None:
        self.readers: dict[str, InteractiveOrder] = {}
        self.followers: dict[str, OrderFollower] = {}

    def check(self) -> None:
        """Raises LookupError where the table names an instrument that is not there."""
        missing = {kind.reader for kind in _KINDS if kind.reader and kind.reader not in self.readers}
        missing |= {name for kind in _KINDS for name in kind.followers if name not in self.followers}
        if missing:
            raise LookupError(
                f"instruments of orders: expected all that the table of kinds names, got none for "
                f"{', '.join(sorted(missing))}"
            )

    def reader_of(self, order: Order) -> InteractiveOrder | None:
        """Who says what it reads next; None for an order that is not carried out turn by turn."""
        return self.readers.get(kind_of(order).reader)

    def followers_of(self, order: Order) -> list[OrderFollower]:
        return [self.followers[name] for name in kind_of(order).followers]


def kind_of(order: Order) -> OrderKind:
    """An order's row of the table; one that an older bench has left and that is not known any more is only looked
    at."""
    return ORDER_KINDS.get(order.name) or OrderKind(order.name)


def move_of(body: Mapping[str, Any]) -> str | None:
    """The move whose interlocks hold an order. Raises StoreError for an order that there is not, and for one that does
    not say what it has to."""
    kind, variant = ORDER_KINDS.get(str(body.get("order"))), str(body.get("kind") or "")
    if kind is None or variant not in kind.moves:
        names = ", ".join(k.name for k in _KINDS if not k.by_instrument)
        raise StoreError(
            (
                f"order: expected one of {names} (self-test with kind short, long or conveyance), got "
                f"{body.get('order')!r} {variant}"
            ).rstrip()
        )
    if kind.needs_device and not body.get("device"):
        raise StoreError(f"order {body['order']}: expected the device, got none")
    return kind.moves[variant]
