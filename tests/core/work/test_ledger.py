"""Papers against what really happened: every verdict is signed on a machine that starts at check-in and on one that
does not, and its job ends in every way there is; beside each walk stands the truth, kept by the table below."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import pytest

from gatecheck.core.belief.model import Model
from walks import FACTS, Walk, lines, papers

# how a job ends: what is answered otherwise than "as it should", and whether it is fetched before it is through
ENDS: Mapping[str, tuple[Mapping[str, str], str]] = {
    "through": ({}, ""),
    "stops": ({"cold-1": "stops"}, ""),
    "fetched": ({}, "cold-1"),
    "unwanted": ({"way-replace": "nothing", "way-other": "nothing"}, ""),
    "data-only": ({"way-replace": "data-only", "way-other": "data-only"}, ""),
    "in-vain": (
        {
            "run-through": "failed", "rebuild": "could-not", "setting": "locked", "battery": "soldered",
            "memory": "soldered", "supply": "none", "cable": "none", "begin": "stops", "send": "declined",
            "part": "none",
        },
        "",
    ),
}  # fmt: skip

# step and answer -> what has happened to the machine: a word of the truth
HAPPENS = {
    ("reseat", "loose"): "link", ("reseat", "firm"): "link", ("reseat", "damaged"): "link",
    ("cable", "cable"): "link", ("cable", "port"): "link", ("battery", "changed"): "battery",
    ("memory", "changed"): "memory", ("supply", "changed"): "supply", ("pull", "pulled"): "pulled",
    ("setting", "changed"): "setting", ("rebuild", "written"): "boot", ("new-in", "in"): "new",
    ("unallocate", "done"): "erased", ("begin", "running"): "installed", ("begin", "stops"): "installed",
    ("send", "sent"): "sent",
    ("run", "started"): "run", ("run", "refused"): "run", ("copy", "complete"): "copied",
    ("settings-again", "changed"): "setting", ("order-again", "changed"): "setting",
}  # fmt: skip
# what has happened -> words that the page then has to have; and that it must not have, where it has not happened
SAID = {
    "link": ("fitted them again", "with another cable"),
    "battery": ("We replaced the battery",),
    "memory": ("We replaced memory",),
    "supply": ("replaced the power supply",),
    "pulled": ("started it without",),
    "boot": ("We rebuilt",),
    "new": ("We fitted a new drive",),
    "installed": ("We installed the system", "We began to install"),
    "sent": ("We sent the",),
    "run": (
        "We ran a repair",
        "We undid the last",
        "We reset the system",
        "We began a repair",
        "We began to undo",
        "We began to reset",
    ),
    "copied": ("We copied your data",),
}
NOTHING_WRONG, UNTOUCHED, AS_IT_CAME = "We found nothing wrong", "We wrote nothing to your drive", "as it was"
WRITES = ("repair-volume", "roll-back", "reset-keep", "reset-clean")


@dataclass(frozen=True)
class Truth:
    """What really happened. `starts`: None where nobody has tried since something was changed."""

    happened: frozenset[str]
    starts: bool | None
    drive_gone: bool
    erased: bool
    written: bool
    copied: bool


def truth_of(walk: Walk, fix: str | None, end: str, at_first: bool) -> Truth:
    happened = {HAPPENS[own] for own in walk.answered if own in HAPPENS}
    starts: bool | None = at_first
    for step, answer in walk.answered:
        if HAPPENS.get((step, answer)) in (
            "link",
            "battery",
            "memory",
            "supply",
            "pulled",
            "boot",
            "new",
            "installed",
            "run",
            "setting",
        ):
            starts = None
        if step in ("cold-1", "cold-2"):
            starts = answer == "starts"
        if (step, answer) == ("detected", "absent") or (step, answer) == ("run-through", "failed"):
            starts = False
    replaced = "new" in happened
    return Truth(
        frozenset(happened),
        starts,
        "sent" in happened,
        (not replaced and bool({"erased", "installed"} & happened)) or (fix == "reset-clean" and "run" in happened),
        ("run" in happened or "boot" in happened),
        "copied" in happened,
    )


def walks(model: Model) -> Iterator[tuple[str, str, str | None, str, bool]]:
    fixes = [f for f in model.knowledge.fixes.values() if f.id not in ("power-down", "copy-data")]
    for fix in fixes:
        for end in ENDS:
            for at_first in (False, True):
                yield f"{fix.id}-{end}-{'starts' if at_first else 'stops'}", fix.call, fix.id, end, at_first
    for at_first in (False, True):
        yield f"release-through-{'starts' if at_first else 'stops'}", "release", None, "through", at_first


def walked(model: Model, choice: str, fix: str | None, end: str, at_first: bool, **facts: Any) -> Walk:
    own, until = ENDS[end]
    platform = {"platform": "mac", "installed_os": "macos"} if fix == "reset-nvram" else {}
    walk = Walk(model, {**FACTS, **platform, **facts})
    walk.put({"move": "screen", "outcome": "boots" if at_first else "no-boot-device"})
    walk.put({"move": "health-pages", "outcome": "failing" if fix in ("replace-drive", "refer-lab") else "clean"})
    if fix == "silence-alarm":
        walk.put({"move": "long-test", "outcome": "passed"})
    return walk.sign(choice, fix).work(own, until)


def test_there_are_enough_walks(model: Model) -> None:
    assert len(list(walks(model))) >= 300


@pytest.mark.parametrize(
    ("end", "at_first"),
    [
        pytest.param(
            end,
            at_first,
            marks=[pytest.mark.wide] if at_first and end != "through" else [],
            id=f"{end}-{'starts' if at_first else 'stops'} at check-in",
        )
        for end in ENDS
        for at_first in (False, True)
    ],
)
def test_the_page_tells_what_happened_and_nothing_else(model: Model, end: str, at_first: bool) -> None:
    wrong = []
    for name, choice, fix, own_end, own_first in walks(model):
        if (own_end, own_first) != (end, at_first):
            continue
        walk = walked(model, choice, fix, end, at_first)
        page = papers(walk.folded())
        truth = truth_of(walk, fix, end, at_first)
        wrong += [f"{name}: {why}\n  " + "\n  ".join(lines(page)) for why in _differs(truth, page, fix, end)]
        others = [line for kind in ("file", "bill") for line in lines(papers(walk.folded(), kind))]
        wrong += [f"{name}: without words: {x}" for x in (*lines(page), *others) if _WITHOUT_WORDS.search(x)]
    assert not wrong, "\n".join(wrong[:6]) + f"\n… {len(wrong)}"


_WITHOUT_WORDS = re.compile(r"\b(paper|told|work|check|findings?)\.[a-z]|\{|None|\bTrue\b|\[\]")


def _differs(truth: Truth, page: Mapping[str, list[str]], fix: str | None, end: str) -> Iterator[str]:
    text = " ".join(lines(page))
    done, data = " ".join(page["What we did"]), " ".join(page.get("Your data", []))
    for what, said in SAID.items():
        if what in truth.happened and not any(s in done for s in said):
            yield f"{what} happened and is not told"
        if what not in truth.happened and any(s in done for s in said):
            yield f"{what} is told and did not happen"
    if truth.happened - {"erased"} and (("changed nothing" in done and end != "stops") or "repaired nothing" in done):
        yield "it was changed, and the page says that nothing was"
    if not truth.happened and not ("nothing" in done or "not possible" in done or "did not want" in done):
        yield "nothing was done, and the page does not say so"
    touched = truth.erased or truth.written or truth.drive_gone or "new" in truth.happened
    if touched is (UNTOUCHED in data):
        yield "what was written to the drive is not told"
    if truth.erased is not ("Everything on the drive was erased" in data or "old drive back. It was erased" in data):
        yield "whether it was erased is not told"
    if "new" in truth.happened and ("erased" in data or "old drive" not in data):
        yield "the old drive is not told of"
    if truth.starts is False and ("It starts" in text or NOTHING_WRONG in text):
        yield "it does not start, and the page calls it right"
    if truth.starts and not truth.drive_gone and "It starts" not in text:
        yield "it starts, and the page does not say so"
    if truth.starts is None and ("It starts" in text or "It does not start" in text):
        yield "nobody has tried, and the page says how it starts"
    if truth.drive_gone is not ("is at a" in data):
        yield "where it is is not told"
    if "%" in text or "…" in text or "{" in text:
        yield "a percentage, a gap or a brace"
    if fix and end in ("unwanted", "data-only") and "you did not want it" not in text:
        yield "what was advised and not wanted is not told"


@pytest.mark.parametrize("drive", ["clean", "failing"])
def test_a_machine_that_goes_back_unrepaired_is_not_started_again(model: Model, drive: str) -> None:
    walk = Walk(model, FACTS).put(
        {"move": "screen", "outcome": "dead"},
        {"move": "health-pages", "outcome": drive},
        {"move": "board-work", "outcome": "declined"},
    )
    walk.sign("release", None).work({})
    assert not {"cold-1", "cold-2", "data-seen"} & {step for step, _ in walk.answered}
    page = lines(papers(walk.folded()))
    assert "It does not start." in page
    assert "You did not want it sent to a shop that repairs boards." in page
    assert NOTHING_WRONG not in " ".join(page)
