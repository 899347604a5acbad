"""Orders that change something on this machine: for the drive that was confirmed, once somebody here has let it."""

import time

from .base import NotThisOne, PageRead, Refused, Untouched, geometry
from .drive_pages import disk_here
from .filling import DriveFill
from .identity import Identity
from .orders import WRITES, sane_variables, sane_writes
from .settings import KEY_SECONDS
from .words import plain, plural, readable, safe_name, size_words
from .work_base import WorkBase


class DriveWriting(WorkBase):
    """Orders that change something on this machine: for the drive that was confirmed, once somebody here has let it."""

    def find(self, order):
        """The device that the ordered drive has here and now; None where the order is for all. Raises Refused where it
        is not here, where two say that they are it, and where an order that writes does not name it: kernel names move
        between two starts, serial numbers do not."""
        device, drive = order.get("device"), order.get("drive")
        writes = order.get("order") in WRITES
        if writes and not plain(drive or "").strip("0"):
            raise NotThisOne(
                (
                    "expected the drive of an order that writes to be named by its serial number, got %s by the "
                    "kernel's "
                    "name alone; nothing was written"
                )
                % (device or "one")
            )
        if not device:
            return device
        known = self.drives_by_id()
        if not drive:
            silent = sorted(name for name, own in known.items() if not own.ids)
            if device in silent and len(silent) > 1:
                raise NotThisOne(
                    "expected one drive that does not say who it is, got %s; unplug all but one of them"
                    % " and ".join(silent)
                )
            return device
        found = sorted(name for name, own in known.items() if plain(drive) in own.ids)
        if len(found) > 1:
            raise NotThisOne(
                "expected one drive %s, got two that say they are it: %s; unplug one of them"
                % (drive, " and ".join(found))
            )
        if not found:
            raise NotThisOne("expected the drive %s, got none that says it is it" % drive)
        if writes:
            self.sure(order, known[found[0]])
        return found[0]

    def allow(self, order, device):
        """The first order that writes to a drive needs a key at this machine, with the drive's number on its screen.
        Raises Refused; returns what the bench wants instead, if it does: pause or stop."""
        drive = order.get("drive") or ""
        if plain(drive) in self.allowed:
            return ""
        own = order.get("identity") or {}
        named = " ".join(filter(None, (own.get("model"), size_words(own["size"]) if own.get("size") else "")))
        what = {
            "mend": "write %s to" % plural(len(order.get("writes") or ()), "place", "places"),
            "entry": "write boot entries of the machine that holds",
            "fill": "overwrite all of",
        }[order["order"]]
        lines = [
            "The bench wants to %s this drive:" % what,
            "",
            "    serial number  %s" % readable(drive),
            "    %s" % readable(named),
            "    here as        %s" % device,
            "",
        ]
        self.say("The bench wants to %s the drive %s. Press Y at this machine to allow it." % (what, drive))
        began, wanted = time.monotonic(), [""]

        def going():
            wanted[0] = self.asked(order["id"], 0, 100, "Press Y at the machine: serial number %s" % drive, key=True)
            return not wanted[0] and time.monotonic() - began < KEY_SECONDS

        confirm = getattr(self.machine, "confirm", None)
        if confirm is not None and confirm(lines, going):
            self.allowed.add(plain(drive))
            return ""
        if wanted[0]:
            return wanted[0]
        raise NotThisOne(
            (
                "expected somebody to press Y at the machine, with the drive's serial number %s on its screen, got "
                "another "
                "key or none; nothing was written"
            )
            % drive
        )

    def mend(self, order, device):
        """Named sectors of one disk as the bench wants them, which has what stood there on its own disk before it sends
        this."""
        disk = disk_here(order["disk"], device)
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name; nothing was written" % disk)
        size, _ = geometry(block)
        self.say(
            "Writing %d sectors of %s, as the bench has ordered."
            % (sum(len(after) for _, _, after in sane_writes(order["writes"])) // size, disk)
        )
        opened: list[Identity] = []
        wrote_before = self.wrote

        def sure(who):
            self.sure(order, who)
            opened.append(who)
            self.begins_to_write(order)

        try:
            back = self.machine.rewrite(disk, sane_writes(order["writes"]), size, sure)
        except (Refused, OSError) as error:
            # it may have been half done: the bench is told what stands there now, whatever that is
            if opened and isinstance(error, Untouched) and not wrote_before:
                self.wrote_nothing(order)
            for at, _, after in sane_writes(order["writes"]) if opened else ():
                lba, count = at // size, max(1, len(after) // size)
                status, detail, data = self.reader.run(
                    lambda lba=lba, count=count: self.machine.read_at(disk, lba, count, size)
                )
                self.sectors_page(order, lba, count, status, detail, data)
            raise
        for at, data in back:
            self.sectors_page(order, at // size, len(data) // size, "ok", "", data)

    def fill(self, order, device):
        """A drive is filled from a copy that the bench keeps. Returns (result, detail)."""
        disk, whole = disk_here(order["disk"], device), order["size"]
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name; nothing was written" % disk)
        size, total = geometry(block)
        if whole % size or whole > size * (total or 0):
            raise Refused(
                "expected a drive of at least %d bytes in sectors of %d, got %d; nothing was written"
                % (whole, size, size * (total or 0))
            )
        return DriveFill(self, order, disk, device).run()

    def write_entry(self, order):
        """A boot entry and the order of all, as the bench wants them, which has what stood there on its own disk before
        it sends this."""
        writes = sane_variables(order["writes"])
        for name, before, after in writes:
            now = self.machine.variable(name)
            if now not in (before, after):
                raise Refused(
                    "%s: expected what the bench has read, got other bytes; nothing was written" % name.split("-")[0]
                )
        for name, _, after in writes:
            if self.machine.variable(name) != after:
                self.begins_to_write(order)
                self.machine.put_variable(name, after)
            if self.machine.variable(name) != after:
                raise Refused(
                    "%s: expected to verify the written bytes, got other bytes; the bench has the old ones"
                    % name.split("-")[0]
                )
            if after is not None:
                self.spool.add(
                    PageRead("efivars/" + safe_name(name), "uefi-variable", "", "read back", None),
                    order["id"],
                    "ok",
                    "",
                    after,
                )

    def write(self, order):
        """An order that changes something here: for the drive that it names, once somebody at this machine has let it.
        Returns (result, detail)."""
        device = self.find(order)
        do = self.allow(order, device)
        if do:
            return (
                ("paused", "from the bench")
                if do == "pause" and order["order"] == "fill"
                else ("failed", "stopped from the bench before anything was written")
            )
        device = self.find(order)  # a key is waited for as long as it takes
        if order["order"] == "fill":
            return self.fill(order, device)
        if self.asked_surely(order["id"]):
            return "failed", "stopped from the bench before anything was written"
        if order["order"] == "entry":
            self.write_entry(order)
        else:
            self.mend(order, device)
        return "done", ""
