"""Values -> bytes of SCSI pages: the readers' mirror, for practice drives and round-trip tests."""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence

from gatecheck.core.fields import write_fields
from gatecheck.core.storage import scsi_layout as at

WORDS = {name: code for code, name in at.COUNTERS.items()}


def inquiry(*, vendor: str, product: str, revision: str = "F1", kind: int = 0) -> bytes:
    """Standard INQUIRY data of a fixed disk, 96 bytes."""
    page = write_fields(
        at.INQUIRY,
        {"peripheral": kind, "version": 6, "vendor": vendor, "product": product, "revision": revision},
        size=96,
    )
    page[4] = 91
    return bytes(page)


def vital(number: int, data: bytes) -> bytes:
    """A vital product data page."""
    return struct.pack(">BBH", 0, number, len(data)) + data


def serial(text: str) -> bytes:
    return vital(0x80, text.rjust(20).encode("ascii"))


def names(wwn: str, transport: int = 6) -> bytes:
    """Page 83h: the unit's NAA name, and one of its port with the transport."""
    own, port = bytes.fromhex(wwn), bytes.fromhex(wwn)[:-1] + b"\x01"
    unit = bytes([0x01, at.NAA, 0, len(own)]) + own
    return vital(0x83, unit + bytes([transport << 4 | 1, 0x90 | at.NAA, 0, len(port)]) + port)


def characteristics(rotation: int, form_factor: int = 3) -> bytes:
    """Page B1h; rotation 0: flash."""
    page = write_fields(at.CHARACTERISTICS, {"rotation_rate": rotation or 1, "form_factor": form_factor}, size=64)
    return vital(0xB1, bytes(page[at.PAGE_HEAD :]))


def capacity(blocks: int, block: int = 512, exponent: int = 0) -> bytes:
    """READ CAPACITY (16), 32 bytes."""
    page = write_fields(at.CAPACITY, {"last_lba": blocks - 1, "block_bytes": block}, size=32)
    page[13] = exponent
    return bytes(page)


def log(number: int, parameters: Sequence[tuple[int, bytes]]) -> bytes:
    """A log page of these parameters."""
    own = b"".join(struct.pack(">HBB", code, 3, len(data)) + data for code, data in parameters)
    return struct.pack(">BBH", number, 0, len(own)) + own


def log_pages(numbers: Sequence[int]) -> bytes:
    return struct.pack(">BBH", 0, 0, len(numbers)) + bytes(numbers)


def errors(number: int, counts: Mapping[str, int]) -> bytes:
    """Error counters by what is counted."""
    return log(number, [(WORDS[name], count.to_bytes(8, "big")) for name, count in counts.items()])


def temperature(degrees: int, limit: int = 65) -> bytes:
    return log(0x0D, [(0, bytes([0, degrees])), (1, bytes([0, limit]))])


def endurance(used: int) -> bytes:
    return log(0x11, [(1, bytes([0, 0, 0, used]))])


def self_tests(tests: Sequence[tuple[int, int, int, int | None]]) -> bytes:
    """Newest first: (code, result, hours, LBA)."""
    own = []
    for place, (code, result, hours, lba) in enumerate(tests, 1):
        data = write_fields(
            at.SELF_TEST,
            {
                "code_and_result": code << 5 | result,
                "number": 1,
                "hours": hours,
                "lba": (1 << 64) - 1 if lba is None else lba,
                "sense_key": 3 if lba is not None else 0,
            },
            size=16,
        )
        own.append((place, bytes(data)))
    return log(0x10, own)


def scan(minutes: int, found: Sequence[tuple[int, int]] = ()) -> bytes:
    """Background scan: power-on minutes, then (minutes, LBA) of each place that could not be read."""
    own = [
        (
            0,
            bytes(
                write_fields(
                    at.SCAN_STATUS, {"power_on_minutes": minutes, "status": 8, "scans": minutes // 10_000}, size=12
                )
            ),
        )
    ]
    for place, (when, lba) in enumerate(found, 1):
        own.append(
            (
                place,
                bytes(
                    write_fields(
                        at.SCAN_ERROR,
                        {"power_on_minutes": when, "reassign_and_key": 0x53, "code": 0x11, "lba": lba},
                        size=20,
                    )
                ),
            )
        )
    return log(0x15, own)


def exceptions(*, predicted: bool = False, degrees: int = 34) -> bytes:
    return log(0x2F, [(0, bytes([at.FAILURE_PREDICTED if predicted else 0, 0x10 if predicted else 0, degrees, 0]))])
