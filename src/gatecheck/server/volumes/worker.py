"""A helper process that works on volumes, so that a check of minutes takes nothing from the rest of the bench.

Frames of pickled values over its own standard input and output, ours on both ends: (task, arguments) in; ("told", …),
("done", value) or ("failed", sentence) out."""

from __future__ import annotations

import contextlib
import os
import pickle
import resource
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any

from gatecheck.store import StoreError

Told = Callable[[str, int, int], None]
_MOST_FRAME = 1 << 31


class WorkerProcess:
    """One at a time. A process that died under a task is started again and given it once more: each goes on with what
    is read and copied so far."""

    def __init__(self) -> None:
        self._lock, self._closed = threading.Lock(), False
        self._process: subprocess.Popen[bytes] | None = None

    def run(self, task: str, *arguments: Any, told: Told = lambda _stage, _done, _of: None) -> Any:
        """What the task returns. Raises StoreError where it could not be done."""
        with self._lock:
            tries = 2
            while True:
                try:
                    return self._answer(self._running(), task, arguments, told)
                except (OSError, EOFError, pickle.UnpicklingError) as error:
                    self._end()
                    tries -= 1
                    if not tries or self._closed:
                        raise StoreError(
                            f"{task}: expected an answer of the helper, got none twice; it was ended "
                            f"({type(error).__name__})"
                        ) from error

    @staticmethod
    def _answer(process: subprocess.Popen[bytes], task: str, arguments: tuple[Any, ...], told: Told) -> Any:
        assert process.stdin is not None
        assert process.stdout is not None
        _put(process.stdin, (task, arguments))
        while True:
            kind, value = _got(process.stdout)
            if kind == "told":
                told(*value)
            elif kind == "done":
                return value
            else:
                raise StoreError(f"{task}: {value}")

    def forget(self) -> None:
        """Nothing that was derived from a customer's key stays in the helper."""
        if self._process is not None and not self._closed:
            with contextlib.suppress(StoreError):
                self.run("forget", "")

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._end()
            self._process = subprocess.Popen(
                [sys.executable, "-m", "gatecheck.server.volumes.worker"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                env={**os.environ, "OMP_NUM_THREADS": "1"},
            )
        return self._process

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for stream in (self._process.stdin, self._process.stdout):
                if stream is not None:
                    stream.close()
            self._process = None

    def close(self) -> None:
        self._closed = True
        self._end()


def _put(stream: IO[bytes], value: Any) -> None:
    raw = pickle.dumps(value)
    stream.write(len(raw).to_bytes(8, "little") + raw)
    stream.flush()


def _got(stream: IO[bytes]) -> Any:
    head = stream.read(8)
    size = int.from_bytes(head, "little")
    if len(head) < 8 or size > _MOST_FRAME:
        raise EOFError
    return pickle.loads(stream.read(size))


def main() -> None:
    from gatecheck.server.volumes.worker_tasks import TASKS

    own = os.fdopen(os.dup(1), "wb")
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))  # keys come through here: none of them ends in a dump
    os.dup2(2, 1)  # whatever prints must not break a frame
    with contextlib.suppress(OSError), Path("/proc/self/oom_score_adj").open("w") as file:
        file.write("500")  # where memory ends, this ends before the bench does
    while True:
        try:
            task, arguments = _got(sys.stdin.buffer)
        except EOFError:
            return

        def told(stage: str, done: int, of: int) -> None:
            _put(own, ("told", (stage, done, of)))

        try:
            _put(own, ("done", TASKS[task](told, *arguments)))
        except BrokenPipeError:
            os._exit(0)  # the bench is gone: there is nobody to tell
        except Exception as error:
            _put(own, ("failed", f"{type(error).__name__}: {error}"[:400]))


if __name__ == "__main__":
    main()
