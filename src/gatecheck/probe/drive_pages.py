"""Which pages are read of the machine, of each drive and of its partitions."""

import re
import struct

from .ata import ata_jobs
from .base import PageRead, describe, geometry
from .nvme import nvme_jobs
from .scsi import scsi_jobs
from .volumes import system_partition, volume_group

START_SECTORS = END_SECTORS = 34


def system_jobs(machine):
    """What the machine says about itself, without touching a drive."""
    jobs = []
    for path, place in sorted(machine.files().items()):
        kind = "uefi-variable" if path.startswith("efivars/") else "smbios" if path.startswith("dmi/") else "text"
        jobs.append(PageRead(path, kind, "", place, lambda place=place: machine.read_file(place)))
    for path, call in sorted(machine.told().items()):
        jobs.append(PageRead(path, path.split(".")[0], "", "sysfs", call))
    jobs.append(PageRead("dmesg.txt", "text", "", "kernel messages", machine.kernel_messages))
    blocks = machine.blocks()
    jobs.append(
        PageRead(
            "block-devices.txt", "block-devices", "", "sysfs", lambda: "".join(b.name + "\n" for b in blocks).encode()
        )
    )
    for block in blocks:
        jobs.append(
            PageRead(
                "sysblock/%s.txt" % block.name, "text", block.name, "sysfs", lambda block=block: block.facts.encode()
            )
        )
    return jobs


def drive_of(block):
    """The name that a block device's drive goes by: a controller's, where several namespaces are its."""
    return re.sub(r"n\d+$", "", block.name) if block.bus == "nvme" else block.name


def lone_controllers(machine):
    """NVMe controllers that show no block device: they may still say who they are."""
    shown = {drive_of(b) for b in machine.blocks() if b.bus == "nvme"}
    return [name for name in machine.nvme_controllers() if name not in shown]


def namespaces_of(machine, controller):
    """Numbers of a controller's namespaces as the kernel tells them; empty where it does not."""
    told = [describe(b).get("nsid", "") for b in machine.blocks() if b.bus == "nvme" and drive_of(b) == controller]
    return sorted({int(text) for text in told if text.isdigit()})


def disk_here(disk, device):
    """The disk of a drive by the name that the drive has now: a namespace keeps its number."""
    found = re.match(r"(nvme\d+)(n\d+)$", disk)
    return device + found[2] if found else device


def is_a_drive(block):
    """No empty reader, and no part of another one: a card's boot areas stand beside it as devices of their own."""
    return not block.optical and (
        block.bus in ("ata", "nvme", "usb") or bool(re.match(r"sd[a-z]+$|vd[a-z]+$|xvd[a-z]+$|mmcblk\d+$", block.name))
    )


def page_jobs(machine, block):
    """The drive's own pages, by what it may understand."""
    if block.bus == "nvme":
        return nvme_jobs(machine, drive_of(block), namespaces_of(machine, drive_of(block)))
    if not block.name.startswith("sd"):
        return []
    if block.bus == "ata":
        return ata_jobs(machine, block.name)
    driver = describe(block).get("host/proc_name", "")
    if (
        block.bus == "usb"
        # an old bridge may stop at a page that it does not know: only what every drive must answer, unless it speaks
        # UAS
    ):
        plain = scsi_jobs(machine, block.name)
        if driver != "uas":
            plain[0].then = None
        return plain + ata_jobs(machine, block.name)
    return scsi_jobs(machine, block.name)


def drive_jobs(machine, sectors):
    """Pages of every drive, one list a drive; `sectors`: first and last sectors too, which stresses the medium a
    little."""
    drives: dict[str, list[PageRead]] = {}
    for block in machine.blocks():
        if not is_a_drive(block):
            continue
        jobs = drives.setdefault(drive_of(block), [])
        if not jobs:
            jobs += page_jobs(machine, block)
        if sectors:
            jobs += sector_jobs(machine, block)
    for name in lone_controllers(machine):
        drives.setdefault(name, []).extend(nvme_jobs(machine, name))
    return {name: jobs for name, jobs in drives.items() if jobs}


def sector_jobs(machine, block):
    """First and last sectors of the medium."""
    size, total = geometry(block)
    jobs = []
    for path, sector, count in (("lba0-33.bin", 0, START_SECTORS), ("lba-last-34.bin", -END_SECTORS, END_SECTORS)):
        first = sector if sector >= 0 else (total or 0) + sector
        jobs.append(
            PageRead(
                "%s/%s" % (block.name, path),
                "first-sectors" if sector == 0 else "last-sectors",
                block.name,
                "plain read",
                lambda sector=sector, count=count: machine.read_at(block.name, sector, count, size),
                (first, count, size) if total and first >= 0 and first + count <= total else None,
                then=(lambda start: partition_jobs(machine, block.name, start, size)) if sector == 0 else None,
            )
        )
    return jobs


EFI_SYSTEM = bytes.fromhex("28732ac11ff8d211ba4b00a0c93ec93b")  # as it stands in a GPT entry


def partition_jobs(machine, device, start, sector):
    """The first 8 sectors of every partition that the disk's first sectors name: what lives there, and whether it is
    locked; and of a system partition what it lists."""
    found = []
    if start[sector : sector + 8] == b"EFI PART" and len(start) >= sector + 92:
        first_entry, count, size = struct.unpack_from("<QII", start, sector + 72)
        at = first_entry * sector
        for number in range(min(count, 128) if 128 <= size <= 4096 else 0):
            entry = start[at + number * size : at + number * size + 48]
            if len(entry) == 48 and any(entry[:16]):
                found.append((number + 1, struct.unpack_from("<Q", entry, 32)[0], entry[:16] == EFI_SYSTEM))
    elif start[510:512] == b"\x55\xaa":
        for number in range(4):
            kind, first = struct.unpack_from("<4xB3xI", start, 446 + 16 * number)
            if kind not in (0, 0x05, 0x0F, 0x85, 0xEE):
                found.append((number + 1, first, kind == 0xEF))

    def part(number, first, is_system):
        def then(data):
            if (is_system and data[sector - 2 : sector] == b"\x55\xaa") or (data[510:512] == b"\x55\xaa" and is_system):
                return [
                    PageRead(
                        "%s/listing-part%d.txt" % (device, number),
                        "sector-list",
                        device,
                        "directories and loaders of the system partition",
                        lambda: system_partition(
                            lambda lba, count: machine.read_at(device, lba, count, sector), first, sector
                        ),
                        runs=True,
                    )
                ]
            if b"LABELONE" in (data[at : at + 8] for at in range(0, min(len(data), 4 * 512), 512)):
                return [
                    PageRead(
                        "%s/group-part%d.txt" % (device, number),
                        "sector-list",
                        device,
                        "volume group's description, first sectors of its volumes",
                        lambda: volume_group(
                            lambda lba, count: machine.read_at(device, lba, count, sector), first, sector
                        ),
                        runs=True,
                    )
                ]
            return []

        return PageRead(
            "%s/part%d-0-7.bin" % (device, number),
            "partition-start",
            device,
            "plain read",
            lambda: machine.read_at(device, first, 8, sector),
            then=then,
        )

    return [part(*one) for one in found[:16]]
