"""Every machine of the lab beside what the emulator was told, fact by fact; the table is printed."""

from __future__ import annotations

import json
import os
import re
import sys
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from guest import Emulator, Guest
from lab_ticket import Ticket, done
from machines import MACHINES, LabMachine, ata

from serving import Served


def _first_is_0(capture: dict[str, Any]) -> dict[str, Any]:
    """Which of two controllers in one subsystem the kernel names a drive after changes from start to start: a sole one
    counts as the first."""
    names = {d["device"] for d in capture["devices"] if d["device"].startswith("nvme")}
    if len(names) != 1:
        return capture
    renamed: dict[str, Any] = json.loads(re.sub(rf"\b{names.pop()}(?=n?\b|n\d)", "nvme0", json.dumps(capture)))
    return renamed


def shown(ticket: Ticket) -> dict[str, Any]:
    """What the server shows of a ticket, by the names of `LabMachine.told`."""
    capture = _first_is_0(ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0])
    facts: dict[str, Any] = {
        "drives": [d["device"] for d in capture["devices"]],
        "asks": capture["asks"],
        "weighed": capture["weighed"],
    }
    for drive in capture["devices"]:
        own = drive["identity"] or {}
        facts |= {f"{drive['device']}.{name}": value for name, value in own.items()}
        facts[f"{drive['device']}.bus"] = drive["bus"]
        facts[f"{drive['device']}.findings"] = [f["id"] for f in drive["findings"]]
        facts[f"{drive['device']}.numbers"] = [n["number"] for n in drive["namespaces"]]
    for page in [*capture["other_pages"], *(p for d in capture["devices"] for p in d["pages"])]:
        facts[page["path"]] = page["status"]
        if "/lba0" in page["path"]:
            facts[f"disk {page['path'].split('/')[0]}"] = page["status"]
    view = ticket.call("GET", f"/api/tickets/{ticket.id}")
    for entry in view["tape"]:
        body = entry["body"]
        weights = body.get("weights")
        facts[str(body.get("move"))] = max(weights, key=weights.get) if weights else body.get("outcome")
    facts["live"] = facts.get("seen-live")
    facts["doubts"] = [d["why"] for d in view["doubts"]]
    layout = view["facts"].get("disk_layout")
    return {
        name: (layout if name.startswith("disk ") and value == "decoded" else value) for name, value in facts.items()
    }


def table(name: str, told: dict[str, object], got: dict[str, Any]) -> tuple[str, list[str]]:
    """Fact by fact: told, shown, and which of them differ."""
    lines, wrong = [f"{name:<16} {'fact':<24} {'the emulator was told':<42} the server shows"], []
    for fact, wanted in told.items():
        value = got.get(fact)
        fits = wanted(value) if callable(wanted) else value == wanted
        text = wanted.__doc__ if callable(wanted) else wanted
        lines.append(f"{'' if fits else 'DIFFERS':<16} {fact:<24} {text!s:<42} {value}")
        wrong += [] if fits else [fact]
    return "\n".join(lines), wrong


@pytest.mark.parametrize("machine", [
    pytest.param(m, id=m.id, marks=pytest.mark.lab if m.every_day else pytest.mark.lab_all) for m in MACHINES
])  # fmt: skip
def test_what_the_server_shows_is_what_the_emulator_was_told(
    machine: LabMachine, system: Guest, server: Served, tmp_path: Path
) -> None:
    emulated = Emulator(tmp_path, uefi=machine.uefi, options=[*_clock(machine), *machine.options(tmp_path)])
    ticket = Ticket(server, **machine.facts)
    try:
        if machine.uefi:
            emulated.variables()
        emulated.start(system, ticket.command_line)
        ticket.until(done(1), emulated.console, machine.seconds)
        got = shown(ticket)
    finally:
        emulated.stop()
    text, wrong = table(machine.id, {**machine.told, "doubts": []}, got)
    with Path(os.environ["GATECHECK_LAB_TABLE"]).open("a", encoding="utf-8") as file:
        file.write(text + "\n\n")
    assert not wrong, f"\n{text}\n\n{got}"


@pytest.mark.lab
def test_an_order_finds_its_drive_where_the_kernel_calls_it_otherwise(
    system: Guest, server: Served, tmp_path: Path
) -> None:
    """Another disk takes its name at the next start; the test that was ordered runs on the one that was meant."""
    ticket = Ticket(server, drive_kind="hdd", installed_os="linux", data="backed-up")
    later = ata(tmp_path, "d0", serial="QS7-LAB-1", bus="late.0")
    for start, disks in enumerate(
        (
            ata(tmp_path, "d0", serial="QS7-LAB-1"),
            [*ata(tmp_path, "d1", serial="QS7-LAB-2", layout="none"), "-device", "piix4-ide,id=late", *later],
        )
    ):
        folder = tmp_path / str(start)
        folder.mkdir()
        emulated = Emulator(folder, uefi=False, options=disks)
        try:
            emulated.start(system, ticket.command_line)
            ticket.until(done(1 + start), emulated.console)
        finally:
            emulated.stop()
        if start == 0:
            assert [d["device"] for d in ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["devices"]] == [
                "sda"
            ]
            ticket.call(
                "POST",
                f"/api/tickets/{ticket.id}/orders",
                json={"order": "self-test", "device": "sda", "kind": "short", "by": "KT"},
            )
    newest = ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["devices"]
    tested = {d["device"]: d["identity"]["serial"] for d in newest if any(e["kind"] == "test" for e in d["events"])}
    assert tested == {"sdb": "QS7-LAB-1"}


def _clock(machine: LabMachine) -> list[str]:
    return ["-rtc", f"base={machine.clock}"] if machine.clock else []
