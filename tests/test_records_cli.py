"""`records` on an image, on an encrypted one, and on a folder."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from gatecheck.cli.main import main
from gatecheck.core.locked.encode import luks2
from gatecheck.core.records.encode_evtx import Made, event_log
from gatecheck.core.records.encode_hive import hive
from gatecheck.core.volume.ntfs.encode import ntfs_volume
from practised import capture_of

WORDS, SECTORS, EVENING = b"counter words", 65_536, 1_762_193_520.0
SYSTEM = hive({"Select": {"Current": 1}, "ControlSet001": {"Control": {"PEFirmwareType": 1}}})
SOFTWARE = hive(
    {"Microsoft": {"Windows NT": {"CurrentVersion": {"ProductName": "Windows 7 Home", "EditionID": "Home"}}}}
)
LOG = event_log(
    [Made(EVENING, "EventLog", 6005), Made(EVENING + 600, "Made-Up", 1), Made(EVENING + 900, "EventLog", 6006)]
)
FILES = {
    "Windows/System32/config/SYSTEM": SYSTEM,
    "Windows/System32/config/SOFTWARE": SOFTWARE,
    "Windows/System32/winevt/Logs/System.evtx": LOG,
}


def run(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, Any, str]:
    status = main(arguments)
    out, err = capsys.readouterr()
    return status, json.loads(out) if out else None, err


def volume() -> bytes:
    whole = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(FILES, sectors=SECTORS).items():
        whole[at * 512 : at * 512 + len(data)] = data
    return bytes(whole)


@pytest.fixture(params=["folder", "image", "encrypted"])
def path(request: pytest.FixtureRequest, tmp_path: Path) -> list[str]:
    own = tmp_path / "own"
    if request.param == "folder":
        for name, data in FILES.items():
            (own / name.upper()).parent.mkdir(parents=True, exist_ok=True)
            (own / name.upper()).write_bytes(data)
        return [str(own)]
    if request.param == "image":
        own.write_bytes(volume())
        return [str(own)]
    own.write_bytes(luks2(volume(), [WORDS]))
    (tmp_path / "key").write_bytes(WORDS)
    return [str(own), "--key-file", str(tmp_path / "key")]


def test_records_prints_the_contract(path: list[str], capsys: pytest.CaptureFixture[str]) -> None:
    status, told, _ = run(capsys, "records", *path)
    assert status == 0
    assert set(told) == {"systems", "events", "crashes", "own_repair", "logs", "findings", "sentence"}
    (system,) = told["systems"]
    assert set(system) >= {
        "root", "kind", "name", "version", "edition", "build", "installed", "firmware", "clock", "storage",
        "last_good_start", "last_shutdown", "hibernated", "encryption", "updates", "pending",
    }  # fmt: skip
    assert (system["kind"], system["name"], system["firmware"]) == ("windows", "Windows 7 Home", "bios")
    assert system["last_shutdown"] == {"at": "2025-11-03T18:27:00Z", "clean": True}
    assert [e["kind"] for e in told["events"]] == ["start", "stop"]
    assert [log["torn"] for log in told["logs"]] == [[], [], []]


def test_records_are_an_entry_for_triage(path: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, entry, _ = run(capsys, "records", *path, "--as-entry")
    assert (status, entry["move"]) == (0, "system-records")
    tape = [{"move": "screen", "outcome": "repair-loop"}, {key: entry[key] for key in ("move", "weights")}]
    (tmp_path / "case.json").write_text(json.dumps({"entries": tape}))
    status, found, _ = run(capsys, "triage", str(tmp_path / "case.json"))
    assert status == 0
    assert found["suspects"]


def test_a_place_without_a_system_says_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    status, told, _ = run(capsys, "records", str(tmp_path))
    assert (status, told["systems"], told["sentence"]) == (0, [], "No installed system was found.")


@pytest.mark.parametrize(
    ("more", "says"),
    [(["--partition", "1"], "expected with an image, got a folder"), (["--capture", "/nowhere.gcap"], "/nowhere.gcap")],
)
def test_bad_input_is_one_sentence(
    more: list[str], says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    status, _, err = run(capsys, "records", str(tmp_path), *more)
    assert status == 2
    assert says in err
    assert err.count("\n") == 1


def test_a_driver_that_the_machine_needs_is_set_to_start_and_set_back(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """By a capture of the machine that it is to start on."""
    services = {"storahci": {"Type": 1, "Start": 3, "Group": "SCSI Miniport"}}
    files = {
        "Windows/System32/config/SYSTEM": hive(
            {"Select": {"Current": 1}, "ControlSet001": {"Control": {}, "Services": services}}
        ),
        "Windows/System32/drivers/storahci.sys": b"MZ" + bytes(4000),
    }
    image, undo, capture = tmp_path / "image", tmp_path / "undo.json", tmp_path / "machine.gcap"
    whole = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(files, sectors=SECTORS).items():
        whole[at * 512 : at * 512 + len(data)] = data
    image.write_bytes(whole)
    capture.write_bytes(capture_of("update-broke"))
    asked = ["records", str(image), "--capture", str(capture)]
    status, told, _ = run(capsys, *asked, "--repair")
    assert (status, [p["id"] for p in told["plans"]], told["refused"]) == (0, ["start-driver"], None)
    status, told, _ = run(capsys, *asked, "--repair", "--apply", "--undo", str(undo))
    assert (status, told["applied"], told["left"]) == (0, ["start-driver"], [])
    assert image.read_bytes() != whole
    assert run(capsys, "records", str(image), "--revert", str(undo))[0] == 0
    assert image.read_bytes() == whole
    assert run(capsys, "records", str(tmp_path), "--repair")[2].startswith("gatecheck records: --repair, --revert")
    assert run(capsys, *asked, "--apply")[0] == 2
