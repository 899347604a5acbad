"""Reads of blocks in a child, and what was read on its way to the bench."""

import argparse
import collections
import mmap
import os
import select
import signal
import struct
import threading
import time

from .read_map import LATE_MS

SLOTS = 6


class Stopped(Exception):
    """Reading ends before all was tried; it may go on later."""


class Worker:
    """A child that reads block after block past the kernel's cache and says how long each took; it stops at the first
    that fails or is late. One that hangs is left behind and another one takes its place. With `slots`, what was read
    stands in memory that both share."""

    def __init__(self, machine, device, sector, block, seconds, keep=False):
        self.machine, self.device, self.sector, self.block, self.seconds = machine, device, sector, block, seconds
        self.slots = SLOTS if keep else 1
        self.memory = mmap.mmap(-1, self.slots * block * sector)
        self.child, self.to, self.back = None, -1, -1
        self.left_behind: list[int] = []

    def start(self):
        there, to = os.pipe()
        back, here = os.pipe()
        self.child = os.fork()
        if self.child == 0:
            try:
                for descriptor in (to, back, *([self.to, self.back] if self.to >= 0 else [])):
                    os.close(descriptor)
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                self._serve(there, here)
            finally:
                os._exit(0)
        os.close(there)
        os.close(here)
        self.to, self.back = to, back

    def _serve(self, there, here):
        """In the child. An order is (LBA, sectors of a block, blocks); an answer (state, errno, milliseconds); a byte
        in between frees a slot."""
        try:
            read = self.machine.block_reader(self.device, self.sector, self.slots > 1)
        except OSError as error:
            read = None
            failure = error.errno or 5
        room = self.block * self.sector
        while True:
            raw = os.read(there, 24)
            if len(raw) < 24:
                return
            lba, size, blocks = struct.unpack("<QQQ", raw)
            for number in range(blocks):
                slot = number % self.slots
                if number >= self.slots > 1:
                    os.read(there, 1)
                began, state, code = time.perf_counter(), 0, 0
                said = None
                try:
                    if read is None:
                        raise OSError(failure, "cannot be opened")
                    said = read(
                        lba + number * size,
                        size,
                        memoryview(self.memory)[slot * room : slot * room + size * self.sector],
                    )
                except OSError as error:
                    state, code, said = 1, error.errno or 5, getattr(error, "ms", None)
                ms = (time.perf_counter() - began) * 1e3 if said is None else said
                os.write(here, struct.pack("<BHd", state, code, ms))
                if state or ms > LATE_MS:
                    for _ in range(
                        max(0, min(number, blocks - self.slots)) - max(0, number - self.slots + 1)
                        if self.slots > 1
                        else 0
                    ):
                        os.read(there, 1)  # slots that were freed and are not needed any more
                    break

    def run(self, lba, size, blocks):
        """(LBA, state, errno, milliseconds, bytes) of one block after the other, up to the first that fails or is late.
        state: 0 read, 1 failed, 2 hung."""
        if self.child is None:
            self.start()
        os.write(self.to, struct.pack("<QQQ", lba, size, blocks))
        room, number = self.block * self.sector, 0
        while number < blocks:
            raw = b""
            while len(raw) < 11:
                if not select.select([self.back], [], [], self.seconds)[0]:
                    self.leave()
                    yield lba + number * size, 2, 0, self.seconds * 1e3, b""
                    return
                part = os.read(self.back, 11 - len(raw))
                if not part:
                    self.leave()
                    yield lba + number * size, 1, 5, 0.0, b""
                    return
                raw += part
            state, code, ms = struct.unpack("<BHd", raw)
            at = number % self.slots * room
            data = b"" if state or self.slots == 1 else memoryview(self.memory)[at : at + size * self.sector]
            yield lba + number * size, state, code, ms, data
            if state or ms > LATE_MS:
                return
            number += 1
            if number < blocks and number + self.slots - 1 < blocks and self.slots > 1:
                os.write(self.to, b"+")

    def leave(self):
        """Leave the child behind: one that sleeps in the kernel cannot be waited for."""
        if self.child is None:
            return
        os.kill(self.child, signal.SIGKILL)
        self.left_behind.append(self.child)
        for descriptor in (self.to, self.back):
            os.close(descriptor)
        self.child, self.to, self.back = None, -1, -1
        self.left_behind = [child for child in self.left_behind if os.waitpid(child, os.WNOHANG) == (0, 0)]


class Outbox:
    """What was read goes to the bench from threads of its own, joined into large pieces, over connections that stay.
    `drain` waits until all of it is there: what the map says is read, the bench has."""

    # bytes of a piece, bytes that wait, threads that send: while one counts a sum the other's piece is on its way
    MOST, WAITING, HANDS = (8 << 20, 12 << 20, 2)
    # bytes of zeros that are waited for: a word for each block of an empty drive would take longer than reading it
    ZEROS = 1 << 30

    def __init__(self, link, order, sector, keeps=True):
        self.link, self.order, self.sector, self.keeps = link, order, sector, keeps
        self.parts: collections.deque[tuple[int, int, bytes | None]] = collections.deque()
        self.size, self.failure, self.ended = 0, None, False
        self.turn = threading.Condition()
        self.busy = self.draining = 0
        self.zeros = bytes(1 << 20)
        for _ in range(self.HANDS):
            threading.Thread(target=self._work, daemon=True).start()

    def put(self, lba, data):
        """Raises what went wrong before."""
        data = bytes(data)
        at = lba * self.sector
        is_zero = data == (self.zeros if len(data) == len(self.zeros) else bytes(len(data)))
        with self.turn:
            while self.size > self.WAITING and self.failure is None:
                self.turn.wait()
            if self.failure is not None:
                raise self.failure
            if is_zero and self.parts and self.parts[-1][2] is None and sum(self.parts[-1][:2]) == at:
                before, length, _ = self.parts.pop()
                self.parts.append((before, length + len(data), None))
            else:
                self.parts.append((at, len(data), None if is_zero else data))
                self.size += 0 if is_zero else len(data)
            if self._is_ready():
                self.turn.notify_all()

    def drain(self):
        with self.turn:
            self.draining += 1
            self.turn.notify_all()
            try:
                while (self.parts or self.busy) and self.failure is None:
                    self.turn.wait()
            finally:
                self.draining -= 1
            if self.failure is not None:
                raise self.failure

    def _is_ready(self):
        """There is something to send. Zeros that may go on wait for their end."""
        if not self.parts:
            return False
        _, length, data = self.parts[0]
        return data is not None or len(self.parts) > 1 or length >= self.ZEROS or self.draining > 0 or self.ended

    def end(self):
        with self.turn:
            self.ended = True
            self.turn.notify_all()

    def _work(self):
        hand = argparse.Namespace(connection=None)
        while True:
            with self.turn:
                while not self._is_ready() and not self.ended:
                    self.turn.wait()
                if not self.parts:
                    return
                at, length, data = self.parts.popleft()
                several, end = [data], at + length
                while (
                    self.parts
                    and self.parts[0][0] == end
                    and (self.parts[0][2] is None) == (data is None)
                    and (data is None or end - at + self.parts[0][1] <= self.MOST)
                ):
                    _, more, own = self.parts.popleft()
                    several.append(own)
                    end += more
                self.size -= end - at if data is not None else 0
                self.busy += 1
                self.turn.notify_all()
            data = None
            try:
                self.link.put_copy(
                    hand, self.order, at, end - at, several if several[0] is not None else None, self.keeps
                )
            except Exception as error:
                with self.turn:
                    self.failure = error
                    self.busy -= 1
                    self.turn.notify_all()
                return
            with self.turn:
                self.busy -= 1
                self.turn.notify_all()
