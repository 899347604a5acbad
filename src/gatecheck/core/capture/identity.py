"""Who a drive is, by what it tells of itself: what an order that writes is bound to. A kernel's name says where it
stands today."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from gatecheck.core.capture.drive import Drive, block_of
from gatecheck.core.capture.read import Capture

_WORLD_WIDE = re.compile(r"[0-9a-f]{16}|[0-9a-f]{32}")


@dataclass(frozen=True, slots=True)
class Identity:
    """`wwn`: world wide name or EUI-64; `size`: bytes of the disk that is meant, as the kernel counts it, None where it
    does not."""

    serial: str
    wwn: str
    model: str
    size: int | None

    @property
    def name(self) -> str:
        """What the drive is named by: its serial number, else its world wide name; empty where it tells neither."""
        return self.serial or self.wwn

    def is_same(self, other: Identity) -> bool:
        """Do the two tell one serial number, or one world wide name? Nothing is the same as nothing."""
        return same_serial(self.serial, other.serial) or _same_world_wide_name(self.wwn, other.wwn)

    def is_named(self, name: object) -> bool:
        """Does it go by this serial number or world wide name?"""
        return same_serial(self.serial, name) or _same_world_wide_name(self.wwn, str(name or ""))

    def order_body(self) -> dict[str, Any]:
        """What an order carries of it."""
        told = {"serial": self.serial, "wwn": self.wwn, "model": self.model, "size": self.size}
        return {"drive": self.name, "identity": {name: value for name, value in told.items() if value}}


def identity_of(capture: Capture, drive: Drive, disk: str = "") -> Identity:
    """Who a drive of a capture is. `disk`: which of its disks is meant, where a controller has several."""
    own: Mapping[str, object] = drive.identity or {}
    block = capture.blocks.get(disk) or block_of(drive.device, capture.blocks)
    told = _bare(block.told.get("wwid") or block.told.get("device/wwid") or "") if block else ""
    wwn = _bare(str(own.get("wwn") or "")) or (told if _WORLD_WIDE.fullmatch(told) else "")
    return Identity(
        _valid_serial(own.get("serial")),
        wwn if wwn.strip("0") else "",
        str(own.get("model") or ""),
        block.size if block else None,
    )


def drives_with(capture: Capture, wanted: Identity) -> Sequence[Drive]:
    """The drives of a capture that say they are this one."""
    return [drive for drive in capture.drives if identity_of(capture, drive).is_same(wanted)]


def same_serial(one: object, other: object) -> bool:
    """Two ways of writing one serial number? Nothing, and nothing but zeros, is the same as nothing."""
    plain = _plain(str(one or ""))
    return bool(plain.strip("0")) and plain == _plain(str(other or ""))


def _valid_serial(serial: object) -> str:
    """A serial number that is one: nothing but zeros is none."""
    text = str(serial or "").strip()
    return text if _plain(text).strip("0") else ""


def _bare(name: str) -> str:
    return re.sub(r"^(naa|eui|uuid|0x)\.?", "", re.sub(r"[\s\0]+", "", name).lower())


def _same_world_wide_name(one: str, other: str) -> bool:
    return same_serial(_bare(one), _bare(other))


def _plain(text: str) -> str:
    return "".join(c for c in text.upper() if c.isalnum())
