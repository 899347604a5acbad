"""One drive filled from a copy that the bench keeps, and read back against what the bench sent."""

import argparse
import hashlib
import os
import time

from .identity import Identity
from .settings import FILL_STEP
from .words import number, read_text, size_words

AT_ONCE = 64 * FILL_STEP  # bytes of zeros, or of what was written, after which it is asked for a pause, or flushed
STOPPED = {
    "before": ("failed", "stopped from the bench before anything was written"),
    "writing": ("failed", "stopped from the bench: the drive is filled in part"),
    "reading": ("failed", "stopped from the bench: written, not all of it verified"),
}


class DriveFill:
    """`work`: the probe at its work, which says what the bench wants and who a drive is; `order`: of the bench.
    Where it was cut it goes on from the last place that was surely written; the mark in the spool says which."""

    def __init__(self, work, order, disk, device):
        self.work, self.order, self.disk, self.device = work, order, disk, device
        self.whole = order["size"]
        self.named = "%s (%s)" % (disk, order.get("drive") or device)
        self.mark = os.path.join(work.spool.folder, "filled-" + order["id"])
        self.box = argparse.Namespace(connection=None)
        # SHA-256 of each piece; nothing where it was zeros, or written before this start
        self.sums = bytearray(32 * -(-self.whole // FILL_STEP))
        self.begun = self.told = 0.0
        self.start = 0

    def run(self):
        """(result, detail). Raises Refused, OSError."""
        before = read_text(self.mark).strip()
        self.work.sure(self.order, self.work.drives_by_id().get(self.device, Identity(())))
        wanted = self.work.asked_surely(self.order["id"])
        if wanted:  # a fill that is not wanted any more does not even open the drive
            return self._ended(wanted, "writing" if self.work.wrote else "before")
        self.start = number(int(before) if before.isdigit() else 0, 0, self.whole)
        self.work.say(
            "Restoring the bench's image to %s: %s. Everything on it will be overwritten."
            % (self.named, size_words(self.whole))
        )
        self.begun = time.monotonic()
        try:
            with self.work.machine.filled(self.disk) as own:
                self.work.sure(self.order, own.who())
                return self._write(own) or self._read_back(own) or ("done", "")
        finally:
            if self.box.connection is not None:
                self.box.connection.close()

    def _write(self, own):
        """All of the copy onto the drive; (result, detail) where it was ended before, else None."""
        at = flushed = self.start - self.start % FILL_STEP
        hole, asked_by = 0, self.box.connection  # bytes of zeros from here on; the connection that told of them
        while at < self.whole:
            data = None
            if not hole:
                data, hole = self._get(at)
                if self.box.connection is not asked_by:  # the bench was away: who knows what was done here meanwhile
                    asked_by = self.box.connection
                    self.work.sure(self.order, own.who())
                    wanted = self.work.asked_surely(self.order["id"])
                    if wanted:
                        self._flush(own, at)
                        return self._ended(wanted, "writing")
            self.work.begins_to_write(self.order)
            if data is None:
                length = min(hole, self.whole - at, AT_ONCE)
                own.zero(at, length)
                hole -= length
            else:
                length, hole = len(data), 0
                own.write(at, data)
                place = at // FILL_STEP * 32
                self.sums[place : place + 32] = hashlib.sha256(data).digest()
            at += length
            if at - flushed >= AT_ONCE:
                flushed = at
                self._flush(own, at)
                self.work.sure(self.order, own.who())
            wanted = self._wanted(min(at, self.whole))
            if wanted:
                self._flush(own, min(at, self.whole))
                return self._ended(wanted, "writing")
        self._flush(own, self.whole)
        return None

    def _read_back(self, own):
        """All of the drive against what was sent; (result, detail) where it is not the same, or was ended before."""
        at = hole = 0
        while at < self.whole:
            length = min(FILL_STEP, self.whole - at)
            place = at // FILL_STEP * 32
            known = bytes(self.sums[place : place + 32])
            if not hole and not any(known):
                data, hole = self._get(at)
                known = b"" if data is None else hashlib.sha256(data).digest()
            if hole:
                length = min(hole, self.whole - at, AT_ONCE)
                is_so, hole = own.is_zero(at, length), hole - length
            else:
                is_so = hashlib.sha256(own.read(at, length)).digest() == known
            if not is_so:
                self._keep_mark(0)
                return "failed", (
                    "expected to verify the written bytes, got other bytes at byte %d: this drive does not "
                    "store its data" % at
                )
            at += length
            wanted = self._wanted(self.whole + at)
            if wanted:
                return self._ended(wanted, "reading")
        return None

    def _get(self, at):
        """(bytes of the copy, 0), or (None, how many from there are zeros)."""
        return self.work.link.get_copy(self.box, self.order["id"], at, min(FILL_STEP, self.whole - at))

    def _flush(self, own, at):
        own.flush()
        self._keep_mark(at)

    def _keep_mark(self, at):
        with open(self.mark, "w") as file:
            file.write(str(at))

    def _wanted(self, done):
        """What the bench wants, asked once a second; `done`: bytes written, and then those read back."""
        if time.monotonic() - self.told < 1.0:
            return ""
        self.told = time.monotonic()
        pace = (done - self.start) / max(self.told - self.begun, 1.0)
        left = round((2 * self.whole - done) / pace / 60, 1) if pace > 0 and self.told - self.begun > 10.0 else None
        doing = ("Verifying %s" if done > self.whole else "Restoring to %s") % self.named
        return self.work.asked(self.order["id"], done, 2 * self.whole, doing, left, "bytes")

    @staticmethod
    def _ended(wanted, when):
        return ("paused", "from the bench") if wanted == "pause" else STOPPED[when]
