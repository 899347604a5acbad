"""Firmware pages: device paths as the specification writes them, boot entries against disks, SMBIOS, damaged input."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from firmware_pages import DATA, END, ESP, LOADER, ROOT, disk, load_option, node, partition, variable
from gatecheck.core.disk.gpt import read_gpt
from gatecheck.core.disk.sectors import sectors_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.device_path import read_device_path
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.smbios import read_entry_point, read_smbios
from gatecheck.core.firmware.variables import GLOBAL, LoadOption, indications, read_variable
from gatecheck.core.guid import guid_bytes
from reading import read_capture, read_document


def read_firmware(files: dict[str, bytes]) -> Firmware | None:
    return read_capture(files).firmware


NODES = {
    "sata": (
        ROOT + node(1, 1, bytes([2, 0x1F])) + node(3, 18, struct.pack("<HHH", 0, 0xFFFF, 0)),
        "PciRoot(0x0)/Pci(0x1F,0x2)/Sata(0x0,0xFFFF,0x0)",
    ),
    "nvme": (node(3, 23, struct.pack("<I", 1) + bytes(range(8))), "NVMe(0x1,07-06-05-04-03-02-01-00)"),
    "gpt": (partition(ESP) + LOADER, f"HD(1,GPT,{ESP},0x800,0x32000)/\\EFI\\net\\loader.efi"),
    "mbr": (
        node(4, 1, struct.pack("<IQQI12sBB", 2, 63, 1000, 0xDEADBEEF, b"", 1, 1)),
        "HD(2,MBR,0xDEADBEEF,0x3F,0x3E8)",
    ),
    "usb": (node(3, 5, bytes([2, 0])), "USB(0x2,0x0)"),
    "mac": (node(3, 11, bytes.fromhex("525400123456").ljust(32, b"\0") + b"\1"), "MAC(525400123456,0x1)"),
    "ipv4": (
        node(3, 12, bytes([10, 0, 2, 15, 10, 0, 2, 2, 0, 0, 0, 0, 6, 0, 1])),
        "IPv4(10.0.2.2,TCP,Static,10.0.2.15)",
    ),
    "uri": (node(3, 24, b"http://a/b"), "Uri(http://a/b)"),
    "uart": (node(3, 14, struct.pack("<IQBBB", 0, 115200, 8, 1, 1)), "Uart(115200,8,N,1)"),
    "terminal": (node(3, 10, guid_bytes("E0C14753-F9BE-11D2-9A0C-0090273FC14D")), "VenPcAnsi()"),
    "vendor": (node(1, 4, guid_bytes(DATA) + b"\x01\xff"), f"VenHw({DATA},01FF)"),
    "optical": (node(4, 2, struct.pack("<IQQ", 1, 0x20, 0x300)), "CDROM(0x1,0x20,0x300)"),
    "legacy": (node(5, 1, struct.pack("<HH", 2, 0) + b"disk\0"), "BBS(HD,disk,0x0)"),
    "keyboard": (node(2, 1, struct.pack("<II", 0x030341D0, 0)), "Acpi(PNP0303,0x0)"),
    "acpi-extended": (
        node(2, 2, struct.pack("<III", 0x0A0841D0, 0, 0x0A0341D0) + b"\0\0\0"),
        "AcpiEx(PNP0A08,PNP0A03,0x0)",
    ),
    "acpi-by-name": (node(2, 2, struct.pack("<III", 7, 3, 0) + b"FRW0001\0U3\0\0"), "AcpiEx(FRW0001,0x00000000,U3)"),
    "acpi-of-nobody": (node(2, 1, struct.pack("<II", 0x12345678, 2)), "Acpi(0x12345678,0x2)"),
    "acpi-address": (node(2, 3, struct.pack("<II", 0x80010100, 0x80010200)), "AcpiAdr(0x80010100,0x80010200)"),
    "old-ata": (node(3, 1, bytes([1, 0, 2, 0])), "Ata(Secondary,Master,0x2)"),
    "usb-by-serial": (
        node(3, 16, struct.pack("<HHH", 1, 0x1234, 0xABCD) + "Q7\0".encode("utf-16-le")),
        'UsbWwid(0x1234,0xABCD,0x1,"Q7")',
    ),
    "usb-class": (node(3, 15, struct.pack("<HHBBB", 0xFFFF, 0xFFFF, 8, 6, 80)), "UsbClass(0xFFFF,0xFFFF,0x8,0x6,0x50)"),
    "vlan": (node(3, 20, struct.pack("<H", 12)), "Vlan(12)"),
    "card": (node(3, 26, b"\0"), "SD(0x0)"),
    "soldered-flash": (node(3, 29, b"\1"), "eMMC(0x1)"),
    "firmware-file": (node(4, 7, guid_bytes(DATA)) + node(4, 6, guid_bytes(ESP)), f"Fv({DATA})/FvFile({ESP})"),
    "part-of-a-disk": (node(4, 8, struct.pack("<IQQ", 0, 0x200, 0x3FF)), "Offset(0x200,0x3FF)"),
    "partition-without-a-mark": (
        node(4, 1, struct.pack("<IQQ16sBB", 1, 63, 1000, b"", 2, 0)),
        "HD(1,GPT,0,0x3F,0x3E8)",
    ),
    "ipv6": (
        node(
            3,
            13,
            bytes([0xFE, 0x80, *bytes(13), 1]) + bytes([0xFE, 0x80, *bytes(13), 2]) + struct.pack("<HHHB", 0, 0, 17, 1),
        ),
        "IPv6(FE80:0000:0000:0000:0000:0000:0000:0002,UDP,StatelessAutoConfigure,FE80:0000:0000:0000:0000:0000:0000:0001)",
    ),
    "unknown": (node(3, 99, b"\xab\xcd"), "Path(3,99,ABCD)"),
    "too-short-for-its-kind": (node(3, 18, b"\1"), "Path(3,18,01)"),
    "two-paths": (node(3, 5, b"\1\0") + node(0x7F, 1) + node(3, 5, b"\2\0"), "USB(0x1,0x0),USB(0x2,0x0)"),
}


@pytest.mark.parametrize(("raw", "text"), NODES.values(), ids=NODES)
def test_paths_are_written_as_the_specification_does(raw: bytes, text: str) -> None:
    assert read_device_path(raw + END).text == text


LEADS = {
    "partition": partition(ESP),
    "disk": node(3, 23, bytes(12)),
    "usb": node(3, 5, b"\2\0"),
    "optical": node(4, 2, bytes(20)),
    "network": node(3, 11, bytes(33)),
    "firmware": node(4, 7, guid_bytes(DATA)),
    "other": node(2, 1, bytes(8)),
}


@pytest.mark.parametrize(("what", "raw"), LEADS.items(), ids=LEADS)
def test_a_path_leads_to_one_kind_of_place(what: str, raw: bytes) -> None:
    assert read_device_path(ROOT + raw + END).leads_to() == what


BAD_PATHS = {
    "half-a-header": (b"\x04\x01\x2a", "device path node at byte 0x10: expected 4 bytes of header, got 3 bytes"),
    "shorter-than-its-header": (b"\x04\x01\x03\x00", "device path node length at byte 0x12: expected 4 to 4, got 3"),
    "longer-than-what-is-left": (node(3, 5, b"\2\0") + b"\x04\x01\xff\x00", "device path node length at byte 0x18"),
    "endless": (node(3, 5, b"\2\0") * 500, "nodes, got more"),
}


@pytest.mark.parametrize(("raw", "message"), BAD_PATHS.values(), ids=BAD_PATHS)
def test_a_broken_path_says_where(raw: bytes, message: str) -> None:
    with pytest.raises(DecodeError) as caught:
        read_device_path(raw, at=16)
    assert message in str(caught.value)


TARGETS = {
    # entries in order, disks, outcome of the check
    "present": ([partition(ESP)], [disk(ESP, DATA)], "present"),
    "stale": ([partition(ESP)], [disk(DATA)], "stale"),
    "stale-then-present": ([partition(ESP), partition(DATA)], [disk(DATA)], "present"),
    "no-entry-for-a-disk": ([node(3, 11, bytes(33))], [disk(DATA)], "none"),
    "whole-disk-only": ([node(3, 18, struct.pack("<HHH", 0, 0xFFFF, 0))], [disk(DATA)], None),
    "no-disk-read": ([partition(ESP)], [], None),
    "disk-without-a-table": ([partition(ESP)], [bytes(34 * 512)], "stale"),
}


@pytest.mark.parametrize(("paths", "disks", "target"), TARGETS.values(), ids=TARGETS)
def test_entries_are_held_against_the_disks_of_the_capture(
    paths: list[bytes], disks: list[bytes], target: str | None
) -> None:
    files = dict([variable(f"Boot{i:04X}", load_option(f"entry {i}", p)) for i, p in enumerate(paths)])
    files |= dict([variable("BootOrder", struct.pack(f"<{len(paths)}H", *range(len(paths))))])
    files |= {f"sd{chr(97 + i)}/lba0-33.bin": d for i, d in enumerate(disks)}
    found = read_firmware(files)
    assert found is not None
    assert found.entry_target == target
    assert set(found.weights) == ({"entry-target"} if target else set())
    if target:
        assert max(found.weights["entry-target"], key=found.weights["entry-target"].__getitem__) == target
    assert any(f.id == "entry-stale" for f in found.findings) == (target == "stale" or len(paths) == 2)


def test_an_entry_outside_the_order_and_a_dangling_order_are_said() -> None:
    files = dict([variable("Boot0007", load_option("old", partition(ESP))), variable("BootOrder", b"\3\0")])
    found = read_firmware({**files, "sda/lba0-33.bin": disk(ESP)})
    assert found is not None
    assert [(e.number, e.place) for e in found.entries] == [(7, None)]
    assert {"order-dangles", "entry-none"} <= {f.id for f in found.findings}


def test_one_damaged_variable_leaves_the_others() -> None:
    files = dict(
        [
            variable("Boot0000", b"\1\0\0\0\xff\xff"),
            variable("SecureBoot", b"\1"),
            variable("Boot0001", load_option("good", partition(ESP))),
        ]
    )
    found = read_firmware(files)
    assert found is not None
    assert found.secure_boot is True
    assert [e.description for e in found.entries] == ["good"]
    assert "load option description at byte 0xa" in str(next(iter(found.broken.values())))
    assert read_document(files)["firmware"]["broken"]


VALUES = {
    "order": ("BootOrder", b"\1\0\0\0", [1, 0]),
    "timeout": ("Timeout", b"\5\0", 5),
    "language": ("PlatformLang", b"en-US\0", "en-US"),
    "unknown": ("SomethingElse", b"\1\2", b"\1\2"),
}


@pytest.mark.parametrize(("name", "data", "value"), VALUES.values(), ids=VALUES)
def test_values_by_their_kind(name: str, data: bytes, value: object) -> None:
    assert read_variable(f"{name}-{GLOBAL}", bytes(4) + data).value == value
    other = "04b37fe8-f6ae-480b-bdd5-37d98c5e89aa"
    assert read_variable(f"{name}-{other}", bytes(4) + data).value == data, (
        "another vendor's variable of that name is its own"
    )


BAD = {
    "no-attributes": (
        f"Timeout-{GLOBAL}",
        b"\0\0",
        "variable Timeout at byte 0x0: expected 4 bytes of attributes, got 2 bytes",
    ),
    "no-name": ("Timeout", bytes(6), "expected Name-GUID"),
    "odd-order": (f"BootOrder-{GLOBAL}", bytes(7), "BootOrder at byte 0x4: expected an even number"),
    "long-number": (f"SecureBoot-{GLOBAL}", bytes(9), "SecureBoot at byte 0x4: expected 1 bytes, got 5"),
    "node-too-long": (
        f"ConIn-{GLOBAL}",
        bytes(4) + struct.pack("<BBH", 1, 1, 60),
        "device path node length at byte 0x6",
    ),
}


@pytest.mark.parametrize(("name", "raw", "message"), BAD.values(), ids=BAD)
def test_a_bad_variable_says_what_and_where(name: str, raw: bytes, message: str) -> None:
    with pytest.raises(DecodeError, match=message):
        read_variable(name, raw)


def test_indications_are_worded() -> None:
    assert indications(0x21) == ["boot to firmware setup", "start OS recovery"]


def smbios_structure(kind: int, body: bytes, *texts: str) -> bytes:
    strings = b"".join(t.encode() + b"\0" for t in texts) or b"\0"
    return struct.pack("<BBH", kind, len(body) + 4, kind) + body + strings + b"\0"


def test_smbios_names_the_machine() -> None:
    table = smbios_structure(0, b"\1\2\0\0\3", "Ferrow", "F.21", "03/14/2024")
    table += smbios_structure(1, b"\1\2\0\3" + guid_bytes(DATA), "Ferrow", "Lathe-14", "FL14-7")
    table += smbios_structure(3, b"\1\x09\0\0", "Ferrow")
    memory = bytearray(0x1C)
    memory[8:10], memory[0x0C], memory[0x0E] = struct.pack("<H", 8192), 1, 26
    table += smbios_structure(17, bytes(memory), "Slot 1")
    found = read_smbios(table + smbios_structure(127, b""))
    assert (found.maker, found.product, found.serial, found.uuid) == ("Ferrow", "Lathe-14", "FL14-7", DATA)
    assert (found.firmware_version, found.firmware_date, found.chassis, found.form) == (
        "F.21",
        "03/14/2024",
        "laptop",
        "laptop",
    )
    assert (found.modules[0].slot, found.modules[0].size, found.modules[0].kind) == ("Slot 1", 8 << 30, "DDR4")
    assert not found.cut_off
    assert read_smbios(table[:-6]).cut_off


def test_a_partition_table_is_read_and_its_damage_told() -> None:
    found = read_gpt(sectors_of(disk(ESP, DATA)))
    assert [(p.number, p.guid, p.is_efi_system, p.name) for p in found.partitions] == [
        (1, ESP, True, "EFI"),
        (2, DATA, True, "EFI"),
    ]
    assert found.header_ok
    hurt = bytearray(disk(ESP))
    hurt[512 + 40] ^= 1
    assert not read_gpt(sectors_of(bytes(hurt))).header_ok
    assert read_gpt(sectors_of(disk(ESP)[:1536])).cut_off
    with pytest.raises(DecodeError, match="GPT signature at byte 0x200"):
        read_gpt(sectors_of(bytes(1024)))


@settings(max_examples=300, deadline=None)
@given(
    st.binary(max_size=120),
    st.sampled_from(["Boot0001", "BootOrder", "ConOut", "SecureBoot", "OsIndications", "Lang", "Other"]),
)
def test_any_bytes_give_a_value_or_one_located_error(raw: bytes, name: str) -> None:
    readers = (
        lambda: read_variable(f"{name}-{GLOBAL}", raw),
        lambda: read_device_path(raw),
        lambda: read_smbios(raw),
        lambda: read_entry_point(raw),
        lambda: read_gpt(sectors_of(bytes(512) + b"EFI PART" + raw.ljust(504, b"\0"))),
    )
    for read in readers:
        try:
            read()
        except DecodeError as error:
            assert str(error).count("\n") == 0


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 300), st.integers(0, 299), st.integers(0, 255))
def test_cut_and_flipped_entries_never_raise_anything_else(cut: int, at: int, value: int) -> None:
    good = bytearray(bytes(4) + load_option("Windows", ROOT, partition(ESP), LOADER))
    good[at % len(good)] = value
    found = read_firmware({f"efivars/Boot0000-{GLOBAL}": bytes(good[:cut])})
    assert found is not None
    assert len(found.entries) + len(found.broken) == 1


def test_a_real_machines_firmware_decodes_fully(bench_a: dict[str, bytes]) -> None:
    found = read_firmware(bench_a)
    assert found is not None
    assert found.broken == {}
    assert [e.place for e in found.entries] == list(range(10))
    assert (found.secure_boot, found.setup_mode, found.timeout) == (False, True, 0)
    assert found.smbios is not None
    assert (found.smbios.maker, found.smbios.product, found.smbios.serial) == ("Ferrow", "Lathe-14", "FL14-0042")
    assert found.entries[3].path == "PciRoot(0x0)/Pci(0x1F,0x2)/Sata(0x0,0xFFFF,0x0)"
    assert {v.name for v in found.variables.values() if isinstance(v.value, LoadOption)} == {
        *(f"Boot{i:04X}" for i in range(10)),
        "PlatformRecovery0000",
    }
