"""Keeping: a shop out and back in while it works, one ticket from shop to shop, a customer erased to the last byte;
what is broken changes nothing."""

from __future__ import annotations

import hashlib
import json
import sqlite3
import threading
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.cli.main import main
from gatecheck.server.demo.fill import fill
from gatecheck.server.services import Services, open_services
from gatecheck.store import StoreError, erasing, keeping
from gatecheck.store.keeping import KeepingError


def filled(folder: Path) -> Services:
    """The demo's bench without its closed tickets: thirty would only cost time here."""
    house = open_services(folder, name="Gullhaven Repair Loft", prefix="GL", bays=6)
    house.learning.bring_in_closed = lambda records, today: None  # type: ignore[method-assign]
    fill(house)
    return house


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Services, Path]]:
    folder = tmp_path_factory.mktemp("shop")
    house = filled(folder)
    yield house, folder
    house.shop.database.close()


def answers(house: Services) -> dict[str, Any]:
    """Everything that the shop says of every ticket."""
    with house.shop.database.read() as own:
        rows = [i for (i,) in own.execute("SELECT id FROM ticket ORDER BY id")]
    return {t.number: t.model_dump(exclude={"id", "bay"}) for t in (house.tickets.ticket(i) for i in rows)}


def test_a_backup_under_load_brings_every_ticket_back(shop: tuple[Services, Path], tmp_path: Path) -> None:
    house, folder = shop
    file, stop = tmp_path / "shop.zip", threading.Event()
    number = house.tickets.take_in(
        customer="Busy", machine="Ferrow Lathe-14", words="", facts={}, entries=[], bay=None, by="KT"
    ).id

    def work() -> None:
        n = 0
        while not stop.is_set():
            house.tickets.append(number, {"note": f"line {n}"}, by="KT")
            n += 1

    worker = threading.Thread(target=work)
    worker.start()
    try:
        assert main(["backup", str(file), "--data", str(folder)]) == 0
    finally:
        stop.set()
        worker.join()
    before = answers(house)
    keeping.restore(file, tmp_path / "new")
    again = open_services(tmp_path / "new")
    after = answers(again)
    again.shop.database.close()
    busy = before.pop(house.tickets.ticket(number).number)
    assert busy["tape"][: len(after[busy["number"]]["tape"])] == after.pop(busy["number"])["tape"], (
        "a moment of the busy one"
    )
    assert after == before


def test_restoring_into_a_running_shop_shows_at_once_and_keeps_what_was_there(tmp_path: Path) -> None:
    house = open_services(tmp_path / "shop")
    first = house.tickets.take_in(
        customer="One",
        machine="Ferrow Lathe-14",
        words="",
        facts={},
        entries=[{"move": "screen", "outcome": "dead"}],
        bay=1,
        by="KT",
    ).id
    keeping.backup(tmp_path / "shop", tmp_path / "b.zip")
    house.tickets.append(first, {"move": "screen", "outcome": "boots"}, by="KT")
    house.tickets.take_in(customer="Two", machine="Ferrow Adze-22", words="", facts={}, entries=[], bay=2, by="KT")
    with pytest.raises(StoreError, match="1 tickets and 1 entries that it does not hold"):
        keeping.restore(tmp_path / "b.zip", tmp_path / "shop")
    assert len(house.bench.overview().rows) == 2
    house.links.copies.copies.begin(first, 1, 4096)
    _, before = keeping.restore(tmp_path / "b.zip", tmp_path / "shop", over=True)
    assert [r.customer for r in house.bench.overview().rows] == ["One"]
    assert house.tickets.ticket(first).tape[-1].body["outcome"] == "dead"
    house.tickets.append(first, {"note": "it goes on"}, by="KT")
    assert before is not None
    assert house.links.copies.copies.of_ticket(first) == [], "a ticket of that number may be somebody else's now"
    assert list((tmp_path / "shop").glob(f"copies-before-restore-*/{first}/1.img"))
    keeping.restore(before, tmp_path / "shop", over=True)
    assert {r.customer for r in house.bench.overview().rows} == {"One", "Two"}
    house.shop.database.close()


def rewritten(source: Path, target: Path, change: Callable[[dict[str, bytes]], None]) -> Path:
    with zipfile.ZipFile(source) as archive:
        content = {name: archive.read(name) for name in archive.namelist()}
    change(content)
    with zipfile.ZipFile(target, "w") as archive:
        for name, data in content.items():
            archive.writestr(name, data)
    return target


def newer(content: dict[str, bytes]) -> None:
    manifest = json.loads(content["manifest.json"])
    content["manifest.json"] = json.dumps({**manifest, "steps": [*manifest["steps"], "of-next-year"]}).encode()


def other_bytes(content: dict[str, bytes]) -> None:
    name = next(n for n in content if n.startswith("files/"))
    content[name] = b"x" + content[name][1:]


BROKEN: dict[str, tuple[Callable[[dict[str, bytes]], None], str]] = {
    "newer": (newer, "of a newer program \\(of-next-year\\)"),
    "a file changed": (other_bytes, "expected file [0-9a-f]{12} as it was written"),
    "a file gone": (
        lambda c: c.pop(next(n for n in c if n.startswith("files/"))) and None,
        "expected [0-9]+ files, got [0-9]+",
    ),
    "database changed": (
        lambda c: c.update({keeping.DATABASE: c[keeping.DATABASE] + b"x"}),
        "expected the database as it was written",
    ),
    "no manifest": (lambda c: c.pop("manifest.json") and None, "expected a manifest"),
    "a way out": (lambda c: c.update({"../evil": b"x"}), "got other contents"),
    "another kind": (
        lambda c: c.update({"manifest.json": b'{"format": "gate check ticket 1"}'}),
        "expected 'gate check shop 1'",
    ),
}


@pytest.mark.parametrize("name", BROKEN)
def test_a_broken_backup_changes_nothing(shop: tuple[Services, Path], tmp_path: Path, name: str) -> None:
    _, folder = shop
    keeping.backup(folder, tmp_path / "good.zip")
    change, said = BROKEN[name]
    with pytest.raises(KeepingError, match=said):
        keeping.restore(rewritten(tmp_path / "good.zip", tmp_path / "bad.zip", change), tmp_path / "new", over=True)
    assert not (tmp_path / "new" / keeping.DATABASE).exists()


@pytest.mark.parametrize(
    ("content", "said"), [(b"", "complete file"), (b"PK\x03\x04 not at all", "complete file"), (None, "nothing there")]
)
def test_what_is_no_backup_is_said_in_one_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], content: bytes | None, said: str
) -> None:
    if content is not None:
        (tmp_path / "b.zip").write_bytes(content)
    assert main(["restore", str(tmp_path / "b.zip"), "--data", str(tmp_path / "new")]) == 2
    error = capsys.readouterr().err
    assert said in error
    assert error.count("\n") == 1


def test_a_ticket_goes_from_shop_to_shop_and_says_the_same(shop: tuple[Services, Path], tmp_path: Path) -> None:
    house, folder = shop
    before = answers(house)
    with house.shop.database.read() as own:
        numbers = [n for (n,) in own.execute("SELECT number FROM ticket WHERE customer <> 'Busy' ORDER BY id")]
    for number in numbers:
        assert main(["export", number, str(tmp_path / f"{number}.zip"), "--data", str(folder)]) == 0
        assert (
            keeping.import_ticket(tmp_path / f"{number}.zip", tmp_path / "other", shipped_model().knowledge) == number
        )
    other = open_services(tmp_path / "other")
    assert answers(other) == {n: before[n] for n in numbers}
    other.shop.database.close()
    with pytest.raises(KeepingError, match="expected a ticket that is not here yet"):
        keeping.import_ticket(tmp_path / f"{numbers[0]}.zip", tmp_path / "other", shipped_model().knowledge)


def test_a_number_that_is_taken_gives_way(shop: tuple[Services, Path], tmp_path: Path) -> None:
    _, folder = shop
    keeping.export_ticket(folder, "GL-0001", tmp_path / "t.zip")
    other = open_services(tmp_path / "other", prefix="GL")
    other.tickets.take_in(
        customer="Somebody", machine="Ferrow Lathe-14", words="", facts={}, entries=[], bay=1, by="KT"
    )
    assert (
        keeping.import_ticket(tmp_path / "t.zip", tmp_path / "other", shipped_model().knowledge, prefix="GL")
        == "GL-0002"
    )
    other.shop.database.close()


def of_another_vocabulary(content: dict[str, bytes]) -> None:
    ticket = json.loads(content["ticket.json"])
    ticket["tape"][0]["body"] = {"move": "smell", "outcome": "burnt"}
    retold(content, ticket)


def retold(content: dict[str, bytes], ticket: dict[str, Any]) -> None:
    import hashlib

    content["ticket.json"] = json.dumps(ticket).encode()
    manifest = json.loads(content["manifest.json"])
    content["manifest.json"] = json.dumps(
        {**manifest, "ticket": hashlib.sha256(content["ticket.json"]).hexdigest()}
    ).encode()


def with_a_gap(content: dict[str, bytes]) -> None:
    ticket = json.loads(content["ticket.json"])
    del ticket["tape"][0]
    retold(content, ticket)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (of_another_vocabulary, "this shop's vocabulary, got entry 0.move"),
        (with_a_gap, "a log with gaps"),
        (newer, "as it was written|complete file|expected"),
    ],
)
def test_a_ticket_that_cannot_be_read_here_is_not_taken_in(
    shop: tuple[Services, Path], tmp_path: Path, change: Callable[[dict[str, bytes]], None], said: str
) -> None:
    _, folder = shop
    keeping.export_ticket(folder, "GL-0001", tmp_path / "t.zip")
    if change is newer:
        change = lambda c: c.update({"ticket.json": b"{}"})  # noqa: E731
    with pytest.raises(KeepingError, match=said):
        keeping.import_ticket(
            rewritten(tmp_path / "t.zip", tmp_path / "bad.zip", change), tmp_path / "other", shipped_model().knowledge
        )
    assert not (tmp_path / "other" / keeping.DATABASE).exists()


def without(*path: str | int) -> Callable[[dict[str, Any]], None]:
    """The ticket without this line of it."""

    def change(ticket: dict[str, Any]) -> None:
        own: Any = ticket
        for step in path[:-1]:
            own = own[step]
        del own[path[-1]]

    return change


def with_lesson(**values: object) -> Callable[[dict[str, Any]], None]:
    lesson = {
        "closed_at": "x",
        "context": "{}",
        "faults": "[]",
        "expected": "{}",
        "choice": None,
        "confidence": None,
        "suspects": "{}",
        "was_right": None,
    }
    return lambda ticket: ticket.update({"lesson": {**lesson, **values}})


@pytest.mark.parametrize(
    "change",
    [
        without("facts"),
        without("tape", 0, "body"),
        without("files", 0, "by"),
        without("files", 0, "name"),
        without("files", 0, "at"),
        without("opened_at"),
        lambda t: t.update({"recordings": [{**t["files"][0], "kind": 3}]}),
        lambda t: t.update({"recordings": [{**t["files"][0], "kind": "a smell"}]}),
        lambda t: t.update({"customer": "\ud800"}),
        with_lesson(confidence={}),
        with_lesson(was_right=1 << 80),
    ],
)
def test_a_ticket_that_lacks_a_line_is_one_sentence_and_leaves_nothing(
    shop: tuple[Services, Path], tmp_path: Path, change: Callable[[dict[str, Any]], None]
) -> None:
    house, folder = shop
    number = next(r.number for r in house.bench.overview().rows if house.tickets.ticket(r.id).files)
    keeping.export_ticket(folder, number, tmp_path / "t.zip")

    def hurt(content: dict[str, bytes]) -> None:
        ticket = json.loads(content["ticket.json"])
        change(ticket)
        retold(content, ticket)

    with pytest.raises(KeepingError, match="expected"):
        keeping.import_ticket(
            rewritten(tmp_path / "t.zip", tmp_path / "bad.zip", hurt), tmp_path / "other", shipped_model().knowledge
        )
    other = open_services(tmp_path / "other")
    assert other.bench.overview().rows == []
    other.shop.database.close()


@pytest.mark.parametrize("manifest", [{"tickets": None}, {"tickets": "many"}, {"made_at": 3}])
def test_a_backup_is_counted_by_what_it_holds(
    shop: tuple[Services, Path], tmp_path: Path, manifest: dict[str, object]
) -> None:
    house, folder = shop
    keeping.backup(folder, tmp_path / "good.zip")

    def change(c: dict[str, bytes]) -> None:
        c["manifest.json"] = json.dumps({**json.loads(c["manifest.json"]), **manifest}).encode()

    kept, _ = keeping.restore(rewritten(tmp_path / "good.zip", tmp_path / "told.zip", change), tmp_path / "new")
    with house.shop.database.read() as connection:
        assert kept.tickets == connection.execute("SELECT count(*) FROM ticket").fetchone()[0]


SECRETS = (
    "Marthe Quillfeather",
    "under the lamp",
    "red notebook",
    "till program of the shop",
    "Blue Heron Portable",
    "a face at a window",
    "They whistle",
)


def test_erasing_leaves_no_byte_of_the_customer(tmp_path: Path) -> None:
    house = open_services(tmp_path / "shop")
    taken = house.tickets.take_in(
        customer=SECRETS[0],
        machine="Ferrow Lathe-14",
        words=f"It stood {SECRETS[1]}.",
        facts={"drive_kind": "hdd", "data": "none", "account_name": SECRETS[2]},
        entries=[{"move": "screen", "outcome": "dead", "note": SECRETS[3]}],
        bay=1,
        by="KT",
    )
    picture = tmp_path / "window.png"
    Image.new("RGB", (300, 200), "navy").save(picture)
    house.papers.add_picture(
        taken.id, f"{SECRETS[5]}.png", picture.read_bytes(), says=SECRETS[5], evidence=True, by="KT"
    )
    house.tickets.append(taken.id, {"signed": "replace", "fix": "replace-drive"}, by="KT")
    house.work.answer(taken.id, "way-replace", "install", None, by="KT")
    house.work.answer(taken.id, "edition", "other", SECRETS[3], by="KT")
    house.tickets.append(taken.id, {"fact": {"lives": SECRETS[2]}}, by="KT")
    with pytest.raises(StoreError, match="still open"):
        house.papers.erase(taken.id, by="KT")
    house.links.copies.copies.begin(taken.id, 1, 4096)
    house.links.copies.copies.write(
        taken.id, 1, 0, [SECRETS[0].encode()], hashlib.sha256(SECRETS[0].encode()).hexdigest()
    )
    house.learning.hand_over(taken.id, ["drive.dead"], by="KT", waive=SECRETS[6])
    learned = house.learning.learning()
    after = house.papers.erase(taken.id, by="MO")
    assert (after.customer, after.words) == (erasing.ERASED, "")
    assert after.proven == ["drive.dead"]
    assert house.learning.learning() == learned, "what the shop learned stays"
    assert house.papers.papers(taken.id).erased_at, "a record that it was done"
    house.shop.database.close()
    for file in (f for f in (tmp_path / "shop").rglob("*") if f.is_file()):
        content = file.read_bytes()
        for secret in SECRETS:
            for written in (secret.encode(), secret.encode("utf-16-le"), secret.encode().hex().encode()):
                assert written not in content, (file, secret)
    assert not list((tmp_path / "shop" / "files").rglob("*/*")), "the picture is gone with it"
    with (
        closing(sqlite3.connect(tmp_path / "shop" / keeping.DATABASE)) as own,
        pytest.raises(sqlite3.IntegrityError, match="append-only"),
    ):
        own.execute("UPDATE entry SET body = '{}'")
