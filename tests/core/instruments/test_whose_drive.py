"""Whose drive it is: no stranger's health, no stick's, and nothing is missed where there never was a table."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.adapters.capture_files import pages_of
from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.instruments.evidence import capture_evidence, expected_drive, strangers
from gatecheck.practice.patients import PATIENTS
from practised import capture_of
from reading import read_capture


def read(name: str, **more: Any) -> tuple[Any, dict[str, Any]]:
    facts = {**next(p for p in PATIENTS if p.id == name).facts, **more}
    return read_capture(pages_of(f"{name}.gcap", capture_of(name))), facts


def told(model: Model, name: str, **more: Any) -> dict[str, str]:
    """move -> outcome, of what a capture says; and its notes under an empty name."""
    capture, facts = read(name, **more)
    found: dict[str, str] = {}
    for entry in capture_evidence(model.knowledge, facts, capture):
        if "move" in entry:
            found[str(entry["move"])] = str(entry.get("outcome", "weights"))
        elif set(entry) == {"note"}:
            found[""] = shipped_words().note(entry["note"])
    return found


def test_a_disk_that_is_one_encrypted_volume_is_locked_and_misses_no_table(model: Model) -> None:
    found = told(model, "whole-locked")
    assert (found["seen-live"], found["volume-look"]) == ("right", "locked")


@pytest.mark.parametrize(
    ("name", "more"),
    [
        ("stranger", {}),
        ("sound", {"drive_serial": "KNOWN-1"}),
        ("sound", {"drive_kind": "hdd"}),
        ("growing", {"drive_kind": "nvme"}),
    ],
)
def test_a_drive_that_the_ticket_does_not_know_is_asked_about_and_weighs_nothing(
    model: Model, name: str, more: dict[str, Any]
) -> None:
    capture, facts = read(name, **more)
    assert expected_drive(capture, facts, with_pages=True) is None
    assert [d.bus for d in strangers(capture, facts)] != []
    found = told(model, name, **more)
    assert "is not in this machine" in found[""]
    assert not {"seen-live", "entry-target", "loader-look", "boot-order", "storage-mode"} & {*found}


@pytest.mark.parametrize(("name", "kind"), [("sound", "unknown"), ("growing", "hdd"), ("worn", "nvme")])
def test_the_machines_own_is_found_as_before(name: str, kind: str) -> None:
    capture, facts = read(name, drive_kind=kind)
    assert expected_drive(capture, facts) is not None
    assert strangers(capture, facts) == []


def test_a_controller_without_a_namespace_is_not_absent(model: Model) -> None:
    found = told(model, "no-namespace")
    assert "has no namespace" in found[""]
    assert "seen-live" not in found


def test_a_stick_alone_is_nobodys_drive(model: Model) -> None:
    capture, facts = read("no-drive")
    assert expected_drive(capture, facts, with_pages=True) is None
    assert told(model, "no-drive")["seen-live"] == "absent"
