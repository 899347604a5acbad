"""A key of a customer's encrypted volume: asked by its id, refused in one sentence, opens check, repair and recovery
through the link, and is nowhere but in memory."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from benches import Bench
from volume_desk import VolumeDesk, rows

from gatecheck.core.locked.encode import noise
from gatecheck.core.locked.keys import RECOVERY_PASSWORD, Key, first_hash, stretched
from gatecheck.practice.locked_volumes import STRETCHED, key_id, recovery_key
from serving import HTTP

FACTS = {"platform": "pc", "installed_os": "windows-11", "data": "backed-up", "drive_kind": "sata-ssd"}
OTHER = recovery_key("an older laptop")


def enter(desk: VolumeDesk, key: str, **more: Any) -> Any:
    now = desk.view()
    return HTTP.post(
        f"{desk.bench.url}/api/tickets/{desk.number}/volumes/key",
        json={"source": now["source"], "first": now["first"], "by": "KT", "key": key, **more},
        timeout=60,
    )


def test_a_key_opens_what_a_look_a_repair_and_a_recovery_need(bench: Bench) -> None:
    desk, name = VolumeDesk(bench, "locked-torn", **FACTS), "locked-torn"
    look = desk.looked()["look"]
    assert look["state"] == "locked"
    told = look["encryption"]
    assert [(k["how"], k["opens"]) for k in told["keys"]] == [("tpm", False), ("recovery-password", True)]
    assert told["keys"][1]["id"] == str(key_id(name)).upper()
    assert told["opened_by"] is None
    key = recovery_key(name)
    typed = enter(desk, key.replace(key[:6], "123457"))
    assert (typed.status_code, typed.json()["detail"][:60]) == (
        422,
        "recovery password: expected groups of 6 digits that can be d",
    )
    assert "group 1" in typed.json()["detail"]
    refused = enter(desk, OTHER)
    assert refused.status_code == 422
    assert told["keys"][1]["id"] in refused.json()["detail"]
    assert OTHER[:13] not in refused.text
    assert not desk.view()["has_key"]
    assert enter(desk, key).status_code == 201
    found = desk.until(lambda v: v["look"]["state"] == "damaged")
    assert found["has_key"]
    assert found["look"]["encryption"]["opened_by"] == told["keys"][1]["id"]
    assert [s["path"] for s in found["look"]["people"]] == ["Users/Elin", "?"]
    assert bench.ticket(desk.number)["facts"]["recovery_key"] == "on-ticket"
    groups = [g["id"] for g in found["look"]["groups"]]
    desk.ask("repair", groups=groups)
    found = desk.until(lambda v: v["repairs"] and v["look"]["state"] == "clean")
    desk.ask("rescue", only=["Users/Elin"], is_all=True)
    saved = desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")["rescues"][0]
    assert saved["holes"] == saved["lost"] == 0
    assert len(rows(saved["folder"])) == saved["whole"] > 40
    desk.ask("take-back", id=found["repairs"][0]["id"])
    assert desk.until(lambda v: v["look"]["state"] == "damaged")["look"]["findings"]
    assert_nowhere(bench, key)
    forgotten = bench.call("DELETE", f"/api/tickets/{desk.number}/volumes/key")
    assert not forgotten["has_key"]
    desk.ask("look")
    assert desk.until(lambda v: v["look"]["state"] == "locked")["look"]["people"] == []


def assert_nowhere(bench: Bench, key: str) -> None:
    """Neither as it was typed nor as its bytes: in files, tables, exports, process lists."""
    raw = b"".join((int(group) // 11).to_bytes(2, "little") for group in key.split("-"))
    marks = [key.encode(), key.replace("-", "").encode(), raw, key[:20].encode()]
    for place in Path(bench.data).rglob("*"):
        if place.is_file() and place.suffix not in (".img",):
            held = place.read_bytes()
            assert not any(mark in held for mark in marks), place
    for process in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            held = process.read_bytes()
        except OSError:
            continue
        assert not any(mark in held for mark in marks[:2]), process
    for path in ("/api/shelf.csv", "/api/bench", "/api/learning"):
        assert not any(mark in HTTP.get(f"{bench.url}{path}", timeout=60).content for mark in marks)


def test_a_ticket_that_is_handed_over_has_no_key_any_more(bench: Bench) -> None:
    desk = VolumeDesk(bench, "locked-other-key", **FACTS)
    desk.looked()
    assert enter(desk, recovery_key("locked-other-key")).status_code == 201
    desk.until(lambda v: v["look"]["state"] == "clean")
    assert desk.view()["has_key"]
    bench.call(
        "POST",
        f"/api/tickets/{desk.number}/handover",
        json={"by": "KT", "proven": ["settings.secure-boot"], "waive": "practice"},
    )
    assert not desk.view()["has_key"]


def test_the_keys_of_practice_machines_are_what_stretching_gives() -> None:
    for name, known in STRETCHED.items():
        first = first_hash(Key(RECOVERY_PASSWORD, recovery=noise(f"recovery {name}", 16)))
        assert first is not None
        assert stretched(first, noise(f"salt {key_id(name)}", 16)).hex() == known


@pytest.mark.wide
def test_a_new_drive_is_filled_without_the_encryption_only_with_the_key_and_the_customers_word(bench: Bench) -> None:
    name = "locked-other-key"
    desk = VolumeDesk(bench, name, **FACTS)
    address = f"/api/tickets/{desk.number}"
    bench.call("POST", f"{address}/orders", json={"order": "copy", "device": "sda", "by": "KT", "tight": True})
    link = bench.until(desk.number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    copy = link["orders"][-1]["id"]
    assert link["orders"][-1]["state"] == "done"
    bench.stop_probes()
    fresh = {"name": "QUARRY FLINT S64", "serial": "QF4-990001", "size_gb": 64}
    bench.probe(name, desk.secret, "spool-new", "--new-drive", json.dumps(fresh))
    bench.call("POST", f"{address}/orders", json={"order": "read", "by": "KT"})
    target = f"{address}/copies/{copy}/targets"
    bench.until(desk.number, lambda _: bench.call("GET", target)[0]["serial"] == fresh["serial"])
    assert bench.call("GET", target)[0]["against"] is None
    asked = {"device": "sda", "ends": "0001", "opened": True, "by": "KT"}
    assert bench.call("GET", f"{address}/copies/{copy}/opens") == []
    assert "expected a key on the ticket" in bench.refused("POST", f"{address}/copies/{copy}/fill", json=asked)
    now = desk.view(f"copy-{copy}")
    key = {"source": f"copy-{copy}", "first": now["first"], "by": "KT", "key": recovery_key(name)}
    bench.call("POST", f"{address}/volumes/key", json=key)
    desk.until(lambda v: v["look"] is not None and v["look"]["state"] == "clean", f"copy-{copy}")
    assert len(bench.call("GET", f"{address}/copies/{copy}/opens")) == 1
    bench.call("POST", f"{address}/copies/{copy}/fill", json=asked)
    link = bench.until(desk.number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    assert (link["orders"][-1]["order"], link["orders"][-1]["state"]) == ("fill", "done"), link["orders"][-1]
    assert "'fill.opened'" in str(desk.tape())
    bench.call("POST", f"{address}/orders", json={"order": "copy", "device": "sda", "by": "KT", "tight": True})
    link = bench.until(desk.number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    bench.call("DELETE", f"{address}/volumes/key?source=&first=0")
    plain = f"copy-{link['orders'][-1]['id']}"
    desk.ask("look", source=plain)
    look = desk.until(lambda v: v["look"] is not None, plain)["look"]
    assert (look["state"], look["encryption"], [s["path"] for s in look["people"]]) == ("clean", None, ["Users/Hedda"])
    held = sum(p.stat().st_blocks * 512 for p in (bench.data / "copies" / str(desk.number)).glob("*.img"))
    assert held < 1 << 30, "free space that was never written is not filled with noise"
