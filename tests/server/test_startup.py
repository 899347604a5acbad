"""What may stand in the way of a start: one sentence, status 2, never a traceback, and no promise before it is true."""

from __future__ import annotations

import contextlib
import os
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from serving import HTTP, SCRIPT, Served, free_port


def started(*arguments: str, seconds: float = 400, **more: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [str(SCRIPT), "serve", *arguments],
        capture_output=True,
        text=True,
        timeout=seconds,
        check=False,
        env={**os.environ, **more},
    )


def refused(done: subprocess.CompletedProcess[str], words: str) -> None:
    assert (done.returncode, done.stderr.count("\n"), "Traceback" in done.stderr, "is at" in done.stdout) == (
        2,
        1,
        False,
        False,
    ), done.stderr + done.stdout
    assert words in done.stderr


def _file(folder: Path) -> Path:
    place = folder / "data"
    place.write_text("no folder")
    return place


def _no_database(folder: Path) -> Path:
    place = folder / "data"
    place.mkdir()
    (place / "gatecheck.sqlite3").write_bytes(b"this is no database at all" * 40)
    return place


def _read_only(folder: Path) -> Path:
    return Path("/proc/self")


FOLDERS: list[tuple[Callable[[Path], Path], str]] = [
    (_file, "expected a folder that can be written"),
    (_read_only, "expected a folder that can be written"),
    (_no_database, "expected a database"),
]


@pytest.mark.parametrize(("make", "words"), FOLDERS, ids=["a-file", "read-only", "no-database"])
def test_a_folder_that_will_not_do(make: Callable[[Path], Path], words: str, tmp_path: Path) -> None:
    refused(started("--port", str(free_port()), "--data", str(make(tmp_path))), words)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--port", "99999"), "--port 99999"),
        (("--host", "203.0.113.9"), "an address that this machine has not"),
        (("--host", "no.such.host.invalid"), "expected an address"),
    ],
)
def test_an_address_that_will_not_do(arguments: tuple[str, ...], words: str, tmp_path: Path) -> None:
    port = () if "--port" in arguments else ("--port", str(free_port()))
    refused(started(*arguments, *port, "--data", str(tmp_path)), words)


def test_what_is_in_the_way_is_said_before_the_program_is_read_in(tmp_path: Path) -> None:
    asked = (
        f"import sys; from gatecheck.cli.main import main; code = main(['serve', '--port', '99999', '--data', "
        f"{str(tmp_path)!r}]); print(code, 'fastapi' in sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, timeout=60, check=True)
    assert done.stdout.split() == ["2", "False"]
    assert "--port 99999" in done.stderr


def test_a_port_that_is_taken(tmp_path: Path) -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        refused(
            started("--port", str(other.getsockname()[1]), "--data", str(tmp_path)),
            "one that another program listens on",
        )


def test_a_folder_that_another_server_works_on_says_who(tmp_path: Path) -> None:
    first = Served(tmp_path / "data", by_command=True)
    first.start()
    try:
        refused(started("--port", str(free_port()), "--data", str(tmp_path / "data")), f"http://127.0.0.1:{first.port}")
    finally:
        first.stop()
    again = Served(tmp_path / "data", by_command=True)
    again.start()  # a lock dies with its process
    again.stop()


def test_a_database_that_another_program_holds(tmp_path: Path) -> None:
    (tmp_path / "data").mkdir()
    other = sqlite3.connect(tmp_path / "data" / "gatecheck.sqlite3", isolation_level=None)
    other.execute("PRAGMA locking_mode=EXCLUSIVE")
    other.execute("BEGIN EXCLUSIVE")
    try:
        refused(started("--port", str(free_port()), "--data", str(tmp_path / "data")), "database is locked")
    finally:
        other.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can mount a small disk")
def test_a_full_disk_is_said_and_loses_nothing(tmp_path: Path) -> None:
    place = tmp_path / "small"
    place.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", str(place)], capture_output=True, check=False
    ).returncode:
        pytest.skip("no small disk can be mounted here")
    server = Served(place / "data", by_command=True)
    try:
        server.start()
        kept = server.take_in("screen=no-boot-device")
        handle = os.open(place / "filler", os.O_WRONLY | os.O_CREAT)
        with contextlib.suppress(OSError):
            while True:
                os.write(handle, b"x" * 65536)
        os.close(handle)
        answers = [
            HTTP.post(
                f"{server.url}/api/tickets/{kept}/entries", json={"entry": {"note": "n" * 4000}, "by": "KT"}, timeout=30
            ).status_code
            for _ in range(60)
        ]
        assert 409 in answers
        assert set(answers) <= {201, 409}
        assert len(server.ticket(kept)["tape"]) == 1 + answers.count(201), (
            "what was acknowledged is there, what was not is not"
        )
        refused(started("--port", str(free_port()), "--data", str(place / "other")), "no space left")
        (place / "filler").unlink()
        server.append(kept, {"note": "room again"})
    finally:
        server.stop()
        time.sleep(0.2)
        subprocess.run(["umount", "-l", str(place)], check=False)
