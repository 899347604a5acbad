"""The README and the pages beside it say what is so: commands, counts, files, rooms, make's targets."""

from __future__ import annotations

import argparse
import re
from pathlib import Path

import pytest

import gatecheck
from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.cli.parsers import parser
from gatecheck.practice.patients import PATIENTS
from gatecheck.server.link.order_kinds import ORDER_KINDS

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text("utf-8")
PAGES = sorted([*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")])
NUMBERS = ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"]
BUILT = ("web/dist", "web/src/api/schema.d.ts")
"""what a page may name and only a build brings"""
TENS = {20: "twenty", 30: "thirty", 40: "forty", 50: "fifty"}


def in_words(count: int) -> str:
    if count <= len(NUMBERS):
        return NUMBERS[count - 1]
    return TENS[count // 10 * 10] + (f"-{NUMBERS[count % 10 - 1]}" if count % 10 else "")


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.relative_to(ROOT).as_posix())
def test_every_link_of_a_page_leads_to_a_file(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text("utf-8")):
        if not re.match(r"https?:", target):
            assert (page.parent / target).exists(), target


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.relative_to(ROOT).as_posix())
def test_every_file_of_ours_that_a_page_names_is_there(page: Path) -> None:
    text = page.read_text("utf-8")
    for name in re.findall(r"`((?:src|tests|bench|docs|web)/[\w/.-]+)`", text):
        found = list(ROOT.glob(name + "*")) if name.endswith("-") else (ROOT / name).exists()
        assert found or name in BUILT, name


def test_the_commands_of_the_readme_are_those_of_the_program() -> None:
    block = README.partition("## The command line")[2].partition("```")[2].partition("```")[0]
    lines = [line for line in block.splitlines() if line.startswith("gatecheck ")]
    told = {name for line in lines for name in re.findall(r"gatecheck ([\w-]+)", line)}
    told |= {name for line in lines for name in re.findall(r", (\w+) FILE", line)}
    own = parser()
    commands = next(a for a in own._actions if isinstance(a, argparse._SubParsersAction))
    assert told == set(commands.choices)
    for line in lines:
        named = [name for name in commands.choices if re.search(rf"(gatecheck|,) {name}\b", line)]
        known = {
            option for name in named for action in commands.choices[name]._actions for option in action.option_strings
        }
        assert set(re.findall(r"(?<!\w)--[a-z-]+", line.split("  ")[0])) <= known, line


def test_the_targets_that_the_pages_name_are_make_s_own() -> None:
    targets = set(re.findall(r"^([a-z-]+):", (ROOT / "Makefile").read_text("utf-8"), re.M))
    named = {name for page in PAGES for name in re.findall(r"`make ([a-z-]+)", page.read_text("utf-8"))}
    assert named <= targets
    listed = README.partition("`make help` lists what can be done:")[2].partition(". ")[0]
    assert set(re.findall(r"`([a-z-]+)`", listed)) <= targets


def test_the_counts_of_the_readme_are_right() -> None:
    space = shipped_model().space
    assert f"{space.size:,} hypotheses" in README
    assert f"{in_words(len(PATIENTS))} simulated patients" in README
    assert f"{in_words(len(shipped_model().knowledge.interlocks))} interlocks" in README


def test_the_rooms_of_the_readme_and_the_architecture_are_there() -> None:
    rooms = {path.parent.name for path in Path(gatecheck.__file__).parent.glob("*/__init__.py")}
    table = README.partition("| where | what |")[2].partition("\n\n")[0]
    assert {name.rpartition("/")[2] for row in table.splitlines() for name in re.findall(r"`([\w/]+)`", row)} >= rooms
    drawing = (ROOT / "docs" / "architecture.md").read_text("utf-8").partition("```")[2].partition("```")[0]
    assert all(re.search(rf"\b{room}\b", drawing) for room in rooms)


def test_the_protocol_names_every_kind_of_order() -> None:
    protocol = (ROOT / "docs" / "link-protocol.md").read_text("utf-8")
    assert [name for name in ORDER_KINDS if f"`{name}`" not in protocol] == []


def test_every_picture_is_shown_and_every_one_that_is_shown_is_there() -> None:
    shown = set(re.findall(r"docs/screenshots/([\w-]+\.png)", README))
    assert shown == {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert len(shown) < 20
