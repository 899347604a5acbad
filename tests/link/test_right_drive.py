"""What is written reaches the drive that was confirmed and no other: whatever names do, whoever has the secret,
whenever a link is ended."""

from __future__ import annotations

import base64
import hashlib
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import histories
import pytest
from histories import NEW, OLD, TORN, Counter, History, counter

from gatecheck.core.capture.identity import Identity
from gatecheck.practice.drives import PracticeDisk
from gatecheck.probe import filling, writing
from gatecheck.probe.base import NotThisOne
from gatecheck.probe.identity import Identity as probe_Identity
from gatecheck.probe.orders import validated_orders
from gatecheck.server.link import sessions
from gatecheck.store import StoreError, links


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Counter]:
    at = counter(tmp_path_factory.mktemp("shop"))
    with at.client:
        yield at


@pytest.fixture
def own(shop: Counter) -> History:
    found = History(shop, histories.random.Random(1), odd=0.0)
    found.begin()
    return found


def fill(own: History, device: str = "sdb", serial: str = NEW, **more: Any) -> Any:
    body = {"device": device, "ends": serial[-4:], "holes": True, **more}
    own.confirmed.add(serial)
    return own.at.post(f"/tickets/{own.number}/copies/{own.copy}/fill", **body)


def mend(own: History) -> Any:
    """A mending of the torn disk, as its screen offers it."""
    path = own.at.client.get(f"/api/tickets/{own.number}/path", params={"device": "sdc"}).json()
    return own.at.post(f"/tickets/{own.number}/path/mend", device=path["disk"], plan=path["plans"][0]["id"])


def session(own: History, name: str) -> tuple[str, Callable[..., Any]]:
    """Another start of a probe with the same secret, and what it asks."""
    head = {"Authorization": "Bearer " + own.secret}
    at = f"{own.number:08x}{name}"
    assert (
        own.at.client.post(
            "/api/link/hello", json={"protocol": 1, "probe": "1", "machine": {}, "session": at}, headers=head
        ).status_code
        == 200
    )

    def ask(method: str, path: str, **more: Any) -> Any:
        return own.at.client.request(method, f"/api/link/{path}", headers=head, **more)

    return at, ask


def tape(own: History) -> str:
    return " ".join(e["note"] for e in own.at.client.get(f"/api/tickets/{own.number}").json()["tape"])


# --- the confirmed drive and no other ------------------------------------------------------------------------------


def test_names_that_swap_after_somebody_confirmed_lead_nowhere_else(own: History) -> None:
    """The end of the new drive's number is typed, the live system is started again, names are others: the new drive is
    filled under its new name."""
    assert fill(own).status_code == 201
    body = own.orders()[-1].body
    assert (body["drive"], body["identity"]["serial"], body["identity"]["size"]) == (
        NEW,
        NEW,
        own.drives[NEW].disk.capacity,
    )
    own.order = [NEW, OLD, TORN]
    own._names()
    own.work()
    assert own.drives[NEW].disk.read(0, 1) == b"\x5a" * 512
    assert own.touched == {NEW}
    assert not own.wrong


def test_a_reading_that_swapped_names_is_what_the_screen_and_the_order_go_by(own: History) -> None:
    """The newest reading lists them the other way round: the end that was typed does not fit the name any more."""
    own.order = [NEW, OLD, TORN]
    own.list_drives()
    said = fill(own, "sdb")
    assert said.status_code == 409
    assert f"four characters of {OLD}" in said.text or "The image is of this drive" in said.text
    assert fill(own, "sda", serial=NEW).status_code == 201
    assert own.orders()[-1].body["drive"] == NEW


def test_a_newer_file_of_one_drive_does_not_rename_it(own: History) -> None:
    """A file that lists nothing, of the old drive under the new one's name, is newer than the list that the screen
    shows."""
    spool, facts = histories._pages((TORN, OLD, NEW))
    kept = spool.lines
    spool.lines = [line for line in kept if line["path"].startswith("sdb/")]
    place = Path(spool.folder, "one.gcap")
    spool.write_capture(str(place), {**facts, "kernel": str(own.number)})
    spool.lines = kept
    own.at.house.captures.add_file(own.number, "one.gcap", place.read_bytes(), by="KT", read_now=True)
    assert fill(own).status_code == 201
    assert own.orders()[-1].body["drive"] == NEW


@pytest.mark.parametrize("change", ["serial", "wwn", "model", "size"])
def test_the_opened_drive_is_asked_who_it_is(own: History, change: str) -> None:
    """What is opened says something else than what was confirmed: nothing is written."""
    fill(own)
    order = {**own.orders()[-1].body, "id": "1"}
    told = {"serial": "QH2-999999", "wwn": "5000c500aaaaaaaa", "model": "OTHER", "size": 512}
    order["identity"] = {**order["identity"], change: told[change]}
    machine = own._probe()
    if change == "wwn":
        who = probe_Identity({"qh2-240017", "5000c500bbbbbbbb"}, (), 0)
        assert "world wide name is 5000c500aaaaaaaa" in who.fits(order)
        return
    with pytest.raises(NotThisOne, match="expected"):
        machine.fill(order, "sdb")
    assert own.touched == set()


def test_a_drive_that_takes_the_place_of_another_while_it_is_filled_is_left(
    own: History, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The bench was away, the plug was pulled, another drive stands behind the descriptor: it is asked again before the
    next byte."""
    for module in (filling, writing):
        monkeypatch.setattr(module, "FILL_STEP", 1 << 20)
    fill(own)
    swapped = []

    class Swapping(histories.Wire):
        def get_copy(self, box: Any, order: str, at: int, length: int) -> tuple[bytes | None, int | None]:
            found = super().get_copy(box, order, at, length)
            if at:  # a connection of its own: the one before was lost
                box.connection = histories._Open()
                swapped.append(at)
                own.drives[NEW].serial = OLD
            return found

    live = own._probe()
    live.link = Swapping(own.at.client, own.secret, lambda: None)
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
    result, detail = live.work(order)
    assert (result, live.wrote, "got one that says qs1-120664" in detail) == ("failed", True, True)
    assert swapped == [1 << 20]
    assert not own.drives[NEW].disk.written.get(2048)


# --- no identity, twins --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("body", [
    {"order": "mend", "kind": "rebuild-table", "device": "sdc", "disk": "sdc", "plan": "x", "what": "x", "writes": []},
    {"order": "entry", "kind": "restore-entry", "device": "sdc", "disk": "sdc", "plan": "x", "what": "x", "writes": []},
    {"order": "fill", "device": "sdb", "disk": "sdb", "copy": "1", "size": 512},
], ids=lambda b: b["order"])  # fmt: skip
def test_a_drive_without_an_identity_is_written_to_by_nobody(own: History, body: dict[str, Any]) -> None:
    for to in (None, Identity("", "", "QUARRY", 512)):
        with pytest.raises(StoreError, match="a drive with a serial number"):
            own.at.house.links.orders.enqueue(own.number, body, by="KT", to=to)
    live = own._probe()
    for drive in (None, "", "0000"):
        order = {**body, "id": "1", "drive": drive}
        with pytest.raises(NotThisOne, match="named by its serial number"):
            live.write(order)
    assert own.touched == set()


@pytest.mark.parametrize("serial", [NEW, OLD])
def test_of_twins_neither_is_read_or_written(own: History, serial: str) -> None:
    own.order = [OLD, NEW, TORN, serial + "'"]
    own.drives[serial + "'"] = histories._twin(own.drives, serial + "'")
    own._names()
    live = own._probe()
    for order in (
        {"order": "fill", "copy": "1", "size": 512},
        {"order": "scan"},
        {"order": "read"},
        {"order": "self-test", "kind": "short"},
    ):
        with pytest.raises(NotThisOne, match=r"got two that say they are it: sd. and sdd; unplug one"):
            live.find({"id": "1", "device": "sdd", "disk": "sdd", "drive": serial, **order})
    own.list_drives()
    targets = {
        t["device"]: t["against"]
        for t in own.at.client.get(f"/api/tickets/{own.number}/copies/{own.copy}/targets").json()
    }
    if serial == NEW:
        assert (
            targets["sdb"]
            == targets["sdd"]
            == "Two drives here report this serial number: sdb, sdd. Unplug one of them and read the machine again"
        )
    said = own.at.post(f"/tickets/{own.number}/orders", order="scan", device="sdd")
    assert (said.status_code, "Unplug one of them" in said.text) == (409, True)


# --- empty is all zeros --------------------------------------------------------------------------------------------

_LUKS = b"LUKS\xba\xbe\0\1" + b"aes" + bytes(501)
_EDGE = 34 * 512


@pytest.mark.parametrize(
    ("at", "data", "holds"),
    [
        (0, b"", 0),
        (0, _LUKS, None),
        (0, bytes(range(256)) * 2, None),
        (512, b"EFI PART" + bytes(84), None),
        (33 * 512, b"\1", None),
        (-512, b"\1", None),
        (-_EDGE, b"\1", None),
        (1024, b"\1" * 512, None),
    ],
    ids=["zeros", "luks", "noise", "broken-header", "lba-33", "last", "last-34", "lba-2"],
)
def test_only_zeros_are_empty(
    own: History, at: int, data: bytes, holds: int | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    total = 262_144
    place = at if at >= 0 else total * 512 + at
    sector = data.ljust(512, b"\0") if place % 512 == 0 else data
    disk = PracticeDisk(total, {place // 512: sector} if data else {})
    drives = histories.three_drives()
    drives[NEW].disk = disk
    monkeypatch.setattr(histories, "three_drives", lambda: drives)
    histories._pages.cache_clear()
    try:
        own.list_drives()
    finally:
        histories._pages.cache_clear()
    target = next(
        t
        for t in own.at.client.get(f"/api/tickets/{own.number}/copies/{own.copy}/targets").json()
        if t["device"] == "sdb"
    )
    assert (target["holds"], target["against"]) == (holds, None)
    assert fill(own).status_code == (201 if holds == 0 else 409)
    assert fill(own, over=True).status_code == (409 if holds == 0 else 201)  # one write at a time: the first stands


# --- before it begins ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("what", ["stop", "pause"])
@pytest.mark.parametrize("when", ["before it is pulled", "when it was pulled"])
def test_a_fill_that_is_not_wanted_any_more_writes_nothing(own: History, what: str, when: str) -> None:
    fill(own)
    order = own.orders()[-1].id
    steer = f"/tickets/{own.number}/orders/{order}"
    if when == "before it is pulled":
        own.at.post(steer, do=what)
        own.work()
    else:
        live = own._probe()
        live.link.hello(own.machine.facts(), "ab" * 8, 0)
        own.machine.filled = lambda disk: pytest.fail("it was opened")  # type: ignore[method-assign,assignment,return-value]
        pulled = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
        own.at.post(steer, do=what)
        result, detail = live.work(pulled)
        assert (result, detail) == (
            ("paused", "from the bench")
            if what == "pause"
            else ("failed", "stopped from the bench before anything was written")
        )
    assert own.touched == set()
    assert "may be gone" not in tape(own)


@pytest.mark.parametrize(("result", "wrote", "state", "is_told"), [
    ("failed", False, "failed", False), ("failed", True, "failed", True), ("failed", None, "failed", True),
    ("refused", False, "refused", False), ("refused", True, "failed", True),
])  # fmt: skip
def test_whether_anything_was_written_is_said_and_not_read_out_of_words(
    own: History, result: str, wrote: bool | None, state: str, is_told: bool
) -> None:
    fill(own)
    live = own._probe()
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
    said = {
        "session": live.link.session,
        "order": order["id"],
        "result": result,
        "detail": "the drive said no before anything was written",
    }
    live.link.call("POST", "/done", said if wrote is None else {**said, "wrote": wrote})
    assert own.orders()[-1].state == state
    assert ("said no" in tape(own)) == is_told


@pytest.mark.parametrize("what", ["mend", "fill"])
def test_who_was_killed_while_writing_says_so_when_started_again(
    own: History, what: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before the first flush, and on a drive that says no the second time: it is not told as untouched."""
    mend(own) if what == "mend" else fill(own)
    live = own._probe()
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
    drive = own.drives[TORN if what == "mend" else NEW]

    def dies(*at: Any) -> None:
        raise SystemExit

    with monkeypatch.context() as killed, pytest.raises(SystemExit):
        killed.setattr(drive.disk, "write", dies)
        killed.setattr(own.machine, "seen", dies)
        live.work(order)
    again = own._probe()
    again.link.hello(own.machine.facts(), live.link.session, 0)
    monkeypatch.setattr(drive, "serial", "QX9-000001")
    assert (again.work(order)[0], again.wrote) == ("failed", True)


def test_a_key_at_the_machine_is_needed_once_for_each_drive(own: History) -> None:
    asked: list[list[str]] = []

    def refuse(lines: list[str], going: Callable[[], bool]) -> bool:
        asked.append(lines)
        return len(asked) > 1

    own.machine.confirm = refuse  # type: ignore[method-assign,assignment]
    fill(own)
    own.work()
    assert own.orders()[-1].state == "refused"
    assert own.touched == set()
    assert any(NEW in line for line in asked[0]), "its serial number stands on that screen"
    for _ in range(2):
        fill(own, over=True)
        own.work()
    assert len(asked) == 2, "allowed once, it is not asked for again"
    assert own.orders()[-1].state == "done"


def test_a_machine_without_a_keyboard_allows_nothing(own: History) -> None:
    live = own._probe()
    live.machine = type("Bare", (), {"blocks": own.machine.blocks, "scsi": own.machine.scsi})()
    with pytest.raises(NotThisOne, match="expected somebody to press Y"):
        live.allow({"id": "1", "order": "fill", "drive": NEW, "size": 1}, "sdb")


# --- handed out, taken back ----------------------------------------------------------------------------------------


def test_a_mending_that_was_out_when_the_link_ended_is_said_and_can_be_taken_back(own: History) -> None:
    """The probe has pulled it and writes it; the link is ended before it says so."""
    assert mend(own).status_code == 201
    live = own._probe()
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
    own.end_link()
    live.mend(order, "sdc")
    assert own.drives[TORN].disk.written
    assert "May have been written, in part or whole" in tape(own)
    mends = own.at.client.get(f"/api/tickets/{own.number}/path").json()["mends"]
    assert [(m["state"], m["can_take_back"]) for m in mends] == [("failed", True)]
    assert own.at.post(f"/tickets/{own.number}/path/take-back", order=int(order["id"])).status_code == 201
    own.work()
    fresh = histories.torn_disk()
    assert all(own.drives[TORN].disk.read(n, 1) == fresh.read(n, 1) for n in own.drives[TORN].disk.written)


def test_what_was_never_pulled_was_never_written(own: History) -> None:
    mend(own)
    own.end_link()
    assert "May have been written" not in tape(own)
    assert own.at.client.get(f"/api/tickets/{own.number}/path").json()["mends"][0]["state"] == "cancelled"


def test_a_second_machine_with_the_secret_answers_for_nothing(own: History) -> None:
    mend(own)
    own.lives = own._probe()
    own.lives.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(own.lives.link.call("GET", "/orders?session=" + own.lives.link.session)["orders"])[0]
    at, ask = session(own, "beefbeef")
    assert ask("GET", "orders", params={"session": at}).json()["orders"] == []
    said = ask("POST", "done", json={"session": at, "order": order["id"], "result": "done", "detail": ""})
    assert (said.status_code, "from another" in said.text) == (409, True)
    assert own.orders()[-1].state == "waiting"
    page = {
        "session": at,
        "seq": 1,
        "order": order["id"],
        "path": "sdc/lba1-1.bin",
        "kind": "sectors",
        "device": "sdc",
        "how": "",
        "status": "ok",
        "detail": "",
    }
    data = bytes(512)
    assert ask(
        "POST",
        "pages",
        json={**page, "sha256": hashlib.sha256(data).hexdigest(), "data": base64.b64encode(data).decode()},
    ).json() == {"acknowledged": 1}
    with own.at.house.shop.database.read() as connection:
        assert links.all_pages_of(connection, own.number, order["id"])[-1][0]["status"] == "skipped", (
            "its page counts for nothing"
        )


def test_a_result_of_a_machine_that_took_an_order_over_hides_no_write(
    own: History, monkeypatch: pytest.MonkeyPatch
) -> None:
    mend(own)
    live = own._probe()
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    order = validated_orders(live.link.call("GET", "/orders?session=" + live.link.session)["orders"])[0]
    monkeypatch.setattr(sessions, "AWAY_SECONDS", 0.0)  # the first one is not heard any more
    at, ask = session(own, "beefbeef")
    assert [o["id"] for o in ask("GET", "orders", params={"session": at}).json()["orders"]] == [order["id"]]
    ask("POST", "done", json={"session": at, "order": order["id"], "result": "refused", "detail": "expected the drive"})
    last = own.orders()[-1]
    assert (last.state, "may have been written" in last.detail) == ("failed", True)
    assert own.at.post(f"/tickets/{own.number}/path/take-back", order=last.id).status_code == 201


def test_a_taking_back_that_shows_nothing_can_be_given_again(own: History) -> None:
    """`done` without what was read back: who says so may be anybody who has the secret."""
    mend(own)
    own.work()
    order = own.orders()[-1].id
    own.at.post(f"/tickets/{own.number}/path/take-back", order=order)
    at, ask = session(own, "beefbeef")
    ask("GET", "orders", params={"session": at})
    ask("POST", "done", json={"session": at, "order": str(own.orders()[-1].id), "result": "done", "detail": ""})
    assert own.at.post(f"/tickets/{own.number}/path/take-back", order=order).status_code == 201


def test_a_machine_is_not_handed_over_while_a_write_is_out(own: History) -> None:
    mend(own)
    live = own._probe()
    live.link.hello(own.machine.facts(), "ab" * 8, 0)
    live.link.call("GET", "/orders?session=" + live.link.session)
    said = own.at.post(f"/tickets/{own.number}/handover", waive="the customer is in a hurry")
    assert (said.status_code, "may be writing now" in said.text) == (409, True)


def test_of_writes_that_are_asked_for_at_once_one_is_first(own: History) -> None:
    path = own.at.client.get(f"/api/tickets/{own.number}/path", params={"device": "sdc"}).json()
    answers: list[int] = []
    barrier = threading.Barrier(8)

    def ask() -> None:
        barrier.wait()
        answers.append(
            own.at.post(
                f"/tickets/{own.number}/path/mend", device=path["disk"], plan=path["plans"][0]["id"]
            ).status_code
        )

    asked = [threading.Thread(target=ask) for _ in range(8)]
    for one in asked:
        one.start()
    for one in asked:
        one.join()
    assert sorted(answers) == [201] + [409] * 7
    assert fill(own).status_code == 409


class _Turnstile:
    """A lock that says when somebody stands before it."""

    def __init__(self) -> None:
        self.lock, self.comers, self.waits = threading.Lock(), 0, threading.Event()

    def __enter__(self) -> None:
        self.comers += 1
        if self.comers > 1:
            self.waits.set()
        self.lock.acquire()

    def __exit__(self, *error: object) -> None:
        self.lock.release()


def test_a_copy_is_not_deleted_while_the_order_to_fill_from_it_is_given(
    own: History, monkeypatch: pytest.MonkeyPatch
) -> None:
    linked, turnstile, answers = own.at.house.links, _Turnstile(), list[int]()
    monkeypatch.setattr(linked.copies, "changes", turnstile)
    put, deleting = (
        linked.orders.enqueue,
        threading.Thread(
            target=lambda: answers.append(
                own.at.client.delete(f"/api/tickets/{own.number}/copies/{own.copy}").status_code
            )
        ),
    )

    def slow(*order: Any, **more: Any) -> int:
        deleting.start()
        assert turnstile.waits.wait(60)
        return put(*order, **more)

    monkeypatch.setattr(linked.orders, "enqueue", slow)
    assert fill(own).status_code == 201
    deleting.join()
    assert answers == [409]


def test_a_source_is_known_by_its_world_wide_name_too(own: History) -> None:
    with own.at.house.shop.database.write() as connection:
        connection.execute(
            "UPDATE link_order SET body = json_set(body, '$.identity', json(?)) WHERE id = ?",
            ('{"wwn": "5000c500aaaaaaaa"}', own.copy),
        )
        connection.execute("UPDATE link_order SET body = json_remove(body, '$.drive') WHERE id = ?", (own.copy,))
    order, _ = own.at.house.links.restores._copy(own.number, own.copy)
    found = own.at.house.links.restores._sources(own.number, order)
    assert any(f.is_same(Identity("other", "naa.5000C500AAAAAAAA", "", None)) for f in found)
    assert not any(f.is_same(Identity("other", "", "", None)) for f in found)
    with own.at.house.shop.database.write() as connection:
        connection.execute("UPDATE link_order SET body = json_remove(body, '$.identity') WHERE id = ?", (own.copy,))
    nobody = [
        t
        for t in own.at.client.get(f"/api/tickets/{own.number}/copies/{own.copy}/targets").json()
        if t["device"] == "sda"
    ]
    assert (
        nobody[0]["against"]
        == "The image does not say which drive it is of, and this drive is not empty: it may be that one"
    )


@pytest.mark.parametrize("seed", range(3000, 3010))
def test_no_history_writes_where_nobody_confirmed_or_beyond_taking_back(shop: Counter, seed: int) -> None:
    own = histories.history(shop, seed)
    assert not own.wrong, "\n".join(own.story)
