"""The machine that this runs on: its drives."""

import contextlib
import ctypes
import fcntl
import mmap
import os
import re
import stat
import struct
import time

from .base import Block, NotThisOne, Refused
from .commands import FROM_DEVICE, NONE, NVME_ADMIN, SG_IO, SgHeader
from .console import ask_at_console
from .identity import Identity
from .kernel import BLOCK_FACTS, KernelFacts
from .settings import CALL_SECONDS, SECTOR
from .words import read_text
from .writing import Filled, put_bytes

BLKROSET = 4701
BLKROGET = 4702
FS_IOC_GETFLAGS, FS_IOC_SETFLAGS, FS_IMMUTABLE = 0x80086601, 0x40086602, 0x10


class Machine(KernelFacts):
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

    def nvme_controllers(self):
        """Names of the NVMe controllers that the kernel drives."""
        folder = "/sys/class/nvme"
        return sorted(os.listdir(folder)) if os.path.isdir(folder) else []

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
                    "expected a disk that nothing uses, got one that is mounted, or held by something else; "
                    "nothing "
                    "was written"
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

    def sleep(self, seconds):
        time.sleep(seconds)
