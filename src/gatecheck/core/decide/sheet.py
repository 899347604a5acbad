"""The call sheet: every way out side by side, ranked by what the customer decides.

The engine ranks by expected loss. The customer adds a budget, what the machine is worth and how soon it is needed: the
sheet ranks the same options under these terms and says plainly where none of them is worth it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.call import Call
from gatecheck.core.decide.interlocks import Held
from gatecheck.core.decide.plan import BARRING
from gatecheck.core.decide.ways import Option, helping_fixes
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

_DRIVE = "replace-drive"
_VIABLE = 0.5
"""a way out counts when it works at least this share as often as the surest one"""


class SheetRow(Struct, frozen=True):
    """A way out under the customer's terms. loss: expected loss and what waiting costs, in currency."""

    option: Option
    price: float
    loss: float
    over_budget: bool
    over_worth: bool
    is_call: bool


class CallSheet(Struct, frozen=True):
    """Rows best first; `plain` says what has to be said to the customer before anything is done, or nothing."""

    rows: tuple[SheetRow, ...]
    plain: Said | None


class Barred(Struct, frozen=True):
    """Fixes that an interlock says are wrong on this evidence, so that they are no row: why, and what would release
    them."""

    interlock: str
    why: Said
    release: Said
    fixes: tuple[str, ...]


def barred_ways(model: Model, state: TicketState, held: Sequence[Held]) -> tuple[Barred, ...]:
    """What would be a way out were it not barred, by interlock."""
    helping = helping_fixes(model, state)
    by_lock: dict[str, list[Held]] = {}
    for item in held:
        if item.interlock in BARRING and item.move in helping:
            by_lock.setdefault(item.interlock, []).append(item)
    return tuple(
        Barred(lock, items[0].why, items[0].release, tuple(h.move for h in items)) for lock, items in by_lock.items()
    )


def call_sheet(model: Model, facts: Mapping[str, FactValue], call: Call, part_price: float | None = None) -> CallSheet:
    """Rank the call's options under the terms in `facts` (budget, machine_value, urgency). `part_price`: of the drive
    that was chosen, in place of what the tables say one costs."""
    budget, worth = _number(facts.get("budget")), _number(facts.get("machine_value"))
    per_minute = _per_minute(model, facts)
    surest = max((o.p_success for o in call.options), default=0.0)
    rows = [
        SheetRow(
            option,
            option.cost,
            option.expected_loss + per_minute * option.minutes,
            budget is not None and option.cost > budget,
            worth is not None and option.cost > worth,
            call.choice is not None
            and call.option is not None
            and (option.choice, option.main_fix) == (call.option.choice, call.option.main_fix),
        )
        for option in (_priced(model, o, part_price) for o in call.options)
    ]
    by_rule = call.rule is not None
    rows.sort(
        key=lambda r: (
            r.over_budget,
            r.over_worth,
            not (by_rule and r.is_call),
            r.option.p_success < _VIABLE * surest,
            r.loss,
            -r.option.p_success,
        )
    )
    return CallSheet(tuple(rows), _plain(rows, surest, budget, worth) if call.choice else None)


def _priced(model: Model, option: Option, part_price: float | None) -> Option:
    if part_price is None or _DRIVE not in option.fixes:
        return option
    more = part_price - model.knowledge.fixes[_DRIVE].parts
    return replace(
        option, cost=option.cost + more, parts=option.parts + more, expected_loss=option.expected_loss + more
    )


def _number(value: FactValue) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _per_minute(model: Model, facts: Mapping[str, FactValue]) -> float:
    rates = model.knowledge.rates
    return {"this-week": rates["urgency_this_week"], "today": rates["urgency_today"]}.get(
        str(facts.get("urgency")), 0.0
    )


def _plain(rows: list[SheetRow], surest: float, budget: float | None, worth: float | None) -> Said | None:
    likely = [r for r in rows if r.option.fixes and r.option.p_success >= _VIABLE * surest]
    if not likely:
        return None
    cheapest = min(likely, key=lambda r: r.price)
    if worth is not None and cheapest.over_worth:
        return say("sheet.not-worth-it", price=cheapest.price, worth=worth)
    if budget is not None and cheapest.over_budget:
        return say("sheet.over-budget", budget=budget, price=cheapest.price)
    return None
