"""Copies on the bench as they are without their encryption, for a drive that is filled from one with the customer's
consent."""

from __future__ import annotations

from pathlib import Path

from gatecheck.server.volumes.locate import VolumeLocator
from gatecheck.server.volumes.partial_image import SectorStore
from gatecheck.server.volumes.plain_tasks import Place, PlainPiece
from gatecheck.server.volumes.ticket_keys import TicketKeys
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.store import StoreError


class PlainCopies:
    def __init__(self, locator: VolumeLocator, worker: WorkerProcess, keys: TicketKeys) -> None:
        self._locator, self._worker, self._keys = locator, worker, keys
        self._places: dict[tuple[int, int], tuple[int, SectorStore, list[Place]]] = {}

    def opens(self, ticket_id: int, copy: int) -> list[str]:
        """Names of the encryptions in a copy that a key of its ticket opens."""
        found: list[str] = self._worker.run("opens", *self._place(ticket_id, copy), self._keys.of(ticket_id))
        return found

    def read(self, ticket_id: int, copy: int, at: int, length: int, *, holes: bool) -> tuple[bytes | None, int]:
        """(bytes, 0), or (None, how many zeros they are). Raises StoreError where the key is gone, and for what is not
        in the copy where nobody said that it may be missing."""
        found: PlainPiece = self._worker.run(
            "plain", *self._place(ticket_id, copy), self._keys.of(ticket_id), at, length
        )
        if not found.opened:
            raise StoreError(f"copy {copy}: expected a key on the ticket that opens it, got none; enter it again")
        if found.missing and not holes:
            raise StoreError(
                f"copy {copy}: expected every sector from byte {at} on, got {found.missing} that are missing"
            )
        return found.data, found.zeros

    def _place(self, ticket_id: int, copy: int) -> tuple[SectorStore, list[Place]]:
        """Where the copy is, and its partitions. Raises StoreError."""
        key = (ticket_id, copy)
        kept = self._places.get(key)
        if kept is not None and _changed(kept[1]) == kept[0]:
            return kept[1:]
        known = self._locator.known(ticket_id, f"copy-{copy}")
        if known is None:
            raise StoreError(f"copy {copy}: expected one that is on the bench, got none")
        places = [(p.first, p.last) for p in self._locator.pieces(known)]
        self._places = {key: (_changed(known.ground), known.ground, places), **dict(list(self._places.items())[:7])}
        return known.ground, places


def _changed(ground: SectorStore) -> int:
    """When the copy was last written to; 0 where it is gone."""
    image = Path(ground.image)
    return image.stat().st_mtime_ns if image.exists() else 0
