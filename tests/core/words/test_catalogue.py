"""Sentences: every one that the core hands up is in the catalogue, values are written as asked, and another language
can word a tape."""

from __future__ import annotations

import ast
import re
import string
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import gatecheck.core
from gatecheck.adapters.shipped_tables import shipped_words, words_texts
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.report import triage
from gatecheck.core.errors import KnowledgeError, TapeError
from gatecheck.core.tape.parse import parse_entry
from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import Said, from_json, is_said, say, to_json
from practised import capture_of
from reading import read_capture

CORE = Path(gatecheck.core.__file__).parent
SERVER = CORE.parent / "server"


def sentences() -> set[str]:
    """The ids of every `say("…")` in the code."""
    found = set()
    for file in [*CORE.rglob("*.py"), *SERVER.rglob("*.py")]:
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "say" and node.args:
                for name in ast.walk(node.args[0]):
                    if (
                        isinstance(name, ast.Constant)
                        and isinstance(name.value, str)
                        and re.fullmatch(r"[\w.-]+\.[\w-]*\w", name.value)
                    ):
                        found.add(name.value)
    return found


def test_every_sentence_of_the_code_is_in_the_catalogue(model: Model) -> None:
    words = shipped_words()
    named = sentences()
    assert len(named) > 40
    assert not [name for name in named if not words.has(name)]
    rules = [f"rule.{name}" for name in model.knowledge.rules]
    verdicts = [f"verdict.{outcome}" for outcome in model.knowledge.checks["health-pages"].outcomes]
    limits = [*model.knowledge.findings.counts.values(), *model.knowledge.findings.statistics.values()]
    findings = [f"finding.{limit.finding}.{part}" for limit in limits for part in ("text", "means")]
    assert not [name for name in (*rules, *verdicts, *findings) if not words.has(name)]


def test_every_finding_is_worded() -> None:
    """The ids in every `Finding(…)` of the judges, and the words they name."""
    words, missing = shipped_words(), set()
    for file in CORE.rglob("judge*.py"):
        for name in re.findall(r'Finding\(\s*"([a-z-]+)"', file.read_text(encoding="utf-8")):
            missing |= {
                f"finding.{name}.{part}" for part in ("text", "means") if not words.has(f"finding.{name}.{part}")
            }
    assert missing <= {"finding.self-test-failed.text"}


def test_placeholders_are_ways_that_exist() -> None:
    words = shipped_words()
    ways = words._formatter.ways
    for key, text in words.sentences.items():
        for _, name, spec, _ in string.Formatter().parse(text):
            if name is not None:
                assert re.fullmatch(r"[a-z0-9]+", name), key
                assert all("=" in way or way in ways for way in (spec or "").split(",") if way), (key, spec)


@pytest.mark.parametrize(
    ("text", "values", "worded"),
    [
        ("{n} {n:one=error|other=errors}", {"n": 1}, "1 error"),
        ("{n} {n:one=error|other=errors}", {"n": 3}, "3 errors"),
        ("it is {on:yes=on|no=off}", {"on": False}, "it is off"),
        ("{p:percent}", {"p": 0.9991}, "over 99 %"),
        ("{s:size}", {"s": 500e9}, "500 GB"),
        ("{f:fault,lower} and {f:fault}", {"f": "link.loose"}, "drive or cable loose and Drive or cable loose"),
        ("{m:move}", {"m": "nonsense"}, "nonsense"),
        ("{inner}!", {"inner": Said("x.inner", {"n": 2})}, "2 inside!"),
        ("{missing}", {}, "…"),
        ("{p:percent}", {"p": "no number"}, "…"),
        ("{r:readings}", {"r": [["screen", "dead"]]}, "Watch it start: no sign of life"),
        ("{r:readings}", {"r": [7]}, "…"),
    ],
)
def test_values_are_written_as_asked(model: Model, text: str, values: dict[str, Any], worded: str) -> None:
    words = Words({"x.toml": f'[x]\nown = "{text}"\ninner = "{{n}} inside"\n'}, model.knowledge)
    assert words.say(Said("x.own", values)).casefold() == worded.casefold()


def test_a_second_language_words_a_ticket_and_its_tape(model: Model) -> None:
    """Every text turned round: what is left in English is no sentence of the catalogue."""
    turned = {name: re.sub(r'= "(.*)"$', r'= "¿\1?"', text, flags=re.M) for name, text in words_texts().items()}
    other = Words(turned, model.knowledge)
    case = {
        "facts": {"data": "irreplaceable"},
        "entries": [{"move": "screen", "outcome": "no-boot-device"}, {"move": "sound", "outcome": "ticking"}],
    }
    document: Any = triage(model, other, case, as_of_year=2026)
    said = (
        [g["why"] for g in document["gates"]]
        + [h["why"] for h in document["held"]]
        + [n["why"] for n in document["next"]]
        + [document["call"]["why"]]
    )
    assert all("¿" in text for text in said)
    drive = read_capture({"identify.bin": bytes(512)}).drives[0]
    kept = to_json(drive.verdict)
    assert (other.note(kept)[0], other.note("as somebody wrote it")) == ("¿", "as somebody wrote it")


def test_what_one_language_lacks_another_says(model: Model) -> None:
    half = Words({"x.toml": '[gate]\nunproven = "noch nichts"\n'}, model.knowledge, fallback=shipped_words())
    assert (half.say(say("gate.unproven")), half.say(say("call.made"))) == (
        "noch nichts",
        "Nothing left worth checking",
    )
    assert Words({}, model.knowledge).say(say("gate.unproven")) == "gate.unproven", "an id beats a crash"


@pytest.mark.parametrize(
    ("texts", "message"),
    [
        ({"a.toml": "x = 1"}, "a.toml: x: expected a text, got 1"), ({"a.toml": "x = "}, "a.toml: syntax"),
        ({"a.toml": 'x = "1"', "b.toml": 'x = "2"'}, "b.toml: x: expected a key of its own"),
    ],
)  # fmt: skip
def test_a_bad_catalogue_says_what_and_where(model: Model, texts: dict[str, str], message: str) -> None:
    with pytest.raises(KnowledgeError, match=message):
        Words(texts, model.knowledge)


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=10),
    lambda x: (
        st.lists(x, max_size=4)
        | st.builds(lambda v: Said("gate.likeliest", v), st.dictionaries(st.text("abc", min_size=1), x, max_size=3))
    ),
    max_leaves=6,
)


@given(st.dictionaries(st.text("abcdefg", min_size=1, max_size=6), VALUES, max_size=5))
def test_a_sentence_comes_back_from_the_tape(values: dict[str, Any]) -> None:
    said = Said("page.refused", values)
    raw = to_json(said)
    assert not is_said(raw) or from_json(raw) == said


@given(
    st.recursive(
        st.none() | st.integers() | st.text(max_size=6),
        lambda x: st.lists(x, max_size=3) | st.dictionaries(st.sampled_from(["say", "values", "x"]), x, max_size=3),
        max_leaves=8,
    )
)
def test_any_note_is_worded_or_refused(note: Any) -> None:
    words = shipped_words()
    try:
        parse_entry({"move": "screen", "outcome": "dead", "note": note}, 0, words.knowledge)
    except TapeError as error:
        assert "note" in str(error)
        return
    assert isinstance(words.note(note), str)


def test_captures_put_sentences_on_the_tape_as_ids(model: Model) -> None:
    from gatecheck.adapters.capture_files import pages_of
    from gatecheck.core.instruments.evidence import capture_evidence

    capture = read_capture(pages_of("x.gcap", capture_of("stale-entry")))
    entries: Any = capture_evidence(model.knowledge, {}, capture)
    assert entries
    assert all(is_said(e["note"]) and "…" not in shipped_words().note(e["note"]) for e in entries)
