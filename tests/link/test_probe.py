"""The probe by itself: what it sends, what it keeps, and what it does with drives that refuse, fail or hang."""

from __future__ import annotations

import ast
import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from gatecheck.files import read_path
from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.probe import gatecheck_probe as probe
from reading import read_capture, read_document

FILE = Path(probe.__file__)


def test_it_is_one_file_that_old_pythons_read_and_that_needs_nothing() -> None:
    tree = ast.parse(FILE.read_text(encoding="utf-8"), feature_version=(3, 8))
    names = {a.name for n in ast.walk(tree) if isinstance(n, ast.Import) for a in n.names}
    names |= {n.module or "" for n in ast.walk(tree) if isinstance(n, ast.ImportFrom)}
    assert {name.split(".")[0] for name in names} <= set(sys.stdlib_module_names)
    assert not [n for n in ast.walk(tree) if isinstance(n, ast.Match | ast.NamedExpr)]
    ran = subprocess.run([sys.executable, "-I", str(FILE)], capture_output=True, text=True, check=False, cwd="/")
    assert (ran.returncode, ran.stderr.count("\n"), "expected --out" in ran.stderr) == (2, 1, True)


# SAT-4, tables 145 and 147; ACS-4 for the commands
COMMANDS = [
    ("identify", probe.ata_command_16(4, 0xEC, 0, 1, 0), "85 08 0e 00 00 00 01 00 00 00 00 00 00 00 ec 00"),
    ("smart data", probe.ata_command_16(4, 0xB0, 0xD0, 1, 0xC24F00), "85 08 0e 00 d0 00 01 00 00 00 4f 00 c2 00 b0 00"),
    ("smart log 06h", probe.ata_command_16(4, 0xB0, 0xD5, 1, 0xC24F06), "85 08 0e 00 d5 00 01 00 06 00 4f 00 c2 00 b0 00"),
    ("smart status", probe.ata_command_16(3, 0xB0, 0xDA, 0, 0xC24F00, registers=True), "85 06 20 00 da 00 00 00 00 00 4f 00 c2 00 b0 00"),
    ("log ext 04h, page 7", probe.ata_command_16(4, 0x2F, 0, 1, 0x0704), "85 09 0e 00 00 00 01 00 04 00 07 00 00 00 2f 00"),
    ("identify, 12", probe.ata_command_12(4, 0xEC, 0, 1, 0), "a1 08 0e 00 01 00 00 00 00 ec 00 00"),
    ("smart data, 12", probe.ata_command_12(4, 0xB0, 0xD0, 1, 0xC24F00), "a1 08 0e d0 01 00 4f c2 00 b0 00 00"),
]


@pytest.mark.parametrize(("command", "wanted"), [c[1:] for c in COMMANDS], ids=[c[0] for c in COMMANDS])
def test_commands_are_laid_out_as_the_standard_says(command: bytes, wanted: str) -> None:
    assert command.hex(" ") == wanted


@pytest.mark.parametrize(
    ("sense", "wanted"),
    [("70 00 05 00 00 00 00 0a 00 00 00 00 20 00", (5, 0x20, 0)), ("72 0b 11 04 00 00 00 00", (0xB, 0x11, 4)), ("", (0, 0, 0)), ("72 01", (0, 0, 0))],
)
def test_sense_is_read_in_both_formats(sense: str, wanted: tuple[int, int, int]) -> None:
    assert probe.sense_of(bytes.fromhex(sense)) == wanted


def read_out(name: str, folder: Path, *, wait: float = 3.0) -> tuple[dict[str, bytes], list[dict[str, Any]]]:
    """A practice machine's capture, and the probe's own lines about it."""
    out = folder / "machine.gcap"
    status = probe.main(["--out", str(out), "--spool", str(folder / "spool"), "--wait", str(wait)], machine=patient(name).connected(), say=lambda text: None)
    assert status == 0
    lines = [json.loads(text) for text in (folder / "spool" / "pages.jsonl").read_text().splitlines()]
    return read_path(str(out)), lines


@pytest.mark.parametrize("name", [p.id for p in PATIENTS if p.id != "hangs"])
def test_every_patient_is_read_whole(name: str, tmp_path: Path) -> None:
    """What the capture says is what the simulated machine is."""
    files, lines = read_out(name, tmp_path)
    machine = patient(name).connected()
    assert {line["status"] for line in lines} <= {"ok", "refused", "failed"}
    assert {line["path"] for line in lines if line["status"] == "ok"} == set(files) - {"manifest.json"}
    said = read_document(files)
    by_device = {d["device"]: d for d in said["devices"]}  # type: ignore[attr-defined]
    for device, drive in machine.drives.items():
        if drive.bus in ("usb", "scsi"):
            assert by_device[device]["findings"][0]["id"] == ("bridge-hides-pages" if drive.bus == "usb" else "no-pages")
            continue
        identity = by_device[device]["identity"]
        assert (identity["serial"], identity["model"], identity["capacity"]) == (drive.serial, drive.model, drive.disk.capacity)  # type: ignore[union-attr]
    assert (said["firmware"] is not None) == bool(machine.pages)
    assert not [p for p in said["pages"] if p["status"] == "broken"]  # type: ignore[attr-defined]


def test_a_drive_that_hangs_hangs_a_child_only(tmp_path: Path) -> None:
    began = time.monotonic()
    files, lines = read_out("hangs", tmp_path, wait=3.0)  # long enough for every other page on a loaded machine
    assert time.monotonic() - began < 60
    hung = [line for line in lines if line["status"] == "hung"]
    assert [(line["path"], line["sha256"]) for line in hung] == [("sda/smart-log-06.bin", None)]
    assert [line["status"] for line in lines if line["path"] == "sda/gp-log-04.bin"] == ["ok"], "the next page is read all the same"
    page = next(p for p in read_capture(files).pages if p.path == "sda/smart-log-06.bin")
    assert (page.status, "no answer within 3 s" in str(page.detail)) == ("failed", True)


def test_a_drive_that_hangs_twice_is_left_alone(tmp_path: Path) -> None:
    machine = patient("hangs").connected()
    spool = probe.Spool(str(tmp_path))
    worker = probe.Probe(machine, spool, None, lambda text: None, probe.Reader(2.0))
    machine.drives["sda"].hangs_on = "smart-data"  # type: ignore[union-attr]
    worker.read("first", device="sda")
    assert [line["status"] for line in spool.lines if line["status"] in ("hung", "skipped")] == ["hung"]
    machine.scsi = lambda *a: time.sleep(60)  # type: ignore[assignment, method-assign, return-value]
    worker.read("second", device="sda")
    states = [line["status"] for line in spool.lines if line["order"] == "second"]
    assert states[:3] == ["hung", "hung", "skipped"]
    assert set(states[2:]) == {"skipped"}
    assert worker.reader.left_behind == [] or all(isinstance(c, int) for c in worker.reader.left_behind)


def test_a_killed_probe_goes_on_where_it_was(tmp_path: Path) -> None:
    _, lines = read_out("cable", tmp_path)
    record = tmp_path / "spool" / "pages.jsonl"
    kept = record.read_text().splitlines()[:20]
    record.write_text("\n".join(kept) + '\n{"seq": 21, "path": "sda/id')  # killed while it wrote a line
    asked: list[tuple[str, bytes]] = []
    machine = patient("cable").connected()
    answer = machine.scsi
    machine.scsi = lambda d, c, n: asked.append((d, c)) or answer(d, c, n)  # type: ignore[assignment, func-returns-value, method-assign]
    out = tmp_path / "again.gcap"
    worker = probe.Probe(machine, probe.Spool(str(tmp_path / "spool")), None, lambda text: None, _Inline())
    worker.read("offline")
    worker.spool.write_capture(str(out), machine.facts())
    assert [line["path"] for line in worker.spool.lines] == [line["path"] for line in lines]
    done = {line["path"] for line in map(json.loads, kept)}
    assert "sda/identify.bin" in done
    assert not [c for d, c in asked if d == "sda" and c[14:15] == b"\xec"], "what was read is not read again"
    assert set(read_path(str(out))) == {line["path"] for line in lines if line["status"] == "ok"} | {"manifest.json"}


class _Inline(probe.Reader):  # type: ignore[misc]
    """Runs calls in this process, so that a test can count them."""

    def run(self, call: Any) -> tuple[str, str, bytes]:
        found: tuple[str, str, bytes] = self._answer(call)
        return found


def test_without_sectors_nothing_is_read_from_the_medium(tmp_path: Path) -> None:
    machine = patient("growing").connected()
    machine.read_at = lambda *a: pytest.fail("the medium was read")  # type: ignore[assignment, method-assign]
    worker = probe.Probe(machine, probe.Spool(str(tmp_path)), None, lambda text: None, _Inline())
    worker.read("offline", sectors=False)
    assert not [line for line in worker.spool.lines if "lba" in line["path"] or "part" in line["path"]]
    worker.read("look", drives=False)
    assert {line["device"] for line in worker.spool.lines if line["order"] == "look"} <= {"", "sda", "sdz"}
    assert not [line for line in worker.spool.lines if line["order"] == "look" and line["path"].startswith("sd")]


def test_an_order_without_its_clearance_is_refused() -> None:
    link = probe.Link("http://127.0.0.1:9", "k7qdm-2xp45", print)
    order: dict[str, Any] = {"id": "3", "order": "self-test", "device": "sda", "kind": "long"}
    right = probe.clearance("k7qdm-2xp45", "3", "self-test", "sda", "stress")
    forged = [
        {}, {"pages": right}, {"stress": "0" * 64}, {"stress": probe.clearance("other", "3", "self-test", "sda", "stress")},
        {"stress": probe.clearance("k7qdm-2xp45", "3", "self-test", "sdb", "stress")}, {"stress": probe.clearance("k7qdm-2xp45", "4", "self-test", "sda", "stress")},
        {"stress": probe.clearance("k7qdm-2xp45", "3", "read", "sda", "stress")},
    ]  # fmt: skip
    assert link.cleared({**order, "clearances": {"stress": right}})
    assert not any(link.cleared({**order, "clearances": marks}) for marks in forged)
    assert not link.cleared({"id": "3", "order": "format", "clearances": {"": probe.clearance("k7qdm-2xp45", "3", "format", "", "")}})


@pytest.mark.skipif(os.geteuid() == 0, reason="root may read drives")
def test_it_says_that_it_must_be_root(capsys: pytest.CaptureFixture[str]) -> None:
    assert probe.main(["--out", "/tmp/x.gcap"]) == 2
    assert "as root" in capsys.readouterr().err


def test_a_second_reading_offline_is_of_its_own_moment(tmp_path: Path) -> None:
    """And one that was cut off before it was written goes on instead."""
    machine, out = patient("growing").connected(), tmp_path / "machine.gcap"
    options = ["--out", str(out), "--spool", str(tmp_path / "spool")]
    assert probe.main(options, machine=machine, say=lambda text: None) == 0
    first = read_path(str(out))["sda/smart-data.bin"]
    machine.since -= 5000
    assert probe.main(options, machine=machine, say=lambda text: None) == 0
    assert read_path(str(out))["sda/smart-data.bin"] != first
    assert len((tmp_path / "spool" / "pages.jsonl").read_text().splitlines()) == len(set((tmp_path / "spool" / "pages.jsonl").read_text().splitlines()))


def test_a_folder_that_cannot_be_written_is_said_before_anything_is_read(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    machine = patient("sound").connected()
    machine.nvme = lambda *a: pytest.fail("a drive was asked")  # type: ignore[assignment, method-assign]
    assert probe.main(["--out", str(tmp_path / "nowhere" / "m.gcap"), "--spool", str(tmp_path / "s")], machine=machine, say=lambda text: None) == 2
    assert "expected a file that can be written" in capsys.readouterr().err


def test_the_only_namespace_need_not_be_number_one(tmp_path: Path) -> None:
    files, _ = read_out("large-sectors", tmp_path)
    drive = next(d for d in read_capture(files).drives if d.device == "nvme0")
    assert (drive.pages.namespace is not None, drive.pages.namespace and drive.pages.namespace.capacity) == (True, 960_000_000_000)


@pytest.mark.parametrize(("error", "lines"), [(5, 8), (19, 0)], ids=["unreadable", "pulled"])
def test_a_drive_that_reads_nothing_is_not_strained_and_one_that_was_pulled_is_not_blamed(error: int, lines: int, tmp_path: Path) -> None:
    machine = patient("first-sector").connected()

    def fails(*asked: Any) -> bytes:
        raise OSError(error, os.strerror(error))

    machine.read_at = machine.read_sector = fails  # type: ignore[assignment, method-assign]
    worker = probe.Probe(machine, probe.Spool(str(tmp_path)), None, lambda text: None, _Inline())
    worker.read("offline", device="sda")
    alone = [line for line in worker.spool.lines if line["kind"] == "sectors"]
    assert len(alone) == 2 * lines
