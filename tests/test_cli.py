"""The command line as a stranger uses it: files in, JSON out, one clear line and status 2 for what cannot be used."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import pytest

from gatecheck.cli.main import main

DATA = Path(__file__).parent / "data"


def run(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, list[Any], str]:
    status = main(arguments)
    out, err = capsys.readouterr()
    return status, [json.loads(line) for line in out.splitlines()], err


def write(folder: Path, name: str, text: str | bytes) -> str:
    path = folder / name
    path.write_bytes(text.encode() if isinstance(text, str) else text)
    return str(path)


def test_triage_prints_the_contract(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    case = {
        "facts": {"platform": "pc", "data": "backed-up"},
        "entries": [{"move": "screen", "outcome": "no-boot-device"}],
    }
    status, (document,), _ = run(capsys, "triage", write(tmp_path, "case.json", json.dumps(case)))
    assert status == 0
    assert set(document) >= {"gates", "suspects", "next", "held", "call"}
    assert [set(g) >= {"id", "state", "why"} for g in document["gates"]] == [True] * 7
    assert {"fault", "p"} == set(document["suspects"][0])
    assert len(document["suspects"]) == 26
    assert set(document["next"][0]) >= {"move", "kind", "minutes", "hands_on_minutes", "why"}
    assert set(document["held"][0]) >= {"move", "interlock", "why"}
    option = {"choice", "fix", "p_success", "minutes", "cost", "data_outcome", "expected_loss"}
    assert set(document["call"]) >= {"choice", "fix", "confidence", "options"}
    assert all(set(o) >= option for o in document["call"]["options"])


def test_several_cases_give_a_line_each_in_order(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    names = [
        write(tmp_path, f"{s}.json", json.dumps({"entries": [{"move": "screen", "outcome": s}]}))
        for s in ("dead", "boots")
    ]
    status, documents, _ = run(capsys, "triage", *names)
    assert status == 0
    assert [d["gates"][0]["state"] for d in documents] == ["shut", "open"]


def test_a_dash_reads_standard_input(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys, "stdin", io.StringIO('{"facts": {}, "entries": []}'))
    assert run(capsys, "triage", "-")[1][0]["call"]["choice"] is None


BAD_CASES = {
    "no-json": ("{", "expected JSON"),
    "a-list": ("[]", "case: expected an object"),
    "bad-fact": ('{"facts": {"data": "gone"}}', "facts.data: expected one of unknown, irreplaceable"),
    "bad-outcome": (
        '{"entries": [{"move": "screen", "outcome": "blue"}]}',
        "entry 0.outcome: expected an outcome of screen",
    ),
    "bad-entries": ('{"entries": "none"}', "entries: expected a list"),
    "latin-1": (b"\xff\xfe\xe9", "expected a JSON file, got no UTF-8 text"),
    "deep": ("[" * 100_000, "expected JSON"),
}


@pytest.mark.parametrize(("text", "message"), BAD_CASES.values(), ids=BAD_CASES)
def test_unusable_cases_say_what_and_where(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, text: str | bytes, message: str
) -> None:
    name = write(tmp_path, "case.json", text)
    status, lines, err = run(capsys, "triage", name)
    assert (status, lines) == (2, [])
    assert message in err
    assert "case.json" in err
    assert len(err.splitlines()) == 1


def test_vocabulary_lists_the_shipped_ids(capsys: pytest.CaptureFixture[str]) -> None:
    words = run(capsys, "vocabulary")[1][0]
    assert words["gates"] == ["power", "firmware", "detection", "health", "layout", "loader", "system"]
    assert words["checks"]["screen"]["outcomes"][0] == "dead"
    assert words["fixes"]["reinstall"]["destroys"] is True
    assert words["fixes"]["power-down"]["outcomes"] == ["off", "left-on"]


def test_read_decodes_a_folder(capsys: pytest.CaptureFixture[str]) -> None:
    status, (document,), _ = run(capsys, "read", str(DATA / "bench-a"))
    assert status == 0
    assert set(document["identity"]) == {"sda", "sdb", "nvme0"}
    assert document["identity"]["sda"]["serial"] == "PBH-20417"
    assert document["identity"]["sdb"] is None
    assert any("USB bridge hides the health data" in f["text"] for f in document["findings"] if f["device"] == "sdb")


def test_read_decodes_one_page_and_a_capture_alike(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    page = DATA / "bench-a" / "sda" / "identify.st02.bin"
    capture = tmp_path / "machine.gcap"
    with zipfile.ZipFile(capture, "w") as archive:
        archive.write(page, "sda/identify.st02.bin")
    status, documents, _ = run(capsys, "read", str(page), str(capture))
    assert status == 0
    assert [d["identity"]["model"] for d in documents] == ["PRACTICE-HDD-2G"] * 2


def test_kind_overrides_detection(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    name = write(tmp_path, "notes.bin", (DATA / "bench-a" / "nvme0" / "log-02.r0.bin").read_bytes())
    assert run(capsys, "read", "--kind", "nvme-health", name)[1][0]["pages"][0]["values"]["temperature"] == 50


def bomb() -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("sda/identify.bin", bytes(3_000_000))
    return buffer.getvalue()


def climbing() -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        archive.writestr("../../evil", b"x")
    return buffer.getvalue()


MISUSE = {
    "unknown-kind": (["--kind", "phrenology"], {"a.bin": b"x"}, "--kind: expected one of ata-errors, "),
    "kind-of-many": (["--kind", "smart-data"], {"a.bin": b"x", "b.bin": b"y"}, "--kind: expected a single page, got 2"),
    "empty-folder": ([], {}, "expected a folder of raw pages, got an empty folder"),
    "too-many": ([], {f"{n}.bin": b"x" for n in range(2001)}, "expected at most 2000 pages, got 2001"),
}


@pytest.mark.parametrize(("options", "files", "message"), MISUSE.values(), ids=MISUSE)
def test_a_folder_that_cannot_be_read_is_said_so(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, options: list[str], files: dict[str, bytes], message: str
) -> None:
    folder = tmp_path / "pages"
    folder.mkdir()
    for name, data in files.items():
        write(folder, name, data)
    status, lines, err = run(capsys, "read", *options, str(folder))
    assert (status, lines) == (2, [])
    assert message in err
    assert len(err.splitlines()) == 1


BAD_PAGES = {
    "missing": (None, "got nothing there"),
    "empty": (b"", "got an empty file"),
    "unknown": (b"hello" * 10, "expected a page of a known kind"),
    "no-zip": (b"PK\x03\x04broken", "expected a capture (ZIP), got 10 bytes that cannot be opened as one"),
    "bomb": (bomb(), "expected pages of at most"),
    "climbing": (climbing(), "expected plain relative names"),
}


@pytest.mark.parametrize(("data", "message"), BAD_PAGES.values(), ids=BAD_PAGES)
def test_unusable_pages_say_what_and_where(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, data: bytes | None, message: str
) -> None:
    name = write(tmp_path, "page.bin", data) if data is not None else str(tmp_path / "page.bin")
    status, lines, err = run(capsys, "read", name)
    assert (status, lines) == (2, [])
    assert message in err
    assert len(err.splitlines()) == 1


def test_a_short_page_is_located(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    status, _, err = run(capsys, "read", write(tmp_path, "identify.bin", b"\x40" * 64))
    assert status == 2
    assert "IDENTIFY DEVICE at byte 0x40: expected 512 bytes, got 64 bytes" in err


def test_the_console_script_runs_and_never_shows_a_traceback() -> None:
    script = Path(sys.executable).with_name("gatecheck")
    done = subprocess.run([script, "triage", "/nowhere.json"], capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert done.stderr.count("\n") == 1
    assert "Traceback" not in done.stderr


def test_the_probe_is_written_as_it_ships_or_with_its_address(
    capfdbinary: pytest.CaptureFixture[bytes], tmp_path: Path
) -> None:
    def files(probe: bytes) -> dict[str, str]:
        with zipfile.ZipFile(io.BytesIO(probe)) as archive:
            return {name: archive.read(name).decode() for name in archive.namelist()}

    assert main(["probe"]) == 0
    sys.stdout.flush()
    shipped, out = files(capfdbinary.readouterr().out), tmp_path / "probe.pyz"
    assert main(["probe", "--out", str(out), "--server", "http://10.0.0.7:8765/", "--secret", "k'9\"x"]) == 0
    filled = files(out.read_bytes())
    assert [name for name in shipped if shipped[name] != filled[name]] == ["gatecheck_probe/address.py"]
    values: dict[str, str] = {}
    exec(filled["gatecheck_probe/address.py"], values)
    assert (values["SERVER"], values["SECRET"]) == ("http://10.0.0.7:8765", "k'9\"x")


def test_a_practice_machine_is_read_into_a_file(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    assert main(["probe", "--practice", "list"]) == 0
    names = [line.split()[0] for line in capsys.readouterr().out.splitlines()]
    assert len(names) == len(set(names)) >= 12
    assert "growing" in names
    out = tmp_path / "machine.gcap"
    assert main(["probe", "--practice", "growing", "--out", str(out)]) == 0
    capsys.readouterr()
    status, (document,), _ = run(capsys, "read", str(out))
    assert status == 0
    assert document["devices"][0]["identity"]["serial"]
    assert not [page for device in document["devices"] for page in device["pages"] if page["status"] == "broken"]


PROBE_MISUSE = {
    "unknown-machine": (["--practice", "toaster", "--out", "x.gcap"], "--practice: expected one of "),
    "nowhere-to-go": (
        ["--practice", "stale-entry"],
        "expected --out FILE.gcap, or --server with --secret, got neither",
    ),
    "half-an-address": (["--practice", "stale-entry", "--server", "http://localhost:1"], "got neither"),
    "no-such-folder": (
        ["--out", "no/such/folder/probe.py"],
        "no/such/folder/probe.py: expected a file that can be written",
    ),
}


@pytest.mark.parametrize(("arguments", "message"), PROBE_MISUSE.values(), ids=PROBE_MISUSE)
def test_the_probe_command_says_what_is_wrong(
    capsys: pytest.CaptureFixture[str], arguments: list[str], message: str
) -> None:
    status, lines, err = run(capsys, "probe", *arguments)
    assert (status, lines) == (2, [])
    assert message in err
    assert len(err.splitlines()) == 1


_ODD = ("nothing", "n\udcff\udcfeame", "x" * 5000, "", "/proc/self/mem", "/dev/null", "noise", "read-only")
_COMMANDS = [
    ["triage"],
    ["read"],
    ["surface"],
    ["bootpath", "--mode", "uefi"],
    ["mend", "--mode", "bios"],
    ["mend", "--mode", "bios", "--apply", "all", "--undo", "/proc/x"],
    ["where", "0"],
    ["volume"],
    ["volume", "--repair", "--apply", "--undo", "/sys/x"],
    ["rescue", "--list"],
    ["rescue", "--to", "/proc/nope"],
    ["listen"],
    ["supply"],
    ["backup", "--data", "/proc/nope"],
    ["restore", "--data", "/proc/nope"],
    ["import", "--data", "/sys/nope"],
    ["stick", "--data", "/proc/nope", "--cache", "/proc/nope"],
]


@pytest.mark.parametrize("command", _COMMANDS, ids=lambda c: " ".join(c)[:40])
def test_odd_names_and_places_end_in_a_sentence(
    command: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "noise").write_bytes(bytes(range(256)) * 300)
    (tmp_path / "read-only").mkdir(mode=0o500)
    for odd in _ODD:
        own = [command[0], odd, *command[1:]]
        try:
            status = main(own)
        except SystemExit as end:  # its options
            status = int(end.code or 0)
        told = capsys.readouterr()
        assert status in (0, 2), own
        assert status == 0 or told.err.strip().encode("utf-8", "backslashreplace"), own
        assert "Traceback" not in told.err


def test_what_no_terminal_can_write_is_printed_all_the_same(tmp_path: Path) -> None:
    (tmp_path / "case.json").write_text('{"facts": {"account_name": "\\ud83d"}, "entries": []}')
    code = "import sys; from gatecheck.cli.main import main; sys.exit(main(sys.argv[1:]))"
    done = subprocess.run(
        [sys.executable, "-c", code, "triage", str(tmp_path / "case.json")],
        capture_output=True,
        env={**os.environ, "PYTHONIOENCODING": "ascii"},
    )
    assert done.returncode in (0, 2)
    assert b"Traceback" not in done.stderr
