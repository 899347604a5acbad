"""Entries that do not fit together: which are named, which one is to be taken back, and that honest tapes name none."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
from gatecheck.core.decide.report import triage

MODEL = shipped_model()


def entries_of(text: str) -> list[dict[str, Any]]:
    """`screen=dead, reseat=now-seen, ~seen-live=right`: readings in order; `~` a soft one, as a machine read it."""
    found: list[dict[str, Any]] = []
    for part in filter(None, text.split(", ")):
        move, _, outcome = part.lstrip("~").partition("=")
        if move == "undo":
            found.append({"undo": int(outcome)})
        elif move == "fact":
            name, _, value = outcome.partition(":")
            found.append({"fact": {name: value}})
        elif part.startswith("~"):
            others = [o for o in MODEL.knowledge.checks[move].outcomes if o != outcome]
            found.append(
                {"move": move, "weights": {outcome: 0.94, **{o: round(0.06 / len(others), 4) for o in others}}}
            )
        else:
            found.append({"move": move, "outcome": outcome})
    return found


def doubts_of(text: str, facts: dict[str, str] | None = None) -> list[dict[str, Any]]:
    case = {"facts": {"platform": "pc", "form": "laptop", **(facts or {})}, "entries": entries_of(text)}
    said: Any = triage(MODEL, shipped_words(), case, 2026)
    return list(said["doubts"])


# tape, facts, (entries, the one to take back) of the first doubt
DO_NOT_FIT = [
    ("screen=dead, live-start=runs", {}, ([0, 1], None)),
    ("screen=no-picture, live-start=runs, seen-live=right", {}, ([0, 1], None)),
    ("story=knock, screen=dead, setup-entry=reached", {}, ([1, 2], None)),
    ("screen=volume-stop, seen-live=absent, health-pages=clean", {}, ([1, 2], None)),
    ("screen=volume-stop, seen-live=absent, volume-look=damaged", {}, ([1, 2], None)),
    ("seen-live=absent, screen=volume-stop, ~seen-live=right", {}, ([0, 2], 0)),
    ("screen=no-boot-device, sound=ticking", {"drive_kind": "nvme"}, ([1], 1)),
    ("sound=clunking, fact=drive_kind:sata-ssd", {}, ([0, 1], 0)),
    ("sound=no-moving-parts", {"drive_kind": "hdd"}, ([0], 0)),
    ("sound=no-moving-parts, read-scan=one-head", {}, ([0, 1], None)),
    ("live-start=fails, seen-live=absent", {}, ([0, 1], None)),
    ("seat=firm, reseat=now-seen", {}, ([0, 1], 0)),
    ("disk-layout=blank, volume-look=clean", {}, ([0, 1], None)),
    ("boot-mode=fits, disk-layout=mode-mismatch", {}, ([0, 1], None)),
    ("seen-setup=zero-size, disk-layout=sound", {}, ([0, 1], None)),
    ("seen-builtin=no-such-tool, builtin-quick=passed", {}, ([0, 1], None)),
]


@pytest.mark.parametrize(("tape", "facts", "wanted"), DO_NOT_FIT, ids=[c[0] for c in DO_NOT_FIT])
def test_entries_that_do_not_fit_are_named(
    tape: str, facts: dict[str, str], wanted: tuple[list[int], int | None]
) -> None:
    first = doubts_of(tape, facts)[0]
    assert first["entries"] == wanted[0]
    assert first["take_back"] in first["entries"]
    assert wanted[1] in (None, first["take_back"])
    assert "doubt." not in first["why"]
    assert "…" not in first["why"]


FIT = [
    ("", {}),
    ("screen=dead, reseat=other-screen, setup-entry=reached", {}),  # something was done in between
    ("screen=dead, live-start=runs, undo=1", {}),
    ("seen-setup=absent, reseat=now-seen, seen-setup=right, seen-live=right", {}),
    ("seen-live=absent, swap-cable=now-seen, health-pages=clean", {}),
    (
        "seen-setup=absent, seen-live=right",
        {},
    ),  # a port that is off, a controller's mode: that is what the sightings are for
    ("seen-live=right, seen-live=absent", {}),  # a hand corrects itself: the later one counts
    ("screen=no-boot-device, sound=steady", {"drive_kind": "nvme"}),  # the fan whirs
    ("screen=volume-stop, short-test=passed, long-test=read-failure", {}),
    ("screen=no-boot-device, clock=reset-to-default, boot-order=system-absent", {}),
    ("screen=repair-loop, health-pages=failing, error-log=recent, copy-data=partial", {"drive_kind": "hdd"}),
    ("screen=health-warning, health-pages=clean, long-test=passed", {}),
]


@pytest.mark.parametrize(("tape", "facts"), FIT, ids=[c[0] or "nothing" for c in FIT])
def test_what_fits_raises_no_doubt(tape: str, facts: dict[str, str]) -> None:
    assert doubts_of(tape, facts) == []


def test_the_one_the_rest_speaks_against_is_the_one_to_take_back() -> None:
    around = "seen-setup=right, seen-picker=listed, ~seen-live=right"
    assert doubts_of(f"{around}, live-start=fails")[0]["take_back"] == 3
    assert doubts_of("seen-live=absent, seen-setup=right, seen-picker=listed, volume-look=damaged")[0]["take_back"] == 0


def test_a_reading_that_the_rest_makes_rare_stands_against_the_one_that_did_so() -> None:
    """Not in the table: the belief alone says it."""
    tape = "screen=repair-loop, reduced-start=works, roll-back=boots, screen=no-boot-device"
    assert [d["entries"] for d in doubts_of(tape)] == [[0, 3]]


def test_the_one_reading_that_a_verdict_rests_on_is_named_and_not_taken_back() -> None:
    found = doubts_of(
        "screen=volume-stop, long-test=read-failure, health-pages=clean", {"drive_kind": "hdd", "data": "none"}
    )
    assert [(d["entries"], d["take_back"]) for d in found] == [([1], None)]
    assert doubts_of("screen=volume-stop, long-test=read-failure, health-pages=failing, short-test=read-failure") == []


def test_every_doubt_of_the_table_has_its_sentence() -> None:
    words = shipped_words()
    missing = [c.id for c in MODEL.knowledge.doubts.clashes if not words.has(f"doubt.{c.id}")]
    assert missing == []
