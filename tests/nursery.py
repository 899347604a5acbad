"""Servers and practice machines by fork: one process has everything imported and the model compiled, each server is a
fork of it; another has the little that practice machines need, for they fork for every page they read, and the copy of
a large process takes four times as long.

A server of its own for every test then costs a tenth of a second instead of two. `python nursery.py KIND` is such a
process: it reads what to be (`gatecheck` or `practice`) and its command line as JSON from standard input, forks, and
answers with the number of the new process. What such a server starts itself, practice machines and the helper for
volumes, it asks for in the same way, over a socket that the child's own pipes come with; a server that a test starts by
its command starts them as a shop's does."""

from __future__ import annotations

import atexit
import ctypes
import gc
import json
import os
import selectors
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path
from types import SimpleNamespace
from typing import IO, Any


class Forked:
    """A process that somebody else started."""

    def __init__(self, pid: int) -> None:
        self.pid = pid

    def kill(self) -> None:
        if self.is_alive():
            os.kill(self.pid, signal.SIGKILL)

    def wait(self) -> None:
        while self.is_alive():
            time.sleep(0.005)

    def is_alive(self) -> bool:
        try:
            os.kill(self.pid, 0)
        except ProcessLookupError:
            return False
        return True


SERVERS, MACHINES = "servers", "machines"


@cache
def _nursery(kind: str) -> subprocess.Popen[str]:
    own = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}  # threads do not survive a fork
    if kind == SERVERS:
        own[_socket_of(MACHINES)] = f"gatecheck-nursery-{_nursery(MACHINES).pid}"
    else:
        own.pop("GLIBC_TUNABLES", None)  # large pages make a small process slower to copy
    nursery = subprocess.Popen(
        [sys.executable, __file__, kind], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=own
    )
    atexit.register(nursery.communicate)  # ends it: there is nothing more to read
    return nursery


def _socket_of(kind: str) -> str:
    """Name of the variable that names the socket of such a process."""
    return f"GATECHECK_NURSERY_{kind.upper()}"


def _kind_of(program: str) -> str:
    return MACHINES if "practice" in program else SERVERS


def start(*arguments: str, what: str = "gatecheck") -> Forked:
    """`gatecheck` with these arguments, or a `practice` machine, in a process of its own."""
    nursery = _nursery(_kind_of(what))
    assert nursery.stdin is not None
    assert nursery.stdout is not None
    nursery.stdin.write(json.dumps([what, *arguments]) + "\n")
    nursery.stdin.flush()
    return Forked(int(nursery.stdout.readline()))


def _die_with(parent: int) -> None:
    """Whoever started this process may be killed, or stopped by Ctrl-C: then this one goes too (prctl(2),
    PR_SET_PDEATHSIG), also where the parent went before this was asked for."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(0)


class _Child(Forked):
    """What a forked server starts, as `subprocess.Popen` would: the module after `-m`, with what comes after it."""

    def __init__(
        self, command: Sequence[str], *, stdin: int | None = None, env: Mapping[str, str], **_: object
    ) -> None:
        own: dict[str, IO[bytes]] = {}
        theirs = []
        if stdin == subprocess.PIPE:
            for name, (theirs_end, own_end) in (("stdin", os.pipe()), ("stdout", os.pipe()[::-1])):
                own[name] = os.fdopen(own_end, "wb" if name == "stdin" else "rb")
                theirs.append(theirs_end)
        self.stdin, self.stdout = own.get("stdin"), own.get("stdout")
        told = {key: value for key, value in env.items() if os.environ.get(key) != value}
        with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as asked:
            asked.connect("\0" + os.environ[_socket_of(_kind_of(command[2]))])
            socket.send_fds(asked, [json.dumps([told, *command[2:]]).encode()], theirs)
            pid = int(asked.recv(64))
        for end in theirs:
            os.close(end)
        super().__init__(pid)

    def poll(self) -> int | None:
        return None if self.is_alive() else 0

    def terminate(self) -> None:
        if self.is_alive():
            os.kill(self.pid, signal.SIGTERM)

    def wait(self, timeout: float | None = None) -> int:
        super().wait()
        return 0


_ORPHAN_SECONDS = 60.0


def _end_with(server: int, spool: str | None) -> None:
    """A practice machine goes a while after its server, as it does where that is its parent."""
    while Path(f"/proc/{server}").exists():
        time.sleep(1)
    time.sleep(_ORPHAN_SECONDS)
    os._exit(0)


def _servers() -> dict[str, Callable[[list[str]], Any]]:
    """Everything imported, and what only the first application of a process takes long for done."""
    import gatecheck.core.signal.sound
    import gatecheck.core.signal.supply
    import gatecheck.practice.sounds
    import gatecheck.server.run
    import gatecheck.server.volumes.worker_tasks
    from gatecheck.cli import main
    from gatecheck.server.practice import processes
    from gatecheck.server.volumes import worker

    with tempfile.TemporaryDirectory() as folder:
        house = gatecheck.server.run.open_services(Path(folder))
        gatecheck.server.run.create_app(house)
        house.shop.database.close()
    here = SimpleNamespace(Popen=_Child, PIPE=subprocess.PIPE, DEVNULL=subprocess.DEVNULL)
    processes.subprocess = worker.subprocess = here  # type: ignore[attr-defined]
    return {"gatecheck": main.main, "gatecheck.server.volumes.worker": lambda _: worker.main()}


def _machines() -> dict[str, Callable[[list[str]], Any]]:
    from gatecheck.practice import __main__ as practice
    from gatecheck.probe import probe

    probe.PULL_SECONDS = 0.1  # no test waits two seconds for the next order
    practice._end_with = _end_with
    practice.READS_PER_SECOND *= 3  # a disk is read in ten seconds
    return {"practice": practice.main, "gatecheck.practice": practice.main}


def _serve_forever(kind: str) -> None:
    _die_with(os.getppid())
    programs = _servers() if kind == SERVERS else _machines()
    gc.collect()
    gc.freeze()  # a fork that collects would touch, and so copy, all of it
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # the dead are nobody's to count
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as listener:
        own = os.environ[_socket_of(kind)] = f"gatecheck-nursery-{os.getpid()}"
        listener.bind("\0" + own)  # of no file: nothing stays behind
        listener.listen()
        # a thread would not survive a fork, and hold locks in it: one at a time, whoever asks
        ready = selectors.DefaultSelector()
        ready.register(0, selectors.EVENT_READ)
        ready.register(listener, selectors.EVENT_READ)
        rest = b""
        while True:
            for key, _ in ready.select():
                if key.fileobj is listener:
                    with listener.accept()[0] as asked:
                        raw, ends, _, _ = socket.recv_fds(asked, 1 << 16, 2)
                        told, what, *arguments = json.loads(raw)
                        asked.send(str(_fork(programs[what], arguments, told, ends)).encode())
                    continue
                more = os.read(0, 1 << 16)
                if not more:
                    return
                *lines, rest = (rest + more).split(b"\n")
                for line in lines:
                    what, *arguments = json.loads(line)
                    print(_fork(programs[what], arguments, {}, []), flush=True)


def _fork(program: Callable[[list[str]], Any], arguments: list[str], told: dict[str, str], ends: list[int]) -> int:
    """The number of the new process; `ends`: its standard input and output, where it has any."""
    parent = os.getpid()
    pid = os.fork()
    if pid == 0:
        _die_with(parent)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        os.environ.update(told)
        nowhere = os.open(os.devnull, os.O_RDWR)
        for place in (0, 1):
            os.dup2(ends[place] if ends else nowhere, place)
        for end in ends:
            os.close(end)
        sys.stdin = open(0, closefd=False)  # noqa: SIM115
        os._exit(program(arguments) or 0)
    for end in ends:
        os.close(end)
    return pid


if __name__ == "__main__":
    _serve_forever(sys.argv[1])
