"""Writing repairs: on a linked machine's disk as an order that carries its own undo, on a copy by a file that is there
before the first byte changes."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from gatecheck.adapters import image_writer
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.service import Links
from gatecheck.server.path.service import Paths, can_be_taken_back
from gatecheck.server.shop import Shop, now
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.locate import SourceVolume
from gatecheck.server.volumes.wire import VolumeRepairOut
from gatecheck.store import StoreError
from gatecheck.store.links import Order

_LARGEST, _MOST_WRITES = 3 << 20, 4096
"""of one mending through the link: the probe takes no more"""
_FIX = "repair-volume"
Writes = Sequence[tuple[int, bytes, bytes]]


class Repairs:
    def __init__(self, shop: Shop, linked: Links, paths: Paths) -> None:
        self.shop, self.orders, self.copies, self.paths = shop, linked.orders, linked.copies.copies, paths

    def _what(self, whats: Sequence[Mapping[str, Any]]) -> str:
        return "; ".join(self.shop.words.say(check_reports.said(w)) for w in whats)[:300]

    def order(
        self, ticket_id: int, own: SourceVolume, whats: Sequence[Mapping[str, Any]], writes: Writes, *, by: str
    ) -> None:
        """Raises StoreError."""
        seen = self.paths.ground_of(ticket_id, own.disk)
        size = sum(len(after) for _, _, after in writes)
        if size > _LARGEST or len(writes) > _MOST_WRITES:
            raise StoreError(
                f"repair: expected at most {_LARGEST >> 20} MiB in {_MOST_WRITES} places through the link, got "
                f"{size >> 20} MiB in {len(writes)}: take fewer groups, or copy the drive and repair the copy"
            )
        body: dict[str, Any] = {
            "order": "mend",
            "kind": _FIX,
            "device": own.device,
            "disk": own.disk,
            "first": own.first,
            "plan": "volume",
            "what": self._what(whats),
            "starts": self.paths.starts(ticket_id, own.disk),
            "writes": [
                {"at": at, "before": base64.b64encode(before).decode(), "after": base64.b64encode(after).decode()}
                for at, before, after in writes
            ],
        }
        self.orders.enqueue(ticket_id, body, by=by, to=seen.who if seen else None)

    def take_back(self, ticket_id: int, name: str, *, by: str) -> None:
        if not name.isdigit():
            raise NotFoundError(f"repair {name}: expected the number of an order, got something else")
        self.paths.take_back(ticket_id, int(name), by=by)

    def write_copy(
        self,
        own: SourceVolume,
        groups: Sequence[str],
        whats: Sequence[Mapping[str, Any]],
        writes: Writes,
        folder: Path,
        *,
        by: str,
    ) -> None:
        """Raises InputError."""
        number = 1
        while any((folder / f"{what}-{own.source}-{number}.json").exists() for what in ("undo", "repair")):
            number += 1
        undo = folder / f"undo-{own.source}-{number}.json"
        note = {
            "id": undo.stem,
            "whats": list(whats),
            "at": now(),
            "by": by,
            "size": sum(len(a) for _, _, a in writes),
            "taken_back": False,
            "state": "failed",
        }
        place = folder / f"repair-{own.source}-{number}.json"
        check_reports.save(place, note)  # known before it is begun: what is cut half-way can be taken back
        noted = self.copies.changes(Path(own.ground.image), [(at, len(after)) for at, _, after in writes])
        with image_writer.target(own.ground.image) as image:
            image_writer.apply(image, undo, groups, [(at, after) for at, _, after in writes])
        noted()
        check_reports.save(place, {**note, "state": "done"})

    def revert_copy(self, own: SourceVolume, name: str, folder: Path) -> None:
        """Raises NotFoundError, InputError, StoreError."""
        place = folder / f"repair-{name.removeprefix('undo-')}.json"
        known = check_reports.read(place)
        if known is None or known["id"] != name or known["taken_back"]:
            raise NotFoundError(f"repair {name}: expected a repair of this image that is not undone, got none")
        undo = image_writer.read_undo(folder / f"{name}.json")
        noted = (
            self.copies.changes(Path(own.ground.image), [(c.at, len(c.before)) for c in undo.changes])
            if known["state"] == "done"
            else None
        )
        with image_writer.target(own.ground.image) as image:
            image_writer.revert(image, undo)
        if noted:
            noted()
        check_reports.save(place, {**known, "taken_back": True})

    def of(self, ticket_id: int, orders: Sequence[Order], source: str, folder: Path) -> list[VolumeRepairOut]:
        """Newest first."""
        if source.startswith("copy-"):
            kept = [k for k in map(check_reports.read, folder.glob(f"repair-{source}-*.json")) if k]
            return [
                VolumeRepairOut(
                    id=k["id"],
                    what=self._what(k["whats"]),
                    state=k["state"],
                    at=k["at"],
                    by=k["by"],
                    size=k["size"],
                    taken_back=k["taken_back"],
                    can_take_back=not k["taken_back"],
                    reverts=False,
                    detail="",
                )
                for k in sorted(kept, key=lambda k: k["at"], reverse=True)
            ]
        back = self.paths.taken_back(ticket_id, orders)
        return [
            VolumeRepairOut(
                id=str(o.id),
                what=str(o.body["what"]),
                state=o.standing,
                at=o.done_at or o.made_at,
                by=o.made_by,
                size=sum(len(base64.b64decode(w["after"])) for w in o.body["writes"]),
                taken_back=o.id in back,
                can_take_back=can_be_taken_back(o) and o.id not in back,
                reverts=bool(o.body.get("reverts")),
                detail=o.detail,
            )
            for o in reversed(orders)
            if o.body["order"] == "mend" and o.body["kind"] == _FIX and o.body.get("disk") == source
        ]
