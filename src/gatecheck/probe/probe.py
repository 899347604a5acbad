"""The probe: reads, keeps, sends, and works on the bench's orders."""

from .base import NotThisOne, Refused, describe
from .commands import STOP_UNIT
from .drive_pages import drive_of, is_a_drive
from .drive_writing import DriveWriting
from .orders import NEEDED, WORDS_OF, WRITES, validated_orders
from .self_tests import SelfTests
from .settings import PULL_SECONDS
from .timed_reads import TimedReads
from .words import number, readable


class Probe(TimedReads, SelfTests, DriveWriting):
    """Reads, keeps, sends. `machine` is this one, or one of the practice bench."""

    def rest(self):
        """The ticket holds its drive: what spins in the machine and is used by nobody is stopped, and stays so, for
        nothing here asks it for anything. The kernel has asked each who it is before anything of ours ran. Flash has
        nothing that wears by being awake."""
        told = []
        for block in self.machine.blocks():
            if (
                not is_a_drive(block)
                or block.bus in ("usb", "mmc", "nvme")
                or describe(block).get("queue/rotational") == "0"
            ):
                continue
            name = drive_of(block)

            if not self.machine.is_free(name):
                told.append("%s is in use here and was left alone" % name)
                continue

            def stop(name=name):
                if self.machine.scsi(name, STOP_UNIT, 0)[0]:
                    raise Refused("it refuses to")
                return b"stopped"

            status, detail, _ = self.reader.run(stop)
            told.append(
                "%s is stopped" % name
                if status == "ok"
                else "%s could not be stopped (%s): pull its plug" % (name, detail or status)
            )
        self.rested = "; ".join(told)
        if told:
            self.say(
                "The ticket holds this machine's drive. %s. Nothing here wakes it again without an order." % self.rested
            )

    def work(self, order):
        """One order of the bench. Returns (result, detail); `wrote` then says whether anything was written for it."""
        self.remember_writes(order)
        if not self.link.cleared(order):
            self.say(
                "Task %s refused: no clearance for %s."
                % (order.get("id"), NEEDED.get(order.get("order", ""), "anything"))
            )
            return "failed" if self.wrote else "refused", "no clearance for it"
        try:
            if order["order"] == "look":
                self.read(order["id"], drives=False)
            elif order["order"] == "read":
                self.read(order["id"], sectors=self.link.may_read_sectors(order), device=self.find(order))
            elif order["order"] == "sectors":
                self.asked_sectors(order, self.find(order))
            elif order["order"] in ("volume", "rescue"):
                return self.fetch(order, self.find(order))
            elif order["order"] in WRITES:
                return self.write(order)
            elif order["order"] in ("scan", "copy"):
                return self.timed_read(order, self.find(order), copies=order["order"] == "copy")
            else:
                return self.self_test(order["id"], self.find(order), order.get("kind") or "short")
        except Refused as error:
            return "refused" if isinstance(error, NotThisOne) and not self.wrote else "failed", str(error)
        except OSError as error:
            return "failed", str(error)
        return "done", self.rested if order["order"] == "look" else ""

    def linked(self, session):
        """Say hello, then work on orders until the bench ends it. Survives either side's death."""
        answer = self.link.hello(self.machine.facts(), session, len(self.spool.lines))
        self.acknowledged = number(answer.get("acknowledged"), 0, len(self.spool.lines))
        self.say("Connected to ticket %s." % readable(answer.get("ticket", "?"))[:40])
        if answer.get("rest") is True:
            self.rest()
        self.push()
        told = False
        while True:
            answer = self.link.call("GET", "/orders?session=" + self.link.session)
            orders = validated_orders(answer.get("orders"))
            for order in orders:
                result, detail = self.work(order)
                self.push()
                try:
                    self.link.call(
                        "POST",
                        "/done",
                        {
                            "session": self.link.session,
                            "order": order["id"],
                            "result": result,
                            "detail": detail,
                            "wrote": self.wrote,
                        },
                    )
                except Refused as error:  # another start of this program has the order by now
                    self.say("The bench does not take this result: %s" % error)
                self.say(
                    "%s %s%s" % (WORDS_OF.get(order.get("order"), "Order"), result, ": " + detail if detail else "")
                )
                told = False
            if not told and not orders:
                self.say(
                    "Leave this running: the bench may start tests. To end, disconnect on the ticket, or press "
                    "Ctrl+C here."
                )
                told = True
            if not orders:
                self.machine.sleep(PULL_SECONDS)
