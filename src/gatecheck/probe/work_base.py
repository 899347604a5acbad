"""What all work of the probe has at hand."""

import contextlib
import os

from .base import Away, NotThisOne, PageRead, Refused
from .drive_pages import drive_of, is_a_drive
from .identity import Identity
from .reader import Reader


class WorkBase:
    """What all work of the probe has at hand."""

    def __init__(self, machine, spool, link=None, say=print, reader=None, hint=None):
        self.machine, self.spool, self.link, self.say = machine, spool, link, say
        self.hint = hint or (lambda text: None)
        self.reader = reader or Reader()
        self.acknowledged = 0
        self.far, self.rested = 0.0, ""
        self.minutes: dict[str, int] = {}
        self.wrote = False  # has the order that is being worked on written anything?
        self.allowed: set[str] = set()  # drives that somebody at this machine has let the bench write to

    def _write_mark(self, order):
        return os.path.join(self.spool.folder, "wrote-" + order["id"])

    def remember_writes(self, order):
        """Has an order written anything, in this start of the program or in one before it?"""
        self.wrote = os.path.exists(self._write_mark(order))

    def begins_to_write(self, order):
        """Before the first byte: who is killed after it says so when started again."""
        if not self.wrote:
            with open(self._write_mark(order), "w"):
                self.wrote = True

    def wrote_nothing(self, order):
        """It was refused after all, before its first byte."""
        self.wrote = False
        os.unlink(self._write_mark(order))

    def push(self, patient=True):
        """Send every page that the bench has not acknowledged, in order. Not `patient`: reading goes on while the bench
        is away."""
        stuck = 0
        try:
            while self.acknowledged < len(self.spool.lines):
                line = self.spool.lines[self.acknowledged]
                before = self.acknowledged
                try:
                    self.acknowledged = self.link.send(line, self.spool.data(line), patient)
                except Refused as error:  # one page that the bench does not take takes no other away
                    self.say("The bench does not take %s: %s" % (line["path"], error))
                    instead = dict(
                        line,
                        path="page-%d.bin" % line["seq"],
                        status="refused",
                        detail=("by the bench: %s" % error)[:300],
                        sha256=None,
                        size=0,
                    )
                    instead = {
                        name: value[:80] if name in ("kind", "device", "how") else value
                        for name, value in instead.items()
                    }
                    instead.update(kind=instead["kind"][:40], device=instead["device"][:40])
                    self.acknowledged = self.link.send(instead, b"", patient)
                stuck = 0 if self.acknowledged > before else stuck + 1
                if stuck > 5:
                    raise Refused("the bench takes no page and does not say why")
        except Away:
            pass

    def progress(self, order, done, of, text, left=None, patient=True):
        body = {
            "session": self.link.session,
            "order": order,
            "done": done,
            "of": of,
            "text": text,
            "minutes_left": left,
        }
        with contextlib.suppress(Away):
            self.link.call("POST", "/progress", body, patient)

    @staticmethod
    def sure(order, who):
        """Raises Refused where this is not the drive that was confirmed on the bench."""
        why = who.fits(order)
        if why:
            raise NotThisOne(why + "; nothing is written to it")

    def drives_by_id(self):
        """Who each drive is, as the kernel or the drive tells it."""
        found: dict[str, Identity] = {}
        for block in self.machine.blocks():
            if not is_a_drive(block):
                continue
            own = Identity.of(self.machine, block, run=self.reader.run)
            known = found.get(drive_of(block))
            found[drive_of(block)] = Identity(own.ids | known.ids, own.models | known.models) if known else own
        return found

    def sectors_page(self, order, lba, count, status, detail, data):
        disk = order["disk"]
        path = "%s/lba%d-%d.bin" % (disk, lba, lba + count - 1)
        self.spool.add(PageRead(path, "sectors", disk, "read back", None), order["id"], status, detail, data)

    def asked(self, order, done, of, text, left=None, unit="percent", hot=False, key=False):
        """Tell how far it is, or that somebody here has to press a key first; returns what the bench wants: "" (go on),
        pause or stop. A bench that is away wants nothing."""
        self.hint("%s  %d %%" % (text, 100 * done // max(of, 1)))
        if not self.link:
            return ""
        body = {
            "session": self.link.session,
            "order": order,
            "done": done,
            "of": of,
            "text": text[:200],
            "minutes_left": left,
            "unit": unit,
            "hot": hot,
            "key": key,
        }
        try:
            wanted = self.link.call("POST", "/progress", body, False).get("do")
        except Away:
            return ""
        return wanted if wanted in ("pause", "stop") else ""

    def asked_surely(self, order):
        """The same, of a bench that has to answer: what writes does not begin on its own."""
        if not self.link:
            return ""
        body = {
            "session": self.link.session,
            "order": order,
            "done": 0,
            "of": 100,
            "text": "",
            "minutes_left": None,
            "unit": "percent",
            "hot": False,
        }
        wanted = self.link.call("POST", "/progress", body).get("do")
        return wanted if wanted in ("pause", "stop") else ""
