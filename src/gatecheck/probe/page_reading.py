"""Pages and sectors, read and kept."""

import re

from .base import PageRead, Refused, describe, geometry
from .drive_pages import disk_here, drive_jobs, drive_of, system_jobs
from .orders import MOST_RANGES, MOST_ROUNDS
from .reader import HANGS_TO_GIVE_UP
from .settings import LARGEST_PAGE, OF_THE_MEDIUM, SECTOR
from .volumes import unpacked
from .words import drive_name, size_words
from .work_base import WorkBase

TRIES = 3  # of a sector that every start needs
MOST_FAILED = 8  # sectors of one range, then the rest of it is left: every failing read strains a failing drive


class PageReading(WorkBase):
    """Pages and sectors, read and kept."""

    def read(self, order, sectors=True, device=None, drives=True, again=False):
        """Every page of the machine, or of one drive, and what each announces. A drive that hangs twice is left alone.
        `again`: also what was read for this order before."""
        done = set() if again else self.spool.done(order)
        found = drive_jobs(self.machine, sectors) if drives else {}
        if device:
            found = {name: jobs for name, jobs in found.items() if name == device}
        groups = list(found.items())
        if not device:
            groups.insert(0, ("", system_jobs(self.machine)))
        self.far = 0.0
        for place, (name, jobs) in enumerate(groups):
            hangs = 0
            title = self.title(name)
            for count, job in enumerate(jobs):
                if job.path in done:
                    self.follow(job, jobs, self.spool.newest(job.path))
                    continue
                self.hint("%s  %s" % (title, job.path))
                if hangs >= HANGS_TO_GIVE_UP:
                    status, detail, data = "skipped", "the drive did not answer %d calls before" % hangs, b""
                else:
                    status, detail, data = self.reader.run(job.call)
                hangs = hangs + 1 if status == "hung" else hangs
                # first: a probe killed here reads them again
                pieces = self.read_pieces(job, order) if job.span and status == "failed" else data
                if job.runs:
                    data = self.keep_runs(job, order, data)
                self.spool.add(job, order, status, detail, data)
                self.follow(job, jobs, pieces)
                self.far = max(self.far, (place + (count + 1) / len(jobs)) / len(groups))
                if self.link:
                    self.push(patient=False)
                    self.progress(order, int(100 * self.far), 100, job.path, patient=False)
            self.say("%s  %s" % (self.title(name), self.tally(order, name)))
        if self.link:
            self.push()

    @staticmethod
    def follow(job, jobs, data):
        """What a page announces is read next, before the pages that stood after it."""
        if job.then:
            at = jobs.index(job) + 1
            jobs[at:at] = job.then(data)

    def keep_runs(self, job, order, raw):
        """Each run of sectors as a page of its own; returns their list, which is the page that says that all are
        there."""
        size = next((geometry(b)[0] for b in self.machine.blocks() if b.name == job.device), SECTOR)
        named = []
        for lba, data in unpacked(raw, size):
            path = "%s/lba%d-%d.bin" % (job.device, lba, lba + len(data) // size - 1)
            self.spool.add(PageRead(path, "sectors", job.device, job.how, None), order, "ok", "", data)
            named.append(path)
        return "".join(path + "\n" for path in named).encode()

    def title(self, name):
        """A drive in one line: what the kernel calls it, what it calls itself, its size. The machine, where there is no
        name."""
        if not name:
            return "%-42s" % "this machine"
        block = next((b for b in self.machine.blocks() if drive_of(b) == name), None)
        told = describe(block) if block else {}
        size = int(told["size"]) * 512 if told.get("size", "").isdigit() else 0
        model = " ".join(
            filter(
                None,
                (
                    told.get("device/vendor", "").replace("ATA", ""),
                    told.get("device/model") or told.get("device/name", ""),
                ),
            )
        )
        identity = self.spool.newest(name + "/identify.bin")
        if len(identity) == 512 and any(identity[54:94]):  # the kernel keeps 16 letters of an ATA drive's name
            model = "".join(chr(identity[at ^ 1]) for at in range(54, 94)).strip()
        return "%-8s %-24s %8s" % (name, (model or "no name")[:24], size_words(size) if size else "no size")

    def tally(self, order, name):
        """What was read of a drive, in words."""
        own = [line for line in self.spool.lines if line["order"] == order and (drive_name(line["path"]) == name)]
        alone = [line for line in own if re.search(r"/lba\d+\.bin$", line["path"])]
        states = [line["status"] for line in own if line not in alone]
        parts = ["%d pages" % states.count("ok")]
        for status, words in (
            ("refused", "refused"),
            ("failed", "failed"),
            ("hung", "did not answer"),
            ("skipped", "left alone"),
        ):
            if states.count(status):
                parts.append("%d %s" % (states.count(status), words))
        if alone:
            parts.append("%d sectors cannot be read" % len(alone))
        return ", ".join(parts)

    def read_pieces(self, job, order):
        """A range of which not all can be read, sector by sector: a page for every run that could, a line for every
        sector that could not. Returns the range with zeros for those."""
        first, count, size = job.span
        read, hangs, failed = {}, 0, 0
        for lba in range(first, first + count):
            read[lba] = b""
            if hangs >= HANGS_TO_GIVE_UP or failed >= MOST_FAILED:
                continue
            for _ in range(TRIES if lba in (0, 1, first + count - 1) else 1):
                status, detail, data = self.reader.run(lambda lba=lba: self.machine.read_sector(job.device, lba, size))
                hangs += status == "hung"
                if status == "ok" or hangs >= HANGS_TO_GIVE_UP:
                    break
            if status == "ok":
                read[lba] = data
                continue
            if status == "failed" and not OF_THE_MEDIUM.search(detail):
                break  # the drive is gone, or cannot be asked so: that says nothing of its sectors
            failed += 1
            self.spool.add(
                PageRead("%s/lba%d.bin" % (job.device, lba), "sectors", job.device, "one sector", None),
                order,
                status,
                detail,
                b"",
            )
        lba = first
        while lba < first + count:
            run = b""
            start = lba
            while lba < first + count and read.get(lba):
                run += read[lba]
                lba += 1
            if run:
                self.spool.add(
                    PageRead(
                        "%s/lba%d-%d.bin" % (job.device, start, lba - 1),
                        "sectors",
                        job.device,
                        "sector by sector",
                        None,
                    ),
                    order,
                    "ok",
                    "",
                    run,
                )
            lba += 1
        return b"".join(read.get(lba) or bytes(size) for lba in range(first, first + count))

    def asked_sectors(self, order, device):
        """Sectors of a disk that the bench asks for, in rounds: what it needs next follows from what it was given."""
        disk = disk_here(order["disk"], device)
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name" % disk)
        size, total = geometry(block)
        hangs = 0
        for turn in range(MOST_ROUNDS):
            self.push()
            answer = self.link.call("GET", "/wanted?session=%s&order=%s" % (self.link.session, order["id"]))
            ranges = [
                r
                for r in answer.get("ranges", [])
                if isinstance(r, list) and len(r) == 2 and all(type(n) is int and 0 <= n < 1 << 48 for n in r)
            ][:MOST_RANGES]
            wanted = [
                (lba, min(count, LARGEST_PAGE // size))
                for lba, count in ranges
                if count and lba + count <= (total or 0)
            ]
            if not wanted:
                return
            for lba, count in wanted:
                # by the name that the bench knows the disk by, wherever it stands now
                path = "%s/lba%d-%d.bin" % (order["disk"], lba, lba + count - 1)
                job = PageRead(
                    path,
                    "sectors",
                    order["disk"],
                    "plain read",
                    lambda lba=lba, count=count: self.machine.read_at(disk, lba, count, size),
                    (lba, count, size),
                )
                status, detail, data = self.reader.run(job.call)
                if status == "ok" and len(data) < count * size:
                    status, detail, data = "failed", "%d of %d bytes" % (len(data), count * size), b""
                hangs += status == "hung"
                if hangs >= HANGS_TO_GIVE_UP:
                    raise Refused("the drive did not answer %d calls" % hangs)
                if status == "ok":
                    self.spool.add(job, order["id"], status, detail, data)
                else:
                    self.read_pieces(job, order["id"])
                self.hint("%s  %s" % (disk, path))
            self.progress(order["id"], min(turn + 1, 99), 100, "LBA %d" % wanted[-1][0], patient=False)
