"""What a reader of a FAT volume or of an LVM volume group needs, read sector by sector and handed on as it stands."""

import contextlib
import re
import struct

from .base import Refused

MOST_WALKED = 2 << 20  # bytes of a system partition or a volume group's description


class Walked:
    """Reads sectors and remembers them, so that what was looked at can be handed on as it stands. At most `most`
    bytes."""

    def __init__(self, read, sector, most):
        self.read_sectors, self.sector, self.most, self.seen = read, sector, most, {}

    def read(self, lba, count):
        wanted = [n for n in range(lba, lba + count) if n not in self.seen]
        if (len(self.seen) + len(wanted)) * self.sector > self.most:
            raise Refused("more than %d bytes to read" % self.most)
        if wanted:
            data = self.read_sectors(wanted[0], wanted[-1] - wanted[0] + 1)
            for n in range(wanted[0], wanted[-1] + 1):
                self.seen[n] = data[(n - wanted[0]) * self.sector : (n - wanted[0] + 1) * self.sector]
        return b"".join(self.seen[n] for n in range(lba, lba + count))

    def packed(self):
        """Runs of sectors one after another: first LBA (8 bytes), how many (4), their bytes."""
        out = b""
        run: list[int] = []
        for lba in sorted(self.seen) + [-1]:
            if run and lba != run[-1] + 1:
                out += struct.pack("<QI", run[0], len(run)) + b"".join(self.seen[n] for n in run)
                run = []
            run.append(lba)
        return out


def unpacked(raw, sector):
    """(first LBA, bytes) of each run."""
    at = 0
    while at + 12 <= len(raw):
        lba, count = struct.unpack_from("<QI", raw, at)
        yield lba, raw[at + 12 : at + 12 + count * sector]
        at += 12 + count * sector


def system_partition(read, first, sector):
    """What a reader of a FAT volume needs to list it and to see what its loaders are: boot sector, chains, directories,
    the first KiB of each .efi file. Microsoft, "FAT: General Overview of On-Disk Format", 1.03."""
    disk = Walked(read, sector, MOST_WALKED)
    boot = disk.read(first, 1)
    size, per_cluster, reserved, fats, roots = struct.unpack_from("<HBHBH", boot, 11)
    small, large = struct.unpack_from("<H", boot, 19)[0], struct.unpack_from("<I", boot, 32)[0]
    per_fat = struct.unpack_from("<H", boot, 22)[0] or struct.unpack_from("<I", boot, 36)[0]
    if size not in (512, 1024, 2048, 4096) or size % sector or not per_cluster or not fats or not per_fat:
        raise Refused("no FAT boot sector")
    step = size // sector
    root_sectors = (roots * 32 + size - 1) // size
    data_at = reserved + fats * per_fat + root_sectors
    clusters = ((small or large) - data_at) // per_cluster
    wide = 32 if clusters >= 65525 else 16 if clusters >= 4085 else 12

    def sectors(number, count):
        return disk.read(first + number * step, count * step)

    def following(cluster):
        at = cluster * wide // 8
        entry = sectors(reserved + at // size, 1)
        if at % size + 4 > size:
            entry += sectors(reserved + at // size + 1, 1)
        value = struct.unpack_from("<I", entry.ljust(at % size + 4, b"\0"), at % size)[0]
        return (
            value & 0x0FFFFFFF if wide == 32 else value & 0xFFFF if wide == 16 else value >> 4 * (cluster & 1) & 0xFFF
        )

    def chain(cluster):
        raw = b""
        seen: set[int] = set()
        while 2 <= cluster < clusters + 2 and cluster not in seen and len(seen) < 64:
            seen.add(cluster)
            raw += sectors(data_at + (cluster - 2) * per_cluster, per_cluster)
            cluster = following(cluster)
        return raw

    root = chain(struct.unpack_from("<I", boot, 44)[0]) if wide == 32 else sectors(data_at - root_sectors, root_sectors)
    waiting, files = [(root, 0)], 0
    known: set[int] = set()
    while waiting:
        raw, depth = waiting.pop(0)
        for at in range(0, len(raw) - 31, 32):
            entry = raw[at : at + 32]
            if entry[0] == 0:
                break
            if entry[0] in (0xE5, 0x2E) or entry[11] & 0x08:
                continue
            cluster = struct.unpack_from("<H", entry, 26)[0] | (
                struct.unpack_from("<H", entry, 20)[0] << 16 if wide == 32 else 0
            )
            if entry[11] & 0x10:
                if depth < 6 and cluster not in known and len(known) < 200:
                    known.add(cluster)
                    with contextlib.suppress(
                        OSError, Refused
                    ):  # a bad place, or more than is looked at: the rest is listed all the same
                        waiting.append((chain(cluster), depth + 1))
            elif entry[8:11] == b"EFI" and 2 <= cluster < clusters + 2 and files < 64:
                files += 1
                with contextlib.suppress(OSError, Refused):
                    sectors(data_at + (cluster - 2) * per_cluster, max(1, 1024 // size))
    return disk.packed()


def volume_group(read, first, sector):
    """The description of an LVM volume group that begins at `first`, and the first sectors of each volume whose start
    stands on this disk. Offsets count from there; lvm2, lib/format_text/layout.h."""
    disk = Walked(read, sector, MOST_WALKED)

    def at_byte(at, size):
        low, high = at // sector, (at + size + sector - 1) // sector
        return disk.read(first + low, high - low)[at - low * sector :][:size]

    head = at_byte(0, max(4 * 512, sector))
    label = next(at for at in range(0, 4 * 512, 512) if head[at : at + 8] == b"LABELONE")
    header = head[label + struct.unpack_from("<I", head, label + 20)[0] :]
    areas, at, lists = [], 40, 0
    while at + 16 <= len(header) and lists < 2:  # data areas, then areas of descriptions, each list ended by zeros
        offset, size = struct.unpack_from("<QQ", header, at)
        at += 16
        if not offset and not size:
            lists += 1
        elif lists == 1:
            areas.append((offset, size))
    text = ""
    for offset, size in areas:
        area = at_byte(offset, 512)
        place, length = struct.unpack_from("<QQ", area, 40)
        if area[4:20] == b" LVM2 x[5A%r0N*>" and 0 < length <= 1 << 18 and place < size:
            raw = at_byte(offset + place, min(length, size - place))
            text = (raw + (at_byte(offset + 512, length - len(raw)) if len(raw) < length else b"")).decode(
                "utf-8", "replace"
            )
            break
    extent = re.search(r"extent_size = (\d+)", text)
    starts = dict(re.findall(r"(pv\d+) \{[^}]*?pe_start = (\d+)", text))
    for device, place in re.findall(r"segment1 \{[^}]*?stripes = \[\s*\"(pv\d+)\", (\d+)", text)[:16]:
        if extent and device in starts and len(starts) == 1:
            at_byte((int(starts[device]) + int(place) * int(extent[1])) * 512, 8 * 512)
    return disk.packed()
