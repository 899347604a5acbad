"""Plain text pages of a capture: a block device's facts as the kernel tells them, and text that is kept as it is."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

_MOST_LINES, _LONGEST, _MOST_NAMES = 200, 400, 2000
_VIRTUAL = re.compile(r"(loop|ram|zram|dm-|md|nbd)\d*")
_EMPTY_READER = re.compile(r"(sr|fd)\d")


@dataclass(frozen=True, slots=True)
class BlockFacts:
    """What the kernel says of a block device: `told` by the names it has in sysfs."""

    told: Mapping[str, str]

    @property
    def path(self) -> str:
        return self.told.get("path", "")

    @property
    def is_usb(self) -> bool:
        return bool(re.search(r"/usb\d", self.path))

    @property
    def is_foreign(self) -> bool:
        """Neither ATA, NVMe nor USB: a SCSI disk, a RAID volume, a paravirtual one."""
        return bool(self.path) and not re.search(r"/(usb|ata)\d|/nvme", self.path)

    @property
    def is_virtual(self) -> bool:
        return "/virtual/" in self.path

    @property
    def sector(self) -> int | None:
        """Bytes of a logical sector."""
        return self._number("queue/logical_block_size")

    @property
    def size(self) -> int | None:
        """In bytes: the kernel counts in 512, whatever the sector."""
        count = self._number("size")
        return None if count is None else count * 512

    def _number(self, name: str) -> int | None:
        text = self.told.get(name, "")
        return int(text) if text.isdigit() and len(text) < 20 else None


@dataclass(frozen=True, slots=True)
class TextPage:
    """Text as it was read; what is no UTF-8 in it is replaced."""

    text: str

    @property
    def lines(self) -> list[str]:
        return self.text.splitlines()


def read_block_facts(data: bytes) -> BlockFacts:
    """`name=value`, one a line. Lines that are not so are left out."""
    told = {}
    for line in data.decode("utf-8", "replace").splitlines()[:_MOST_LINES]:
        name, equals, value = line.partition("=")
        if equals and name:
            told[name.strip()[:_LONGEST]] = value.strip()[:_LONGEST]
    return BlockFacts(told)


@dataclass(frozen=True, slots=True)
class BlockNames:
    """Every block device that the kernel lists; none is an answer too."""

    names: tuple[str, ...]


def read_block_names(data: bytes) -> BlockNames:
    """One name a line."""
    lines = data.decode("utf-8", "replace").splitlines()[:_MOST_NAMES]
    return BlockNames(tuple(line.strip()[:_LONGEST] for line in lines if line.strip()))


def read_text_page(data: bytes) -> TextPage:
    return TextPage(data.decode("utf-8", "replace"))


def is_a_drive(name: str) -> bool:
    """True for the kernel's name of something that holds data for good: no loop, no memory, no empty reader."""
    return not _VIRTUAL.match(name) and not _EMPTY_READER.match(name)
