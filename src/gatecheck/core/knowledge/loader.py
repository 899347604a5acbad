"""Reads and validates the knowledge tables.

`load(texts)` takes file name -> TOML text and returns `Knowledge`, or raises KnowledgeError naming file, key and line.
A second mapping laid over the first (a shop's own numbers, or another world for rehearsals) replaces key by key.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from typing import Any

from gatecheck.core.errors import KnowledgeError
from gatecheck.core.knowledge import tables as t
from gatecheck.core.knowledge.instruments import Ids, load_keys, load_settings, load_sightings
from gatecheck.core.knowledge.judging import load_findings
from gatecheck.core.knowledge.proofs import load_proof
from gatecheck.core.knowledge.toml_table import Table
from gatecheck.core.knowledge.ways import load_ways
from gatecheck.core.knowledge.work import load_work

FILES = (
    "vocabulary.toml",
    "faults.toml",
    "checks.toml",
    "fixes.toml",
    "decisions.toml",
    "intake.toml",
    "settings.toml",
    "sightings.toml",
    "keys.toml",
    "platforms.toml",
    "rules.toml",
    "findings.toml",
    "doubts.toml",
    "proof.toml",
    "work.toml",
    "ways.toml",
)
FIX_OUTCOMES = ("boots", "now-seen", "other-screen", "no-change", "could-not")
# rule -> (its limits, its readings): what the engine asks of each
RULES: Mapping[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "sent-away": ((), ("sent",)),
    "refer-before-stress": (("mechanical",), ()),
    "mechanical-damage": (("drive", "mechanical"), ()),
    "failing-drive": (("one_sign", "more_signs", "lasting"), ("signs",)),
    "seen-nowhere": (("drive",), ("reseated", "other_way", "looked", "seen")),
    "hardware-passed": (("software",), ("passed", "repairable", "reached", "unsound_before")),
    "flat-battery": (("battery",), ("reset", "fallen")),
}
COMBINES = ("earliest-gate", "any-abnormal", "blend")
OWN_FACTS = {"volume_repair": ("all-of-it", "part-of-it", "none-of-it")}
"""facts that the bench says itself: what a repair can do for the volume it has looked at"""


def load(texts: Mapping[str, str], overlay: Mapping[str, str] | None = None) -> t.Knowledge:
    """Parse and check all tables. Raises KnowledgeError on the first thing that is wrong."""
    trees = {name: _parse(name, texts) for name in FILES}
    sources = dict(texts)
    for name, text in (overlay or {}).items():
        if name not in trees:
            raise KnowledgeError(name, "file", expected=f"one of {', '.join(FILES)}", got=name)
        _lay_over(trees[name], _parse(name, {name: text}))
        sources[name] = text
    return _Builder(trees, sources).build()


def _parse(name: str, texts: Mapping[str, str]) -> dict[str, Any]:
    if name not in texts:
        raise KnowledgeError(name, "file", expected="the file", got="nothing")
    try:
        return tomllib.loads(texts[name])
    except tomllib.TOMLDecodeError as error:
        raise KnowledgeError(name, "syntax", expected="TOML", got=str(error)) from error


def _lay_over(base: dict[str, Any], top: Mapping[str, Any]) -> None:
    for key, value in top.items():
        below = base.get(key)
        # a likelihood row is replaced whole: half an old row and half a new one sum to nothing sensible
        if isinstance(value, dict) and isinstance(below, dict) and (key in _EACH_BY_ITSELF or not _is_row(below)):
            _lay_over(below, value)
        else:
            base[key] = value


_EACH_BY_ITSELF = ("by", "cures", "breaks", "resolves", "rescues")
"""numbers that stand each by itself: what is not named stays as it was"""


def _is_row(value: Mapping[str, Any]) -> bool:
    return bool(value) and all(isinstance(v, int | float) and not isinstance(v, bool) for v in value.values())


class _Builder:
    def __init__(self, trees: Mapping[str, dict[str, Any]], texts: Mapping[str, str]) -> None:
        self.tables = {name: Table(name, texts[name], "", tree) for name, tree in trees.items()}
        vocabulary = self.tables["vocabulary.toml"]
        self.voc = vocabulary
        self.gates = self._gates()
        self.gate_ids = [gate.id for gate in self.gates]
        self.fault_ids = list(vocabulary.sub("faults").values)
        self.check_ids = list(vocabulary.sub("checks").values)
        self.fix_ids = list(vocabulary.sub("fixes").values)
        self.facts = {name: tuple(v) for name, v in vocabulary.sub("facts").values.items()}
        decisions = self.tables["decisions.toml"]
        self.visit_ids = [k for k in decisions.sub("visits").values if k != "source"]
        self.need_ids = [k for k in decisions.sub("needs").values if k != "source"]
        self.stress_ids = [k for k in decisions.sub("stress").values if k != "source"]
        self.outcomes = {c: self._listed_outcomes("checks", c) for c in self.check_ids}
        self.outcomes |= {f: self._listed_outcomes("fixes", f) for f in self.fix_ids}

    def build(self) -> t.Knowledge:
        faults, decisions = self.tables["faults.toml"], self.tables["decisions.toml"]
        checks_file, fixes_file = self.tables["checks.toml"], self.tables["fixes.toml"]
        scale = faults.sub("scale")
        visibility_table = checks_file.sub("visibility")
        self.visibility = {
            name: t.Visibility(
                name, sub.row("by", self.fault_ids), sub.string("source"), sub.row("intermittent", self.fault_ids)
            )
            for name in visibility_table.values
            for sub in [visibility_table.sub(name)]
        }
        self.calls = {k: str(v) for k, v in self.voc.sub("calls").values.items()}
        checks = {c: self._check(c) for c in self._same_ids(checks_file, "checks", self.check_ids)}
        fixes = {f: self._fix(f) for f in self._same_ids(fixes_file, "fixes", self.fix_ids)}
        gate_limits, plan = decisions.sub("gates"), decisions.sub("plan")
        return t.Knowledge(
            gates=self.gates,
            faults=tuple(self._fault(f) for f in self._same_ids(faults, "faults", self.fault_ids)),
            contexts=tuple(self._context(i) for i in range(len(faults.values.get("context", [])))),
            couplings=tuple(self._coupling(i) for i in range(len(faults.values.get("coupling", [])))),
            sound_odds=scale.number("sound"),
            shared_scale=scale.number("shared_scale", high=1.0),
            visibility=self.visibility,
            checks=checks,
            fixes=fixes,
            check_floor=checks_file.number("floor", low=1e-9, high=0.05),
            misread={"": checks_file.number("misread", high=0.5)}
            | {
                c: checks_file.sub("checks").sub(c).number("misread", high=0.5)
                for c in self.check_ids
                if "misread" in checks_file.sub("checks").sub(c).values
            },
            fix_floor=fixes_file.number("floor", low=1e-9, high=0.05),
            calls=self.calls,
            call_names={c: decisions.sub("call_names").string(c) for c in self.calls},
            interlocks={
                i: self._interlock(i, fixes)
                for i in self._same_ids(decisions, "interlocks", list(self.voc.sub("interlocks").values))
            },
            facts=self.facts,
            rates=_numbers(decisions.sub("rates")),
            visits={v: self._visit(v) for v in self.visit_ids},
            needs={n: self._need(n) for n in self.need_ids},
            gate_limits=_numbers(gate_limits),
            plan=_numbers(plan),
            rules={r: self._rule(r) for r in self._same_rules()},
            open=_numbers(self.tables["rules.toml"].sub("open")),
            offer=_numbers(self.tables["rules.toml"].sub("offer")),
            doubts=self._doubts(),
            proof=load_proof(self.tables["proof.toml"], self._ids()),
            findings=load_findings(self.tables["findings.toml"], self.outcomes),
            stress={s: decisions.sub("stress").row(s, self.fault_ids) for s in self.stress_ids},
            lost_on_replace={
                k: decisions.sub("lost_on_replace").number(k, high=1.0)
                for k in decisions.sub("lost_on_replace").values
                if k != "source"
            },
            data_outcome={k: str(v) for k, v in decisions.sub("data_outcome").values.items()},
            intake=self._intake(),
            settings=load_settings(self.tables["settings.toml"], self._ids()),
            sightings=load_sightings(self.tables["sightings.toml"], self._ids()),
            keys=load_keys(self.tables["keys.toml"], self._ids()),
            work=load_work(
                self.tables["work.toml"],
                self._ids(),
                tuple(self.fix_ids),
                tuple(self.calls),
                tuple(self.voc.sub("interlocks").values),
            ),
            ways=load_ways(self.tables["ways.toml"], self._ids()),
            platform_words={p: self._words_on(p) for p in self.tables["platforms.toml"].values},
        )

    def _ids(self) -> Ids:
        return Ids(tuple(self.gate_ids), tuple(self.fault_ids), self.facts, self.outcomes, tuple(self.check_ids))

    def _words_on(self, platform: str) -> dict[str, dict[str, str]]:
        file = self.tables["platforms.toml"]
        if platform not in self.facts["platform"]:
            raise file.error(platform, f"one of {', '.join(self.facts['platform'])}", repr(platform))
        own = file.sub(platform)
        found = {}
        for move in own.values:
            if move not in self.outcomes:
                raise own.error(move, "a known move", repr(move))
            own.sub(move).only("name", "ask", "why")
            found[move] = {key: own.sub(move).string(key) for key in own.sub(move).values}
        return found

    def _intake(self) -> t.Intake:
        shares, customers = self.tables["intake.toml"].sub("shares"), self.tables["intake.toml"].sub("customers")
        shares.only("source", *self.facts)
        drawn = {f: shares.distribution(f, self.facts[f]) for f in shares.values if f != "source"}
        return t.Intake(
            drawn,
            customers.number("unknown_is_precious", high=1.0),
            customers.number("consents", high=1.0),
            int(customers.number("oldest", high=60)),
            customers.number("lasting", high=1.0),
        )

    def _gates(self) -> tuple[t.Gate, ...]:
        rows = self.voc.values.get("gate", [])
        tables = [Table(self.voc.file, self.voc.text, f"gate.{i}", row) for i, row in enumerate(rows)]
        return tuple(t.Gate(g.string("id"), g.string("name"), g.string("asks")) for g in tables)

    def _listed_outcomes(self, kind: str, move: str) -> tuple[str, ...]:
        table = self.voc.sub(kind).sub(move)
        listed = table.values.get("outcomes", list(FIX_OUTCOMES) if kind == "fixes" else None)
        if not isinstance(listed, list) or not listed:
            raise table.error("outcomes", "a list of outcomes", repr(listed))
        return tuple(listed)

    def _same_ids(self, file: Table, kind: str, wanted: list[str]) -> list[str]:
        table = file.sub(kind)
        for name in table.values:
            if name not in wanted:
                raise table.error(name, f"an id of the vocabulary's {kind}", repr(name))
        for name in wanted:
            if name not in table.values:
                raise table.error(name, "an entry for every id of the vocabulary", "nothing")
        return wanted

    def _fault(self, fault: str) -> t.Fault:
        words = self.voc.sub("faults").sub(fault)
        own = self.tables["faults.toml"].sub("faults").sub(fault)
        own.only("odds", "text", "source", "intermittent")
        return t.Fault(
            fault,
            words.one_of("gate", self.gate_ids),
            words.string("name"),
            own.string("text"),
            own.number("odds", low=1e-9),
            own.string("source"),
            own.number("intermittent", 0.0, high=1.0),
        )

    def _context(self, index: int) -> t.Context:
        file = self.tables["faults.toml"]
        own = Table(file.file, file.text, f"context.{index}", file.values["context"][index])
        own.only("fact", "is", "over", "under", "times", "source")
        fact = own.string("fact")
        if fact != "drive_age":
            own.one_of("fact", self.facts)
        return t.Context(
            fact,
            own.ids("is", self.facts.get(fact, ())),
            own.number("over") if "over" in own.values else None,
            own.number("under") if "under" in own.values else None,
            own.row("times", self.fault_ids, high=100.0),
            own.string("source"),
        )

    def _coupling(self, index: int) -> t.Coupling:
        file = self.tables["faults.toml"]
        own = Table(file.file, file.text, f"coupling.{index}", file.values["coupling"][index])
        own.only("faults", "times", "name", "source")
        return t.Coupling(
            own.ids("faults", self.fault_ids),
            own.number("times", high=1000.0),
            own.string("name"),
            own.string("source"),
        )

    def _fact_test(self, own: Table, key: str) -> dict[str, tuple[str, ...]]:
        sub = own.sub(key, optional=True)
        for fact in sub.values:
            if fact not in self.facts:
                raise sub.error(fact, f"one of {', '.join(self.facts)}", repr(fact))
        return {fact: sub.ids(fact, self.facts[fact]) for fact in sub.values}

    def _readings(self, own: Table, key: str) -> dict[str, tuple[str, ...]]:
        sub = own.sub(key, optional=True)
        for move in sub.values:
            if move not in self.outcomes:
                raise sub.error(move, "a known move", repr(move))
        return {move: sub.ids(move, self.outcomes[move]) for move in sub.values}

    def _likely(self, own: Table, key: str, limit: str = "at_least") -> t.Likely | None:
        if key not in own.values:
            return None
        sub = own.sub(key)
        return t.Likely(sub.ids("faults", self.fault_ids), sub.number(limit, high=1.0))

    def _move_parts(self, words: Table, own: Table, move: str, say: Mapping[str, str]) -> dict[str, Any]:
        missing = [o for o in self.outcomes[move] if o not in say]
        if missing:
            raise own.error("say", f"words for {missing[0]}", "nothing")
        return {
            "id": move,
            "gate": words.one_of("gate", self.gate_ids),
            "name": words.string("name"),
            "outcomes": self.outcomes[move],
            "minutes": own.number("minutes"),
            "unattended": own.number("unattended", 0.0),
            "visit": own.one_of("visit", self.visit_ids) if "visit" in own.values else None,
            "enters": own.one_of("enters", self.visit_ids) if "enters" in own.values else None,
            "stress": own.one_of("stress", self.stress_ids, "none"),
            "needs": own.ids("needs", self.need_ids),
            "only_when": self._fact_test(own, "only_when"),
            "not_when": self._fact_test(own, "not_when"),
            "ask": own.string("ask"),
            "why": own.string("why"),
            "say": {o: say[o] for o in self.outcomes[move]},
            "source": own.string("source"),
        }

    def _check(self, check: str) -> t.Check:
        words = self.voc.sub("checks").sub(check)
        own = self.tables["checks.toml"].sub("checks").sub(check)
        own.only(
            "minutes",
            "unattended",
            "visit",
            "enters",
            "stress",
            "needs",
            "only_when",
            "not_when",
            "ask",
            "why",
            "say",
            "source",
            "combine",
            "normal",
            "passes",
            "sound",
            "rows",
            "intermittent",
            "aside",
            "hidden",
            "says_nothing_when",
            "opens",
            "names",
            "misread",
            "on_dock",
        )
        outcomes = self.outcomes[check]
        say = {k: str(v) for k, v in own.sub("say").values.items()}
        table = self._likelihood(own, outcomes, own.one_of("combine", COMBINES))
        named = {o for row in (table.sound, table.aside, table.hidden_row, *table.rows.values()) for o in row}
        for outcome in outcomes:
            if outcome not in named:
                raise own.error("sound", f"a row that names the outcome {outcome}", "none")
        gate_lists = {
            key: {o: sub.ids(o, self.gate_ids) for o in sub.values}
            for key in ("opens", "names")
            for sub in [own.sub(key, optional=True)]
        }
        for key, lists in gate_lists.items():
            for outcome in lists:
                if outcome not in outcomes:
                    raise own.sub(key).error(outcome, f"one of {', '.join(outcomes)}", repr(outcome))
        return t.Check(
            **self._move_parts(words, own, check, say),
            table=table,
            says_nothing_when=self._fact_test(own, "says_nothing_when"),
            on_dock=own.one_of("on_dock", self.visibility) if "on_dock" in own.values else None,
            opens=gate_lists["opens"],
            points_at=gate_lists["names"],
        )

    def _likelihood(self, own: Table, outcomes: tuple[str, ...], combine: str) -> t.Likelihood:
        key = {"earliest-gate": "passes", "any-abnormal": "normal"}.get(combine)
        hidden = own.sub("hidden") if "hidden" in own.values else None
        return t.Likelihood(
            combine=combine,
            normal=own.one_of(key, outcomes) if key else "",
            sound=own.distribution("sound", outcomes),
            rows=self._rows(own, outcomes),
            intermittent=self._rows(own, outcomes, "intermittent"),
            aside=own.row("aside", outcomes),
            hidden_by=hidden.one_of("by", self.visibility) if hidden else None,
            hidden_row=hidden.distribution("row", outcomes) if hidden else {},
        )

    def _rows(self, own: Table, outcomes: tuple[str, ...], key: str = "rows") -> dict[str, t.Row]:
        rows = own.sub(key, optional=True)
        for fault in rows.values:
            if fault not in self.fault_ids:
                raise rows.error(fault, "a known fault", repr(fault))
        return {fault: rows.distribution(fault, outcomes) for fault in rows.values}

    def _fix(self, fix: str) -> t.Fix:
        words = self.voc.sub("fixes").sub(fix)
        own = self.tables["fixes.toml"].sub("fixes").sub(fix)
        own.only(
            "minutes",
            "unattended",
            "visit",
            "enters",
            "stress",
            "needs",
            "only_when",
            "not_when",
            "ask",
            "why",
            "source",
            "call",
            "parts",
            "cured_minutes",
            "cured_parts",
            "burden",
            "cures",
            "breaks",
            "could_not",
            "same_cause",
            "cases",
            "say",
            "rows",
            "rows_sound",
            "rows_normal",
            "resolves",
            "rescues",
            "trial",
            "setting",
            "verdict",
            "long_write",
            "look_first",
            "look_twice",
            "follow_up",
        )
        outcomes = self.outcomes[fix]
        shared, its = self.tables["fixes.toml"].sub("say").values, own.sub("say").values if "say" in own.values else {}
        unknown = [o for o in its if o not in outcomes]
        if unknown:
            raise own.error("say", f"one of {', '.join(outcomes)}", unknown[0])
        say = {k: str(v) for k, v in {**shared, **its}.items()}
        table = None
        if "rows_sound" in own.values:
            table = t.Likelihood(
                combine="any-abnormal",
                normal=own.one_of("rows_normal", outcomes),
                sound=own.distribution("rows_sound", outcomes),
                rows=self._rows(own, outcomes),
                intermittent={},
                aside={},
                hidden_by=None,
                hidden_row={},
            )
        elif outcomes != FIX_OUTCOMES:
            raise own.error("rows_sound", "a row for a fix with outcomes of its own", "nothing")
        return t.Fix(
            **self._move_parts(words, own, fix, say),
            call=own.one_of("call", self.calls),
            parts=own.number("parts", 0.0),
            cured_minutes=own.number("cured_minutes", 0.0),
            cured_parts=own.number("cured_parts", 0.0),
            burden=own.number("burden", 0.0),
            cures=own.row("cures", self.fault_ids),
            breaks=own.row("breaks", self.fault_ids),
            could_not=own.number("could_not", 0.0, high=1.0),
            same_cause=own.number("same_cause", 1.0, high=1.0),
            cases=tuple(self._case(own.sub("cases").sub(name)) for name in own.sub("cases", optional=True).values),
            table=table,
            resolves=own.row("resolves", self.fault_ids),
            rescues=own.row("rescues", self.fault_ids),
            trial=own.flag("trial"),
            setting=own.flag("setting"),
            verdict=own.flag("verdict"),
            writes=words.flag("writes"),
            destroys=words.flag("destroys"),
            long_write=own.flag("long_write"),
            look_first=own.ids("look_first", self.check_ids),
            look_twice={
                check: tests.ids(check, self.outcomes[check])
                for tests in [own.sub("look_twice", optional=True)]
                for check in tests.values
            },
            follow_up=own.one_of("follow_up", self.fix_ids) if "follow_up" in own.values else None,
        )

    def _case(self, own: Table) -> t.FixCase:
        own.only("says", "readings", "facts", "times")
        facts = own.sub("facts", optional=True)
        known = {**self.facts, **OWN_FACTS}
        for fact in facts.values:
            if fact not in known:
                raise facts.error(fact, f"one of {', '.join(known)}", repr(fact))
        return t.FixCase(
            own.path.rpartition(".")[2],
            own.string("says"),
            self._readings(own, "readings"),
            {fact: facts.ids(fact, known[fact]) for fact in facts.values},
            own.number("times", high=4.0),
        )

    def _interlock(self, interlock: str, fixes: Mapping[str, t.Fix]) -> t.Interlock:
        own = self.tables["decisions.toml"].sub("interlocks").sub(interlock)
        own.only(
            "holds",
            "holds_stress",
            "holds_class",
            "seen",
            "seen_needs",
            "likely",
            "renewed_by",
            "facts",
            "unless_facts",
            "except",
            "open_trial",
            "while_pending",
            "unless_proven",
            "disproved",
            "release",
            "released_by",
            "source",
        )
        moves = set(own.ids("holds", self.outcomes))
        stresses = own.ids("holds_stress", self.stress_ids)
        checks = self.tables["checks.toml"].sub("checks")
        moves |= {c for c in self.check_ids if checks.sub(c).values.get("stress", "none") in stresses}
        moves |= {f.id for f in fixes.values() if f.stress in stresses}
        classes = own.ids("holds_class", ("writes", "destroys", "setting", "long_write"))
        moves |= {f.id for f in fixes.values() if any(getattr(f, name) for name in classes)}
        exceptions = [
            (frozenset(item.ids("moves", self.outcomes)), self._fact_test(item, "facts"))
            for i, raw in enumerate(own.values.get("except", []))
            for item in [Table(own.file, own.text, f"{own.path}.except.{i}", raw)]
        ]
        proof, disproof = own.sub("unless_proven", optional=True), own.sub("disproved", optional=True)
        text = self.voc.sub("interlocks").string(interlock)
        return t.Interlock(
            id=interlock,
            text=text,
            release=own.string("release"),
            moves=frozenset(moves),
            seen=self._readings(own, "seen"),
            seen_needs=self._likely(own, "seen_needs"),
            likely=self._likely(own, "likely"),
            renewed_by=own.ids("renewed_by", self.fault_ids),
            facts=self._fact_test(own, "facts"),
            unless_facts=self._fact_test(own, "unless_facts"),
            exceptions=tuple(exceptions),
            open_trial=own.flag("open_trial"),
            while_pending=own.string("while_pending") if "while_pending" in own.values else "",
            released_by=own.ids("released_by", self.outcomes),
            proof_all=self._readings(proof, "all"),
            proof_any=self._readings(proof, "any"),
            proof_below=self._likely(own, "unless_proven", "below"),
            disproof=self._readings(disproof, "readings"),
            disproof_likely=self._likely(own, "disproved"),
            source=own.string("source"),
        )

    def _same_rules(self) -> list[str]:
        table = self.tables["rules.toml"].sub("rules")
        for name in RULES:
            if name not in table.values:
                raise table.error(name, "every rule that the engine knows", "nothing")
        for name in table.values:
            if name not in RULES:
                raise table.error(name, f"one of {', '.join(RULES)}", repr(name))
        return list(RULES)

    def _rule(self, rule: str) -> t.TradeRule:
        own = self.tables["rules.toml"].sub("rules").sub(rule)
        own.only("choice", "fix", "limits", "readings", "source")
        limits, readings = own.sub("limits", optional=True), own.sub("readings", optional=True)
        wanted_limits, wanted_readings = RULES[rule]
        for table, wanted in ((limits, wanted_limits), (readings, wanted_readings)):
            if set(table.values) != set(wanted):
                raise own.error(
                    table.path.rsplit(".", 1)[-1],
                    f"just {', '.join(wanted) or 'none'}",
                    ", ".join(table.values) or "none",
                )
        return t.TradeRule(
            rule,
            own.one_of("choice", self.calls),
            own.one_of("fix", self.fix_ids) if "fix" in own.values else None,
            {name: limits.number(name, high=1.0) for name in wanted_limits},
            {name: self._readings(readings, name) for name in wanted_readings},
            own.string("source"),
        )

    def _doubts(self) -> t.Doubts:
        own = self.tables["doubts.toml"]
        own.only("limits", "pairs", "facts", "twice")
        pairs, facts, twice, limits = own.sub("pairs"), own.sub("facts"), own.sub("twice"), own.sub("limits")
        found = []
        for name in pairs.values:
            pair = pairs.sub(name)
            pair.only("one", "other", "source")
            found.append(
                t.Contradiction(
                    name, {}, self._readings(pair, "one"), self._readings(pair, "other"), pair.string("source")
                )
            )
        for name in facts.values:
            fact = facts.sub(name)
            fact.only("facts", "readings", "source")
            found.append(
                t.Contradiction(
                    name, self._fact_test(fact, "facts"), {}, self._readings(fact, "readings"), fact.string("source")
                )
            )
        twice.only("looks", "source")
        limits.only("lift", "chance", "gain", "most", "source")
        return t.Doubts(tuple(found), frozenset(twice.ids("looks", self.check_ids)), _numbers(limits))

    def _visit(self, visit: str) -> t.Visit:
        own = self.tables["decisions.toml"].sub("visits").sub(visit)
        minutes = own.number("minutes")
        return t.Visit(minutes, own.number("desktop", minutes), own.number("share", high=1.0), own.string("text"))

    def _need(self, need: str) -> t.Need:
        own = self.tables["decisions.toml"].sub("needs").sub(need)
        return t.Need(
            own.one_of("visibility", self.visibility) if "visibility" in own.values else None,
            own.number("at_least", 0.0, high=1.0),
            self._readings(own, "blocked_by"),
            own.string("text"),
        )


def _numbers(own: Table) -> dict[str, float]:
    return {key: own.number(key) for key in own.values if key != "source"}
