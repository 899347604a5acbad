"""Tables behind the instruments: the settings sheet, the sightings grid and the book of keys, and how they are read."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.toml_table import Table

Row = Mapping[str, float]
FactTest = Mapping[str, tuple[str, ...]]

CONTRADICTION, ROOT, HINT = "contradiction", "root", "hint"


class SettingNeed(Struct, frozen=True):
    """What a row should stand at where `when` fits the facts. `fits`: value -> how surely the system starts with it."""

    when: FactTest
    want: str | None
    fits: Row
    unsure: bool
    why: str
    source: str


class SettingRow(Struct, frozen=True):
    """One row of the settings sheet. `outcomes`: value -> outcome of `check`, where the value alone says it."""

    id: str
    name: str
    gate: str
    check: str | None
    fix: str | None
    because: str
    values: Mapping[str, str]
    outcomes: Mapping[str, str]
    walk: tuple[str, ...]
    needs: tuple[SettingNeed, ...]


class Together(Struct, frozen=True):
    """What several rows say together. `differs`: at least one of these rows differs from its need."""

    id: str
    kind: str
    when: FactTest
    facts: FactTest
    unless: FactTest
    differs: tuple[str, ...]
    text: str
    means: str
    faults: tuple[str, ...]
    """what it speaks for, where that is a fault"""


class WayIn(Struct, frozen=True):
    """A way into a machine without a text setup; its answer goes to `move`."""

    platform: str
    move: str
    name: str
    how: str
    minutes: float


class Settings(Struct, frozen=True):
    rows: Mapping[str, SettingRow]
    together: tuple[Together, ...]
    ways: tuple[WayIn, ...]

    def row_of_check(self, check: str) -> SettingRow | None:
        return next((r for r in self.rows.values() if r.check == check), None)

    def row_of_fix(self, fix: str) -> SettingRow | None:
        return next((r for r in self.rows.values() if r.fix == fix), None)


class Vantage(Struct, frozen=True):
    """A place where a drive may be seen. `outcomes`: what is seen -> weights over the check's outcomes."""

    id: str
    name: str
    check: str
    asks: str
    not_on: tuple[str, ...]
    outcomes: Mapping[str, Row]


class Pattern(Struct, frozen=True):
    """What a filled grid means; sightings.toml explains each condition."""

    id: str
    all: FactTest
    any: tuple[str, ...]
    absent_in: tuple[str, ...]
    any_right: tuple[str, ...]
    all_right: bool
    only_others: tuple[str, ...]
    least: int
    text: str
    means: str
    gate: str
    faults: tuple[str, ...]


class Sightings(Struct, frozen=True):
    seen: Mapping[str, str]
    kinds: Mapping[str, str]
    vantages: Mapping[str, Vantage]
    patterns: tuple[Pattern, ...]


class Keys(Struct, frozen=True):
    """`general`: platform -> purpose -> key -> (worked, tried), in imagined tries."""

    weight: float
    purposes: Mapping[str, str]
    moves: Mapping[str, str]
    general: Mapping[str, Mapping[str, Mapping[str, tuple[float, float]]]]


class Ids(Struct, frozen=True):
    """What the instruments' tables may name."""

    gates: tuple[str, ...]
    faults: tuple[str, ...]
    facts: Mapping[str, tuple[str, ...]]
    outcomes: Mapping[str, tuple[str, ...]]
    checks: tuple[str, ...]


def _tables(own: Table, key: str) -> list[Table]:
    rows = own.values.get(key, [])
    if not isinstance(rows, list):
        raise own.error(key, "a list of tables", type(rows).__name__)
    return [Table(own.file, own.text, f"{own.path}.{key}.{i}".lstrip("."), raw) for i, raw in enumerate(rows)]


def _texts(own: Table, key: str) -> dict[str, str]:
    sub = own.sub(key, optional=True)
    return {name: sub.string(name) for name in sub.values}


def _test(own: Table, key: str, allowed: Mapping[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
    sub = own.sub(key, optional=True)
    for name in sub.values:
        if name not in allowed:
            raise sub.error(name, f"one of {', '.join(allowed)}", repr(name))
    return {name: sub.ids(name, allowed[name]) for name in sub.values}


def load_settings(file: Table, ids: Ids) -> Settings:
    """Raises KnowledgeError for anything unknown, or a row whose answers lead nowhere."""
    rows = {name: _setting(file.sub("rows").sub(name), name, ids) for name in file.sub("rows").values}
    values = {name: tuple(row.values) for name, row in rows.items()}
    together = tuple(
        Together(
            own.string("id"),
            own.one_of("kind", (CONTRADICTION, ROOT, HINT)),
            _test(own, "when", values),
            _test(own, "facts", ids.facts),
            _test(own, "unless", ids.facts),
            own.ids("differs", rows),
            own.string("text"),
            own.string("means"),
            own.ids("faults", ids.faults),
        )
        for own in _tables(file, "together")
    )
    ways = tuple(
        WayIn(
            own.one_of("platform", ids.facts["platform"]),
            own.one_of("move", ids.outcomes),
            own.string("name"),
            own.string("how"),
            own.number("minutes"),
        )
        for own in _tables(file, "ways")
    )
    return Settings(rows, together, ways)


def _setting(own: Table, name: str, ids: Ids) -> SettingRow:
    own.only("name", "gate", "check", "fix", "because", "values", "outcomes", "walk", "needs")
    values = _texts(own, "values")
    check = own.one_of("check", ids.checks) if "check" in own.values else None
    outcomes = _texts(own, "outcomes")
    for value, outcome in outcomes.items():
        if check is None or value not in values or outcome not in ids.outcomes[check]:
            raise own.error(f"outcomes.{value}", "a value of this row and an outcome of its check", repr(outcome))
    needs = tuple(
        SettingNeed(
            _test(need, "when", ids.facts),
            need.one_of("want", values) if "want" in need.values else None,
            need.row("fits", values),
            need.flag("unsure"),
            need.string("why"),
            need.string("source"),
        )
        for need in _tables(own, "needs")
    )
    if not needs or needs[-1].when:
        raise own.error("needs", "a last need without conditions", "none")
    return SettingRow(
        name,
        own.string("name"),
        own.one_of("gate", ids.gates),
        check,
        own.one_of("fix", ids.outcomes) if "fix" in own.values else None,
        own.string("because"),
        values,
        outcomes,
        own.ids("walk", values),
        needs,
    )


def load_sightings(file: Table, ids: Ids) -> Sightings:
    """Raises KnowledgeError for anything unknown."""
    seen, vantages = _texts(file, "seen"), {}
    for name in file.sub("vantages").values:
        own = file.sub("vantages").sub(name)
        own.only("name", "check", "asks", "not_on", "outcomes")
        check = own.one_of("check", ids.checks)
        table = own.sub("outcomes")
        outcomes: dict[str, Row] = {}
        for value, meant in table.values.items():
            if value not in seen:
                raise table.error(value, f"one of {', '.join(seen)}", repr(value))
            if isinstance(meant, str):
                outcomes[value] = {table.one_of(value, ids.outcomes[check]): 1.0}
            else:
                outcomes[value] = table.distribution(value, ids.outcomes[check])
        vantages[name] = Vantage(
            name, own.string("name"), check, own.string("asks"), own.ids("not_on", ids.facts["platform"]), outcomes
        )
    kinds = _texts(file, "kinds")
    allowed = dict.fromkeys(vantages, tuple(seen))
    patterns = []
    for own in _tables(file, "patterns"):
        own.only(
            "id",
            "all",
            "any",
            "absent_in",
            "any_right",
            "all_right",
            "only_others",
            "least",
            "text",
            "means",
            "gate",
            "faults",
        )
        patterns.append(
            Pattern(
                own.string("id"),
                _test(own, "all", allowed),
                own.ids("any", seen),
                own.ids("absent_in", vantages),
                own.ids("any_right", vantages),
                own.flag("all_right"),
                own.ids("only_others", kinds),
                int(own.number("least", 0)),
                own.string("text"),
                own.string("means"),
                own.one_of("gate", ids.gates),
                own.ids("faults", ids.faults),
            )
        )
    return Sightings(seen, kinds, vantages, tuple(patterns))


def load_keys(file: Table, ids: Ids) -> Keys:
    """Raises KnowledgeError for anything unknown, or a key that worked more often than it was tried."""
    purposes = _texts(file, "purposes")
    moves = {move: file.sub("moves").one_of(move, purposes) for move in file.sub("moves").values}
    for move in moves:
        if move not in ids.outcomes:
            raise file.sub("moves").error(move, "a known move", repr(move))
    general = {}
    for platform in file.sub("general").values:
        own = file.sub("general").sub(platform)
        own.only("source", *purposes)
        general[platform] = {purpose: _tries(own.sub(purpose)) for purpose in own.values if purpose != "source"}
    return Keys(file.number("weight", low=0.1), purposes, moves, general)


def _tries(own: Table) -> dict[str, tuple[float, float]]:
    found = {}
    for key, pair in own.values.items():
        if (
            not isinstance(pair, list)
            or len(pair) != 2
            or not all(isinstance(n, int | float) for n in pair)
            or not 0 <= pair[0] <= pair[1]
        ):
            raise own.error(key, "[worked, tried]", repr(pair))
        found[key] = (float(pair[0]), float(pair[1]))
    return found
