"""A language's catalogue: words `Said` values.

A catalogue is one or more TOML texts; the key of a sentence is its path (`[rule] failing-drive = "…"` is
`rule.failing-drive`). A text names its values in braces, each with how it is written: `{p:percent}`,
`{fix:move,lower}`, `{n} {n:one=error|other=errors}`. A value that is itself a sentence is worded first."""

from __future__ import annotations

import re
import string
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from gatecheck.core.errors import KnowledgeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.words.said import Said, from_json


def percent(p: float) -> str:
    """0.684 -> "68 %"; what is not quite certain never reads as 0 or 100."""
    if 0 < p < 0.005:
        return "under 1 %"
    if 0.995 < p < 1:
        return "over 99 %"
    return f"{p * 100:.0f} %"


def lower_first(name: str) -> str:
    """A name inside a sentence: its first letter small, unless it is an abbreviation."""
    return name if name[:2].isupper() else name[:1].lower() + name[1:]


def upper_first(name: str) -> str:
    return name[:1].upper() + name[1:]


def size(count: float) -> str:
    """Bytes in the decimal units that drives are sold in."""
    for limit, unit in ((1e12, "TB"), (1e9, "GB"), (1e6, "MB")):
        if count >= limit:
            shown = count / limit
            return f"{shown:g} {unit}" if limit == 1e12 and shown == int(shown) else f"{shown:.0f} {unit}"
    return f"{count / 1e3:.0f} kB" if count >= 1e4 else f"{count:.0f} B"


class Words:
    """One language over one set of tables. `fallback` words what this language does not have."""

    def __init__(self, texts: Mapping[str, str], knowledge: Knowledge, fallback: Words | None = None) -> None:
        """Raises KnowledgeError for a text that is no TOML, or two sentences under one key."""
        self.sentences: dict[str, str] = {}
        self.knowledge, self.fallback = knowledge, fallback
        if texts:
            self._read(texts)
        self._formatter = _Formatter(self)

    def _read(self, texts: Mapping[str, str]) -> None:
        import tomllib  # a catalogue that was read before has no use for it

        for name, text in texts.items():
            try:
                tree = tomllib.loads(text)
            except tomllib.TOMLDecodeError as error:
                raise KnowledgeError(name, "syntax", expected="TOML", got=str(error)) from error
            for key, sentence in _flat(tree, name):
                if key in self.sentences:
                    raise KnowledgeError(name, key, expected="a key of its own", got="one that another file has")
                self.sentences[key] = sentence

    @classmethod
    def of(cls, sentences: dict[str, str], knowledge: Knowledge, fallback: Words | None = None) -> Words:
        """Sentences that were read before, over these tables."""
        words = cls({}, knowledge, fallback)
        words.sentences = sentences
        return words

    def over(self, knowledge: Knowledge) -> Words:
        """The same sentences over other tables (a shop's own, or relearned ones)."""
        return Words.of(self.sentences, knowledge, self.fallback)

    def say(self, said: Said | None) -> str:
        """The sentence; empty for None. A sentence that no catalogue has is its id: an old screen may meet a newer
        tape."""
        if said is None:
            return ""
        text = self.sentences.get(said.id)
        if text is None:
            return self.fallback.say(said) if self.fallback else said.id
        return self._formatter.vformat(text, (), _Values(said.values))

    def has(self, sentence: str) -> bool:
        return sentence in self.sentences or (self.fallback is not None and self.fallback.has(sentence))

    def note(self, raw: object) -> str:
        """A tape's note: a text somebody wrote, or a sentence kept as its id and values."""
        if isinstance(raw, str):
            return raw
        said = from_json(raw)
        return self.say(said)

    # --- names of the vocabulary ---------------------------------------------------------------------------------

    def move(self, name: str) -> str:
        return self.knowledge.move(name).name if name in self.knowledge.checks or name in self.knowledge.fixes else name

    def fault(self, name: str) -> str:
        return next((f.name for f in self.knowledge.faults if f.id == name), name)

    def outcome(self, move: str, outcome: str) -> str:
        known = self.knowledge.checks.get(move) or self.knowledge.fixes.get(move)
        return known.say.get(outcome, outcome) if known else outcome

    def reading(self, pair: Sequence[str]) -> str:
        """[move, outcome] -> "What the screen shows: no bootable device"."""
        return f"{self.move(pair[0])}: {self.outcome(pair[0], pair[1])}"

    def need(self, pair: Sequence[Any]) -> str:
        """[row of the settings sheet, number of its need] -> why it wants what it wants."""
        row = self.knowledge.settings.rows.get(str(pair[0]))
        place = int(pair[1])
        return row.needs[place].why if row and 0 <= place < len(row.needs) else ""


class _Values(dict[str, object]):
    """A value that a tape does not hold is a gap in the sentence, not an error."""

    def __missing__(self, key: str) -> str:
        return "…"


_MONTHS = "January February March April May June July August September October November December"
_TIME = re.compile(r"(\d{4})-(\d\d)-(\d\d)T(\d\d:\d\d)(:\d\d(\.\d+)?)?Z")


def _moment(value: object) -> str:
    """A time of ISO 8601 in UTC, as people write it; anything else as it is."""
    found = _TIME.fullmatch(str(value))
    if found is None or not 1 <= int(found[2]) <= 12:
        return str(value)
    return f"{int(found[3])} {_MONTHS.split()[int(found[2]) - 1]} {found[1]} {found[4]} UTC"


class _Formatter(string.Formatter):
    """Plain names only, and our own ways of writing them."""

    def __init__(self, words: Words) -> None:
        self.words = words
        self.ways: Mapping[str, Callable[[Any], str]] = {
            "percent": lambda v: percent(float(v)),
            "whole": lambda v: f"{float(v):.0f}",
            "money": lambda v: f"{float(v):,.2f}",
            "number": lambda v: f"{float(v):.1f}".removesuffix(".0"),
            "comma-gb": lambda v: f", {float(v):.0f} GB" if v else "",
            "form": lambda v: {"2.5": "2.5 inch", "3.5": "3.5 inch", "m2": "M.2"}.get(str(v), str(v)),
            "reset": lambda v: words.knowledge.work.resets.get(str(v), ""),
            "thousands": lambda v: f"{int(v):,}",
            "moment": _moment,
            "years": lambda v: f"{float(v) / 8760:.1f}",
            "size": lambda v: size(float(v)),
            "boot": lambda v: f"Boot{int(v):04X}",
            "stop": lambda v: str(v) if str(v).endswith((".", "?")) else f"{v}.",
            "upper": lambda v: upper_first(str(v)),
            "lower": lambda v: lower_first(str(v)),
            "caps": lambda v: str(v).upper(),
            "move": words.move,
            "fault": words.fault,
            "faults": lambda v: ", ".join(lower_first(words.fault(f)) for f in v),
            "moves": lambda v: ", ".join(words.move(m) for m in v),
            "semicolons": lambda v: "; ".join(map(str, v)),
            "fact": lambda v: words.sentences.get(f"fact.{v}", str(v).replace("_", " ")),
            "fact-value": lambda v: (
                f"{v:g}" if isinstance(v, float) else words.sentences.get(f"fact-value.{v}", str(v))
            ),
            "list": lambda v: ", ".join(map(str, v)),
            "reading": words.reading,
            "readings": lambda v: "; ".join(words.reading(r) for r in v),
            "need": words.need,
            "call": lambda v: words.knowledge.call_names.get(str(v), str(v)),
            "why": lambda v: words.knowledge.why(words.knowledge.move(str(v[0])), {"platform": v[1]}),
            "interlock": lambda v: words.knowledge.interlocks[str(v)].text,
            "pending-interlock": lambda v: words.knowledge.interlocks[str(v)].while_pending,
            "release": lambda v: words.knowledge.interlocks[str(v)].release,
            "or-entry": lambda v: str(v) if v else words.say(Said("fallback.entry")),
            "or-machine": lambda v: str(v) if v else words.say(Said("fallback.machine")),
            "or-unnamed": lambda v: str(v) if v else words.say(Said("fallback.unnamed")),
            "comma-size": lambda v: f", {size(float(v))}" if v else "",
            "comma-move": lambda v: f", {lower_first(words.move(v))}" if v else "",
            "in-brackets": lambda v: f" ({v})" if v else "",
            "arrow": lambda v: f" → {v}" if v else "",
            "colon": lambda v: f": {v}" if v else "",
            "comma-text": lambda v: f", {v}" if v else "",
            "size-first": lambda v: f"{size(float(v))} " if v else "",
            "spaced": lambda v: f" {v}" if v else "",
            "serial": lambda v: f", {words.say(Said('fallback.serial', {'serial': v}))}" if v else "",
            "and-more": lambda v: words.say(Said("fallback.more", {"count": v})) if v else "",
            "sentences": lambda v: "; ".join(words.say(s) for s in v if isinstance(s, Said)),
        }

    def get_field(self, field_name: str, args: Sequence[Any], kwargs: Mapping[str, Any]) -> tuple[Any, str]:
        return kwargs[field_name], field_name

    def format_field(self, value: Any, format_spec: str) -> str:
        if isinstance(value, Said):
            value = self.words.say(value)
        for way in format_spec.split(",") if format_spec else ():
            try:
                value = _plural(value, way) if "=" in way else self.ways[way](value)
            except (ValueError, TypeError, KeyError, IndexError, OverflowError):
                return "…"  # what a tape says need not be what the sentence expects
        return str(value)


def _plural(value: Any, way: str) -> str:
    """`one=error|other=errors`; also `none=…`, and `yes=…|no=…` for a flag or a missing value."""
    forms = dict(part.split("=", 1) for part in way.split("|"))
    if "yes" in forms or "no" in forms:
        return forms.get("yes" if value else "no", "")
    count = float(value)
    return forms["none"] if count == 0 and "none" in forms else forms.get("one" if count == 1 else "other", "")


def _flat(tree: Mapping[str, Any], file: str, path: str = "") -> Iterator[tuple[str, str]]:
    for key, value in tree.items():
        name = f"{path}{key}"
        if isinstance(value, Mapping):
            yield from _flat(value, file, f"{name}.")
        elif isinstance(value, str):
            yield name, value
        else:
            raise KnowledgeError(file, name, expected="a text", got=repr(value))
