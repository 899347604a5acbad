"""A whole drive, or a span of it, read block by block with the time that each took."""

import base64
import contextlib
import time

from .base import PageRead, Refused, geometry
from .drive_pages import drive_of, is_a_drive
from .read_map import CHUNK_ROWS, CHUNK_SECONDS, rows_of
from .scan import MOST_BLOCKS, Scan
from .words import plural, size_words
from .worker import Outbox, Stopped, Worker

SCAN_SECONDS, HEAT_SECONDS = 30.0, 60.0  # how long one read may take; how often the drive is asked how hot it is
COOLER = 5  # degrees below what it may have, from which on a drive that was too hot is read again
FLASH_HOT, DISK_HOT = 75, 60  # degrees Celsius, where the order names none
PAUSED, ENOUGH = ("paused", "from the bench"), ("done", "Stopped from the bench")
WANTED = {"pause": PAUSED}  # everything else that the bench wants ends it


def map_so_far(spool, link, order):
    """The map of an order that was begun: what the bench has of it, and what is kept here."""
    own = b"".join(spool.data(line) for line in spool.lines if line["order"] == order and line["kind"] == "read-map")
    try:
        ask = "/map?session=%s&order=%s" % (link.session, order) if link else ""
        there = base64.b64decode(link.call("GET", ask).get("map") or "") if ask else b""
    except (ValueError, TypeError):
        there = b""
    return there + own


class SurfaceScan:
    """`work`: the probe at its work. What is known of the drive already is not read again; what is read is kept as it
    comes. `copies`: what was read goes to the bench as well."""

    def __init__(self, work, order, device, copies):
        self.work, self.order, self.copies = work, order["id"], copies
        block = next(
            (b for b in work.machine.blocks() if is_a_drive(b) and (b.name == device or drive_of(b) == device)), None
        )
        if block is None:
            raise Refused("expected the drive %s, got none by that name" % device)
        self.sector, self.sectors = geometry(block)
        if not self.sectors:
            raise Refused("expected a drive of a known size, got none")
        self.size = (1 << 20) // self.sector
        while self.sectors // self.size > MOST_BLOCKS:
            self.size *= 2
        self.block, self.name = block.name, drive_of(block)
        self.span = (order.get("first") or 0, order.get("end"))
        self.minutes, self.hot = (
            order.get("minutes"),
            order.get("hot") or (FLASH_HOT if device.startswith("nvme") else DISK_HOT),
        )
        self.title = ("Imaging %s" if copies else "Surface scan of %s") % self.name
        self.degrees = None
        self.chunks = 0

    def run(self):
        """(result, detail). Raises Refused."""
        work = self.work
        work.read(self.order, sectors=False, device=self.name)  # who it is, and what it counts before
        known = map_so_far(work.spool, work.link, self.order)
        self.chunks = sum(line["order"] == self.order and line["kind"] == "read-map" for line in work.spool.lines)
        box = None
        if self.copies:
            whole = {"session": work.link.session, "order": self.order, "size": self.sectors * self.sector}
            work.link.call("POST", "/copy", whole)
            box = Outbox(work.link, self.order, self.sector)
        seconds = max(work.reader.seconds, 2.0 if work.reader.seconds < 5 else SCAN_SECONDS)
        worker = Worker(work.machine, self.block, self.sector, self.size, seconds, keep=self.copies)
        keep = box.put if box else None
        self.scan = Scan(worker, self.sectors, self.size, self.span[0], self.span[1], rows_of(known), keep)
        self.scan.box = box
        self.begun = self.told = self.kept = time.monotonic()
        self.looked, self.at_start = 0.0, self.scan.done()[0]
        ended = None
        try:
            ended = self._read()
        except Stopped as error:
            ended = ("paused", str(error))
        except Refused as error:
            if not self.copies:
                raise
            ended = ("paused", str(error))
        finally:
            worker.leave()
            with contextlib.suppress(Refused):
                self.keep_map()
            if box:
                box.end()
            work.push(patient=False)
        if ended and ended[0] == "paused":
            return ended
        if self.scan.left and not ended:
            text = "%s in stretches without a readable sector were skipped" % size_words(self.scan.left * self.sector)
            ended = ("done", text)
        work.read(self.order, sectors=False, device=self.name, again=True)  # what it counts after it
        return ended or ("done", "")

    def _read(self):
        """(result, detail) where it was ended before all was read, else None."""
        for _ in self.scan.steps():
            now = time.monotonic()
            for rule in self.RULES:
                ended = rule(self, now)
                if ended:
                    return ended
        return None

    # --- after every bit of work, in this order; what says anything ends it

    def keep_in_time(self, now):
        """What was read since the last time becomes a page, oftener at first."""
        apart = min(120.0, max(CHUNK_SECONDS, (now - self.begun) / 60)) if self.kept > self.begun else 2.0
        if now - self.kept > apart or self.scan.map.count > CHUNK_ROWS:
            self.keep_map()
            self.kept = now

    def minutes_used_up(self, now):
        """It was to take so long and no longer."""
        if self.minutes and now - self.begun > self.minutes * 60:
            return "done", "The %g minutes are used up" % self.minutes
        return None

    def not_too_hot(self, now):
        """A drive that is too hot is left alone until it has cooled down."""
        if now - self.looked <= HEAT_SECONDS:
            return None
        self.looked, self.degrees = now, self.work.heat(self.name)
        wanted = self.cooled() if self.degrees is not None and self.degrees >= self.hot else ""
        return WANTED.get(wanted, ENOUGH) if wanted else None

    def what_the_bench_wants(self, now):
        """Report progress to the bench once a second, and ask what it wants."""
        if now - self.told <= 1.0:
            return None
        self.told = now
        scan = self.scan
        done, of = scan.done()
        pace = (done - self.at_start) / max(scan.ms / 1e3, 0.1)
        lost = len(scan.failed) + scan.bad_sectors
        text = "%s: %.0f MB/s%s%s" % (
            self.title,
            pace * self.sector / 1e6,
            ", %s not read" % plural(lost, "place does", "places do") if lost else "",
            ", %d degrees" % self.degrees if self.degrees is not None else "",
        )
        left = round((of - done) / max(pace, 1) / 60, 1)
        wanted = self.work.asked(self.order, done, of, text, left, "sectors")
        return WANTED.get(wanted, ENOUGH) if wanted else None

    RULES = (keep_in_time, minutes_used_up, not_too_hot, what_the_bench_wants)

    def cooled(self):
        """Wait until the drive is five degrees below what it may have; what the bench wants instead, if it does."""
        degrees = self.hot
        text = "%s waits: %d degrees, it resumes at %d"
        while degrees is not None and degrees > self.hot - COOLER:
            done, of = self.scan.done()
            said = text % (self.title, degrees, self.hot - COOLER)
            wanted = self.work.asked(self.order, done, of, said, None, "sectors", True)
            if wanted:
                return wanted
            self.work.machine.sleep(10)
            degrees = self.work.heat(self.name)
        return ""

    def keep_map(self):
        """What was read since the last time becomes a page; of a copy only once the bench has it all."""
        work = self.work
        if self.scan.box:
            self.scan.box.drain()
        data = self.scan.map.take()
        if not data:
            return
        self.chunks += 1
        name = "%s/map-%s-%04d.gcm" % (self.name, work.link.session[:4] if work.link else "0", self.chunks)
        work.spool.add(PageRead(name, "read-map", self.name, "timed read", None), self.order, "ok", "", data)
        if work.link:
            work.push(patient=False)
