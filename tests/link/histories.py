"""Random histories of the link: orders, names that swap, twins, kills, a second machine, a bench that takes its word
back. After each of them no byte stands on a drive that nobody confirmed, and every byte that was mended can be taken
back."""

from __future__ import annotations

import base64
import copy
import hashlib
import itertools
import random
import tempfile
import uuid
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient

from gatecheck.core.disk.encode import gpt_end, gpt_start
from gatecheck.practice.drives import AtaDrive, PracticeDisk
from gatecheck.practice.machine import FilledDisk, PracticeMachine
from gatecheck.practice.patients import patient
from gatecheck.probe.base import Gone, Refused
from gatecheck.probe.link import Link
from gatecheck.probe.orders import validated_orders
from gatecheck.probe.probe import Probe
from gatecheck.probe.reader import Reader
from gatecheck.probe.spool import Spool
from gatecheck.server.app import create_app
from gatecheck.server.link import sessions
from gatecheck.server.services import Services, open_services
from gatecheck.store import links
from serving import HERE, ME

OLD, NEW, TORN = "QS1-120664", "QH2-240017", "QF4-720318"
SIZE = 8 << 20
"""bytes of the copy that drives are filled from"""
FACTS = {"platform": "pc", "installed_os": "linux", "data": "backed-up", "drive_kind": "sata-ssd"}


class Killed(BaseException):
    """The probe dies here."""


class Inline(Reader):  # type: ignore[misc]
    """Calls to drives in this very process."""

    def run(self, call: Any) -> tuple[str, str, bytes]:
        found: tuple[str, str, bytes] = self._answer(call)
        return found


class Watched(PracticeMachine):
    """`seen`: is told of every stretch of zeros too, which is no write of sectors."""

    seen: Any = None

    @contextmanager
    def filled(self, disk: str) -> Iterator[FilledDisk]:
        with super().filled(disk) as own:
            drive, zero = self.drives[disk], own.zero

            def zeroed(at: int, length: int) -> None:
                if self.seen:
                    self.seen(drive, at, length)
                zero(at, length)

            own.zero = zeroed  # type: ignore[method-assign]
            yield own


def machine_with(names: Mapping[str, AtaDrive]) -> Watched:
    own = patient("beside").connected()
    return Watched(own.name, dict(names), own.pages, own.named)


def torn_disk() -> PracticeDisk:
    """A small one whose GPT is gone at its beginning, and whole at its end."""
    total, first = 131_072, 2048
    start = gpt_start(
        str(uuid.UUID(int=7)),
        [(str(uuid.UUID(int=9)), "0FC63DAF-8483-4772-8E79-3D69D8477DE4", first, total - 2048, "data")],
        sectors=total,
    )
    end = gpt_end(start, sectors=total)
    return PracticeDisk(total, {0: start[:512], 2: start[1024:], total - len(end) // 512: end})


def three_drives() -> dict[str, AtaDrive]:
    """The drive that was copied, the new one, and one whose table is torn; by serial number."""
    disks = {OLD: PracticeDisk(131_072, {0: b"\x5a" * 512}), NEW: PracticeDisk(262_144), TORN: torn_disk()}
    return {
        serial: AtaDrive("QUARRY FLINT S480", serial, disk, 3_700, rotation=0, wear_now=97)
        for serial, disk in disks.items()
    }


_folders: list[tempfile.TemporaryDirectory[str]] = []
"""what readings are made from, gone at this process's end"""


@cache
def _pages(order: tuple[str, ...]) -> tuple[Spool, dict[str, str]]:
    drives = three_drives()
    names = {
        f"sd{'abcd'[place]}": _twin(drives, serial) if serial.endswith("'") else drives[serial]
        for place, serial in enumerate(order)
    }
    _folders.append(tempfile.TemporaryDirectory(prefix="gatecheck-histories-"))
    spool, machine = Spool(_folders[-1].name), machine_with(names)
    spool.begin()
    Probe(machine, spool, None, lambda text: None, Inline()).read("offline")
    return spool, machine.facts()


def reading(order: tuple[str, ...], moment: str) -> bytes:
    """What a reading of the whole machine brings at a moment while its drives stand under these names; twins as they
    are."""
    spool, facts = _pages(order)
    place = Path(spool.folder, "x.gcap")
    spool.write_capture(str(place), {**facts, "kernel": moment})
    return place.read_bytes()


def _twin(drives: Mapping[str, AtaDrive], named: str) -> AtaDrive:
    own = copy.copy(drives[named.rstrip("'")])
    own.disk = PracticeDisk(own.disk.sectors, {})
    return own


class Wire(Link):  # type: ignore[misc]
    """The probe's link over a server without a socket. `at_call`: what happens before each request."""

    def __init__(self, client: TestClient, secret: str, at_call: Any) -> None:
        super().__init__("http://127.0.0.1:8765", secret, lambda text: None)
        self.client, self.at_call = client, at_call

    def call(self, method: str, path: str, body: Any = None, patient: bool = True) -> dict[str, Any]:
        self.at_call()
        answer = self.client.request(
            method, "/api/link" + path, json=body, headers={"Authorization": "Bearer " + self.secret}
        )
        self._raise(answer)
        found: dict[str, Any] = answer.json()
        return found

    def get_copy(self, box: Any, order: str, at: int, length: int) -> tuple[bytes | None, int | None]:
        self.at_call()
        box.connection = box.connection or _Open()
        params = {"session": self.session, "order": order, "at": at, "length": length}
        answer = self.client.get("/api/link/image", params=params, headers={"Authorization": "Bearer " + self.secret})
        self._raise(answer)
        zeros = answer.headers.get("X-Zeros", "")
        return (None, int(zeros)) if zeros else (answer.content, None)

    @staticmethod
    def _raise(answer: Any) -> None:
        if answer.status_code in (401, 404, 410):
            raise Gone(answer.text)
        if answer.status_code >= 500:
            raise AssertionError(answer.text)
        if answer.status_code >= 400:
            raise Refused(answer.json()["detail"])


class _Open:
    def close(self) -> None:
        pass


@dataclass
class Counter:
    """A shop, and one machine of three drives on its bench after another."""

    house: Services
    client: TestClient
    folder: Path

    def post(self, path: str, **body: Any) -> Any:
        return self.client.post(f"/api{path}", json={**body, "by": "KT"}, headers={"X-Gate-Check": "1"})


def counter(folder: Path) -> Counter:
    house = open_services(folder / "data")
    return Counter(house, TestClient(create_app(house), base_url=HERE, client=ME), folder)


@dataclass
class History:
    """One machine's stay. `written`: (serial, byte, length) of all that reached a drive; `wrong`: what should not
    have."""

    at: Counter
    rng: random.Random
    number: int = 0
    secret: str = ""
    drives: dict[str, AtaDrive] = field(default_factory=three_drives)
    order: list[str] = field(default_factory=lambda: [OLD, NEW, TORN])
    sessions: int = 0
    copy: int = 0
    confirmed: set[str] = field(default_factory=set)
    story: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)
    touched: set[str] = field(default_factory=set)
    lives: Any = None
    odd: float = 0.15
    """how often something happens at a request of the probe"""

    def begin(self) -> None:
        ticket = self.at.post("/tickets", customer="Choir", machine="Ostler Tarn Mini", facts=FACTS).json()
        self.number = int(ticket["id"])
        self.machine = machine_with({})
        self.machine.seen = lambda drive, at, length: self._check(drive, drive.serial, at, bytes(length))
        self._names()
        for drive in self.drives.values():
            self._watch(drive)
        self.list_drives()
        self.open_link()
        with self.at.house.shop.database.write() as connection:
            self.copy = links.put_order(
                connection,
                self.number,
                {"order": "copy", "device": "sda", "drive": OLD, "identity": {"serial": OLD}},
                by="KT",
                at="2026-01-01T00:00:00+00:00",
            )
            links.end_order(connection, self.copy, "done", "", "2026-01-01T00:00:00+00:00")
        copies = self.at.house.links.copies.copies
        copies.begin(self.number, self.copy, SIZE)
        data = b"\x5a" * (1 << 20)
        copies.write(
            self.number,
            self.copy,
            0,
            [data],
            hashlib.blake2b(data, digest_size=32).hexdigest(),
            zlib.crc32(data),
        )
        copies.zeros(self.number, self.copy, 1 << 20, SIZE - (1 << 20))

        odd, self.odd = self.odd, 0.0
        self.at.post(f"/tickets/{self.number}/path/read", device="sdc")
        self.work(3)
        self.odd = odd

    # --- the machine

    def _names(self) -> None:
        self.machine.drives = {f"sd{'abcd'[place]}": self.drives[serial] for place, serial in enumerate(self.order)}

    def _watch(self, drive: AtaDrive) -> None:
        """Every sector that reaches a drive is held against what somebody has confirmed."""
        disk, serial = drive.disk, drive.serial
        write = disk.write

        def watched(sector: int, data: bytes) -> None:
            self._check(drive, serial, sector * 512, data)
            write(sector, data)

        disk.write = watched  # type: ignore[method-assign]

    def _check(self, drive: AtaDrive, serial: str, at: int, data: bytes) -> None:
        self.touched.add(serial)
        if self.drives.get(serial) is not drive:
            self.wrong.append(f"a twin of {serial} was written to")
        with self.at.house.shop.database.read() as connection:
            orders = [o for o in links.orders_of(connection, self.number) if o.is_handed_out]
        mends = [w for o in orders if o.body["order"] == "mend" and o.body["drive"] == serial for w in o.body["writes"]]
        if serial in self.confirmed or any(
            w["at"] <= at and at + len(data) <= w["at"] + len(base64.b64decode(w["after"])) for w in mends
        ):
            return
        self.wrong.append(f"byte {at} of {serial}, which nobody confirmed")

    def swap(self) -> None:
        self.rng.shuffle(self.order)
        self._names()
        self.story.append("names " + " ".join(self.order))

    def twin(self) -> None:
        """Another drive with the serial number of one that is there, or it is pulled again."""
        if len(self.order) > 3:
            self.order = [s for s in self.order if not s.endswith("'")]
        else:
            own = self.rng.choice((OLD, NEW, TORN)) + "'"
            self.drives[own] = _twin(self.drives, own)
            self._watch(self.drives[own])
            self.order.insert(self.rng.randrange(4), own)
        self._names()
        self.story.append("drives " + " ".join(self.order))

    # --- the probe

    def _at_call(self) -> None:
        if self.rng.random() > self.odd:
            return
        what = self.rng.randrange(6)
        if what == 0:
            self.story.append("killed")
            raise Killed
        if what == 1:
            self.swap()
        elif what == 2:
            self.steer(self.rng.choice(("stop", "pause")))
        elif what == 3:
            self.steal()
        elif what == 4 and self.rng.random() < 0.3:
            self.end_link()
        elif what == 5:
            self.ask_for_something()

    def _probe(self) -> Any:
        own = Probe(
            self.machine,
            Spool(str(self.at.folder / f"spool-{self.number}-{self.sessions}")),
            None,
            lambda text: None,
            Inline(),
        )
        own.link = Wire(self.at.client, self.secret, self._at_call)
        return own

    def work(self, turns: int = 1) -> None:
        """The probe pulls its orders and works on them, until it is killed or the link is over."""
        try:
            if self.lives is None or self.lives.link.secret != self.secret:
                self.lives = self._probe()
                self.lives.link.hello(
                    self.machine.facts(), f"{self.number:08x}{self.sessions:08x}", len(self.lives.spool.lines)
                )
            for _ in range(turns):
                found = self.lives.link.call("GET", "/orders?session=" + self.lives.link.session)
                for order in validated_orders(found["orders"]):
                    result, detail = self.lives.work(order)
                    self.story.append(f"order {order['id']} {order['order']}: {result} {detail[:60]}")
                    self.lives.push()
                    self.lives.link.call(
                        "POST",
                        "/done",
                        {"session": self.lives.link.session, "order": order["id"], "result": result, "detail": detail},
                    )
        except Killed:
            self.lives = None
            if self.rng.random() < 0.5:
                self.sessions += 1  # the live system was started anew: what it kept is gone, and names may have moved
                self.swap()
        except (Gone, Refused) as error:
            self.story.append(f"link: {str(error)[:80]}")
            self.lives = None

    def steal(self) -> None:
        """A second machine with the same secret pulls, and answers for everything."""
        head = {"Authorization": "Bearer " + self.secret}
        session = f"{self.number:08x}beef"
        hello = self.at.client.post(
            "/api/link/hello", json={"protocol": 1, "probe": "1", "machine": {}, "session": session}, headers=head
        )
        if hello.status_code != 200:
            return
        pulled = (
            self.at.client.get("/api/link/orders", params={"session": session}, headers=head).json().get("orders", [])
        )
        self.story.append(f"a second machine pulls {[o['id'] for o in pulled]}")
        for order in range(1, 200):
            with self.at.house.shop.database.read() as connection:
                known = next((o for o in links.orders_of(connection, self.number) if o.id == order), None)
            if known is not None and known.state == links.WAITING:
                body = {
                    "session": session,
                    "order": str(order),
                    "result": self.rng.choice(("done", "refused", "failed")),
                    "detail": "from another",
                }
                self.at.client.post("/api/link/done", json=body, headers=head)

    # --- the bench

    def list_drives(self) -> None:
        name = f"r{len(self.story)}.gcap"
        self.at.house.captures.add_file(self.number, name, reading(tuple(self.order), name), by="KT", read_now=True)
        self.story.append("listed " + " ".join(self.order))

    def open_link(self) -> None:
        self.secret = self.at.post(f"/tickets/{self.number}/link").json()["secret"]

    def end_link(self) -> None:
        self.story.append("link ended and opened again")
        self.at.client.delete(f"/api/tickets/{self.number}/link", headers={"X-Gate-Check": "1"})
        self.open_link()

    def orders(self) -> list[links.Order]:
        with self.at.house.shop.database.read() as connection:
            return links.orders_of(connection, self.number)

    def steer(self, what: str) -> None:
        for order in self.orders():
            if order.state in (links.WAITING, links.PAUSED):
                self.at.post(f"/tickets/{self.number}/orders/{order.id}", do=what)
                self.story.append(f"{what} order {order.id}")

    def ask_for_something(self) -> None:
        if self.rng.random() < 0.5:
            self.fill()
        else:
            self.mend()

    def fill(self) -> None:
        """As somebody does who reads the label of the new drive, and picks the name that the screen shows for it, or
        another."""
        wanted = self.rng.choice((NEW, NEW, NEW, NEW, OLD, TORN))
        shown = self.at.client.get(f"/api/tickets/{self.number}/copies/{self.copy}/targets").json()
        device = (
            next((t["device"] for t in shown if t["serial"] == wanted), "sdd")
            if self.rng.random() < 0.8
            else f"sd{self.rng.choice('abcd')}"
        )
        body = {"device": device, "ends": wanted[-4:], "holes": True, "over": True}
        said = self.at.post(f"/tickets/{self.number}/copies/{self.copy}/fill", **body)
        self.story.append(f"fill {device} …{body['ends']}: {said.status_code} {said.json().get('detail', '')[:120]}")
        if said.status_code == 201:
            serial = self.orders()[-1].body["drive"]
            if not serial.endswith(body["ends"]):
                self.wrong.append(f"an order for {serial} where …{body['ends']} was confirmed")
            if serial == OLD:
                self.wrong.append("the drive that was copied is to be filled")
            self.confirmed.add(serial)

    def mend(self) -> None:
        path: dict[str, Any] = {}
        for name in self.rng.sample("abcd", 4):  # the disk for which there is something to be mended
            path = self.at.client.get(f"/api/tickets/{self.number}/path", params={"device": f"sd{name}"}).json()
            if path.get("plans"):
                break
        plans = [p["id"] for p in path.get("plans", [])]
        if plans:
            said = self.at.post(f"/tickets/{self.number}/path/mend", device=path["disk"], plan=plans[0])
            self.story.append(
                f"mend {path['disk']} {plans[0]}: {said.status_code} {said.json().get('detail', '')[:120]}"
            )

    def take_back(self) -> None:
        for order in reversed(self.orders()):
            if order.body["order"] == "mend" and not order.body.get("reverts"):
                self.at.post(f"/tickets/{self.number}/path/take-back", order=order.id)

    def at_end(self) -> None:
        """All that was mended is taken back, and nothing but what was filled is other than it was."""
        self.odd, self.order = 0.0, [OLD, NEW, TORN]
        self._names()
        self.end_link()
        self.list_drives()
        if TORN in self.confirmed or TORN not in self.touched:
            return
        for order in reversed(self.orders()):
            if order.body["order"] != "mend" or order.body.get("reverts") or not order.is_handed_out:
                continue
            said = self.at.post(f"/tickets/{self.number}/path/take-back", order=order.id)
            if said.status_code >= 400 and "is not undone" not in said.text:
                self.wrong.append(f"order {order.id} cannot be taken back: {said.json()['detail']}")
                return
            self.work(2)
        fresh = three_drives()[TORN].disk
        for place in sorted(self.drives[TORN].disk.written):
            if self.drives[TORN].disk.read(place, 1) != fresh.read(place, 1):
                self.wrong.append(f"sector {place} of {TORN} is not as it was")
                return


def history(at: Counter, seed: int, steps: int = 9) -> History:
    """One of them, whole. What was wrong stands in `wrong`, and how it came there in `story`."""
    rng = random.Random(seed)
    sessions.AWAY_SECONDS = rng.choice((0.0, 12.0))  # a probe that was not heard a moment ago may be gone, or not
    own = History(at, rng)
    own.begin()
    acts = (
        own.swap,
        own.twin,
        own.list_drives,
        own.fill,
        own.mend,
        own.mend,
        own.work,
        own.work,
        own.work,
        own.take_back,
        own.end_link,
        own.steal,
    )
    for act in itertools.chain(
        (own.fill, own.work) if rng.random() < 0.3 else (own.mend, own.work), (rng.choice(acts) for _ in range(steps))
    ):
        act()
    own.steer("go-on")
    own.at_end()
    sessions.AWAY_SECONDS = 12.0
    return own
