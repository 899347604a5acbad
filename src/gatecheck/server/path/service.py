"""The boot path of a ticket's disks: walked over what was read, read on demand until the verdict stands, mended with
the undo kept here first."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any

from gatecheck.core.capture.identity import Identity, identity_of
from gatecheck.core.capture.path import base_of, known_entries, layered, machine_of, mode_of, walk_says
from gatecheck.core.capture.read import Capture
from gatecheck.core.disk.bootpath import BIOS, UEFI
from gatecheck.core.disk.follow import follow, merge_runs, wanted_runs
from gatecheck.core.disk.known import known_plans
from gatecheck.core.disk.mend import merged
from gatecheck.core.disk.mend_entry import EntryPlan, entry_plan
from gatecheck.core.disk.owners import unread_places
from gatecheck.core.disk.plan import RepairPlan
from gatecheck.core.errors import DecodeError
from gatecheck.core.instruments.evidence import noted
from gatecheck.core.words.said import say, to_json
from gatecheck.server.captures.service import ELSEWHERE, Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.order_kinds import PATH
from gatecheck.server.link.orders import BY
from gatecheck.server.link.service import Links
from gatecheck.server.path.seen import DiskContext, SeenPath
from gatecheck.server.path.show import fix_of, path_out
from gatecheck.server.path.wire import MendOut, PathDiskOut, PathOut
from gatecheck.server.shop import Shop
from gatecheck.store import StoreError, links
from gatecheck.store.files import attachments
from gatecheck.store.links import WAITING, Order

_MOST_KEPT = 8
_LARGEST_MEND = 3 << 20
"""bytes of one mending through the link (the probe takes no more)"""
ENTRY = "entry"
_WRITING = ("mend", "entry")
"""orders that change something on the machine"""
_FIXES = ("restore-entry", "rebuild-table", "rebuild-boot-record", "rebuild-loader")
_STOPPED_BY = ("refused", "failed", "cancelled")


class Paths:
    """The boot paths of a shop's tickets."""

    def __init__(
        self, shop: Shop, captures: Captures, linked: Links, systems_of: Callable[[int, str, int], Sequence[str]]
    ) -> None:
        """`systems_of`: installed systems, and whose they are, on the volume of a ticket's disk that begins at a
        sector."""
        self.shop, self.captures, self.orders, self.systems_of = shop, captures, linked.orders, systems_of
        linked.instruments.readers[PATH] = linked.instruments.followers[PATH] = self
        self._judged = lru_cache(_MOST_KEPT)(self._judge)

    # --- what is known -----------------------------------------------------------------------------------------

    def disks_of(self, ticket_id: int) -> list[PathDiskOut]:
        return self._disks(self._captures(ticket_id))

    def controllers(self, ticket_id: int) -> list[str]:
        """PCI classes of the machine's devices, by the newest reading that has them."""
        pci = next((c.pci for c in self._captures(ticket_id) if c.pci is not None), None)
        return [device.kind for device in pci.devices] if pci else []

    def ground_of(self, ticket_id: int, device: str) -> DiskContext | None:
        """A disk as all readings show it; None where nobody has read its start."""
        return self._ground(self._captures(ticket_id), device, "")

    def _captures(self, ticket_id: int) -> list[Capture]:
        """Newest first."""
        with self.shop.database.read() as connection:
            return [
                self.captures.decoded.capture(file.name, file.sha256) for file in attachments(connection, ticket_id)
            ]

    def _disks(self, captures: Sequence[Capture]) -> list[PathDiskOut]:
        """Disks of the newest reading of the whole machine, those from outside last."""
        newest = next((c for c in captures if c.listed is not None and c.disks), None)
        found = []
        for disk in newest.disks if newest else ():
            drive = next((d for d in newest.drives if newest.disk_of(d) is disk), None) if newest else None
            own = (drive.identity or {}) if drive else {}
            found.append(
                (
                    drive is not None and drive.bus == "usb",
                    PathDiskOut(
                        device=drive.device if drive else disk.device,
                        disk=disk.device,
                        name=str(own.get("model") or disk.device),
                    ),
                )
            )
        return [out for _, out in sorted(found, key=lambda f: f[0])]

    def _ground(
        self, captures: Sequence[Capture], device: str, mode: str, also: Sequence[tuple[dict[str, Any], bytes]] = ()
    ) -> DiskContext | None:
        base = base_of(captures, device)
        if base is None:
            return None
        capture, disk = base
        told = mode_of(capture)
        chosen = mode or told or (BIOS if disk.layout.kind == "mbr" else UEFI)
        # entries may have been written, and looked at again, since the disk was read
        firmware = next(
            (
                c.firmware
                for c in captures[: captures.index(capture) + 1]
                if c.firmware is not None
                and c.firmware.variables
                and "BootOrder" in c.firmware.variables
                and c.listed is not None
            ),
            capture.firmware,
        )
        drive = next((d for d in capture.drives if capture.disk_of(d) is disk), None)
        entries = (
            known_entries(firmware, live=False)
            if chosen == UEFI and firmware is not None and firmware.variables
            else None
        )
        return DiskContext(
            capture,
            disk,
            drive.device if drive else disk.device,
            identity_of(capture, drive, disk.device) if drive else Identity("", "", "", None),
            layered(captures, base, also),
            chosen,
            told is not None,
            machine_of(capture),
            entries,
            bool(firmware and firmware.secure_boot) and chosen == UEFI,
            firmware,
        )

    def _seen(self, ticket_id: int, device: str, mode: str) -> SeenPath | None:
        with self.shop.database.read() as connection:
            kept = tuple((file.name, file.sha256) for file in attachments(connection, ticket_id))
        return self._judged(kept, device, mode)

    def _judge(self, kept: tuple[tuple[str, str], ...], device: str, mode: str) -> SeenPath | None:
        """By the files it rests on: the same for the same ones."""
        ground = self._ground([self.captures.decoded.capture(*file) for file in kept], device, mode)
        return _walked(ground) if ground else None

    # --- for the browser ---------------------------------------------------------------------------------------

    def view(self, ticket_id: int, device: str = "", mode: str = "") -> PathOut:
        """The path of one disk, of the machine's own where none is named. Raises NotFoundError."""
        ticket = self.captures.tickets.ticket(ticket_id)
        disks = self._disks(self._captures(ticket_id))
        own = (
            next((d for d in disks if device in (d.device, d.disk)), None)
            if device
            else next(
                (d for d in disks if self.captures.is_the_machines(ticket_id, d.device)), disks[0] if disks else None
            )
        )
        seen = self._seen(ticket_id, own.disk, mode) if own else None
        with self.shop.database.read() as connection:
            orders, link = links.orders_of(connection, ticket_id), links.link_of(connection, ticket_id)
        running = next((o for o in orders if o.body["order"] == "sectors" and o.state == WAITING), None)
        held = {move: self.orders.held(ticket_id, move) for move in ("disk-layout", *_FIXES)}
        linked = link is not None and not link.ended_at and not ticket.closed_at
        return path_out(
            seen,
            self.shop.words,
            disks=disks,
            reading=running.id if running else None,
            held=held,
            linked=linked,
            mends=self._mends(ticket_id, orders),
            fix_names={m: self.shop.model.knowledge.fixes[m].name for m in self.shop.model.knowledge.fixes},
            systems=lambda disk, first: self.systems_of(ticket_id, disk, first),
        )

    def read(self, ticket_id: int, device: str, *, by: str) -> None:
        """Have the sectors read that the walk lacks. Raises NotFoundError, StoreError."""
        seen = self._seen(ticket_id, device, "")
        if seen is None:
            raise NotFoundError(f"disk {device[:40]!r}: expected one whose start was read, got none by that name")
        with self.shop.database.read() as connection:
            if any(o.state == WAITING and o.body["order"] == "sectors" for o in links.orders_of(connection, ticket_id)):
                raise StoreError("sectors: expected no reading of them that runs, got one")
        self.orders.enqueue(
            ticket_id, {"order": "sectors", "device": seen.ground.device, "disk": seen.ground.disk.device}, by=by
        )

    def mend(self, ticket_id: int, device: str, plan: str, mode: str, *, by: str) -> None:
        """Order a plan's writes. What stands there now is in the order, which is on the bench's disk before the probe
        can pull it. Raises NotFoundError, StoreError."""
        seen = self._seen(ticket_id, device, mode)
        chosen = next((p for p in seen.known.plans if p.id == plan), None) if seen else None
        if plan == ENTRY and seen is not None and seen.entry is not None:
            self._order_entry(ticket_id, seen.ground, seen.entry, by=by)
            return
        if seen is None or chosen is None:
            raise NotFoundError(
                f"plan {plan[:60]!r}: expected one that the Path instrument shows for {device[:40]}, got none by "
                f"that "
                f"name"
            )
        disk, size = seen.ground.sectors, seen.ground.sectors.sector
        writes: list[dict[str, Any]] = []
        for at, after in merged(disk, chosen.pairs):
            span = disk.read(at // size, len(after) // size)
            try:
                before = span.whole("sectors to be written")
            except DecodeError as error:
                raise StoreError(f"mend: {error}; read the path again") from error
            writes.append(
                {"at": at, "before": base64.b64encode(before).decode(), "after": base64.b64encode(after).decode()}
            )
        if _size(writes) > _LARGEST_MEND:
            raise StoreError(
                f"mend: expected at most {_LARGEST_MEND >> 20} MiB to be written, got more: image the drive and "
                f"repair the image"
            )
        fix = fix_of(chosen, seen.followed)
        self.orders.enqueue(
            ticket_id,
            self._mend_order(seen.ground, fix, chosen, writes, starts=seen.followed.verdict.boots),
            by=by,
            to=seen.ground.who,
        )

    def _order_entry(self, ticket_id: int, ground: DiskContext, plan: EntryPlan, *, by: str) -> None:

        def coded(raw: bytes | None) -> str | None:
            return None if raw is None else base64.b64encode(raw).decode()

        writes = [{"name": w.name, "before": coded(w.before), "after": coded(w.after)} for w in plan.writes]
        body = {
            "order": "entry",
            "kind": "restore-entry",
            "device": ground.device,
            "disk": ground.disk.device,
            "plan": ENTRY,
            "what": self.shop.words.say(plan.what),
            "writes": writes,
        }
        self.orders.enqueue(ticket_id, body, by=by, to=ground.who)

    def _mend_order(
        self, ground: DiskContext, fix: str, plan: RepairPlan, writes: list[dict[str, Any]], *, starts: bool
    ) -> dict[str, Any]:
        return {
            "order": "mend",
            "kind": fix,
            "device": ground.device,
            "disk": ground.disk.device,
            "plan": plan.id,
            "what": self.shop.words.say(plan.what),
            "writes": writes,
            "starts": starts,
        }

    def starts(self, ticket_id: int, disk: str) -> bool:
        """Would this disk start as it was read, as far as the walk stands?"""
        seen = self._seen(ticket_id, disk, "")
        return seen is not None and seen.followed.stands and seen.followed.verdict.boots

    def _keeps_its_start(self, ticket_id: int, order: Order) -> None:
        """A disk that started before it was written to, and does not any more, is taken back at once."""
        if not order.body.get("starts") or order.body.get("reverts"):
            return
        seen = self._seen(ticket_id, str(order.body["disk"]), "")
        if seen is None or not seen.followed.stands or seen.followed.verdict.boots:
            return
        said = say("path.start-lost", what=str(order.body["what"]), order=order.id)
        self.captures.tickets.append_all(ticket_id, [({"note": to_json(said)}, f"lost-{order.id}")], by=BY)
        self.take_back(ticket_id, order.id, by=BY)

    def take_back(self, ticket_id: int, order_id: int, *, by: str) -> None:
        """Every byte of a mending as it was, the last write first: of any that a probe ever had, whatever was heard of
        it. A place that holds neither what was written nor what was there is left alone by the probe. Raises
        NotFoundError, StoreError."""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        done = next((o for o in orders if o.id == order_id and can_be_taken_back(o)), None)
        if done is None:
            raise NotFoundError(f"order {order_id}: expected a finished repair of this ticket, got none")
        if order_id in self.taken_back(ticket_id, orders):
            raise StoreError(f"order {order_id}: expected a repair that is not undone, got one that is")
        writes = [{**w, "before": w["after"], "after": w["before"]} for w in reversed(done.body["writes"])]
        body: dict[str, Any] = {
            name: done.body[name]
            for name in ("order", "kind", "device", "disk", "plan", "what", "first")
            if name in done.body
        }
        told = done.body.get("identity") or {"serial": done.body.get("drive")}
        to = Identity(
            str(told.get("serial") or ""), str(told.get("wwn") or ""), str(told.get("model") or ""), told.get("size")
        )
        self.orders.enqueue(ticket_id, {**body, "writes": writes, "reverts": order_id}, by=by, to=to)

    def taken_back(self, ticket_id: int, orders: Sequence[Order]) -> set[int]:
        """Orders that were taken back for sure: the bench has what was read back from every place."""
        done = [o for o in orders if o.body.get("reverts") and o.state == "done"]
        with self.shop.database.read() as connection:
            return {
                int(o.body["reverts"])
                for o in done
                if was_read_back(o, links.all_pages_of(connection, ticket_id, str(o.id)))
            }

    def _mends(self, ticket_id: int, orders: Sequence[Order]) -> list[MendOut]:
        """Newest first."""
        back = self.taken_back(ticket_id, orders)
        return [
            MendOut(
                order=o.id,
                plan=str(o.body["plan"]),
                what=str(o.body["what"]),
                fix=str(o.body["kind"]),
                state=o.standing,
                detail=o.detail,
                at=o.done_at or o.made_at,
                by=o.made_by,
                size=_size(o.body["writes"]),
                reverts=o.body.get("reverts"),
                taken_back=o.id in back,
                can_take_back=can_be_taken_back(o) and o.id not in back,
            )
            for o in reversed(orders)
            if o.body["order"] in _WRITING and o.body["kind"] in _FIXES
        ]

    # --- for the probe -----------------------------------------------------------------------------------------

    def receive(
        self, ticket_id: int, order: Order, session_id: str, at: int, parts: Sequence[bytes] | None, length: int
    ) -> None:
        """Its sectors come as pages. Raises StoreError."""
        raise StoreError(f"order {order.id}: expected its sectors as pages, got pieces of a copy")

    def report_unreadable(
        self, ticket_id: int, order: Order, session_id: str, first: int, count: int, *, careful: bool
    ) -> None:
        """The same. Raises StoreError."""
        raise StoreError(f"order {order.id}: expected its sectors as pages, got a word on those that do not read")

    def next_ranges(self, ticket_id: int, order: Order, session_id: str, *, ahead: bool = False) -> dict[str, Any]:
        """Sectors that an order needs next: first for the verdict, then for what could be mended."""
        return {"ranges": self._lacking(ticket_id, order)}

    def _lacking(self, ticket_id: int, order: Order) -> list[tuple[int, int]]:
        with self.shop.database.read() as connection:
            pages = links.all_pages_of(connection, ticket_id, str(order.id))
        ground = self._ground(self._captures(ticket_id), str(order.body["disk"]), "", pages)
        if ground is None:
            return []
        seen = _walked(ground)
        runs = list(seen.followed.wanted or seen.known.wanted)
        if runs:  # and whose disk it is, before anything is written to it
            runs = merge_runs([*runs, *unread_places(seen.ground.sectors)])
        if any(
            line["status"] == "failed" for line, _ in pages
        ):  # a drive with bad places is asked for no more than is needed
            lacking = [lba for first, count in runs for lba in range(first, first + min(count, 8))]
            runs = wanted_runs(ground.sectors, lacking, careful=True)
        tried = {
            (int(m[1]), int(m[2] or m[1]))
            for line, _ in pages
            for m in [re.search(r"lba(\d+)(?:-(\d+))?\.", str(line["path"]))]
            if m
        }
        return [(first, count) for first, count in merge_runs(runs) if (first, first + count - 1) not in tried]

    def order_ended(self, ticket_id: int, order: Order, result: str) -> None:
        """What an order that is through says to the tape: the walk where it stands, a mending as it went."""
        if order.body["order"] in _WRITING:
            self._say_mended(ticket_id, order, result)
            if order.body["order"] == "mend" and result == "done":
                self._keeps_its_start(ticket_id, order)
            if order.body["order"] == "entry" and result == "done":
                self.orders.enqueue(ticket_id, {"order": "look"}, by=BY)  # the firmware's variables as they are now
        elif order.body["order"] == "sectors" and result == "done":
            self._weigh(ticket_id, order)

    def _weigh(self, ticket_id: int, order: Order) -> None:
        device = str(order.body["device"])
        seen = self._seen(ticket_id, str(order.body["disk"]), "")
        with self.shop.database.read() as connection:
            mended = any(
                o.body["order"] in _WRITING and o.state == "done" for o in links.orders_of(connection, ticket_id)
            )
            kept = attachments(connection, ticket_id)
        if seen is None or mended or not seen.ground.told or not self.captures.is_the_machines(ticket_id, device):
            return  # after a mending it is the start that tells, and its own move
        elsewhere = any(p.id.startswith("loader") for p in seen.known.plans)
        found = walk_says(
            self.shop.shipped.knowledge.findings,
            seen.followed,
            seen.ground.sectors,
            seen.ground.mode,
            entries=seen.ground.entries,
            elsewhere=elsewhere,
        )
        rests_on = {"file": kept[0].sha256, "name": kept[0].name, "device": ELSEWHERE} if kept else {}
        entries: list[tuple[dict[str, Any], str | None]] = [
            (
                noted(
                    {"move": e["move"], "weights": e["weights"], **({"rests_on": rests_on} if rests_on else {})},
                    e["note"],
                ),
                f"path-{order.id}-{e['move']}",
            )
            for e in found
        ]
        if entries:
            self.captures.tickets.append_all(ticket_id, entries, by=BY)

    def _say_mended(self, ticket_id: int, order: Order, result: str) -> None:
        values: dict[str, Any] = {
            "what": str(order.body["what"]),
            "fix": str(order.body["kind"]),
            "bytes": _size(order.body["writes"]),
            "order": order.id,
        }
        if result == "failed" and order.may_have_written:
            said = say("path.mend-maybe", **values, why=order.detail.rstrip("."))
        else:
            said = (
                say("path.mend-stopped", **values)
                if result in _STOPPED_BY
                else say("path.mend-taken-back", **values)
                if order.body.get("reverts")
                else say("path.mend-done", **values)
            )
        self.captures.tickets.append_all(ticket_id, [({"note": to_json(said)}, f"mend-{order.id}")], by=BY)


def can_be_taken_back(order: Order) -> bool:
    """Was it ever in a probe's hands, and is it through?"""
    return (
        order.body["order"] in _WRITING
        and bool(order.body["writes"])
        and order.is_handed_out
        and order.state not in (WAITING, links.PAUSED)
    )


def was_read_back(order: Order, pages: Sequence[tuple[Mapping[str, Any], bytes]]) -> bool:
    """Did the probe show that every place of an order holds what was to be written there?"""
    shown = {str(line["path"]): data for line, data in pages if line["status"] == "ok"}
    for own in order.body["writes"]:
        after = base64.b64decode(own["after"] or "")
        if "at" in own:
            found = any(data == after and _byte_of(path, len(data)) == own["at"] for path, data in shown.items())
        else:
            found = own["after"] is None or any(
                path.startswith("efivars/") and str(own["name"]) in path and data == after
                for path, data in shown.items()
            )
        if not found:
            return False
    return True


def _byte_of(path: str, length: int) -> int | None:
    """The byte at which a page of whole sectors begins on its disk."""
    found = re.search(r"lba(\d+)-(\d+)\.", path)
    return int(found[1]) * (length // (int(found[2]) - int(found[1]) + 1)) if found else None


def _size(writes: Sequence[dict[str, Any]]) -> int:
    """Bytes that are written."""
    return sum(len(base64.b64decode(w["after"] or "")) for w in writes)


def _walked(ground: DiskContext) -> SeenPath:
    followed = follow(ground.sectors, ground.mode, machine=ground.machine, entries=ground.entries, secure=ground.secure)
    known = known_plans(
        ground.sectors, ground.mode, followed, machine=ground.machine, entries=ground.entries, secure=ground.secure
    )
    entry = None
    if (
        followed.stands
        and not followed.verdict.boots
        and not known.wanted
        and ground.firmware is not None
        and ground.entries is not None
    ):
        entry = entry_plan(
            ground.sectors, ground.firmware, ground.entries, machine=ground.machine, secure=ground.secure
        )
    return SeenPath(ground, followed, known, entry)
