"""Every interlock: when it holds, what releases it, and that an override needs a reason."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.core.belief.model import Model
from tapes import LAPTOP, PRECIOUS, SAFE, case, held, moves

LOCKS = {
    "stop-running/ticking": ("stop-running", PRECIOUS, ("sound=ticking",), "read-scan", True),
    "stop-running/one-head": ("stop-running", SAFE, ("read-scan=one-head",), "long-test", True),
    "stop-running/steady": ("stop-running", PRECIOUS, ("sound=steady",), "read-scan", False),
    "stop-running/flash": (
        "stop-running",
        {**PRECIOUS, "drive_kind": "nvme"},
        ("sound=restarting",),
        "read-scan",
        False,
    ),
    "stop-running/new-drive": ("stop-running", SAFE, ("sound=ticking", "replace-drive=boots"), "read-scan", False),
    "copy-first/signs": ("copy-first", PRECIOUS, ("health-pages=early-signs",), "long-test", True),
    "copy-first/unknown-data": ("copy-first", LAPTOP, ("health-pages=failing",), "read-scan", True),
    "copy-first/backed-up": ("copy-first", SAFE, ("health-pages=failing",), "read-scan", False),
    "copy-first/consent": (
        "copy-first",
        {**PRECIOUS, "consent": "given"},
        ("health-pages=failing",),
        "read-scan",
        False,
    ),
    "copy-first/copied": ("copy-first", PRECIOUS, ("health-pages=failing", "copy-data=complete"), "read-scan", False),
    "copy-first/copied-in-part": (
        "copy-first",
        PRECIOUS,
        ("health-pages=failing", "copy-data=partial"),
        "read-scan",
        True,
    ),
    "copy-first/short-test": ("copy-first", PRECIOUS, ("health-pages=failing",), "short-test", False),
    "data-unprotected/unknown": ("data-unprotected", {}, (), "reinstall", True),
    "data-unprotected/irreplaceable": ("data-unprotected", PRECIOUS, (), "repair-volume", True),
    "data-unprotected/none": ("data-unprotected", {"data": "none"}, (), "reinstall", False),
    "data-unprotected/consent": ("data-unprotected", {**PRECIOUS, "consent": "given"}, (), "reset-clean", False),
    "data-unprotected/refused": ("data-unprotected", {**PRECIOUS, "consent": "refused"}, (), "reset-clean", True),
    "data-unprotected/no-write": ("data-unprotected", PRECIOUS, (), "replace-drive", False),
    "warning-is-real/unproven": ("warning-is-real", SAFE, ("screen=health-warning",), "silence-alarm", True),
    "warning-is-real/pages-only": (
        "warning-is-real",
        SAFE,
        ("screen=health-warning", "health-pages=clean"),
        "silence-alarm",
        True,
    ),
    "warning-is-real/proven": (
        "warning-is-real",
        SAFE,
        ("screen=health-warning", "health-pages=clean", "long-test=passed"),
        "silence-alarm",
        False,
    ),
    "warning-is-real/failing": (
        "warning-is-real",
        SAFE,
        ("screen=health-warning", "health-pages=failing", "long-test=passed"),
        "silence-alarm",
        True,
    ),
    "one-change/no-effect": ("one-change-at-once", SAFE, ("set-order=no-change",), "set-mode", True),
    "one-change/other-screen": ("one-change-at-once", SAFE, ("set-order=other-screen",), "set-mode", False),
    "one-change/could-not": ("one-change-at-once", SAFE, ("set-order=could-not",), "set-mode", False),
    "one-change/no-trial": ("one-change-at-once", SAFE, ("set-clock=no-change",), "set-mode", False),
    "table/readable": ("table-proves-drive", SAFE, ("disk-layout=sound",), "replace-drive", True),
    "table/live": ("table-proves-drive", SAFE, ("seen-live=right",), "replace-drive", True),
    "table/physical-errors": (
        "table-proves-drive",
        SAFE,
        ("disk-layout=sound", "health-pages=failing"),
        "replace-drive",
        False,
    ),
    "table/damaged": ("table-proves-drive", SAFE, ("disk-layout=table-damaged",), "replace-drive", False),
    "locked/no-key": ("locked-volume", SAFE, ("volume-look=locked",), "set-secure-boot", True),
    "locked/battery": ("locked-volume", SAFE, ("volume-look=locked",), "replace-battery", True),
    "locked/key": (
        "locked-volume",
        {**SAFE, "recovery_key": "on-ticket"},
        ("volume-look=locked",),
        "set-secure-boot",
        False,
    ),
    "locked/key-lost": (
        "locked-volume",
        {**SAFE, "recovery_key": "lost"},
        ("volume-look=locked",),
        "load-defaults",
        True,
    ),
    "locked/open-volume": ("locked-volume", SAFE, ("volume-look=clean",), "set-secure-boot", False),
    "mains/battery": ("mains-power", {**SAFE, "mains": "battery"}, (), "reinstall", True),
    "mains/connected": ("mains-power", {**SAFE, "mains": "connected"}, (), "reinstall", False),
    "mains/desktop": ("mains-power", {"form": "desktop", "data": "none"}, (), "reinstall", False),
    "mains/short-write": ("mains-power", {**SAFE, "mains": "battery"}, (), "rebuild-loader", False),
}


@pytest.mark.parametrize(("lock", "facts", "tape", "move", "holds"), LOCKS.values(), ids=LOCKS)
def test_interlock(
    model: Model, lock: str, facts: dict[str, Any], tape: tuple[str, ...], move: str, holds: bool
) -> None:
    found = case(model, facts, *tape)
    assert (move in held(found).get(lock, set())) == holds
    for item in found["held"]:
        assert item["why"]
        assert item["release"]


def test_an_override_releases_one_move_from_one_interlock(model: Model) -> None:
    override = {"override": "copy-first", "move": "long-test", "reason": "the customer wants to know"}
    found = held(case(model, PRECIOUS, "health-pages=early-signs", more=[override]))
    assert "long-test" not in found["copy-first"]
    assert "read-scan" in found["copy-first"]
    undone = held(case(model, PRECIOUS, "health-pages=early-signs", more=[override, {"undo": 1}]))
    assert "long-test" in undone["copy-first"]


def test_an_undone_reading_releases_what_it_held(model: Model) -> None:
    assert "stop-running" not in held(case(model, PRECIOUS, "sound=ticking", more=[{"undo": 0}]))


def test_a_soft_reading_holds_when_it_names_its_outcome(model: Model) -> None:
    named = case(model, PRECIOUS, more=[{"move": "sound", "weights": {"ticking": 0.9, "steady": 0.1}}])
    vague = case(model, PRECIOUS, more=[{"move": "sound", "weights": {"ticking": 0.3, "steady": 0.7}}])
    assert "stop-running" in held(named)
    assert "stop-running" not in held(vague)


def test_surface_reads_are_never_proposed_for_a_precious_failing_drive(model: Model) -> None:
    found = case(model, PRECIOUS, "story=slow-lately", "screen=health-warning", "seen-setup=right")
    assert not {"long-test", "read-scan"} & set(moves(found))
