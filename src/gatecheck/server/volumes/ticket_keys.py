"""Keys of customers' encrypted volumes, as the technician entered them: in memory, for their ticket, until it is handed
over, somebody forgets them, or the server ends. They are never written anywhere."""

from __future__ import annotations

import threading
from collections.abc import Callable

from gatecheck.server.volumes.worker import WorkerProcess

_MOST = 4
"""keys a ticket may have: one for each of its volumes"""


class TicketKeys:
    """`is_closed`: was this ticket handed over; `worker`: where what was derived from them is."""

    def __init__(self, is_closed: Callable[[int], bool], worker: WorkerProcess) -> None:
        self._is_closed, self._worker = is_closed, worker
        self._lock = threading.Lock()
        self._held: dict[int, list[bytes]] = {}

    def __repr__(self) -> str:
        return f"TicketKeys of {len(self._held)} tickets"

    def add(self, ticket_id: int, raw: bytes) -> None:
        with self._lock:
            own = self._held.setdefault(ticket_id, [])
            if raw not in own:
                own.append(raw)
                del own[:-_MOST]

    def of(self, ticket_id: int) -> list[bytes]:
        with self._lock:
            own = list(self._held.get(ticket_id, ()))
        return [] if own and ticket_id in self.forget_closed() else own

    def forget(self, ticket_id: int) -> bool:
        """Was there any. The helper forgets too, once it has done what it does now."""
        with self._lock:
            was_any = self._held.pop(ticket_id, None) is not None
        if was_any:
            threading.Thread(target=self._worker.forget, daemon=True).start()
        return was_any

    def forget_closed(self) -> set[int]:
        """Tickets that were handed over since: theirs are gone now."""
        with self._lock:
            held = list(self._held)
        closed = {ticket_id for ticket_id in held if self._is_closed(ticket_id)}
        for ticket_id in closed:
            self.forget(ticket_id)
        return closed
