"""How moves are done: the shipped ways, which fit a machine, and what is refused of a table."""

from __future__ import annotations

import pytest

from gatecheck.adapters.shipped_tables import shipped_model, shipped_texts
from gatecheck.core.errors import KnowledgeError
from gatecheck.core.knowledge.loader import load
from gatecheck.core.knowledge.ways import ways_of

KNOWLEDGE = shipped_model().knowledge
FITS = {
    "a newer system": ("reduced-start", {"installed_os": "windows-11", "platform": "pc"}, ["reduced-newer"]),
    "an older one": ("reduced-start", {"installed_os": "windows-7", "platform": "pc"}, ["reduced-older"]),
    "nobody said which": (
        "reduced-start",
        {"installed_os": "unknown", "platform": "pc"},
        ["reduced-newer", "reduced-older", "reduced-linux"],
    ),
    "nothing is known": ("reduced-start", {}, ["reduced-newer", "reduced-older", "reduced-linux", "reduced-mac"]),
    "linux": ("repair-volume", {"installed_os": "linux", "platform": "pc"}, ["volume-ours", "checker-linux"]),
    "a mac": ("repair-volume", {"installed_os": "macos", "platform": "mac"}, ["volume-ours", "checker-mac"]),
    "a GPT disk": ("rebuild-boot-record", {"installed_os": "windows-10", "disk_layout": "gpt"}, ["record-ours"]),
    "a live system that would not start": (
        "live-start",
        {"installed_os": "linux"},
        ["stick-refused", "stick-not-offered", "stick-no-keys"],
    ),
    "a move without any": ("reseat", {}, []),
}


@pytest.mark.parametrize("name", FITS)
def test_only_what_may_fit_the_machine_is_shown(name: str) -> None:
    move, facts, wanted = FITS[name]
    assert [w.id for w in ways_of(KNOWLEDGE.ways, move, facts)] == wanted


def test_every_way_leads_somewhere() -> None:
    for way in KNOWLEDGE.ways:
        assert way.opens or way.reads, way.id
        assert len(way.reads) <= 9, way.id
        assert any(r.outcome for r in way.reads) or way.opens or way.id in ("checker-media", "record-media"), way.id


BROKEN = {
    "a move nobody knows": ('move = "repair-volume"', 'move = "repair-all"', "ways"),
    "an outcome that is none of the move's": ('outcome = "could-not"', 'outcome = "failed"', "outcome"),
    "no steps": ('steps = ["Press the key', 'steps = []\nmore = ["Press the key', "ways"),
    "an instrument that is none": ('opens = "volume"', 'opens = "disk"', "opens"),
    "an id that stands twice": ('id = "checker-media"', 'id = "checker-running"', "ways"),
    "a fact that is none": ("when = { platform =", "when = { plate =", "plate"),
    "more than all": ("works = 0.80", "works = 1.80", "works"),
}  # fmt: skip


@pytest.mark.parametrize("name", BROKEN)
def test_a_broken_table_is_refused_with_its_place(name: str) -> None:
    old, new, where = BROKEN[name]
    texts = shipped_texts()
    assert old in texts["ways.toml"]
    with pytest.raises(KnowledgeError, match=f"ways.toml.*{where}"):
        load({**texts, "ways.toml": texts["ways.toml"].replace(old, new, 1)})
