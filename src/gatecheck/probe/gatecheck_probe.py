#!/usr/bin/env python3
"""Gate Check probe: reads a machine that will not start, from a live Linux, as root. One file, nothing but Python 3.8+.

It only reads. It starts a drive's self-test if the bench orders one with the clearance for it; it never writes to a drive.

    sudo python3 gatecheck_probe.py --out /media/stick/machine.gcap         no network: everything into one file
    sudo python3 gatecheck_probe.py --server http://BENCH:8765 --secret S   linked to a ticket; the bench shows the command

Every page goes to a folder on this machine first (--spool), so a killed probe that is started again goes on where it was.
A page that fails is a recorded fact. A drive that hangs hangs a child of this program, never the program itself.

Sources: SG_IO and ATA PASS-THROUGH: T10 SAT-4, 12.2; commands: T13 ACS-4; NVMe admin commands: NVM Express 1.4, clause 5.
"""

import argparse
import base64
import ctypes
import fcntl
import hashlib
import hmac
import json
import mmap
import os
import pickle
import re
import select
import signal
import struct
import sys
import tempfile
import time
import urllib.error
import urllib.request
import zipfile

VERSION = "1"
PROTOCOL = 1
FORMAT = 1
# the bench fills these in when it hands the file out for one ticket
SERVER = ""
SECRET = ""

CALL_SECONDS = 10.0
HANGS_TO_GIVE_UP = 2
SECTOR = 512
START_SECTORS = END_SECTORS = 34
LARGEST_PAGE = 4 << 20
RETRY_SECONDS = 2.0
TRIES = 3  # of a sector that every start needs
MOST_FAILED = 8  # sectors of one range, then the rest of it is left: every failing read strains a failing drive
# what a kernel says of the medium: I/O error, no data, illegal bytes, remote I/O error; anything else is the way there
OF_THE_MEDIUM = re.compile(r"\[Errno (5|61|84|121)\]")
PULL_SECONDS = 2.0
# what an order must be cleared for: `system` touches no drive, `pages` are answered by the drive's firmware, `sectors` are read from the medium,
# `stress` works the whole drive
NEEDED = {"look": "system", "read": "pages", "self-test": "stress"}


# --- what a page is ------------------------------------------------------------------------------------------------


class Job:
    """One page to read. `path` and `kind` as in docs/capture-format.md; `call` returns bytes or raises Refused. `span`: (first LBA, count,
    bytes of a sector) where it is a range of the medium that may be read sector by sector."""

    def __init__(self, path, kind, device, how, call, span=None):
        self.path, self.kind, self.device, self.how, self.call, self.span = path, kind, device, how, call, span


class Refused(Exception):
    """The drive or the system said no; the text is what it said."""


class Block:
    """A block device as the kernel lists it. `bus`: ata, nvme, usb, other. `facts`: sysfs as text, one per line."""

    def __init__(self, name, bus, facts, optical=False):
        self.name, self.bus, self.facts, self.optical = name, bus, facts, optical


def geometry(block):
    """(bytes of a logical sector, how many there are or None), as the kernel says; it counts sizes in 512 whatever the sector."""
    told = dict(line.split("=", 1) for line in block.facts.splitlines() if "=" in line)
    size, count = told.get("queue/logical_block_size", ""), told.get("size", "")
    sector = int(size) if size.isdigit() and int(size) in (512, 1024, 2048, 4096) else SECTOR
    return sector, int(count) * 512 // sector if count.isdigit() else None


# --- this machine --------------------------------------------------------------------------------------------------

SG_IO, NONE, FROM_DEVICE = 0x2285, -1, -3
NVME_ADMIN = 0xC0484E41
ATA_16, ATA_12 = 0x85, 0xA1
NON_DATA, PIO_IN = 3, 4
CHECK_CONDITION = 2


class SgHeader(ctypes.Structure):
    _fields_ = [
        ("interface_id", ctypes.c_int), ("dxfer_direction", ctypes.c_int), ("cmd_len", ctypes.c_ubyte), ("mx_sb_len", ctypes.c_ubyte),
        ("iovec_count", ctypes.c_ushort), ("dxfer_len", ctypes.c_uint), ("dxferp", ctypes.c_void_p), ("cmdp", ctypes.c_void_p),
        ("sbp", ctypes.c_void_p), ("timeout", ctypes.c_uint), ("flags", ctypes.c_uint), ("pack_id", ctypes.c_int), ("usr_ptr", ctypes.c_void_p),
        ("status", ctypes.c_ubyte), ("masked_status", ctypes.c_ubyte), ("msg_status", ctypes.c_ubyte), ("sb_len_wr", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort), ("driver_status", ctypes.c_ushort), ("resid", ctypes.c_int), ("duration", ctypes.c_uint),
        ("info", ctypes.c_uint),
    ]  # fmt: skip


def sense_of(raw):
    """(key, additional code, qualifier) of fixed or descriptor sense data."""
    code = raw[0] & 0x7F if raw else 0
    if code in (0x72, 0x73) and len(raw) >= 4:
        return raw[1] & 0xF, raw[2], raw[3]
    if code in (0x70, 0x71) and len(raw) >= 14:
        return raw[2] & 0xF, raw[12], raw[13]
    return 0, 0, 0


def ata_command_16(protocol, command, features, count, lba, registers=False):
    """ATA PASS-THROUGH (16), SAT-4 12.2.2.3: the length in the count field; `registers` asks for them back (CK_COND).

    Not for data: kernels report a check condition then that looks like an error although the page is whole.
    """
    has_data = protocol == PIO_IN
    b = [ATA_16, protocol << 1 | (1 if lba > 0xFFFFFFF or count > 0xFF or command in (0x2F,) else 0), (0x0E if has_data else 0) | (0x20 if registers else 0)]
    b += [features >> 8 & 0xFF, features & 0xFF, count >> 8 & 0xFF, count & 0xFF]
    b += [lba >> 24 & 0xFF, lba & 0xFF, lba >> 32 & 0xFF, lba >> 8 & 0xFF, lba >> 40 & 0xFF, lba >> 16 & 0xFF, 0, command, 0]
    return bytes(b)


def ata_command_12(protocol, command, features, count, lba):
    """ATA PASS-THROUGH (12), SAT-4 12.2.2.2: 28-bit form."""
    b = [ATA_12, protocol << 1, 0x0E if protocol == PIO_IN else 0, features & 0xFF, count & 0xFF]
    return bytes(b + [lba & 0xFF, lba >> 8 & 0xFF, lba >> 16 & 0xFF, 0, command, 0, 0])


class Machine:
    """The machine this runs on, through the kernel. The practice bench has one with the same methods."""

    def blocks(self):
        """Every block device with its facts, partitions and loops left out."""
        found = []
        for name in sorted(os.listdir("/sys/block")) if os.path.isdir("/sys/block") else []:
            if re.match(r"(loop|ram|zram|dm-|md|fd|nbd)\d*|nvme\d+c\d+n", name):  # the last: one of several paths to a drive
                continue
            base = "/sys/block/" + name
            lines = []
            for fact in (
                "size", "removable", "ro", "queue/rotational", "queue/logical_block_size", "queue/physical_block_size",
                "device/model", "device/vendor", "device/rev", "device/serial", "device/transport", "device/wwid", "nsid",
            ):  # fmt: skip
                text = read_text(base + "/" + fact).strip()
                if text:
                    lines.append("%s=%s" % (fact, text))
            path = os.path.realpath(base)
            lines.append("path=" + path)
            bus = "usb" if re.search(r"/usb\d", path) else "nvme" if name.startswith("nvme") else "ata" if re.search(r"/ata\d", path) else "other"
            found.append(Block(name, bus, "\n".join(lines), optical=name.startswith("sr")))
        return found

    def scsi(self, device, command, length):
        """One SCSI command through SG_IO: (status, sense, data). Raises OSError."""
        data, sense, cmd = ctypes.create_string_buffer(max(length, 1)), ctypes.create_string_buffer(64), ctypes.create_string_buffer(command, len(command))
        header = SgHeader(
            interface_id=ord("S"), dxfer_direction=FROM_DEVICE if length else NONE, cmd_len=len(command), mx_sb_len=64, dxfer_len=length,
            dxferp=ctypes.addressof(data) if length else None, cmdp=ctypes.addressof(cmd), sbp=ctypes.addressof(sense),
            timeout=int(CALL_SECONDS * 800),
        )  # fmt: skip
        descriptor = os.open("/dev/" + device, os.O_RDONLY | os.O_NONBLOCK)
        try:
            fcntl.ioctl(descriptor, SG_IO, header)
        finally:
            os.close(descriptor)
        if header.host_status:
            raise Refused("the controller reports host status %02Xh" % header.host_status)
        return header.status, sense.raw[: header.sb_len_wr], data.raw[: length - max(0, header.resid)] if length else b""

    def nvme(self, device, opcode, namespace, words, length):
        """One NVMe admin command: (status, data); words: cdw10, cdw11, … Raises OSError."""
        data = ctypes.create_string_buffer(length) if length else None
        words = list(words) + [0] * (6 - len(words))
        command = bytearray(struct.pack(
            "<BBHIIIQQIIIIIIIIII", opcode, 0, 0, namespace, 0, 0, 0, ctypes.addressof(data) if data else 0, 0, length, *words,
            int(CALL_SECONDS * 800), 0,
        ))  # fmt: skip
        descriptor = os.open("/dev/" + device, os.O_RDONLY)
        try:
            status = fcntl.ioctl(descriptor, NVME_ADMIN, command)
        finally:
            os.close(descriptor)
        return status, data.raw if data else b""

    def read_sector(self, device, lba, size):
        """One sector, past the kernel's cache: it reads eight at once and would call all of them unreadable. Raises OSError."""
        buffer = mmap.mmap(-1, size)
        descriptor = os.open("/dev/" + device, os.O_RDONLY | os.O_DIRECT)
        try:
            got = os.preadv(descriptor, [buffer], lba * size)
        finally:
            os.close(descriptor)
        if got < size:
            raise OSError(5, "%d of %d bytes" % (got, size))
        return buffer[:size]

    def read_at(self, device, sector, count, size=SECTOR):
        """`count` sectors of `size` bytes from there; from the end where `sector` is negative. Raises OSError."""
        descriptor = os.open("/dev/" + device, os.O_RDONLY)
        try:
            end = os.lseek(descriptor, 0, os.SEEK_END)
            start = sector * size if sector >= 0 else max(0, end + sector * size)
            data = b""
            while len(data) < count * size:  # the kernel hands out what stands before an unreadable place, then the error
                part = os.pread(descriptor, count * size - len(data), start + len(data))
                if not part:
                    break
                data += part
            return data
        finally:
            os.close(descriptor)

    def files(self):
        """Path in the capture -> where it stands here: UEFI variables, SMBIOS, the kernel's command line."""
        found = {}
        folder = "/sys/firmware/efi/efivars"
        for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else []:
            found["efivars/" + name] = folder + "/" + name
        for name in ("DMI", "smbios_entry_point"):
            found["dmi/" + name] = "/sys/firmware/dmi/tables/" + name
        found["cmdline.txt"] = "/proc/cmdline"
        return {path: place for path, place in found.items() if os.path.exists(place)}

    def read_file(self, place):
        with open(place, "rb") as file:
            return file.read(LARGEST_PAGE)

    def kernel_messages(self):
        """The kernel's lines about drives."""
        buffer = ctypes.create_string_buffer(1 << 20)
        size = ctypes.CDLL(None, use_errno=True).klogctl(3, buffer, len(buffer))
        if size < 0:
            raise OSError(ctypes.get_errno(), "the kernel's messages may not be read")
        wanted = re.compile(rb"\bata\d|nvme|\bsd[a-z]\b|\bsr\d|scsi|usb-storage|I/O error|ahci|EXT4-fs error|blk_", re.I)
        return b"\n".join(line for line in buffer.raw[:size].split(b"\n") if wanted.search(line))

    def facts(self):
        """What this machine calls itself."""
        dmi = "/sys/class/dmi/id/"
        facts = {name: read_text(dmi + name).strip() for name in ("sys_vendor", "product_name", "product_serial", "bios_version", "bios_date")}
        facts["mode"] = "uefi" if os.path.isdir("/sys/firmware/efi") else "legacy"
        facts["kernel"] = os.uname().release
        return {name: text for name, text in facts.items() if text}

    def sleep(self, seconds):
        time.sleep(seconds)


def read_text(place):
    try:
        with open(place, "rb") as file:
            return file.read(65536).decode("utf-8", "replace")
    except OSError:
        return ""


# --- which pages ---------------------------------------------------------------------------------------------------


def ata_page(machine, device, command, features=0, count=1, lba=0):
    """One PIO-in page; 16-byte form first, the 12-byte one where the bridge knows only that."""
    length = count * SECTOR
    status, sense, data = machine.scsi(device, ata_command_16(PIO_IN, command, features, count, lba), length)
    key, code, qualifier = sense_of(sense)
    if status == CHECK_CONDITION and key == 5 and lba <= 0xFFFFFFF and count <= 0xFF and command != 0x2F:
        status, sense, data = machine.scsi(device, ata_command_12(PIO_IN, command, features, count, lba), length)
        key, code, qualifier = sense_of(sense)
    if status not in (0, CHECK_CONDITION):
        raise Refused("SCSI status %02Xh" % status)
    if key not in (0, 1):
        raise Refused("sense %X/%02X/%02X" % (key, code, qualifier))
    if len(data) < length:
        raise Refused("%d of %d bytes" % (len(data), length))
    return data


def smart_status(machine, device):
    """Sense data of SMART RETURN STATUS: the answer is in the registers it carries."""
    return machine.scsi(device, ata_command_16(NON_DATA, 0xB0, 0xDA, 0, 0xC24F00, registers=True), 0)[1] or b"\0" * 8


def nvme_page(machine, device, opcode, namespace, words, length):
    status, data = machine.nvme(device, opcode, namespace, words, length)
    if status:
        raise Refused("NVMe status %04Xh" % status)
    return data


def log_words(log, length):
    dwords = length // 4 - 1
    return [log | (dwords & 0xFFFF) << 16, dwords >> 16]


def smart_jobs(machine, name):
    """SMART pages and logs of an ATA drive, or of whatever stands behind a bridge."""
    def ata(path, kind, how, *arguments):
        return Job(name + "/" + path, kind, name, how, lambda: ata_page(machine, name, *arguments))

    return [
        ata("identify.bin", "ata-identify", "ATA ECh", 0xEC),
        ata("smart-data.bin", "smart-data", "ATA B0h/D0h", 0xB0, 0xD0, 1, 0xC24F00),
        ata("smart-thresh.bin", "smart-thresholds", "ATA B0h/D1h", 0xB0, 0xD1, 1, 0xC24F00),
        Job(name + "/smart-status.bin", "smart-status", name, "ATA B0h/DAh", lambda: smart_status(machine, name)),
        ata("smart-log-dir.bin", "log-directory", "ATA B0h/D5h log 00h", 0xB0, 0xD5, 1, 0xC24F00),
        ata("smart-log-01.bin", "ata-errors", "ATA B0h/D5h log 01h", 0xB0, 0xD5, 1, 0xC24F01),
        ata("smart-log-06.bin", "ata-self-tests", "ATA B0h/D5h log 06h", 0xB0, 0xD5, 1, 0xC24F06),
        ata("gp-log-03.bin", "ata-errors-ext", "ATA 2Fh log 03h", 0x2F, 0, 1, 0x03),
        Job(name + "/gp-log-04.bin", "device-statistics", name, "ATA 2Fh log 04h", lambda: statistics_pages(machine, name)),
        ata("gp-log-07.bin", "ata-self-tests-ext", "ATA 2Fh log 07h", 0x2F, 0, 1, 0x07),
    ]  # fmt: skip


def statistics_pages(machine, name):
    """The list of statistics pages, then each page that it names."""
    first = ata_page(machine, name, 0x2F, 0, 1, 0x04)
    numbers = [n for n in first[9 : 9 + first[8]] if 0 < n < 8]
    return first + b"".join(ata_page(machine, name, 0x2F, 0, 1, 0x04 | n << 8) for n in numbers)


def nvme_jobs(machine, controller, namespaces=()):
    """`namespaces`: numbers of those that the kernel has made a device of; a controller's only one need not be number 1."""
    def page(path, kind, how, opcode, namespace, words, length):
        return Job(controller + "/" + path, kind, controller, how, lambda: nvme_page(machine, controller, opcode, namespace, words, length))

    every = 0xFFFFFFFF
    return [
        page("id-ctrl.bin", "nvme-controller", "Identify, CNS 01h", 6, 0, [1], 4096),
        page("ns-list.bin", "nvme-namespaces", "Identify, CNS 02h", 6, 0, [2], 4096),
    ] + [
        page("id-ns.bin" if place == 0 else "id-ns-%d.bin" % number, "nvme-namespace", "Identify, CNS 00h, namespace %d" % number, 6, number, [0], 4096)
        for place, number in enumerate(sorted(namespaces) or [1])
    ] + [
        page("log-02.bin", "nvme-health", "Get Log Page 02h", 2, every, log_words(2, 512), 512),
        page("log-01.bin", "nvme-errors", "Get Log Page 01h", 2, every, log_words(1, 256), 256),
        page("log-03.bin", "nvme-firmware", "Get Log Page 03h", 2, every, log_words(3, 512), 512),
        page("log-06.bin", "nvme-self-tests", "Get Log Page 06h", 2, every, log_words(6, 564), 564),
    ]  # fmt: skip


def system_jobs(machine):
    """What the machine says about itself, without touching a drive."""
    jobs = []
    for path, place in sorted(machine.files().items()):
        kind = "uefi-variable" if path.startswith("efivars/") else "smbios" if path.startswith("dmi/") else "text"
        jobs.append(Job(path, kind, "", place, lambda place=place: machine.read_file(place)))
    jobs.append(Job("dmesg.txt", "text", "", "kernel messages", machine.kernel_messages))
    blocks = machine.blocks()
    jobs.append(Job("block-devices.txt", "block-devices", "", "sysfs", lambda: "".join(b.name + "\n" for b in blocks).encode()))
    for block in blocks:
        jobs.append(Job("sysblock/%s.txt" % block.name, "text", block.name, "sysfs", lambda block=block: block.facts.encode()))
    return jobs


def namespaces_of(machine, controller):
    """Numbers of a controller's namespaces as the kernel tells them; empty where it does not."""
    blocks = [b for b in machine.blocks() if re.match(re.escape(controller) + r"n\d+$", b.name)]
    told = [line[5:] for b in blocks for line in b.facts.splitlines() if line.startswith("nsid=")]
    return sorted({int(text) for text in told if text.isdigit()})


def drive_jobs(machine, sectors):
    """Pages of every drive, one list a drive; `sectors`: first and last sectors too, which stresses the medium a little."""
    drives = {}  # type: dict[str, list[Job]]
    for block in machine.blocks():
        if block.optical or (block.bus == "other" and not re.match(r"sd[a-z]|vd[a-z]|mmcblk\d$", block.name)):
            continue
        name = re.sub(r"n\d+$", "", block.name) if block.bus == "nvme" else block.name
        jobs = drives.setdefault(name, [])
        if block.bus == "nvme":
            jobs += [] if jobs else nvme_jobs(machine, name, namespaces_of(machine, name))
        elif re.match(r"sd[a-z]", block.name):
            jobs += smart_jobs(machine, block.name)
        if sectors:
            size, total = geometry(block)
            for path, sector, count in (("lba0-33.bin", 0, START_SECTORS), ("lba-last-34.bin", -END_SECTORS, END_SECTORS)):
                first = sector if sector >= 0 else (total or 0) + sector
                jobs.append(Job(
                    "%s/%s" % (block.name, path), "first-sectors" if sector == 0 else "last-sectors", block.name, "plain read",
                    lambda device=block.name, sector=sector, count=count, size=size: machine.read_at(device, sector, count, size),
                    (first, count, size) if total and first >= 0 and first + count <= total else None,
                ))  # fmt: skip
    return {name: jobs for name, jobs in drives.items() if jobs}


def partition_jobs(machine, device, start, sector):
    """The first 8 sectors of every partition that the disk's first sectors name: what lives there, and whether it is locked."""
    firsts = []
    if start[sector : sector + 8] == b"EFI PART" and len(start) >= sector + 92:
        first_entry, count, size = struct.unpack_from("<QII", start, sector + 72)
        at = first_entry * sector
        for number in range(min(count, 128) if 128 <= size <= 4096 else 0):
            entry = start[at + number * size : at + number * size + 48]
            if len(entry) == 48 and any(entry[:16]):
                firsts.append((number + 1, struct.unpack_from("<Q", entry, 32)[0]))
    elif start[510:512] == b"\x55\xaa":
        for number in range(4):
            kind, first = struct.unpack_from("<4xB3xI", start, 446 + 16 * number)
            if kind not in (0, 0x05, 0x0F, 0x85, 0xEE):
                firsts.append((number + 1, first))
    return [
        Job(
            "%s/part%d-0-7.bin" % (device, number), "partition-start", device, "plain read",
            lambda first=first: machine.read_at(device, first, 8, sector),
        )
        for number, first in firsts[:16]
    ]  # fmt: skip


# --- calls that may hang -------------------------------------------------------------------------------------------


class Reader:
    """Runs calls in a child, so that one that never returns is left behind. A killed child may stay asleep in the
    kernel; nobody waits for it."""

    def __init__(self, seconds=CALL_SECONDS):
        self.seconds, self.left_behind = seconds, []

    def run(self, call):
        """(status, detail, bytes): status is ok, refused, failed or hung."""
        parent_end, child_end = os.pipe()
        child = os.fork()
        if child == 0:
            status = 1
            try:
                os.close(parent_end)
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                with os.fdopen(child_end, "wb") as out:
                    pickle.dump(self._answer(call), out, protocol=4)
                status = 0
            finally:
                os._exit(status)
        os.close(child_end)
        answer = self._wait(parent_end)
        os.close(parent_end)
        if answer is None:
            os.kill(child, signal.SIGKILL)
            self.left_behind.append(child)
            self._reap()
            return "hung", "no answer within %g s" % self.seconds, b""
        os.waitpid(child, 0)
        return answer if answer else ("failed", "the reading process died", b"")

    @staticmethod
    def _answer(call):
        try:
            return "ok", "", call()
        except Refused as error:
            return "refused", str(error), b""
        except Exception as error:
            return "failed", "%s: %s" % (type(error).__name__, error), b""

    def _wait(self, descriptor):
        """The child's answer; None where it did not come in time, () where the child died."""
        raw, until = b"", time.monotonic() + self.seconds
        while True:
            left = until - time.monotonic()
            if left <= 0 or not select.select([descriptor], [], [], left)[0]:
                return None
            part = os.read(descriptor, 1 << 16)
            if not part:
                break
            raw += part
        try:
            return pickle.loads(raw)
        except Exception:
            return ()

    def _reap(self):
        self.left_behind = [child for child in self.left_behind if os.waitpid(child, os.WNOHANG) == (0, 0)]


# --- what was read is kept here first ------------------------------------------------------------------------------


class Spool:
    """Pages on this machine, in the order they were read. Appending is atomic enough for a power cut: the page's bytes
    are there before its line is."""

    def __init__(self, folder):
        self.folder = folder
        os.makedirs(folder, mode=0o700, exist_ok=True)
        self.lines = []
        place = os.path.join(folder, "pages.jsonl")
        if os.path.exists(place):
            with open(place, encoding="utf-8") as file:
                for text in file:
                    try:
                        self.lines.append(json.loads(text))
                    except ValueError:
                        break  # the last line of a killed probe
        self._place = place
        with open(place, "w", encoding="utf-8") as file:
            file.writelines(json.dumps(line) + "\n" for line in self.lines)

    def add(self, job, order, status, detail, data):
        """Keep one page, or the fact that it could not be read; returns its line."""
        digest = hashlib.sha256(data).hexdigest() if status == "ok" else None
        line = {
            "seq": len(self.lines) + 1, "order": order, "path": job.path, "kind": job.kind, "device": job.device, "how": job.how,
            "status": status, "detail": detail, "size": len(data), "sha256": digest,
        }  # fmt: skip
        if digest:
            with open(os.path.join(self.folder, digest), "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
        with open(self._place, "a", encoding="utf-8") as file:
            file.write(json.dumps(line) + "\n")
            file.flush()
            os.fsync(file.fileno())
        self.lines.append(line)
        return line

    def data(self, line):
        if line["sha256"] is None:
            return b""
        with open(os.path.join(self.folder, line["sha256"]), "rb") as file:
            return file.read()

    def finish(self):
        """What is here was written out whole: the next start is another reading, of its own moment."""
        with open(os.path.join(self.folder, "finished"), "w"):
            pass

    def begin(self):
        """Start anew where the last reading was finished; go on with one that was not."""
        mark = os.path.join(self.folder, "finished")
        if os.path.exists(mark):
            self.lines = []
            os.remove(self._place)
            os.remove(mark)

    def newest(self, path):
        """The bytes last read of a page; empty where there are none."""
        return next((self.data(line) for line in reversed(self.lines) if line["path"] == path), b"")

    def done(self, order):
        """Paths that were read for this order already."""
        return {line["path"] for line in self.lines if line["order"] == order}

    def write_capture(self, place, facts):
        """Everything as one .gcap; a page read more than once is there as read last."""
        newest = {}
        for line in self.lines:
            newest[line["path"]] = line
        pages = [{k: line[k] for k in ("path", "kind", "device", "how", "status", "detail", "sha256")} for line in newest.values()]
        manifest = {"format": FORMAT, "probe": VERSION, "machine": facts, "pages": pages}
        unfinished = place + ".part"
        with zipfile.ZipFile(unfinished, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("manifest.json", json.dumps(manifest, indent=1))
            for line in newest.values():
                if line["sha256"]:
                    archive.writestr(line["path"], self.data(line))
        with open(unfinished, "rb") as file:  # a stick is pulled soon
            os.fsync(file.fileno())
        os.replace(unfinished, place)


# --- the link ------------------------------------------------------------------------------------------------------


class Gone(Exception):
    """The bench does not know this link any more, or asked for an end."""


class Link:
    """The conversation with the bench (docs/link-protocol.md): JSON over HTTP, the ticket's secret as bearer."""

    def __init__(self, server, secret, say):
        self.server, self.secret, self.say = server.rstrip("/"), secret, say
        self.session = ""

    def call(self, method, path, body=None, patient=True):
        """One request; waits for a bench that is away as long as it takes, unless told not to."""
        told = False
        while True:
            request = urllib.request.Request(self.server + "/api/link" + path, method=method)
            request.add_header("Authorization", "Bearer " + self.secret)
            raw = None
            if body is not None:
                raw = json.dumps(body).encode()
                request.add_header("Content-Type", "application/json")
            try:
                with urllib.request.urlopen(request, raw, timeout=20) as answer:
                    return json.loads(answer.read() or b"{}")
            except urllib.error.HTTPError as error:
                detail = self._detail(error)
                if error.code in (401, 404, 410):
                    raise Gone(detail) from None
                if error.code < 500:
                    raise Refused(detail) from None
            except (OSError, ValueError):
                pass
            if not patient:
                raise OSError("the bench does not answer")
            if not told:
                self.say("The bench does not answer. What is read is kept here and sent when it is back.")
                told = True
            time.sleep(RETRY_SECONDS)

    @staticmethod
    def _detail(error):
        try:
            return str(json.loads(error.read()).get("detail", error.reason))
        except Exception:
            return str(error.reason)

    def hello(self, facts, session, has):
        answer = self.call("POST", "/hello", {"protocol": PROTOCOL, "probe": VERSION, "machine": facts, "session": session, "has": has})
        self.session = answer["session"]
        return answer

    def send(self, line, data):
        """Push one page; the bench acknowledges pages in order and says where it stands where this is not the next one."""
        body = dict(line, session=self.session, data=base64.b64encode(data).decode())
        return self.call("POST", "/pages", body)["acknowledged"]

    def cleared(self, order):
        """Does the order carry the clearance it needs, made out for just this order with the ticket's secret?"""
        needed = NEEDED.get(order.get("order", ""), "")
        mark = (order.get("clearances") or {}).get(needed, "")
        wanted = clearance(self.secret, order.get("id"), order.get("order"), order.get("device") or "", needed)
        return bool(needed) and hmac.compare_digest(mark, wanted)

    def may_read_sectors(self, order):
        mark = (order.get("clearances") or {}).get("sectors", "")
        return hmac.compare_digest(mark, clearance(self.secret, order.get("id"), order.get("order"), order.get("device") or "", "sectors"))


def clearance(secret: str, order_id: str, order: str, device: str, what: str) -> str:
    """The mark of a clearance: HMAC-SHA-256 over the order it is for (docs/link-protocol.md)."""
    return hmac.new(secret.encode(), ("%s|%s|%s|%s" % (order_id, order, device, what)).encode(), hashlib.sha256).hexdigest()


# --- the work ------------------------------------------------------------------------------------------------------


class Probe:
    """Reads, keeps, sends. `machine` is this one, or one of the practice bench."""

    def __init__(self, machine, spool, link=None, say=print, reader=None):
        self.machine, self.spool, self.link, self.say = machine, spool, link, say
        self.reader = reader or Reader()
        self.acknowledged = 0

    def read(self, order, sectors=True, device=None, drives=True):
        """Every page of the machine, or of one drive. A drive that hangs twice is left alone."""
        done = self.spool.done(order)
        found = drive_jobs(self.machine, sectors) if drives else {}
        if device:
            found = {name: jobs for name, jobs in found.items() if name == device}
        groups = list(found.items())
        if not device:
            groups.insert(0, ("", system_jobs(self.machine)))
        total, count = sum(len(jobs) for _, jobs in groups), 0
        for _, jobs in groups:
            hangs = 0
            for job in jobs:
                count += 1
                if job.path in done:
                    if job.kind == "first-sectors":
                        jobs += partition_jobs(self.machine, job.device, self.spool.newest(job.path), job.span[2] if job.span else SECTOR)
                    continue
                if hangs >= HANGS_TO_GIVE_UP:
                    status, detail, data = "skipped", "the drive did not answer %d calls before" % hangs, b""
                else:
                    status, detail, data = self.reader.run(job.call)
                hangs = hangs + 1 if status == "hung" else hangs
                pieces = self.read_pieces(job, order) if job.span and status == "failed" else data  # first: a probe killed here reads them again
                self.spool.add(job, order, status, detail, data)
                if job.kind == "first-sectors" and pieces:
                    more = partition_jobs(self.machine, job.device, pieces, job.span[2] if job.span else SECTOR)
                    jobs += more
                    total += len(more)
                self.say("[%d/%d] %-28s %s" % (count, total, job.path, "%d bytes" % len(data) if status == "ok" else "%s: %s" % (status, detail)))
                if self.link:
                    self.push()
                    self.progress(order, count, total, job.path)
        return total

    def read_pieces(self, job, order):
        """A range of which not all can be read, sector by sector: a page for every run that could, a line for every sector that could not.
        Returns the range with zeros for those."""
        first, count, size = job.span
        read, hangs, failed = {}, 0, 0
        for lba in range(first, first + count):
            read[lba] = b""
            if hangs >= HANGS_TO_GIVE_UP or failed >= MOST_FAILED:
                continue
            for _ in range(TRIES if lba in (0, 1, first + count - 1) else 1):
                status, detail, data = self.reader.run(lambda lba=lba: self.machine.read_sector(job.device, lba, size))
                hangs += status == "hung"
                if status == "ok" or hangs >= HANGS_TO_GIVE_UP:
                    break
            if status == "ok":
                read[lba] = data
                continue
            if status == "failed" and not OF_THE_MEDIUM.search(detail):
                break  # the drive is gone, or cannot be asked so: that says nothing of its sectors
            failed += 1
            self.spool.add(Job("%s/lba%d.bin" % (job.device, lba), "sectors", job.device, "one sector", None), order, status, detail, b"")
        lba = first
        while lba < first + count:
            run = b""
            start = lba
            while lba < first + count and read.get(lba):
                run += read[lba]
                lba += 1
            if run:
                self.spool.add(Job("%s/lba%d-%d.bin" % (job.device, start, lba - 1), "sectors", job.device, "sector by sector", None), order, "ok", "", run)
            lba += 1
        return b"".join(read.get(lba) or bytes(size) for lba in range(first, first + count))

    def push(self):
        """Send every page that the bench has not acknowledged, in order."""
        while self.acknowledged < len(self.spool.lines):
            line = self.spool.lines[self.acknowledged]
            self.acknowledged = self.link.send(line, self.spool.data(line))

    def progress(self, order, done, of, text, left=None):
        self.link.call("POST", "/progress", {"session": self.link.session, "order": order, "done": done, "of": of, "text": text, "minutes_left": left})

    def self_test(self, order, device, kind):
        """Start the drive's own test, watch it, and read its logs again. Only with the clearance for it."""
        is_nvme = device.startswith("nvme")
        code = {"short": 1, "long": 2}[kind]
        if is_nvme:
            status = self.machine.nvme(device, 0x14, 0xFFFFFFFF, [code], 0)[0]
            if status:
                raise Refused("NVMe status %04Xh" % status)
        else:
            status, sense, _ = self.machine.scsi(device, ata_command_16(NON_DATA, 0xB0, 0xD4, 0, 0xC24F00 | code), 0)
            if sense_of(sense)[0] not in (0, 1):
                raise Refused("sense %X/%02X/%02X" % sense_of(sense))
        while True:
            self.machine.sleep(2)
            left, minutes = self._test_left(device, is_nvme, kind)
            if left is None:
                break
            self.say("self-test on %s: %d %% to go" % (device, left))
            if self.link:
                self.progress(order, 100 - left, 100, "%s self-test on %s" % (kind, device), minutes and round(minutes * left / 100, 1))
        self.read(order, sectors=False, device=device)

    def _test_left(self, device, is_nvme, kind):
        """(percent still to run, minutes the drive says such a test takes or None); (None, None) when it is over."""
        jobs = nvme_jobs(self.machine, device) if is_nvme else smart_jobs(self.machine, device)
        wanted = "nvme-self-tests" if is_nvme else "smart-data"
        status, _, data = self.reader.run(next(job.call for job in jobs if job.kind == wanted))
        if status != "ok":
            return None, None
        if is_nvme:
            return (100 - (data[1] & 0x7F), None) if data[0] & 0xF else (None, None)
        minutes = data[372] if kind == "short" else data[373] if data[373] != 0xFF else data[375] | data[376] << 8
        return ((data[363] & 0xF) * 10, minutes or None) if data[363] >> 4 == 0xF else (None, None)

    def work(self, order):
        """One order of the bench, with its result reported."""
        if not self.link.cleared(order):
            self.say("Order %s refused: it carries no clearance for %s." % (order.get("id"), NEEDED.get(order.get("order", ""), "anything")))
            return "refused", "no clearance for it"
        try:
            if order["order"] == "look":
                self.read(order["id"], drives=False)
            elif order["order"] == "read":
                self.read(order["id"], sectors=self.link.may_read_sectors(order), device=order.get("device"))
            else:
                self.self_test(order["id"], order["device"], order.get("kind") or "short")
        except (Refused, OSError) as error:
            return "failed", str(error)
        return "done", ""

    def linked(self, session):
        """Say hello, then work on orders until the bench ends it. Survives either side's death."""
        answer = self.link.hello(self.machine.facts(), session, len(self.spool.lines))
        self.acknowledged = min(answer.get("acknowledged", 0), len(self.spool.lines))
        self.say("Linked to ticket %s." % answer.get("ticket", "?"))
        self.push()
        while True:
            answer = self.link.call("GET", "/orders?session=" + self.link.session)
            for order in answer.get("orders", []):
                result, detail = self.work(order)
                self.push()
                self.link.call("POST", "/done", {"session": self.link.session, "order": order["id"], "result": result, "detail": detail})
                self.say("Order %s: %s%s" % (order["id"], result, ", " + detail if detail else ""))
            if not answer.get("orders"):
                self.machine.sleep(PULL_SECONDS)


def options(argv):
    parser = argparse.ArgumentParser(description="Reads a machine that will not start: its drives' pages, its firmware, its first sectors.")
    parser.add_argument("--server", default=SERVER, help="the bench's address, as the ticket shows it")
    parser.add_argument("--secret", default=SECRET, help="the ticket's secret")
    parser.add_argument("--out", metavar="FILE.gcap", help="write everything into this file, on a stick for example")
    parser.add_argument("--spool", metavar="DIR", help="where pages are kept until they are sent (default: under the temporary folder)")
    parser.add_argument("--no-sectors", action="store_true", help="leave the first and last sectors alone: nothing is read from the medium")
    parser.add_argument("--wait", type=float, default=CALL_SECONDS, metavar="SECONDS", help="how long one call may take")
    return parser.parse_args(argv)


def main(argv=None, machine=None, say=None):
    """Exit status: 0 done, 2 unusable options or not allowed."""
    chosen = options(argv)
    say = say or (lambda text: print(text, flush=True))
    if not chosen.server and not chosen.out:
        print("probe: expected --out FILE.gcap or --server with --secret, got neither", file=sys.stderr)
        return 2
    if machine is None and os.geteuid() != 0:
        print("probe: expected to run as root (sudo), got user %d; drives answer nobody else" % os.geteuid(), file=sys.stderr)
        return 2
    if chosen.out:
        try:
            with open(chosen.out + ".part", "wb"):
                pass
        except OSError as error:
            print("probe: --out %s: expected a file that can be written, got %s" % (chosen.out, error.strerror), file=sys.stderr)
            return 2
    machine = machine or Machine()
    facts = machine.facts()
    name = re.sub(r"\W+", "-", "%s-%s" % (chosen.secret or "offline", facts.get("product_serial", "") or facts.get("product_name", "machine")))
    spool = Spool(chosen.spool or os.path.join(tempfile.gettempdir(), "gatecheck-probe-" + name))
    reader = Reader(chosen.wait)
    if not chosen.server:
        spool.begin()
        probe = Probe(machine, spool, None, say, reader)
        probe.read("offline", sectors=not chosen.no_sectors)
        spool.write_capture(chosen.out, facts)
        spool.finish()
        say("Written: %s" % chosen.out)
        return 0
    link = Link(chosen.server, chosen.secret, say)
    probe = Probe(machine, spool, link, say, reader)
    session = hashlib.sha256((spool.folder + chosen.secret).encode()).hexdigest()[:16]
    try:
        probe.linked(session)
    except Gone as error:
        say("End of the link: %s" % error)
    except Refused as error:
        print("probe: the bench refuses this link: %s" % error, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        say("Stopped. Started again with the same command, it goes on from here.")
    if chosen.out:
        spool.write_capture(chosen.out, facts)
        say("Written: %s" % chosen.out)
    return 0


if __name__ == "__main__":
    sys.exit(main())
