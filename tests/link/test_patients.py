"""The practice bench as cases: what each patient's own pages lead the engine to."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.server.services import Services, open_services
from gatecheck.server.tickets.wire import TicketOut
from practised import capture_of


def seen(name: str, folder: Path) -> tuple[Services, TicketOut, Any]:
    """The patient's ticket once its capture is on it."""
    own = patient(name)
    bench = open_services(folder / "data")
    ticket = bench.tickets.take_in(
        customer=own.customer,
        machine=own.machine,
        words=own.words,
        facts=own.facts,
        entries=[dict(e) for e in own.entries],
        bay=None,
        by="KT",
    )
    bench.tickets.append(ticket.id, {"move": "live-start", "outcome": "runs"}, by="KT")
    capture = bench.captures.add_file(ticket.id, "machine.gcap", capture_of(name), by="KT")
    return bench, bench.tickets.ticket(ticket.id), capture


def test_there_are_enough_of_them() -> None:
    assert len(PATIENTS) >= 12
    assert len({p.id for p in PATIENTS}) == len(PATIENTS)


# patient, gate, state, suspects of which one is among the first two, findings, readings that went on the tape
CASES = [
    (
        "sound",
        "detection",
        "open",
        None,
        [],
        {"health-pages": "clean", "entry-target": "present", "boot-order": "system-first"},
    ),
    (
        "ticking",
        "detection",
        "shut",
        ("link.loose", "link.broken", "drive.mechanical", "drive.dead"),
        ["zero-capacity"],
        {},
    ),
    (
        "growing",
        "health",
        "shut",
        ("drive.media",),
        ["pending", "self-test-failed", "media-errors-logged"],
        {"health-pages": "failing", "error-log": "recent"},
    ),
    (
        "worn",
        "health",
        "shut",
        ("drive.worn",),
        ["worn", "spare-used", "critical-warning"],
        {"health-pages": "worn-out"},
    ),
    (
        "cable",
        "detection",
        "shut",
        ("link.loose", "link.broken"),
        ["crc-errors", "crc-errors-logged"],
        {"health-pages": "link-errors"},
    ),
    ("false-alarm", "health", "shut", ("alarm.false",), [], {"health-pages": "clean"}),
    ("stale-entry", "firmware", "shut", ("entries.lost",), [], {"entry-target": "stale"}),
    ("no-loader", "loader", "suspect", ("loader.damaged",), [], {"entry-target": "present", "loader-look": "missing"}),
    (
        "storage-mode",
        "firmware",
        "shut",
        ("settings.storage-mode",),
        [],
        {"entry-target": "present", "storage-mode": "conflicts"},
    ),
    ("bridge", "detection", "suspect", None, ["bridge-hides-pages"], {"seen-live": "absent"}),
    ("hangs", "health", "shut", ("drive.media",), ["reallocated", "pending"], {"health-pages": "early-signs"}),
    ("wrong-first", "firmware", "shut", ("settings.order",), [], {"boot-order": "other-first"}),
    ("encrypted", "system", "shut", None, [], {"volume-look": "locked"}),
    ("locked-inside", "system", "shut", None, [], {"volume-look": "locked", "loader-look": "sound"}),
    ("old-layout", "loader", "shut", None, ["old"], {"seen-live": "right"}),
    (
        "large-sectors",
        "detection",
        "open",
        None,
        [],
        {"seen-live": "right", "health-pages": "clean", "entry-target": "present"},
    ),
    (
        "first-sector",
        "health",
        None,
        ("drive.media", "drive.mechanical"),
        ["lba0-unreadable", "sectors-unreadable"],
        {"health-pages": "early-signs", "disk-layout": "table-damaged"},
    ),
    ("controller", "detection", None, None, ["raid-volume"], {"seen-live": "right"}),
    (
        "sas-disk",
        "health",
        "shut",
        ("drive.media", "drive.mechanical"),
        ["threshold-exceeded", "scan-errors", "reported-uncorrectable", "self-test-failed"],
        {"health-pages": "failing", "seen-live": "right"},
    ),
    (
        "soldered",
        "health",
        "shut",
        ("drive.worn",),
        ["worn", "spare-used"],
        {"health-pages": "worn-out", "seen-live": "right"},
    ),
    ("two-alike", "detection", None, None, [], {}),
    (
        "flat-battery",
        "firmware",
        "shut",
        ("battery.flat",),
        [],
        {"clock": "reset-to-default", "storage-mode": "conflicts"},
    ),
    (
        "no-drive",
        "detection",
        "shut",
        ("link.loose", "link.broken", "drive.dead", "settings.port-off"),
        [],
        {"seen-live": "absent"},
    ),
    ("mistyped", "detection", None, None, [], {"seen-live": "right", "health-pages": "clean"}),
    ("no-table", "layout", "shut", ("layout.table",), [], {"seen-live": "no-volumes"}),
]


@pytest.mark.parametrize(
    ("name", "gate", "state", "suspects", "findings", "readings"), CASES, ids=[c[0] for c in CASES]
)
def test_what_a_patient_leads_to(
    name: str,
    gate: str,
    state: str | None,
    suspects: tuple[str, ...] | None,
    findings: list[str],
    readings: dict[str, str],
    tmp_path: Path,
) -> None:
    bench, ticket, capture = seen(name, tmp_path)
    told = {f.id for d in capture.devices for f in d.findings}
    assert set(findings) <= told
    said = {}
    for entry in ticket.tape:
        weights = entry.body.get("weights")
        said[entry.body.get("move")] = max(weights, key=lambda o: weights[o]) if weights else entry.body.get("outcome")
    assert readings.items() <= said.items()
    if state:
        assert next(g.state for g in ticket.gates if g.id == gate) == state
    if suspects:
        assert {s.fault for s in ticket.suspects[:2]} & set(suspects)
    bench.shop.database.close()


def test_a_controller_that_passes_no_pages_puts_nothing_against_its_drive(tmp_path: Path) -> None:
    bench, ticket, capture = seen("controller", tmp_path)
    assert "health-pages" not in {e.body.get("move") for e in ticket.tape}
    assert next(d.verdict for d in capture.devices if d.device == "sda").startswith("A RAID volume")
    bench.shop.database.close()


def test_an_encrypted_patient_holds_every_setting(tmp_path: Path) -> None:
    bench, ticket, _ = seen("encrypted", tmp_path)
    held = {h.move for h in ticket.held if h.interlock == "locked-volume"}
    assert {"set-secure-boot", "set-mode", "set-order"} <= held
    bench.shop.database.close()


def test_an_entry_that_cannot_be_true_is_named_until_it_is_taken_back(tmp_path: Path) -> None:
    bench, ticket, _ = seen("mistyped", tmp_path)
    typed = next(e.place for e in ticket.tape if e.body.get("outcome") == "absent")
    assert ticket.doubts
    assert all(typed in d.entries and d.take_back == typed for d in ticket.doubts)
    bench.tickets.append(ticket.id, {"undo": typed}, by="KT")
    assert bench.tickets.ticket(ticket.id).doubts == []
    bench.shop.database.close()


@pytest.mark.parametrize("name", [p.id for p in PATIENTS if p.id != "mistyped"])
def test_a_patient_read_as_it_is_raises_no_doubt(name: str, tmp_path: Path) -> None:
    bench, ticket, _ = seen(name, tmp_path)
    assert ticket.doubts == []
    bench.shop.database.close()


def test_a_patient_that_is_connected_again_has_aged() -> None:
    first, later = patient("growing").connected(since=0.0), patient("growing").connected()
    early, late = (m._drive("sda") for m in (later, first))
    assert late.age > early.age + 1000
    assert late.counts[197](late.age) > early.counts[197](early.age)  # type: ignore[union-attr]


def test_a_practice_machine_whose_server_is_gone_goes_too_and_leaves_nothing(tmp_path: Path) -> None:
    """A server that is killed takes nothing along: the machine sees by itself that nobody started it any more."""
    spool, pid_file = tmp_path / "spool", tmp_path / "pid"
    spool.mkdir()
    machine = (
        "import sys\nimport gatecheck.practice.__main__ as m\n"
        "m._ORPHAN_SECONDS, m._LOOK_EVERY = 0.2, 0.1\n"
        f"m.main(['sound', '--started-by', sys.argv[1], '--server', 'http://127.0.0.1:9', '--secret', 'x', '--wait', "
        f"'600', '--spool', {str(spool)!r}])\n"
    )
    server = (
        "import os, subprocess, sys\n"
        f"child = subprocess.Popen([sys.executable, '-c', {machine!r}, str(os.getpid())], stdout=subprocess.DEVNULL, "
        f"stderr=subprocess.DEVNULL, start_new_session=True)\n"
        f"open({str(pid_file)!r}, 'w').write(str(child.pid))\n"
    )
    assert subprocess.run([sys.executable, "-c", server], check=True, timeout=60).returncode == 0
    deadline = time.monotonic() + 300
    while spool.exists() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not spool.exists()
    machine_id = int(pid_file.read_text())
    while (
        Path(f"/proc/{machine_id}/cmdline").exists()
        and Path(f"/proc/{machine_id}/cmdline").read_bytes()
        and time.monotonic() < deadline
    ):
        time.sleep(0.05)
    assert time.monotonic() < deadline, "it still runs"
