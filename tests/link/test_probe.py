"""The probe by itself: what it sends, what it keeps, and what it does with drives that refuse, fail or hang."""

from __future__ import annotations

import ast
import io
import json
import os
import socket
import ssl
import subprocess
import sys
import time
import urllib.error
from pathlib import Path
from typing import Any

import pytest

from gatecheck.adapters.capture_files import read_path
from gatecheck.adapters.probe_script import probe_archive, probe_files
from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import listing, read_fat
from gatecheck.practice.drives import AtaDrive, BridgedDrive, ScsiDrive, SolderedDrive
from gatecheck.practice.patients import LOADER, PATIENTS, patient
from gatecheck.probe.base import Refused
from gatecheck.probe.commands import ata_command_12, ata_command_16, sense_of
from gatecheck.probe.console import Terminal
from gatecheck.probe.link import Link
from gatecheck.probe.main import main
from gatecheck.probe.orders import clearance
from gatecheck.probe.probe import Probe
from gatecheck.probe.reader import Reader
from gatecheck.probe.spool import Spool
from gatecheck.probe.words import reason_of
from nursery import start
from reading import read_capture, read_document


def test_it_is_one_file_that_old_pythons_read_and_that_needs_nothing(tmp_path: Path) -> None:
    for name, text in probe_files().items():
        tree = ast.parse(text, feature_version=(3, 8))
        names = {a.name for n in ast.walk(tree) if isinstance(n, ast.Import) for a in n.names}
        own = {n.module for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and n.level}
        names |= {n.module or "" for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and not n.level}
        assert {name.split(".")[0] for name in names} <= set(sys.stdlib_module_names), name
        assert {f"{module}.py" for module in own} <= probe_files().keys(), name
        assert not [n for n in ast.walk(tree) if isinstance(n, ast.Match | ast.NamedExpr)], name
    place = tmp_path / "what a shell calls it"
    place.write_bytes(probe_archive())
    assert probe_archive() == place.read_bytes()
    ran = subprocess.run([sys.executable, "-I", str(place)], capture_output=True, text=True, check=False, cwd="/")
    assert (ran.returncode, ran.stderr.count("\n"), "expected --out" in ran.stderr) == (2, 1, True)


def test_it_carries_the_bench_and_the_secret_that_it_was_handed_out_for() -> None:
    odd = "http://10.0.0.2:8765/", "7-it's \"\\n"
    scope: dict[str, object] = {}
    exec(probe_files(*odd)["address.py"], scope)
    assert (scope["SERVER"], scope["SECRET"]) == ("http://10.0.0.2:8765", odd[1])


# SAT-4, tables 145 and 147; ACS-4 for the commands
COMMANDS = [
    ("identify", ata_command_16(4, 0xEC, 0, 1, 0), "85 08 0e 00 00 00 01 00 00 00 00 00 00 00 ec 00"),
    ("smart data", ata_command_16(4, 0xB0, 0xD0, 1, 0xC24F00), "85 08 0e 00 d0 00 01 00 00 00 4f 00 c2 00 b0 00"),
    (
        "smart log 06h",
        ata_command_16(4, 0xB0, 0xD5, 1, 0xC24F06),
        "85 08 0e 00 d5 00 01 00 06 00 4f 00 c2 00 b0 00",
    ),
    (
        "smart status",
        ata_command_16(3, 0xB0, 0xDA, 0, 0xC24F00, registers=True),
        "85 06 20 00 da 00 00 00 00 00 4f 00 c2 00 b0 00",
    ),
    (
        "log ext 04h, page 7",
        ata_command_16(4, 0x2F, 0, 1, 0x0704),
        "85 09 0e 00 00 00 01 00 04 00 07 00 00 00 2f 00",
    ),
    ("identify, 12", ata_command_12(4, 0xEC, 0, 1, 0), "a1 08 0e 00 01 00 00 00 00 ec 00 00"),
    ("smart data, 12", ata_command_12(4, 0xB0, 0xD0, 1, 0xC24F00), "a1 08 0e d0 01 00 4f c2 00 b0 00 00"),
]


@pytest.mark.parametrize(("command", "wanted"), [c[1:] for c in COMMANDS], ids=[c[0] for c in COMMANDS])
def test_commands_are_laid_out_as_the_standard_says(command: bytes, wanted: str) -> None:
    assert command.hex(" ") == wanted


@pytest.mark.parametrize(
    ("sense", "wanted"),
    [
        ("70 00 05 00 00 00 00 0a 00 00 00 00 20 00", (5, 0x20, 0)),
        ("72 0b 11 04 00 00 00 00", (0xB, 0x11, 4)),
        ("", (0, 0, 0)),
        ("72 01", (0, 0, 0)),
    ],
)
def test_sense_is_read_in_both_formats(sense: str, wanted: tuple[int, int, int]) -> None:
    assert sense_of(bytes.fromhex(sense)) == wanted


def read_out(name: str, folder: Path, *, wait: float = 3.0) -> tuple[dict[str, bytes], list[dict[str, Any]]]:
    """A practice machine's capture, and the probe's own lines about it."""
    out = folder / "machine.gcap"
    start(name, "--out", str(out), "--spool", str(folder / "spool"), "--wait", str(wait), what="practice").wait()
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
        assert by_device[device]["bus"] == drive.bus
        if drive.bus in ("usb", "raid", "sd"):
            wanted = {"usb": "bridge-hides-pages", "raid": "raid-volume", "sd": "no-pages"}[drive.bus]
            assert by_device[device]["findings"][0]["id"] == wanted
        identity = by_device[device]["identity"]
        assert (identity["capacity"] or 0) == drive.disk.capacity
        if not isinstance(drive, BridgedDrive):
            model = (
                drive.name
                if isinstance(drive, SolderedDrive)
                else f"{drive.vendor} {drive.model}"
                if isinstance(drive, ScsiDrive)
                else drive.model
            )
            assert (identity["serial"], identity["model"]) == (drive.serial, model)
    assert (said["firmware"] is not None) == bool(machine.pages)
    assert not [p for p in said["pages"] if p["status"] == "broken"]  # type: ignore[attr-defined]


def test_a_drive_that_hangs_hangs_a_child_only(tmp_path: Path) -> None:
    began = time.monotonic()
    files, lines = read_out("hangs", tmp_path, wait=3.0)  # long enough for every other page on a loaded machine
    assert time.monotonic() - began < 60
    hung = [line for line in lines if line["status"] == "hung"]
    assert [(line["path"], line["sha256"]) for line in hung] == [("sda/smart-log-06.bin", None)]
    assert [line["status"] for line in lines if line["path"] == "sda/gp-log-04.bin"] == ["ok"], (
        "the next page is read all the same"
    )
    page = next(p for p in read_capture(files).pages if p.path == "sda/smart-log-06.bin")
    assert (page.status, "no answer within 3 s" in str(page.detail)) == ("failed", True)


def test_a_drive_that_hangs_twice_is_left_alone(tmp_path: Path) -> None:
    machine = patient("hangs").connected()
    spool = Spool(str(tmp_path))
    worker = Probe(machine, spool, None, lambda text: None, Reader(2.0))
    machine.drives["sda"].hangs_on = "smart-data"  # type: ignore[union-attr]
    worker.read("first", device="sda")
    assert [line["status"] for line in spool.lines if line["status"] in ("hung", "skipped")] == ["hung"]
    machine.scsi = machine.read_at = lambda *a: time.sleep(60)  # type: ignore[assignment, method-assign, return-value]
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
    worker = Probe(machine, Spool(str(tmp_path / "spool")), None, lambda text: None, _Inline())
    worker.read("offline")
    worker.spool.write_capture(str(out), machine.facts())
    assert [line["path"] for line in worker.spool.lines] == [line["path"] for line in lines]
    done = {line["path"] for line in map(json.loads, kept)}
    assert "sda/identify.bin" in done
    assert not [c for d, c in asked if d == "sda" and c[14:15] == b"\xec"], "what was read is not read again"
    assert set(read_path(str(out))) == {line["path"] for line in lines if line["status"] == "ok"} | {"manifest.json"}


class _Inline(Reader):  # type: ignore[misc]
    """Runs calls in this process, so that a test can count them."""

    def run(self, call: Any) -> tuple[str, str, bytes]:
        found: tuple[str, str, bytes] = self._answer(call)
        return found


def test_without_sectors_nothing_is_read_from_the_medium(tmp_path: Path) -> None:
    machine = patient("growing").connected()
    machine.read_at = lambda *a: pytest.fail("the medium was read")  # type: ignore[assignment, method-assign]
    worker = Probe(machine, Spool(str(tmp_path)), None, lambda text: None, _Inline())
    worker.read("offline", sectors=False)
    assert not [line for line in worker.spool.lines if "lba" in line["path"] or "part" in line["path"]]
    worker.read("look", drives=False)
    assert {line["device"] for line in worker.spool.lines if line["order"] == "look"} <= {"", "sda", "sdz"}
    assert not [line for line in worker.spool.lines if line["order"] == "look" and line["path"].startswith("sd")]


def test_an_order_without_its_clearance_is_refused() -> None:
    link = Link("http://127.0.0.1:9", "k7qdm-2xp45", print)
    order: dict[str, Any] = {"id": "3", "order": "self-test", "device": "sda", "kind": "long"}
    right = clearance("k7qdm-2xp45", "3", "self-test", "sda", "stress")
    forged = [
        {},
        {"pages": right},
        {"stress": "0" * 64},
        {"stress": clearance("other", "3", "self-test", "sda", "stress")},
        {"stress": clearance("k7qdm-2xp45", "3", "self-test", "sdb", "stress")},
        {"stress": clearance("k7qdm-2xp45", "4", "self-test", "sda", "stress")},
        {"stress": clearance("k7qdm-2xp45", "3", "read", "sda", "stress")},
    ]
    assert link.cleared({**order, "clearances": {"stress": right}})
    assert not any(link.cleared({**order, "clearances": marks}) for marks in forged)
    assert not link.cleared(
        {"id": "3", "order": "format", "clearances": {"": clearance("k7qdm-2xp45", "3", "format", "", "")}}
    )


@pytest.mark.skipif(os.geteuid() == 0, reason="root may read drives")
def test_it_says_that_it_must_be_root(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["--out", "/tmp/x.gcap"]) == 2
    assert "as root" in capsys.readouterr().err


def test_a_second_reading_offline_is_of_its_own_moment(tmp_path: Path) -> None:
    """And one that was cut off before it was written goes on instead."""
    machine, out = patient("growing").connected(), tmp_path / "machine.gcap"
    options = ["--out", str(out), "--spool", str(tmp_path / "spool")]
    assert main(options, machine=machine, say=lambda text: None) == 0
    first = read_path(str(out))["sda/smart-data.bin"]
    machine.since -= 5000
    assert main(options, machine=machine, say=lambda text: None) == 0
    assert read_path(str(out))["sda/smart-data.bin"] != first
    assert len((tmp_path / "spool" / "pages.jsonl").read_text().splitlines()) == len(
        set((tmp_path / "spool" / "pages.jsonl").read_text().splitlines())
    )


def test_a_folder_that_cannot_be_written_is_said_before_anything_is_read(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    machine = patient("sound").connected()
    machine.nvme = lambda *a: pytest.fail("a drive was asked")  # type: ignore[assignment, method-assign]
    assert (
        main(
            ["--out", str(tmp_path / "nowhere" / "m.gcap"), "--spool", str(tmp_path / "s")],
            machine=machine,
            say=lambda text: None,
        )
        == 2
    )
    assert "expected a file that can be written" in capsys.readouterr().err


def test_the_only_namespace_need_not_be_number_one(tmp_path: Path) -> None:
    files, _ = read_out("large-sectors", tmp_path)
    drive = next(d for d in read_capture(files).drives if d.device == "nvme0")
    assert (drive.pages.namespace is not None, drive.pages.namespace and drive.pages.namespace.capacity) == (
        True,
        960_000_000_000,
    )


@pytest.mark.parametrize(("error", "lines"), [(5, 8), (19, 0)], ids=["unreadable", "pulled"])
def test_a_drive_that_reads_nothing_is_not_strained_and_one_that_was_pulled_is_not_blamed(
    error: int, lines: int, tmp_path: Path
) -> None:
    machine = patient("first-sector").connected()

    def fails(*asked: Any) -> bytes:
        raise OSError(error, os.strerror(error))

    machine.read_at = machine.read_sector = fails  # type: ignore[assignment, method-assign]
    worker = Probe(machine, Spool(str(tmp_path)), None, lambda text: None, _Inline())
    worker.read("offline", device="sda")
    alone = [line for line in worker.spool.lines if line["kind"] == "sectors"]
    assert len(alone) == 2 * lines


ATA_PATIENTS = [
    p.id
    for p in PATIENTS
    if p.id not in ("hangs", "ticking") and any(isinstance(d, AtaDrive) for d in p.build().drives.values())
]


@pytest.mark.parametrize("name", ATA_PATIENTS)
def test_nothing_is_asked_that_was_not_announced(name: str, tmp_path: Path) -> None:
    """A drive writes every command that it refuses into its error log, for good: a reading leaves none there."""
    machine = patient(name).connected()
    Probe(machine, Spool(str(tmp_path)), None, lambda text: None, _Inline()).read("offline")
    assert [d.refused for d in machine.drives.values() if isinstance(d, AtaDrive)] == [0] * sum(
        isinstance(d, AtaDrive) for d in machine.drives.values()
    )


# IDENTIFY words 82, 84, 85 (set: validity bits too) -> pages that are asked for besides identity
ANNOUNCED: list[tuple[dict[int, int], set[str]]] = [
    ({82: 0, 84: 0x4000, 85: 0}, set()),
    ({82: 0xFFFF, 85: 0xFFFF, 84: 0xFFFF}, set()),
    ({82: 1, 85: 0, 84: 0x4023}, {"gp-log-00", "gp-log-03", "gp-log-04", "gp-log-07"}),
    (
        {82: 1, 85: 1, 84: 0x4000},
        {"smart-data", "smart-thresh", "smart-status", "smart-log-01"},
    ),  # SMART data's own byte 370 says so
    ({82: 1, 85: 1, 84: 0x4003}, {"smart-data", "smart-thresh", "smart-status", "smart-log-01", "smart-log-06"}),
    (
        {82: 1, 85: 1, 84: 0x4023},
        {
            "smart-data",
            "smart-thresh",
            "smart-status",
            "smart-log-01",
            "smart-log-06",
            "gp-log-00",
            "gp-log-03",
            "gp-log-04",
            "gp-log-07",
        },
    ),
]


@pytest.mark.parametrize(("words", "asked"), ANNOUNCED)
def test_what_is_asked_follows_from_identify(words: dict[int, int], asked: set[str], tmp_path: Path) -> None:
    machine = patient("growing").connected()
    answer = machine.drives["sda"].page  # type: ignore[union-attr]

    def page(kind: str, number: int = 0) -> bytes | None:
        raw = bytearray(answer(kind, number) or b"")
        for word, value in words.items() if kind == "ata-identify" else ():
            raw[2 * word : 2 * word + 2] = value.to_bytes(2, "little")
        return bytes(raw) if raw else None

    machine.drives["sda"].page = page  # type: ignore[union-attr, method-assign]
    worker = Probe(machine, Spool(str(tmp_path)), None, lambda text: None, _Inline())
    worker.read("offline", sectors=False)
    paths = {
        line["path"].split("/")[1].removesuffix(".bin")
        for line in worker.spool.lines
        if line["path"].startswith("sda/")
    }
    assert paths == {"identify"} | asked


def test_an_order_is_for_a_drive_and_not_for_a_name(tmp_path: Path) -> None:
    machine = patient("two-alike").connected()
    worker = Probe(machine, Spool(str(tmp_path)), None, lambda text: None, _Inline())
    assert worker.find({"device": "nvme0", "drive": "QF5-440031"}) == "nvme0"
    assert worker.find({"device": "nvme0", "drive": "QF5-440077"}) == "nvme1", (
        "it has another name since the machine was started anew"
    )
    assert worker.find({"device": "nvme0"}) == "nvme0"
    with pytest.raises(Refused, match="expected the drive QF5-000000, got none"):
        worker.find({"device": "nvme0", "drive": "QF5-000000"})
    hdd = Probe(patient("growing").connected(), Spool(str(tmp_path / "b")), None, lambda text: None, _Inline())
    assert hdd.find({"device": "sdb", "drive": "  qs7-310222 "}) == "sda", "told by IDENTIFY"
    sas = Probe(patient("sas-disk").connected(), Spool(str(tmp_path / "c")), None, lambda text: None, _Inline())
    assert sas.find({"device": "sdc", "drive": "5000c500300417ab"}) == "sda"


@pytest.mark.parametrize("year", [1970, 1979, 2099])
def test_a_clock_far_away_breaks_nothing(year: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A ZIP has no dates before 1980, nor after 2107."""
    monkeypatch.setattr(time, "localtime", lambda *a: time.gmtime((year - 1970) * 31_556_952))
    monkeypatch.setattr(time, "time", lambda: (year - 1970) * 31_556_952.0)
    files, _ = read_out("sound", tmp_path)
    assert "nvme0/id-ctrl.bin" in files


def test_reading_goes_on_while_the_bench_is_away(tmp_path: Path) -> None:
    said: list[str] = []
    link = Link("http://127.0.0.1:9", "k7qdm-2xp45", said.append)
    link.session = "00" * 8
    worker = Probe(patient("growing").connected(), Spool(str(tmp_path)), link, said.append, _Inline())
    pushed = worker.push
    waited: list[bool] = []

    def push(patient: bool = True) -> None:
        waited.append(patient)
        if not patient:
            pushed(False)

    worker.push = push  # type: ignore[method-assign]
    worker.read("1")
    assert len(worker.spool.lines) > 30
    assert worker.acknowledged == 0
    assert waited[-1] is True, "at the end it waits until all is sent"
    assert sum("does not answer" in text for text in said) == 1, "said once"


REASONS = [
    (urllib.error.URLError(ConnectionRefusedError(111, "Connection refused")), "no bench listens at this port"),
    (urllib.error.URLError(socket.gaierror(-2, "Name or service not known")), "no machine by that name"),
    (urllib.error.URLError(TimeoutError("timed out")), "nothing comes back"),
    (urllib.error.URLError(OSError(101, "Network is unreachable")), "network is unreachable"),
    (
        urllib.error.URLError(ssl.SSLCertVerificationError(1, "certificate verify failed")),
        "certificate is not known here",
    ),
    (ValueError("no JSON"), "is no bench"),
]


@pytest.mark.parametrize(("error", "words"), REASONS)
def test_what_is_in_the_way_is_said_in_words(error: Exception, words: str) -> None:
    if isinstance(getattr(error, "reason", None), ssl.SSLCertVerificationError):
        error.reason.verify_message = "self-signed certificate"  # type: ignore[attr-defined]
    assert words in reason_of(error)


def test_a_terminal_shows_a_line_for_each_drive_and_what_to_do(tmp_path: Path) -> None:
    said: list[str] = []
    out = tmp_path / "m.gcap"
    assert (
        main(
            ["--out", str(out), "--spool", str(tmp_path / "s")],
            machine=patient("first-sector").connected(),
            say=said.append,
        )
        == 0
    )
    assert said[0] == "Gate Check reads Ostler Tarn Mini. Nothing is written to any drive."
    drive = next(text for text in said if text.startswith("sda "))
    assert ("QUARRY SPINDLE 1000" in drive, "1.0 TB" in drive, "2 sectors cannot be read" in drive) == (
        True,
        True,
        True,
    )
    assert said[-1] == f"Written: {out}. Drop this file on the ticket."
    assert len(said) == 5, "the machine, its drive, the stick, and the two around them"


class _Screen(io.StringIO):
    def isatty(self) -> bool:
        return True


def test_only_a_terminal_has_a_foot() -> None:
    for out, shows in ((_Screen(), True), (io.StringIO(), False)):
        terminal = Terminal(out)
        terminal.hint("reading")
        terminal.say("done")
        assert ("reading" in out.getvalue()) is shows
        assert out.getvalue().endswith("done\n")


def test_a_self_test_that_never_starts_hangs_a_child_only(tmp_path: Path) -> None:
    machine = patient("two-alike").connected()
    machine.nvme = lambda *asked: time.sleep(60)  # type: ignore[assignment, method-assign, return-value]
    worker = Probe(machine, Spool(str(tmp_path)), None, lambda text: None, Reader(0.5))
    began = time.monotonic()
    with pytest.raises(Refused, match=r"no answer within 0\.5 s"):
        worker.self_test("1", "nvme0", "short")
    assert time.monotonic() - began < 30


def test_a_system_partition_is_listed_as_far_as_it_can_be_read(tmp_path: Path) -> None:
    """A directory in a bad sector takes no other away, and nothing is claimed of what stood in it."""
    machine = patient("sound").connected()
    disk = machine.drives["nvme0"].disk
    files, _ = read_out("sound", tmp_path)
    volume = read_fat(
        CapturedSectors(
            {2048 + at: data for at, data in fat_volume(LOADER, sectors=204_800, cluster_sectors=1).items()}
        ),
        2048,
    )
    folder = listing(volume).files["EFI/system"]
    disk.bad = frozenset({2048 + volume.data_at + folder.cluster - 2})
    spool = Spool(str(tmp_path / "bad"))
    Probe(machine, spool, None, lambda text: None, _Inline()).read("offline")
    out = tmp_path / "bad.gcap"
    spool.write_capture(str(out), machine.facts())
    capture = read_capture(read_path(str(out)))
    programs = next(v.programs for v in capture.volumes if v.programs)
    assert programs == ("EFI/BOOT/BOOTX64.EFI",)
    assert capture.firmware is not None
    assert capture.firmware.loaders == (), (
        "the entry's loader stood in the directory that cannot be read: not missing, not read"
    )
    assert len(files) > 20
