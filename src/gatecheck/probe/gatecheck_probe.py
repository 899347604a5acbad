#!/usr/bin/env python3
"""Gate Check probe: reads a machine that will not start, from a live Linux, as root. One file, nothing but Python 3.8+.

It reads. It starts a drive's self-test, or reads its whole surface, if the bench orders that with the clearance for it.
It writes to a drive in one case only: a mending that the bench orders with a clearance for just these bytes, of a drive
that nothing uses, after reading that what is to go still stands there.

    sudo python3 gatecheck_probe.py --out /media/stick/machine.gcap         no network: everything into one file sudo
    python3 gatecheck_probe.py --server http://BENCH:8765 --secret S   linked to a ticket; the bench shows the command

Every page goes to a folder on this machine first (--spool), so a killed probe that is started again goes on where it
was. A page that fails is a recorded fact. A drive that hangs hangs a child of this program, never the program itself.

Sources: SG_IO and ATA PASS-THROUGH: T10 SAT-4, 12.2; commands: T13 ACS-4; NVMe admin commands: NVM Express 1.4, clause
5."""

import argparse
import base64
import bisect
import calendar
import collections
import contextlib
import ctypes
import fcntl
import hashlib
import hmac
import http.client
import json
import math
import mmap
import os
import pickle
import re
import select
import shutil
import signal
import socket
import ssl
import stat
import struct
import sys
import tempfile
import termios
import textwrap
import threading
import time
import tty
import typing
import urllib.error
import urllib.parse
import urllib.request
import zipfile
import zlib

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
MOST_LOG_PAGES = 16  # of 512 bytes, of one log
MOST_NAMESPACES = 16
LOG_BYTES = 4096  # of one SCSI log page
TELLING_LOGS = (0x02, 0x03, 0x05, 0x0D, 0x10, 0x11, 0x15, 0x2F)
MOST_WALKED = 2 << 20  # bytes of a system partition or a volume group's description
MOST_FAILED = 8  # sectors of one range, then the rest of it is left: every failing read strains a failing drive
# what a kernel says of the medium: I/O error, no data, illegal bytes, remote I/O error; anything else is the way there
MEDIUM = (5, 61, 84, 121)
OF_THE_MEDIUM = re.compile(r"\[Errno (%s)\]" % "|".join(map(str, MEDIUM)))
PULL_SECONDS = 2.0
# what an order must be cleared for: `system` touches no drive, `pages` are answered by the drive's firmware, `sectors`
# are read from the medium,
# `stress` works the whole drive, `write` changes named sectors of it
NEEDED = {
    "look": "system",
    "read": "pages",
    "self-test": "stress",
    "scan": "stress",
    "copy": "copy",
    "sectors": "sectors",
    "mend": "write",
    "entry": "write",
    "volume": "sectors",
    "rescue": "copy",
    "fill": "write",
}
WRITES = ("mend", "entry", "fill")  # orders that change something on this machine
KEY_SECONDS = 900.0  # how long a key at this machine is waited for
MOST_ROUNDS, MOST_RANGES = 200, 64  # of sectors that the bench asks for in one order, at a time
MOST_DEAD = 64  # sectors in a row that fail one by one: what follows is not halved any more until something reads again
# ranges of one turn of an order that fetches a volume's sectors; blocks that are read without a word in between
MOST_FETCHED, FETCHED_AT_ONCE = (8192, 64)
MOST_WRITTEN = 3 << 20  # bytes of one mending
# START STOP UNIT (SBC), which SATA's translation (SAT) carries out as STANDBY IMMEDIATE
STOP_UNIT = bytes([0x1B, 0, 0, 0, 0, 0])
FILL_STEP = 4 << 20  # bytes of a copy that are put on a drive at a time


# --- what a page is ------------------------------------------------------------------------------------------------


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


class Identity:
    """Who a drive is: `ids`, its serial number and world wide names as they are compared; `models`; `size` in bytes, 0
    where nobody told it."""

    def __init__(self, ids, models=(), size=0):
        self.ids, self.models, self.size = (
            {text for text in ids if text.strip("0")},
            {text for text in models if text},
            size,
        )

    @classmethod
    def of(cls, machine, block, through=None, size=0, run=None):
        """As the kernel tells it of a block device, and as the drive itself does. `through`: an open descriptor to ask
        it by, in place of its name. `run`: what a call to the drive is made by, that may hang; (status, detail,
        bytes)."""
        told = describe(block)
        ids = {
            plain(told.get(name, ""))
            for name in ("device/serial", "serial", "device/vpd_pg80", "device/wwid", "wwid", "device/cid")
        }
        models = {plain(told.get(name, "")) for name in ("device/model", "device/name")}
        count = told.get("size", "")
        asked = through if through is not None else drive_of(block)

        def answer(call):
            try:
                status, _, data = run(call) if run else ("ok", "", call())
            except (Refused, OSError):
                return b""
            return data if status == "ok" else b""

        if block.name.startswith("sd") and (block.bus in ("ata", "usb")):
            data = answer(lambda: ata_page(machine, asked, 0xEC))
            if len(data) == 512:
                ids.add(plain("".join(chr(data[at ^ 1]) for at in range(20, 40))))
                ids.add("".join("%02x" % data[at ^ 1] for at in range(216, 224)))
                models.add(plain("".join(chr(data[at ^ 1]) for at in range(54, 94))))
        elif block.bus == "nvme" and not ids - {""}:
            data = answer(lambda: nvme_page(machine, asked, 0x06, 0, [1], 4096))
            if len(data) == 4096:
                ids.add(plain(data[4:24].decode("latin-1")))
                models.add(plain(data[24:64].decode("latin-1")))
        return cls(ids, models, size or (int(count) * 512 if count.isdigit() else 0))

    def fits(self, order):
        """Is this the drive of that order? Why not, where it is not; empty where it is. What the drive does not tell is
        not held against it, but who it is it has to tell."""
        wanted = order.get("identity") or {}
        drive = plain(order.get("drive") or "")
        if not drive or drive not in self.ids:
            return "expected the drive %s, got %s" % (
                order.get("drive") or "with a serial number",
                "one that says %s" % " and ".join(sorted(self.ids)) if self.ids else "one that does not say who it is",
            )
        serial, wwn = plain(wanted.get("serial") or ""), plain(wanted.get("wwn") or "")
        said = " and ".join(sorted(self.ids))
        if serial.strip("0") and serial not in self.ids:
            return "expected the drive whose serial number is %s, got one that says %s" % (wanted["serial"], said)
        if (
            wwn.strip("0")
            and wwn not in self.ids
            and any(re.match(r"[0-9a-f]{16}$", text) and text != serial for text in self.ids)
        ):
            return "expected the drive whose world wide name is %s, got one that says %s" % (wanted["wwn"], said)
        model = plain(wanted.get("model") or "")
        if model and self.models and not any(model in text or text in model for text in self.models):
            return "expected a %s, got %s" % (wanted["model"], " or ".join(sorted(self.models)))
        size = wanted.get("size")
        if size and self.size and size != self.size:
            return "expected a drive of %d bytes, got one of %d" % (size, self.size)
        return ""


def safe_name(name):
    """A variable's name as a file of a capture may be called: anything else as its code. The page says where it stood,
    by its own name."""
    plain = re.sub(
        r"[^A-Za-z0-9_.-]",
        lambda found: "".join("+%02X" % byte for byte in found[0].encode("utf-8", "surrogateescape")),
        name,
    )
    if len(plain) > 120:
        plain = "%s+%s%s" % (
            plain[:60],
            hashlib.sha256(name.encode("utf-8", "surrogateescape")).hexdigest()[:12],
            plain[-37:],
        )
    return plain


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


# --- this machine --------------------------------------------------------------------------------------------------

SG_IO, NONE, FROM_DEVICE = 0x2285, -1, -3
BLKROSET, BLKROGET, BLKZEROOUT = 0x125D, 0x125E, 0x127F
FS_IOC_GETFLAGS, FS_IOC_SETFLAGS, FS_IMMUTABLE = 0x80086601, 0x40086602, 0x10
BOOT_VARIABLE = re.compile(r"Boot([0-9A-F]{4}|Order)-8be4df61-93ca-11d2-aa0d-00e098032b8c$")
NVME_ADMIN = 0xC0484E41
ATA_16, ATA_12 = 0x85, 0xA1
NON_DATA, PIO_IN = 3, 4
CHECK_CONDITION = 2


class SgHeader(ctypes.Structure):
    _fields_ = [
        ("interface_id", ctypes.c_int),
        ("dxfer_direction", ctypes.c_int),
        ("cmd_len", ctypes.c_ubyte),
        ("mx_sb_len", ctypes.c_ubyte),
        ("iovec_count", ctypes.c_ushort),
        ("dxfer_len", ctypes.c_uint),
        ("dxferp", ctypes.c_void_p),
        ("cmdp", ctypes.c_void_p),
        ("sbp", ctypes.c_void_p),
        ("timeout", ctypes.c_uint),
        ("flags", ctypes.c_uint),
        ("pack_id", ctypes.c_int),
        ("usr_ptr", ctypes.c_void_p),
        ("status", ctypes.c_ubyte),
        ("masked_status", ctypes.c_ubyte),
        ("msg_status", ctypes.c_ubyte),
        ("sb_len_wr", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort),
        ("driver_status", ctypes.c_ushort),
        ("resid", ctypes.c_int),
        ("duration", ctypes.c_uint),
        ("info", ctypes.c_uint),
    ]


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
    b = [
        ATA_16,
        protocol << 1 | (1 if lba > 0xFFFFFFF or count > 0xFF or command in (0x2F,) else 0),
        (0x0E if has_data else 0) | (0x20 if registers else 0),
    ]
    b += [features >> 8 & 0xFF, features & 0xFF, count >> 8 & 0xFF, count & 0xFF]
    b += [
        lba >> 24 & 0xFF,
        lba & 0xFF,
        lba >> 32 & 0xFF,
        lba >> 8 & 0xFF,
        lba >> 40 & 0xFF,
        lba >> 16 & 0xFF,
        0,
        command,
        0,
    ]
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
            if re.match(
                r"(loop|ram|zram|dm-|md|nbd)\d*|nvme\d+c\d+n", name
            ):  # the last: one of several paths to a drive
                continue
            base = "/sys/block/" + name
            lines = []
            for fact in BLOCK_FACTS:
                text = read_text(base + "/" + fact)
                # page 80h has a head
                text = re.sub(
                    r"[^\x20-\x7e].*", "", text[4:] if fact.endswith("vpd_pg80") else text, flags=re.S
                ).strip()
                if text:
                    lines.append("%s=%s" % (fact, text))
            path = os.path.realpath(base)
            lines.append("path=" + path)
            lines += self._host_facts(path)
            bus = (
                "usb"
                if re.search(r"/usb\d", path)
                else "nvme"
                if name.startswith("nvme")
                else "ata"
                if re.search(r"/ata\d", path)
                else "other"
            )
            bus = "mmc" if name.startswith("mmcblk") else bus
            found.append(Block(name, bus, "\n".join(lines), optical=bool(re.match(r"sr\d|fd\d", name))))
        return found

    @staticmethod
    def _host_facts(path):
        """What is known of the controller: its driver, a RAID volume's level, the health that a UFS host hands out."""
        lines = []
        host = re.search(r"^.*/host(\d+)/", path)
        if host:
            lines.append("host/proc_name=" + read_text("/sys/class/scsi_host/host%s/proc_name" % host[1]).strip())
        unit = re.search(r"/(\d+:\d+:\d+:\d+)/block/", path)
        level = read_text("/sys/class/raid_devices/%s/level" % unit[1]).strip() if unit else ""
        if level:
            lines.append("raid_devices/level=" + level)
        for descriptor in ("eol_info", "life_time_estimation_a", "life_time_estimation_b"):
            text = (
                read_text((host[0][: host.start(1) - 5] if host else "") + "/health_descriptor/" + descriptor).strip()
                if host
                else ""
            )
            if text:
                lines.append("ufs/%s=%s" % (descriptor, text))
        return lines

    def scsi(self, device, command, length):
        """One SCSI command through SG_IO, to a device by its name or by an open descriptor: (status, sense, data).
        Raises OSError."""
        data, sense, cmd = (
            ctypes.create_string_buffer(max(length, 1)),
            ctypes.create_string_buffer(64),
            ctypes.create_string_buffer(command, len(command)),
        )
        header = SgHeader(
            interface_id=ord("S"),
            dxfer_direction=FROM_DEVICE if length else NONE,
            cmd_len=len(command),
            mx_sb_len=64,
            dxfer_len=length,
            dxferp=ctypes.addressof(data) if length else None,
            cmdp=ctypes.addressof(cmd),
            sbp=ctypes.addressof(sense),
            timeout=int(CALL_SECONDS * 800),
        )
        if isinstance(device, int):
            fcntl.ioctl(device, SG_IO, header)
        else:
            descriptor = os.open("/dev/" + device, os.O_RDONLY | os.O_NONBLOCK)
            try:
                fcntl.ioctl(descriptor, SG_IO, header)
            finally:
                os.close(descriptor)
        if header.host_status:
            raise Refused("the controller reports host status %02Xh" % header.host_status)
        return (
            header.status,
            sense.raw[: header.sb_len_wr],
            data.raw[: length - max(0, header.resid)] if length else b"",
        )

    @staticmethod
    def is_free(device):
        """Nothing on this machine holds the drive, or a part of it."""
        try:
            os.close(os.open("/dev/" + device, os.O_RDONLY | os.O_NONBLOCK | os.O_EXCL))
        except OSError as error:
            return error.errno != 16
        return True

    def nvme(self, device, opcode, namespace, words, length):
        """One NVMe admin command, to a device by its name or by an open descriptor: (status, data); words: cdw10,
        cdw11, … Raises OSError."""
        data = ctypes.create_string_buffer(length) if length else None
        words = list(words) + [0] * (6 - len(words))
        command = bytearray(
            struct.pack(
                "<BBHIIIQQIIIIIIIIII",
                opcode,
                0,
                0,
                namespace,
                0,
                0,
                0,
                ctypes.addressof(data) if data else 0,
                0,
                length,
                *words,
                int(CALL_SECONDS * 800),
                0,
            )
        )
        if isinstance(device, int):
            return fcntl.ioctl(device, NVME_ADMIN, command), data.raw if data else b""
        descriptor = os.open("/dev/" + device, os.O_RDONLY)
        try:
            status = fcntl.ioctl(descriptor, NVME_ADMIN, command)
        finally:
            os.close(descriptor)
        return status, data.raw if data else b""

    def opened(self, descriptor):
        """Who stands behind an open descriptor now: what the drive and the kernel tell of it, asked through the
        descriptor and not by a name. Raises Refused where nothing stands there any more."""
        try:
            own = os.fstat(descriptor).st_rdev
            base = os.path.realpath("/sys/dev/block/%d:%d" % (os.major(own), os.minor(own)))
            size = os.lseek(descriptor, 0, os.SEEK_END)
        except OSError as error:
            raise NotThisOne("expected the drive that was opened, got one that is gone (%s)" % error.strerror) from None
        name = os.path.basename(base)
        block = next((b for b in self.blocks() if b.name == name), None)
        if block is None or not size:
            raise NotThisOne("expected the drive that was opened, got one that is gone")
        return Identity.of(self, block, descriptor, size)

    @staticmethod
    def gone(device, descriptor):
        """The drive behind an open descriptor is no longer on the bus: its size is nothing, another one has its name,
        or the kernel has given it up. A read that fails then says nothing of its sectors."""
        base = "/sys/class/block/%s/" % device
        try:
            opened = os.fstat(descriptor).st_rdev
            if stat.S_ISBLK(os.fstat(descriptor).st_mode) and not os.lseek(descriptor, 0, os.SEEK_END):
                return True
        except OSError:
            return True
        if not stat.S_ISBLK(os.fstat(descriptor).st_mode):
            return False
        if read_text(base + "dev").strip() != "%d:%d" % (os.major(opened), os.minor(opened)):
            return True
        return read_text(base + "device/state").strip() in (
            "cancel",
            "deleted",
            "offline",
            "transport-offline",
            "dead",
            "deleting",
            "deleting (no IO)",
        )

    def read_sector(self, device, lba, size):
        """One sector, past the kernel's cache: it reads eight at once and would call all of them unreadable. Raises
        OSError."""
        buffer = mmap.mmap(-1, size)
        descriptor = os.open("/dev/" + device, os.O_RDONLY | os.O_DIRECT)
        try:
            got = self._direct(device, descriptor, buffer, lba * size)
        finally:
            os.close(descriptor)
        if got < size:
            raise OSError(5, "%d of %d bytes" % (got, size))
        return buffer[:size]

    def block_reader(self, device, size, keep=False):
        """A call that reads (LBA, sectors) into a buffer past the kernel's cache. It raises OSError, and returns None:
        it is timed from outside."""
        descriptor = os.open("/dev/" + device, os.O_RDONLY | os.O_DIRECT)

        def read(lba, count, into):
            got = self._direct(device, descriptor, into, lba * size)
            if got < count * size:
                raise OSError(5, "%d of %d bytes" % (got, count * size))

        return read

    def _direct(self, device, descriptor, into, at):
        """How many bytes were read into the buffer. Raises OSError; one that says so where the drive is gone."""
        try:
            got = os.preadv(descriptor, [into], at)
        except OSError as error:
            if error.errno == 5 and self.gone(device, descriptor):
                raise OSError(19, "the drive is gone")
            raise
        if got == 0 and self.gone(device, descriptor):
            raise OSError(19, "the drive is gone")
        return got

    def read_at(self, device, sector, count, size=SECTOR):
        """`count` sectors of `size` bytes from there; from the end where `sector` is negative. Raises OSError."""
        descriptor = os.open("/dev/" + device, os.O_RDONLY)
        try:
            end = os.lseek(descriptor, 0, os.SEEK_END)
            start = sector * size if sector >= 0 else max(0, end + sector * size)
            data = b""
            while (
                len(data) < count * size
            ):  # the kernel hands out what stands before an unreadable place, then the error
                try:
                    part = os.pread(descriptor, count * size - len(data), start + len(data))
                except OSError as error:
                    if error.errno == 5 and self.gone(device, descriptor):
                        raise OSError(19, "the drive is gone")
                    raise
                if not part:
                    break
                data += part
            return data
        finally:
            os.close(descriptor)

    def rewrite(self, disk, writes, size, sure):
        """Put bytes on a disk that nothing else uses: (byte, what stands there, what is to stand there), whole sectors
        each. Every place is read first and has to hold either; then one after another is written, flushed, and read
        back past the cache. `sure`: is told who was opened before anything is read or written, and raises Refused where
        it is not the one. Raises Refused, OSError."""
        with self._alone(disk, os.O_SYNC) as descriptor:
            sure(self.opened(descriptor))
            return put_bytes(
                lambda at, length: self._read_direct(descriptor, at, length),
                lambda at, data: self._write_direct(descriptor, at, data),
                writes,
                size,
            )

    @contextlib.contextmanager
    def filled(self, disk):
        """A disk that nothing else uses, to be written whole: an object with who(), write(at, data), zero(at, length),
        read(at, length), is_zero(at, length), flush(); whole sectors each. Raises Refused, OSError."""
        with self._alone(disk, 0) as descriptor:
            yield Filled(descriptor, self._read_direct, lambda: self.opened(descriptor))

    @staticmethod
    def confirm(lines, going):
        """Somebody at this machine reads the lines and presses Y. False where another key was pressed, nobody did, or
        there is no keyboard and screen to ask at. `going`: is asked every second whether to go on waiting."""
        return ask_at_console(lines, going)

    @contextlib.contextmanager
    def _alone(self, disk, flags):
        """The disk open for writing past the cache, and by nobody else. It is as read-only afterwards as it was
        before."""
        try:
            descriptor = os.open("/dev/" + disk, os.O_RDWR | os.O_EXCL | os.O_DIRECT | flags)
        except OSError as error:
            if error.errno == 16:
                raise Refused(
                    (
                        "expected a disk that nothing uses, got one that is mounted, or held by something else; "
                        "nothing "
                        "was written"
                    )
                ) from None
            raise
        was_closed = ctypes.c_int(0)
        try:
            fcntl.ioctl(descriptor, BLKROGET, was_closed)
            if was_closed.value:
                fcntl.ioctl(descriptor, BLKROSET, ctypes.c_int(0))
            yield descriptor
        finally:
            with contextlib.suppress(OSError):
                if was_closed.value:
                    fcntl.ioctl(descriptor, BLKROSET, ctypes.c_int(1))
            os.close(descriptor)

    def variable(self, name):
        """A UEFI variable as the kernel has it, with its attributes; None where there is none."""
        try:
            with open("/sys/firmware/efi/efivars/" + name, "rb") as own:
                return own.read()
        except FileNotFoundError:
            return None

    def put_variable(self, name, data):
        """Write a UEFI variable, or take it away. Raises OSError."""
        place = "/sys/firmware/efi/efivars/" + name
        with contextlib.suppress(OSError):  # the kernel shields some against a slip
            descriptor = os.open(place, os.O_RDONLY)
            try:
                flags = ctypes.c_long(0)
                fcntl.ioctl(descriptor, FS_IOC_GETFLAGS, flags)
                fcntl.ioctl(descriptor, FS_IOC_SETFLAGS, ctypes.c_long(flags.value & ~FS_IMMUTABLE))
            finally:
                os.close(descriptor)
        if data is None:
            os.unlink(place)
            return
        descriptor = os.open(place, os.O_WRONLY | os.O_CREAT, 0o644)
        try:
            if os.write(descriptor, data) < len(data):  # in one piece: the kernel hands it to firmware as it comes
                raise OSError(5, "fewer than %d bytes written" % len(data))
        finally:
            os.close(descriptor)

    @staticmethod
    def _read_direct(descriptor, at, length):
        buffer = mmap.mmap(-1, length)
        if os.preadv(descriptor, [buffer], at) < length:
            raise OSError(5, "fewer than %d bytes" % length)
        return buffer[:length]

    @staticmethod
    def _write_direct(descriptor, at, data):
        buffer = mmap.mmap(-1, len(data))
        buffer[:] = data
        if os.pwritev(descriptor, [buffer], at) < len(data):
            raise OSError(5, "fewer than %d bytes written" % len(data))
        os.fsync(descriptor)

    def files(self):
        """Path in the capture -> where it stands here: UEFI variables, SMBIOS, the kernel's command line."""
        found = {}
        folder = "/sys/firmware/efi/efivars"
        for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else []:
            found["efivars/" + safe_name(name)] = folder + "/" + name
        for name in ("DMI", "smbios_entry_point"):
            found["dmi/" + name] = "/sys/firmware/dmi/tables/" + name
        found["cmdline.txt"] = "/proc/cmdline"
        return {path: place for path, place in found.items() if os.path.exists(place)}

    def told(self):
        """Path in the capture -> call: what the kernel knows of the machine, gathered into pages of text."""
        return {"machine.txt": self._state, "pci.txt": self._pci}

    @staticmethod
    def _state():
        """Firmware's tables by name, security chip, memory's error counts, mains and batteries, clock: `name=value` a
        line."""
        lines = []
        folder = "/sys/firmware/acpi/tables"
        tables = (
            sorted(re.sub(r"\d+$", "", name) for name in os.listdir(folder) if len(name) >= 4)
            if os.path.isdir(folder)
            else []
        )
        if tables:
            lines.append(
                "acpi/tables=" + " ".join(name for place, name in enumerate(tables) if name not in tables[:place])
            )
        for name in listed("/sys/class/tpm"):
            lines.append(
                "%s/version=%s" % (name, read_text("/sys/class/tpm/%s/tpm_version_major" % name).strip() or "1")
            )
        for name in listed("/sys/devices/system/edac/mc"):
            for count in ("ce_count", "ue_count"):
                text = read_text("/sys/devices/system/edac/mc/%s/%s" % (name, count)).strip()
                if text:
                    lines.append("edac/%s/%s=%s" % (name, count, text))
        for name in listed("/sys/class/power_supply"):
            for fact in (
                "type",
                "scope",
                "online",
                "present",
                "status",
                "capacity",
                "cycle_count",
                "energy_full",
                "energy_full_design",
                "charge_full",
                "charge_full_design",
            ):
                text = read_text("/sys/class/power_supply/%s/%s" % (name, fact)).strip()
                if text:
                    lines.append("power/%s/%s=%s" % (name, fact, text))
        clock = hardware_clock()
        if clock:
            lines.append("rtc=" + clock)
        return ("\n".join(lines) + "\n").encode()

    @staticmethod
    def _pci():
        """Every PCI function with class, identity and driver, one a line."""
        lines = []
        folder = "/sys/bus/pci/devices/"
        for name in listed(folder):
            facts = [
                "%s=%s" % (fact, read_text(folder + name + "/" + fact).strip()[2:])
                for fact in ("class", "vendor", "device", "subsystem_vendor", "subsystem_device")
            ]
            driver = (
                os.path.basename(os.path.realpath(folder + name + "/driver"))
                if os.path.exists(folder + name + "/driver")
                else ""
            )
            remapped = read_text(folder + name + "/remapped_nvme").strip()
            lines.append(
                " ".join(
                    [name]
                    + facts
                    + (["driver=" + driver] if driver else [])
                    + (["remapped_nvme=" + remapped] if remapped else [])
                )
            )
        return ("\n".join(lines) + "\n").encode()

    def read_file(self, place):
        with open(place, "rb") as file:
            return file.read(LARGEST_PAGE)

    def kernel_messages(self):
        """The kernel's lines about drives."""
        buffer = ctypes.create_string_buffer(1 << 20)
        size = ctypes.CDLL(None, use_errno=True).klogctl(3, buffer, len(buffer))
        if size < 0:
            raise OSError(ctypes.get_errno(), "the kernel's messages may not be read")
        wanted = re.compile(
            rb"\bata\d|nvme|\bsd[a-z]|\bvd[a-z]|\bsr\d|scsi|usb-storage|\buas\b|I/O error|medium "
            rb"error|ahci|blk_|mmc\d|mmcblk|GPT:"
            rb"|EXT4-fs|ntfs3|BTRFS|XFS|FAT-fs|AER:|PCIe Bus Error|mce:|machine check|Hardware Error|EDAC|Memory "
            rb"failure|system clock",
            re.I,
        )
        return b"\n".join(line for line in buffer.raw[:size].split(b"\n") if wanted.search(line))

    def facts(self):
        """What this machine calls itself."""
        dmi = "/sys/class/dmi/id/"
        facts = {
            name: read_text(dmi + name).strip()
            for name in ("sys_vendor", "product_name", "product_serial", "bios_version", "bios_date")
        }
        facts["mode"] = "uefi" if os.path.isdir("/sys/firmware/efi") else "legacy"
        facts["kernel"] = os.uname().release
        facts["machine"] = os.uname().machine
        facts["firmware_bits"] = read_text("/sys/firmware/efi/fw_platform_size").strip()
        facts["rtc"] = hardware_clock()
        return {name: text for name, text in facts.items() if text}

    def sleep(self, seconds):
        time.sleep(seconds)


BLOCK_FACTS = (
    "size",
    "removable",
    "ro",
    "queue/rotational",
    "queue/logical_block_size",
    "queue/physical_block_size",
    "device/model",
    "device/vendor",
    "device/rev",
    "device/serial",
    "device/transport",
    "device/wwid",
    "device/vpd_pg80",
    "device/raid_level",
    "nsid",
    "serial",
    "wwid",
    "device/type",
    "device/name",
    "device/cid",
    "device/fwrev",
    "device/manfid",
    "device/date",
    "device/life_time",
    "device/pre_eol_info",
    "hidden",
)


class Filled:
    """A disk that is being filled."""

    def __init__(self, descriptor, read, who):
        self.descriptor, self._read, self.who = descriptor, read, who

    def write(self, at, data):
        buffer = mmap.mmap(-1, len(data))
        buffer[:] = data
        if os.pwritev(self.descriptor, [buffer], at) < len(data):
            raise OSError(5, "fewer than %d bytes written" % len(data))

    def zero(self, at, length):
        fcntl.ioctl(self.descriptor, BLKZEROOUT, struct.pack("QQ", at, length))

    def read(self, at, length):
        return self._read(self.descriptor, at, length)

    def is_zero(self, at, length):
        zeros = bytes(FILL_STEP)
        parts = ((place, min(FILL_STEP, at + length - place)) for place in range(at, at + length, FILL_STEP))
        return all(self.read(place, part) == (zeros if part == FILL_STEP else bytes(part)) for place, part in parts)

    def flush(self):
        os.fsync(self.descriptor)


def put_bytes(
    read: "typing.Callable[[int, int], bytes]",
    write: "typing.Callable[[int, bytes], object]",
    writes: "list[tuple[int, bytes, bytes]]",
    size: int,
) -> "list[tuple[int, bytes]]":
    """The one way bytes get onto a drive. `read`(byte, length), `write`(byte, bytes). Returns what was read back of
    each place."""
    for at, before, after in writes:
        if at % size or len(after) % size:
            raise Untouched(
                "byte %d: expected whole sectors of %d bytes, got %d; nothing was written" % (at, size, len(after))
            )
        now = read(at, len(after))
        if now not in (before, after) and any(n not in (b, a) for n, b, a in zip(now, before, after, strict=False)):
            raise Untouched(
                "byte %d: expected what the bench has read there, got other bytes; nothing was written" % at
            )
    back = []
    for at, _, after in writes:
        if read(at, len(after)) != after:
            write(at, after)
        now = read(at, len(after))
        if now != after:
            raise Refused(
                "byte %d: expected to read back what was written, got other bytes; the bench knows what was there" % at
            )
        back.append((at, now))
    return back


def ask_at_console(lines, going):
    """Lines on this machine's own screen and one key from its own keyboard, Y: what stands in standard input came from
    elsewhere. False for any other key, and where there is neither."""
    consoles = _consoles()
    before = [(console, termios.tcgetattr(console)) for console in consoles]
    try:
        for console in consoles:
            tty.setcbreak(console, termios.TCSADRAIN)
            termios.tcflush(console, termios.TCIFLUSH)  # a key that was pressed before the question is no answer to it
            os.write(console, ("\r\n" + "\r\n".join(lines) + "\r\nY: yes. Any other key: no. ").encode())
        while consoles and going():
            for console in select.select(consoles, [], [], 1.0)[0]:
                key = os.read(console, 1)
                os.write(console, b"\r\n")
                return key in (b"y", b"Y")
        return False
    finally:
        for console, own in before:
            termios.tcsetattr(console, termios.TCSADRAIN, own)
            os.close(console)


def _consoles():
    """The terminal that this was started from; without one, the machine's console and its screen with its keyboard,
    which need not be the same."""
    found = []
    for place in ("/dev/tty", "/dev/console", "/dev/tty0"):
        try:
            console = os.open(place, os.O_RDWR | os.O_NOCTTY)
        except OSError:
            continue
        try:
            termios.tcgetattr(console)
        except termios.error:
            os.close(console)
            continue
        found.append(console)
        if place == "/dev/tty":
            break
    return found


def listed(folder):
    """What stands in a folder of sysfs; nothing where there is none."""
    return sorted(os.listdir(folder)) if os.path.isdir(folder) else []


def hardware_clock():
    """The hardware clock as it was before anything set it, moved on to now, as `YYYY-MM-DDTHH:MM:SS`; empty where there
    is none.

    The kernel says at its start what it read there; a live system may set the clock from the network soon after.
    """
    try:
        buffer = ctypes.create_string_buffer(1 << 20)
        size = ctypes.CDLL(None, use_errno=True).klogctl(3, buffer, len(buffer))
        said = re.search(
            rb"\[\s*(\d+)\.\d+\].*setting system clock to (\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)",
            buffer.raw[: max(0, size)],
        )
        if said:
            began = calendar.timegm(time.strptime((said[2] + b" " + said[3]).decode(), "%Y-%m-%d %H:%M:%S"))
            passed = float(read_text("/proc/uptime").split()[0]) - int(said[1])
            return time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(began + passed))
    except (OSError, ValueError, IndexError, OverflowError, AttributeError):
        pass
    day, moment = read_text("/sys/class/rtc/rtc0/date").strip(), read_text("/sys/class/rtc/rtc0/time").strip()
    return "%sT%s" % (day, moment) if day and moment else ""


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


# --- ATA: what is asked is what was announced, for a drive logs every command that it refuses ---


def ata_jobs(machine, name):
    """IDENTIFY DEVICE, and what it announces."""
    return [
        PageRead(
            name + "/identify.bin",
            "ata-identify",
            name,
            "ATA ECh",
            lambda: ata_page(machine, name, 0xEC),
            then=lambda identity: smart_jobs(machine, name, identity),
        )
    ]


def word_of(identity, number):
    return identity[2 * number] | identity[2 * number + 1] << 8


def smart_jobs(machine, name, identity):
    """SMART pages and logs that IDENTIFY DEVICE announces in words 82 to 87 (ACS-4, 7.13.6.40 ff.); none without it."""
    if len(identity) < 512 or not any(identity):
        return []

    def says(word, bit):
        value = word_of(identity, word)
        return value not in (0, 0xFFFF) and bool(value >> bit & 1)

    jobs = []
    if says(82, 0) and says(85, 0):
        jobs = [
            smart_data_job(
                machine,
                name,
                then=lambda data: logs_of_smart(
                    machine, name, data, says(84, 0) or says(87, 0), says(84, 1) or says(87, 1)
                ),
            ),
            ata_job(machine, name, "smart-thresh.bin", "smart-thresholds", "ATA B0h/D1h", 0xB0, 0xD1, 1, 0xC24F00),
            PageRead(
                name + "/smart-status.bin", "smart-status", name, "ATA B0h/DAh", lambda: smart_status(machine, name)
            ),
        ]
    if says(84, 5) or says(87, 5):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-00.bin",
                "log-directory",
                "ATA 2Fh log 00h",
                0x2F,
                0,
                1,
                0,
                then=lambda told: logs_of_directory(machine, name, told),
            )
        )
    return jobs


def ata_job(machine, name, path, kind, how, *arguments, then=None):
    return PageRead(name + "/" + path, kind, name, how, lambda: ata_page(machine, name, *arguments), then=then)


def smart_data_job(machine, name, then=None):
    return ata_job(machine, name, "smart-data.bin", "smart-data", "ATA B0h/D0h", 0xB0, 0xD0, 1, 0xC24F00, then=then)


def logs_of_smart(machine, name, data, has_errors, has_tests):
    """SMART logs 01h and 06h where IDENTIFY or SMART data (bytes 370 and 367, ACS-2 table 93) says that the drive keeps
    them."""
    jobs = []
    if has_errors or (data[370:371] and data[370] & 1):
        jobs.append(
            ata_job(machine, name, "smart-log-01.bin", "ata-errors", "ATA B0h/D5h log 01h", 0xB0, 0xD5, 1, 0xC24F01)
        )
    if has_tests or (data[367:368] and data[367] & 0x10):
        jobs.append(
            ata_job(machine, name, "smart-log-06.bin", "ata-self-tests", "ATA B0h/D5h log 06h", 0xB0, 0xD5, 1, 0xC24F06)
        )
    return jobs


def logs_of_directory(machine, name, told):
    """The general purpose logs that the directory lists (ACS-4, 9.2)."""
    pages = {number: told[2 * number] | told[2 * number + 1] << 8 for number in (3, 4, 7)} if len(told) == 512 else {}
    jobs = []
    if pages.get(3):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-03.bin",
                "ata-errors-ext",
                "ATA 2Fh log 03h",
                0x2F,
                0,
                min(pages[3], MOST_LOG_PAGES),
                0x03,
            )
        )
    if pages.get(4):
        jobs.append(
            PageRead(
                name + "/gp-log-04.bin",
                "device-statistics",
                name,
                "ATA 2Fh log 04h",
                lambda: statistics_pages(machine, name, pages[4]),
            )
        )
    if pages.get(7):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-07.bin",
                "ata-self-tests-ext",
                "ATA 2Fh log 07h",
                0x2F,
                0,
                min(pages[7], MOST_LOG_PAGES),
                0x07,
            )
        )
    return jobs


def statistics_pages(machine, name, count):
    """The list of statistics pages, then each page that it names."""
    first = ata_page(machine, name, 0x2F, 0, 1, 0x04)
    numbers = [n for n in first[9 : 9 + first[8]] if 0 < n < min(8, count)]
    return first + b"".join(ata_page(machine, name, 0x2F, 0, 1, 0x04 | n << 8) for n in numbers)


# --- NVMe ----------------------------------------------------------------------------------------------------------


def nvme_jobs(machine, controller, namespaces=()):
    """Identify Controller, and what it announces. `namespaces`: numbers of those that the kernel has made a device
    of."""

    def page(path, kind, how, opcode, namespace, words, length, then=None):
        return PageRead(
            controller + "/" + path,
            kind,
            controller,
            how,
            lambda: nvme_page(machine, controller, opcode, namespace, words, length),
            then=then,
        )

    def log(number, kind, length):
        return page(
            "log-%02X.bin" % number,
            kind,
            "Get Log Page %02Xh" % number,
            2,
            0xFFFFFFFF,
            log_words(number, length),
            length,
        )

    def identified(numbers):
        return [
            page(
                "id-ns.bin" if place == 0 else "id-ns-%d.bin" % number,
                "nvme-namespace",
                "Identify, CNS 00h, namespace %d" % number,
                6,
                number,
                [0],
                4096,
            )
            for place, number in enumerate(sorted(numbers)[:MOST_NAMESPACES])
        ]

    def named(told):
        numbers = [n for n in struct.unpack("<%dI" % (len(told) // 4), told) if n] if told else []
        return identified(numbers or namespaces or [1])

    def announced(controller_page):
        if len(controller_page) < 4096:
            return identified(namespaces or [1]) + [log(2, "nvme-health", 512)]
        version = struct.unpack_from("<I", controller_page, 80)[0]
        errors = 64 * min(controller_page[262] + 1, 64)
        lists = (
            [page("ns-list.bin", "nvme-namespaces", "Identify, CNS 02h", 6, 0, [2], 4096, then=named)]
            if version >= 0x10100
            else identified(namespaces or [1])
        )
        tests = [log(6, "nvme-self-tests", 564)] if controller_page[256] & 0x10 else []  # OACS, NVMe 1.4 figure 247
        return lists + [log(2, "nvme-health", 512), log(1, "nvme-errors", errors), log(3, "nvme-firmware", 512)] + tests

    return [page("id-ctrl.bin", "nvme-controller", "Identify, CNS 01h", 6, 0, [1], 4096, then=announced)]


def self_test_log_job(machine, controller):
    return PageRead(
        controller + "/log-06.bin",
        "nvme-self-tests",
        controller,
        "Get Log Page 06h",
        lambda: nvme_page(machine, controller, 2, 0xFFFFFFFF, log_words(6, 564), 564),
    )


# --- SCSI (SPC-4, SBC-3, SAT-4) ------------------------------------------------------------------------------------


def scsi_page(machine, device, command, length, least=4):
    """Data of one SCSI command that reads a page."""
    status, sense, data = machine.scsi(device, bytes(command), length)
    if status not in (0, CHECK_CONDITION):
        raise Refused("SCSI status %02Xh" % status)
    key, code, qualifier = sense_of(sense)
    if key not in (0, 1):
        raise Refused("sense %X/%02X/%02X" % (key, code, qualifier))
    if len(data) < least:
        raise Refused("%d of %d bytes" % (len(data), least))
    return data


def scsi_jobs(machine, name):
    """INQUIRY, and what it and the lists of vital product data and log pages announce."""

    def job(path, kind, how, command, length, then=None):
        return PageRead(
            name + "/" + path, kind, name, how, lambda: scsi_page(machine, name, command, length), then=then
        )

    def vital(page, length):
        return job(
            "vpd-%02x.bin" % page,
            "scsi-vpd-%02x" % page,
            "INQUIRY, page %02Xh" % page,
            [0x12, 1, page, length >> 8, length & 0xFF, 0],
            length,
        )

    def log(page, then=None):
        return job(
            "scsi-log-%02x.bin" % page,
            "scsi-log-%02x" % page,
            "LOG SENSE %02Xh" % page,
            [0x4D, 0, 0x40 | page, 0, 0, 0, 0, LOG_BYTES >> 8, LOG_BYTES & 0xFF, 0],
            LOG_BYTES,
            then,
        )

    def inquired(standard):
        if len(standard) < 36 or standard[0] & 0x1F not in (0x00, 0x0E, 0x14):  # direct access, simplified, zoned
            return []
        return [
            job(
                "vpd-00.bin",
                "scsi-vpd-00",
                "INQUIRY, page 00h",
                [0x12, 1, 0, 0, 252, 0],
                252,
                then=lambda told: vitals(told, standard[8:16] == b"ATA     "),
            ),
            job(
                "capacity.bin",
                "scsi-capacity",
                "READ CAPACITY (16)",
                [0x9E, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 32, 0, 0],
                32,
            ),
        ]

    def vitals(told, is_ata):
        pages = told[4 : 4 + (told[2] << 8 | told[3])] if len(told) >= 4 else b""
        jobs = [
            vital(page, length) for page, length in ((0x80, 252), (0x83, 1020), (0xB0, 64), (0xB1, 64)) if page in pages
        ]
        if is_ata or 0x89 in pages:  # SAT-4, 10.4.3: ATA information, so an ATA drive stands behind it
            return jobs + ata_jobs(machine, name)
        return jobs + [
            log(
                0,
                then=lambda listed: (
                    [log(page) for page in listed[4 : 4 + (listed[2] << 8 | listed[3])] if page in TELLING_LOGS]
                    if len(listed) >= 4
                    else []
                ),
            )
        ]

    return [job("inquiry.bin", "scsi-inquiry", "INQUIRY", [0x12, 0, 0, 0, 96, 0], 96, then=inquired)]


# --- every drive, and the machine itself ---------------------------------------------------------------------------


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
    drives = {}  # type: dict[str, list[PageRead]]
    for block in machine.blocks():
        if not is_a_drive(block):
            continue
        jobs = drives.setdefault(drive_of(block), [])
        if not jobs:
            jobs += page_jobs(machine, block)
        if sectors:
            jobs += sector_jobs(machine, block)
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


class Walked:
    """Reads sectors and remembers them, so that what was looked at can be handed on as it stands. At most `most`
    bytes."""

    def __init__(self, read, sector, most):
        self.read_sectors, self.sector, self.most, self.seen = read, sector, most, {}

    def read(self, lba, count):
        wanted = [n for n in range(lba, lba + count) if n not in self.seen]
        if (len(self.seen) + len(wanted)) * self.sector > self.most:
            raise Refused("more than %d bytes to look at" % self.most)
        if wanted:
            data = self.read_sectors(wanted[0], wanted[-1] - wanted[0] + 1)
            for n in range(wanted[0], wanted[-1] + 1):
                self.seen[n] = data[(n - wanted[0]) * self.sector : (n - wanted[0] + 1) * self.sector]
        return b"".join(self.seen[n] for n in range(lba, lba + count))

    def packed(self):
        """Runs of sectors one after another: first LBA (8 bytes), how many (4), their bytes."""
        out = b""
        run = []  # type: list[int]
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
        seen = set()  # type: set[int]
        while 2 <= cluster < clusters + 2 and cluster not in seen and len(seen) < 64:
            seen.add(cluster)
            raw += sectors(data_at + (cluster - 2) * per_cluster, per_cluster)
            cluster = following(cluster)
        return raw

    root = chain(struct.unpack_from("<I", boot, 44)[0]) if wide == 32 else sectors(data_at - root_sectors, root_sectors)
    waiting, files = [(root, 0)], 0
    known = set()  # type: set[int]
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
            "seq": len(self.lines) + 1,
            "order": order,
            "path": job.path,
            "kind": job.kind,
            "device": job.device,
            "how": job.how,
            "status": status,
            "detail": detail,
            "size": len(data),
            "sha256": digest,
        }
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
        pages = [
            {k: line[k] for k in ("path", "kind", "device", "how", "status", "detail", "sha256")}
            for line in newest.values()
        ]
        manifest = {"format": FORMAT, "probe": VERSION, "machine": facts, "pages": pages}
        unfinished = place + ".part"
        with zipfile.ZipFile(unfinished, "w") as archive:
            self._member(archive, "manifest.json", json.dumps(manifest, indent=1).encode())
            for line in newest.values():
                if line["sha256"]:
                    self._member(archive, line["path"], self.data(line))
        with open(unfinished, "rb") as file:  # a stick is pulled soon
            os.fsync(file.fileno())
        os.replace(unfinished, place)

    @staticmethod
    def _member(archive, path, data):
        entry = zipfile.ZipInfo(path)  # of no date: a machine's clock may stand before 1980, where the format has none
        # what packs too well looks like a bomb to whoever opens it
        entry.compress_type = (
            zipfile.ZIP_DEFLATED if len(zlib.compress(data, 1)) * 100 > len(data) else zipfile.ZIP_STORED
        )
        archive.writestr(entry, data)


# --- the link ------------------------------------------------------------------------------------------------------


WORDS_OF = {
    "look": "Looking at the machine:",
    "read": "Reading:",
    "self-test": "Self-test:",
    "scan": "Timed read:",
    "copy": "Copying:",
    "sectors": "Sectors:",
    "mend": "Mending:",
    "entry": "Boot entry:",
    "fill": "Filling:",
}


class Gone(Exception):
    """The bench does not know this link any more, or asked for an end."""


class Away(Exception):
    """The bench does not answer, and nobody is to wait for it."""


def plain(text):
    """A serial number or world wide name as it is compared: no blanks, no prefix that says what kind of name it is."""
    return re.sub(r"^(naa|eui|uuid|0x)\.?", "", re.sub(r"[\s\0]+", "", str(text)).lower())


def plural(count, one, more):
    return "%d %s" % (count, one if count == 1 else more)


def size_words(count):
    """Bytes as drives are sold: 512 GB, 2.0 TB."""
    for unit, size in (("TB", 1e12), ("GB", 1e9), ("MB", 1e6)):
        if count >= size:
            return ("%.0f %s" if count >= 10 * size else "%.1f %s") % (count / size, unit)
    return "%d B" % count


def drive_name(path):
    """Whose a page is, by the drive's name; empty for the machine's."""
    folder = path.split("/")[0] if "/" in path else ""
    return "" if folder in ("efivars", "dmi", "sysblock") else re.sub(r"^(nvme\d+)n\d+$", r"\1", folder)


class NoDetour(urllib.request.HTTPRedirectHandler):
    """The secret goes to the bench that was named, and nowhere that something there points to."""

    def redirect_request(self, *arguments):
        return None


OPENER = urllib.request.build_opener(NoDetour)
MOST_ANSWER = 4 << 20


def readable(text):
    """Text from elsewhere as a terminal may show it: nothing that would move its cursor or change its colours."""
    return re.sub(r"[^\x20-\x7e\xa0-\ud7ff\ue000-\uffff]", "?", str(text))[:2000]


def number(value, low, high):
    """A whole number within bounds; the lower bound for anything else."""
    return value if isinstance(value, int) and not isinstance(value, bool) and low <= value <= high else low


def validated_orders(orders):
    """The orders that are such: texts, none too long, of a kind that this program knows."""
    found = []
    for order in orders if isinstance(orders, list) else []:
        if not isinstance(order, dict) or not isinstance(order.get("order"), str) or order["order"] not in NEEDED:
            continue
        texts = {name: order.get(name) for name in ("id", "order", "device", "drive", "kind")}
        if not all(
            value is None or (isinstance(value, str) and len(value) <= 200) for value in texts.values()
        ) or not re.match(r"\w{1,40}$", texts["id"] or ""):
            continue
        if texts["order"] in (
            "self-test",
            "scan",
            "copy",
            "sectors",
            "mend",
            "volume",
            "rescue",
            "fill",
        ) and not re.match(r"\w{1,40}$", texts["device"] or ""):
            continue
        if texts["order"] == "self-test" and texts["kind"] not in ("short", "long", "conveyance"):
            continue
        if texts["order"] == "mend":
            texts["writes"] = order.get("writes")
            if sane_writes(texts["writes"]) is None:
                continue
        if texts["order"] == "entry":
            texts["writes"] = order.get("writes")
            if sane_variables(texts["writes"]) is None:
                continue
        if texts["order"] == "fill":
            texts["copy"], texts["size"] = order.get("copy"), number(order.get("size"), 0, 1 << 60)
            if not isinstance(texts["copy"], str) or not re.match(r"\d{1,20}$", texts["copy"]) or not texts["size"]:
                continue
        if texts["order"] in ("sectors", "mend", "volume", "rescue", "fill"):
            texts["disk"] = order.get("disk")
            if not isinstance(texts["disk"], str) or not re.match(r"\w{1,40}$", texts["disk"]):
                continue
        texts["identity"] = sane_identity(order.get("identity"))
        numbers = {name: number(order.get(name), 0, 1 << 48) for name in ("minutes", "hot", "first", "end")}
        marks = order.get("clearances")
        marks = (
            {k: v for k, v in marks.items() if isinstance(k, str) and isinstance(v, str) and v.isascii()}
            if isinstance(marks, dict)
            else {}
        )
        found.append(
            dict(
                {name: value for name, value in texts.items() if value is not None},
                clearances=marks,
                **{name: value for name, value in numbers.items() if value},
            )
        )
    return found[:50]


def sane_identity(told):
    """What the bench knows of the drive besides the name it is found by; None where that is nothing, or no such
    thing."""
    if not isinstance(told, dict):
        return None
    found = {
        name: told[name]
        for name in ("serial", "wwn", "model")
        if isinstance(told.get(name), str) and len(told[name]) <= 200
    }  # type: dict[str, typing.Any]
    if number(told.get("size"), 0, 1 << 62):
        found["size"] = told["size"]
    return found or None


def sane_writes(writes):
    """(byte, what stands there, what is to stand there) of each write of a mending; None where they are none: whole
    bytes of equal length, in all no more than is mended at once."""
    found = []
    if not isinstance(writes, list) or not 0 < len(writes) <= 4096:
        return None
    for one in writes:
        try:
            at, before, after = (
                one["at"],
                base64.b64decode(one["before"], validate=True),
                base64.b64decode(one["after"], validate=True),
            )
        except (TypeError, KeyError, ValueError):
            return None
        if (
            not isinstance(at, int)
            or isinstance(at, bool)
            or not 0 <= at < 1 << 62
            or not after
            or len(before) != len(after)
        ):
            return None
        found.append((at, before, after))
    return found if sum(len(after) for _, _, after in found) <= MOST_WRITTEN else None


def sane_variables(writes):
    """(name, bytes that stand there, bytes that are to) of each variable of an order `entry`, None where there are
    none; None for anything but boot entries and their order."""
    found = []
    if not isinstance(writes, list) or not 0 < len(writes) <= 4:
        return None
    for one in writes:
        try:
            name, raw = (
                one["name"],
                [
                    None if one[side] is None else base64.b64decode(one[side], validate=True)
                    for side in ("before", "after")
                ],
            )
        except (TypeError, KeyError, ValueError):
            return None
        if (
            not isinstance(name, str)
            or not BOOT_VARIABLE.match(name)
            or any(side is not None and not 4 < len(side) <= 4096 for side in raw)
        ):
            return None
        found.append((name, raw[0], raw[1]))
    return found


def writes_sum(writes: "list[dict[str, object]]") -> str:
    """What the clearance of a mending is made out for: just these bytes at just these places."""
    return hashlib.sha256(
        json.dumps([[w.get("at", w.get("name")), w["before"], w["after"]] for w in writes]).encode()
    ).hexdigest()


class Link:
    """The conversation with the bench (docs/link-protocol.md): JSON over HTTP, the ticket's secret as bearer."""

    def __init__(self, server, secret, say):
        self.server, self.secret, self.say = server.rstrip("/"), secret, say
        self.session = ""
        self.away_since = None
        self.told = ""

    def call(self, method, path, body=None, patient=True):
        """One request; waits for a bench that is away as long as it takes. Not `patient`: raises Away instead, at once
        where it did not answer a moment ago."""
        if not patient and self.away_since is not None and time.monotonic() - self.away_since < RETRY_SECONDS:
            raise Away()
        while True:
            request = urllib.request.Request(self.server + "/api/link" + path, method=method)
            request.add_header("Authorization", "Bearer " + self.secret)
            raw = None
            if body is not None:
                raw = json.dumps(body).encode()
                request.add_header("Content-Type", "application/json")
            try:
                with OPENER.open(request, raw, timeout=20) as answer:
                    said = json.loads(answer.read(MOST_ANSWER) or b"{}")
                if not isinstance(said, dict):
                    raise ValueError("no object")
                if self.away_since is not None:
                    self.say("The bench is back.")
                self.away_since, self.told = None, ""
                return said
            except urllib.error.HTTPError as error:
                detail = self._detail(error)
                if error.code in (401, 404, 410):
                    raise Gone(detail) from None
                if error.code < 500:
                    raise Refused(detail) from None
                why = "it says %s" % detail
            except (OSError, ValueError, RecursionError, http.client.HTTPException) as error:
                why = reason_of(error)
            self.away_since = time.monotonic()
            if why != self.told:
                self.say(
                    "The bench at %s does not answer: %s. What is read is kept here and sent when it is back."
                    % (self.server, why)
                )
                self.told = why
            if not patient:
                raise Away()
            time.sleep(RETRY_SECONDS)

    @staticmethod
    def _detail(error):
        try:
            return readable(json.loads(error.read(MOST_ANSWER)).get("detail", error.reason))
        except Exception:
            return readable(error.reason)

    def hello(self, facts, session, has):
        answer = self.call(
            "POST", "/hello", {"protocol": PROTOCOL, "probe": VERSION, "machine": facts, "session": session, "has": has}
        )
        given = answer.get("session")
        self.session = given if isinstance(given, str) and re.match(r"[0-9a-f]{8,64}$", given) else session
        return answer

    def send(self, line, data, patient=True):
        """Push one page; the bench acknowledges pages in order and says where it stands where this is not the next
        one."""
        body = dict(line, session=self.session, data=base64.b64encode(data).decode())
        return number(self.call("POST", "/pages", body, patient).get("acknowledged"), 0, 1 << 40)

    def put_copy(self, box, order, at, length, parts, keeps=True):
        """A piece of a copy, in parts; None: zeros. `keeps`: the bench keeps its sum beside it. Waits for a bench that
        is away as long as it takes. Raises Gone, Refused."""
        what = "zeros=%d" % length
        if parts is not None:
            crc, told = 0, hashlib.blake2b(digest_size=32)
            for part in parts:
                crc = zlib.crc32(part, crc)
                if keeps:
                    told.update(part)
            what = "crc=%d" % crc + ("&blake2=" + told.hexdigest() if keeps else "")
        self._steadily(
            box,
            "PUT",
            "/copy?session=%s&order=%s&at=%d&%s" % (self.session, order, at, what),
            parts or [],
            0,
            length if parts else 0,
        )

    def get_copy(self, box, order, at, length):
        """(bytes of a copy that the bench keeps, None) or (None, how many bytes from there are zeros). Raises Gone,
        Refused."""
        while True:
            answer, data = self._steadily(
                box,
                "GET",
                "/image?session=%s&order=%s&at=%d&length=%d" % (self.session, order, at, length),
                None,
                length,
            )
            zeros = answer.getheader("X-Zeros") or ""
            if zeros.isdigit() and int(zeros) > 0:
                return None, int(zeros)
            if len(data) == length and hashlib.sha256(data).hexdigest() == answer.getheader("X-Sha256"):
                return data, None
            time.sleep(RETRY_SECONDS)  # cut on the way

    def _steadily(self, box, method, path, data, most=0, size=None):
        """A request over one connection that is kept in `box.connection`; returns the answer and its body."""
        place = urllib.parse.urlsplit(self.server)
        path = place.path + "/api/link" + path
        headers = {"Authorization": "Bearer " + self.secret, "Content-Type": "application/octet-stream"}
        if size is not None:  # told beforehand, or parts would go out in chunks
            headers["Content-Length"] = str(size)
        while True:
            try:
                if box.connection is None:
                    kind = http.client.HTTPSConnection if place.scheme == "https" else http.client.HTTPConnection
                    box.connection = kind(place.netloc, timeout=60)
                box.connection.request(method, path, data, headers)
                answer = box.connection.getresponse()
                said = answer.read(max(most, MOST_ANSWER))
                if answer.status < 300:
                    return answer, said
                try:
                    detail = readable(json.loads(said).get("detail", answer.reason))
                except ValueError:
                    detail = readable(answer.reason)
                if answer.status in (401, 404, 410):
                    raise Gone(detail)
                if answer.status < 500:
                    raise Refused(detail)
            except (OSError, http.client.HTTPException):
                pass
            if box.connection is not None:
                box.connection.close()
                box.connection = None
            time.sleep(RETRY_SECONDS)

    def cleared(self, order):
        """Does the order carry the clearance it needs, made out for just this order with the ticket's secret?"""
        needed = NEEDED.get(order.get("order", ""), "")
        mark = (order.get("clearances") or {}).get(needed, "")
        what = "write:" + writes_sum(order["writes"]) if order.get("order") in ("mend", "entry") else needed
        if order.get("order") == "fill":  # good for just this copy on just this drive
            what = "write:%s:%d:%s" % (order["copy"], order["size"], order["disk"])
        wanted = clearance(
            self.secret, order.get("id"), order.get("order"), order.get("drive") or order.get("device") or "", what
        )
        return bool(needed) and hmac.compare_digest(mark, wanted)

    def may_read_sectors(self, order):
        mark = (order.get("clearances") or {}).get("sectors", "")
        return hmac.compare_digest(
            mark,
            clearance(
                self.secret,
                order.get("id"),
                order.get("order"),
                order.get("drive") or order.get("device") or "",
                "sectors",
            ),
        )


def reason_of(error):
    """Why a request did not go through, in words."""
    inner = getattr(error, "reason", error)
    if isinstance(inner, ssl.SSLCertVerificationError):
        return "its certificate is not known here (%s)" % inner.verify_message
    if isinstance(inner, socket.gaierror):
        return "no machine by that name is found"
    if isinstance(inner, ConnectionRefusedError):
        return "that machine is there, but no bench listens at this port"
    if isinstance(inner, socket.timeout):
        return "nothing comes back"
    if isinstance(inner, (ValueError, RecursionError, http.client.HTTPException)):
        return "what answers there is no bench"
    return (getattr(inner, "strerror", None) or str(inner) or type(inner).__name__).lower()


def clearance(secret: str, order_id: str, order: str, device: str, what: str) -> str:
    """The mark of a clearance: HMAC-SHA-256 over the order it is for; `device`: the drive's serial number where the
    order names it (docs/link-protocol.md)."""
    return hmac.new(
        secret.encode(), ("%s|%s|%s|%s" % (order_id, order, device, what)).encode(), hashlib.sha256
    ).hexdigest()


# --- the timed read ------------------------------------------------------------------------------------------------

MAP_MAGIC = b"GCMAP1\n\0"
MAP_HEAD = struct.Struct("<8sIQ")  # magic, bytes of a sector, sectors of the disk
MAP_ROW = struct.Struct("<BQII")  # kind, first LBA, sectors of a block, blocks
READ_ROW, BAD_ROW, LEFT_ROW = 1, 2, 3
LATE_MS = 1500.0  # from here on a block was read after retries or resets: a place to keep away from
MOST_BERTH = 512  # blocks: the widest berth around what does not read well
STRIPES = 4  # gaps alike and evenly apart, from which on the next one is left for last
CHUNK_SECONDS, CHUNK_ROWS = 8.0, 200000
LEAVES = (6, 19, 2, 123)  # no such address, no such device, no such file, no medium: it is off the bus
# sectors in a row of which none reads: the rest of such a place is left; after so many such places, far sooner
BARREN, MANY_DEAD = (2048, 4)
IN_VAIN = 4  # times that a gap was halved and nothing in it read: the rest of it is left
MOST_LATE = 24  # blocks in a row
# failures in a row, at the first and so often after it a place that read well is asked whether the drive is there at
# all
ASKED_AGAIN = 8
MOST_MAP = 64 << 20  # bytes of one piece of a map, unpacked
TRIES_AT_ONCE = 2  # of a single sector, then it is called unreadable
SLOTS = 6
MOST_BLOCKS = 1 << 21
SCAN_SECONDS, HEAT_SECONDS = 30.0, 60.0  # how long one read may take; how often the drive is asked how hot it is


def step_of(ms):
    """Milliseconds in one byte: eighths of a power of two above 0.01 ms, from 1 on."""
    return max(1, min(255, 1 + int(8 * math.log2(max(ms, 0.01) / 0.01) + 0.5)))


class MapWriter:
    """What was read, compactly: runs of blocks with a byte of time each (docs/link-protocol.md). `take` gives what came
    since the last time."""

    def __init__(self, sector, sectors):
        self.head = MAP_HEAD.pack(MAP_MAGIC, sector, sectors)
        self.rows, self.count = [], 0

    def add(self, kind, lba, size, ms):
        last = self.rows[-1] if self.rows else None
        if (
            last
            and last[0] == kind
            and last[2] == size
            and last[1] + size * len(last[3]) == lba
            and len(last[3]) < 60000
        ):
            last[3].append(step_of(ms))
        else:
            self.rows.append((kind, lba, size, bytearray([step_of(ms)])))
        self.count += 1

    def take(self):
        body = b"".join(
            MAP_ROW.pack(kind, lba, size, len(times)) + bytes(times) for kind, lba, size, times in self.rows
        )
        self.rows, self.count = [], 0
        packed = zlib.compress(body, 6)
        return self.head + struct.pack("<I", len(packed)) + packed if body else b""


def rows_of(raw):
    """(kind, first LBA, sectors of a block, blocks) of map pages one after the other; what is no map is passed over."""
    found = []
    while raw[:8] == MAP_MAGIC and len(raw) >= MAP_HEAD.size + 4:
        size = struct.unpack_from("<I", raw, MAP_HEAD.size)[0]
        try:
            body, at = zlib.decompressobj().decompress(raw[MAP_HEAD.size + 4 : MAP_HEAD.size + 4 + size], MOST_MAP), 0
        except zlib.error:
            break
        while at + MAP_ROW.size <= len(body):
            row = MAP_ROW.unpack_from(body, at)
            found.append(row)
            at += MAP_ROW.size + row[3]
        raw = raw[MAP_HEAD.size + 4 + size :]
    return found


class Spans:
    """Sets of sectors as runs [first, end) in order."""

    def __init__(self):
        self.starts, self.ends = [], []

    def add(self, first, end):
        low, high = bisect.bisect_left(self.ends, first), bisect.bisect_right(self.starts, end)
        if low < high:
            first, end = min(first, self.starts[low]), max(end, self.ends[high - 1])
        self.starts[low:high], self.ends[low:high] = [first], [end]

    def missing(self, first, end):
        """The parts of [first, end) that are not in it."""
        found, at = [], bisect.bisect_right(self.ends, first)
        while first < end and at < len(self.starts) and self.starts[at] < end:
            if self.starts[at] > first:
                found.append((first, self.starts[at]))
            first = max(first, self.ends[at])
            at += 1
        return found + ([(first, end)] if first < end else [])

    def runs(self):
        return [(first, self.ends[place]) for place, first in enumerate(self.starts)]

    def total(self):
        return sum(self.ends) - sum(self.starts)


class Stopped(Exception):
    """Reading ends before all was tried; it may go on later."""


class Worker:
    """A child that reads block after block past the kernel's cache and says how long each took; it stops at the first
    that fails or is late. One that hangs is left behind and another one takes its place. With `slots`, what was read
    stands in memory that both share."""

    def __init__(self, machine, device, sector, block, seconds, keep=False):
        self.machine, self.device, self.sector, self.block, self.seconds = machine, device, sector, block, seconds
        self.slots = SLOTS if keep else 1
        self.memory = mmap.mmap(-1, self.slots * block * sector)
        self.child, self.to, self.back = None, -1, -1
        self.left_behind = []  # type: list[int]

    def start(self):
        there, to = os.pipe()
        back, here = os.pipe()
        self.child = os.fork()
        if self.child == 0:
            try:
                for descriptor in (to, back, *([self.to, self.back] if self.to >= 0 else [])):
                    os.close(descriptor)
                signal.signal(signal.SIGINT, signal.SIG_IGN)
                self._serve(there, here)
            finally:
                os._exit(0)
        os.close(there)
        os.close(here)
        self.to, self.back = to, back

    def _serve(self, there, here):
        """In the child. An order is (LBA, sectors of a block, blocks); an answer (state, errno, milliseconds); a byte
        in between frees a slot."""
        try:
            read = self.machine.block_reader(self.device, self.sector, self.slots > 1)
        except OSError as error:
            read = None
            failure = error.errno or 5
        room = self.block * self.sector
        while True:
            raw = os.read(there, 24)
            if len(raw) < 24:
                return
            lba, size, blocks = struct.unpack("<QQQ", raw)
            for number in range(blocks):
                slot = number % self.slots
                if number >= self.slots > 1:
                    os.read(there, 1)
                began, state, code = time.perf_counter(), 0, 0
                said = None
                try:
                    if read is None:
                        raise OSError(failure, "cannot be opened")
                    said = read(
                        lba + number * size,
                        size,
                        memoryview(self.memory)[slot * room : slot * room + size * self.sector],
                    )
                except OSError as error:
                    state, code, said = 1, error.errno or 5, getattr(error, "ms", None)
                ms = (time.perf_counter() - began) * 1e3 if said is None else said
                os.write(here, struct.pack("<BHd", state, code, ms))
                if state or ms > LATE_MS:
                    for _ in range(
                        max(0, min(number, blocks - self.slots)) - max(0, number - self.slots + 1)
                        if self.slots > 1
                        else 0
                    ):
                        os.read(there, 1)  # slots that were freed and are not needed any more
                    break

    def run(self, lba, size, blocks):
        """(LBA, state, errno, milliseconds, bytes) of one block after the other, up to the first that fails or is late.
        state: 0 read, 1 failed, 2 hung."""
        if self.child is None:
            self.start()
        os.write(self.to, struct.pack("<QQQ", lba, size, blocks))
        room, number = self.block * self.sector, 0
        while number < blocks:
            raw = b""
            while len(raw) < 11:
                if not select.select([self.back], [], [], self.seconds)[0]:
                    self.leave()
                    yield lba + number * size, 2, 0, self.seconds * 1e3, b""
                    return
                part = os.read(self.back, 11 - len(raw))
                if not part:
                    self.leave()
                    yield lba + number * size, 1, 5, 0.0, b""
                    return
                raw += part
            state, code, ms = struct.unpack("<BHd", raw)
            at = number % self.slots * room
            data = b"" if state or self.slots == 1 else memoryview(self.memory)[at : at + size * self.sector]
            yield lba + number * size, state, code, ms, data
            if state or ms > LATE_MS:
                return
            number += 1
            if number < blocks and number + self.slots - 1 < blocks and self.slots > 1:
                os.write(self.to, b"+")

    def leave(self):
        """Leave the child behind: one that sleeps in the kernel cannot be waited for."""
        if self.child is None:
            return
        os.kill(self.child, signal.SIGKILL)
        self.left_behind.append(self.child)
        for descriptor in (self.to, self.back):
            os.close(descriptor)
        self.child, self.to, self.back = None, -1, -1
        self.left_behind = [child for child in self.left_behind if os.waitpid(child, os.WNOHANG) == (0, 0)]


class Outbox:
    """What was read goes to the bench from threads of its own, joined into large pieces, over connections that stay.
    `drain` waits until all of it is there: what the map says is read, the bench has."""

    # bytes of a piece, bytes that wait, threads that send: while one counts a sum the other's piece is on its way
    MOST, WAITING, HANDS = (8 << 20, 12 << 20, 2)
    # bytes of zeros that are waited for: a word for each block of an empty drive would take longer than reading it
    ZEROS = 1 << 30

    def __init__(self, link, order, sector, keeps=True):
        self.link, self.order, self.sector, self.keeps = link, order, sector, keeps
        self.parts = collections.deque()  # type: collections.deque[tuple[int, int, bytes | None]]
        self.size, self.failure, self.ended = 0, None, False
        self.turn = threading.Condition()
        self.busy = self.draining = 0
        self.zeros = bytes(1 << 20)
        for _ in range(self.HANDS):
            threading.Thread(target=self._work, daemon=True).start()

    def put(self, lba, data):
        """Raises what went wrong before."""
        data = bytes(data)
        at = lba * self.sector
        is_zero = data == (self.zeros if len(data) == len(self.zeros) else bytes(len(data)))
        with self.turn:
            while self.size > self.WAITING and self.failure is None:
                self.turn.wait()
            if self.failure is not None:
                raise self.failure
            if is_zero and self.parts and self.parts[-1][2] is None and sum(self.parts[-1][:2]) == at:
                before, length, _ = self.parts.pop()
                self.parts.append((before, length + len(data), None))
            else:
                self.parts.append((at, len(data), None if is_zero else data))
                self.size += 0 if is_zero else len(data)
            if self._is_ready():
                self.turn.notify_all()

    def drain(self):
        with self.turn:
            self.draining += 1
            self.turn.notify_all()
            try:
                while (self.parts or self.busy) and self.failure is None:
                    self.turn.wait()
            finally:
                self.draining -= 1
            if self.failure is not None:
                raise self.failure

    def _is_ready(self):
        """There is something to send. Zeros that may go on wait for their end."""
        if not self.parts:
            return False
        _, length, data = self.parts[0]
        return data is not None or len(self.parts) > 1 or length >= self.ZEROS or self.draining > 0 or self.ended

    def end(self):
        with self.turn:
            self.ended = True
            self.turn.notify_all()

    def _work(self):
        hand = argparse.Namespace(connection=None)
        while True:
            with self.turn:
                while not self._is_ready() and not self.ended:
                    self.turn.wait()
                if not self.parts:
                    return
                at, length, data = self.parts.popleft()
                several, end = [data], at + length
                while (
                    self.parts
                    and self.parts[0][0] == end
                    and (self.parts[0][2] is None) == (data is None)
                    and (data is None or end - at + self.parts[0][1] <= self.MOST)
                ):
                    _, more, own = self.parts.popleft()
                    several.append(own)
                    end += more
                self.size -= end - at if data is not None else 0
                self.busy += 1
                self.turn.notify_all()
            data = None
            try:
                self.link.put_copy(
                    hand, self.order, at, end - at, several if several[0] is not None else None, self.keeps
                )
            except Exception as error:
                with self.turn:
                    self.failure = error
                    self.busy -= 1
                    self.turn.notify_all()
                return
            with self.turn:
                self.busy -= 1
                self.turn.notify_all()


class Ahead:
    """A call to the bench that is under way while the drive is read."""

    def __init__(self, call):
        self.call, self.answer, self.failure = call, {}, None
        self.thread = threading.Thread(target=self._work, daemon=True)
        self.thread.start()

    def _work(self):
        try:
            self.answer = self.call()
        except Exception as error:
            self.failure = error

    def take(self):
        """What the bench said. Raises what the call did."""
        self.thread.join()
        if self.failure is not None:
            raise self.failure
        return self.answer


class Fetching:
    """Sectors as the bench asks for them turn by turn. While a turn is read the bench is asked for the next one, where
    it says that it may be.

    asked: called with bytes done and of, about once a second; says what the bench wants ("pause", "stop" or
    nothing)."""

    def __init__(self, link, order, worker, total, asked):
        self.link, self.order, self.worker, self.total, self.asked = link, order, worker, total, asked
        self.box = Outbox(link, order, worker.sector, keeps=False)
        self.told, self.hangs, self.dead, self.done, self.of = time.monotonic(), 0, 0, 0, 0

    def end(self):
        self.worker.leave()
        self.box.end()

    def ask(self, ahead=False):
        return self.link.call(
            "GET", "/wanted?session=%s&order=%s%s" % (self.link.session, self.order, "&ahead=1" if ahead else "")
        )

    def run(self):
        """(result, detail). Raises Gone, Refused."""
        answer = self.ask()
        while True:
            if answer.get("do") == "pause":
                return "paused", "held by the bench"
            pieces, wait = asked_pieces(answer.get("ranges"), self.total), answer.get("wait")
            if not pieces and not isinstance(wait, (int, float)):
                return "done", ""
            self.done, self.of = number(answer.get("done"), 0, 1 << 60), number(answer.get("of"), 0, 1 << 60)
            if not pieces:
                self.worker.machine.sleep(min(max(wait, 0.0), 5.0))
                ended = self.wanted()  # a turn without anything to read is one in which the bench may want a pause, too
                if ended:
                    return ended
            ahead = Ahead(lambda: self.ask(ahead=True)) if pieces and answer.get("ahead") is True else None
            while pieces:
                ended = self.read(pieces, answer.get("careful") is True)
                if ended:
                    return ended
            following = ahead.take() if ahead is not None else {}
            if not following.get("ranges"):  # what it says depends on what is still on its way
                self.box.drain()
                following = self.ask()
            answer = following

    def wanted(self):
        """How the order ends where the bench wants it to; None: it goes on."""
        if time.monotonic() - self.told <= 1.0:
            return None
        self.told = time.monotonic()
        wanted = self.asked(self.done, self.of)
        return (
            None
            if not wanted
            else ("paused", "from the bench")
            if wanted == "pause"
            else ("failed", "stopped from the bench")
        )

    def read(self, pieces, careful):
        """The first of these, and what follows it in blocks of one size. How the order ends with it, or None."""
        first, count = pieces.popleft()
        size = min(count, self.worker.block)
        end = first + min(count // size, 1 if careful else FETCHED_AT_ONCE) * size
        if end < first + count:
            pieces.appendleft((end, first + count - end))
        at, again = first, []
        for lba, state, code, _, data in self.worker.run(first, size, (end - first) // size):
            at = lba + size
            if state == 0:
                self.box.put(lba, data)
                self.done += len(data)
                self.dead = 0
            elif state == 1 and code not in MEDIUM:
                # that says nothing of its sectors
                return "paused", "the drive dropped off the bus" if code in LEAVES else "[Errno %d] %s" % (
                    code,
                    os.strerror(code),
                )
            elif (
                careful and size > 1 and state == 1 and self.dead < MOST_DEAD
            ):  # a place that never answers is not halved: gone on with, it would hang again
                again = [(lba, size // 2), (lba + size // 2, size - size // 2)]
            else:
                self.dead += careful and size == 1
                self.hangs += state == 2
                self.link.call(
                    "POST",
                    "/unread",
                    {
                        "session": self.link.session,
                        "order": self.order,
                        "first": lba,
                        "count": size,
                        "careful": careful,
                    },
                )
            if self.hangs >= HANGS_TO_GIVE_UP:
                self.box.drain()
                return "paused", "the drive did not answer %d calls" % self.hangs
            ended = self.wanted()
            if ended:
                return ended
        if at < end:
            pieces.appendleft((at, end - at))
        pieces.extendleft(reversed(again))
        return None


def asked_pieces(ranges, total):
    """(first LBA, sectors) of what the bench asks for; what is outside of the disk is left out."""
    pieces = collections.deque()  # type: collections.deque[tuple[int, int]]
    for one in ranges[:MOST_FETCHED] if isinstance(ranges, list) else ():
        if not isinstance(one, list) or len(one) != 2 or not all(type(n) is int and 0 <= n < 1 << 48 for n in one):
            continue
        if one[0] < min(one[0] + one[1], total):
            pieces.append((one[0], min(one[0] + one[1], total) - one[0]))
    return pieces


class Scan:
    """A whole drive or a span of it, read in the order that asks least of a failing one: first what reads well, with a
    widening berth around what does not; then the edges of each gap from both sides, halving it; then every block that
    failed, down to the sector; stripes that come again evenly, as a dead head's do, last of all. `steps` yields after
    every bit of work. Nothing is ever written.

    known: rows of a map, to go on with. keep: called with (LBA, bytes) of what was read."""

    def __init__(self, worker, sectors, block, first=0, end=None, known=(), keep=None):
        self.worker, self.block, self.keep = worker, block, keep
        self.first, self.end = first, min(end or sectors, sectors)
        self.map = MapWriter(worker.sector, sectors)
        self.tried, self.read = Spans(), Spans()
        self.failed, self.gaps, self.worst = [], [], []
        self.bad_sectors, self.hung, self.late, self.left, self.in_vain = 0, 0, 0, 0, 0
        self.ms = 0.0
        self.good = None
        self.unsure = []  # type: list[tuple[int, int, float]]
        self.box = None
        self._restore(known)

    def _restore(self, known):
        broken = Spans()
        for kind, lba, size, blocks in known:
            end = lba + size * blocks
            if kind == READ_ROW:
                self.read.add(lba, end)
                self.tried.add(lba, end)
            elif kind == LEFT_ROW:
                self.tried.add(lba, end)
                self.left += end - lba
            elif kind == BAD_ROW:
                for place in range(blocks):
                    broken.add(lba + place * size, lba + (place + 1) * size)
                self.tried.add(lba, end)
        single = {
            lba + place for kind, lba, size, blocks in known if kind == BAD_ROW and size == 1 for place in range(blocks)
        }
        for first, end in broken.runs():
            for low, high in self.read.missing(first, end):
                lba = low
                while lba < high:
                    if lba in single:
                        self.bad_sectors += 1
                        lba += 1
                        continue
                    size = 1
                    while lba + size < high and size < self.block and lba + size not in single:
                        size += 1
                    self.failed.append((lba, size))
                    lba += size
        self.good = self.read.starts[0] if self.read.starts else None

    def steps(self):
        reached = self.tried.ends[-1] if self.tried.ends else self.first
        self.gaps = [(low, high) for low, high in self.tried.missing(self.first, min(reached, self.end))]
        for first, end in self.tried.missing(max(reached, self.first), self.end):
            for step in self._sweep(first, end):
                yield step
        for part in (self.gaps, self.worst):
            for step in self._gaps(part):
                yield step
        for step in self._pieces():
            yield step
        if self.unsure:
            self._ask()

    # --- first: all that reads well

    def _sweep(self, first, end):
        at, berth, calm = first, 0, 0
        seen = []  # type: list[tuple[int, int]]
        while at < end:
            ahead = self._expected(seen, at)
            if ahead:
                low, high = ahead
                if low <= at:
                    high = min(high, end)
                    size = min(self.block, high - at)
                    middle = at + (high - at - size) // 2 // size * size
                    if self._one(middle, size):
                        self.worst.extend(gap for gap in ((at, middle), (middle + size, high)) if gap[0] < gap[1])
                        seen.append((low, high))
                        at = high
                    else:
                        del seen[:]  # no stripe, or no longer one there
                    yield self
                    continue
            until = min(end, ahead[0]) if ahead else end
            size = min(self.block, end - at)
            blocks = max(1, (until - at) // size)
            trouble, began = False, at
            for lba, state, code, ms, data in self.worker.run(at, size, min(blocks, 256)):
                trouble = self._took(lba, size, state, code, ms, data)
                at = lba + size
                if trouble:
                    break
            calm += (at - began) // size - trouble
            berth, calm = max(0, berth - calm // 4), calm % 4
            if trouble:
                calm = 0
                wide = min(size << berth, MOST_BERTH * self.block)
                berth = min(berth + 1, 12)
                gap = (at, min(at + wide, end))
                if gap[0] < gap[1]:
                    self.gaps.append(gap)
                self._note(seen, at - size, gap[1])
                at = gap[1]
            yield self

    @staticmethod
    def _note(seen, low, high):
        """Troubles that touch are one."""
        if seen and low <= seen[-1][1] + (high - low):
            seen[-1] = (seen[-1][0], high)
        else:
            seen.append((low, high))

    @staticmethod
    def _expected(seen, at):
        """Where the next stripe is to be expected, when the last ones were alike and evenly apart; None otherwise."""
        if len(seen) < STRIPES:
            return None
        last = seen[-STRIPES:]
        apart = [last[place + 1][0] - last[place][0] for place in range(STRIPES - 1)]
        wide = sorted(high - low for low, high in last)
        # heads are passed in serpentine order: the next but one is as far as the last but one
        if (
            abs(apart[0] - apart[2]) > 0.15 * apart[0]
            or max(apart) > 3 * min(apart)
            or wide[-1] > 2.5 * wide[0]
            or wide[-1] > 0.7 * min(apart)
        ):
            return None
        low = last[-1][0] + apart[1]
        return (low, low + wide[len(wide) // 2]) if low + wide[len(wide) // 2] > at else None

    # --- then the gaps

    def _gaps(self, gaps):
        """From both sides, then in the middle, until nothing is left; the smallest first. A stretch of which nothing
        reads, wherever it is tried, is left: `left` in the map."""
        todo = [(first, end, 0) for first, end in gaps]
        while todo:
            todo.sort(key=lambda gap: gap[0] - gap[1])
            first, end, in_vain = todo.pop()
            before = self.read.total()
            if end - first <= self.block * 8 or in_vain < IN_VAIN:
                first = self._inward(first, end)
                yield self
                end = self._outward(first, end)
                yield self
            else:
                self._leave(first, end)
                continue
            if first < end:
                size = min(self.block, end - first)
                middle = first + (end - first) // 2 // size * size
                size = min(size, end - middle)
                self._one(middle, size)
                in_vain = in_vain + 1 if self.read.total() == before else 0
                todo.extend((low, high, in_vain) for low, high in ((first, middle), (middle + size, end)) if low < high)
                yield self

    def _leave(self, first, end):
        """Not to be tried: said in the map."""
        while first < end:
            size = min(end - first, 1 << 24)
            self.map.add(LEFT_ROW, first, size, 0.01)
            self.tried.add(first, first + size)
            self.left += size
            first += size

    def _inward(self, first, end):
        while first < end:
            size = min(self.block, end - first)
            for lba, state, code, ms, data in self.worker.run(first, size, max(1, min(64, (end - first) // size))):
                trouble = self._took(lba, size, state, code, ms, data)
                first = lba + size
                if trouble:
                    return first
        return first

    def _outward(self, first, end):
        while first < end:
            size = min(self.block, end - first)
            end -= size
            if self._one(end, size):
                return end
        return end

    def _one(self, lba, size):
        """Read one piece; True where it makes trouble."""
        for at, state, code, ms, data in self.worker.run(lba, size, 1):
            return self._took(at, size, state, code, ms, data)
        return True

    # --- at last what failed, down to the sector

    def _pieces(self):
        """Piece by piece, halved until it reads or is one sector; lone ones first, what stands in a crowd last."""
        crowds = []  # type: list[list[tuple[int, int]]]
        for lba, size in sorted(self.failed):
            if crowds and lba <= crowds[-1][-1][0] + crowds[-1][-1][1] + 4 * self.block:
                crowds[-1].append((lba, size))
            else:
                crowds.append([(lba, size)])
        dead = 0
        for crowd in sorted(crowds, key=len):
            self.failed, barren = crowd[::-1], 0
            while self.failed and barren < (BARREN if dead < MANY_DEAD else BARREN // 256):
                before = self.read.total()
                lba, size = self.failed.pop()
                if size == 1:
                    self._single(lba)
                    barren += 1
                else:
                    half = size // 2
                    self._one(lba, half)
                    self._one(lba + half, size - half)
                barren = 0 if self.read.total() > before else barren
                yield self
            # a stretch of which nothing reads stays as it is: every further read strains the drive for nothing
            dead += bool(self.failed)

    def _single(self, lba):
        for _ in range(TRIES_AT_ONCE - 1):
            for at, state, code, ms, data in self.worker.run(lba, 1, 1):
                if state == 0:
                    self._took(at, 1, state, code, ms, data)
                    return
                self._is_there(state, code)
        self.bad_sectors += 1
        self._bad(lba, 1, 0.01)

    # --- one answer

    def _took(self, lba, size, state, code, ms, data):
        """Note what a block said; True where one keeps away from what is next to it. Raises Stopped."""
        self.ms += ms
        if state == 0:
            if self.keep:
                self.keep(lba, data)
            self._sure()
            self.map.add(READ_ROW, lba, size, ms)
            self.read.add(lba, lba + size)
            self.tried.add(lba, lba + size)
            self.hung = self.in_vain = 0
            self.good = lba if self.good is None else self.good
            self.late = self.late + 1 if ms > LATE_MS else 0
            if self.late >= MOST_LATE and not self._still_there():
                raise Stopped("the drive stalls: every read takes seconds, also where it read well before")
            return ms > LATE_MS
        self._is_there(state, code)
        self._bad(lba, size, ms)
        self.tried.add(lba, lba + size)
        self.failed.append((lba, size))
        if state == 2:
            self.hung += 1
            if self.hung >= 3 and not self._still_there():
                raise Stopped("the drive stopped answering")
        return True

    def _bad(self, lba, size, ms):
        """What does not read stands in the map only once the drive has answered after it: until then it may be gone."""
        self.unsure.append((lba, size, ms))
        if self.good is None:
            self._sure()

    def _sure(self):
        for lba, size, ms in self.unsure:
            self.map.add(BAD_ROW, lba, size, ms)
        del self.unsure[:]

    def _is_there(self, state, code):
        """After a read that failed. Raises Stopped where it failed because there is no drive: that says nothing of its
        sectors."""
        if state != 1:
            return
        if code in LEAVES:
            raise Stopped("the drive dropped off the bus")
        if self.in_vain % ASKED_AGAIN == 0 and self.good is not None:
            self._ask()
        self.in_vain += 1

    def _ask(self):
        """Is the drive there at all? Raises Stopped."""
        if not self._answers():
            raise Stopped("the drive dropped off the bus")
        self._sure()

    def _answers(self):
        """Does the drive still answer at all, if only with another error than before or late? A place that read well
        before is asked."""
        answers = list(self.worker.run(self.good, 1, 1))
        return bool(answers) and answers[0][1] != 1

    def _still_there(self):
        """Does a place that read well before still read?"""
        if self.good is None:
            return False
        answers = list(self.worker.run(self.good, 1, 1))
        return bool(answers) and answers[0][1] == 0 and answers[0][3] < LATE_MS

    def done(self):
        """(sectors tried, of)."""
        own = [(max(low, self.first), min(high, self.end)) for low, high in self.tried.runs()]
        return sum(high - low for low, high in own if high > low), self.end - self.first


# --- the work ------------------------------------------------------------------------------------------------------


class Probe:
    """Reads, keeps, sends. `machine` is this one, or one of the practice bench."""

    def __init__(self, machine, spool, link=None, say=print, reader=None, hint=None):
        self.machine, self.spool, self.link, self.say = machine, spool, link, say
        self.hint = hint or (lambda text: None)
        self.reader = reader or Reader()
        self.acknowledged = 0
        self.far, self.rested = 0.0, ""
        self.minutes = {}  # type: dict[str, int]
        self.wrote = False  # has the order that is being worked on written anything?
        self.allowed = set()  # type: set[str]  # drives that somebody at this machine has let the bench write to

    def read(self, order, sectors=True, device=None, drives=True, again=False):
        """Every page of the machine, or of one drive, and what each announces. A drive that hangs twice is left alone.
        `again`: also what was read for this order before."""
        done = set() if again else self.spool.done(order)
        found = drive_jobs(self.machine, sectors) if drives else {}
        if device:
            found = {name: jobs for name, jobs in found.items() if name == device}
        groups = list(found.items())
        if not device:
            groups.insert(0, ("", system_jobs(self.machine)))
        self.far = 0.0
        for place, (name, jobs) in enumerate(groups):
            hangs = 0
            title = self.title(name)
            for count, job in enumerate(jobs):
                if job.path in done:
                    self.follow(job, jobs, self.spool.newest(job.path))
                    continue
                self.hint("%s  %s" % (title, job.path))
                if hangs >= HANGS_TO_GIVE_UP:
                    status, detail, data = "skipped", "the drive did not answer %d calls before" % hangs, b""
                else:
                    status, detail, data = self.reader.run(job.call)
                hangs = hangs + 1 if status == "hung" else hangs
                # first: a probe killed here reads them again
                pieces = self.read_pieces(job, order) if job.span and status == "failed" else data
                if job.runs:
                    data = self.keep_runs(job, order, data)
                self.spool.add(job, order, status, detail, data)
                self.follow(job, jobs, pieces)
                self.far = max(self.far, (place + (count + 1) / len(jobs)) / len(groups))
                if self.link:
                    self.push(patient=False)
                    self.progress(order, int(100 * self.far), 100, job.path, patient=False)
            self.say("%s  %s" % (self.title(name), self.tally(order, name)))
        if self.link:
            self.push()

    @staticmethod
    def follow(job, jobs, data):
        """What a page announces is read next, before the pages that stood after it."""
        if job.then:
            at = jobs.index(job) + 1
            jobs[at:at] = job.then(data)

    def keep_runs(self, job, order, raw):
        """Each run of sectors as a page of its own; returns their list, which is the page that says that all are
        there."""
        size = next((geometry(b)[0] for b in self.machine.blocks() if b.name == job.device), SECTOR)
        named = []
        for lba, data in unpacked(raw, size):
            path = "%s/lba%d-%d.bin" % (job.device, lba, lba + len(data) // size - 1)
            self.spool.add(PageRead(path, "sectors", job.device, job.how, None), order, "ok", "", data)
            named.append(path)
        return "".join(path + "\n" for path in named).encode()

    def title(self, name):
        """A drive in one line: what the kernel calls it, what it calls itself, its size. The machine, where there is no
        name."""
        if not name:
            return "%-42s" % "this machine"
        block = next((b for b in self.machine.blocks() if drive_of(b) == name), None)
        told = describe(block) if block else {}
        size = int(told["size"]) * 512 if told.get("size", "").isdigit() else 0
        model = " ".join(
            filter(
                None,
                (
                    told.get("device/vendor", "").replace("ATA", ""),
                    told.get("device/model") or told.get("device/name", ""),
                ),
            )
        )
        identity = self.spool.newest(name + "/identify.bin")
        if len(identity) == 512 and any(identity[54:94]):  # the kernel keeps 16 letters of an ATA drive's name
            model = "".join(chr(identity[at ^ 1]) for at in range(54, 94)).strip()
        return "%-8s %-24s %8s" % (name, (model or "no name")[:24], size_words(size) if size else "no size")

    def tally(self, order, name):
        """What was read of a drive, in words."""
        own = [line for line in self.spool.lines if line["order"] == order and (drive_name(line["path"]) == name)]
        alone = [line for line in own if re.search(r"/lba\d+\.bin$", line["path"])]
        states = [line["status"] for line in own if line not in alone]
        parts = ["%d pages" % states.count("ok")]
        for status, words in (
            ("refused", "refused"),
            ("failed", "failed"),
            ("hung", "did not answer"),
            ("skipped", "left alone"),
        ):
            if states.count(status):
                parts.append("%d %s" % (states.count(status), words))
        if alone:
            parts.append("%d sectors cannot be read" % len(alone))
        return ", ".join(parts)

    def read_pieces(self, job, order):
        """A range of which not all can be read, sector by sector: a page for every run that could, a line for every
        sector that could not. Returns the range with zeros for those."""
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
            self.spool.add(
                PageRead("%s/lba%d.bin" % (job.device, lba), "sectors", job.device, "one sector", None),
                order,
                status,
                detail,
                b"",
            )
        lba = first
        while lba < first + count:
            run = b""
            start = lba
            while lba < first + count and read.get(lba):
                run += read[lba]
                lba += 1
            if run:
                self.spool.add(
                    PageRead(
                        "%s/lba%d-%d.bin" % (job.device, start, lba - 1),
                        "sectors",
                        job.device,
                        "sector by sector",
                        None,
                    ),
                    order,
                    "ok",
                    "",
                    run,
                )
            lba += 1
        return b"".join(read.get(lba) or bytes(size) for lba in range(first, first + count))

    def push(self, patient=True):
        """Send every page that the bench has not acknowledged, in order. Not `patient`: reading goes on while the bench
        is away."""
        stuck = 0
        try:
            while self.acknowledged < len(self.spool.lines):
                line = self.spool.lines[self.acknowledged]
                before = self.acknowledged
                try:
                    self.acknowledged = self.link.send(line, self.spool.data(line), patient)
                except Refused as error:  # one page that the bench does not take takes no other away
                    self.say("The bench does not take %s: %s" % (line["path"], error))
                    instead = dict(
                        line,
                        path="page-%d.bin" % line["seq"],
                        status="refused",
                        detail=("by the bench: %s" % error)[:300],
                        sha256=None,
                        size=0,
                    )
                    instead = {
                        name: value[:80] if name in ("kind", "device", "how") else value
                        for name, value in instead.items()
                    }
                    instead.update(kind=instead["kind"][:40], device=instead["device"][:40])
                    self.acknowledged = self.link.send(instead, b"", patient)
                stuck = 0 if self.acknowledged > before else stuck + 1
                if stuck > 5:
                    raise Refused("the bench takes no page and does not say why")
        except Away:
            pass

    def progress(self, order, done, of, text, left=None, patient=True):
        body = {
            "session": self.link.session,
            "order": order,
            "done": done,
            "of": of,
            "text": text,
            "minutes_left": left,
        }
        with contextlib.suppress(Away):
            self.link.call("POST", "/progress", body, patient)

    def find(self, order):
        """The device that the ordered drive has here and now; None where the order is for all. Raises Refused where it
        is not here, where two say that they are it, and where an order that writes does not name it: kernel names move
        between two starts, serial numbers do not."""
        device, drive = order.get("device"), order.get("drive")
        writes = order.get("order") in WRITES
        if writes and not plain(drive or "").strip("0"):
            raise NotThisOne(
                (
                    "expected the drive of an order that writes to be named by its serial number, got %s by the "
                    "kernel's "
                    "name alone; nothing was written"
                )
                % (device or "one")
            )
        if not device:
            return device
        known = self.drives_by_id()
        if not drive:
            silent = sorted(name for name, own in known.items() if not own.ids)
            if device in silent and len(silent) > 1:
                raise NotThisOne(
                    "expected one drive that does not say who it is, got %s; unplug all but one of them"
                    % " and ".join(silent)
                )
            return device
        found = sorted(name for name, own in known.items() if plain(drive) in own.ids)
        if len(found) > 1:
            raise NotThisOne(
                "expected one drive %s, got two that say they are it: %s; unplug one of them"
                % (drive, " and ".join(found))
            )
        if not found:
            raise NotThisOne("expected the drive %s, got none that says it is it" % drive)
        if writes:
            self.sure(order, known[found[0]])
        return found[0]

    @staticmethod
    def sure(order, who):
        """Raises Refused where this is not the drive that was confirmed on the bench."""
        why = who.fits(order)
        if why:
            raise NotThisOne(why + "; nothing is written to it")

    def allow(self, order, device):
        """The first order that writes to a drive needs a key at this machine, with the drive's number on its screen.
        Raises Refused; returns what the bench wants instead, if it does: pause or stop."""
        drive = order.get("drive") or ""
        if plain(drive) in self.allowed:
            return ""
        own = order.get("identity") or {}
        named = " ".join(filter(None, (own.get("model"), size_words(own["size"]) if own.get("size") else "")))
        what = {
            "mend": "write %s to" % plural(len(order.get("writes") or ()), "place", "places"),
            "entry": "write boot entries of the machine that holds",
            "fill": "overwrite all of",
        }[order["order"]]
        lines = [
            "The bench wants to %s this drive:" % what,
            "",
            "    serial number  %s" % readable(drive),
            "    %s" % readable(named),
            "    here as        %s" % device,
            "",
        ]
        self.say("The bench wants to %s the drive %s. Press Y at this machine to allow it." % (what, drive))
        began, wanted = time.monotonic(), [""]

        def going():
            wanted[0] = self.asked(order["id"], 0, 100, "Press Y at the machine: serial number %s" % drive, key=True)
            return not wanted[0] and time.monotonic() - began < KEY_SECONDS

        confirm = getattr(self.machine, "confirm", None)
        if confirm is not None and confirm(lines, going):
            self.allowed.add(plain(drive))
            return ""
        if wanted[0]:
            return wanted[0]
        raise NotThisOne(
            (
                "expected somebody to press Y at the machine, with the drive's serial number %s on its screen, got "
                "another "
                "key or none; nothing was written"
            )
            % drive
        )

    def rest(self):
        """The ticket holds its drive: what spins in the machine and is used by nobody is stopped, and stays so, for
        nothing here asks it for anything. The kernel has asked each who it is before anything of ours ran. Flash has
        nothing that wears by being awake."""
        told = []
        for block in self.machine.blocks():
            if (
                not is_a_drive(block)
                or block.bus in ("usb", "mmc", "nvme")
                or describe(block).get("queue/rotational") == "0"
            ):
                continue
            name = drive_of(block)

            if not self.machine.is_free(name):
                told.append("%s is in use here and was left alone" % name)
                continue

            def stop(name=name):
                if self.machine.scsi(name, STOP_UNIT, 0)[0]:
                    raise Refused("it refuses to")
                return b"stopped"

            status, detail, _ = self.reader.run(stop)
            told.append(
                "%s is stopped" % name
                if status == "ok"
                else "%s could not be stopped (%s): pull its plug" % (name, detail or status)
            )
        self.rested = "; ".join(told)
        if told:
            self.say(
                "The ticket holds this machine's drive. %s. Nothing here wakes it again without an order." % self.rested
            )

    def drives_by_id(self):
        """Who each drive is, as the kernel or the drive tells it."""
        found = {}  # type: dict[str, Identity]
        for block in self.machine.blocks():
            if not is_a_drive(block):
                continue
            own = Identity.of(self.machine, block, run=self.reader.run)
            known = found.get(drive_of(block))
            found[drive_of(block)] = Identity(own.ids | known.ids, own.models | known.models) if known else own
        return found

    def asked_sectors(self, order, device):
        """Sectors of a disk that the bench asks for, in rounds: what it needs next follows from what it was given."""
        disk = disk_here(order["disk"], device)
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name" % disk)
        size, total = geometry(block)
        hangs = 0
        for turn in range(MOST_ROUNDS):
            self.push()
            answer = self.link.call("GET", "/wanted?session=%s&order=%s" % (self.link.session, order["id"]))
            ranges = [
                r
                for r in answer.get("ranges", [])
                if isinstance(r, list) and len(r) == 2 and all(type(n) is int and 0 <= n < 1 << 48 for n in r)
            ][:MOST_RANGES]
            wanted = [
                (lba, min(count, LARGEST_PAGE // size))
                for lba, count in ranges
                if count and lba + count <= (total or 0)
            ]
            if not wanted:
                return
            for lba, count in wanted:
                # by the name that the bench knows the disk by, wherever it stands now
                path = "%s/lba%d-%d.bin" % (order["disk"], lba, lba + count - 1)
                job = PageRead(
                    path,
                    "sectors",
                    order["disk"],
                    "plain read",
                    lambda lba=lba, count=count: self.machine.read_at(disk, lba, count, size),
                    (lba, count, size),
                )
                status, detail, data = self.reader.run(job.call)
                if status == "ok" and len(data) < count * size:
                    status, detail, data = "failed", "%d of %d bytes" % (len(data), count * size), b""
                hangs += status == "hung"
                if hangs >= HANGS_TO_GIVE_UP:
                    raise Refused("the drive did not answer %d calls" % hangs)
                if status == "ok":
                    self.spool.add(job, order["id"], status, detail, data)
                else:
                    self.read_pieces(job, order["id"])
                self.hint("%s  %s" % (disk, path))
            self.progress(order["id"], min(turn + 1, 99), 100, "LBA %d" % wanted[-1][0], patient=False)

    def fetch(self, order, device):
        """Sectors of a volume as the bench asks for them turn by turn, for a look at it or for files on it. They go as
        they are read and are kept by the bench alone; what does not read at once is told, and asked for again with care
        when all else is there. Returns (result, detail)."""
        disk, number_ = disk_here(order["disk"], device), order["id"]
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name" % disk)
        size, total = geometry(block)
        title = ("Saving files of %s" if order["order"] == "rescue" else "Looking at a volume of %s") % disk

        def asked(done, of):
            return self.asked(number_, min(done, max(of, 1)), max(of, 1), title, None, "bytes")

        fetching = Fetching(
            self.link,
            number_,
            Worker(self.machine, disk, size, (1 << 20) // size, self.reader.seconds, keep=True),
            total or 0,
            asked,
        )
        try:
            return fetching.run()
        finally:
            fetching.end()

    def mend(self, order, device):
        """Named sectors of one disk as the bench wants them, which has what stood there on its own disk before it sends
        this."""
        disk = disk_here(order["disk"], device)
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name; nothing was written" % disk)
        size, _ = geometry(block)
        self.say(
            "Writing %d sectors of %s, as the bench has ordered."
            % (sum(len(after) for _, _, after in sane_writes(order["writes"])) // size, disk)
        )
        opened = []  # type: list[Identity]

        def sure(who):
            self.sure(order, who)
            opened.append(who)
            self.wrote = True

        try:
            back = self.machine.rewrite(disk, sane_writes(order["writes"]), size, sure)
        except (
            Refused,
            OSError,
        ) as error:  # it may have been half done: the bench is told what stands there now, whatever that is
            self.wrote = bool(opened) and not isinstance(error, Untouched)
            for at, _, after in sane_writes(order["writes"]) if opened else ():
                lba, count = at // size, max(1, len(after) // size)
                status, detail, data = self.reader.run(
                    lambda lba=lba, count=count: self.machine.read_at(disk, lba, count, size)
                )
                self.sectors_page(order, lba, count, status, detail, data)
            raise
        for at, data in back:
            self.sectors_page(order, at // size, len(data) // size, "ok", "", data)

    def fill(self, order, device):
        """A drive is filled from a copy that the bench keeps, and read back against what the bench sent. Returns
        (result, detail). Where it was cut it goes on from the last place that was surely written."""
        disk, whole = disk_here(order["disk"], device), order["size"]
        block = next((b for b in self.machine.blocks() if b.name == disk), None)
        if block is None:
            raise Refused("expected a disk %s, got none by that name; nothing was written" % disk)
        size, total = geometry(block)
        if whole % size or whole > size * (total or 0):
            raise Refused(
                "expected a drive of at least %d bytes in sectors of %d, got %d; nothing was written"
                % (whole, size, size * (total or 0))
            )
        mark = os.path.join(self.spool.folder, "filled-" + order["id"])
        told_before = read_text(mark).strip()
        self.wrote = bool(told_before)
        self.sure(order, self.drives_by_id().get(device, Identity(())))
        do = self.asked_surely(order["id"])  # a fill that is not wanted any more does not even open the drive
        if do:
            if do == "pause":
                return "paused", "from the bench"
            return "failed", "stopped from the bench" + (
                ": the drive is filled in part" if self.wrote else " before anything was written"
            )
        start = number(int(told_before) if told_before.isdigit() else 0, 0, whole)
        box, named = argparse.Namespace(connection=None), "%s (%s)" % (disk, order.get("drive") or device)
        self.say("Filling %s from the bench's copy: %s. Everything that is on it goes." % (named, size_words(whole)))
        begun = time.monotonic()
        # SHA-256 of each piece; nothing where it was zeros, or written before this start
        sums, told = (bytearray(32 * -(-whole // FILL_STEP)), [0.0])

        def wanted(done):
            if time.monotonic() - told[0] < 1.0:
                return ""
            told[0] = time.monotonic()
            pace = (done - start) / max(told[0] - begun, 1.0)
            left = round((2 * whole - done) / pace / 60, 1) if pace > 0 and told[0] - begun > 10.0 else None
            return self.asked(
                order["id"],
                done,
                2 * whole,
                ("Reading %s back" if done > whole else "Filling %s") % named,
                left,
                "bytes",
            )

        def kept(at):
            with open(mark, "w") as file:
                file.write(str(at))

        try:
            with self.machine.filled(disk) as own:
                self.sure(order, own.who())
                at = flushed = start - start % FILL_STEP
                # bytes of zeros from here on that the bench has told of; the connection that the last of it came by
                hole, asked_by = (0, box.connection)
                while at < whole:
                    data = None
                    if not hole:
                        data, hole = self.link.get_copy(box, order["id"], at, min(FILL_STEP, whole - at))
                        if box.connection is not asked_by:  # the bench was away: who knows what was done here meanwhile
                            asked_by = box.connection
                            self.sure(order, own.who())
                            do = self.asked_surely(order["id"])
                            if do:
                                own.flush()
                                kept(at)
                                return (
                                    ("paused", "from the bench")
                                    if do == "pause"
                                    else ("failed", "stopped from the bench: the drive is filled in part")
                                )
                    if data is None:
                        length = min(hole, whole - at, 64 * FILL_STEP)  # a pause is asked for in between
                        self.wrote = True
                        own.zero(at, length)
                        hole -= length
                    else:
                        length, hole = len(data), 0
                        self.wrote = True
                        own.write(at, data)
                        sums[at // FILL_STEP * 32 : at // FILL_STEP * 32 + 32] = hashlib.sha256(data).digest()
                    at += length
                    if at - flushed >= 64 * FILL_STEP:
                        own.flush()
                        flushed = at
                        kept(at)
                        self.sure(order, own.who())
                    do = wanted(min(at, whole))
                    if do:
                        own.flush()
                        kept(min(at, whole))
                        return (
                            ("paused", "from the bench")
                            if do == "pause"
                            else ("failed", "stopped from the bench: the drive is filled in part")
                        )
                own.flush()
                kept(whole)
                at = hole = 0
                while at < whole:
                    length = min(FILL_STEP, whole - at)
                    known = bytes(sums[at // FILL_STEP * 32 : at // FILL_STEP * 32 + 32])
                    if not hole and not any(known):
                        data, hole = self.link.get_copy(box, order["id"], at, length)
                        known = b"" if data is None else hashlib.sha256(data).digest()
                    if hole:
                        length = min(hole, whole - at, 64 * FILL_STEP)
                        is_so, hole = own.is_zero(at, length), hole - length
                    else:
                        is_so = hashlib.sha256(own.read(at, length)).digest() == known
                    if not is_so:
                        kept(0)
                        return (
                            "failed",
                            (
                                "expected to read back what was written, got other bytes at byte %d: this drive does "
                                "not "
                                "keep what it is given"
                            )
                            % at,
                        )
                    at += length
                    do = wanted(whole + at)
                    if do:
                        return (
                            ("paused", "from the bench")
                            if do == "pause"
                            else ("failed", "stopped from the bench: written, not all of it read back")
                        )
        finally:
            if box.connection is not None:
                box.connection.close()
        return "done", ""

    def sectors_page(self, order, lba, count, status, detail, data):
        disk = order["disk"]
        path = "%s/lba%d-%d.bin" % (disk, lba, lba + count - 1)
        self.spool.add(PageRead(path, "sectors", disk, "read back", None), order["id"], status, detail, data)

    def write_entry(self, order):
        """A boot entry and the order of all, as the bench wants them, which has what stood there on its own disk before
        it sends this."""
        writes = sane_variables(order["writes"])
        for name, before, after in writes:
            now = self.machine.variable(name)
            if now not in (before, after):
                raise Refused(
                    "%s: expected what the bench has read, got other bytes; nothing was written" % name.split("-")[0]
                )
        for name, _, after in writes:
            if self.machine.variable(name) != after:
                self.wrote = True
                self.machine.put_variable(name, after)
            if self.machine.variable(name) != after:
                raise Refused(
                    "%s: expected to read back what was written, got other bytes; the bench knows what was there"
                    % name.split("-")[0]
                )
            if after is not None:
                self.spool.add(
                    PageRead("efivars/" + safe_name(name), "uefi-variable", "", "read back", None),
                    order["id"],
                    "ok",
                    "",
                    after,
                )

    # --- work that takes long: it can be paused and stopped from the bench, and goes on without it

    def asked(self, order, done, of, text, left=None, unit="percent", hot=False, key=False):
        """Tell how far it is, or that somebody here has to press a key first; returns what the bench wants: "" (go on),
        pause or stop. A bench that is away wants nothing."""
        self.hint("%s  %d %%" % (text, 100 * done // max(of, 1)))
        if not self.link:
            return ""
        body = {
            "session": self.link.session,
            "order": order,
            "done": done,
            "of": of,
            "text": text[:200],
            "minutes_left": left,
            "unit": unit,
            "hot": hot,
            "key": key,
        }
        try:
            wanted = self.link.call("POST", "/progress", body, False).get("do")
        except Away:
            return ""
        return wanted if wanted in ("pause", "stop") else ""

    def asked_surely(self, order):
        """The same, of a bench that has to answer: what writes does not begin on its own."""
        if not self.link:
            return ""
        body = {
            "session": self.link.session,
            "order": order,
            "done": 0,
            "of": 100,
            "text": "",
            "minutes_left": None,
            "unit": "percent",
            "hot": False,
        }
        wanted = self.link.call("POST", "/progress", body).get("do")
        return wanted if wanted in ("pause", "stop") else ""

    def heat(self, device):
        """Degrees Celsius that the drive tells; None where it tells none."""
        if device.startswith("nvme"):
            status, _, data = self.reader.run(
                lambda: nvme_page(self.machine, device, 0x02, 0xFFFFFFFF, [log_words(0x02, 512)], 512)
            )
            kelvin = data[1] | data[2] << 8 if status == "ok" and len(data) == 512 else 0
            return kelvin - 273 if 220 <= kelvin <= 420 else None
        if not self.spool.newest(device + "/smart-data.bin"):
            # a drive that has not shown this page is not asked for it: it would keep the refusal in its log for good
            return None
        status, _, data = self.reader.run(smart_data_job(self.machine, device).call)
        for at in range(2, 362, 12) if status == "ok" and len(data) == 512 else ():
            if data[at] in (190, 194):
                return data[at + 5] if 5 <= data[at + 5] <= 110 else None
        return None

    def timed_read(self, order, device, copies=False):
        """Read the whole drive, or a span, block by block with its time, and keep the map: what is known of it already
        is not read again. `copies`: what was read goes to the bench as well."""
        number_, minutes, hot = (
            order["id"],
            order.get("minutes"),
            order.get("hot") or (75 if device.startswith("nvme") else 60),
        )
        block = next(
            (b for b in self.machine.blocks() if is_a_drive(b) and (b.name == device or drive_of(b) == device)), None
        )
        if block is None:
            raise Refused("expected the drive %s, got none by that name" % device)
        sector, sectors = geometry(block)
        if not sectors:
            raise Refused("expected a drive of a known size, got none")
        size = (1 << 20) // sector
        while sectors // size > MOST_BLOCKS:
            size *= 2
        name = drive_of(block)
        self.read(number_, sectors=False, device=name)  # who it is, and what it counts before
        raw = self.map_so_far(number_)
        chunks = sum(line["order"] == number_ and line["kind"] == "read-map" for line in self.spool.lines)
        box = None
        if copies:
            self.link.call("POST", "/copy", {"session": self.link.session, "order": number_, "size": sectors * sector})
            box = Outbox(self.link, number_, sector)
        worker = Worker(
            self.machine,
            block.name,
            sector,
            size,
            max(self.reader.seconds, 2.0 if self.reader.seconds < 5 else SCAN_SECONDS),
            keep=copies,
        )
        scan = Scan(
            worker, sectors, size, order.get("first") or 0, order.get("end"), rows_of(raw), box.put if box else None
        )
        scan.box = box
        began = told = flushed = time.monotonic()
        looked, degrees, at_start, ended = 0.0, None, scan.done()[0], ""
        title = ("Copying %s" if copies else "Timed read of %s") % name
        try:
            for _ in scan.steps():
                now = time.monotonic()
                if (
                    now - flushed > (min(120.0, max(CHUNK_SECONDS, (now - began) / 60)) if flushed > began else 2.0)
                    or scan.map.count > CHUNK_ROWS
                ):
                    chunks, flushed = self.keep_map(scan, number_, name, chunks), now
                if minutes and now - began > minutes * 60:
                    ended = "The %g minutes are used up" % minutes
                    break
                if now - looked > HEAT_SECONDS:
                    looked, degrees = now, self.heat(name)
                    wanted = (
                        self.cooled(number_, name, scan, hot, title) if degrees is not None and degrees >= hot else ""
                    )
                    if wanted == "pause":
                        return "paused", "from the bench"
                    if wanted:
                        ended = "Stopped from the bench"
                        break
                if now - told > 1.0:
                    told = now
                    done, of = scan.done()
                    pace = (done - at_start) / max(scan.ms / 1e3, 0.1)
                    text = "%s: %.0f MB/s%s%s" % (
                        title,
                        pace * sector / 1e6,
                        ", %s not read" % plural(len(scan.failed) + scan.bad_sectors, "place does", "places do")
                        if scan.failed or scan.bad_sectors
                        else "",
                        ", %d degrees" % degrees if degrees is not None else "",
                    )
                    wanted = self.asked(number_, done, of, text, round((of - done) / max(pace, 1) / 60, 1), "sectors")
                    if wanted == "pause":
                        return "paused", "from the bench"
                    if wanted:
                        ended = "Stopped from the bench"
                        break
        except Stopped as error:
            return "paused", str(error)
        except Refused as error:
            if not copies:
                raise
            return "paused", str(error)
        finally:
            worker.leave()
            with contextlib.suppress(Refused):
                self.keep_map(scan, number_, name, chunks)
            if box:
                box.end()
            self.push(patient=False)
        if scan.left and not ended:
            ended = "%s in stretches of which nothing reads were left" % size_words(scan.left * sector)
        self.read(number_, sectors=False, device=name, again=True)  # what it counts after it
        return "done", ended

    def cooled(self, order, device, scan, hot, title):
        """Wait until the drive is five degrees below what it may have; what the bench wants instead, if it does."""
        degrees = hot
        while degrees is not None and degrees > hot - 5:
            done, of = scan.done()
            wanted = self.asked(
                order,
                done,
                of,
                "%s waits: %d degrees, it goes on at %d" % (title, degrees, hot - 5),
                None,
                "sectors",
                True,
            )
            if wanted:
                return wanted
            self.machine.sleep(10)
            degrees = self.heat(device)
        return ""

    def map_so_far(self, order):
        """The map of an order that was begun: what the bench has of it, and what is kept here."""
        own = b"".join(
            self.spool.data(line) for line in self.spool.lines if line["order"] == order and line["kind"] == "read-map"
        )
        try:
            there = (
                base64.b64decode(
                    self.link.call("GET", "/map?session=%s&order=%s" % (self.link.session, order)).get("map") or ""
                )
                if self.link
                else b""
            )
        except (ValueError, TypeError):
            there = b""
        return there + own

    def keep_map(self, scan, order, name, chunks):
        """What was read since the last time becomes a page; of a copy only once the bench has it all. Returns how many
        there are."""
        if scan.box:
            scan.box.drain()
        data = scan.map.take()
        if data:
            chunks += 1
            self.spool.add(
                PageRead(
                    "%s/map-%s-%04d.gcm" % (name, self.link.session[:4] if self.link else "0", chunks),
                    "read-map",
                    name,
                    "timed read",
                    None,
                ),
                order,
                "ok",
                "",
                data,
            )
            if self.link:
                self.push(patient=False)
        return chunks

    def self_test(self, order, device, kind):
        """Start the drive's own test, or join the one that is running; watch it; read its logs again. The drive goes on
        without this program: started again, it only looks how the test ended. Returns (result, detail)."""
        is_nvme = device.startswith("nvme")
        mark = os.path.join(self.spool.folder, "started-%s" % order)
        left, minutes, _ = self._test_state(device, is_nvme, kind)
        title = "Self-test (%s) on %s" % (kind, device)
        if kind == "conveyance" and not self._offers_conveyance(device, is_nvme):
            raise Refused("expected a drive that offers this test, got one that does not")
        if left is None and not os.path.exists(mark):
            self._command(device, is_nvme, {"short": 1, "long": 2, "conveyance": 3}[kind])
        elif left is not None and not os.path.exists(mark):
            title = "The test that was running on %s" % device
        with open(mark, "w"):
            pass
        stopped = ""
        while True:
            left, minutes, ending = self._test_state(device, is_nvme, kind)
            if left is None:
                break
            wanted = self.asked(order, 100 - left, 100, title, minutes and round(minutes * left / 100, 1))
            if wanted:  # a test has no pause
                self._command(device, is_nvme, 0xF if is_nvme else 0x7F)
                stopped = "Stopped from the bench"
            self.machine.sleep(2)
        self.read(order, sectors=False, device=device)
        return "done", stopped or ending

    def _offers_conveyance(self, device, is_nvme):
        """SMART data, byte 367, bit 5 (ACS-4, table 143)."""
        status, _, data = ("", "", b"") if is_nvme else self.reader.run(smart_data_job(self.machine, device).call)
        return status == "ok" and len(data) == 512 and bool(data[367] & 0x20)

    def _command(self, device, is_nvme, code):
        """Start a test, or abort it. Raises Refused."""

        def call():
            if is_nvme:
                status = self.machine.nvme(device, 0x14, 0xFFFFFFFF, [code], 0)[0]
                if status:
                    raise Refused("NVMe status %04Xh" % status)
                return b""
            status, sense, _ = self.machine.scsi(device, ata_command_16(NON_DATA, 0xB0, 0xD4, 0, 0xC24F00 | code), 0)
            if sense_of(sense)[0] not in (0, 1):
                raise Refused("sense %X/%02X/%02X" % sense_of(sense))
            return b""

        status, detail, _ = self.reader.run(call)
        if status != "ok":
            raise Refused(detail)

    def _test_state(self, device, is_nvme, kind):
        """(percent still to run or None when none is running, minutes that the drive says such a test takes or None,
        how the last one ended in words). ACS-4 table 145, NVM Express 1.4 figure 199."""
        job = self_test_log_job(self.machine, device) if is_nvme else smart_data_job(self.machine, device)
        status, _, data = self.reader.run(job.call)
        if status != "ok" or len(data) < 376:
            return None, None, ""
        if is_nvme:
            ended = (
                ""
                if data[4] & 0xF == 0xF
                else {
                    1: "Aborted by a command",
                    2: "Interrupted by a reset of the controller",
                    4: "Aborted by a format",
                }.get(data[4] & 0xF, "")
            )
            return ((100 - (data[1] & 0x7F)) if data[0] & 0xF else None), self._nvme_minutes(device, kind), ended
        minutes = {"short": data[372], "conveyance": data[374]}.get(kind) or (
            data[373] if data[373] != 0xFF else data[375] | data[376] << 8
        )
        ended = {1: "Aborted by a command", 2: "Interrupted by a reset"}.get(data[363] >> 4, "")
        return ((data[363] & 0xF) * 10 if data[363] >> 4 == 0xF else None), minutes or None, ended

    def _nvme_minutes(self, device, kind):
        """Identify Controller, bytes 316 and 317: an extended test's time; a short one takes two minutes at most."""
        if kind == "short":
            return 2
        if device not in self.minutes:
            status, _, data = self.reader.run(lambda: nvme_page(self.machine, device, 0x06, 0, [1], 4096))
            self.minutes[device] = data[316] | data[317] << 8 if status == "ok" and len(data) == 4096 else 0
        return self.minutes[device] or None

    def work(self, order):
        """One order of the bench. Returns (result, detail); `wrote` then says whether anything was written for it."""
        self.wrote = False
        if not self.link.cleared(order):
            self.say(
                "Order %s refused: it carries no clearance for %s."
                % (order.get("id"), NEEDED.get(order.get("order", ""), "anything"))
            )
            return "refused", "no clearance for it"
        try:
            if order["order"] == "look":
                self.read(order["id"], drives=False)
            elif order["order"] == "read":
                self.read(order["id"], sectors=self.link.may_read_sectors(order), device=self.find(order))
            elif order["order"] == "sectors":
                self.asked_sectors(order, self.find(order))
            elif order["order"] in ("volume", "rescue"):
                return self.fetch(order, self.find(order))
            elif order["order"] in WRITES:
                return self.write(order)
            elif order["order"] in ("scan", "copy"):
                return self.timed_read(order, self.find(order), copies=order["order"] == "copy")
            else:
                return self.self_test(order["id"], self.find(order), order.get("kind") or "short")
        except Refused as error:
            return "refused" if isinstance(error, NotThisOne) and not self.wrote else "failed", str(error)
        except OSError as error:
            return "failed", str(error)
        return "done", self.rested if order["order"] == "look" else ""

    def write(self, order):
        """An order that changes something here: for the drive that it names, once somebody at this machine has let it.
        Returns (result, detail)."""
        device = self.find(order)
        do = self.allow(order, device)
        if do:
            return (
                ("paused", "from the bench")
                if do == "pause" and order["order"] == "fill"
                else ("failed", "stopped from the bench before anything was written")
            )
        device = self.find(order)  # a key is waited for as long as it takes
        if order["order"] == "fill":
            return self.fill(order, device)
        if self.asked_surely(order["id"]):
            return "failed", "stopped from the bench before anything was written"
        if order["order"] == "entry":
            self.write_entry(order)
        else:
            self.mend(order, device)
        return "done", ""

    def linked(self, session):
        """Say hello, then work on orders until the bench ends it. Survives either side's death."""
        answer = self.link.hello(self.machine.facts(), session, len(self.spool.lines))
        self.acknowledged = number(answer.get("acknowledged"), 0, len(self.spool.lines))
        self.say("Linked to ticket %s." % readable(answer.get("ticket", "?"))[:40])
        if answer.get("rest") is True:
            self.rest()
        self.push()
        told = False
        while True:
            answer = self.link.call("GET", "/orders?session=" + self.link.session)
            orders = validated_orders(answer.get("orders"))
            for order in orders:
                result, detail = self.work(order)
                self.push()
                try:
                    self.link.call(
                        "POST",
                        "/done",
                        {
                            "session": self.link.session,
                            "order": order["id"],
                            "result": result,
                            "detail": detail,
                            "wrote": self.wrote,
                        },
                    )
                except Refused as error:  # another start of this program has the order by now
                    self.say("The bench does not take this result: %s" % error)
                self.say(
                    "%s %s%s" % (WORDS_OF.get(order.get("order"), "Order"), result, ": " + detail if detail else "")
                )
                told = False
            if not told and not orders:
                self.say(
                    (
                        "Leave me running: the bench may order tests. To end, end the link on the ticket, or press "
                        "Ctrl+C "
                        "here."
                    )
                )
                told = True
            if not orders:
                self.machine.sleep(PULL_SECONDS)


def options(argv):
    parser = argparse.ArgumentParser(
        description="Reads a machine that will not start: its drives' pages, its firmware, its first sectors."
    )
    parser.add_argument("--server", default=SERVER, help="the bench's address, as the ticket shows it")
    parser.add_argument(
        "--secret",
        default=SECRET or os.environ.get("GATECHECK_SECRET", ""),
        help="the link's secret (better in GATECHECK_SECRET: arguments can be listed by anyone)",
    )
    parser.add_argument("--out", metavar="FILE.gcap", help="write everything into this file, on a stick for example")
    parser.add_argument(
        "--spool", metavar="DIR", help="where pages are kept until they are sent (default: under the temporary folder)"
    )
    parser.add_argument(
        "--no-sectors",
        action="store_true",
        help="leave the first and last sectors alone: nothing is read from the medium",
    )
    parser.add_argument(
        "--wait", type=float, default=CALL_SECONDS, metavar="SECONDS", help="how long one call may take"
    )
    return parser.parse_args(argv)


class Terminal:
    """Lines that stay, and one at the foot that is written over: what is being done now. Only a terminal has a foot."""

    def __init__(self, out):
        self.out, self.foot = out, False
        self.has_foot = out.isatty()

    def say(self, text):
        lines = (
            textwrap.wrap(
                text, shutil.get_terminal_size().columns - 1, subsequent_indent="         ", break_long_words=False
            )
            if self.has_foot
            else [text]
        )
        self.out.write(("\r\x1b[K" if self.foot else "") + "\n".join(lines) + "\n")
        self.foot = False
        self.out.flush()

    def hint(self, text):
        if self.has_foot:
            width = shutil.get_terminal_size().columns - 1
            self.out.write("\r\x1b[K" + text[:width])
            self.foot = True
            self.out.flush()


def main(argv=None, machine=None, say=None):
    """Exit status: 0 done, 2 unusable options or not allowed."""
    chosen = options(argv)
    terminal = Terminal(sys.stdout)
    say, hint = say or terminal.say, None if say else terminal.hint
    if not chosen.server and not chosen.out:
        print("probe: expected --out FILE.gcap or --server with --secret, got neither", file=sys.stderr)
        return 2
    if machine is None and os.geteuid() != 0:
        print(
            "probe: expected to run as root (sudo), got user %d; drives answer nobody else" % os.geteuid(),
            file=sys.stderr,
        )
        return 2
    if chosen.out:
        try:
            with open(chosen.out + ".part", "wb"):
                pass
        except OSError as error:
            print(
                "probe: --out %s: expected a file that can be written, got %s" % (chosen.out, error.strerror),
                file=sys.stderr,
            )
            return 2
    machine = machine or Machine()
    facts = machine.facts()
    name = re.sub(
        r"\W+",
        "-",
        "%s-%s" % (chosen.secret or "offline", facts.get("product_serial", "") or facts.get("product_name", "machine")),
    )
    spool = Spool(chosen.spool or os.path.join(tempfile.gettempdir(), "gatecheck-probe-" + name))
    reader = Reader(chosen.wait)
    unless = " unless the bench orders a mending" if chosen.server else ""
    say(
        "Gate Check reads %s. Nothing is written to any drive%s."
        % (" ".join(filter(None, (facts.get("sys_vendor"), facts.get("product_name")))) or "this machine", unless)
    )
    if not chosen.server:
        spool.begin()
        probe = Probe(machine, spool, None, say, reader, hint)
        probe.read("offline", sectors=not chosen.no_sectors)
        spool.write_capture(chosen.out, facts)
        spool.finish()
        say("Written: %s. Drop this file on the ticket." % chosen.out)
        return 0
    link = Link(chosen.server, chosen.secret, say)
    probe = Probe(machine, spool, link, say, reader, hint)
    session = hashlib.sha256((spool.folder + chosen.secret).encode()).hexdigest()[:16]
    try:
        probe.linked(session)
    except Gone as error:
        if not link.session:
            print(
                "probe: the code %s does not fit: %s. The link's sheet on the ticket shows the right line."
                % (chosen.secret or "(none)", error),
                file=sys.stderr,
            )
            return 2
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
