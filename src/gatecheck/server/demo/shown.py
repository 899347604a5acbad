"""What the demo's linked machines are put through once they are read: a volume repaired after a power cut, files saved
from a disk with bad places."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Mapping, Sequence

from gatecheck.core.errors import GateCheckError
from gatecheck.server.services import Services
from gatecheck.server.volumes.wire import VolumesOut

_log = logging.getLogger(__name__)
_PATIENCE = 120.0
_BY = "MO"


def show_volumes(house: Services, linked: Mapping[int, str]) -> None:
    """In the background; a demo that is stopped before it is through loses nothing."""
    own = [(ticket_id, name) for ticket_id, name in linked.items() if name in _SHOWN]
    if own:
        threading.Thread(target=_all, args=(house, own), daemon=True).start()


def _all(house: Services, own: Sequence[tuple[int, str]]) -> None:
    for ticket_id, name in own:
        _shown(house, ticket_id, name)


def _shown(house: Services, ticket_id: int, name: str) -> None:
    try:
        first = _until(house, ticket_id, lambda v: v.first is not None and not house.links.orders.pending(ticket_id))
        assert first.first is not None
        house.volumes.look(ticket_id, first.source, first.first, by=_BY)
        looked = _until(house, ticket_id, lambda v: v.look is not None)
        _SHOWN[name](house, ticket_id, looked)
    except (GateCheckError, TimeoutError) as error:
        _log.info("the demo's %s is not shown through: %s", name, error)


def _until(house: Services, ticket_id: int, wanted: Callable[[VolumesOut], bool]) -> VolumesOut:
    end = time.monotonic() + _PATIENCE
    while time.monotonic() < end:
        found = house.volumes.view(ticket_id)
        if found.job is None and wanted(found):
            return found
        time.sleep(0.3)
    raise TimeoutError(f"ticket {ticket_id}")


def _repaired(house: Services, ticket_id: int, found: VolumesOut) -> None:
    if found.look is not None and found.first is not None and found.look.groups:
        house.volumes.repair(ticket_id, found.source, found.first, [g.id for g in found.look.groups], by=_BY)


def _saved(house: Services, ticket_id: int, found: VolumesOut) -> None:
    if found.look is not None and found.first is not None:
        house.volumes.rescue(
            ticket_id,
            found.source,
            found.first,
            [s.path for s in found.look.people],
            deleted=False,
            is_all=True,
            by=_BY,
        )


_SHOWN: Mapping[str, Callable[[Services, int, VolumesOut], None]] = {"torn-volume": _repaired, "fading-photos": _saved}
