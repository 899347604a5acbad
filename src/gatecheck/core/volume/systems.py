"""Installed systems on a volume, by the files that make one; and whether those that a start needs are present and
whole."""

from __future__ import annotations

import plistlib
import struct
from collections.abc import Callable, Iterator
from xml.parsers.expat import ExpatError

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.tree import DAMAGE, Filesystem, Hole, Node, System, VolumeFinding, whole_content

_LARGEST_KERNEL, _VERSION_MARK = 32 << 20, bytes.fromhex("bd04effe")
_MOST_TEXT = 1 << 16
_NEEDED = (  # (file, first bytes, smallest, missing is damage): what a start of Windows needs, Vista and later
    ("Windows/System32/ntoskrnl.exe", b"MZ", 100_000),
    ("Windows/System32/config/SYSTEM", b"regf", 4096),
    ("Windows/System32/config/SOFTWARE", b"regf", 4096),
    ("Windows/System32/hal.dll", b"MZ", 1000),
    ("Windows/System32/ntdll.dll", b"MZ", 10_000),
)
_LOADERS = ("Windows/System32/winload.efi", "Windows/System32/winload.exe")
_OLD = (("ntldr", b"", 10_000), ("NTDETECT.COM", b"", 10_000), ("boot.ini", b"", 10))
_MAC_VERSION = "System/Library/CoreServices/SystemVersion.plist"
_NAMES = (
    (22000, "Windows 11"),
    (10240, "Windows 10"),
    (9600, "Windows 8.1"),
    (9200, "Windows 8"),
    (7600, "Windows 7"),
    (6000, "Windows Vista"),
    (2600, "Windows XP"),
    (2195, "Windows 2000"),
)


def systems_of(volume: Filesystem, add: Callable[[VolumeFinding], None]) -> Iterator[System]:
    folder = volume.find("Windows/System32") or volume.find("WINNT/System32")
    if folder is not None and folder.is_folder and any(volume.find(name) for name, _, _ in _NEEDED):
        yield _windows(volume, add)
    release = volume.find("etc/os-release") or volume.find("usr/lib/os-release")
    if release is not None:
        yield _linux(volume, release)
    told = volume.find(_MAC_VERSION)
    if told is not None and not told.is_folder:
        yield _macos(volume, told)


def _windows(volume: Filesystem, add: Callable[[VolumeFinding], None]) -> System:
    """Damage is only said of an installation: one of which at least its kernel or its registry is there."""
    present = [name for name, _, _ in _NEEDED if volume.find(name) is not None]
    if len(present) >= 2:
        for name, head, smallest in _NEEDED:
            _judge(volume, name, head, smallest, add)
        if not any(volume.find(name) for name in _LOADERS) and not volume.find("ntldr"):
            add(VolumeFinding("system-file-missing", DAMAGE, _LOADERS[0]))
    version = _version(volume)
    build = int(version.split(".")[2]) if version.count(".") >= 2 else 0
    return System(next((name for least, name in _NAMES if build >= least), "Windows"), version, "Windows")


def _judge(volume: Filesystem, name: str, head: bytes, smallest: int, add: Callable[[VolumeFinding], None]) -> None:
    node = volume.find(name)
    if node is None:
        add(VolumeFinding("system-file-missing", DAMAGE, name))
        return
    if node.size < smallest:
        add(VolumeFinding("system-file-small", DAMAGE, name, values={"size": node.size}))
        return
    first = next(iter(volume.content(node)), b"")
    if isinstance(first, Hole):
        add(VolumeFinding("system-file-unread", DAMAGE, name))
    elif head and first[: len(head)] != head:
        add(VolumeFinding("system-file-broken", DAMAGE, name))


def _version(volume: Filesystem) -> str:
    """Of the kernel's VS_FIXEDFILEINFO: major.minor.build.revision; empty where it is not found."""
    node = volume.find("Windows/System32/ntoskrnl.exe")
    if node is None:
        return ""
    try:
        raw = whole_content(volume, node, _LARGEST_KERNEL)
    except DecodeError:
        return ""
    at = raw.find(_VERSION_MARK)
    if at < 0 or at + 24 > len(raw):
        return ""
    low, high = struct.unpack_from("<II", raw, at + 16)
    return f"{low >> 16}.{low & 0xFFFF}.{high >> 16}.{high & 0xFFFF}"


def _macos(volume: Filesystem, told: Node) -> System:
    values: dict[str, object] = {}
    try:
        found = plistlib.loads(whole_content(volume, told, _MOST_TEXT))
        values = found if isinstance(found, dict) else {}
    except (DecodeError, ValueError, ExpatError):
        pass  # there is one, and it does not say which
    return System(str(values.get("ProductName", "macOS")), str(values.get("ProductVersion", "")), "/")


def _linux(volume: Filesystem, release: Node) -> System:
    node = volume.find(release.link.lstrip("/").removeprefix("../")) if release.link else release
    values: dict[str, str] = {}
    if node is not None:
        try:
            for line in whole_content(volume, node, _MOST_TEXT).decode("utf-8", "replace").splitlines():
                name, _, value = line.partition("=")
                values[name.strip()] = value.strip().strip("\"'")
        except DecodeError:
            pass
    return System(values.get("NAME", "Linux"), values.get("VERSION_ID", ""), "/")
