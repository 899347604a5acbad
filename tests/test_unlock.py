"""`unlock`, and the commands that look inside with a key."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from gatecheck.cli.main import main
from gatecheck.core.disk.encode import mbr_start
from gatecheck.core.locked.encode import Protection, luks2, noise, startup_file, windows_volume
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import read_fat
from gatecheck.core.volume.lvm.encode import physical_volume
from memory_disk import Memory

MIB, FIRST = 1 << 20, 2048
WORDS, STARTUP, WAY = b"counter words", noise("startup", 32), UUID(int=4)
FILES = {"LETTERS/first letter.txt": noise("letter", 70_000), "LETTERS/second.txt": b"two"}
PLACES = (8 * MIB, 10 * MIB, 12 * MIB)


def flat(parts: Mapping[int, bytes], size: int) -> bytes:
    whole = bytearray(size)
    for at, data in parts.items():
        whole[at * 512 : at * 512 + len(data)] = data
    return bytes(whole)


PLAIN = flat(fat_volume(FILES, sectors=16 * MIB // 512), 16 * MIB)
assert not any(PLAIN[PLACES[0] :])


@pytest.fixture
def images(tmp_path: Path) -> Path:
    """A disk with an encrypted Windows volume in its partition, one with LUKS on the whole of it, and their keys."""
    locked = windows_volume(PLAIN, [Protection(WAY, "startup-key", startup=STARTUP)], places=PLACES)
    start = mbr_start([(7, True, FIRST, len(locked) // 512)])
    (tmp_path / "windows.img").write_bytes(start + bytes(FIRST * 512 - len(start)) + locked)
    (tmp_path / "linux.img").write_bytes(luks2(PLAIN, [WORDS]))
    (tmp_path / "windows.key").write_bytes(startup_file(WAY, STARTUP))
    (tmp_path / "linux.key").write_bytes(WORDS + b"\n")
    (tmp_path / "wrong.key").write_bytes(b"no such words\n")
    return tmp_path


def run(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, Any, str]:
    status = main(arguments)
    out, err = capsys.readouterr()
    return status, json.loads(out) if out else None, err


@pytest.mark.parametrize(("name", "by"), [("windows", str(WAY).upper()), ("linux", "0")])
def test_unlock_prints_the_contract(name: str, by: str, images: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image, key = str(images / f"{name}.img"), str(images / f"{name}.key")
    status, closed, _ = run(capsys, "unlock", image)
    assert status == 0
    assert (closed["opened_by"], closed["inner"]) == (None, None)
    assert [p["opens"] for p in closed["protectors"]] == [True]
    status, opened, _ = run(capsys, "unlock", image, "--key-file", key)
    assert status == 0
    assert set(opened) >= {"kind", "method", "sector", "state", "protectors", "opened_by", "size", "inner"}
    assert (opened["opened_by"], opened["inner"], opened["size"]) == (by, "FAT16", 16 * MIB)


@pytest.mark.parametrize("name", ["windows", "linux"])
@pytest.mark.parametrize("command", ["unlock", "volume", "rescue", "where"])
def test_a_wrong_key_is_one_sentence(name: str, command: str, images: Path, capsys: pytest.CaptureFixture[str]) -> None:
    more = {"rescue": ["--list"], "where": ["5000"]}.get(command, [])
    wrong = str(images / "wrong.key")
    status, out, err = run(capsys, command, str(images / f"{name}.img"), *more, "--key-file", wrong)
    assert (status, out) == (2, None)
    assert "expected its key" in err
    assert err.count("\n") == 1
    assert "such words" not in err


@pytest.mark.parametrize("name", ["windows", "linux"])
def test_what_is_inside_is_checked_and_saved(name: str, images: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image, key = str(images / f"{name}.img"), str(images / f"{name}.key")
    status, checked, _ = run(capsys, "volume", image, "--key-file", key)
    assert (status, checked["state"], checked["files"]) == (0, "clean", 2)
    before = Path(image).read_bytes()
    status, _, _ = run(capsys, "rescue", image, "--key-file", key, "--to", str(images / "out"))
    assert status == 0
    saved = {p.relative_to(images / "out").as_posix(): p.read_bytes() for p in (images / "out").rglob("*.txt")}
    assert {
        path.split("/", 1)[-1] if path.startswith("files/") else path: data for path, data in saved.items()
    } == FILES
    assert Path(image).read_bytes() == before


@pytest.mark.parametrize("name", ["windows", "linux"])
def test_a_sector_of_the_disk_is_named_by_the_file_inside(
    name: str, images: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    image, key = images / f"{name}.img", str(images / f"{name}.key")
    at = PLAIN.index(FILES["LETTERS/first letter.txt"][:4096]) // 512 + 9
    start = FIRST if name == "windows" else (image.stat().st_size - len(PLAIN)) // 512
    status, (place,), _ = run(capsys, "where", str(image), str(start + at), "--key-file", key)
    assert status == 0
    assert place["lba"] == start + at
    assert place["path"].endswith("first letter.txt")


def test_the_plain_volume_is_written_read_back_and_resumed(
    images: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    from gatecheck.core.locked.sectors import OpenedSectors

    image, key, out = str(images / "windows.img"), str(images / "windows.key"), images / "plain.img"
    whole, asked = OpenedSectors.read, []

    def stops(self: OpenedSectors, lba: int, count: int) -> Any:
        if count > 4096:
            asked.append(lba)
            if len(asked) == 3:
                raise KeyboardInterrupt
        return whole(self, lba, count)

    monkeypatch.setattr("gatecheck.adapters.plain_writer._KEPT_EACH", 1)
    monkeypatch.setattr(OpenedSectors, "read", stops)
    assert main(["unlock", image, "--key-file", key, "--to", str(out)]) != 0
    monkeypatch.setattr(OpenedSectors, "read", whole)
    capsys.readouterr()
    status, report, _ = run(capsys, "unlock", image, "--key-file", key, "--to", str(out))
    assert status == 0
    assert report["written"] == {"to": str(out), "bytes": 16 * MIB, "resumed": 8 * MIB, "unreadable": 0}
    assert out.read_bytes() == PLAIN
    assert not list(images.glob("*.gatecheck-part"))
    status, _, err = run(capsys, "unlock", image, "--key-file", key, "--to", str(out))
    assert status == 2
    assert "expected a name that is free" in err


def test_the_image_itself_is_never_written(images: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image, key = str(images / "linux.img"), str(images / "linux.key")
    status, _, err = run(capsys, "unlock", image, "--key-file", key, "--to", image)
    assert status == 2
    assert "expected another file than the image" in err


def hurt_inside(plain: bytes) -> bytes:
    """The second FAT's copy of one entry differs, and a cluster that no file has is taken."""
    volume = read_fat(Memory(plain), 0)
    raw = bytearray(plain)
    for table in range(2):
        at = (volume.reserved + table * volume.fat_sectors) * 512 + 900 * 2
        raw[at : at + 2] = b"\xff\xff"
    return bytes(raw)


@pytest.mark.parametrize("name", ["windows", "linux"])
def test_a_repair_through_the_key_is_written_encrypted_and_taken_back(
    name: str, images: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plain = hurt_inside(PLAIN)
    image, key, undo = images / f"{name}.img", images / f"{name}.key", str(images / "undo.json")
    locked = (
        windows_volume(plain, [Protection(WAY, "startup-key", startup=STARTUP)], places=PLACES)
        if name == "windows"
        else luks2(plain, [WORDS])
    )
    start = mbr_start([(7, True, FIRST, len(locked) // 512)]) if name == "windows" else b""
    whole = start.ljust(FIRST * 512 if start else 0, b"\0") + locked
    image.write_bytes(whole)
    common = [str(image), "--key-file", str(key)]
    status, planned, _ = run(capsys, "volume", *common, "--repair")
    assert (status, planned["state"], planned["state_after"]) == (0, "damaged", "clean")
    status, done, _ = run(capsys, "volume", *common, "--repair", "--apply", "--undo", undo)
    assert (status, done["state"], done["findings"]) == (0, "clean", [])
    after = image.read_bytes()
    changed = [n for n in range(0, len(whole), 512) if whole[n : n + 512] != after[n : n + 512]]
    assert 1 <= len(changed) <= 4, "whole encrypted sectors, and no others"
    assert not any(plain[n : n + 512] in after for n in range(0, 8 * 512, 512) if any(plain[n : n + 512]))
    assert main(["volume", str(image), "--revert", undo]) == 0
    assert image.read_bytes() == whole


def test_nothing_is_written_into_an_encryption_that_is_damaged(
    images: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plain = hurt_inside(PLAIN)
    locked = bytearray(windows_volume(plain, [Protection(WAY, "startup-key", startup=STARTUP)], places=PLACES))
    locked[PLACES[1] : PLACES[1] + 64] = bytes(64)
    image = images / "windows.img"
    image.write_bytes(locked)
    common = [str(image), "--key-file", str(images / "windows.key"), "--repair"]
    assert run(capsys, "volume", *common)[0] == 0
    status, _, err = run(capsys, "volume", *common, "--apply", "--undo", str(images / "undo.json"))
    assert status == 2
    assert "complete and whole" in err
    assert image.read_bytes() == locked


def test_a_key_comes_by_standard_input(
    images: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(WORDS)))
    status, opened, _ = run(capsys, "unlock", str(images / "linux.img"), "--key-file", "-")
    assert (status, opened["opened_by"]) == (0, "0")


def test_a_volume_of_a_group_inside_is_found(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    group = bytearray(40 * MIB)
    for at, data in physical_volume("vg_loft", {"root": (5, PLAIN)}).items():
        group[at * 512 : at * 512 + len(data)] = data
    (tmp_path / "disk.img").write_bytes(luks2(bytes(group), [WORDS]))
    (tmp_path / "key").write_bytes(WORDS)
    status, checked, _ = run(capsys, "volume", str(tmp_path / "disk.img"), "--key-file", str(tmp_path / "key"))
    assert (status, checked["kind"], checked["files"]) == (0, "FAT16", 2)


@pytest.mark.parametrize(
    ("content", "says"),
    [(b"", "empty first line"), (b"\n", "empty first line"), (b"111112-222223", "another group 1, 2")],
)
def test_a_key_file_that_holds_none_says_so(
    content: bytes, says: str, images: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (images / "bad.key").write_bytes(content)
    status, _, err = run(capsys, "unlock", str(images / "linux.img"), "--key-file", str(images / "bad.key"))
    assert status == 2
    assert says in err


def test_an_image_without_one_says_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "plain.img").write_bytes(PLAIN)
    status, _, err = run(capsys, "unlock", str(tmp_path / "plain.img"))
    assert status == 2
    assert "expected an encrypted volume, got none" in err


@pytest.mark.parametrize(
    ("place", "says"),
    [(["--partition", "3"], "the image has no partitions"), (["--at", "7"], "expected a multiple of 512")],
)
def test_a_place_that_is_none_says_so(
    place: list[str], says: str, images: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for command in ("unlock", "volume", "records"):
        status, _, err = run(capsys, command, str(images / "linux.img"), *place)
        assert status == 2
        assert says in err
