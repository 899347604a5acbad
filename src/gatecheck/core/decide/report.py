"""An assessment as plain JSON-ready values: the one shape that the command line and the server both give out."""

from __future__ import annotations

from collections.abc import Mapping

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import Assessment, assess
from gatecheck.core.decide.call import Call
from gatecheck.core.decide.doubts import find_doubts
from gatecheck.core.decide.plan import NextMove, explained
from gatecheck.core.decide.ways import Option
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entries, parse_facts
from gatecheck.core.words.catalogue import Words

Json = dict[str, object]


def triage(model: Model, words: Words, case: object, as_of_year: int | None = None) -> Json:
    """`{"facts", "entries"}` -> the contract's document. Raises TapeError on unusable input."""
    if not isinstance(case, Mapping):
        raise TapeError("case", expected="an object with facts and entries", got=type(case).__name__)
    facts = parse_facts(case.get("facts") or {}, model.knowledge)
    if as_of_year is not None:
        facts.setdefault("as_of_year", as_of_year)
    entries = parse_entries(case.get("entries") or [], model.knowledge)
    state = fold(model, facts, entries)
    return document(model, words, state, assess(model, state))


def document(model: Model, words: Words, state: TicketState, result: Assessment) -> Json:
    """Gates, suspects, next, held, call, doubts, and beside the contract's keys trials and questions."""
    return {
        "gates": [
            {"id": g.id, "state": g.state, "why": words.say(g.why), "mass": _p(g.mass), "entries": list(g.entries)}
            for g in result.gates
        ],
        "suspects": [{"fault": s.fault, "p": _p(s.p)} for s in result.suspects],
        "next": [_next(model, words, m) for m in result.next],
        "held": [
            {
                "move": h.move,
                "interlock": h.interlock,
                "why": words.say(h.why),
                "release": words.say(h.release),
                "entries": list(h.entries),
            }
            for h in result.held
        ],
        "call": _call(result.call, words),
        "trials": [
            {
                "fix": t.fix,
                "entry": t.index,
                "outcome": t.outcome,
                "open": t.open,
                "no_effect": t.no_effect,
                "before": t.before,
                "after": t.after,
                "standing": t.standing,
                "walk": t.walk,
            }
            for t in state.trials
        ],
        "doubts": [
            {"entries": list(d.entries), "why": words.say(d.why), "take_back": d.take_back}
            for d in find_doubts(model, state, result.call)
        ],
        "questions": [{"fact": q.fact, "why": words.say(q.why)} for q in result.questions],
    }


def _next(model: Model, words: Words, move: NextMove) -> Json:
    why, separates, outlook = explained(model, move)
    return {
        "move": move.move,
        "kind": move.kind,
        "minutes": move.minutes,
        "hands_on_minutes": move.hands_on_minutes,
        "why": words.say(why),
        "gain": None if move.gain is None else round(move.gain, 2),
        "cost": round(move.cost, 2),
        "separates": list(separates),
        "outlook": [
            {"outcome": o.outcome, "p": _p(o.p), "leaves": o.leaves, "leaves_p": _p(o.leaves_p)} for o in outlook
        ],
    }


def _call(call: Call, words: Words) -> Json:
    option = call.option
    return {
        "choice": call.choice,
        "fix": option.fix if call.choice and option else None,
        "fixes": list(option.fixes) if call.choice and option and not option.held_by else [],
        "held_fix": option.main_fix if option and option.held_by else None,
        "held_by": list(option.held_by) if option else [],
        "confidence": _p(call.confidence),
        "leans": call.leans,
        "why": words.say(call.why),
        "rule": call.rule,
        "note": words.say(call.note),
        "balance": {choice: _p(share) for choice, share in call.balance.items()},
        "options": [option_document(o, words) for o in call.options],
    }


def option_document(option: Option, words: Words) -> Json:
    """One way out, JSON-ready."""
    return {
        "choice": option.choice,
        "fix": option.fix,
        "fixes": [] if option.held_by else list(option.fixes),
        "held_fix": option.main_fix if option.held_by else None,
        "held_by": list(option.held_by),
        "p_success": _p(option.p_success),
        "minutes": option.minutes,
        "hands_on_minutes": option.hands_on_minutes,
        "cost": round(option.cost, 2),
        "data_outcome": words.knowledge.data_outcome[option.data_outcome],
        "expected_loss": round(option.expected_loss, 2),
        "p_starts": _p(option.starts),
        "comeback_risk": _p(option.comeback_risk),
        "unattended_minutes": option.minutes - option.hands_on_minutes,
        "parts": round(option.parts, 2),
    }


def _p(value: float) -> float:
    """A probability as it is given out: inside [0, 1] whatever rounding did."""
    return min(1.0, max(0.0, float(value)))


def vocabulary(knowledge: Knowledge) -> Json:
    """All ids, as the contract's `gatecheck vocabulary` prints them."""
    return {
        "gates": [g.id for g in knowledge.gates],
        "gate_states": ["open", "shut", "suspect", "unproven"],
        "faults": {f.id: {"gate": f.gate} for f in knowledge.faults},
        "checks": {c.id: {"gate": c.gate, "outcomes": list(c.outcomes)} for c in knowledge.checks.values()},
        "fixes": {
            f.id: {"gate": f.gate, "outcomes": list(f.outcomes), "writes": f.writes, "destroys": f.destroys}
            for f in knowledge.fixes.values()
        },
        "calls": list(knowledge.calls),
        "interlocks": list(knowledge.interlocks),
        "facts": {name: list(values) for name, values in knowledge.facts.items()},
    }
