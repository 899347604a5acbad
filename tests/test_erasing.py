"""What is erased is gone from everywhere that the shop can reach, and a backup brings nothing in but its rows."""

from __future__ import annotations

import base64
import hashlib
import io
import json
import resource
import sqlite3
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from gatecheck.server.services import Services, open_services
from gatecheck.store import StoreError, keeping, links
from gatecheck.store.keeping import KeepingError
from practised import capture_of

NAME, FOLDER = "Marthe Quillfeather", "Letters to the lamp keeper"
_WRITTEN = [
    form
    for text in (NAME, FOLDER)
    for form in (text.encode(), text.encode("utf-16-le"), base64.b64encode(text.encode().ljust(512, b"\0"))[:24])
]


def bytes_below(place: Path) -> Iterator[tuple[str, bytes]]:
    """Every file below a folder, and what is packed in it."""
    for file in sorted(f for f in place.rglob("*") if f.is_file()):
        yield str(file), file.read_bytes()
        if zipfile.is_zipfile(file):
            yield from _packed(str(file), file.read_bytes())


def _packed(name: str, data: bytes) -> Iterator[tuple[str, bytes]]:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        for member in archive.namelist():
            own = archive.read(member)
            yield f"{name}!{member}", own
            if own[:4] == b"PK\x03\x04":
                yield from _packed(f"{name}!{member}", own)


def traces(place: Path) -> list[str]:
    return [name for name, data in bytes_below(place) if any(form in data for form in _WRITTEN)]


def capture_with_a_name() -> bytes:
    """A reading of a disk on which a folder is called so."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(capture_of("torn-table"))) as old, zipfile.ZipFile(buffer, "w") as new:
        manifest = json.loads(old.read("manifest.json"))
        for path in old.namelist():
            data = old.read(path)
            if path.endswith("lba0-33.bin") or path == "dmesg.txt":
                data = data[:600] + FOLDER.encode() + data[600 + len(FOLDER) :]
                next(p for p in manifest["pages"] if p["path"] == path)["sha256"] = hashlib.sha256(data).hexdigest()
            if path != "manifest.json":
                new.writestr(path, data)
        new.writestr("manifest.json", json.dumps(manifest))
    return buffer.getvalue()


def filled(folder: Path) -> tuple[Services, int]:
    """A shop with one customer in every place where something is kept; their ticket is handed over."""
    house = open_services(folder)
    taken = house.tickets.take_in(
        customer=NAME,
        machine="Ferrow Lathe-14",
        words=f"Everything in {FOLDER}.",
        facts={"drive_kind": "sata-ssd"},
        entries=[],
        bay=1,
        by="KT",
    )
    house.captures.add_file(taken.id, f"{FOLDER}.gcap", capture_with_a_name(), by="KT")
    house.links.sessions.open(taken.id, by="KT")
    raw = base64.b64encode(FOLDER.encode().ljust(512, b"\0")).decode()
    with house.shop.database.write() as connection:
        links.begin_session(
            connection, "ab" * 8, taken.id, {"product_name": "Lathe-14"}, "1", "2026-01-01T00:00:00+00:00"
        )
        body = {
            "order": "mend",
            "kind": "rebuild-table",
            "device": "sda",
            "disk": "sda",
            "plan": "x",
            "what": FOLDER,
            "drive": "S1",
            "writes": [{"at": 0, "before": raw, "after": raw}],
        }
        number = links.put_order(connection, taken.id, body, by="KT", at="2026-01-01T00:00:00+00:00")
        links.end_order(connection, number, "done", FOLDER, "2026-01-01T00:00:00+00:00")
        links.keep_page(
            connection, "ab" * 8, 1, str(number), {"path": "sda/lba0-0.bin", "status": "ok"}, FOLDER.encode() * 40
        )
    house.tickets.append(
        taken.id, {"note": {"say": "path.mend-done", "values": {"what": FOLDER, "bytes": 3, "order": 1}}}, by="probe"
    )
    for place in ("copies", "volumes"):
        own = folder / place / str(taken.id)
        own.mkdir(parents=True, exist_ok=True)
        (own / "1.img").write_bytes(FOLDER.encode())
    house.learning.hand_over(taken.id, None, by="KT", waive="fetched")
    return house, taken.id


def test_erasing_leaves_nothing_of_their_disk(tmp_path: Path) -> None:
    house, ticket = filled(tmp_path / "shop")
    assert traces(tmp_path / "shop")
    house.papers.erase(ticket, by="MO")
    house.shop.database.close()
    assert traces(tmp_path / "shop") == []
    house = open_services(tmp_path / "shop")
    kept = house.captures.captures(ticket)
    assert kept[0].devices[0].device == "sda", "the drive's own pages stay"
    assert kept[0].devices[0].identity is not None
    house.links.view(ticket, "http://127.0.0.1")
    house.paths.view(ticket)
    house.shop.database.close()


def test_erasing_reaches_what_restores_have_left(tmp_path: Path) -> None:
    house, ticket = filled(tmp_path / "shop")
    other = house.tickets.take_in(
        customer="Choir office", machine="Ostler Tarn Mini", words="", facts={}, entries=[], bay=2, by="KT"
    )
    for place in ("copies", "volumes"):
        (tmp_path / "shop" / place / str(other.id)).mkdir()
        (tmp_path / "shop" / place / str(other.id) / "2.img").write_bytes(b"another customer's")
    keeping.backup(tmp_path / "shop", tmp_path / "away.zip")
    house.tickets.append(other.id, {"note": "since then"}, by="KT")
    keeping.restore(tmp_path / "away.zip", tmp_path / "shop", over=True)
    assert [p.name.split("-before")[0] for p in sorted((tmp_path / "shop").glob("*before-restore-*"))] == [
        "before-restore-" + next((tmp_path / "shop").glob("before-restore-*.zip")).name.removeprefix("before-restore-"),
        "copies",
        "volumes",
    ]
    (tmp_path / "shop" / "before-restore-20200101-000000-000000.zip").write_bytes(b"PK torn " + NAME.encode())
    house.papers.erase(ticket, by="MO")
    told = house.papers.papers(ticket)
    house.shop.database.close()
    assert traces(tmp_path / "shop") == []
    assert sum("was rewritten" in line for line in told.erased_copies) == 3
    assert any("could not be read and was deleted" in line for line in told.erased_copies)
    assert any("Backups made elsewhere" in line for line in told.erase_outside)
    left = next((tmp_path / "shop").glob("before-restore-*.zip"))
    keeping.restore(left, tmp_path / "again")
    with closing(sqlite3.connect(tmp_path / "again" / keeping.DATABASE)) as own:
        assert own.execute("SELECT customer FROM ticket ORDER BY id").fetchall() == [("—",), ("Choir office",)], (
            "nobody else is touched"
        )
    assert (next((tmp_path / "shop").glob("copies-before-*")) / str(other.id) / "2.img").is_file()
    keeping.backup(tmp_path / "shop", tmp_path / "after.zip")
    keeping.restore(tmp_path / "after.zip", tmp_path / "once-more")


def test_copies_whose_shop_is_gone_go_too(tmp_path: Path) -> None:
    house, ticket = filled(tmp_path / "shop")
    lone = tmp_path / "shop" / "volumes-before-restore-20200101-000000-000000" / "7"
    lone.mkdir(parents=True)
    (lone / "look.json").write_text(FOLDER)
    house.papers.erase(ticket, by="MO")
    house.shop.database.close()
    assert traces(tmp_path / "shop") == []


# --- a backup brings in rows, and nothing else ---------------------------------------------------------------------


def changed_backup(folder: Path, target: Path, *statements: str, more: dict[str, bytes] | None = None) -> Path:
    """A backup whose database went through these, its sums made anew."""
    keeping.backup(folder, target)
    with zipfile.ZipFile(target) as archive:
        content = {n: archive.read(n) for n in archive.namelist()}
    own = target.with_suffix(".sqlite")
    own.write_bytes(content[keeping.DATABASE])
    with closing(sqlite3.connect(own, isolation_level=None)) as connection:
        for statement in statements:
            connection.execute(statement)
    content[keeping.DATABASE] = own.read_bytes()
    manifest = {
        **json.loads(content["manifest.json"]),
        "database": hashlib.sha256(content[keeping.DATABASE]).hexdigest(),
    }
    content |= {
        **(more or {}),
        "manifest.json": json.dumps({**manifest, "files": manifest["files"] + len(more or {})}).encode(),
    }
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in content.items():
            archive.writestr(name, data)
    return target


@pytest.mark.parametrize(("statement", "odd"), [
    ("CREATE TRIGGER spy AFTER INSERT ON entry BEGIN DELETE FROM ticket; END", "a foreign trigger spy"),
    ("CREATE VIEW spy AS SELECT * FROM ticket", "a foreign view spy"),
    ("CREATE TABLE spy (x)", "a foreign table spy"),
    ("DROP TRIGGER entry_no_update", "no trigger entry_no_update"),
    ("DROP TABLE recording", "expected a database of this program.s, got one with no "),
    ("ALTER TABLE recording ADD COLUMN spy TEXT", "another table recording"),
    ("DELETE FROM migration WHERE name = 'ear'", "a foreign "),
])  # fmt: skip
def test_a_backup_of_another_schema_changes_nothing(statement: str, odd: str, tmp_path: Path) -> None:
    house, _ = filled(tmp_path / "shop")
    house.shop.database.close()
    extra = b"a file of the backup"
    bad = changed_backup(
        tmp_path / "shop", tmp_path / "bad.zip", statement, more={f"files/{hashlib.sha256(extra).hexdigest()}": extra}
    )
    before = {
        name: hashlib.sha256(data).hexdigest() for name, data in bytes_below(tmp_path / "shop") if "!" not in name
    }
    for target in ("shop", "empty"):
        with pytest.raises(KeepingError, match=odd):
            keeping.restore(bad, tmp_path / target, over=True)
    assert {
        name: hashlib.sha256(data).hexdigest() for name, data in bytes_below(tmp_path / "shop") if "!" not in name
    } == before
    assert not list((tmp_path / "empty").rglob("*"))


def test_a_backup_that_cannot_be_written_leaves_no_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    house, _ = filled(tmp_path / "shop")
    house.shop.database.close()
    keeping.backup(tmp_path / "shop", tmp_path / "good.zip")

    def full(*_: Any) -> None:
        raise StoreError("no room")

    monkeypatch.setattr(keeping, "Database", full)
    with pytest.raises(StoreError, match="nothing was changed"):
        keeping.restore(tmp_path / "good.zip", tmp_path / "new")
    assert not [p for p in (tmp_path / "new").rglob("*") if p.is_file()]


def test_a_backup_that_unpacks_without_end_is_refused_in_little_memory(tmp_path: Path) -> None:
    house, _ = filled(tmp_path / "shop")
    house.shop.database.close()
    keeping.backup(tmp_path / "shop", tmp_path / "bomb.zip")
    with zipfile.ZipFile(tmp_path / "bomb.zip") as archive:
        content = {n: archive.read(n) for n in archive.namelist()}
    with zipfile.ZipFile(tmp_path / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in content.items():
            with archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as member:
                member._compressor = __import__("zlib").compressobj(9, 8, -15) if name == keeping.DATABASE else None  # type: ignore[attr-defined]
                member._zinfo.compress_type = zipfile.ZIP_DEFLATED if name == keeping.DATABASE else zipfile.ZIP_STORED  # type: ignore[attr-defined]
                if name == keeping.DATABASE:
                    for _ in range(300):
                        member.write(bytes(1 << 20))
                else:
                    member.write(data)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(KeepingError, match="pack at most"):
        keeping.restore(tmp_path / "bomb.zip", tmp_path / "new")
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 100_000, "kilobytes"
