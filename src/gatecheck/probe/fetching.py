"""Sectors of a volume as the bench asks for them, turn by turn."""

import collections
import os
import threading
import time

from .reader import HANGS_TO_GIVE_UP
from .scan import LEAVES, MOST_DEAD
from .settings import MEDIUM
from .words import number
from .worker import Outbox

# ranges of one turn of an order that fetches a volume's sectors; blocks that are read without a word in between
MOST_FETCHED, FETCHED_AT_ONCE = (8192, 64)


class Ahead:
    """A call to the bench that is under way while the drive is read."""

    def __init__(self, call):
        self.call, self.answer, self.failure = call, {}, None
        self.thread = threading.Thread(target=self._work, daemon=True)
        self.thread.start()

    def _work(self):
        try:
            self.answer = self.call()
        except Exception as error:
            self.failure = error

    def take(self):
        """What the bench said. Raises what the call did."""
        self.thread.join()
        if self.failure is not None:
            raise self.failure
        return self.answer


class Fetching:
    """Sectors as the bench asks for them turn by turn. While a turn is read the bench is asked for the next one, where
    it says that it may be.

    asked: called with bytes done and of, about once a second; says what the bench wants ("pause", "stop" or
    nothing)."""

    def __init__(self, link, order, worker, total, asked):
        self.link, self.order, self.worker, self.total, self.asked = link, order, worker, total, asked
        self.box = Outbox(link, order, worker.sector, keeps=False)
        self.told, self.hangs, self.dead, self.done, self.of = time.monotonic(), 0, 0, 0, 0

    def end(self):
        self.worker.leave()
        self.box.end()

    def ask(self, ahead=False):
        return self.link.call(
            "GET", "/wanted?session=%s&order=%s%s" % (self.link.session, self.order, "&ahead=1" if ahead else "")
        )

    def run(self):
        """(result, detail). Raises Gone, Refused."""
        answer = self.ask()
        while True:
            if answer.get("do") == "pause":
                return "paused", "held by the bench"
            pieces, wait = asked_pieces(answer.get("ranges"), self.total), answer.get("wait")
            if not pieces and not isinstance(wait, (int, float)):
                return "done", ""
            self.done, self.of = number(answer.get("done"), 0, 1 << 60), number(answer.get("of"), 0, 1 << 60)
            if not pieces:
                self.worker.machine.sleep(min(max(wait, 0.0), 5.0))
                ended = self.wanted()  # a turn without anything to read is one in which the bench may want a pause, too
                if ended:
                    return ended
            ahead = Ahead(lambda: self.ask(ahead=True)) if pieces and answer.get("ahead") is True else None
            while pieces:
                ended = self.read(pieces, answer.get("careful") is True)
                if ended:
                    return ended
            following = ahead.take() if ahead is not None else {}
            if not following.get("ranges"):  # what it says depends on what is still on its way
                self.box.drain()
                following = self.ask()
            answer = following

    def wanted(self):
        """How the order ends where the bench wants it to; None: it goes on."""
        if time.monotonic() - self.told <= 1.0:
            return None
        self.told = time.monotonic()
        wanted = self.asked(self.done, self.of)
        return (
            None
            if not wanted
            else ("paused", "from the bench")
            if wanted == "pause"
            else ("failed", "stopped from the bench")
        )

    def read(self, pieces, careful):
        """The first of these, and what follows it in blocks of one size. How the order ends with it, or None."""
        first, count = pieces.popleft()
        size = min(count, self.worker.block)
        end = first + min(count // size, 1 if careful else FETCHED_AT_ONCE) * size
        if end < first + count:
            pieces.appendleft((end, first + count - end))
        at, again = first, []
        for lba, state, code, _, data in self.worker.run(first, size, (end - first) // size):
            at = lba + size
            if state == 0:
                self.box.put(lba, data)
                self.done += len(data)
                self.dead = 0
            elif state == 1 and code not in MEDIUM:
                # that says nothing of its sectors
                return "paused", "the drive dropped off the bus" if code in LEAVES else "[Errno %d] %s" % (
                    code,
                    os.strerror(code),
                )
            elif (
                careful and size > 1 and state == 1 and self.dead < MOST_DEAD
            ):  # a place that never answers is not halved: gone on with, it would hang again
                again = [(lba, size // 2), (lba + size // 2, size - size // 2)]
            else:
                self.dead += careful and size == 1
                self.hangs += state == 2
                self.link.call(
                    "POST",
                    "/unread",
                    {
                        "session": self.link.session,
                        "order": self.order,
                        "first": lba,
                        "count": size,
                        "careful": careful,
                    },
                )
            if self.hangs >= HANGS_TO_GIVE_UP:
                self.box.drain()
                return "paused", "the drive did not answer %d calls" % self.hangs
            ended = self.wanted()
            if ended:
                return ended
        if at < end:
            pieces.appendleft((at, end - at))
        pieces.extendleft(reversed(again))
        return None


def asked_pieces(ranges, total):
    """(first LBA, sectors) of what the bench asks for; what is outside of the disk is left out."""
    pieces: collections.deque[tuple[int, int]] = collections.deque()
    for one in ranges[:MOST_FETCHED] if isinstance(ranges, list) else ():
        if not isinstance(one, list) or len(one) != 2 or not all(type(n) is int and 0 <= n < 1 << 48 for n in one):
            continue
        if one[0] < min(one[0] + one[1], total):
            pieces.append((one[0], min(one[0] + one[1], total) - one[0]))
    return pieces
