#!/usr/bin/env python3
"""What runs on the stick: shuts every drive of the machine, finds the bench, shows where it stands, and lets the probe
work. Nothing but Python's own library.

Finding the bench: multicast DNS (RFC 6762) for services of the type `_gatecheck._tcp` (RFC 6763).
"""

import contextlib
import ctypes
import fcntl
import hashlib
import json
import os
import re
import select
import shutil
import socket
import struct
import subprocess
import sys
import termios
import threading
import time
import tty
import urllib.error
import urllib.request

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from gatecheck_probe.base import Gone, Refused, describe
from gatecheck_probe.drive_pages import drive_of, is_a_drive
from gatecheck_probe.link import OPENER, Link
from gatecheck_probe.machine import Machine
from gatecheck_probe.probe import Probe
from gatecheck_probe.reader import Reader
from gatecheck_probe.settings import VERSION
from gatecheck_probe.spool import Spool
from gatecheck_probe.words import read_text, reason_of, size_words

BLKROSET = 0x125D
DISK_GUID = bytes.fromhex("0c4d1e6b0a5f574c9a307c1d2e8f4b61")  # as it stands in the stick's own GPT (image.py, DISK)
SERVICE = "_gatecheck._tcp.local"
GROUP, PORT = "224.0.0.251", 5353
NOT_DRIVES = ("loop", "ram", "zram", "dm-", "md", "fd")
READINGS = "READINGS"
KEY_PLACE = "/gatecheck/bench-key"
LOOK_SECONDS = 1.0
ASK_SECONDS = 3.0


# --- drives are shut -----------------------------------------------------------------------------------------------


def block_names():
    return sorted(n for n in os.listdir("/sys/block") if not n.startswith(NOT_DRIVES))


def shut(name):
    """Set a block device, and all that is on it, read-only in the kernel. True where it is so afterwards."""
    own = [name] + [n for n in os.listdir("/sys/block/" + name) if os.path.isfile(f"/sys/block/{name}/{n}/partition")]
    for one in own:
        with contextlib.suppress(OSError):
            descriptor = os.open("/dev/" + one, os.O_RDONLY | os.O_NONBLOCK)
            try:
                fcntl.ioctl(descriptor, BLKROSET, ctypes.c_int(1))
            finally:
                os.close(descriptor)
    return read_text(f"/sys/block/{name}/ro").strip() == "1"


def is_outside(name):
    """Plugged in from outside, or a card: what the stick itself may be. Only such are asked for its mark: a drive of
    the machine is not read for that."""
    return (
        "/usb" in os.path.realpath("/sys/block/" + name)
        or read_text("/sys/block/%s/removable" % name).strip() == "1"
        or name.startswith("mmcblk")
    )


def own_disk(asked=None):
    """The stick itself, by the identifier in its table; None where it was pulled. `asked`: what is known of each name,
    so that each is read once while it is there."""
    asked = {} if asked is None else asked
    names = [name for name in block_names() if is_outside(name)]
    for gone in set(asked) - set(names):
        del asked[gone]
    for name in names:
        if name not in asked:
            asked[name] = carries_mark(name)
    return next((name for name in names if asked[name]), None)


def carries_mark(name):
    with contextlib.suppress(OSError), open("/dev/" + name, "rb") as disk:
        disk.seek(512)
        header = disk.read(92)
        return header[:8] == b"EFI PART" and header[56:72] == DISK_GUID
    return False


def own_partition(disk):
    return next(
        (n for n in sorted(os.listdir("/sys/block/" + disk)) if os.path.isfile(f"/sys/block/{disk}/{n}/partition")),
        None,
    )


def put_reading(source, facts):
    """Put a capture onto the stick's own FAT partition, under a name that is free; where it lies. Raises OSError."""
    disk = own_disk()
    part = own_partition(disk) if disk else None
    if part is None:
        raise OSError(19, "the stick is not there; put it back and press O")
    for one in (disk, part):
        descriptor = os.open("/dev/" + one, os.O_RDONLY)
        try:
            fcntl.ioctl(descriptor, BLKROSET, ctypes.c_int(0))
        finally:
            os.close(descriptor)
    try:
        done = subprocess.run(
            ["mount", "-t", "vfat", "-o", "rw,sync,noatime", "/dev/" + part, "/stick"], capture_output=True, text=True
        )
        if done.returncode:
            raise OSError(5, done.stderr.strip() or "the stick cannot be opened")
        try:
            folder = "/stick/" + READINGS
            os.makedirs(folder, exist_ok=True)
            name = free_name(facts, set(os.listdir(folder)))
            with open(source, "rb") as there, open(f"{folder}/{name}.part", "wb") as here:
                shutil.copyfileobj(there, here)
                here.flush()
                os.fsync(here.fileno())
            os.rename(f"{folder}/{name}.part", f"{folder}/{name}")
            os.sync()
        finally:
            subprocess.run(["umount", "/stick"], capture_output=True)
    finally:
        shut(disk)
    return f"{READINGS}/{name}"


def free_name(facts, taken):
    """A name by the machine and its serial number, with a number that nothing has yet."""
    words = " ".join(filter(None, (facts.get("product_name"), facts.get("product_serial")))) or "machine"
    stem = re.sub(r"[^A-Za-z0-9-]+", "-", words).strip("-")[:40].lower() or "machine"
    number = 1
    while "%s-%d.gcap" % (stem, number) in taken:
        number += 1
    return "%s-%d.gcap" % (stem, number)


# --- the network ---------------------------------------------------------------------------------------------------


def wired():
    """Network ports with a cable's plug: Ethernet by its type, and no radio."""
    return [
        n
        for n in sorted(os.listdir("/sys/class/net"))
        if n != "lo"
        and read_text(f"/sys/class/net/{n}/type").strip() == "1"
        and not os.path.exists(f"/sys/class/net/{n}/wireless")
    ]


def has_carrier(port):
    return read_text(f"/sys/class/net/{port}/carrier").strip() == "1"


def address_of(port):
    """Its IPv4 address, empty where it has none."""
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        return socket.inet_ntoa(fcntl.ioctl(asked.fileno(), 0x8915, struct.pack("256s", port.encode()[:15]))[20:24])
    return ""


def dns_name(raw, at, depth=0):
    """(name, byte after it). Raises ValueError for what is none: RFC 1035, 4.1.4."""
    pieces = []  # type: list[str]
    after = None
    for _ in range(128):
        if at >= len(raw):
            raise ValueError("cut off")
        size = raw[at]
        if size & 0xC0 == 0xC0:
            if at + 2 > len(raw):
                raise ValueError("cut off")
            after = after if after is not None else at + 2
            target = (size & 0x3F) << 8 | raw[at + 1]
            if target >= at:
                raise ValueError("points ahead")
            at = target
        elif size == 0:
            return ".".join(pieces), after if after is not None else at + 1
        else:
            pieces.append(raw[at + 1 : at + 1 + size].decode("utf-8", "replace"))
            at += 1 + size
    raise ValueError("too many labels")


def question(name):
    """A DNS question for pointers, answered to who asks."""
    labels = b"".join(bytes([len(p)]) + p.encode() for p in name.split(".")) + b"\0"
    return struct.pack(">HHHHHH", 0, 0, 1, 0, 0, 0) + labels + struct.pack(">HH", 12, 0x8001)


def benches_in(raw, source):
    """(name, address, port) of each bench that an answer tells of; empty for any other packet."""
    try:
        _, flags, questions, *counts = struct.unpack_from(">HHHHHH", raw)
        if not flags & 0x8000:
            return []
        at = 12
        for _ in range(questions):
            at = dns_name(raw, at)[1] + 4
        services = {}  # type: dict[str, tuple[int, str]]
        hosts = {}  # type: dict[str, list[str]]
        for _ in range(min(sum(counts), 64)):
            name, at = dns_name(raw, at)
            kind, _, _, size = struct.unpack_from(">HHIH", raw, at)
            at += 10
            if kind == 33 and name.lower().endswith("." + SERVICE):
                services[name] = (struct.unpack_from(">H", raw, at + 4)[0], dns_name(raw, at + 6)[0].lower())
            elif kind == 1 and size == 4:
                hosts.setdefault(name.lower(), []).append(socket.inet_ntoa(raw[at : at + 4]))
            at += size
        # of a bench with several addresses the one that the answer came from is the one that reaches it from here
        there = {host: source if source in own else own[0] for host, own in hosts.items()}
        return [
            (name[: -len(SERVICE) - 1], there.get(host, source), port)
            for name, (port, host) in sorted(services.items())
            if port
        ]
    except (struct.error, ValueError):
        return []


def find_benches(seconds=ASK_SECONDS):
    """Every bench that answers on any wired port: (name, base address)."""
    found = {}
    asked = []
    for own in filter(None, (address_of(port) for port in wired())):
        with contextlib.suppress(OSError):
            sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(own))
            sock.bind((own, 0))
            sock.sendto(question(SERVICE), (GROUP, PORT))
            asked.append(sock)
    end = time.monotonic() + seconds
    while asked and time.monotonic() < end:
        ready, _, _ = select.select(asked, [], [], max(0.0, end - time.monotonic()))
        for sock in ready:
            with contextlib.suppress(OSError):
                raw, source = sock.recvfrom(9000)
                for name, host, port in benches_in(raw, source[0]):
                    found["http://%s:%d" % (host, port)] = name
    for sock in asked:
        sock.close()
    return sorted((name, address) for address, name in found.items())


def ask(address, path, body=None):
    """One request to a bench that has no secret for us yet. Raises Refused with its words, OSError, ValueError."""
    request = urllib.request.Request(
        address + path, None if body is None else json.dumps(body).encode(), {"Content-Type": "application/json"}
    )
    try:
        with OPENER.open(request, timeout=6) as answer:
            said = json.loads(answer.read(1 << 16))
    except urllib.error.HTTPError as error:
        raise Refused(Link._detail(error)) from None
    if not isinstance(said, dict):
        raise ValueError("what answers there is no bench")
    return said


# --- which bench this is -------------------------------------------------------------------------------------------

# Ed25519 as RFC 8032 has it (5.1): the bench signs with a library, and a stick that has none only ever checks
FIELD = 2**255 - 19
ORDER = 2**252 + 27742317777372353535851937790883648493
CURVE = -121665 * pow(121666, FIELD - 2, FIELD) % FIELD
ROOT = pow(2, (FIELD - 1) // 4, FIELD)


def point_of(raw):
    """The point that 32 bytes stand for, in extended coordinates; None for bytes that are none."""
    y = int.from_bytes(raw, "little")
    sign, y = y >> 255, y & ((1 << 255) - 1)
    if y >= FIELD:
        return None
    square = (y * y - 1) * pow(CURVE * y * y + 1, FIELD - 2, FIELD) % FIELD
    x = pow(square, (FIELD + 3) // 8, FIELD)
    if (x * x - square) % FIELD:
        x = x * ROOT % FIELD
    if (x * x - square) % FIELD or (x == 0 and sign):
        return None
    if x & 1 != sign:
        x = FIELD - x
    return x, y, 1, x * y % FIELD


def added(p, q):
    a, b = (p[1] - p[0]) * (q[1] - q[0]) % FIELD, (p[1] + p[0]) * (q[1] + q[0]) % FIELD
    c, d = 2 * p[3] * q[3] * CURVE % FIELD, 2 * p[2] * q[2] % FIELD
    e, f, g, h = b - a, d - c, d + c, b + a
    return e * f % FIELD, g * h % FIELD, f * g % FIELD, e * h % FIELD


def times(count, point):
    found = (0, 1, 1, 0)
    while count:
        if count & 1:
            found = added(found, point)
        point = added(point, point)
        count >>= 1
    return found


def is_signed(key, text, signature):
    """Did whoever has the key (32 bytes as hex digits) sign this text? Anything that is no key or no signature did
    not."""
    try:
        key, signature = bytes.fromhex(key), bytes.fromhex(signature)
    except (TypeError, ValueError):
        return False
    if len(key) != 32 or len(signature) != 64:
        return False
    own, nonce, s = point_of(key), point_of(signature[:32]), int.from_bytes(signature[32:], "little")
    if (
        own is None or nonce is None or s >= ORDER or times(8, own)[0] % FIELD == 0
    ):  # the last: a key for which anything is a signature
        return False
    base = point_of((4 * pow(5, FIELD - 2, FIELD) % FIELD).to_bytes(32, "little"))
    share = int.from_bytes(hashlib.sha512(signature[:32] + key + text.encode()).digest(), "little") % ORDER
    left, right = times(s, base), added(nonce, times(share, own))
    return (left[0] * right[2] - right[0] * left[2]) % FIELD == 0 and (
        left[1] * right[2] - right[1] * left[2]
    ) % FIELD == 0


def pinned_key(place=KEY_PLACE):
    """The key of the bench that built this stick, as hex digits; empty where none was put on it."""
    text = read_text(place).strip()
    return text if re.match(r"[0-9a-f]{64}$", text) else ""


def number_of(nonce, token, key):
    """The short number that this screen and the bench's show."""
    return "%06d" % (
        int(hashlib.sha256(f"gatecheck-number|{nonce}|{token}|{key}".encode()).hexdigest(), 16) % 1_000_000
    )


# --- what stands on the screen -------------------------------------------------------------------------------------


class Shown:
    """All that the screen says."""

    def __init__(self):
        self.machine, self.mode = "", ""
        self.drives = []  # (line, state)
        self.verdicts = {}  # device -> the bench's words
        self.net = "Looking for a network"
        self.bench = ""
        self.doing = ""
        self.log = []
        self.qr = []
        self.typing = None  # (what is asked for, what was typed so far)
        self.question = []  # lines that somebody here has to answer by a key before anything goes on
        self.keys = []  # (key, words)
        self.pull = ""


def fitted(text, columns):
    return text if len(text) <= columns else text[: max(columns - 1, 0)] + "~"


def wrapped(text, columns):
    lines = [""]
    for word in text.split():
        if len(lines[-1]) + len(word) + (1 if lines[-1] else 0) > columns and lines[-1]:
            lines.append("")
        lines[-1] = fitted((lines[-1] + " " + word).strip(), columns)
    return lines


def screen(shown, columns, rows):
    """Lines of text with their looks (plain, title, strong, soft): exactly `rows`, none wider than `columns`."""
    wide = columns
    shows_code = bool(shown.qr) and not shown.typing and len(shown.qr[0]) + 25 <= columns and len(shown.qr) + 6 <= rows
    columns = columns - len(shown.qr[0]) - 1 if shows_code else columns
    if shown.question:
        asked = [("title", fitted(" " + shown.machine, wide)), ("plain", "")]
        for text in shown.question:
            asked += [("strong", " " + line) for line in wrapped(text, wide - 2)] if text else [("plain", "")]
        foot = [("keys", line) for line in key_lines(shown.keys, wide)]
        asked = asked[: max(0, rows - len(foot))]
        return [
            (look, UNSHOWN.sub("?", fitted(line, wide)))
            for look, line in asked + [("plain", "")] * max(0, rows - len(foot) - len(asked)) + foot
        ]
    top = [
        ("title", fitted(" " + shown.machine, wide)),
        *(("soft", " " + line) for line in wrapped(shown.mode, columns - 2)),
        ("plain", ""),
    ]
    for name, line, state in shown.drives:
        top.append(("plain", fitted(f" {line}", columns)))
        verdict = shown.verdicts.get(name) or state
        for part in wrapped(verdict, columns - 5)[:2] if verdict else []:
            top.append(("soft" if name not in shown.verdicts else "strong", "     " + part))
    if not shown.drives:
        top.append(("strong", " No drive is seen in this machine"))
    top.append(("plain", ""))
    said = [("plain", " " + line) for line in wrapped(shown.net, columns - 2)]
    if shown.bench:
        said += [("strong", " " + line) for line in wrapped(shown.bench, columns - 2)]
    if shown.typing:
        said += [("strong", fitted(" {}: {}_".format(*shown.typing), columns))]
    elif shown.doing:
        said += [("strong", " " + line) for line in wrapped(shown.doing, columns - 2)]
    said += [("soft", " " + line) for text in shown.log[-2:] for line in wrapped(text, columns - 2)[:3]]
    foot = [("strong", " " + line) for line in wrapped(shown.pull, wide - 2)] if shown.pull else []
    foot += [("keys", line) for line in key_lines(shown.keys, wide)]
    room = rows - len(foot)
    body = [top[0], *said, ("plain", ""), *top[1:]] if shows_code else top + said
    body = body[:room] + [("plain", "")] * max(0, room - len(body))
    for number, line in enumerate(shown.qr if shows_code else [], 1):
        look, text = body[number]
        body[number] = (look, fitted(text, columns).ljust(columns) + line)
    return [(look, UNSHOWN.sub("?", fitted(line, wide))) for look, line in body + foot]


def key_lines(keys, columns):
    lines = [""]
    for key, words in keys:
        piece = f" [{key}] {words}"
        if len(lines[-1]) + len(piece) > columns:
            lines.append("")
        lines[-1] += piece
    return lines


def code_lines(rows):
    """A code to scan, two rows of it in a line of text. `rows`: texts of 0 and 1. Dark on light, with the light margin
    that readers want."""
    wide = len(rows[0]) if rows else 0
    padded = ["0" * (wide + 4)] * 2 + ["00" + row + "00" for row in rows] + ["0" * (wide + 4)] * 2
    if len(padded) % 2:
        padded.append("0" * (wide + 4))
    # the console's foreground is light: a light module is drawn, a dark one is left
    return [
        "".join(
            {"00": "█", "01": "▀", "10": "▄", "11": " "}[a + b] for a, b in zip(padded[n], padded[n + 1], strict=False)
        )
        for n in range(0, len(padded), 2)
    ]


# a drive's model or a bench's name is whatever it says: none of it is an order to the console
UNSHOWN = re.compile("[\x00-\x1f\x7f-\x9f]")
LOOKS = {
    "plain": "\x1b[0;37m",
    "title": "\x1b[0;30;47m",
    "strong": "\x1b[0;1;37m",
    "soft": "\x1b[0;37m",
    "keys": "\x1b[0;30;47m",
}


class Console:
    """The machine's own screen and keyboard. Each change goes to a serial port as text too, where there is one."""

    def __init__(self):
        self.last = None
        self.told = ""
        with contextlib.suppress(termios.error):
            tty.setcbreak(sys.stdin.fileno())
        sys.stdout.write("\x1b[2J\x1b[?25l")

    def draw(self, shown):
        size = shutil.get_terminal_size((80, 25))
        lines = screen(shown, size.columns, size.lines)
        if lines == self.last:
            return
        self.last = lines
        out = ["\x1b[H"]
        for number, (look, line) in enumerate(lines):
            # a code is of one brightness, or it is not read
            text = re.sub(
                "[█▀▄]", lambda found: LOOKS["strong"] + found[0], line.ljust(size.columns)[: size.columns], count=1
            )
            out.append("{}{}{}".format(LOOKS[look], text, "\r\n" if number + 1 < len(lines) else ""))
        sys.stdout.write("".join(out))
        sys.stdout.flush()
        told = "\n".join(
            re.sub("[█▀▄].*", "", line).rstrip() for look, line in lines if line.strip() and look != "keys"
        )
        if told != self.told:
            self.told = told
            with contextlib.suppress(OSError), open("/dev/ttyS0", "w") as serial:
                serial.write(f"--- screen\n{told}\n")

    def key(self, seconds):
        """A key that was pressed, or empty."""
        ready, _, _ = select.select([sys.stdin], [], [], seconds)
        return os.read(sys.stdin.fileno(), 8).decode("utf-8", "replace") if ready else ""


# --- the stick at work ---------------------------------------------------------------------------------------------


class Stick:
    """One start of the stick: what it has found and what it does."""

    def __init__(self, console):
        self.console, self.shown = console, Shown()
        self.machine = Machine()
        self.machine.confirm = self.confirm  # the screen and the keyboard are this program's
        self.pinned, self.nonce, self.key, self.is_own = pinned_key(), "", "", False
        self.handed = ""  # a secret that waits for somebody here to say yes
        self.answer = threading.Event()
        self.answered = False
        self.facts = self.machine.facts()
        self.benches, self.bench, self.secret, self.token = [], "", "", ""
        self.closed, self.asked = set(), {}
        self.typed, self.layout = "", 0
        self.work = None  # the thread that reads
        self.link, self.name = None, ""
        self.asked_at = self.port_at = 0.0
        self.ends = False
        s = self.shown
        s.machine = (
            " ".join(filter(None, (self.facts.get("sys_vendor"), self.facts.get("product_name")))) or "This machine"
        )
        s.mode = "{} firmware {} {}".format(
            "UEFI" if self.facts.get("mode") == "uefi" else "Legacy",
            self.facts.get("bios_version", ""),
            self.facts.get("bios_date", ""),
        )
        if os.path.isfile("/sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"):
            place = "/sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"
            with contextlib.suppress(OSError), open(place, "rb") as variable:
                s.mode += ", Secure Boot " + ("on" if variable.read()[-1:] == b"\1" else "off")

    def say(self, text):
        if text.startswith(
            "Leave me running"
        ):  # the probe has nothing to do; how it is ended at a terminal is of no use here
            self.shown.doing = ""
            return
        self.shown.log.append(text)
        del self.shown.log[:-20]

    # what happens every second

    def look(self):
        """New drives are shut, and shown; the network is asked for, the bench looked for."""
        own = own_disk(self.asked)
        lines = []
        for block in self.machine.blocks():
            if block.name not in self.closed and shut(block.name):
                self.closed.add(block.name)
            if not is_a_drive(block):
                continue
            told = describe(block)
            size = int(told["size"]) * 512 if told.get("size", "").isdigit() else 0
            model = told.get("device/model") or told.get("device/name") or "no name"
            here = (
                "this stick"
                if block.name == own
                else "shut: nothing can be written to it"
                if block.name in self.closed
                else "COULD NOT BE SHUT"
            )
            lines.append(
                (
                    "" if block.name == own else drive_of(block),
                    "%-8s %s  %s" % (block.name, model[:24].strip(), size_words(size) if size else "no size"),
                    here,
                )
            )
        self.shown.drives = lines
        self.shown.pull = (
            "" if own is None or self.busy_with_stick() else "You may remove the stick: everything is in memory."
        )
        if self.handed:
            pass  # somebody here is asked
        elif not self.secret:
            self.network()
        elif self.link is not None and self.link.session and time.monotonic() - self.asked_at > 4:
            self.asked_at = time.monotonic()
            with contextlib.suppress(Exception):  # the link itself says what is wrong with it
                said = self.link.call("GET", "/said?session=" + self.link.session, None, False)
                self.shown.verdicts = {
                    str(name)[:40]: str(text)[:300] for name, text in dict(said.get("drives", {})).items()
                }

    def busy_with_stick(self):
        return self.shown.doing.startswith("Writing")

    def network(self):
        ports = wired()
        if not ports:
            self.shown.net = "No wired network port is known here. Press O: the reading is saved to the stick."
            return
        for port in ports:
            subprocess.run(["ip", "link", "set", port, "up"], capture_output=True)
        ready = [p for p in ports if has_carrier(p)]
        with_address = [p for p in ready if address_of(p)]
        if not ready:
            self.shown.net = "No cable in the network port. Plug one in, or press O to save the reading to the stick."
        elif not with_address:
            self.shown.net = "Asking the network for an address"
            if time.monotonic() - self.port_at > 8:
                self.port_at = time.monotonic()
                for port in ready:
                    subprocess.Popen(
                        ["udhcpc", "-i", port, "-n", "-q", "-t", "5", "-T", "1", "-s", "/gatecheck/dhcp.sh"],
                        stdout=subprocess.DEVNULL,
                        stderr=subprocess.DEVNULL,
                    )
        else:
            self.shown.net = "Network: " + ", ".join(f"{p} {address_of(p)}" for p in with_address)
            self.find()

    def find(self):
        if time.monotonic() - self.asked_at < (2 if self.bench else 5):
            return
        self.asked_at = time.monotonic()
        if not self.bench:
            self.benches = find_benches(1.5)
            if len(self.benches) == 1:
                self.bench = self.benches[0][1]
            elif self.benches:
                self.shown.bench = (
                    "Benches: "
                    + ", ".join("[%d] %s" % (n, name) for n, (name, _) in enumerate(self.benches[:9], 1))
                    + ". Press the number of yours."
                )
                return
            else:
                self.shown.bench = (
                    "No bench answers on this network yet. Press A to type its address, O to save the reading "
                    "to the stick."
                )
                return
        self.knock()

    def knock(self):
        """Tell the bench that a machine waits here; it says when somebody has taken it to a ticket."""
        try:
            if not self.token:
                self.nonce = os.urandom(16).hex()
                commit = hashlib.sha256(self.nonce.encode()).hexdigest()
                said = ask(self.bench, "/api/link/knock", {"machine": self.facts, "probe": VERSION, "commit": commit})
                self.token = str(said.get("token", ""))[:80]
                self.key = str(said.get("key", ""))[:64]
                self.is_own = (
                    bool(self.pinned)
                    and self.key == self.pinned
                    and is_signed(self.key, f"gatecheck-knock|{commit}|{self.token}", str(said.get("sign", "")))
                )
                self.shown.qr = code_lines([str(row) for row in said.get("qr", [])][:80])
                self.name = str(said.get("name", ""))[:40]
                self.shown.bench = (
                    f"Bench found: {self.name}. Scan this with its tablet, take the machine in there, "
                    f"or press C to type a ticket's code."
                )
                return
            said = ask(self.bench, f"/api/link/knock/{self.token}?nonce={self.nonce}")
            if said.get("secret"):
                self.compare(str(said["secret"]))
            elif said.get("state") == "unknown":
                self.token = ""
        except Refused as error:
            self.token = ""
            self.shown.bench = f"The bench at {self.bench}: {error}"
        except (OSError, ValueError) as error:
            self.token, lost = "", self.bench
            self.bench = "" if any(address == self.bench for _, address in self.benches) else self.bench
            self.shown.qr = []
            self.shown.bench = f"What answers at {lost} is no bench: {reason_of(error)}"

    def code(self, typed):
        """A ticket's code, exchanged for the secret of its link."""
        if not self.bench:
            self.shown.bench = "There is no bench yet to ask about that code. Press A to type its address."
            return
        try:
            said = ask(self.bench, "/api/link/code", {"code": typed, "token": self.token})
            self.compare(str(said["secret"]))
        except Refused as error:
            self.shown.bench = f"The bench does not take the code {typed[:20]}: {error}"
        except (OSError, ValueError, KeyError) as error:
            self.shown.bench = "What answers at {} is no bench: {}".format(
                self.bench, reason_of(error) if isinstance(error, OSError) else "no answer of a bench"
            )

    # nobody takes this machine over who is not at the bench that somebody here sees

    def compare(self, secret):
        """A bench has handed out a secret. Whoever stands here compares the number on both screens; of a bench that did
        not make this stick, types it as that bench shows it: one that only answers on the network has no screen to read
        it from."""
        if not self.token:
            self.shown.bench = (
                "The bench has not told this machine a number to compare. Type the code again in a moment."
            )
            return
        self.handed = secret[:200]
        number = number_of(self.nonce, self.token, self.key)
        if self.is_own:
            self.shown.question = [
                f"{self.name or self.bench} takes this machine in.",
                "",
                "Number:  %s %s" % (number[:3], number[3:]),
                "",
                "Does the bench's screen show the same number? It is the bench that made this stick.",
            ]
        else:
            self.shown.question = [
                f"{self.name or 'A bench'} at {self.bench} takes this machine in. It did not make this stick.",
                "",
                (
                    "Look at your bench's screen. Type the six digits that it shows for this machine. If it "
                    "shows none, press Esc: another server answers on this network."
                ),
            ]
            self.typed = ""
            self.shown.typing = ("Number", "")

    def compared(self, yes):
        secret, self.handed, self.shown.question, self.shown.typing = self.handed, "", [], None
        if yes and secret:
            self.begin(secret)
            return
        self.token, self.bench, self.benches = "", "", []
        self.shown.bench = (
            "Nothing was connected. Press A to type your bench's address, or O to save the reading to the stick."
        )
        self.asked_at = time.monotonic() + 10

    def confirm(self, lines, going):
        """Asked by the thread that works, before the first byte is written to a drive. True where somebody presses Y
        here."""
        self.answered = False
        self.answer.clear()
        self.shown.question = [*lines, "Press Y to allow it. Any other key refuses it."]
        try:
            while going():
                if self.answer.wait(1.0):
                    return self.answered
            return False
        finally:
            self.shown.question = []

    # reading

    def begin(self, secret):
        self.secret, self.shown.qr = secret, []
        self.shown.bench = f"Linked to {self.name or 'the bench at ' + self.bench}. Leave me running."
        self.work = threading.Thread(target=self.linked, daemon=True)
        self.work.start()

    def linked(self):
        spool = Spool("/tmp/linked-" + self.secret[:8].replace("/", "-"))
        link = self.link = Link(self.bench, self.secret, self.say)
        own = Probe(self.machine, spool, link, self.say, Reader(), self.hint)
        try:
            own.linked(hashlib.sha256(self.secret.encode()).hexdigest()[:16])
        except Gone as error:
            self.shown.bench = f"Connection closed: {error}"
        except Refused as error:
            self.shown.bench = f"The bench refuses the connection: {error}"
        except Exception as error:  # what goes wrong here is said on the screen, and the stick goes on
            self.shown.bench = "The reading failed: %s" % (error or type(error).__name__)
        self.secret, self.token, self.link, self.shown.doing, self.shown.verdicts = "", "", None, "", {}

    def hint(self, text):
        self.shown.doing = "Reading: " + " ".join(text.split())

    def offline(self):
        """Read everything, and put it onto the stick as a new file."""
        try:
            spool = Spool("/tmp/offline")
            spool.begin()
            own = Probe(self.machine, spool, None, self.say, Reader(), self.hint)
            own.read("offline")
            spool.write_capture("/tmp/reading.gcap", self.facts)
            spool.finish()
            self.shown.doing = "Saving the reading to the stick. Do not remove it."
            place = put_reading("/tmp/reading.gcap", self.facts)
            self.say(f"Saved to the stick: {place}. Drop it on the ticket of this machine.")
        except OSError as error:
            self.say("The reading was not saved: %s" % (error.strerror or error))
        except Exception as error:
            self.say("The reading failed: %s" % (error or type(error).__name__))
        self.shown.doing = ""

    def is_reading(self):
        return self.work is not None and self.work.is_alive()

    # keys

    def keys(self):
        if self.shown.question and not self.shown.typing:
            return [("Y", "yes"), ("any other", "no")]
        if self.shown.typing:
            return [("Enter", "send it"), ("Esc", "leave it"), ("Tab", f"keyboard: {LAYOUTS[self.layout][0]}")]
        own = []
        if not self.is_reading():
            own.append(("O", "read onto the stick"))
        if not self.secret:
            own += [("C", "type a ticket's code"), ("A", "type the bench's address")]
        return [*own, ("P", "power off")]

    def press(self, key):
        if self.shown.typing:
            self.type(key)
            return
        key = key.lower()
        if self.shown.question:
            yes = key in ("y", "z")  # one key, by the keyboards that the kernel takes for English ones
            if self.handed:
                self.compared(yes)
            else:
                self.answered = yes
                self.answer.set()
            return
        if key == "p":
            self.ends = True
        elif key == "o" and not self.is_reading():
            self.work = threading.Thread(target=self.offline, daemon=True)
            self.work.start()
        elif key in ("c", "a") and not self.secret:
            self.typed = ""
            self.shown.typing = ("Code" if key == "c" else "Address of the bench", "")
        elif key.isdigit() and key != "0" and not self.bench and int(key) <= len(self.benches):
            self.bench, self.asked_at = self.benches[int(key) - 1][1], 0.0

    def type(self, key):
        what = self.shown.typing[0] if self.shown.typing else ""
        if key == "\x1b":
            self.shown.typing = None
            if what == "Number":
                self.compared(False)
            return
        if key in ("\n", "\r"):
            self.shown.typing = None
            typed = meant(self.typed, self.layout).strip()
            if what == "Number":
                self.compared("".join(c for c in typed if c.isdigit()) == number_of(self.nonce, self.token, self.key))
            elif what == "Code" and typed:
                self.code(code_typed(typed))
            elif typed:
                self.bench, self.token, self.asked_at = address_typed(typed), "", 0.0
            return
        if key == "\t":
            self.layout = (self.layout + 1) % len(LAYOUTS)
        elif key in ("\x7f", "\b"):
            self.typed = self.typed[:-1]
        else:
            self.typed += "".join(c for c in key if c.isprintable())[:60]
        self.shown.typing = (what, meant(self.typed, self.layout))


# what a key of this keyboard means, by what the kernel takes it for (the letters of a code, digits, and what an address
# needs); digits stay digits without Shift too
LAYOUTS: tuple[tuple[str, dict[int, int]], ...] = (
    ("English", {}),
    ("German", str.maketrans("yzYZ/>&", "zyZY-:/")),
    ("French", str.maketrans("aqwzAQWZ;!@#$%^&*()<.>", "qazwQAZWm1234567890.:/")),
)


def meant(typed, layout):
    """What was typed, by the keyboard that it was typed on."""
    return typed.translate(LAYOUTS[layout][1])


def code_typed(text):
    """A ticket's code as the bench gives it out: five, a line, five."""
    own = "".join(c for c in text.lower() if c.isalnum())
    if len(own) == 11 and own[5] == "6":  # the key of the line on a French keyboard, where 6 needs Shift
        own = own[:5] + own[6:]
    return f"{own[:5]}-{own[5:]}" if len(own) == 10 else text.strip()


def address_typed(text):
    """What a person types as the bench's address, as one that can be asked."""
    text = text.strip().rstrip("/")
    text = text if "//" in text else "http://" + text
    return text if re.search(r":\d+$", text) else text + ":8765"


def main():
    for name in block_names():
        shut(name)
    console = Console()
    stick = Stick(console)
    looked = 0.0
    while not stick.ends:
        if time.monotonic() - looked > LOOK_SECONDS:
            stick.look()
            looked = time.monotonic()
        stick.shown.keys = stick.keys()
        console.draw(stick.shown)
        key = console.key(0.2)
        if key:
            stick.press(key)
    stick.shown.doing = "Power goes off"
    console.draw(stick.shown)
    open("/tmp/power-off", "w").close()


if __name__ == "__main__":
    main()
