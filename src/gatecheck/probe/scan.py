"""A whole drive read in the order that asks least of a failing one."""

from .read_map import BAD_ROW, LATE_MS, LEFT_ROW, READ_ROW, MapWriter, Spans
from .worker import Stopped

MOST_DEAD = 64  # sectors in a row that fail one by one: what follows is not halved any more until something reads again
MOST_BERTH = 512  # blocks: the widest berth around what does not read well
STRIPES = 4  # gaps alike and evenly apart, from which on the next one is left for last
LEAVES = (6, 19, 2, 123)  # no such address, no such device, no such file, no medium: it is off the bus
# sectors in a row of which none reads: the rest of such a place is left; after so many such places, far sooner
BARREN, MANY_DEAD = (2048, 4)
IN_VAIN = 4  # times that a gap was halved and nothing in it read: the rest of it is left
MOST_LATE = 24  # blocks in a row
# failures in a row, at the first and so often after it a place that read well is asked whether the drive is there at
# all
ASKED_AGAIN = 8
TRIES_AT_ONCE = 2  # of a single sector, then it is called unreadable
MOST_BLOCKS = 1 << 21


class Scan:
    """A whole drive or a span of it, read in the order that asks least of a failing one: first what reads well, with a
    widening berth around what does not; then the edges of each gap from both sides, halving it; then every block that
    failed, down to the sector; stripes that come again evenly, as a dead head's do, last of all. `steps` yields after
    every bit of work. Nothing is ever written.

    known: rows of a map, to go on with. keep: called with (LBA, bytes) of what was read."""

    def __init__(self, worker, sectors, block, first=0, end=None, known=(), keep=None):
        self.worker, self.block, self.keep = worker, block, keep
        self.first, self.end = first, min(end or sectors, sectors)
        self.map = MapWriter(worker.sector, sectors)
        self.tried, self.read = Spans(), Spans()
        self.failed, self.gaps, self.worst = [], [], []
        self.bad_sectors, self.hung, self.late, self.left, self.in_vain = 0, 0, 0, 0, 0
        self.ms = 0.0
        self.good = None
        self.unsure: list[tuple[int, int, float]] = []
        self.box = None
        self._restore(known)

    def _restore(self, known):
        broken = Spans()
        for kind, lba, size, blocks in known:
            end = lba + size * blocks
            if kind == READ_ROW:
                self.read.add(lba, end)
                self.tried.add(lba, end)
            elif kind == LEFT_ROW:
                self.tried.add(lba, end)
                self.left += end - lba
            elif kind == BAD_ROW:
                for place in range(blocks):
                    broken.add(lba + place * size, lba + (place + 1) * size)
                self.tried.add(lba, end)
        single = {
            lba + place for kind, lba, size, blocks in known if kind == BAD_ROW and size == 1 for place in range(blocks)
        }
        for first, end in broken.runs():
            for low, high in self.read.missing(first, end):
                lba = low
                while lba < high:
                    if lba in single:
                        self.bad_sectors += 1
                        lba += 1
                        continue
                    size = 1
                    while lba + size < high and size < self.block and lba + size not in single:
                        size += 1
                    self.failed.append((lba, size))
                    lba += size
        self.good = self.read.starts[0] if self.read.starts else None

    def steps(self):
        reached = self.tried.ends[-1] if self.tried.ends else self.first
        self.gaps = [(low, high) for low, high in self.tried.missing(self.first, min(reached, self.end))]
        for first, end in self.tried.missing(max(reached, self.first), self.end):
            for step in self._sweep(first, end):
                yield step
        for part in (self.gaps, self.worst):
            for step in self._gaps(part):
                yield step
        for step in self._pieces():
            yield step
        if self.unsure:
            self._ask()

    # --- first: all that reads well

    def _sweep(self, first, end):
        at, berth, calm = first, 0, 0
        seen: list[tuple[int, int]] = []
        while at < end:
            ahead = self._expected(seen, at)
            if ahead:
                low, high = ahead
                if low <= at:
                    high = min(high, end)
                    size = min(self.block, high - at)
                    middle = at + (high - at - size) // 2 // size * size
                    if self._one(middle, size):
                        self.worst.extend(gap for gap in ((at, middle), (middle + size, high)) if gap[0] < gap[1])
                        seen.append((low, high))
                        at = high
                    else:
                        del seen[:]  # no stripe, or no longer one there
                    yield self
                    continue
            until = min(end, ahead[0]) if ahead else end
            size = min(self.block, end - at)
            blocks = max(1, (until - at) // size)
            trouble, began = False, at
            for lba, state, code, ms, data in self.worker.run(at, size, min(blocks, 256)):
                trouble = self._took(lba, size, state, code, ms, data)
                at = lba + size
                if trouble:
                    break
            calm += (at - began) // size - trouble
            berth, calm = max(0, berth - calm // 4), calm % 4
            if trouble:
                calm = 0
                wide = min(size << berth, MOST_BERTH * self.block)
                berth = min(berth + 1, 12)
                gap = (at, min(at + wide, end))
                if gap[0] < gap[1]:
                    self.gaps.append(gap)
                self._note(seen, at - size, gap[1])
                at = gap[1]
            yield self

    @staticmethod
    def _note(seen, low, high):
        """Troubles that touch are one."""
        if seen and low <= seen[-1][1] + (high - low):
            seen[-1] = (seen[-1][0], high)
        else:
            seen.append((low, high))

    @staticmethod
    def _expected(seen, at):
        """Where the next stripe is to be expected, when the last ones were alike and evenly apart; None otherwise."""
        if len(seen) < STRIPES:
            return None
        last = seen[-STRIPES:]
        apart = [last[place + 1][0] - last[place][0] for place in range(STRIPES - 1)]
        wide = sorted(high - low for low, high in last)
        # heads are passed in serpentine order: the next but one is as far as the last but one
        if (
            abs(apart[0] - apart[2]) > 0.15 * apart[0]
            or max(apart) > 3 * min(apart)
            or wide[-1] > 2.5 * wide[0]
            or wide[-1] > 0.7 * min(apart)
        ):
            return None
        low = last[-1][0] + apart[1]
        return (low, low + wide[len(wide) // 2]) if low + wide[len(wide) // 2] > at else None

    # --- then the gaps

    def _gaps(self, gaps):
        """From both sides, then in the middle, until nothing is left; the smallest first. A stretch of which nothing
        reads, wherever it is tried, is left: `left` in the map."""
        todo = [(first, end, 0) for first, end in gaps]
        while todo:
            todo.sort(key=lambda gap: gap[0] - gap[1])
            first, end, in_vain = todo.pop()
            before = self.read.total()
            if end - first <= self.block * 8 or in_vain < IN_VAIN:
                first = self._inward(first, end)
                yield self
                end = self._outward(first, end)
                yield self
            else:
                self._leave(first, end)
                continue
            if first < end:
                size = min(self.block, end - first)
                middle = first + (end - first) // 2 // size * size
                size = min(size, end - middle)
                self._one(middle, size)
                in_vain = in_vain + 1 if self.read.total() == before else 0
                todo.extend((low, high, in_vain) for low, high in ((first, middle), (middle + size, end)) if low < high)
                yield self

    def _leave(self, first, end):
        """Not to be tried: said in the map."""
        while first < end:
            size = min(end - first, 1 << 24)
            self.map.add(LEFT_ROW, first, size, 0.01)
            self.tried.add(first, first + size)
            self.left += size
            first += size

    def _inward(self, first, end):
        while first < end:
            size = min(self.block, end - first)
            for lba, state, code, ms, data in self.worker.run(first, size, max(1, min(64, (end - first) // size))):
                trouble = self._took(lba, size, state, code, ms, data)
                first = lba + size
                if trouble:
                    return first
        return first

    def _outward(self, first, end):
        while first < end:
            size = min(self.block, end - first)
            end -= size
            if self._one(end, size):
                return end
        return end

    def _one(self, lba, size):
        """Read one piece; True where it makes trouble."""
        for at, state, code, ms, data in self.worker.run(lba, size, 1):
            return self._took(at, size, state, code, ms, data)
        return True

    # --- at last what failed, down to the sector

    def _pieces(self):
        """Piece by piece, halved until it reads or is one sector; lone ones first, what stands in a crowd last."""
        crowds: list[list[tuple[int, int]]] = []
        for lba, size in sorted(self.failed):
            if crowds and lba <= crowds[-1][-1][0] + crowds[-1][-1][1] + 4 * self.block:
                crowds[-1].append((lba, size))
            else:
                crowds.append([(lba, size)])
        dead = 0
        for crowd in sorted(crowds, key=len):
            self.failed, barren = crowd[::-1], 0
            while self.failed and barren < (BARREN if dead < MANY_DEAD else BARREN // 256):
                before = self.read.total()
                lba, size = self.failed.pop()
                if size == 1:
                    self._single(lba)
                    barren += 1
                else:
                    half = size // 2
                    self._one(lba, half)
                    self._one(lba + half, size - half)
                barren = 0 if self.read.total() > before else barren
                yield self
            # a stretch of which nothing reads stays as it is: every further read strains the drive for nothing
            dead += bool(self.failed)

    def _single(self, lba):
        for _ in range(TRIES_AT_ONCE - 1):
            for at, state, code, ms, data in self.worker.run(lba, 1, 1):
                if state == 0:
                    self._took(at, 1, state, code, ms, data)
                    return
                self._is_there(state, code)
        self.bad_sectors += 1
        self._bad(lba, 1, 0.01)

    # --- one answer

    def _took(self, lba, size, state, code, ms, data):
        """Note what a block said; True where one keeps away from what is next to it. Raises Stopped."""
        self.ms += ms
        if state == 0:
            if self.keep:
                self.keep(lba, data)
            self._sure()
            self.map.add(READ_ROW, lba, size, ms)
            self.read.add(lba, lba + size)
            self.tried.add(lba, lba + size)
            self.hung = self.in_vain = 0
            self.good = lba if self.good is None else self.good
            self.late = self.late + 1 if ms > LATE_MS else 0
            if self.late >= MOST_LATE and not self._still_there():
                raise Stopped("the drive stalls: every read takes seconds, also where it read well before")
            return ms > LATE_MS
        self._is_there(state, code)
        self._bad(lba, size, ms)
        self.tried.add(lba, lba + size)
        self.failed.append((lba, size))
        if state == 2:
            self.hung += 1
            if self.hung >= 3 and not self._still_there():
                raise Stopped("the drive stopped answering")
        return True

    def _bad(self, lba, size, ms):
        """What does not read stands in the map only once the drive has answered after it: until then it may be gone."""
        self.unsure.append((lba, size, ms))
        if self.good is None:
            self._sure()

    def _sure(self):
        for lba, size, ms in self.unsure:
            self.map.add(BAD_ROW, lba, size, ms)
        del self.unsure[:]

    def _is_there(self, state, code):
        """After a read that failed. Raises Stopped where it failed because there is no drive: that says nothing of its
        sectors."""
        if state != 1:
            return
        if code in LEAVES:
            raise Stopped("the drive dropped off the bus")
        if self.in_vain % ASKED_AGAIN == 0 and self.good is not None:
            self._ask()
        self.in_vain += 1

    def _ask(self):
        """Is the drive there at all? Raises Stopped."""
        if not self._answers():
            raise Stopped("the drive dropped off the bus")
        self._sure()

    def _answers(self):
        """Does the drive still answer at all, if only with another error than before or late? A place that read well
        before is asked."""
        answers = list(self.worker.run(self.good, 1, 1))
        return bool(answers) and answers[0][1] != 1

    def _still_there(self):
        """Does a place that read well before still read?"""
        if self.good is None:
            return False
        answers = list(self.worker.run(self.good, 1, 1))
        return bool(answers) and answers[0][1] == 0 and answers[0][3] < LATE_MS

    def done(self):
        """(sectors tried, of)."""
        own = [(max(low, self.first), min(high, self.end)) for low, high in self.tried.runs()]
        return sum(high - low for low, high in own if high > low), self.end - self.first
