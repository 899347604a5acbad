"""The boot path verdict on disks in memory: what each hurt does to the walk. What firmware itself makes of such disks
is asked in the lab."""

from __future__ import annotations

import json
import random
import struct
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.cli.main import main
from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.encode import system_disk
from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.volume.fat.encode import fat_volume

ESP, SYSTEM, OTHER = (
    "5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911",
    "C3E9D210-6F4A-4B58-A1D7-25E09B63F84C",
    "0D7B42F8-1C95-4A6E-8F30-B94D617C2E55",
)
SECTORS = 240_000
LOADER = "EFI/BOOT/BOOTX64.EFI"


def program(*, subsystem: int = 10, machine: int = 0x8664, size: int = 1024) -> bytes:
    """Headers of an EFI application with one section."""
    head = bytearray(0x80)
    head[:2], head[0x3C:0x40] = b"MZ", struct.pack("<I", 0x80)
    coff = b"PE\0\0" + struct.pack("<HHIIIHH", machine, 1, 0, 0, 0, 0xF0, 0x22E)
    optional = bytearray(0xF0)
    optional[:2], optional[60:64], optional[68:70] = b"\x0b\x02", struct.pack("<I", 512), struct.pack("<H", subsystem)
    optional[16:20] = struct.pack("<I", 0x1000)
    section = b".text\0\0\0" + struct.pack("<IIIIIIHHI", 512, 0x1000, 512, 512, 0, 0, 0, 0, 0)
    return (bytes(head) + coff + bytes(optional) + section).ljust(512, b"\0").ljust(1024, b"\x90")[:size]


CONFIG = "EFI/BOOT/grub.cfg"
WINDOWS = "bootmgfw.efi".encode("utf-16-le")


def signed(raw: bytes) -> bytes:
    """With a certificate table at its end."""
    out = bytearray(raw) + struct.pack("<IHH", 16, 0x200, 2) + bytes(8)
    at = struct.unpack_from("<I", out, 0x3C)[0] + 24 + 112 + 32
    out[at : at + 8] = struct.pack("<II", len(raw), 16)
    return bytes(out)


def grub(*, normal: bool = True) -> bytes:
    """A program that carries what a GRUB image carries: its prefix and one module."""
    elf = bytearray(64 + 3 * 64 + 64)
    elf[:5], elf[0x28:0x30], elf[0x3A:0x40] = b"\x7fELF\2", struct.pack("<Q", 64), struct.pack("<HHH", 64, 3, 1)
    struct.pack_into("<I20xQQ", elf, 64 + 64, 0, 256, 16)
    struct.pack_into("<I20xQQ", elf, 64 + 128, 1, 272, 16)
    elf[256:288] = b"\0.modname\0".ljust(16, b"\0") + (b"normal" if normal else b"echo").ljust(16, b"\0")
    parts = b"".join(
        struct.pack("<II", kind, len(body) + 8) + body
        for kind, body in ((0, bytes(elf)), (3, b"/EFI/BOOT".ljust(16, b"\0")))
    )
    return program() + b"mimg" + struct.pack("<IQQ", 0, 24, 24 + len(parts)) + parts


def kernel() -> bytes:
    """Head and size of a Linux kernel."""
    raw = bytearray(20_000)
    raw[0x1F1], raw[0x1F4:0x1F8], raw[0x202:0x206] = 7, struct.pack("<I", 900), b"HdrS"
    return bytes(raw)


def disk(
    files: Mapping[str, bytes] | None = None, change: Callable[[dict[int, bytes]], None] = lambda ranges: None
) -> CapturedSectors:
    ranges = {0: system_disk(ESP, SYSTEM, sectors=SECTORS)}
    own = {LOADER: program()} if files is None else files
    ranges |= {2048 + at: data for at, data in fat_volume(own, sectors=204_800, sector=512, cluster_sectors=1).items()}
    change(ranges)
    return Zeros(dict(ranges))


class Zeros(CapturedSectors):
    """A disk of which everything can be read: zeros where nothing stands."""

    def __init__(self, ranges: Mapping[int, bytes]) -> None:
        super().__init__(ranges, length=SECTORS)

    def read(self, lba: int, count: int):  # type: ignore[no-untyped-def]
        span = super().read(lba, count)
        return type(span)(
            span.lba, span.sector, span.data, {place: why for place, why in span.missing.items() if place >= SECTORS}
        )


def over(at: int, data: bytes, lba: int = 0) -> Callable[[dict[int, bytes]], None]:
    def change(ranges: dict[int, bytes]) -> None:
        raw = bytearray(ranges[lba])
        raw[at : at + len(data)] = data
        ranges[lba] = bytes(raw)

    return change


@pytest.mark.parametrize(
    ("files", "change", "boots", "finding"),
    [
        (None, None, True, None),
        ({"efi/boot/bootx64.efi": program()}, None, True, None),
        ({"EFI/BOOT/README.TXT": b"x"}, None, False, "loader-missing"),
        ({LOADER: program(machine=0xAA64)}, None, False, "loader-other-machine"),
        ({LOADER: program(subsystem=11)}, None, False, "loader-no-application"),
        ({LOADER: program(size=600)}, None, False, "loader-cut-short"),
        ({LOADER: b"no program" * 60}, None, False, "loader-no-program"),
        ({LOADER: grub()}, None, False, "configuration-missing"),
        ({LOADER: grub(), CONFIG: b"# nothing\n"}, None, False, "configuration-empty"),
        ({LOADER: grub(normal=False), CONFIG: b"linux /vmlinuz\n"}, None, False, "modules-missing"),
        ({LOADER: grub(), CONFIG: b"linux /vmlinuz quiet\n"}, None, False, "named-file-missing"),
        ({LOADER: grub(), CONFIG: b"linux /vmlinuz quiet\n", "vmlinuz": b"k"}, None, False, "kernel-none"),
        (
            {LOADER: grub(), CONFIG: b"linux /vmlinuz quiet\n", "vmlinuz": kernel()[:9000]},
            None,
            False,
            "kernel-cut-short",
        ),
        (
            {LOADER: grub(), CONFIG: b"linux /vmlinuz quiet\ninitrd /initrd\n", "vmlinuz": kernel()},
            None,
            False,
            "named-file-missing",
        ),
        ({LOADER: grub(), CONFIG: b"linux /vmlinuz quiet\n", "vmlinuz": kernel()}, None, True, None),
        (
            {
                LOADER: grub(),
                CONFIG: (
                    b"set a='/vm'\nif [ -f ${a}linuz -a ! -e /none ]; then linux \"${a}linuz\"; else linux /none; "
                    b"fi\nboot\n"
                ),
                "vmlinuz": kernel(),
            },
            None,
            True,
            None,
        ),
        (
            {
                LOADER: grub(),
                CONFIG: (
                    b"set default=two\nmenuentry 'one' --id one { linux /none }\nmenuentry 'two' --id two {\n "
                    b"linux /vmlinuz\n}\n"
                ),
                "vmlinuz": kernel(),
            },
            None,
            True,
            None,
        ),
        (
            {
                LOADER: grub(),
                CONFIG: b"chainloader /EFI/Microsoft/Boot/bootmgfw.efi\n",
                "EFI/Microsoft/Boot/bootmgfw.efi": program() + WINDOWS,
            },
            None,
            False,
            "store-missing",
        ),
        (
            {
                LOADER: grub(),
                CONFIG: b"chainloader /EFI/Microsoft/Boot/bootmgfw.efi\n",
                "EFI/Microsoft/Boot/bootmgfw.efi": program() + WINDOWS,
                "EFI/Microsoft/Boot/BCD": b"none",
            },
            None,
            False,
            "store-broken",
        ),
        (
            {
                LOADER: grub(),
                CONFIG: b"chainloader /EFI/Microsoft/Boot/bootmgfw.efi\n",
                "EFI/Microsoft/Boot/bootmgfw.efi": program() + WINDOWS,
                "EFI/Microsoft/Boot/BCD": b"regf",
            },
            None,
            True,
            None,
        ),
        (
            {
                LOADER: grub(),
                CONFIG: b"chainloader /EFI/Microsoft/Boot/bootmgfw.efi\n",
                "EFI/Microsoft/Boot/bootmgfw.efi": program(),
            },
            None,
            True,
            None,
        ),
        ({LOADER: grub(), CONFIG: b"configfile /EFI/BOOT/grub.cfg\n"}, None, True, None),
        ({LOADER: program() + "grubx64.efi".encode("utf-16-le")}, None, False, "second-program-missing"),
        ({LOADER: program() + "grubx64.efi".encode("utf-16-le"), "EFI/BOOT/GRUBX64.EFI": program()}, None, True, None),
        ({LOADER: program() + b"systemd-boot loader"}, None, False, "configuration-missing"),
        (
            {
                LOADER: program() + b"systemd-boot loader",
                "loader/entries/gull.conf": b"title x\nlinux /vmlinuz\ninitrd /a\ninitrd /b\n",
                "vmlinuz": kernel(),
                "a": b"x",
            },
            None,
            False,
            "named-file-missing",
        ),
        (
            {
                LOADER: program() + b"systemd-boot loader",
                "loader/entries/gull.conf": b"linux /vmlinuz\n",
                "vmlinuz": kernel(),
            },
            None,
            True,
            None,
        ),
        (None, over(0, bytes(512)), False, "gpt-unguarded"),
        (None, over(446, b"\x80"), True, None),
        (None, over(512 + 60, b"\xff"), False, "gpt-both-broken"),
        (None, over(21, b"\x55", 2048), False, "system-partition-broken"),
    ],
)
def test_each_hurt_stops_the_walk_where_it_is(
    files: Mapping[str, bytes] | None,
    change: Callable[[dict[int, bytes]], None] | None,
    boots: bool,
    finding: str | None,
) -> None:
    found = boot_path(disk(files, change or (lambda ranges: None)), "uefi")
    assert found.boots == boots, found
    assert (found.stops_at is None) == boots
    assert finding is None or finding in [f.id for f in found.findings]
    assert all(
        "…" not in shipped_words().say(f.text) and f.where in shipped_words().say(f.text) for f in found.findings
    )
    assert found.path
    assert all("…" not in shipped_words().say(step) for step in found.path)


MENU = b"menuentry one { linux /none }\nmenuentry two { linux /vmlinuz }\n"
HOSTILE = {
    "a name that is twice itself, time and again": (
        b"set a=xxxxxxxx\n" + b"set a=$a$a$a$a\n" * 300 + b"linux /$a\n",
        "named-file-missing",
    ),
    "not, many times": (b"! " * 20_001 + b"true\nlinux /vmlinuz\n", None),
    "or, many times": (b"if [ " + b"x = y -o " * 9000 + b"x = x ]; then linux /vmlinuz; fi\n", None),
    "not within a test, many times": (
        b"if [ " + b"! " * 9001 + b"-e /none ]; then linux /none; else linux /vmlinuz; fi\n",
        "named-file-missing",
    ),
    "a word of signs": (b"echo " + b"$" * 300_000 + b"\nlinux /vmlinuz\n", None),
    "it reads itself in": (b"source /EFI/BOOT/grub.cfg\n" * 2000 + b"#" * 800_000 + b"\n", None),
    "it searches for ever": (b"search --file /none --set=root\n" * 20_000, None),
    "a place of many digits": (b"linux (hd0,gpt" + b"1" * 6000 + b")/vmlinuz\n", "named-file-missing"),
    "a menu of many digits": (b"set default=" + b"9" * 6000 + b"\n" + MENU, "named-file-missing"),
    "a menu of no number": ("set default=\u00b2\n".encode() + MENU, "named-file-missing"),
    "the second of a menu": (b"set default=1\n" + MENU, None),
    "nested without an end": (b"if true; then " * 5000 + b"linux /vmlinuz\n", "configuration-empty"),
    "nested deeper than it is followed": (b"if true; then " * 3000 + b"linux /none\n" + b"fi\n" * 3000, None),
    "braces without an end": (b"menuentry x { " * 5000, None),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_script_that_would_go_on_without_end_ends_in_a_verdict(name: str) -> None:
    config, finding = HOSTILE[name]
    found = boot_path(disk({LOADER: grub(), CONFIG: config, "vmlinuz": kernel()}), "uefi")
    assert [f.id for f in found.findings if f.id in ("named-file-missing", "configuration-empty")] == (
        [finding] if finding else []
    ), found.path


@pytest.mark.parametrize(
    ("lba", "mode", "finding"),
    [(0, "uefi", "start-unreadable"), (0, "bios", "start-unreadable"), (2048, "uefi", "system-partition-broken")],
)
def test_what_cannot_be_read_is_not_called_missing(lba: int, mode: str, finding: str) -> None:
    own = disk()
    hurt = CapturedSectors(
        {at: data for at, data in own._ranges if at != lba}, length=SECTORS, unreadable=range(lba, lba + 34)
    )
    found = boot_path(hurt, mode)
    assert (found.stops_at, finding in [f.id for f in found.findings]) == ("layout", True)
    assert not {"gpt-unguarded", "mbr-unsigned", "system-partition-missing"} & {f.id for f in found.findings}


@pytest.mark.parametrize(
    ("entries", "boots", "says"),
    [
        ([FirmwareEntry("Boot0001 system", ESP, "\\EFI\\system\\start.efi", "partition")], True, None),
        (
            [FirmwareEntry("Boot0001 old", OTHER, "\\EFI\\system\\start.efi", "partition")],
            True,
            "entry-stale",
        ),  # then the fallback
        (
            [
                FirmwareEntry("Boot0002 net", "", "", "network"),
                FirmwareEntry("Boot0001 gone", ESP, "\\EFI\\gone.efi", "partition"),
            ],
            True,
            "loader-missing",
        ),
    ],
)
def test_entries_are_tried_in_their_order_and_the_fallback_last(
    entries: list[FirmwareEntry], boots: bool, says: str | None
) -> None:
    found = boot_path(disk({"EFI/system/start.efi": program(), LOADER: program()}), "uefi", entries=entries)
    assert found.boots == boots
    assert says is None or says in [f.id for f in found.findings]
    bare = boot_path(disk({"EFI/system/start.efi": program()}), "uefi", entries=entries)
    assert bare.boots == (says is None)


@pytest.mark.parametrize(
    ("sector", "boots", "finding"),
    [
        (b"", False, "mbr-unsigned"),
        (b"\0" * 510 + b"\x55\xaa", False, "mbr-no-code"),
        (b"\xfa\xeb\xfe".ljust(510, b"\0") + b"\x55\xaa", True, "code-unknown"),
        (b"\xfa Missing operating system".ljust(510, b"\0") + b"\x55\xaa", False, "no-active-partition"),
    ],
)
def test_a_legacy_firmware_runs_what_is_signed(sector: bytes, boots: bool, finding: str) -> None:
    found = boot_path(Zeros({0: sector.ljust(512, b"\0")}), "bios")
    assert (found.boots, [f.id for f in found.findings]) == (boots, [finding])


def test_the_command_reads_an_image_and_writes_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    image = tmp_path / "disk.img"
    with image.open("wb") as file:
        file.truncate(SECTORS * 512)
        for lba, data in {
            0: system_disk(ESP, SYSTEM, sectors=SECTORS),
            **{
                2048 + at: data
                for at, data in fat_volume({LOADER: program()}, sectors=204_800, sector=512, cluster_sectors=1).items()
            },
        }.items():
            file.seek(lba * 512)
            file.write(data)
    before = image.stat().st_mtime_ns
    assert main(["bootpath", str(image), "--mode", "uefi"]) == 0
    assert json.loads(capsys.readouterr().out)["boots"] is True
    assert image.stat().st_mtime_ns == before
    cut = tmp_path / "cut.img"
    cut.write_bytes(image.read_bytes()[: 100 * 512 + 7])
    assert main(["bootpath", str(cut), "--mode", "uefi"]) == 0
    assert json.loads(capsys.readouterr().out)["stops_at"] == "layout"
    assert ImageSectors(str(cut)).length == 100


@pytest.mark.parametrize(
    ("content", "said"), [(None, "No such file"), (b"", "at least 1024 bytes"), ("folder", "directory")]
)
def test_what_is_no_image_is_said_in_one_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], content: bytes | str | None, said: str
) -> None:
    place = tmp_path / "image"
    if content == "folder":
        place.mkdir()
    elif isinstance(content, bytes):
        place.write_bytes(content)
    assert main(["bootpath", str(place), "--mode", "bios"]) == 2
    assert said in capsys.readouterr().err


@pytest.mark.parametrize("seed", range(60))
def test_hostile_bytes_end_in_a_verdict(seed: int) -> None:
    rng = random.Random(seed)

    def hurt(ranges: dict[int, bytes]) -> None:
        for _ in range(rng.randrange(1, 30)):
            lba = rng.choice(list(ranges))
            raw = bytearray(ranges[lba])
            at = rng.randrange(len(raw))
            raw[at : at + rng.randrange(1, 9)] = rng.randbytes(rng.randrange(1, 9))
            ranges[lba] = bytes(raw)

    for mode in ("uefi", "bios"):
        assert boot_path(disk(None, hurt), mode).stops_at in (None, "layout", "loader", "system", "firmware")


@pytest.mark.parametrize(
    ("loader", "secure", "boots", "gate"),
    [(program(), False, True, None), (program(), True, False, "firmware"), (signed(program()), True, True, None)],
)
@pytest.mark.parametrize(
    "entries", [None, [FirmwareEntry("Boot0001 Gull", ESP, "\\EFI\\BOOT\\BOOTX64.EFI", "partition")]]
)
def test_secure_boot_starts_only_what_is_signed(
    loader: bytes, secure: bool, boots: bool, gate: str | None, entries: list[FirmwareEntry] | None
) -> None:
    found = boot_path(disk({LOADER: loader}), "uefi", entries=entries, secure=secure)
    assert (found.boots, found.stops_at) == (boots, gate)
