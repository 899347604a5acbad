"""The link: the real probe in a process of its own, a real server, and whatever may die on either side."""

from __future__ import annotations

import base64
import hashlib
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from benches import Bench

from gatecheck.practice.patients import patient
from gatecheck.probe.base import Gone
from gatecheck.probe.link import Link
from gatecheck.probe.orders import clearance
from gatecheck.probe.probe import Probe
from gatecheck.probe.spool import Spool
from gatecheck.probe.words import safe_name
from serving import HTTP


def through(count: int) -> Callable[[dict[str, Any]], bool]:
    return lambda link: sum(o["state"] == "done" for o in link["orders"]) >= count


def pages(bench: Bench, number: int) -> dict[str, str]:
    """Path -> status over all pages of the newest capture."""
    newest = bench.call("GET", f"/api/tickets/{number}/captures")[0]
    return {p["path"]: p["status"] for d in newest["devices"] for p in d["pages"]} | {
        p["path"]: p["status"] for p in newest["other_pages"]
    }


def test_from_hello_to_evidence(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device", drive_kind="nvme", installed_os="windows-11")
    assert bench.call("GET", f"/api/tickets/{number}/link")["state"] == "waiting"
    bench.probe("stale-entry", secret)
    link = bench.until(number, through(1))
    assert (link["state"], link["machine"]["product_name"]) == ("linked", "Lathe-14")
    ticket = bench.call("GET", f"/api/tickets/{number}")
    moves = [e["body"].get("move") for e in ticket["tape"]]
    assert {"live-start", "health-pages", "seen-live", "entry-target", "secure-boot"} <= set(moves)
    assert ticket["suspects"][0]["fault"] == "entries.lost"
    assert ticket["files"][0]["name"] == f"{ticket['number'].lower()}-{link['orders'][0]['id']}.gcap"
    assert bench.call("GET", "/api/bench")["rows"][0]["link"]["state"] == "linked"


@pytest.mark.parametrize("victim", ["probe", "server", "both"])
def test_nothing_is_lost_by_a_death(bench: Bench, victim: str) -> None:
    number, secret = bench.linked("screen=repair-loop", drive_kind="hdd")
    process = bench.probe("growing", secret)
    bench.until(number, lambda link: bool(link["progress"] and link["progress"]["done"] >= 8))
    if victim != "server":
        process.kill()
        process.wait()
    if victim != "probe":
        bench.stop()
        time.sleep(0.5)
        bench.start()
    if victim != "server":
        bench.probe("growing", secret)
    bench.until(number, through(1))
    found = pages(bench, number)
    machine = patient("growing").connected()
    assert {path for path in found if path.startswith(("efivars/", "dmi/"))} == {
        path for path in machine.pages if path.startswith(("efivars/", "dmi/"))
    }
    assert found["sda/smart-data.bin"] == found["sda/gp-log-04.bin"] == "decoded"
    assert found["sdz/identify.bin"] == "refused"
    files = bench.call("GET", f"/api/tickets/{number}")["files"]
    assert len(files) == 1, "one order, one capture"


def test_a_self_test_is_ordered_watched_and_weighed(bench: Bench) -> None:
    number, secret = bench.linked("screen=repair-loop", drive_kind="hdd", data="backed-up")
    bench.probe("growing", secret)
    bench.until(number, through(1))
    bench.call(
        "POST",
        f"/api/tickets/{number}/orders",
        json={"order": "self-test", "device": "sda", "kind": "short", "by": "KT"},
    )
    bench.until(number, through(2))
    tests = [
        e["body"] for e in bench.call("GET", f"/api/tickets/{number}")["tape"] if e["body"].get("move") == "short-test"
    ]
    assert [max(t["weights"], key=t["weights"].get) for t in tests] == ["read-failure"]
    drive = bench.call("GET", f"/api/tickets/{number}/captures")[0]["devices"][0]
    assert drive["trend"]["captures"] == 2
    assert "LBA 400003" in next(f["text"] for f in drive["findings"] if f["id"] == "self-test-failed")


def test_interlocks_hold_orders(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device", "sound=ticking", drive_kind="hdd", data="irreplaceable")
    bench.probe("growing", secret)
    link = bench.until(number, through(1))
    assert [o["order"] for o in link["orders"]] == ["look"], "the firmware only: the drive is heard to be damaged"
    assert not [path for path in pages(bench, number) if path.startswith("sda/")]
    refused = HTTP.post(
        f"{bench.url}/api/tickets/{number}/orders",
        json={"order": "self-test", "device": "sda", "kind": "long", "by": "KT"},
        timeout=10,
    )
    assert (refused.status_code, "Mechanical damage" in refused.json()["detail"]) == (409, True)


def test_an_order_that_is_held_later_carries_no_clearance(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device", drive_kind="hdd", data="irreplaceable")
    session = hello(bench, secret)
    bench.call(
        "POST", f"/api/tickets/{number}/entries", json={"entry": {"move": "sound", "outcome": "clunking"}, "by": "KT"}
    )
    order = bench.call("GET", "/api/link/orders", params={"session": session}, headers=bearer(secret))["orders"][0]
    assert (order["order"], order["clearances"]) == ("read", {})
    bench.call("POST", f"/api/tickets/{number}/entries", json={"entry": {"undo": 2}, "by": "KT"})
    order = bench.call("GET", "/api/link/orders", params={"session": session}, headers=bearer(secret))["orders"][0]
    assert order["clearances"]["pages"] == clearance(secret, order["id"], "read", "", "pages")
    assert set(order["clearances"]) == {"pages", "sectors"}


def bearer(secret: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {secret}"}


def hello(bench: Bench, secret: str, **more: Any) -> str:
    body = {
        "protocol": 1,
        "probe": "1",
        "machine": {"product_name": "Lathe-14"},
        "session": "0123456789abcdef",
        "has": 0,
        **more,
    }
    return str(bench.call("POST", "/api/link/hello", json=body, headers=bearer(secret))["session"])


def page(session: str, seq: int, data: bytes = b"x" * 512) -> dict[str, Any]:
    return {
        "session": session,
        "seq": seq,
        "order": "1",
        "path": f"sda/page-{seq}.bin",
        "kind": "text",
        "device": "sda",
        "how": "test",
        "status": "ok",
        "detail": "",
        "size": len(data),
        "sha256": hashlib.sha256(data).hexdigest(),
        "data": base64.b64encode(data).decode(),
    }


def test_pages_are_kept_in_order_and_once(bench: Bench) -> None:
    _, secret = bench.linked("screen=no-boot-device")
    session = hello(bench, secret)
    push = [page(session, n) for n in (1, 1, 3, 2, 3)]
    assert [bench.call("POST", "/api/link/pages", json=p, headers=bearer(secret))["acknowledged"] for p in push] == [
        1,
        1,
        1,
        2,
        3,
    ]
    assert (
        bench.call(
            "POST",
            "/api/link/hello",
            json={"protocol": 1, "probe": "1", "machine": {}, "session": session, "has": 3},
            headers=bearer(secret),
        )["acknowledged"]
        == 3
    )
    again = bench.call(
        "POST",
        "/api/link/hello",
        json={"protocol": 1, "probe": "1", "machine": {}, "session": session, "has": 0},
        headers=bearer(secret),
    )
    assert (again["acknowledged"], again["session"] != session) == (0, True), (
        "a probe that lost its pages begins a session of its own"
    )


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"path": "../../etc/passwd"}, "plain relative name"),
        ({"path": "/etc/passwd"}, "plain relative name"),
        ({"path": "a\\b"}, "plain relative name"),
        ({"sha256": "0" * 64}, "SHA-256"),
        ({"data": "***"}, "base64"),
        ({"status": "refused"}, "SHA-256"),
    ],
)
def test_a_page_that_is_not_what_it_says_is_refused(bench: Bench, more: dict[str, Any], words: str) -> None:
    _, secret = bench.linked("screen=no-boot-device")
    session = hello(bench, secret)
    answer = HTTP.post(
        f"{bench.url}/api/link/pages", json={**page(session, 1), **more}, headers=bearer(secret), timeout=10
    )
    assert (answer.status_code, words in answer.json()["detail"]) == (409, True)
    assert bench.call("POST", "/api/link/pages", json=page(session, 1), headers=bearer(secret))["acknowledged"] == 1


def test_secrets_open_their_own_ticket_only_and_end(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device")
    _, other = bench.linked("screen=no-boot-device")
    session = hello(bench, secret)
    assert secret != other
    for headers, wanted in (({}, 401), (bearer("guess-wrong"), 401), (bearer(other), 404), (bearer(secret), 200)):
        assert (
            HTTP.get(
                f"{bench.url}/api/link/orders", params={"session": session}, headers=headers, timeout=10
            ).status_code
            == wanted
        )
    probe = HTTP.get(f"{bench.url}/p/{secret}", timeout=10).text
    assert (f"SECRET = '{secret}'" in probe, f"SERVER = '{bench.url}'" in probe) == (True, True)
    assert 'SECRET = ""' in HTTP.get(f"{bench.url}/probe", timeout=10).text
    bench.call("DELETE", f"/api/tickets/{number}/link")
    assert (
        HTTP.get(
            f"{bench.url}/api/link/orders", params={"session": session}, headers=bearer(secret), timeout=10
        ).status_code
        == 410
    )
    assert HTTP.get(f"{bench.url}/p/{secret}", timeout=10).status_code == 410
    fresh = bench.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})["secret"]
    assert fresh != secret


def test_an_ended_link_ends_the_probe(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device")
    process = bench.probe_by_command("sound", secret)
    bench.until(number, through(1))
    bench.call("DELETE", f"/api/tickets/{number}/link")
    assert process.wait(15) == 0


def test_a_probe_of_another_protocol_is_told_where_the_right_one_is(bench: Bench) -> None:
    _, secret = bench.linked("screen=no-boot-device")
    body = {"protocol": 9, "probe": "9", "machine": {}, "session": "0123456789abcdef"}
    answer = HTTP.post(f"{bench.url}/api/link/hello", json=body, headers=bearer(secret), timeout=10)
    assert (answer.status_code, "/probe" in answer.json()["detail"]) == (409, True)


def test_a_practice_machine_comes_to_the_bench_by_one_call(bench: Bench) -> None:
    ticket = bench.call("POST", "/api/practice", json={"machine": "worn", "bay": 2, "by": "KT"})
    bench.until(ticket["id"], through(1))
    ticket = bench.call("GET", f"/api/tickets/{ticket['id']}")
    assert (ticket["bay"], ticket["call"]["choice"], ticket["call"]["fix"]) == (2, "replace", "replace-drive")
    assert (
        HTTP.post(f"{bench.url}/api/practice", json={"machine": "toaster", "by": "KT"}, timeout=10).status_code == 404
    )


def started(bench: Bench, code: str, folder: Path, **programs: str) -> subprocess.CompletedProcess[str]:
    """The script behind the start line, run by a shell that finds only these programs beside the ordinary ones."""
    script = HTTP.get(f"{bench.url}/s/{code}", timeout=10)
    assert script.status_code == 200, "a refusal that only a program reads helps nobody"
    place = folder / "bin"
    place.mkdir(exist_ok=True)
    for name in ("mktemp", "rm", "id", "cat"):
        (place / name).unlink(missing_ok=True)
        (place / name).symlink_to(shutil.which(name) or "")
    for name, text in programs.items():
        (place / name).write_text(f"#!/bin/sh\n{text}\n")
        (place / name).chmod(0o755)
    return subprocess.run(
        ["/bin/sh"],
        input=script.text,
        capture_output=True,
        text=True,
        check=False,
        env={"PATH": str(place), "TMPDIR": str(folder)},
        timeout=60,
    )


def test_the_start_line_starts_the_probe(bench: Bench, tmp_path: Path) -> None:
    number, _ = bench.linked("screen=no-boot-device", drive_kind="hdd")
    python = (
        f'case "$1" in -c) exec {sys.executable} "$@";; esac; echo "probe of $(cat "$1" | {sys.executable} -c '
        f"'import sys; print(len(sys.stdin.read()) > 20000)') $2\""
    )
    fetch = (
        f'exec {sys.executable} -c "import sys,urllib.request as u; open(sys.argv[1], '
        f'\'wb\').write(u.urlopen(sys.argv[2]).read())" "$3" "$4"'
    )
    for name in ("curl", "wget"):  # both are called with two options, the file and the address
        folder = tmp_path / name
        folder.mkdir()
        secret = bench.call("GET", f"/api/tickets/{number}/link")["code"]
        done = started(bench, secret, folder, python3=python, sudo='exec "$@"', **{name: fetch})
        assert (done.returncode, done.stdout.strip()) == (0, "probe of True"), done.stderr


@pytest.mark.parametrize(
    ("code", "programs", "status", "words"),
    [
        ("wrong-codes", {}, 2, "the bench knows no code wrong-codes"),
        ("$(reboot)'; reboot", {}, 2, "the bench knows no code"),
        ("", {"python3": "exit 1"}, 3, "no Python 3.8 or newer"),
        ("", {"python3": "exit 0", "wget": "exit 1"}, 5, "the probe did not come from"),
    ],
)
def test_the_start_line_says_what_is_in_the_way(
    bench: Bench, tmp_path: Path, code: str, programs: dict[str, str], status: int, words: str
) -> None:
    number, _ = bench.linked("screen=no-boot-device")
    secret = bench.call("GET", f"/api/tickets/{number}/link")["code"]
    done = started(
        bench, code.replace("$", "%24").replace(" ", "%20").replace(";", "%3B") or secret, tmp_path, **programs
    )
    assert (done.returncode, words in done.stderr) == (status, True), done.stderr
    bench.call("DELETE", f"/api/tickets/{number}/link")
    code = bench.call("GET", f"/api/tickets/{number}/link")["code"]
    assert "was ended on the bench" in started(bench, code, tmp_path).stderr


def test_a_clock_that_fell_back_is_a_reading_of_the_first_word(bench: Bench) -> None:
    number, secret = bench.linked("screen=volume-stop", drive_kind="sata-ssd")
    bench.probe("flat-battery", secret)
    bench.until(number, lambda link: link["state"] == "linked")
    clocks = bench.tape_until(number, lambda tape: [e["body"] for e in tape if e["body"].get("move") == "clock"])
    assert [(c["outcome"], c["found"]) for c in clocks] == [("reset-to-default", "reset")]


def test_an_order_carries_the_drive_s_serial_number(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device", drive_kind="nvme")
    bench.probe("two-alike", secret)
    bench.until(number, through(1))
    assert bench.call("GET", f"/api/tickets/{number}/captures")[0]["asks"] == ["nvme0", "nvme1"]
    bench.call(
        "POST",
        f"/api/tickets/{number}/orders",
        json={"order": "self-test", "device": "nvme1", "kind": "short", "by": "KT"},
    )
    link = bench.until(number, through(2))
    assert (link["orders"][1]["device"], link["orders"][1]["drive"], link["orders"][1]["state"]) == (
        "nvme1",
        "QF5-440077",
        "done",
    )


def test_a_code_is_exchanged_once_and_may_not_be_guessed(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device")
    code = bench.call("GET", f"/api/tickets/{number}/link")["code"]
    assert len(secret.partition("-")[2]) >= 32, "192 bits as text"
    assert f"SECRET = '{secret}'" in HTTP.get(f"{bench.url}/p/{code}", timeout=10).text
    assert HTTP.get(f"{bench.url}/p/{code}", timeout=10).status_code == 401, "used"
    fresh = bench.call("GET", f"/api/tickets/{number}/link")["code"]
    assert fresh != code
    answers = [HTTP.get(f"{bench.url}/p/wrong-{n:05}", timeout=10).status_code for n in range(12)]
    assert answers == [401] * 9 + [429] * 3, "one wrong try went before"
    assert HTTP.get(f"{bench.url}/p/{fresh}", timeout=10).status_code == 429, "not even the right one, for a minute"


def test_handing_over_ends_a_link_for_good(bench: Bench) -> None:
    number, secret = bench.linked("screen=no-boot-device")
    bench.call("POST", f"/api/tickets/{number}/handover", json={"by": "KT", "proven": None})
    bench.call("POST", f"/api/tickets/{number}/reopen", json={})
    answer = HTTP.post(
        f"{bench.url}/api/link/hello",
        json={"protocol": 1, "probe": "1", "machine": {}, "session": "ab" * 8},
        headers=bearer(secret),
        timeout=10,
    )
    assert answer.status_code == 410


def test_a_secret_stands_in_no_list_of_processes(tmp_path: Path) -> None:
    bench = Bench(tmp_path)
    bench.by_command = True  # it starts its practice machine as a shop's does
    bench.start()
    try:
        ticket = bench.call("POST", "/api/practice", json={"machine": "sound", "by": "KT", "bay": None})
        secret = bench.call("GET", f"/api/tickets/{ticket['id']}/link")["secret"]
        bench.until(ticket["id"], lambda link: link["state"] == "linked")
        _is_in_no_list(secret)
    finally:
        bench.stop()


def _is_in_no_list(secret: str) -> None:
    listed = [p.read_bytes() for p in Path("/proc").glob("[0-9]*/cmdline") if p.exists()]
    assert any(b"gatecheck.practice" in line for line in listed)
    assert not [line for line in listed if secret.encode() in line]


ODD_NAMES = ["Odd:Name(1),{x}", "Ünï code", "a" * 400, "tab\there", "..", "..%2f..", "x/../../y"]


@pytest.mark.parametrize("name", ODD_NAMES)
def test_an_odd_variable_blocks_nothing(bench: Bench, name: str, tmp_path: Path) -> None:
    """It is stored under a safe name, its own is kept, and what the server accepted it can read."""
    number, secret = bench.linked("screen=no-boot-device", drive_kind="nvme")
    machine = patient("sound").connected()
    file = f"{name}-8be4df61-93ca-11d2-aa0d-00e098032b8c"
    machine.pages = {**machine.pages, "efivars/" + safe_name(file): bytes(4) + bytes(64 << 10)}
    machine.files = lambda: {
        path: (f"/sys/firmware/efi/efivars/{file}" if "+" in path or "a" * 40 in path or ".." in path else path)
        for path in machine.pages
    }  # type: ignore[method-assign]
    by_place = {place: path for path, place in machine.files().items()}
    machine.read_file = lambda place: machine.pages[by_place[place]]  # type: ignore[method-assign]
    link = Link(bench.url, secret, lambda text: None)
    worker = Probe(machine, Spool(str(tmp_path / "odd")), link, lambda text: None)
    machine.sleep = lambda seconds: bench.call("DELETE", f"/api/tickets/{number}/link")  # type: ignore[method-assign]
    with pytest.raises(Gone):
        worker.linked("ab" * 8)
    captures = bench.call("GET", f"/api/tickets/{number}/captures")
    assert {d["device"] for d in captures[0]["devices"]} == {"nvme0", "sdz"}, "all else was read"
    pages = [p for p in captures[0]["other_pages"] if p["path"].startswith("efivars/")]
    assert len(pages) == len([p for p in machine.pages if p.startswith("efivars/")])
    firmware = bench.call("GET", f"/api/tickets/{number}/settings")["captured"]
    assert firmware is not None


def test_a_link_holds_so_many_starts_and_pages_of_its_own_orders_only(bench: Bench) -> None:
    _, secret = bench.linked("screen=no-boot-device")
    said = {"protocol": 1, "probe": "1", "machine": {}}
    answers = [
        HTTP.post(
            f"{bench.url}/api/link/hello", json={**said, "session": f"{n:08x}"}, headers=bearer(secret), timeout=10
        ).status_code
        for n in range(42)
    ]
    assert answers == [200] * 40 + [409] * 2
    session = f"{0:08x}"
    foreign = HTTP.post(
        f"{bench.url}/api/link/pages", json={**page(session, 1), "order": "99"}, headers=bearer(secret), timeout=10
    )
    assert (foreign.status_code, "an order of this ticket" in foreign.json()["detail"]) == (409, True)


def test_so_many_practice_machines_and_no_more(bench: Bench, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from gatecheck.server.errors import TooManyError
    from gatecheck.server.services import open_services

    monkeypatch.setattr("gatecheck.server.practice.processes._MOST_RUNNING", 1)
    house = open_services(tmp_path / "own", url=bench.url)
    try:
        house.practice.take_in("sound", bay=None, by="KT")
        with pytest.raises(TooManyError, match="at most 1 at a time"):
            house.practice.take_in("sound", bay=None, by="KT")
    finally:
        house.practice.processes.close()
        house.shop.database.close()


def test_what_does_not_fit_into_a_capture_is_said_in_it(bench: Bench) -> None:
    """Six pages of 4 MiB of chance: the last two are named and not kept, and what is kept can be read."""
    number, secret = bench.linked("screen=no-boot-device")
    session = hello(bench, secret)
    data = random.Random(1).randbytes(4 << 20)
    own = {"data": base64.b64encode(data).decode(), "sha256": hashlib.sha256(data).hexdigest(), "size": len(data)}
    for n in range(1, 7):
        assert (
            bench.call(
                "POST",
                "/api/link/pages",
                json={**page(session, n), **own, "path": f"sda/odd{n}.bin"},
                headers=bearer(secret),
            )["acknowledged"]
            == n
        )
    bench.call(
        "POST",
        "/api/link/done",
        json={"session": session, "order": "1", "result": "done", "detail": ""},
        headers=bearer(secret),
    )
    capture = bench.call("GET", f"/api/tickets/{number}/captures")[0]
    full = [
        p
        for d in [*capture["devices"], {"pages": capture["other_pages"]}]
        for p in d["pages"]
        if "the capture is full" in p["detail"]
    ]
    assert len(full) == 2


def test_a_practice_machine_answers_with_the_new_drives_own_pages_once_it_is_in(bench: Bench) -> None:
    ticket = bench.call("POST", "/api/practice", json={"machine": "worn", "bay": 1, "by": "KT"})
    number = int(ticket["id"])
    bench.until(number, through(1))
    bench.call(
        "POST",
        f"/api/tickets/{number}/entries",
        json={"entry": {"signed": "replace", "fix": "replace-drive"}, "by": "KT"},
    )
    bench.call(
        "POST",
        f"/api/tickets/{number}/part",
        json={"name": "QUARRY FLINT 500", "serial": "QF2-000815", "size_gb": 500, "by": "KT"},
    )
    while (job := bench.call("GET", f"/api/tickets/{number}")["job"])["step"] != "new-pages":
        work = bench.call("GET", f"/api/tickets/{number}/work")
        own = next(s for s in work["steps"] if s["state"] == "now")
        answer = next(a for a in own["answers"] if a["leads"] == "on")
        value = {"serial": "QS3-441907", "text": "nothing", "count": 2019}.get(answer["asks"])
        bench.call(
            "POST",
            f"/api/tickets/{number}/steps/{job['step']}",
            json={"answer": answer["id"], "value": value, "by": "KT"},
        )
    suspects = bench.call("GET", f"/api/tickets/{number}")["suspects"]
    bench.call("POST", f"/api/tickets/{number}/orders", json={"order": "read", "by": "KT"})
    bench.until(number, through(2))
    after = bench.call("GET", f"/api/tickets/{number}")
    note = after["tape"][-1]["note"]
    assert note.startswith("New drive QF2-000815:")
    assert note.endswith("Saved as the baseline.")
    assert after["signed"] is not None, "what is read of the shop's own part says nothing against the call"
    assert {s["fault"]: s["p"] for s in after["suspects"]} == pytest.approx({s["fault"]: s["p"] for s in suspects})
    drives = bench.call("GET", f"/api/tickets/{number}/captures")[0]["devices"]
    assert "QF2-000815" in {d["identity"]["serial"] for d in drives if d["identity"]}
    hints = next(s for s in bench.call("GET", f"/api/tickets/{number}/work")["steps"] if s["id"] == "new-pages")[
        "hints"
    ]
    assert hints == ["Read: QUARRY FLINT 500, QF2-000815. These values are the baseline."]


def test_what_spins_is_stopped_where_the_ticket_holds_its_drive(bench: Bench, tmp_path: Path) -> None:
    """By the probe's own words and the order's detail; flash and what hangs on USB are left alone, and what refuses is
    said."""
    for texts, stopped in ((("screen=no-boot-device", "sound=ticking"), True), (("screen=no-boot-device",), False)):
        number, secret = bench.linked(*texts, drive_kind="hdd", data="irreplaceable")
        bench.probe("spotted", secret, f"spool-rest-{number}")
        link = bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
        assert (link["orders"][0]["order"], link["orders"][0]["detail"]) == (
            ("look", "sda is stopped") if stopped else ("read", "")
        )


def test_what_cannot_be_stopped_is_said_and_flash_is_left_alone(tmp_path: Path) -> None:
    said: list[str] = []
    machine = patient("wrong-first").connected()
    asked: list[str] = []
    answer = machine.scsi

    def scsi(device: str, command: bytes, length: int) -> tuple[int, bytes, bytes]:
        asked.append(device)
        return (2, b"", b"") if command[0] == 0x1B else answer(device, command, length)

    machine.scsi = scsi  # type: ignore[method-assign]
    own = Probe(machine, Spool(str(tmp_path)), None, said.append)
    own.reader.run = lambda call: own.reader._answer(call)
    own.rest()
    assert set(asked) == {"sda"}, "the flash drive beside it is asked for nothing"
    assert own.rested == "sda could not be stopped (it refuses to): pull its plug"
    assert "Nothing here wakes it again" in said[0]
