"""What people read keeps to one term for one thing: no word of an English of our own, and no other program's commands,
labels or messages in what tells somebody what to do."""

from __future__ import annotations

import re
import tomllib
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from gatecheck.adapters.shipped_tables import shipped_model

ROOT = Path(__file__).parents[3]
CORE = ROOT / "src" / "gatecheck" / "core"
READ = {
    "name", "asks", "ask", "why", "say", "text", "means", "release", "do", "guard", "how", "steps", "says", "because",
    "answers", "while_pending", "values", "phases", "strip", "resets", "calls", "interlocks", "call_names", "purposes",
    "data_outcome",
}  # fmt: skip
"""keys of the tables whose values are read by people"""

# a pattern -> the term that is used instead
TERMS = {
    r"\btapes?\b": "log",
    r"\b(tak(e|es|en)|put|puts) (it |the last one )?back\b": "undo, or revert",
    r"\bheld back\b": "blocked",
    r"\bmend(s|ed|ing)?\b": "repair",
    r"\b(gone on|go on|goes on) with\b": "resume",
    r"\bway(s)? out\b": "option",
    r"\bcall sheet\b": "options",
    r"\bthe call\b": "verdict",
    r"\bmoves?\b(?! (without|the drive|up|it))": "step",
    r"\bhands? wanted\b": "needs you",
    r"\bin hand\b": "next step",
    r"\bon trial\b": "test change",
    r"\bsightings?\b": "detection",
    r"\bodds\b(?! of)": "probability, or track record",
    r"\bshelf\b": "parts stock, or no bay",
    r"\b(fill|filled|filling)\b(?! in\b)": "restore the image",
    r"\bafresh\b|\banew\b": "again",
    r"\b(stands|stood|lies)\b": "is",
    r"\bis told\b|\bnot told\b|\bcannot be told\b": "is known",
    r"\bdo(es)? not fit the rest\b|\bfits everything\b": "errors found",
    r"\bcapital letters\b": "up-case table",
    r"\bproven before\b": "checked",
    r"\b(flash drive|spinning (disk|drive))\b": "SSD, HDD",
    r"\bboot picker\b": "boot menu",
    r"\breduced start\b": "safe mode",
    r"\btimed read\b": "surface scan",
}
FOREIGN = re.compile(
    r"[“”`\\]|\b[A-Z]:|(^|\s)(/|--?)[a-z]+\b|(^|\s)/\w+/|\b[a-z]+\d*\.(exe|cfg|log)\b|\b[A-Z]{4,} [A-Z]{4,}\b"
)
"""in instructions: what commands are made of (drive letters, switches, paths), and what other programs say, quoted or
shouted"""


QUOTED = r"'((?:[^'\\\n]|\\.)+)'|`((?:[^`\\]|\\.)+)`"


def _texts(value: Any, key: str = "", is_read: bool = False) -> Iterator[str]:
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts(inner, name, is_read or name in READ)
    elif isinstance(value, list):
        for inner in value:
            yield from _texts(inner, key, is_read)
    elif isinstance(value, str) and is_read and key not in ("source", "outcome", "id"):
        yield value


def _catalogue() -> Iterator[tuple[str, str]]:
    for path in sorted((CORE / "words" / "en").glob("*.toml")):
        yield from ((path.name, text) for text in _texts(tomllib.loads(path.read_text(encoding="utf-8")), "", True))
    for path in sorted((CORE / "knowledge").glob("*.toml")):
        yield from ((path.name, text) for text in _texts(tomllib.loads(path.read_text(encoding="utf-8"))))
    for path in sorted((ROOT / "web" / "src" / "words").glob("*.ts")):
        for quoted, template in re.findall(
            r"'((?:[^'\\\n]|\\.)+)'|`((?:[^`\\]|\\.)+)`", path.read_text(encoding="utf-8")
        ):
            yield path.name, quoted or template


def _plain(text: str) -> str:
    """Without the names of its values."""
    return re.sub(r"\$?\{[^{}]*\}", " ", text)


@pytest.mark.parametrize("pattern", TERMS)
def test_one_term_for_one_thing(pattern: str) -> None:
    found = [
        (file, text) for file, text in _catalogue() if " " in text.strip() and re.search(pattern, _plain(text), re.I)
    ]
    assert not found, f"say “{TERMS[pattern]}”"


def test_instructions_name_no_other_programs_commands_or_messages() -> None:
    own = [text for file, text in _catalogue() if file == "ways.toml"]
    assert len(own) > 100
    assert not [text for text in own if FOREIGN.search(text)]


def test_no_message_starts_with_what_may_be_missing() -> None:
    told = [(f, t) for f, t in _catalogue() if f.endswith(".toml") and f != "findings.toml"]
    assert not [(f, t) for f, t in told if re.match(r"\s*(\.\.\.|…|: |, )", t)]


def test_no_message_stands_in_two_forms() -> None:
    """The same words with other signs; a title and the sentence that it begins may differ by capital and full stop."""
    forms: dict[str, set[str]] = defaultdict(set)
    for file, text in _catalogue():
        if file.endswith(".toml") and text.count(" ") >= 3:
            forms[re.sub(r"[^a-z0-9{}]+", " ", text.lower()).strip()].add(text[:1].lower() + text[1:].rstrip("."))
    assert not {key: texts for key, texts in forms.items() if len(texts) > 1}


def test_titles_and_answers_have_room_on_a_phone() -> None:
    knowledge = shipped_model().knowledge
    titles = [m.name for m in (*knowledge.checks.values(), *knowledge.fixes.values())]
    titles += [s.name for s in knowledge.work.steps.values()]
    assert not [t for t in titles if len(t) > 52]
    answers = [say for m in (*knowledge.checks.values(), *knowledge.fixes.values()) for say in m.say.values()]
    answers += [a.say for s in knowledge.work.steps.values() for a in s.answers.values()]
    assert not [a for a in answers if len(a) > 40]
