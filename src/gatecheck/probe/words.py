"""Texts and numbers as they are shown and compared."""

import calendar
import ctypes
import hashlib
import http.client
import os
import re
import socket
import ssl
import time


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


def readable(text):
    """Text from elsewhere as a terminal may show it: nothing that would move its cursor or change its colours."""
    return re.sub(r"[^\x20-\x7e\xa0-\ud7ff\ue000-\uffff]", "?", str(text))[:2000]


def number(value, low, high):
    """A whole number within bounds; the lower bound for anything else."""
    return value if isinstance(value, int) and not isinstance(value, bool) and low <= value <= high else low


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
