"""Orders that change something on this machine: for the drive that was confirmed, once somebody here has let it."""

import argparse
import hashlib
import os
import time

from .base import NotThisOne, PageRead, Refused, Untouched, geometry
from .drive_pages import disk_here
from .identity import Identity
from .orders import WRITES, sane_variables, sane_writes
from .settings import FILL_STEP, KEY_SECONDS
from .words import number, plain, plural, read_text, readable, safe_name, size_words
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

        def sure(who):
            self.sure(order, who)
            opened.append(who)
            self.wrote = True

        try:
            back = self.machine.rewrite(disk, sane_writes(order["writes"]), size, sure)
        except (
            Refused,
            OSError,
        ) as error:  # it may have been half done: the bench is told what stands there now, whatever that is
            self.wrote = bool(opened) and not isinstance(error, Untouched)
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
        """A drive is filled from a copy that the bench keeps, and read back against what the bench sent. Returns
        (result, detail). Where it was cut it goes on from the last place that was surely written."""
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
        mark = os.path.join(self.spool.folder, "filled-" + order["id"])
        told_before = read_text(mark).strip()
        self.wrote = bool(told_before)
        self.sure(order, self.drives_by_id().get(device, Identity(())))
        do = self.asked_surely(order["id"])  # a fill that is not wanted any more does not even open the drive
        if do:
            if do == "pause":
                return "paused", "from the bench"
            return "failed", "stopped from the bench" + (
                ": the drive is filled in part" if self.wrote else " before anything was written"
            )
        start = number(int(told_before) if told_before.isdigit() else 0, 0, whole)
        box, named = argparse.Namespace(connection=None), "%s (%s)" % (disk, order.get("drive") or device)
        self.say("Filling %s from the bench's copy: %s. Everything that is on it goes." % (named, size_words(whole)))
        begun = time.monotonic()
        # SHA-256 of each piece; nothing where it was zeros, or written before this start
        sums, told = (bytearray(32 * -(-whole // FILL_STEP)), [0.0])

        def wanted(done):
            if time.monotonic() - told[0] < 1.0:
                return ""
            told[0] = time.monotonic()
            pace = (done - start) / max(told[0] - begun, 1.0)
            left = round((2 * whole - done) / pace / 60, 1) if pace > 0 and told[0] - begun > 10.0 else None
            return self.asked(
                order["id"],
                done,
                2 * whole,
                ("Reading %s back" if done > whole else "Filling %s") % named,
                left,
                "bytes",
            )

        def kept(at):
            with open(mark, "w") as file:
                file.write(str(at))

        try:
            with self.machine.filled(disk) as own:
                self.sure(order, own.who())
                at = flushed = start - start % FILL_STEP
                # bytes of zeros from here on that the bench has told of; the connection that the last of it came by
                hole, asked_by = (0, box.connection)
                while at < whole:
                    data = None
                    if not hole:
                        data, hole = self.link.get_copy(box, order["id"], at, min(FILL_STEP, whole - at))
                        if box.connection is not asked_by:  # the bench was away: who knows what was done here meanwhile
                            asked_by = box.connection
                            self.sure(order, own.who())
                            do = self.asked_surely(order["id"])
                            if do:
                                own.flush()
                                kept(at)
                                return (
                                    ("paused", "from the bench")
                                    if do == "pause"
                                    else ("failed", "stopped from the bench: the drive is filled in part")
                                )
                    if data is None:
                        length = min(hole, whole - at, 64 * FILL_STEP)  # a pause is asked for in between
                        self.wrote = True
                        own.zero(at, length)
                        hole -= length
                    else:
                        length, hole = len(data), 0
                        self.wrote = True
                        own.write(at, data)
                        sums[at // FILL_STEP * 32 : at // FILL_STEP * 32 + 32] = hashlib.sha256(data).digest()
                    at += length
                    if at - flushed >= 64 * FILL_STEP:
                        own.flush()
                        flushed = at
                        kept(at)
                        self.sure(order, own.who())
                    do = wanted(min(at, whole))
                    if do:
                        own.flush()
                        kept(min(at, whole))
                        return (
                            ("paused", "from the bench")
                            if do == "pause"
                            else ("failed", "stopped from the bench: the drive is filled in part")
                        )
                own.flush()
                kept(whole)
                at = hole = 0
                while at < whole:
                    length = min(FILL_STEP, whole - at)
                    known = bytes(sums[at // FILL_STEP * 32 : at // FILL_STEP * 32 + 32])
                    if not hole and not any(known):
                        data, hole = self.link.get_copy(box, order["id"], at, length)
                        known = b"" if data is None else hashlib.sha256(data).digest()
                    if hole:
                        length = min(hole, whole - at, 64 * FILL_STEP)
                        is_so, hole = own.is_zero(at, length), hole - length
                    else:
                        is_so = hashlib.sha256(own.read(at, length)).digest() == known
                    if not is_so:
                        kept(0)
                        return (
                            "failed",
                            (
                                "expected to read back what was written, got other bytes at byte %d: this drive does "
                                "not "
                                "keep what it is given"
                            )
                            % at,
                        )
                    at += length
                    do = wanted(whole + at)
                    if do:
                        return (
                            ("paused", "from the bench")
                            if do == "pause"
                            else ("failed", "stopped from the bench: written, not all of it read back")
                        )
        finally:
            if box.connection is not None:
                box.connection.close()
        return "done", ""

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
                self.wrote = True
                self.machine.put_variable(name, after)
            if self.machine.variable(name) != after:
                raise Refused(
                    "%s: expected to read back what was written, got other bytes; the bench knows what was there"
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
