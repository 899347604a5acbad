"""Self-tests through the link: the drive runs them, whoever watches; one that runs is joined, and one that ended is
found."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from gatecheck.practice.patients import patient
from gatecheck.probe.probe import Probe
from gatecheck.probe.spool import Spool


class NoLink:
    """A bench that listens, and says once so many reports have come what it wants."""

    def __init__(self, wants: str = "", after: int = 0) -> None:
        self.wants, self.after, self.told, self.session = wants, after, [], "s"

    def call(self, method: str, path: str, body: dict[str, Any] | None = None, patient: bool = True) -> dict[str, Any]:
        if path == "/progress" and body and "unit" in body:
            self.told.append(body)
        return {"do": self.wants if len(self.told) > self.after else ""}

    def send(self, line: dict[str, Any], data: bytes, patient: bool = True) -> int:
        return int(line["seq"])


def _probe(name: str, folder: Path, link: Any = None) -> tuple[Probe, Any]:
    machine = patient(name).connected()
    return Probe(machine, Spool(str(folder)), link or NoLink(), say=lambda text: None), machine


@pytest.mark.parametrize(
    ("name", "device", "kind", "log"),
    [
        pytest.param("growing", "sda", "short", "smart-log-06.bin", marks=pytest.mark.wide),
        ("growing", "sda", "long", "smart-log-06.bin"),
        pytest.param("growing", "sda", "conveyance", "smart-log-06.bin", marks=pytest.mark.wide),
        pytest.param("sound", "nvme0", "short", "log-06.bin", marks=pytest.mark.wide),
        ("sound", "nvme0", "long", "log-06.bin"),
    ],
)
def test_each_kind_is_run_watched_and_read_back(name: str, device: str, kind: str, log: str, tmp_path: Path) -> None:
    own, _ = _probe(name, tmp_path)
    assert own.self_test("1", device, kind) == ("done", "")
    told = [body["done"] for body in own.link.told]
    assert told == sorted(told)
    assert told[0] < 100
    assert all(body["unit"] == "percent" and kind in body["text"] for body in own.link.told)
    assert any(line["path"].endswith(log) and line["status"] == "ok" for line in own.spool.lines)
    if kind != "short" and device == "sda":
        assert own.link.told[0]["minutes_left"] > (50 if kind == "long" else 1)


@pytest.mark.parametrize(("name", "device"), [("growing", "sda"), ("sound", "nvme0")])
def test_one_that_runs_already_is_joined_and_one_can_be_ended_from_the_bench(
    name: str, device: str, tmp_path: Path
) -> None:
    own, machine = _probe(name, tmp_path)
    machine.drives[device].self_test.start(2)
    began = machine.drives[device].self_test.started
    assert own.self_test("1", device, "short")[0] == "done"
    assert machine.drives[device].self_test.started == began  # no second one was started
    assert "was running" in own.link.told[0]["text"]
    own, machine = _probe(name, tmp_path / "again", NoLink("stop", 1))
    assert own.self_test("2", device, "long") == ("done", "Stopped from the bench")
    assert machine.drives[device].self_test.ending == 1


def test_a_probe_that_was_killed_finds_how_the_test_ended_and_starts_no_other(tmp_path: Path) -> None:
    own, machine = _probe("growing", tmp_path)
    machine.drives["sda"].self_test.start(1)
    (tmp_path / "started-1").touch()
    time.sleep(4.2)  # it ended meanwhile
    began = machine.drives["sda"].self_test.started
    assert own.self_test("1", "sda", "short") == ("done", "")
    assert machine.drives["sda"].self_test.started == began
    assert own.link.told == []


@pytest.mark.parametrize(
    ("nibble", "words"), [(0, ""), (1, "Aborted by a command"), (2, "Interrupted by a reset"), (7, "")]
)
def test_an_end_by_a_reset_is_told_from_one_by_a_command(nibble: int, words: str, tmp_path: Path) -> None:
    own, machine = _probe("growing", tmp_path)
    page = bytearray(machine.drives["sda"].page("smart-data"))
    page[363] = nibble << 4
    page[511] = (0x100 - sum(page[:511])) & 0xFF
    machine.drives["sda"].page = lambda kind, number=0: bytes(page)
    assert own._test_state("sda", False, "short")[2] == words


def test_a_drive_that_does_not_say_for_a_while_is_still_at_its_test(tmp_path: Path) -> None:
    own, machine = _probe("growing", tmp_path)
    usual, looks = machine.drives["sda"].page, []

    def page(kind: str, number: int = 0) -> bytes | None:
        if kind == "smart-data" and machine.drives["sda"].self_test.started and len(looks) < 3:
            raise OSError(5, "Input/output error")
        return usual(kind, number)

    sleep = machine.sleep
    machine.drives["sda"].page = page
    machine.sleep = lambda seconds: (looks.append(seconds), sleep(seconds))[1]
    assert own.self_test("1", "sda", "short") == ("done", "")
    assert machine.drives["sda"].self_test.left() == 0, "its logs were read after the end"
