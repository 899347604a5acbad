"""Calls that may hang, in a child of this program."""

import os
import pickle
import select
import signal
import time

from .base import Refused
from .settings import CALL_SECONDS

HANGS_TO_GIVE_UP = 2


class Reader:
    """Runs calls in a child, so that one that never returns is left behind. A killed child may stay asleep in the
    kernel; nobody waits for it."""

    def __init__(self, seconds=CALL_SECONDS):
        self.seconds, self.left_behind = seconds, []

    def run(self, call):
        """(status, detail, bytes): status is ok, refused, failed or hung."""
        parent_end, child_end = os.pipe()
        child = os.fork()
        if child == 0:
            status = 1
            try:
                os.close(parent_end)
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                with os.fdopen(child_end, "wb") as out:
                    pickle.dump(self._answer(call), out, protocol=4)
                status = 0
            finally:
                os._exit(status)
        os.close(child_end)
        answer = self._wait(parent_end)
        os.close(parent_end)
        if answer is None:
            os.kill(child, signal.SIGKILL)
            self.left_behind.append(child)
            self._reap()
            return "hung", "no answer within %g s" % self.seconds, b""
        os.waitpid(child, 0)
        return answer if answer else ("failed", "the reading process died", b"")

    @staticmethod
    def _answer(call):
        try:
            return "ok", "", call()
        except Refused as error:
            return "refused", str(error), b""
        except Exception as error:
            return "failed", "%s: %s" % (type(error).__name__, error), b""

    def _wait(self, descriptor):
        """The child's answer; None where it did not come in time, () where the child died."""
        raw, until = b"", time.monotonic() + self.seconds
        while True:
            left = until - time.monotonic()
            if left <= 0 or not select.select([descriptor], [], [], left)[0]:
                return None
            part = os.read(descriptor, 1 << 16)
            if not part:
                break
            raw += part
        try:
            return pickle.loads(raw)
        except Exception:
            return ()

    def _reap(self):
        self.left_behind = [child for child in self.left_behind if os.waitpid(child, os.WNOHANG) == (0, 0)]
