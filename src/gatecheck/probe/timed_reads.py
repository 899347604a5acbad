"""Work that takes long: paused and stopped from the bench, and gone on with without it."""

import base64
import contextlib
import time

from .ata import log_words, smart_data_job
from .base import PageRead, Refused, geometry
from .drive_pages import disk_here, drive_of, is_a_drive
from .fetching import Fetching
from .nvme import nvme_page
from .page_reading import PageReading
from .read_map import CHUNK_ROWS, CHUNK_SECONDS, rows_of
from .scan import MOST_BLOCKS, Scan
from .words import plural, size_words
from .worker import Outbox, Stopped, Worker

SCAN_SECONDS, HEAT_SECONDS = 30.0, 60.0  # how long one read may take; how often the drive is asked how hot it is


class TimedReads(PageReading):
    """Work that takes long: paused and stopped from the bench, and gone on with without it."""

    def fetch(self, order, device):
        """Sectors of a volume as the bench asks for them turn by turn, for a look at it or for files on it. They go as
        they are read and are kept by the bench alone; what does not read at once is told, and asked for again with care
        when all else is there. Returns (result, detail)."""
        disk, number_ = disk_here(order["disk"], device), order["id"]
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name" % disk)
        size, total = geometry(block)
        title = ("Saving files of %s" if order["order"] == "rescue" else "Looking at a volume of %s") % disk

        def asked(done, of):
            return self.asked(number_, min(done, max(of, 1)), max(of, 1), title, None, "bytes")

        fetching = Fetching(
            self.link,
            number_,
            Worker(self.machine, disk, size, (1 << 20) // size, self.reader.seconds, keep=True),
            total or 0,
            asked,
        )
        try:
            return fetching.run()
        finally:
            fetching.end()

    def heat(self, device):
        """Degrees Celsius that the drive tells; None where it tells none."""
        if device.startswith("nvme"):
            status, _, data = self.reader.run(
                lambda: nvme_page(self.machine, device, 0x02, 0xFFFFFFFF, [log_words(0x02, 512)], 512)
            )
            kelvin = data[1] | data[2] << 8 if status == "ok" and len(data) == 512 else 0
            return kelvin - 273 if 220 <= kelvin <= 420 else None
        if not self.spool.newest(device + "/smart-data.bin"):
            # a drive that has not shown this page is not asked for it: it would keep the refusal in its log for good
            return None
        status, _, data = self.reader.run(smart_data_job(self.machine, device).call)
        for at in range(2, 362, 12) if status == "ok" and len(data) == 512 else ():
            if data[at] in (190, 194):
                return data[at + 5] if 5 <= data[at + 5] <= 110 else None
        return None

    def timed_read(self, order, device, copies=False):
        """Read the whole drive, or a span, block by block with its time, and keep the map: what is known of it already
        is not read again. `copies`: what was read goes to the bench as well."""
        number_, minutes, hot = (
            order["id"],
            order.get("minutes"),
            order.get("hot") or (75 if device.startswith("nvme") else 60),
        )
        block = next(
            (b for b in self.machine.blocks() if is_a_drive(b) and (b.name == device or drive_of(b) == device)), None
        )
        if block is None:
            raise Refused("expected the drive %s, got none by that name" % device)
        sector, sectors = geometry(block)
        if not sectors:
            raise Refused("expected a drive of a known size, got none")
        size = (1 << 20) // sector
        while sectors // size > MOST_BLOCKS:
            size *= 2
        name = drive_of(block)
        self.read(number_, sectors=False, device=name)  # who it is, and what it counts before
        raw = self.map_so_far(number_)
        chunks = sum(line["order"] == number_ and line["kind"] == "read-map" for line in self.spool.lines)
        box = None
        if copies:
            self.link.call("POST", "/copy", {"session": self.link.session, "order": number_, "size": sectors * sector})
            box = Outbox(self.link, number_, sector)
        worker = Worker(
            self.machine,
            block.name,
            sector,
            size,
            max(self.reader.seconds, 2.0 if self.reader.seconds < 5 else SCAN_SECONDS),
            keep=copies,
        )
        scan = Scan(
            worker, sectors, size, order.get("first") or 0, order.get("end"), rows_of(raw), box.put if box else None
        )
        scan.box = box
        began = told = flushed = time.monotonic()
        looked, degrees, at_start, ended = 0.0, None, scan.done()[0], ""
        title = ("Copying %s" if copies else "Timed read of %s") % name
        try:
            for _ in scan.steps():
                now = time.monotonic()
                if (
                    now - flushed > (min(120.0, max(CHUNK_SECONDS, (now - began) / 60)) if flushed > began else 2.0)
                    or scan.map.count > CHUNK_ROWS
                ):
                    chunks, flushed = self.keep_map(scan, number_, name, chunks), now
                if minutes and now - began > minutes * 60:
                    ended = "The %g minutes are used up" % minutes
                    break
                if now - looked > HEAT_SECONDS:
                    looked, degrees = now, self.heat(name)
                    wanted = (
                        self.cooled(number_, name, scan, hot, title) if degrees is not None and degrees >= hot else ""
                    )
                    if wanted == "pause":
                        return "paused", "from the bench"
                    if wanted:
                        ended = "Stopped from the bench"
                        break
                if now - told > 1.0:
                    told = now
                    done, of = scan.done()
                    pace = (done - at_start) / max(scan.ms / 1e3, 0.1)
                    text = "%s: %.0f MB/s%s%s" % (
                        title,
                        pace * sector / 1e6,
                        ", %s not read" % plural(len(scan.failed) + scan.bad_sectors, "place does", "places do")
                        if scan.failed or scan.bad_sectors
                        else "",
                        ", %d degrees" % degrees if degrees is not None else "",
                    )
                    wanted = self.asked(number_, done, of, text, round((of - done) / max(pace, 1) / 60, 1), "sectors")
                    if wanted == "pause":
                        return "paused", "from the bench"
                    if wanted:
                        ended = "Stopped from the bench"
                        break
        except Stopped as error:
            return "paused", str(error)
        except Refused as error:
            if not copies:
                raise
            return "paused", str(error)
        finally:
            worker.leave()
            with contextlib.suppress(Refused):
                self.keep_map(scan, number_, name, chunks)
            if box:
                box.end()
            self.push(patient=False)
        if scan.left and not ended:
            ended = "%s in stretches of which nothing reads were left" % size_words(scan.left * sector)
        self.read(number_, sectors=False, device=name, again=True)  # what it counts after it
        return "done", ended

    def cooled(self, order, device, scan, hot, title):
        """Wait until the drive is five degrees below what it may have; what the bench wants instead, if it does."""
        degrees = hot
        while degrees is not None and degrees > hot - 5:
            done, of = scan.done()
            wanted = self.asked(
                order,
                done,
                of,
                "%s waits: %d degrees, it goes on at %d" % (title, degrees, hot - 5),
                None,
                "sectors",
                True,
            )
            if wanted:
                return wanted
            self.machine.sleep(10)
            degrees = self.heat(device)
        return ""

    def map_so_far(self, order):
        """The map of an order that was begun: what the bench has of it, and what is kept here."""
        own = b"".join(
            self.spool.data(line) for line in self.spool.lines if line["order"] == order and line["kind"] == "read-map"
        )
        try:
            there = (
                base64.b64decode(
                    self.link.call("GET", "/map?session=%s&order=%s" % (self.link.session, order)).get("map") or ""
                )
                if self.link
                else b""
            )
        except (ValueError, TypeError):
            there = b""
        return there + own

    def keep_map(self, scan, order, name, chunks):
        """What was read since the last time becomes a page; of a copy only once the bench has it all. Returns how many
        there are."""
        if scan.box:
            scan.box.drain()
        data = scan.map.take()
        if data:
            chunks += 1
            self.spool.add(
                PageRead(
                    "%s/map-%s-%04d.gcm" % (name, self.link.session[:4] if self.link else "0", chunks),
                    "read-map",
                    name,
                    "timed read",
                    None,
                ),
                order,
                "ok",
                "",
                data,
            )
            if self.link:
                self.push(patient=False)
        return chunks
