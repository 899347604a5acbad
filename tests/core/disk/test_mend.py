"""Mending plans and what applying them leaves: defined at every cut, restored by the undo file, refused where the image
is another. Firmware itself is asked in the lab."""

from __future__ import annotations

import json
import os
import struct
from collections.abc import Callable
from pathlib import Path

import pytest

from gatecheck.adapters import image_writer
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.boot_code import BOOT_CODE, CODE_ROOM
from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.encode import gpt_start, mbr_start
from gatecheck.core.disk.mend import all_plans, mending_of, merged
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Span
from gatecheck.core.errors import InputError
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import listing, read_fat

ESP, SYSTEM, EFI = (
    "5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911",
    "C3E9D210-6F4A-4B58-A1D7-25E09B63F84C",
    "C12A7328-F81F-11D2-BA4B-00A0C93EC93B",
)
SECTORS, FIRST, ROOM = 65_536, 2048, 40_000
LOADER = "EFI/BOOT/BOOTX64.EFI"
Hurt = Callable[[bytearray], None]


def program(size: int = 1024) -> bytes:
    """Headers of an EFI application with one section."""
    head = bytearray(0x80)
    head[:2], head[0x3C:0x40] = b"MZ", struct.pack("<I", 0x80)
    coff = b"PE\0\0" + struct.pack("<HHIIIHH", 0x8664, 1, 0, 0, 0, 0xF0, 0x22E)
    optional = bytearray(0xF0)
    optional[:2], optional[60:64], optional[68:70] = b"\x0b\x02", struct.pack("<I", 512), struct.pack("<H", 10)
    optional[16:20] = struct.pack("<I", 0x1000)
    section = b".text\0\0\0" + struct.pack("<IIIIIIHHI", 512, 0x1000, 512, 512, 0, 0, 0, 0, 0)
    return (bytes(head) + coff + bytes(optional) + section).ljust(512, b"\0").ljust(size, b"\x90")


def boot_sector(text: bytes = b"starts") -> bytes:
    return (b"\xfa\x31\xc0\x8e\xd8" + text).ljust(510, b"\0") + b"\x55\xaa"


def gpt_image(files: dict[str, bytes] | None = None) -> bytearray:
    raw = bytearray(SECTORS * 512)
    start = gpt_start(ESP, [(ESP, EFI, FIRST, FIRST + ROOM - 1, "EFI system")], sectors=SECTORS)
    raw[: len(start)] = start
    entries, head = start[1024:], bytearray(start[512:1024])
    struct.pack_into("<QQ", head, 24, SECTORS - 1, 1)
    struct.pack_into("<Q", head, 72, SECTORS - 33)
    head[16:20] = bytes(4)
    import zlib

    head[16:20] = struct.pack("<I", zlib.crc32(head[:92]))
    raw[(SECTORS - 33) * 512 : (SECTORS - 33) * 512 + len(entries)] = entries
    raw[-512:] = head
    for at, data in fat_volume(
        {LOADER: program()} if files is None else files, sectors=ROOM, cluster_sectors=4
    ).items():
        raw[(FIRST + at) * 512 : (FIRST + at) * 512 + len(data)] = data
    return raw


def mbr_image(records: list[tuple[int, bool, int, int]], code: bytes = BOOT_CODE) -> bytearray:
    raw = bytearray(SECTORS * 512)
    raw[:512] = mbr_start(records)
    raw[: len(code)] = code
    for _, _, first, _ in records:
        raw[first * 512 : (first + 1) * 512] = boot_sector()
    return raw


def over(*writes: tuple[int, bytes]) -> Hurt:
    def hurt(raw: bytearray) -> None:
        for at, data in writes:
            at = at if at >= 0 else len(raw) + at
            raw[at : at + len(data)] = data

    return hurt


def plain(raw: bytearray) -> None: ...


_MBR = [(0x0C, True, FIRST, ROOM)]
_TWO = [(7, True, FIRST, 10_000), (7, False, 20_480, 10_000)]
CASES: list[tuple[str, str, Callable[[], bytearray], Hurt, list[str], bool]] = [
    ("healthy", "uefi", gpt_image, plain, [], True),
    ("no guard", "uefi", gpt_image, over((446, bytes(66))), ["protective-mbr"], True),
    ("primary", "uefi", gpt_image, over((512, bytes(33 * 512))), ["gpt-primary"], True),
    ("backup", "uefi", gpt_image, over((-512, bytes(512))), ["gpt-backup"], True),
    ("both headers", "uefi", gpt_image, over((512, bytes(512)), (-512, bytes(512))), ["gpt-both"], True),
    ("all tables", "uefi", gpt_image, over((0, bytes(34 * 512)), (-33 * 512, bytes(33 * 512))), ["lost-table"], True),
    ("entry deleted", "uefi", lambda: gpt_image(), lambda raw: _without_entries(raw), ["lost-partitions"], True),
    ("media", "uefi", gpt_image, over((FIRST * 512 + 21, b"\x55")), ["boot-sector-1"], True),
    ("first FAT", "uefi", gpt_image, over(((FIRST + 4) * 512, bytes(2048))), ["fat-1"], True),
    ("loader", "uefi", lambda: gpt_image({"EFI/GULL/START.EFI": program(9000)}), plain, ["loader"], True),
    (
        "loader, two",
        "uefi",
        lambda: gpt_image({"EFI/GULL/START.EFI": program(9000), "EFI/GULL/GRUBX64.EFI": program(3000)}),
        plain,
        ["loader", "loader-2"],
        True,
    ),
    (
        "loader not a program",
        "uefi",
        lambda: gpt_image({LOADER: b"junk" * 4000, "EFI/GULL/START.EFI": program(1500)}),
        plain,
        ["loader"],
        True,
    ),
    ("no loader anywhere", "uefi", lambda: gpt_image({"EFI/GULL/README.TXT": b"x"}), plain, [], False),
    ("nothing there", "uefi", lambda: bytearray(SECTORS * 512), plain, [], False),
    ("legacy healthy", "bios", lambda: mbr_image(_MBR), plain, [], True),
    ("unsigned", "bios", lambda: mbr_image(_MBR), over((510, b"\0\0")), ["mbr-signature"], True),
    ("no code", "bios", lambda: mbr_image(_MBR), over((0, bytes(440))), ["boot-code"], True),
    ("no code, no flag", "bios", lambda: mbr_image(_MBR), over((0, bytes(447))), ["boot-code", "active-flag-1"], True),
    ("no flag", "bios", lambda: mbr_image(_MBR), over((446, b"\0")), ["active-flag-1"], True),
    (
        "no flag, two that start",
        "bios",
        lambda: mbr_image(_TWO),
        over((446, b"\0")),
        ["active-flag-1", "active-flag-2"],
        True,
    ),
    ("wrong one marked", "bios", lambda: mbr_image(_TWO), over((FIRST * 512, bytes(512))), ["active-flag-2"], True),
    (
        "boot sector unsigned",
        "bios",
        lambda: mbr_image(_MBR),
        over((FIRST * 512 + 510, b"\0\0")),
        ["boot-sector-1"],
        True,
    ),
    (
        "record beyond the end",
        "uefi",
        lambda: mbr_image([*_MBR, (0x83, False, 60_000, 999_999)]),
        plain,
        ["record-2"],
        False,
    ),
]


def _without_entries(raw: bytearray) -> None:
    """The partition deleted as a partitioning tool does it: sums that fit, and another, empty partition kept."""
    import zlib

    for at in (512, len(raw) - 512):
        head = bytearray(raw[at : at + 512])
        first = struct.unpack_from("<Q", head, 72)[0] * 512
        raw[first : first + 128] = bytes(128)
        head[88:92], head[16:20] = struct.pack("<I", zlib.crc32(raw[first : first + 16_384])), bytes(4)
        head[16:20] = struct.pack("<I", zlib.crc32(head[:92]))
        raw[at : at + 512] = head


@pytest.fixture
def image(tmp_path: Path) -> Path:
    return tmp_path / "disk.img"


@pytest.mark.parametrize(("mode", "make", "hurt", "plans", "boots"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_plans_and_all_of_them_applied(
    mode: str,
    make: Callable[[], bytearray],
    hurt: Hurt,
    plans: list[str],
    boots: bool,
    image: Path,
    tmp_path: Path,
    capsys: pytest.CaptureFixture[str],
) -> None:
    raw = make()
    hurt(raw)
    image.write_bytes(raw)
    assert main(["mend", str(image), "--mode", mode]) == 0
    told = json.loads(capsys.readouterr().out)
    assert image.read_bytes() == raw
    assert [p["id"] for p in told["plans"]][: len(plans)] == [p for p in plans if p in {q["id"] for q in told["plans"]}]
    if not plans:
        assert told["plans"] == []
        assert told["boots"] is boots
        return
    undo, one = tmp_path / "undo.json", "all"
    if told["boots"]:  # nothing is done to what starts as it is, but what is asked for by its id
        assert main(["mend", str(image), "--mode", mode, "--apply", "all", "--undo", str(undo)]) == 2
        assert "starts as it is" in capsys.readouterr().err
        assert image.read_bytes() == raw
        one = told["plans"][0]["id"]
    assert main(["mend", str(image), "--mode", mode, "--apply", one, "--undo", str(undo)]) == 0
    before, after = bytearray(raw), bytearray(image.read_bytes())
    for write in [w for p in told["plans"] if one in ("all", p["id"]) for w in p["writes"]]:
        for side in (before, after):
            side[write["at"] : write["at"] + write["length"]] = bytes(write["length"])
    assert before == after, "what is written is what the plan lists"
    done = json.loads(capsys.readouterr().out)
    assert done["boots"] is boots
    assert set(done["applied"]) <= set(plans)
    assert all(p["boots_after"] for p in told["plans"]) is boots or len(plans) > 1
    assert not mending_of(ImageSectors(str(image)), mode).plans or "-2" in plans[-1] or one != "all"
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    assert image.read_bytes() == raw
    capsys.readouterr()
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    assert "nothing is left to do" in capsys.readouterr().out


def test_a_loader_put_back_leaves_a_volume_that_hangs_together(image: Path) -> None:
    files = {"EFI/GULL/START.EFI": program(9000), "EFI/GULL/NOTE.TXT": b"n" * 5000, LOADER: b"junk" * 4000}
    image.write_bytes(gpt_image(files))
    disk = ImageSectors(str(image))
    after = Overlay(disk, all_plans(disk, "uefi")[1])
    volume = read_fat(after, FIRST)
    listed = listing(volume)
    chains = [list(volume.chain(f.cluster, 1000)) for f in listed.files.values()]
    used = [c for chain in chains for c in chain]
    assert len(used) == len(set(used))
    assert not listed.missing
    assert listed.files[LOADER].size == 9000
    one, two = (after.read(FIRST + volume.reserved + n * volume.fat_sectors, volume.fat_sectors).data for n in (0, 1))
    assert one == two
    in_table = {n for n in range(2, volume.clusters + 2) if volume.following(n)}
    assert in_table == set(used), "clusters of the replaced file are free again, and nothing else is taken"


class Cut(Exception):
    """The power goes."""


@pytest.mark.parametrize(
    ("name", "mode"),
    [("no guard", "uefi"), ("both headers", "uefi"), ("loader not a program", "uefi"), ("no code, no flag", "bios")],
)
def test_a_cut_at_any_write_leaves_what_undo_and_apply_bring_to_a_defined_state(
    name: str, mode: str, image: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    _, _, make, hurt, _, _ = next(c for c in CASES if c[0] == name)
    raw = make()
    hurt(raw)
    image.write_bytes(raw)
    disk = ImageSectors(str(image))
    plans, writes = all_plans(disk, mode)
    sectors = merged(disk, writes)
    whole = bytearray(raw)
    for at, data in sectors:
        whole[at : at + len(data)] = data
    real = image_writer.Target.write
    total = sum(len(data) for _, data in sectors)
    for cut in sorted({c for c in (0, 1, 511, 512, 513, total - 1, *range(0, total, max(1, total // 8))) if c < total}):
        image.write_bytes(raw)
        undo = tmp_path / f"undo-{cut}.json"
        left = [cut]

        def torn(self: image_writer.Target, at: int, data: bytes, left: list[int] = left) -> None:
            if left[0] < len(data):
                os.pwrite(self.descriptor, data[: left[0]], at)
                raise Cut
            left[0] -= len(data)
            real(self, at, data)

        with monkeypatch.context() as patched, image_writer.target(str(image)) as own:
            patched.setattr(image_writer.Target, "write", torn)
            with pytest.raises(Cut):
                image_writer.apply(own, undo, [p.id for p in plans], sectors)
        known = image_writer.read_undo(undo)
        torn_now = image.read_bytes()
        with image_writer.target(str(image)) as own:
            image_writer.revert(own, known)
        assert image.read_bytes() == raw
        image.write_bytes(torn_now)
        assert main(["mend", str(image), "--mode", mode, "--apply", "all", "--undo", str(undo)]) == (
            2 if torn_now == whole else 0
        )
        assert image.read_bytes() == whole


def test_nothing_is_written_before_the_undo_file_is_whole(
    image: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    raw = gpt_image()
    raw[446:512] = bytes(66)
    image.write_bytes(raw)
    undo = tmp_path / "undo.json"

    def full(descriptor: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "all", "--undo", str(undo)]) == 2
    assert image.read_bytes() == raw
    assert not undo.exists()
    assert not list(tmp_path.glob(".*.part"))


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["mend", "{image}"], "--mode"),
        (["mend", "{image}", "--mode", "uefi", "--apply", "all"], "--undo"),
        (["mend", "{image}", "--mode", "uefi", "--apply", "nothing", "--undo", "{folder}/u"], "protective-mbr"),
        (["mend", "{folder}", "--mode", "uefi"], "directory"),
        (["mend", "{folder}/none", "--mode", "uefi"], "No such file"),
        (["mend", "{image}", "--revert", "{image}"], "undo file"),
        (["mend", "{image}", "--revert", "{folder}/none"], "undo file"),
        (["mend", "{image}", "--revert", "{folder}/broken"], "sum"),
        (["mend", "{image}", "--revert", "{folder}/other"], "bytes"),
        (["mend", "{image}", "--mode", "uefi", "--apply", "all", "--undo", "{folder}/no/such"], "--undo"),
        (["mend", "{image}", "--mode", "uefi", "--apply", "all", "--undo", "{folder}/broken"], "undo file"),
        (["mend", "/dev/null", "--mode", "uefi"], "image"),
        (["where", "{image}", "65536"], "0 to 65535"),
        (["where", "{image}", "-1"], "0 to 65535"),
    ],
)
def test_bad_input_is_one_sentence_and_nothing_is_written(
    arguments: list[str], says: str, image: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    raw = gpt_image()
    raw[446:512] = bytes(66)
    image.write_bytes(raw)
    (tmp_path / "broken").write_text(
        json.dumps(
            {"format": "gatecheck-undo", "version": 1, "size": len(raw), "plans": [], "writes": [], "sha256": "0"}
        )
    )
    image_writer.write_undo(
        tmp_path / "other", image_writer.UndoFile(5120, ("x",), (image_writer.Change(0, b"a", b"b"),))
    )
    assert main([a.format(image=image, folder=tmp_path) for a in arguments]) == 2
    said = capsys.readouterr().err
    assert says in said
    assert said.count("\n") == 1
    assert image.read_bytes() == raw


def test_an_image_that_was_written_to_since_is_not_reverted(
    image: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    raw = gpt_image()
    raw[446:512] = bytes(66)
    image.write_bytes(raw)
    undo = tmp_path / "undo.json"
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "protective-mbr", "--undo", str(undo)]) == 0
    # the way back is never written over
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "all", "--undo", str(undo)]) == 2
    changed = bytearray(image.read_bytes())
    changed[470] ^= 0x11
    image.write_bytes(changed)
    capsys.readouterr()
    assert main(["mend", str(image), "--revert", str(undo)]) == 2
    assert "something else has written" in capsys.readouterr().err
    assert image.read_bytes() == changed


class Unreadable:
    """An image of which some sectors cannot be read."""

    def __init__(self, raw: bytes, *gone: int) -> None:
        self.raw, self.gone, self.sector, self.length = raw, gone, 512, len(raw) // 512

    def read(self, lba: int, count: int) -> Span:
        data = bytearray(self.raw[lba * 512 : (lba + count) * 512].ljust(count * 512, b"\0"))
        missing = {n: "unreadable" for n in self.gone if lba <= n < lba + count} | dict.fromkeys(
            range(max(lba, self.length), lba + count), "beyond the end"
        )
        for n in missing:
            data[(n - lba) * 512 : (n - lba + 1) * 512] = bytes(512)
        return Span(lba, 512, bytes(data), missing)


@pytest.mark.parametrize(
    ("gone", "plans"),
    [((0,), set()), ((1,), set()), ((0, 1, SECTORS - 1), set()), ((FIRST,), set()), ((FIRST + 4,), {"fat-1"})],
)
def test_what_cannot_be_read_is_not_called_gone(gone: tuple[int, ...], plans: set[str]) -> None:
    found = mending_of(Unreadable(bytes(gpt_image()), *gone), "uefi")
    assert {p.id for p in found.plans} == plans
    assert all(any("unreadable" in d.id for d in p.doubts) for p in found.plans)


def test_extended_chains_are_followed_and_end() -> None:
    raw = bytearray(SECTORS * 512)
    raw[:512] = mbr_start([(7, True, FIRST, 2048), (5, False, 8192, 40_000)])
    raw[8192 * 512 : 8193 * 512] = mbr_start([(0x83, False, 2048, 4096), (5, False, 10_000, 8192)])
    # leads back to the first
    raw[18_192 * 512 : 18_193 * 512] = mbr_start([(0x82, False, 2048, 4096), (5, False, 0, 8192)])
    found = division_of(Unreadable(bytes(raw)))
    assert [(p.number, p.first, p.type) for p in found.pieces] == [
        (1, FIRST, "07h"),
        (2, 8192, "05h"),
        (5, 10_240, "83h"),
        (6, 20_240, "82h"),
    ]


def test_the_boot_code_leaves_the_table_alone() -> None:
    assert len(BOOT_CODE) <= CODE_ROOM


def test_a_loader_that_cannot_be_read_is_not_called_broken() -> None:
    raw = bytes(gpt_image())
    volume = read_fat(Unreadable(raw), FIRST)
    loader = listing(volume).files[LOADER]
    lba = FIRST + volume.data_at + (loader.cluster - 2) * volume.cluster_sectors
    found = mending_of(Unreadable(raw, lba), "uefi")
    assert [f.id for f in found.now.findings][-1] == "loader-unread"


@pytest.mark.parametrize("code", [1, 95])
def test_an_undo_file_on_a_stick_that_knows_no_second_names(
    code: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refused(_source: object, _target: object) -> None:
        raise OSError(code, "not here")

    monkeypatch.setattr(os, "link", refused)
    undo = image_writer.UndoFile(100, ("x",), (image_writer.Change(0, b"a", b"b"),))
    image_writer.write_undo(tmp_path / "undo", undo)
    assert image_writer.read_undo(tmp_path / "undo") == undo


def test_an_undo_file_that_could_not_be_read_again_is_not_written(
    image: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    raw = gpt_image()
    raw[446:512] = bytes(66)
    image.write_bytes(raw)
    monkeypatch.setattr(image_writer, "_LARGEST_UNDO", 100)
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "all", "--undo", str(tmp_path / "undo")]) == 2
    assert "fewer plans" in capsys.readouterr().err
    assert image.read_bytes() == raw
    assert not list(tmp_path.glob("*undo*"))


def test_another_plans_undo_file_is_not_gone_on_with(
    image: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    raw = gpt_image()
    raw[446:512] = bytes(66)
    image.write_bytes(raw)
    undo = tmp_path / "undo"
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "protective-mbr", "--undo", str(undo)]) == 0
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    assert main(["mend", str(image), "--mode", "uefi", "--apply", "gpt-primary", "--undo", str(undo)]) == 2
    assert "that of protective-mbr" in capsys.readouterr().err
    assert image.read_bytes() == raw


HURT_UNDO: dict[str, tuple[Callable[[dict[str, object]], object], str]] = {
    "a size without an end": (lambda d: d.update({"size": float("inf")}), "a broken write"),
    "half a byte": (lambda d: d.update({"size": 99.5}), "a broken write"),
    "no plans": (lambda d: d.pop("plans"), "a broken write"),
    "plans that are none": (lambda d: d.update({"plans": 3}), "a broken write"),
    "a write outside": (
        lambda d: d.update({"writes": [{"at": 1 << 70, "before": "YQ==", "after": "Yg=="}]}),
        "one outside",
    ),
    "a write before the start": (
        lambda d: d.update({"writes": [{"at": -1, "before": "YQ==", "after": "Yg=="}]}),
        "one outside",
    ),
    "halves of two lengths": (
        lambda d: d.update({"writes": [{"at": 0, "before": "YQ==", "after": "YmI="}]}),
        "one outside",
    ),
    "a place that is a word": (
        lambda d: d.update({"writes": [{"at": "0", "before": "YQ==", "after": "Yg=="}]}),
        "a broken write",
    ),
    "no bytes": (lambda d: d.update({"writes": [{"at": 0, "before": "!", "after": "Yg=="}]}), "a broken write"),
    "a newer one": (lambda d: d.update({"version": 2}), "of version 1, got 2"),
    "another kind": (lambda d: d.update({"format": "gatecheck"}), "something else"),
}


@pytest.mark.parametrize("name", HURT_UNDO)
def test_a_hurt_undo_file_is_one_sentence(name: str, tmp_path: Path) -> None:
    change, said = HURT_UNDO[name]
    image_writer.write_undo(
        tmp_path / "undo", image_writer.UndoFile(100, ("x",), (image_writer.Change(0, b"a", b"b"),))
    )
    document = json.loads((tmp_path / "undo").read_text())
    change(document)
    (tmp_path / "undo").write_text(json.dumps({**document, "sha256": image_writer._sum(document["writes"])}))
    with pytest.raises(InputError, match=said):
        image_writer.read_undo(tmp_path / "undo")
