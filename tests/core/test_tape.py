"""Which entries stand, which readings count, where the technician is, and what was tried."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.core.belief.model import Model
from gatecheck.core.tape.entries import Reading
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entries, parse_facts
from gatecheck.core.tape.standing import effective_entries, merge_facts, standing, weighed
from tapes import LAPTOP, readings


def counted(model: Model, entries: list[dict[str, Any]]) -> list[int]:
    """Places of the readings that weigh on the belief."""
    tape = parse_entries(entries, model.knowledge)
    return [
        i
        for i, c in enumerate(weighed(effective_entries(tape, standing(tape)), standing(tape), model))
        if c and isinstance(tape[i], Reading)
    ]


def folded(model: Model, entries: list[dict[str, Any]], facts: dict[str, Any] | None = None) -> TicketState:
    return fold(model, parse_facts(facts or LAPTOP, model.knowledge), parse_entries(entries, model.knowledge))


UNDOS: dict[str, tuple[list[dict[str, Any]], list[bool]]] = {
    "none": (readings("screen=dead"), [True]),
    "one": ([*readings("screen=dead"), {"undo": 0}], [False, True]),
    "undo-of-undo": ([*readings("screen=dead"), {"undo": 0}, {"undo": 1}], [True, False, True]),
    "three-deep": ([*readings("screen=dead"), {"undo": 0}, {"undo": 1}, {"undo": 2}], [False, True, False, True]),
    "twice": ([*readings("screen=dead"), {"undo": 0}, {"undo": 0}], [False, True, True]),
    "a-fact": ([{"fact": {"data": "none"}}, {"undo": 0}], [False, True]),
}


@pytest.mark.parametrize(("entries", "stands"), UNDOS.values(), ids=UNDOS)
def test_an_undo_takes_one_entry_back(model: Model, entries: list[dict[str, Any]], stands: list[bool]) -> None:
    assert standing(parse_entries(entries, model.knowledge)) == stands


COUNTS: dict[str, tuple[list[dict[str, Any]], list[int]]] = {
    "plain": (readings("screen=dead", "sound=silent"), [0, 1]),
    "repeat": (readings("screen=dead", "screen=dead"), [1]),
    "correction": (readings("screen=dead", "screen=boots"), [1]),
    "repeat-after-a-relevant-fix": (
        readings("seen-setup=absent", "reseat=other-screen", "seen-setup=absent"),
        [0, 1, 2],
    ),
    "repeat-after-an-irrelevant-fix": (readings("clock=right", "reseat=other-screen", "clock=right"), [1, 2]),
    "repeat-after-could-not": (readings("seen-setup=absent", "reseat=could-not", "seen-setup=absent"), [1, 2]),
    "screen-after-no-change": (readings("screen=no-boot-device", "reseat=no-change", "screen=no-boot-device"), [1, 2]),
    "story-is-told-once": (readings("story=knock", "replace-drive=other-screen", "story=knock"), [1, 2]),
    "same-fix-again": (readings("reseat=no-change", "reseat=no-change"), [0]),
    "same-fix-other-outcome": (readings("reseat=no-change", "reseat=now-seen"), [0, 1]),
    "fix-after-fix": (readings("reseat=no-change", "swap-cable=no-change", "reseat=no-change"), [0, 1, 2]),
    "after-put-back": (
        [*readings("boot-mode=fits", "set-mode=no-change"), {"put_back": "set-mode"}, *readings("boot-mode=fits")],
        [0, 1, 3],
    ),
    "copying-changes-nothing": (readings("volume-look=damaged", "copy-data=complete", "volume-look=damaged"), [1, 2]),
    "undone-repeat": ([*readings("screen=dead", "screen=boots"), {"undo": 1}], [0]),
}


@pytest.mark.parametrize(("entries", "places"), COUNTS.values(), ids=COUNTS)
def test_what_is_no_news_does_not_count(model: Model, entries: list[dict[str, Any]], places: list[int]) -> None:
    assert counted(model, entries) == places


WHERE: dict[str, tuple[tuple[str, ...], str | None, bool]] = {
    "start": ((), None, False),
    "setup": (("setup-entry=reached",), "setup", False),
    "setup-locked": (("setup-entry=locked",), None, False),
    "live": (("live-start=runs", "disk-layout=sound"), "live", False),
    "live-failed": (("live-start=fails",), None, False),
    "opened": (("clock=right", "seat=firm"), None, True),
    "opened-then-live": (("seat=firm", "seen-live=right"), "live", True),
    "restarted": (("clock=right", "screen=no-boot-device"), None, False),
    "booted": (("clock=right", "set-order=boots"), None, False),
    "off": (("live-start=runs", "power-down=off"), None, False),
}


@pytest.mark.parametrize(("tape", "visit", "is_open"), WHERE.values(), ids=WHERE)
def test_where_the_technician_is_follows_from_the_tape(
    model: Model, tape: tuple[str, ...], visit: str | None, is_open: bool
) -> None:
    state = folded(model, readings(*tape))
    assert (state.visit, state.is_open) == (visit, is_open)


TRIED: dict[str, tuple[list[dict[str, Any]], set[str]]] = {
    "tried": (readings("load-defaults=no-change"), {"load-defaults"}),
    "one-try-is-not-the-last": (readings("reseat=no-change"), set()),
    "two-are": (readings("reseat=no-change", "clock=right", "reseat=no-change"), {"reseat"}),
    "what-could-not-be-done-was-not-tried": (readings("reseat=could-not", "reseat=no-change"), set()),
    "what-changed-something-is-used-up": (readings("reseat=other-screen"), {"reseat"}),
    "put-back-stays-tried": ([*readings("set-mode=no-change"), {"put_back": "set-mode"}], {"set-mode"}),
    "until-something-changed": (
        [*readings("set-mode=no-change"), {"put_back": "set-mode"}, *readings("reseat=now-seen")],
        {"reseat"},
    ),
    "a-new-drive-wipes-the-slate": (
        readings("rebuild-loader=no-change", "replace-drive=other-screen"),
        {"replace-drive"},
    ),
    "undone": ([*readings("reseat=no-change"), {"undo": 0}], set()),
}


@pytest.mark.parametrize(("entries", "tried"), TRIED.values(), ids=TRIED)
def test_what_was_tried(model: Model, entries: list[dict[str, Any]], tried: set[str]) -> None:
    assert folded(model, entries).tried == tried


def test_a_second_try_weighs_less_than_the_first(model: Model) -> None:
    """By Bayes: a fault that is there survives a failed try with 1 - cure, and a second one with 1 - cure * (1 - same
    cause)."""
    fix, loose = model.knowledge.fixes["reseat"], model.fault_mask("link.loose")
    start = ["screen=no-boot-device", "seen-setup=absent"]
    before, once, twice = (
        folded(model, readings(*start, *tape)).belief
        for tape in ([], ["reseat=no-change"], ["reseat=no-change", "clock=right", "reseat=no-change"])
    )
    clock = folded(model, readings(*start, "reseat=no-change", "clock=right")).belief
    odds = [float(b @ loose) / float(1 - b @ loose) for b in (before, once, clock, twice)]
    assert odds[1] / odds[0] == pytest.approx(1 - fix.cures["link.loose"], rel=0.25)
    assert odds[3] / odds[2] == pytest.approx(1 - fix.cures["link.loose"] * (1 - fix.same_cause), rel=0.25)
    assert folded(model, readings(*start, "reseat=no-change")).once == {"reseat"}


DOCKED = {
    "read-there": (("seen-live=absent", "seen-dock=right", "health-pages=clean"), True),
    "in-the-machine": (("seen-live=right", "seen-dock=right", "health-pages=clean"), False),
    "found-again": (
        ("seen-live=absent", "seen-dock=right", "reseat=now-seen", "seen-live=right", "health-pages=clean"),
        False,
    ),
    "nobody-took-it-out": (("seen-live=absent", "health-pages=clean"), False),
    "not-readable": (("seen-live=absent", "seen-dock=right", "health-pages=unreadable"), False),
}


@pytest.mark.parametrize(("tape", "docked"), DOCKED.values(), ids=DOCKED)
def test_pages_read_on_a_dock_say_nothing_of_the_machines_own_cable(
    model: Model, tape: tuple[str, ...], docked: bool
) -> None:
    link = model.fault_mask("link.loose", "link.broken", "settings.port-off")
    before, after = (
        folded(model, readings("screen=no-boot-device", *tape[: len(tape) - less])).belief for less in (1, 0)
    )
    if docked:
        assert float(after @ link) > 0.8 * float(before @ link), "still as likely as before"
    move, outcome = tape[-1].split("=")
    expected = before * model.look(move, outcome, docked)
    assert after == pytest.approx(expected / expected.sum())


RUNNING: dict[str, tuple[list[dict[str, Any]], int | None]] = {
    "started": ([{"started": "long-test", "minutes": 110}], 0),
    "read": ([{"started": "long-test", "minutes": 110}, *readings("long-test=passed")], None),
    "another-reading": ([{"started": "long-test", "minutes": 110}, *readings("clock=right")], 0),
    "undone": ([{"started": "long-test", "minutes": 110}, {"undo": 0}], None),
    "powered-down": ([{"started": "long-test", "minutes": 110}, *readings("power-down=off")], None),
    "the-later-of-two": ([{"started": "long-test", "minutes": 110}, {"started": "copy-data", "minutes": 60}], 1),
}


@pytest.mark.parametrize(("entries", "place"), RUNNING.values(), ids=RUNNING)
def test_what_runs_on_its_own(model: Model, entries: list[dict[str, Any]], place: int | None) -> None:
    assert folded(model, entries).running == place


SIGNED: dict[str, tuple[list[dict[str, Any]], int | None]] = {
    "signed": ([{"signed": "repair", "fix": "reseat"}], 0),
    "carried-out": ([{"signed": "repair", "fix": "reseat"}, *readings("reseat=boots")], 0),
    "overtaken": ([{"signed": "repair", "fix": "reseat"}, *readings("reseat=no-change")], None),
    "undone": ([{"signed": "release", "fix": None}, {"undo": 0}], None),
}


@pytest.mark.parametrize(("entries", "place"), SIGNED.values(), ids=SIGNED)
def test_a_signature_stands_until_a_new_reading_overtakes_it(
    model: Model, entries: list[dict[str, Any]], place: int | None
) -> None:
    assert folded(model, entries).signed == place


FACTS: dict[str, tuple[dict[str, Any], list[dict[str, Any]], dict[str, Any]]] = {
    "later-wins": (
        {"data": "unknown"},
        [{"fact": {"data": "none"}}, {"fact": {"data": "irreplaceable"}}],
        {"data": "irreplaceable"},
    ),
    "null-forgets": ({"data": "none"}, [{"fact": {"data": None}}], {}),
    "copied": ({"data": "irreplaceable"}, readings("copy-data=complete"), {"data": "backed-up"}),
    "copied-in-part": ({"data": "irreplaceable"}, readings("copy-data=partial"), {"data": "irreplaceable"}),
    "desktop-on-mains": ({"form": "desktop"}, [], {"form": "desktop", "mains": "connected"}),
    "desktop-says-battery": ({"form": "desktop", "mains": "battery"}, [], {"form": "desktop", "mains": "battery"}),
}


@pytest.mark.parametrize(("facts", "entries", "expected"), FACTS.values(), ids=FACTS)
def test_facts_are_merged_in_the_order_of_the_tape(
    model: Model, facts: dict[str, Any], entries: list[dict[str, Any]], expected: dict[str, Any]
) -> None:
    tape = parse_entries(entries, model.knowledge)
    assert merge_facts(parse_facts(facts, model.knowledge), tape, standing(tape)) == expected


def test_a_nested_trial_is_put_back_from_the_inside_out(model: Model) -> None:
    """Two trials open at once (the interlock overridden): each put-back restores what stood before its own change."""
    start = readings("screen=no-boot-device")
    both = [
        *start,
        *readings("set-mode=no-change", "set-secure-boot=no-change"),
        {"put_back": "set-secure-boot"},
        {"put_back": "set-mode"},
    ]
    one = [*start, *readings("set-mode=no-change"), {"put_back": "set-mode"}]
    column = model.space.index("settings.mode")
    after_both, after_one = (float(folded(model, tape).belief @ model.space.member[:, column]) for tape in (both, one))
    assert after_both == pytest.approx(after_one, abs=0.05)
    assert folded(model, both).belief.sum() == pytest.approx(1.0)
