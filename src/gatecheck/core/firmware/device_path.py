"""Device paths to text, as the UEFI specification writes them (2.10, chapter 10: nodes in 10.3, text in 10.6.1).

A node that is not known keeps its numbers and bytes as `Path(type,subtype,bytes)`, which the specification provides.
"""

from __future__ import annotations

import contextlib
import ipaddress
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.guid import guid_text

HARDWARE, ACPI, MESSAGING, MEDIA, BBS, END = 1, 2, 3, 4, 5, 0x7F
END_ALL, END_INSTANCE = 0xFF, 0x01
_MOST_NODES = 64

_ACPI_NAMES = {
    0x0A03: "PciRoot",
    0x0A08: "PcieRoot",
    0x0604: "Floppy",
    0x0301: "Keyboard",
    0x0501: "Serial",
    0x0401: "ParallelPort",
}
_PNP = 0x41D0
_TERMINALS = {
    "E0C14753-F9BE-11D2-9A0C-0090273FC14D": "VenPcAnsi()", "DFA66065-B419-11D3-9A2D-0090273FC14D": "VenVt100()",
    "7BAEC70B-57E0-4C76-8E87-2F9E28088343": "VenVt100Plus()", "AD15A0D6-8BEC-4ACF-A073-D01DE77E2D88": "VenUtf8()",
}  # fmt: skip
_PARITY = "DNEOMS"
_STOP_BITS = {0: "D", 1: "1", 2: "1.5", 3: "2"}
_BBS_TYPES = {1: "Floppy", 2: "HD", 3: "CDROM", 4: "PCMCIA", 5: "USB", 6: "Network"}


@dataclass(frozen=True, slots=True)
class PathNode:
    """One node. `text` as the specification writes it; `guid` of the partition where the node is a GPT partition."""

    type: int
    subtype: int
    data: bytes
    text: str
    guid: str | None = None


@dataclass(frozen=True, slots=True)
class DevicePath:
    nodes: tuple[PathNode, ...]

    @property
    def text(self) -> str:
        return "/".join("," if n.type == END else n.text for n in self.nodes).replace("/,/", ",")

    @property
    def partition_guid(self) -> str | None:
        """GUID of the GPT partition it leads through, if any."""
        return next((n.guid for n in self.nodes if n.guid), None)

    @property
    def file(self) -> str | None:
        """The file it ends at, if any."""
        return next((n.text for n in reversed(self.nodes) if (n.type, n.subtype) == (MEDIA, 4)), None)

    def leads_to(self) -> str:
        """What it leads to in a word: partition, disk, usb, optical, network, firmware or other."""
        kinds = {(n.type, n.subtype) for n in self.nodes}
        for what, wanted in _LEADS:
            if kinds & wanted:
                return what
        return "other"


_LEADS: tuple[tuple[str, set[tuple[int, int]]], ...] = (
    ("partition", {(MEDIA, 1)}),
    ("optical", {(MEDIA, 2)}),
    ("network", {(MESSAGING, 11), (MESSAGING, 12), (MESSAGING, 13), (MESSAGING, 24)}),
    ("usb", {(MESSAGING, 5), (MESSAGING, 15), (MESSAGING, 16)}),
    (
        "disk",
        {
            (MESSAGING, 1),
            (MESSAGING, 2),
            (MESSAGING, 17),
            (MESSAGING, 18),
            (MESSAGING, 23),
            (MESSAGING, 26),
            (MESSAGING, 29),
        },
    ),
    ("firmware", {(MEDIA, 6), (MEDIA, 7)}),
)


def read_device_path(raw: bytes, at: int = 0) -> DevicePath:
    """Nodes up to the end of the path (or of the bytes). `at` is where `raw` stands in its page, for messages.

    Raises DecodeError where a node is shorter than its header or longer than what is left.
    """
    nodes: list[PathNode] = []
    place = 0
    while place < len(raw):
        if len(raw) - place < 4:
            raise DecodeError(
                "device path node", at=at + place, expected="4 bytes of header", got=f"{len(raw) - place} bytes"
            )
        kind, subtype, length = struct.unpack_from("<BBH", raw, place)
        if length < 4 or place + length > len(raw):
            raise DecodeError(
                "device path node length", at=at + place + 2, expected=f"4 to {len(raw) - place}", got=length
            )
        if kind == END and subtype == END_ALL:
            return DevicePath(tuple(nodes))
        if len(nodes) >= _MOST_NODES:
            raise DecodeError("device path", at=at + place, expected=f"at most {_MOST_NODES} nodes", got="more")
        data = raw[place + 4 : place + length]
        nodes.append(_node(kind, subtype, data))
        place += length
    return DevicePath(tuple(nodes))


def _node(kind: int, subtype: int, data: bytes) -> PathNode:
    writer = _WRITERS.get((kind, subtype))
    text = f"Path({kind},{subtype},{data.hex().upper()})"
    if writer:
        # shorter than its kind asks for: the bytes stand for themselves
        with contextlib.suppress(struct.error, IndexError, ValueError, DecodeError):
            text = writer(data)
    guid = None
    if (kind, subtype) == (MEDIA, 1) and len(data) >= 38 and data[37] == 2:
        guid = guid_text(data[20:36])
    return PathNode(kind, subtype, data, text, guid)


def _pci(d: bytes) -> str:
    return f"Pci(0x{d[1]:X},0x{d[0]:X})"


def _acpi(d: bytes) -> str:
    hid, uid = struct.unpack_from("<II", d)
    name = _ACPI_NAMES.get(hid >> 16) if hid & 0xFFFF == _PNP else None
    return f"{name}(0x{uid:X})" if name else f"Acpi({_hid(hid)},0x{uid:X})"


def _hid(hid: int) -> str:
    if hid & 0xFFFF == _PNP:
        return f"PNP{hid >> 16:04X}"
    return f"0x{hid:08X}"


def _acpi_extended(d: bytes) -> str:
    hid, uid, cid = struct.unpack_from("<III", d)
    texts = d[12:].split(b"\0")
    hid_text, uid_text, cid_text = ((t.decode("ascii", "replace")) for t in (*texts, b"", b"", b"")[:3])
    return f"AcpiEx({hid_text or _hid(hid)},{cid_text or _hid(cid)},{uid_text or f'0x{uid:X}'})"


def _acpi_address(d: bytes) -> str:
    count = len(d) // 4
    return "AcpiAdr(" + ",".join(f"0x{v:X}" for v in struct.unpack_from(f"<{count}I", d)) + ")"


def _vendor(name: str) -> Callable[[bytes], str]:
    def write(d: bytes) -> str:
        guid = guid_text(d[:16])
        if name == "VenMsg" and guid in _TERMINALS:
            return _TERMINALS[guid]
        return f"{name}({guid}{',' + d[16:].hex().upper() if len(d) > 16 else ''})"

    return write


def _ata(d: bytes) -> str:
    lun = struct.unpack_from("<H", d, 2)[0]
    return f"Ata({'Secondary' if d[0] else 'Primary'},{'Slave' if d[1] else 'Master'},0x{lun:X})"


def _numbers(name: str, form: str) -> Callable[[bytes], str]:
    return lambda d: f"{name}(" + ",".join(f"0x{v:X}" for v in struct.unpack_from(form, d)) + ")"


def _mac(d: bytes) -> str:
    kind = d[32]
    length = 6 if kind in (0, 1) else 32
    return f"MAC({d[:length].hex().upper()},0x{kind:X})"


_PROTOCOLS = {6: "TCP", 17: "UDP"}


def _ipv4(d: bytes) -> str:
    local, remote = ipaddress.IPv4Address(d[0:4]), ipaddress.IPv4Address(d[4:8])
    protocol, static = struct.unpack_from("<H?", d, 12)
    text = f"IPv4({remote},{_PROTOCOLS.get(protocol, f'0x{protocol:X}')},{'Static' if static else 'DHCP'},{local}"
    if len(d) >= 23:
        text += f",{ipaddress.IPv4Address(d[15:19])},{ipaddress.IPv4Address(d[19:23])}"
    return text + ")"


def _ipv6(d: bytes) -> str:
    local, remote = ipaddress.IPv6Address(d[0:16]), ipaddress.IPv6Address(d[16:32])
    protocol, origin = struct.unpack_from("<HB", d, 36)
    origins = {0: "Static", 1: "StatelessAutoConfigure", 2: "StatefulAutoConfigure"}
    how = f"{_PROTOCOLS.get(protocol, f'0x{protocol:X}')},{origins.get(origin, f'0x{origin:X}')}"
    text = f"IPv6({remote.exploded.upper()},{how},{local.exploded.upper()}"
    if len(d) >= 56:
        text += f",0x{d[39]:X},{ipaddress.IPv6Address(d[40:56]).exploded.upper()}"
    return text + ")"


def _uart(d: bytes) -> str:
    baud, bits, parity, stop = struct.unpack_from("<QBBB", d, 4)
    letter = _PARITY[parity] if parity < len(_PARITY) else "x"
    return f"Uart({baud or 'DEFAULT'},{bits or 'DEFAULT'},{letter},{_STOP_BITS.get(stop, 'x')})"


def _usb_wwid(d: bytes) -> str:
    interface, vendor, product = struct.unpack_from("<HHH", d)
    return (
        f'UsbWwid(0x{vendor:X},0x{product:X},0x{interface:X},"{d[6:].decode("utf-16-le", "replace").rstrip(chr(0))}")'
    )


def _nvme(d: bytes) -> str:
    (namespace,) = struct.unpack_from("<I", d)
    return f"NVMe(0x{namespace:X},{'-'.join(f'{b:02X}' for b in reversed(d[4:12]))})"


def _hard_drive(d: bytes) -> str:
    number, start, size = struct.unpack_from("<IQQ", d)
    layout, signature = d[36], d[37]
    if signature == 2:
        name, mark = "GPT", guid_text(d[20:36])
    elif signature == 1:
        name, mark = "MBR", f"0x{struct.unpack_from('<I', d, 20)[0]:08X}"
    else:
        name, mark = {1: "MBR", 2: "GPT"}.get(layout, f"0x{layout:X}"), "0"
    return f"HD({number},{name},{mark},0x{start:X},0x{size:X})"


def _file(d: bytes) -> str:
    return d.decode("utf-16-le", "replace").split("\0")[0]


def _bbs(d: bytes) -> str:
    kind, flags = struct.unpack_from("<HH", d)
    name = d[4:].split(b"\0")[0].decode("ascii", "replace")
    return f"BBS({_BBS_TYPES.get(kind, f'0x{kind:X}')},{name},0x{flags:X})"


_WRITERS: Mapping[tuple[int, int], Callable[[bytes], str]] = {
    (HARDWARE, 1): _pci,
    (HARDWARE, 2): _numbers("PcCard", "<B"),
    (HARDWARE, 3): _numbers("MemoryMapped", "<IQQ"),
    (HARDWARE, 4): _vendor("VenHw"),
    (HARDWARE, 5): _numbers("Ctrl", "<I"),
    (HARDWARE, 6): _numbers("BMC", "<BQ"),
    (ACPI, 1): _acpi,
    (ACPI, 2): _acpi_extended,
    (ACPI, 3): _acpi_address,
    (MESSAGING, 1): _ata,
    (MESSAGING, 2): _numbers("Scsi", "<HH"),
    (MESSAGING, 5): _numbers("USB", "<BB"),
    (MESSAGING, 10): _vendor("VenMsg"),
    (MESSAGING, 11): _mac,
    (MESSAGING, 12): _ipv4,
    (MESSAGING, 13): _ipv6,
    (MESSAGING, 14): _uart,
    (MESSAGING, 15): _numbers("UsbClass", "<HHBBB"),
    (MESSAGING, 16): _usb_wwid,
    (MESSAGING, 17): _numbers("Unit", "<B"),
    (MESSAGING, 18): _numbers("Sata", "<HHH"),
    (MESSAGING, 20): lambda d: f"Vlan({struct.unpack_from('<H', d)[0]})",
    (MESSAGING, 23): _nvme,
    (MESSAGING, 24): lambda d: f"Uri({d.decode('ascii', 'replace')})",
    (MESSAGING, 26): _numbers("SD", "<B"),
    (MESSAGING, 29): _numbers("eMMC", "<B"),
    (MEDIA, 1): _hard_drive,
    (MEDIA, 2): _numbers("CDROM", "<IQQ"),
    (MEDIA, 3): _vendor("VenMedia"),
    (MEDIA, 4): _file,
    (MEDIA, 5): lambda d: f"Media({guid_text(d[:16])})",
    (MEDIA, 6): lambda d: f"FvFile({guid_text(d[:16])})",
    (MEDIA, 7): lambda d: f"Fv({guid_text(d[:16])})",
    (MEDIA, 8): lambda d: "Offset(0x{:X},0x{:X})".format(*struct.unpack_from("<QQ", d, 4)),
    (BBS, 1): _bbs,
}
