"""A page to be read, a block device, and what may go wrong with them."""

from .settings import SECTOR


class PageRead:
    """One page to read. `path` and `kind` as in docs/capture-format.md; `call` returns bytes or raises Refused. `span`:
    (first LBA, count, bytes of a sector) where it is a range of the medium that may be read sector by sector. `then`:
    bytes of this page, empty where there are none -> the pages that it announces. `runs`: what comes back are runs of
    sectors (`packed`), each a page of its own."""

    def __init__(self, path, kind, device, how, call, span=None, then=None, runs=False):
        self.path, self.kind, self.device, self.how, self.call, self.span = path, kind, device, how, call, span
        self.then, self.runs = then, runs


class Refused(Exception):
    """The drive or the system said no; the text is what it said."""


class NotThisOne(Refused):
    """It is not surely the drive, or not surely the wish of whoever stands here."""


class Untouched(Refused):
    """The drive was opened, and refused before its first byte was written."""


class Block:
    """A block device as the kernel lists it. `bus`: ata, nvme, usb, mmc, other. `facts`: sysfs as text, one per
    line."""

    def __init__(self, name, bus, facts, optical=False):
        self.name, self.bus, self.facts, self.optical = name, bus, facts, optical


def describe(block):
    """A block device's facts by name."""
    return dict(line.split("=", 1) for line in block.facts.splitlines() if "=" in line)


def geometry(block):
    """(bytes of a logical sector, how many there are or None), as the kernel says; it counts sizes in 512 whatever the
    sector."""
    told = describe(block)
    size, count = told.get("queue/logical_block_size", ""), told.get("size", "")
    sector = int(size) if size.isdigit() and int(size) in (512, 1024, 2048, 4096) else SECTOR
    return sector, int(count) * 512 // sector if count.isdigit() else None


class Gone(Exception):
    """The bench does not know this link any more, or asked for an end."""


class Away(Exception):
    """The bench does not answer, and nobody is to wait for it."""
