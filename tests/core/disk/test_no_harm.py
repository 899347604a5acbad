"""No repair takes a start away, none writes where it cannot know, and an undo file belongs to its disk, whole."""

from __future__ import annotations

import json
import random
import struct
from collections.abc import Callable
from pathlib import Path

import pytest
from test_mend import CASES, EFI, ESP, FIRST, SECTORS, SYSTEM, boot_sector, gpt_image, mbr_image

from gatecheck.adapters import image_writer
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.encode import gpt_end, gpt_start, mbr_start
from gatecheck.core.disk.mend import all_plans, mending_of, merged
from gatecheck.core.disk.volume import volume_start
from gatecheck.core.errors import InputError

BOOT_ROOM = "21686148-6449-6E6F-744E-656564454649"
LINUX = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
NOISE = random.Random(5).randbytes(1 << 20)


def loader_room(kind: str = BOOT_ROOM) -> bytearray:
    """A disk as a legacy loader is installed on a GPT: its first sector leads into a partition of its own, which holds
    code and no file system."""
    raw = bytearray(SECTORS * 512)
    start = bytearray(
        gpt_start(SYSTEM, [(ESP, kind, FIRST, FIRST + 2047, ""), (SYSTEM, LINUX, 8192, 60_000, "")], sectors=SECTORS)
    )
    code = bytearray(b"\xeb\x63\x90".ljust(440, b"\x90"))
    code[0x5C:0x64] = struct.pack("<Q", FIRST)
    code[0x180:0x18A] = b"GRUB \0Geom"
    start[:440] = code
    raw[: len(start)] = start
    end = gpt_end(bytes(start), sectors=SECTORS)
    raw[-len(end) :] = end
    core = b"\x52\xe8\x28\x01" + NOISE[:504] + NOISE[1000:30_000]
    raw[FIRST * 512 : FIRST * 512 + len(core)] = core
    struct.pack_into("<QHH", raw, FIRST * 512 + 500, FIRST + 1, 40, 0x820)
    return raw


@pytest.mark.parametrize(
    "kind",
    [
        BOOT_ROOM,
        "E6D6D379-F507-44C2-A23C-238F2A3DF928",
        "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F",
        "A19D880F-05FC-4D3B-A006-743F0F84911E",
        LINUX,
    ],
)
@pytest.mark.parametrize("mode", ["bios", "uefi"])
def test_nothing_is_written_where_no_known_file_system_is(
    kind: str, mode: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    raw, image = loader_room(kind), tmp_path / "disk.img"
    image.write_bytes(raw)
    disk = ImageSectors(str(image))
    plans = mending_of(disk, mode).plans
    own = range(FIRST * 512, (FIRST + 2048) * 512)
    assert [w for p in plans for w in p.writes if w.at in own] == []
    status = main(["mend", str(image), "--mode", mode, "--apply", "all", "--undo", str(tmp_path / "undo")])
    capsys.readouterr()
    now = image.read_bytes()
    assert now[own.start : own.stop] == raw[own.start : own.stop]
    assert status == 0 or now == raw


FOREIGN: dict[str, Callable[[], bytes]] = {
    **{
        kind: (lambda kind=kind: volume_start(kind))
        for kind in ("luks", "xfs", "swap", "lvm", "apfs", "hfs+", "f2fs", "refs", "squashfs", "ext", "encrypted")
    },  # type: ignore[misc]
    "noise": lambda: NOISE[:8192],
    "noise that begins as code": lambda: b"\xeb\x3c\x90" + NOISE[:8189],
    "text": lambda: b"a volume of another kind " * 400,
    "a jump": lambda: b"\xe9\0\1" + NOISE[:500],
}


@pytest.mark.parametrize("name", FOREIGN)
@pytest.mark.parametrize("mode", ["bios", "uefi"])
@pytest.mark.parametrize("inner", [False, True])
def test_what_is_something_else_is_left_as_it_is(name: str, mode: str, inner: bool, tmp_path: Path) -> None:
    """A whole disk of another kind, also where a volume of its own lies within it."""
    raw = bytearray(SECTORS * 512)
    start = bytearray(FOREIGN[name]())
    start[510:512] = b"\0\0"
    raw[: len(start)] = start
    if inner and "noise" not in name and name not in ("text", "a jump"):
        raw[4096 * 512 : 4096 * 512 + 4096] = volume_start("ext")
    image = tmp_path / "disk.img"
    image.write_bytes(raw)
    assert [p.id for p in mending_of(ImageSectors(str(image)), mode).plans] == []


def test_the_end_of_a_disk_that_is_one_of_a_set_is_left(tmp_path: Path) -> None:
    """Something else keeps its own where the second copy of the table would stand."""
    raw = gpt_image()
    raw[-33 * 512 :] = NOISE[: 33 * 512]
    (tmp_path / "disk.img").write_bytes(raw)
    assert "gpt-backup" not in [p.id for p in mending_of(ImageSectors(str(tmp_path / "disk.img")), "uefi").plans]
    raw[-33 * 512 :] = bytes(33 * 512)
    (tmp_path / "disk.img").write_bytes(raw)
    assert "gpt-backup" in [p.id for p in mending_of(ImageSectors(str(tmp_path / "disk.img")), "uefi").plans]


@pytest.mark.parametrize(("mode", "make", "hurt", "plans", "boots"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_each_plan_writes_what_it_lists_and_keeps_a_start(
    mode: str,
    make: Callable[[], bytearray],
    hurt: Callable[[bytearray], None],
    plans: list[str],
    boots: bool,
    tmp_path: Path,
) -> None:
    raw = make()
    hurt(raw)
    image = tmp_path / "disk.img"
    image.write_bytes(raw)
    disk = ImageSectors(str(image))
    found = mending_of(disk, mode)
    for plan in found.plans:
        assert plan.boots_after or not found.now.boots
        now = bytearray(raw)
        for at, data in merged(disk, plan.pairs):
            now[at : at + len(data)] = data
        listed = bytearray(raw)
        for w in plan.writes:
            listed[w.at : w.at + len(w.data)] = w.data
        assert now == listed
    done, writes = all_plans(disk, mode)
    told = {(w.at, w.data) for p in found.plans for w in p.writes}
    assert set(writes) <= told, "what all of them write stands in a plan that is shown"
    assert not done or not found.now.boots


def test_a_start_that_is_lost_is_taken_back_at_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from gatecheck.cli import disks

    raw = gpt_image()
    raw[446:512] = bytes(66)
    image = tmp_path / "disk.img"
    image.write_bytes(raw)
    real, said = disks.boot_path, iter([True, False])
    monkeypatch.setattr(
        disks,
        "boot_path",
        lambda *a, **k: type("Said", (), {"boots": next(said, False), "findings": real(*a, **k).findings})(),
    )
    assert (
        main(["mend", str(image), "--mode", "uefi", "--apply", "protective-mbr", "--undo", str(tmp_path / "undo")]) == 2
    )
    assert "was undone at once" in capsys.readouterr().err
    assert image.read_bytes() == raw


# --- an undo file --------------------------------------------------------------------------------------------------


def mended(tmp_path: Path) -> tuple[Path, Path, bytes, bytes]:
    raw = mbr_image([(0x0C, True, FIRST, 40_000)])
    raw[440:444] = b"\1\2\3\4"
    raw[:440] = bytes(440)
    image, undo = tmp_path / "disk.img", tmp_path / "undo.json"
    image.write_bytes(raw)
    assert main(["mend", str(image), "--mode", "bios", "--apply", "boot-code", "--undo", str(undo)]) == 0
    return image, undo, bytes(raw), image.read_bytes()


def test_an_undo_file_that_was_cut_changes_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image, undo, _, now = mended(tmp_path)
    whole = undo.read_bytes()
    document = json.loads(whole)
    hurt = [whole[:cut] for cut in (0, 1, 100, len(whole) // 2, len(whole) - 2, len(whole) - 1)]
    hurt += [
        json.dumps(d).encode()
        for d in (
            {**document, "count": 9},
            {**document, "writes": []},
            {**document, "writes": document["writes"] * 2},
            {**document, "whole": "0" * 64},
            {k: v for k, v in document.items() if k != "whole"},
            {**document, "size": document["size"] - 512},
            {**document, "disk": document["disk"][:1]},
        )
    ]
    for own in hurt:
        undo.write_bytes(own)
        assert main(["mend", str(image), "--revert", str(undo)]) == 2
        assert image.read_bytes() == now
    capsys.readouterr()
    undo.write_bytes(whole)
    assert main(["mend", str(image), "--revert", str(undo)]) == 0


OTHERS: dict[str, Callable[[bytearray], None]] = {
    "another signature": lambda raw: raw.__setitem__(slice(440, 444), b"\5\6\7\x08"),
    "another partition": lambda raw: raw.__setitem__(slice(446, 512), mbr_start([(0x0C, True, FIRST, 30_000)])[446:]),
    "another volume": lambda raw: raw.__setitem__(slice(FIRST * 512, FIRST * 512 + 4096), volume_start("ntfs")),
    "other bytes beside": lambda raw: raw.__setitem__(slice(600, 610), b"0123456789"),
}


@pytest.mark.parametrize("name", OTHERS)
def test_an_undo_file_of_another_disk_changes_nothing(
    name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Both were given the same boot code: at the very place that was written, both hold the same."""
    _, undo, _, now = mended(tmp_path)
    other = bytearray(now)
    OTHERS[name](other)
    (tmp_path / "other.img").write_bytes(other)
    assert main(["mend", str(tmp_path / "other.img"), "--revert", str(undo)]) == 2
    assert "nothing was changed" in capsys.readouterr().err
    assert (tmp_path / "other.img").read_bytes() == other


def test_taken_back_twice_there_is_nothing_left_to_do(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image, undo, raw, _ = mended(tmp_path)
    capsys.readouterr()
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    assert json.loads(capsys.readouterr().out)["reverted"] == ["boot-code"]
    assert image.read_bytes() == raw
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["reverted"], "nothing is left to do" in told["says"]) == ([], True)


def test_half_of_it_written_is_still_that_disk(tmp_path: Path) -> None:
    """The power went in the middle: identifiers and surroundings are told without what is changed."""
    raw = gpt_image()
    raw[512:1024] = bytes(512)
    image, undo = tmp_path / "disk.img", tmp_path / "undo.json"
    image.write_bytes(raw)
    with image_writer.target(str(image)) as own:
        done, writes = all_plans(ImageSectors(str(image)), "uefi")
        image_writer.apply(own, undo, [p.id for p in done], merged(ImageSectors(str(image)), writes))
    known = image_writer.read_undo(undo)
    for left in range(len(known.changes) + 1):
        half = bytearray(raw)
        for change in known.changes[:left]:
            half[change.at : change.at + len(change.after)] = change.after
        image.write_bytes(half)
        with image_writer.target(str(image)) as own:
            image_writer.revert(own, known)
        assert image.read_bytes() == raw


def test_a_device_or_a_locked_image_is_no_target(tmp_path: Path) -> None:
    image, _, _, _ = mended(tmp_path)
    with (
        image_writer.target(str(image)),
        pytest.raises(InputError, match="nobody else writes to"),
        image_writer.target(str(image)),
    ):
        pass


def test_boot_sectors_of_known_kinds_are_still_signed(tmp_path: Path) -> None:
    raw = mbr_image([(0x0C, True, FIRST, 40_000)])
    raw[FIRST * 512 : FIRST * 512 + 512] = boot_sector()[:510] + b"\0\0"
    (tmp_path / "disk.img").write_bytes(raw)
    assert [p.id for p in mending_of(ImageSectors(str(tmp_path / "disk.img")), "bios").plans] == ["boot-sector-1"]
    assert EFI
