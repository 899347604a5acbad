"""The call sheet under the customer's terms, and what would overturn a call."""

from __future__ import annotations

import re
from typing import Any

import pytest

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import assess
from gatecheck.core.decide.explain import overturns
from gatecheck.core.decide.plan import explained
from gatecheck.core.decide.sheet import CallSheet, barred_ways, call_sheet
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entries, parse_facts
from reading import said
from tapes import LAPTOP, PRECIOUS, SAFE, readings

WORN = ("screen=health-warning", "health-pages=worn-out", "error-log=recent")
DIRTY = ("screen=volume-stop", "storage-mode=fits", "health-pages=clean", "volume-look=damaged")


def folded(model: Model, facts: dict[str, Any], tape: tuple[str, ...]) -> TicketState:
    return fold(model, parse_facts(facts, model.knowledge), parse_entries(readings(*tape), model.knowledge))


def sheet(model: Model, facts: dict[str, Any], *tape: str) -> CallSheet:
    state = folded(model, facts, tape)
    return call_sheet(model, state.facts, assess(model, state).call)


TERMS = {
    # facts, tape, first choice, what is said plainly
    "no-terms": (SAFE, DIRTY, "repair", ""),
    "worth-enough": ({**SAFE, "machine_value": 900}, WORN, "replace", ""),
    "not-worth-it": ({**SAFE, "machine_value": 60}, WORN, "replace", "Not worth repairing"),
    "over-budget": ({**SAFE, "budget": 50}, WORN, "replace", "Over the budget of 50"),
    "in-budget": ({**SAFE, "budget": 400}, WORN, "replace", ""),
    "lab-first": (PRECIOUS, ("screen=no-boot-device", "seen-setup=zero-size", "sound=clunking"), "refer", ""),
}


@pytest.mark.parametrize(("facts", "tape", "first", "plain"), TERMS.values(), ids=TERMS)
def test_the_sheet_ranks_under_the_customers_terms(
    model: Model, facts: dict[str, Any], tape: tuple[str, ...], first: str, plain: str
) -> None:
    found = sheet(model, facts, *tape)
    assert found.rows[0].option.choice == first
    assert said(found.plain).startswith(plain) if plain else found.plain is None


def test_a_budget_puts_what_fits_it_first(model: Model) -> None:
    free, tight = sheet(model, SAFE, *DIRTY), sheet(model, {**SAFE, "budget": 80}, *DIRTY)
    assert any(r.over_budget for r in tight.rows)
    assert [r.over_budget for r in tight.rows] == sorted(r.over_budget for r in tight.rows)
    assert {(r.option.choice, r.option.main_fix) for r in free.rows} == {
        (r.option.choice, r.option.main_fix) for r in tight.rows
    }


def test_what_is_needed_today_makes_waiting_dear(model: Model) -> None:
    waits, hurries = (sheet(model, {**SAFE, "urgency": u}, *DIRTY) for u in ("can-wait", "today"))
    by_fix = {r.option.main_fix: r for r in waits.rows}
    for row in hurries.rows:
        assert row.loss == pytest.approx(by_fix[row.option.main_fix].loss + 0.20 * row.option.minutes)


def test_a_named_worth_of_the_data_replaces_the_shops_guess(model: Model) -> None:
    def refer_loss(facts: dict[str, Any]) -> float:
        rows = sheet(model, facts, "screen=no-boot-device", "seen-setup=zero-size").rows
        return next(r.option.expected_loss for r in rows if r.option.main_fix == "replace-drive")

    assert refer_loss({**LAPTOP, "data": "irreplaceable", "data_value": 5000}) > refer_loss(PRECIOUS) + 500
    assert refer_loss({**LAPTOP, "data": "irreplaceable", "data_value": 0}) < refer_loss(PRECIOUS)


def test_every_row_holds_together(model: Model) -> None:
    for row in sheet(model, SAFE, *DIRTY).rows:
        option = row.option
        assert option.p_success <= option.starts + 1e-9
        assert 0 <= option.comeback_risk <= 1
        assert option.minutes >= option.hands_on_minutes >= 0
        assert row.price == option.cost >= option.parts


OVERTURNS = {
    "repair": (SAFE, ("screen=volume-stop", "health-pages=clean", "storage-mode=fits", "volume-look=damaged")),
    "not-seen": (SAFE, ("screen=no-boot-device", "seen-setup=absent", "seen-picker=absent")),
    "pairs": (SAFE, ("screen=health-warning", "health-pages=worn-out")),
}


@pytest.mark.parametrize(("facts", "tape"), OVERTURNS.values(), ids=OVERTURNS)
def test_what_overturns_the_call_really_does(model: Model, facts: dict[str, Any], tape: tuple[str, ...]) -> None:
    state = folded(model, facts, tape)
    call = assess(model, state).call
    found = overturns(model, state, call)
    assert found
    for item in found:
        made = tuple(f"{move}={outcome}" for move, outcome in item.readings)
        after = assess(model, folded(model, facts, (*tape, *made))).call
        assert (after.choice or after.leans) == item.choice != (call.choice or call.leans)
        assert item.p > 0


def test_a_settled_call_is_overturned_by_nothing(model: Model) -> None:
    state = folded(model, PRECIOUS, ("story=knock", "screen=no-boot-device", "seen-setup=zero-size", "sound=ticking"))
    assert overturns(model, state, assess(model, state).call) == []


@pytest.mark.parametrize(("facts", "tape"), [(SAFE, WORN), (SAFE, DIRTY), (PRECIOUS, ("sound=ticking",)), (SAFE, ())])
def test_every_reason_is_whole_sentences(model: Model, facts: dict[str, Any], tape: tuple[str, ...]) -> None:
    for move in assess(model, folded(model, facts, tape)).next:
        why = said(explained(model, move)[0])
        assert why.endswith((".", "?"))
        assert not re.search(r"[a-z] [A-Z][a-z ]+: [\d<>]", why), why


BARRED = {
    # facts, tape, interlock and one fix it bars; nothing where none is barred
    "table-read": (SAFE, ("screen=no-boot-device", "disk-layout=sound"), "table-proves-drive", "replace-drive"),
    "one-that-ticks": (PRECIOUS, ("screen=no-boot-device", "sound=ticking"), "stop-running", "reinstall"),
    "nothing-read": (SAFE, ("screen=no-boot-device",), None, ""),
    "physical-errors": (SAFE, ("disk-layout=sound", "health-pages=failing"), None, ""),
}


@pytest.mark.parametrize(("facts", "tape", "lock", "fix"), BARRED.values(), ids=BARRED)
def test_what_is_no_way_out_is_said_with_its_reason(
    model: Model, facts: dict[str, Any], tape: tuple[str, ...], lock: str | None, fix: str
) -> None:
    state = folded(model, facts, tape)
    result = assess(model, state)
    found = {b.interlock: b for b in barred_ways(model, state, result.held)}
    offered = {f for o in result.call.options for f in o.fixes}
    assert not offered & {f for b in found.values() for f in b.fixes}
    assert set(found) == ({lock} if lock else set())
    if lock:
        assert fix in found[lock].fixes
        assert found[lock].why
        assert found[lock].release
